// Package fake makes believable values: names, addresses, sentences. It knows its generators
// by name, and nothing of models or databases; the same stream of random numbers gives the same
// values:
//
//	g := fake.Lookup("full_name")
//	g.Make(&fake.Want{Random: random, Length: 80})
//
// Countries, Latin and colours are from the tables of gofakeit; only these are taken, since the
// library itself takes a millisecond at every start of the program. Names by language, places
// and sentences are its own (person.go, place.go, text.go). Nobody and nothing that is made here
// exists: firms and towns are put together from pieces, and mail goes to domains that end in
// .example.
package fake

import (
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/brianvoe/gofakeit/v7/data"
)

// Want is what is asked of a generator.
type Want struct {
	Random *Random
	Length int      // the characters there is room for; 0: any number
	Args   []string // what stood behind its name
	// Row gives what is in another field of the row by its name; "" for none.
	Row    func(field string) string
	Locale string  // of names and places, such as it or pt-BR; empty: of several languages
	Place  *Place  // the row's place; nil: one is made up
	Person *Person // the person that the row is about; nil: one is made up
}

// Generator makes texts of one kind.
type Generator struct {
	Name  string
	About string // what it makes, with an example
	Args  []Arg
	From  []string // the fields of the row that it looks at, if they are there
	make  func(w *Want) string
}

// Arg is an argument of a generator.
type Arg struct {
	What     string
	Number   bool
	Optional bool
}

// Make makes a text. It is as long as wanted at most, and not empty.
func (g *Generator) Make(w *Want) string {
	var s string
	for range 4 { // one that fits is more believable than one that was cut
		s = g.make(w)
		if w.Length == 0 || len(s) <= w.Length || utf8.RuneCountInString(s) <= w.Length {
			return s
		}
	}
	return Cut(s, w.Length)
}

// Cut shortens a text to n characters, between words where that leaves half of
// it.
func Cut(s string, n int) string {
	r := []rune(s)
	if n <= 0 || len(r) <= n {
		return s
	}
	for i := n; i > n/2; i-- {
		if r[i] == ' ' {
			return strings.TrimRight(string(r[:i]), " ,.;")
		}
	}
	if s := strings.TrimSpace(string(r[:n])); s != "" {
		return s
	}
	return "x"
}

// Lookup returns the generator with that name, or nil.
func Lookup(name string) *Generator {
	list := all()
	for i := range list {
		if list[i].Name == name {
			return &list[i]
		}
	}
	return nil
}

// Generators are all generators, in the order in which they are explained.
func Generators() []Generator { return all() }

// Names are the names of all generators.
func Names() []string {
	var out []string
	for _, g := range all() {
		out = append(out, g.Name)
	}
	return out
}

// all are the generators, made when one is asked for: most runs of the program ask for none.
var all = sync.OnceValue(func() []Generator {
	row := slices.Concat(firstNames, lastNames)
	whole := slices.Concat(row, fullNames)
	generators := []Generator{
		{Name: "name", About: "a person's name: Ada Verdi", From: row, make: fullName},
		{Name: "first_name", About: "Ada", make: func(w *Want) string { return w.person().First }},
		{Name: "middle_name", About: "Elisa", make: func(w *Want) string { return w.person().Middle }},
		{Name: "last_name", About: "Verdi", make: func(w *Want) string { return w.person().Last }},
		{
			Name:  "gender",
			About: "female or male, as the person's first name",
			make:  func(w *Want) string { return w.person().Gendered([]string{"female", "male"}) },
		},
		{
			Name:  "email",
			About: "ada.verdi@meadow.example, of the row's name where it has one",
			From:  slices.Concat(userNames, whole),
			make:  email,
		},
		{Name: "username", About: "ada.verdi, of the row's name where it has one", From: whole, make: mailName},
		{
			Name:  "phone",
			About: "+00 555 0142 377: no number of anyone",
			make:  func(w *Want) string { return digits(w.Random, "+00 555 01## ###") },
		},
		{Name: "company", About: "Verdi and Sons", make: company},
		{Name: "job", About: "a profession: bookbinder", make: func(w *Want) string { return w.Random.Of(jobs) }},
		{
			Name:  "place",
			About: "Rowanmere, Kent, United Kingdom: a town that is nowhere, in a region that there is",
			make: func(w *Want) string {
				p := w.place()
				return p.Town + ", " + p.Region + ", " + p.Country
			},
		},
		{Name: "address", About: "Via dei Tigli 12, 53021 Montefelce", make: func(w *Want) string {
			p := w.place()
			if slices.Contains([]string{"GB", "IE", "US", "CA", "AU", "NZ"}, p.Code) {
				return street(w) + ", " + p.Town + " " + p.Postcode
			}
			return street(w) + ", " + p.Postcode + " " + p.Town
		}},
		{Name: "street", About: "12 Mill Lane", make: street},
		{Name: "street_name", About: "Mill Lane", make: (*Want).streetName},
		{Name: "house_number", About: "14a", make: func(w *Want) string {
			n := strconv.FormatInt(w.Random.Between(1, 180), 10)
			if w.Random.Below(6) == 0 {
				n += w.Random.Of([]string{"a", "b", "c"})
			}
			return n
		}},
	}
	for _, of := range []struct{ name, about string }{
		{"city", "a town that is nowhere: Rowanmere"}, {"region", "Kent: one that there is"}, {"postcode", "53021, as in its region"}, {"country", "Italy"}, {"country_code", "IT"},
		{"timezone", "Europe/Rome"}, {"currency", "EUR"}, {"language", "it"}, {"locale", "it-IT"},
	} {
		generators = append(generators,
			Generator{Name: of.name, About: of.about, make: func(w *Want) string { return w.place().Of(of.name) }})
	}
	generators = append(
		generators,
		Generator{Name: "latitude", About: "43.4821", make: func(w *Want) string {
			at, _ := w.place().Near(w.Random)
			return degrees(int64(at * 10000))
		}},
		Generator{Name: "longitude", About: "11.0427", make: func(w *Want) string {
			_, at := w.place().Near(w.Random)
			return degrees(int64(at * 10000))
		}},
		Generator{Name: "domain", About: "meadow.example", make: func(w *Want) string { return domain(w.Random) }},
		Generator{Name: "url", About: "https://meadow.example/quiet-lantern", make: func(w *Want) string {
			return "https://" + domain(w.Random) + "/" + slug(w.Random.Of(qualities)+" "+w.Random.Of(things))
		}},
		Generator{Name: "word", About: "lantern", make: func(w *Want) string { return w.Random.Of(things) }},
		Generator{
			Name:  "title",
			About: "a few words: The quiet lantern; of a \"task\": Repair the old kettle; of an \"article\": What a wooden bench tells; of a \"place\": Lower orchard",
			Args:  []Arg{{What: "kind", Optional: true}},
			make:  title,
		},
		Generator{Name: "latin", About: "two words of Latin: Perferendis dolorum", make: func(w *Want) string {
			return capital(w.Random.Of(data.Lorem["word"])) + " " + w.Random.Of(data.Lorem["word"])
		}},
		Generator{
			Name:  "slug",
			About: "quiet-lantern, of the row's title or name where it has one",
			From:  titles,
			make: func(w *Want) string {
				if s := slug(w.firstOf(titles)); s != "" {
					return s
				}
				return slug(w.Random.Of(qualities) + " " + w.Random.Of(things))
			},
		},
	)
	generators = append(generators, texts()...)
	generators = append(
		generators,
		Generator{
			Name:  "price",
			About: "19.99, between two amounts; most are small, and end as prices do",
			Args:  []Arg{{What: "least", Number: true, Optional: true}, {What: "most", Number: true, Optional: true}},
			make:  price,
		},
		Generator{Name: "color", About: "teal", make: func(w *Want) string { return w.Random.Of(data.Colors["safe"]) }},
		Generator{
			Name:  "json",
			About: "an object whose keys the field's name suggests, or those named: \"width height\"",
			Args:  []Arg{{What: "keys", Optional: true}},
			make:  func(*Want) string { return "{}" },
		},
		Generator{
			Name:  "random",
			About: "so many characters, letters and digits or those of a text",
			Args:  []Arg{{What: "length", Number: true}, {What: "alphabet", Optional: true}},
			make:  random,
		},
		Generator{
			Name:  "bcrypt",
			About: "the bcrypt hash of a password; of a cost from 4, the least, to 15",
			Args:  []Arg{{What: "password"}, {What: "cost", Number: true, Optional: true}},
			make:  func(w *Want) string { return hashed(w.Random, w.Args[0], number(w, 1, minCost)) },
		},
	)
	return append(generators, technical()...)
})

// titles are the fields of which a slug is made.
var titles = []string{"title", "name", "product_name", "headline", "label"}

// jobs are professions.
var jobs = strings.Split(
	"bookbinder carpenter cartographer clockmaker cook dentist electrician engineer florist gardener glazier goldsmith journalist joiner librarian locksmith mason mechanic midwife miller nurse optician painter pharmacist photographer pilot plumber potter printer roofer sailor stonecutter surveyor tailor teacher translator upholsterer veterinarian watchmaker weaver",
	" ",
)

// Variants is how many ways there are at most to tell a text from another one like it.
const Variants = 22

var (
	ordinals = []string{"second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth"}
	initials = "ABCDEFGHIJKLMNOPRSTVWZ"
)

// Variant is a text that a generator made, told apart from others like it as a person would
// do it: Ada B. Verdi, Brass lantern, second. Empty: by the i-th way it cannot be.
func Variant(generator, text string, i int) string {
	switch generator {
	case "name":
		if first, last, ok := strings.Cut(text, " "); ok && i < len(initials) {
			return first + " " + initials[i:i+1] + ". " + last
		}
	case "title", "latin", "company":
		if i < len(ordinals) {
			return text + ", " + ordinals[i]
		}
	}
	return ""
}

// Longest is how many characters what a generator makes can have at most; 0 where only its
// field's length tells.
func Longest(generator string, args []string) int {
	m := longest()
	switch generator {
	case "name", "username":
		return m.name
	case "first_name", "middle_name":
		return m.first
	case "last_name":
		return m.last
	case "gender":
		return len("female")
	case "email":
		return m.name + 1 + m.host
	case "phone":
		return len("+00 555 01## ###")
	case "company":
		return max(m.last+len(" and Sons"), 2*m.last+len(" & "))
	case "street":
		return m.street + len(" 180-20")
	case "street_name":
		return m.street
	case "house_number":
		return len("180a")
	case "city":
		return m.town
	case "region":
		return m.region
	case "postcode":
		return m.postcode
	case "country":
		return m.country
	case "country_code", "language":
		return 2
	case "currency":
		return 3
	case "locale":
		return 5
	case "timezone":
		return m.zone
	case "latitude", "longitude":
		return len("-124.0000")
	case "place":
		return m.town + m.region + m.country + 4
	case "address":
		return m.street + len(" 180-20") + m.town + m.postcode + 3
	case "domain":
		return m.host
	case "word":
		return m.thing
	case "title":
		if len(args) > 0 {
			return 0
		}
		return max(len("The ")+m.quality+1+m.thing, 2*m.thing+len(" and "))
	case "url":
		return len("https://") + m.host + 1 + m.quality + 1 + m.thing
	case "color":
		return m.color
	case "random", "hash":
		if len(args) == 0 {
			return 64
		}
		if n, err := strconv.Atoi(args[0]); err == nil {
			return n
		}
	case "bcrypt":
		return 60
	}
	return machine[generator]
}

// lengths are how many characters the longest of the words have.
type lengths struct {
	first, last, name, town, region, postcode, country, zone, street, thing, quality, host, color int
}

var longest = sync.OnceValue(func() lengths {
	var m lengths
	of := func(to *int, list ...string) {
		for _, s := range list {
			*to = max(*to, utf8.RuneCountInString(s))
		}
	}
	for _, n := range namings() {
		for _, script := range []bool{false, true} {
			for _, s := range slices.Concat(n.women, n.men) {
				of(&m.first, written(s, script))
			}
			for _, s := range n.last {
				of(&m.last, written(s, script))
			}
		}
	}
	m.name = m.first + 1 + m.last
	for _, p := range slices.Concat(Places(false), Places(true)) {
		of(&m.town, p.Town)
		of(&m.region, p.Region)
		of(&m.postcode, p.Postcode)
		of(&m.zone, p.Zone)
	}
	for _, p := range Countries() {
		of(&m.country, p.Country)
	}
	for _, list := range streetsOf() {
		for _, s := range list {
			of(&m.street, written(s, false))
		}
	}
	of(&m.thing, things...)
	of(&m.quality, qualities...)
	of(&m.color, data.Colors["safe"]...)
	m.host = m.thing + len(".example")
	return m
})

// number is a generator's argument as a number.
func number(w *Want, i, unsaid int) int {
	if i < len(w.Args) {
		if n, err := strconv.Atoi(w.Args[i]); err == nil {
			return n
		}
	}
	return unsaid
}

func (w *Want) row(field string) string {
	if w.Row == nil {
		return ""
	}
	return w.Row(field)
}

func domain(r *Random) string { return slug(r.Of(things)) + ".example" }

func company(w *Want) string {
	last := NewPerson(w.Random, w.Locale, true).Last
	switch w.Random.Below(4) {
	case 0:
		return last + " and Sons"
	case 1:
		return last + " & " + NewPerson(w.Random, w.Locale, true).Last
	case 2:
		return capital(w.Random.Of(things)) + " Works"
	}
	return last + " " + w.Random.Of(data.Company["suffix"])
}

func title(w *Want) string {
	if len(w.Args) > 0 && len(patterns()[w.Args[0]]) > 0 && (w.Length == 0 || w.Length >= 40) {
		return string(filled(w.Random, nil, w.Random.Of(patterns()[w.Args[0]])))
	}
	if w.Length > 0 && w.Length < 20 {
		return capital(w.Random.Of(things))
	}
	switch w.Random.Below(3) {
	case 0:
		return capital(w.Random.Of(qualities)) + " " + w.Random.Of(things)
	case 1:
		return "The " + w.Random.Of(qualities) + " " + w.Random.Of(things)
	}
	return capital(w.Random.Of(things)) + " and " + w.Random.Of(things)
}

// Letters are the characters of the generator random, without those that are read wrong.
const Letters = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"

func random(w *Want) string {
	alphabet := []rune(Letters)
	if len(w.Args) > 1 && w.Args[1] != "" {
		alphabet = []rune(w.Args[1])
	}
	out := make([]rune, number(w, 0, 8))
	for i := range out {
		out[i] = alphabet[w.Random.Below(uint64(len(alphabet)))]
	}
	return string(out)
}

func digits(r *Random, form string) string {
	out := []byte(form)
	for i, b := range out {
		if b == '#' {
			out[i] = byte('0' + r.Below(10))
		}
	}
	return string(out)
}

func capital(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

func slug(s string) string { return plain(s, '-') }
