// Package fake makes believable values: names, addresses, sentences. It knows
// its generators by name, and nothing of models or databases. Their words come
// from the tables of gofakeit; only these are taken, since the library itself
// takes a millisecond at every start of the program. Nobody and nothing that is
// made here exists: firms and towns are put together from pieces, and mail goes
// to domains that end in .example.
package fake

import (
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
	Row func(field string) string
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
	for i := range generators {
		if generators[i].Name == name {
			return &generators[i]
		}
	}
	return nil
}

// Generators are all generators, in the order in which they are explained.
func Generators() []Generator { return generators }

// Names are the names of all generators.
func Names() []string {
	var out []string
	for _, g := range generators {
		out = append(out, g.Name)
	}
	return out
}

var names = []string{"name", "full_name", "first_name", "last_name"}

var generators []Generator

func init() {
	generators = []Generator{
		{Name: "name", About: "a person's name: Ada Verdi", From: []string{"first_name", "last_name"}, make: fullName},
		{Name: "first_name", About: "Ada", make: func(w *Want) string { return w.Random.Of(data.Person["first"]) }},
		{Name: "last_name", About: "Verdi", make: func(w *Want) string { return w.Random.Of(data.Person["last"]) }},
		{Name: "email", About: "ada.verdi@meadow.example, of the row's name where it has one", From: names, make: email},
		{Name: "username", About: "ada.verdi", From: names, make: func(w *Want) string { return mailName(w) }},
		{Name: "phone", About: "+00 555 0142 377: no number of anyone", make: func(w *Want) string { return digits(w.Random, "+00 555 01## ###") }},
		{Name: "company", About: "Verdi and Sons", make: company},
		{Name: "job", About: "a profession", make: func(w *Want) string {
			return w.Random.Of(data.Job["level"]) + " " + w.Random.Of(data.Job["title"])
		}},
		{Name: "street", About: "12 North Alley", make: func(w *Want) string {
			return strconv.FormatInt(w.Random.Between(1, 240), 10) + " " + w.Random.Of(data.Address["street_prefix"]) + " " + w.Random.Of(data.Address["street_name"])
		}},
		{Name: "city", About: "a town that is nowhere: Northville", make: func(w *Want) string {
			return w.Random.Of(data.Address["street_prefix"]) + w.Random.Of(data.Address["street_suffix"])
		}},
		{Name: "country", About: "Iceland", make: func(w *Want) string { return w.Random.Of(data.Address["country"]) }},
		{Name: "country_code", About: "IS", make: func(w *Want) string { return w.Random.Of(data.Address["country_abr"]) }},
		{Name: "postcode", About: "40213", make: func(w *Want) string { return digits(w.Random, "#####") }},
		{Name: "domain", About: "meadow.example", make: func(w *Want) string { return domain(w.Random) }},
		{Name: "url", About: "https://meadow.example/quiet-lantern", make: func(w *Want) string {
			return "https://" + domain(w.Random) + "/" + slug(w.Random.Of(qualities)+" "+w.Random.Of(things))
		}},
		{Name: "word", About: "lantern", make: func(w *Want) string { return w.Random.Of(things) }},
		{Name: "title", About: "a few words: The quiet lantern", make: title},
		{Name: "latin", About: "two words of Latin: Perferendis dolorum", make: func(w *Want) string {
			return capital(w.Random.Of(data.Lorem["word"])) + " " + w.Random.Of(data.Lorem["word"])
		}},
		{Name: "slug", About: "quiet-lantern", make: func(w *Want) string { return slug(w.Random.Of(qualities) + " " + w.Random.Of(things)) }},
		{Name: "sentence", About: "a sentence; of so many words", Args: []Arg{{What: "words", Number: true, Optional: true}}, make: func(w *Want) string { return sentence(w.Random, number(w, 0, int(w.Random.Between(6, 12)))) }},
		{Name: "paragraph", About: "several sentences; so many", Args: []Arg{{What: "sentences", Number: true, Optional: true}}, make: func(w *Want) string {
			var out []string
			for range number(w, 0, int(w.Random.Between(3, 6))) {
				out = append(out, sentence(w.Random, int(w.Random.Between(6, 12))))
			}
			return strings.Join(out, " ")
		}},
		{Name: "color", About: "teal", make: func(w *Want) string { return w.Random.Of(data.Colors["safe"]) }},
		{Name: "random", About: "so many characters, letters and digits or those of a text", Args: []Arg{{What: "length", Number: true}, {What: "alphabet", Optional: true}}, make: random},
		{Name: "bcrypt", About: "the bcrypt hash of a password; of a cost from 4, the least, to 15", Args: []Arg{{What: "password"}, {What: "cost", Number: true, Optional: true}}, make: func(w *Want) string { return hashed(w.Args[0], number(w, 1, minCost)) }},
	}
	generators = append(generators, technical()...)
}

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
	of := func(list []string) int {
		n := 0
		for _, s := range list {
			n = max(n, utf8.RuneCountInString(s))
		}
		return n
	}
	name := of(data.Person["first"]) + 1 + of(data.Person["last"])
	host := of(things) + len(".example")
	if n := machine[generator]; n > 0 {
		return n
	}
	switch generator {
	case "name", "username":
		return name
	case "first_name":
		return of(data.Person["first"])
	case "last_name":
		return of(data.Person["last"])
	case "email":
		return name + 1 + host
	case "phone":
		return len("+00 555 01## ###")
	case "street":
		return len("240 ") + of(data.Address["street_prefix"]) + 1 + of(data.Address["street_name"])
	case "city":
		return of(data.Address["street_prefix"]) + of(data.Address["street_suffix"])
	case "country":
		return of(data.Address["country"])
	case "country_code":
		return of(data.Address["country_abr"])
	case "postcode":
		return 5
	case "domain":
		return host
	case "word":
		return of(things)
	case "title":
		return max(len("The ")+of(qualities)+1+of(things), 2*of(things)+len(" and "))
	case "slug":
		return of(qualities) + 1 + of(things)
	case "url":
		return len("https://") + host + 1 + of(qualities) + 1 + of(things)
	case "color":
		return of(data.Colors["safe"])
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
	return 0
}

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

func fullName(w *Want) string {
	first, last := w.row("first_name"), w.row("last_name")
	if first == "" {
		first = w.Random.Of(data.Person["first"])
	}
	if last == "" {
		last = w.Random.Of(data.Person["last"])
	}
	return first + " " + last
}

func email(w *Want) string {
	d := domain(w.Random)
	name := mailName(w)
	if w.Length > 0 { // the name rather than the domain is cut
		name = strings.Trim(Cut(name, max(1, w.Length-len(d)-1)), ".")
	}
	return name + "@" + d
}

// mailName is what stands before the @ of a person's mail.
func mailName(w *Want) string {
	name := strings.TrimSpace(w.row("first_name") + " " + w.row("last_name"))
	for _, f := range []string{"full_name", "name"} {
		if name == "" {
			name = w.row(f)
		}
	}
	name = plain(name, '.')
	if name == "" {
		name = plain(fullName(&Want{Random: w.Random}), '.')
	}
	return name
}

func domain(r *Random) string { return slug(r.Of(things)) + ".example" }

func company(w *Want) string {
	last := w.Random.Of(data.Person["last"])
	switch w.Random.Below(4) {
	case 0:
		return last + " and Sons"
	case 1:
		return last + " & " + w.Random.Of(data.Person["last"])
	case 2:
		return capital(w.Random.Of(things)) + " Works"
	}
	return last + " " + w.Random.Of(data.Company["suffix"])
}

func title(w *Want) string {
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

func sentence(r *Random, n int) string {
	var room [160]byte
	b, lists := room[:0], sentenceWords()
	for i := range max(n, 1) {
		if i > 0 {
			b = append(b, ' ')
		}
		w := r.Of(lists[r.Below(uint64(len(lists)))])
		if i == 0 {
			first, n := utf8.DecodeRuneInString(w)
			b, w = utf8.AppendRune(b, unicode.ToUpper(first)), w[n:]
		}
		b = append(b, w...)
	}
	return string(append(b, '.'))
}

// sentenceWords are the lists of which a sentence takes its words.
var sentenceWords = sync.OnceValue(func() [][]string {
	return [][]string{data.Word["noun_common"], data.Word["adjective_descriptive"], data.Word["noun_concrete"], data.Word["adverb_manner"], data.Word["verb_action"]}
})

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

// plain keeps the letters a to z and digits of a text, in lower case; one sep
// stands for whatever was between them.
func plain(s string, sep byte) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(s) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			if gap && b.Len() > 0 {
				b.WriteByte(sep)
			}
			b.WriteRune(r)
			gap = false
		} else if r != '\'' {
			gap = true
		}
	}
	return b.String()
}
