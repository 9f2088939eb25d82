package seed

// This file says what the name and the type of a field suggest.

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/schema"
)

// guesses are generators by the words that a field's name is, or ends with.
var guesses = map[string]string{
	"email": "email", "mail": "email", "first_name": "first_name", "given_name": "first_name", "last_name": "last_name", "surname": "last_name", "family_name": "last_name",
	"full_name": "name", "contact": "name", "author": "name", "owner": "name", "by": "name", "borrower": "name", "collector": "name", "username": "username", "user_name": "username", "login": "username", "handle": "username",
	"phone": "phone", "telephone": "phone", "mobile": "phone", "company": "company", "firm": "company", "institution": "company", "employer": "company", "organisation": "company", "organization": "company",
	"job": "job", "job_title": "job", "profession": "job", "occupation": "job", "street": "street", "address": "street", "city": "city", "town": "city", "place": "city", "country": "country", "country_code": "country_code",
	"postcode": "postcode", "postal_code": "postcode", "zip": "postcode", "zip_code": "postcode", "url": "url", "website": "url", "link": "url", "homepage": "url", "domain": "domain", "slug": "slug",
	"description": "sentence", "notes": "sentence", "note": "sentence", "comment": "sentence", "remarks": "sentence", "remark": "sentence", "summary": "sentence", "text": "paragraph", "body": "paragraph", "bio": "paragraph", "biography": "paragraph",
	"color": "color", "colour": "color", "password_hash": "bcrypt", "password_digest": "bcrypt", "hashed_password": "bcrypt",
}

// codes are names of fields that hold a text for machines rather than words.
var codes = []string{"code", "reference", "ref", "number", "accession", "sku", "token", "serial", "barcode", "key", "hash", "checksum"}

// people are models whose name is a person's.
var people = []string{"person", "user", "author", "member", "customer", "employee", "contact", "collector", "borrower", "visitor", "student", "teacher", "owner", "botanist", "gardener", "curator", "account"}

// guess is the generator for a text without one.
func (p *Plan) guess(l *Line, c *column) *schema.Fake {
	name := strings.ToLower(c.Field)
	if g, ok := lookName(guesses, name); ok {
		if g == "bcrypt" {
			if c.Type.Length == 0 || c.Type.Length >= 60 {
				return &schema.Fake{Generator: g, Args: []string{"password"}}
			}
			g = "random"
		}
		if g == "country" && c.Type.Length > 0 && c.Type.Length < 4 {
			g = "country_code"
		}
		if (g == "sentence" || g == "paragraph") && c.Type.Length > 0 && c.Type.Length < 40 {
			g = "title"
		}
		return &schema.Fake{Generator: g}
	}
	last := name[strings.LastIndexByte(name, '_')+1:]
	if slices.Contains(codes, last) || slices.Equal(l.Table.Key(), []string{c.Name}) {
		n := 10
		if c.Type.Length > 0 {
			n = min(n, c.Type.Length)
		}
		return &schema.Fake{Generator: "random", Args: []string{strconv.Itoa(n)}}
	}
	if last == "name" && p.person(l.Table) {
		return &schema.Fake{Generator: "name"}
	}
	return &schema.Fake{Generator: "title"}
}

// lookName finds what stands for a name, or for its last words.
func lookName[T any](in map[string]T, name string) (T, bool) {
	for {
		if v, ok := in[name]; ok {
			return v, true
		}
		i := strings.IndexByte(name, '_')
		if i < 0 {
			var none T
			return none, false
		}
		name = name[i+1:]
	}
}

// person tells whether the rows of a table are people.
func (p *Plan) person(t *schema.Table) bool {
	return slices.Contains(people, strings.ToLower(t.Model)) || slices.ContainsFunc(t.Columns, func(c *schema.Column) bool {
		return strings.HasSuffix(c.Field, "email") || strings.HasPrefix(c.Field, "birth") || c.Field == "born_on"
	})
}

// sizes are believable numbers by the words of a name.
var sizes = map[string][2]float64{
	"age": {18, 90}, "quantity": {1, 20}, "count": {0, 50}, "price": {1, 500}, "amount": {1, 1000}, "cost": {1, 500}, "total": {1, 1000}, "percent": {0, 100}, "percentage": {0, 100}, "share": {0, 100},
	"rating": {1, 5}, "score": {0, 100}, "latitude": {-60, 70}, "lat": {-60, 70}, "longitude": {-180, 180}, "lon": {-180, 180}, "lng": {-180, 180}, "elevation": {0, 2500}, "altitude": {0, 2500},
	"weight": {0.1, 100}, "height": {1, 250}, "width": {1, 250}, "length": {1, 250}, "depth": {1, 250}, "position": {1, 100}, "rank": {1, 100}, "level": {1, 10}, "version": {1, 10}, "year": {0, 0},
}

// units are the endings of names that tell the unit of a number.
var units = []string{"m", "cm", "mm", "km", "g", "kg", "mg", "s", "ms", "pct", "eur", "usd", "cents"}

// believable is the part of its axis in which a column's values are believable,
// and whether that may lie behind today.
func (p *Plan) believable(c *column) (soft interval, ahead bool) {
	name, x := strings.ToLower(c.Field), c.axis
	words := strings.Split(name, "_")
	has := func(list ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return slices.Contains(list, w) })
	}
	years := func(from, to float64) interval {
		i := interval{p.today - int64(from*365.25), p.today - int64(to*365.25)}
		if x.moment() {
			i = interval{i.low * daySeconds, i.high * daySeconds}
		}
		return i
	}
	switch {
	case x.kind == schema.Time:
		return interval{8 * 3600, 18*3600 - 1}, true
	case x.kind == schema.Date || x.moment():
		switch {
		case has("birth", "born", "birthday", "birthdate"):
			return years(80, 18), false
		case has("due", "expires", "expiry", "until", "end", "ends", "valid", "next", "deadline"):
			return years(0, -1), true
		}
		return years(3, 0), false
	}
	if len(words) > 1 && slices.Contains(units, words[len(words)-1]) {
		words = words[:len(words)-1]
	}
	at, ok := sizes[words[len(words)-1]]
	if !ok {
		at = [2]float64{1, 1000}
	}
	if has("year") {
		year := 1970 + float64(p.today)/365.2425
		at = [2]float64{math.Floor(year) - 30, math.Floor(year)}
	}
	low, _ := x.place(at[0])
	high, _ := x.place(at[1])
	return interval{max(low, x.low), min(high, x.high)}, true
}
