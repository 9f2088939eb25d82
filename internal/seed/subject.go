package seed

// This file lets the fields of a row agree that speak of the same place or of the same person:
// town, postcode, country, currency; first name, mail, user name. What the seed gives, or a row
// that this one refers to, is kept to: a town is one of that country.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/fake"
	"erbario/internal/schema"
)

// subject is a place or a person that several columns of a row speak of.
type subject struct {
	place   bool
	prefix  string // of their names: billing, for billing_city
	hash    uint64
	members []*column
	lead    *column // the one whose values have to differ, so that others follow it; nil: none has
	givens  []given
	home    *subject // the place of a person, which tells the language of the name; nil: none

	last   *subjectKey // for which place was found
	found  *fake.Place
	groups map[string]*fake.Group // by what the givens say
	lists  map[*fake.Group][]*fake.Place
}

// subjectKey is what a row's place depends on.
type subjectKey struct {
	row, attempts, nth int64
	said               string
}

// given is a column, of the row or of one that it refers to, that says something of the place.
type given struct {
	kind  string // the generator that makes such texts
	needs int    // the column of the row that it is, or that refers to the row with it
	of    func(r *row) any
}

// aboutOf splits the name of a field that speaks of a place or a person: whose it is, and the
// generator that makes such texts.
func aboutOf(name, generator string) (prefix string, place, ok bool) {
	name = strings.ToLower(name)
	place = slices.Contains(fake.PlaceKinds, generator) || generator == "address"
	if !place && !slices.Contains(fake.PersonKinds, generator) {
		return "", false, false
	}
	if first, rest, ok := strings.Cut(name, "_"); ok && guesses()[name] == "" &&
		(guesses()[rest] != "" || rest == "name") {
		if slices.Contains(roles, first) ||
			place && slices.Contains(qualifiers, first) { // a person's work_email is the person's own
			return first, place, true
		}
	}
	switch {
	case slices.Contains(apart, name):
		return name, place, true
	case slices.Contains(roles, name):
		return name, place, true
	case generator == "name" && !slices.Contains([]string{"name", "full_name", "fullname", "display_name", "person_name"}, name):
		return strings.TrimSuffix(name, "_name"), place, true // the author is another than the owner
	}
	return "", place, true
}

// apart are names of places that are not where the row itself is.
var apart = strings.Fields("birthplace birth_place nationality nationality_code origin destination")

// subjects finds the places and people that the columns of a line speak of.
func (p *Plan) subjects(l *Line) {
	of := func(prefix string, place bool) *subject {
		for _, s := range l.subjects {
			if s.prefix == prefix && s.place == place {
				return s
			}
		}
		s := &subject{
			place:  place,
			prefix: prefix,
			hash:   fake.Hash(fmt.Sprint("subject ", place, " ", prefix)),
			groups: map[string]*fake.Group{},
		}
		l.subjects = append(l.subjects, s)
		return s
	}
	for _, c := range l.columns {
		kind := ""
		switch {
		case c.fill != nil: // a reference
		case c.made != nil:
			kind = c.made.Generator
		case c.degrees(), c.Type.Kind == schema.Choice:
			kind = GuessOf(c.Field)
		}
		prefix, place, ok := aboutOf(c.Field, kind)
		if !ok || c.made == nil && (c.said || p.leftToDefault(l, c)) {
			continue
		}
		if c.Type.Kind == schema.Choice && !offers(c.Type.Choices, kind) {
			continue
		}
		s := of(prefix, place)
		c.subject, c.about = s, kind
		s.members = append(s.members, c)
	}
	l.unite()
	for _, s := range l.subjects {
		if !s.place {
			if at := slices.IndexFunc(l.subjects, func(o *subject) bool { return o.place && o.prefix == s.prefix }); at >= 0 {
				s.home = l.subjects[at]
			}
			continue
		}
		p.givens(l, s)
		for _, kind := range fake.PlaceKinds { // of several the one that tells the most
			for _, c := range s.members {
				if s.lead == nil && c.about == kind && slices.ContainsFunc(l.plan.uniques,
					func(u *unique) bool { return slices.Contains(u.columns, c.at) }) {
					s.lead = c
				}
			}
		}
	}
}

// unite lets a currency, a language or a time zone that stand alone be those of the only place
// that a row has.
func (l *Line) unite() {
	alone := slices.IndexFunc(l.subjects, func(s *subject) bool {
		return s.place && s.prefix == "" && !slices.ContainsFunc(s.members, func(c *column) bool {
			return !slices.Contains([]string{"currency", "language", "locale", "timezone"}, c.about)
		})
	})
	if alone < 0 {
		return
	}
	var home *subject
	for i, s := range l.subjects {
		if s.place && i != alone && !slices.Contains(apart, s.prefix) {
			if home != nil && home.prefix == "billing" {
				continue
			}
			if home != nil && s.prefix != "billing" {
				return // it may be of either
			}
			home = s
		}
	}
	if home == nil {
		return
	}
	for _, c := range l.subjects[alone].members {
		c.subject = home
		home.members = append(home.members, c)
	}
	l.subjects = slices.Delete(l.subjects, alone, alone+1)
}

// offers tells whether some place or person has one of the values of a choice.
func offers(choices []string, kind string) bool {
	if kind == "gender" {
		return (&fake.Person{}).Gendered(choices) != "" && (&fake.Person{Female: true}).Gendered(choices) != ""
	}
	return slices.ContainsFunc(fake.Places(false), func(p *fake.Place) bool {
		return slices.ContainsFunc(choices, func(v string) bool { return p.Says(kind, v) })
	})
}

// degrees tells whether a column is a number of degrees.
func (c *column) degrees() bool {
	g := GuessOf(c.Field)
	return c.axis != nil && (g == "latitude" || g == "longitude") &&
		(c.Type.Kind == schema.Decimal || c.Type.Kind == schema.Real || c.Type.Kind == schema.Double)
}

// givens finds what is said of a subject's place: by columns of the row that are no members,
// and by the rows that it refers to.
func (p *Plan) givens(l *Line, s *subject) {
	for _, c := range l.columns {
		if c.subject != nil || c.fill != nil || c.Type.Kind != schema.Text && c.Type.Kind != schema.Choice {
			continue
		}
		kind := GuessOf(c.Field)
		if prefix, place, ok := aboutOf(c.Field, kind); ok && place && prefix == s.prefix && tells(kind) {
			s.givens = append(s.givens, given{kind, c.at, func(r *row) any { return r.cells[c.at] }})
		}
	}
	for _, k := range l.Table.ForeignKeys {
		target := p.schema.Table(k.Table)
		if target == nil || k.Table == l.Table.Name {
			continue
		}
		first, _, _ := strings.Cut(strings.ToLower(l.Table.Column(k.Columns[0]).Field), "_")
		if s.prefix != "" && first != s.prefix || s.prefix == "" &&
			!slices.Contains([]string{"country", "city", "town", "region", "place", "location", "address"}, first) {
			continue // the customer's town is not where the order is packed
		}
		for _, c := range target.Columns {
			if kind := kindIn(target, c); tells(kind) && (c.Type.Kind == schema.Text || c.Type.Kind == schema.Choice) {
				if of, needs := p.ofReferred(l, k, c.Name); of != nil {
					s.givens = append(s.givens, given{kind, needs, of})
				}
			}
		}
	}
	slices.SortStableFunc(s.givens, func(a, b given) int {
		return slices.Index(fake.PlaceKinds, a.kind) - slices.Index(fake.PlaceKinds, b.kind)
	})
}

// tells tells whether a text of that kind tells one place from others.
func tells(kind string) bool {
	return slices.Contains(
		[]string{"city", "region", "country", "country_code", "postcode", "currency", "language", "locale", "timezone"},
		kind,
	)
}

// kindIn is the generator of texts like those of a column, where its table is a country's, a
// town's.
func kindIn(t *schema.Table, c *schema.Column) string {
	name := strings.ToLower(c.Field)
	of := GuessOf(snake(t.Model))
	switch {
	case name == "name" && slices.Contains([]string{"country", "city", "region"}, of):
		return of
	case slices.Contains([]string{"code", "iso", "iso_code", "iso2", "alpha2", "alpha_2"}, name):
		switch of {
		case "country":
			return "country_code"
		case "currency", "language", "locale":
			return of
		}
	}
	return GuessOf(name)
}

// snake is a model's name as that of a field: PostOffice as post_office.
func snake(model string) string {
	var b strings.Builder
	for i, r := range model {
		if r >= 'A' && r <= 'Z' {
			if i > 0 {
				b.WriteByte('_')
			}
			r += 'a' - 'A'
		}
		b.WriteRune(r)
	}
	return b.String()
}

// ofReferred gives a column's value in the row that a row refers to, and the column of the row
// that it has to know for that; nil where nobody can tell it.
func (p *Plan) ofReferred(l *Line, k *schema.ForeignKey, column string) (func(r *row) any, int) {
	at, ok := l.plan.place[k.Columns[0]]
	switch {
	case !ok:
		return nil, 0
	case k == l.up:
		return func(r *row) any { return l.parent.value(column, r.up) }, at
	case k == l.above || k == l.source.Tree:
		return nil, 0
	}
	pk := l.picks[k.Columns[0]]
	if pk == nil || pk.key != k {
		return nil, 0
	}
	return func(r *row) any {
		if r.cells[at] == nil {
			return nil
		}
		return pk.also(r, column)
	}, at
}

// also is another column's value of the row that was picked last; nil where it is not known.
func (k *pick) also(r *row, column string) any {
	if k.chosen < 0 {
		return nil
	}
	l, n := k.at(k.chosen)
	switch {
	case l == nil:
		at := slices.Index(k.beside, column)
		if at < 0 || k.unknown || n >= int64(len(k.keys)) || len(k.keys[n]) <= len(k.key.References)+at {
			return nil
		}
		return k.keys[n][len(k.key.References)+at]
	case l == k.line && n >= r.n:
		return nil // the row itself
	}
	return l.value(column, n)
}

// needs are the columns that one that speaks of the subject has to know.
func (s *subject) needs(c *column) []int {
	var out []int
	for _, g := range s.givens {
		out = append(out, g.needs)
	}
	if s.lead != nil && s.lead != c {
		out = append(out, s.lead.at)
	}
	if s.home != nil {
		out = append(out, s.home.needs(nil)...)
	}
	return out
}

// placeOf is the place that a row's columns speak of.
func (r *row) placeOf(p *Plan, s *subject) *fake.Place {
	key := subjectKey{row: r.n, nth: -1}
	if s.lead != nil {
		key.attempts, key.nth = int64(r.attempts[s.lead.at]), r.nth[s.lead.at]
	}
	key.said = s.said(r)
	if s.last != nil && *s.last == key {
		return s.found
	}
	group := s.group(p, key.said)
	if list := s.distinct(group); key.nth >= 0 && len(list) > 0 {
		s.found = list[key.nth%int64(len(list))]
	} else {
		random := fake.NewRandom(r.line.hash, s.hash, uint64(r.n), uint64(key.attempts))
		s.found = group.Pick(&random)
	}
	s.last = &key
	return s.found
}

// said is what the givens of a row say, a line each.
func (s *subject) said(r *row) string {
	out := ""
	for _, g := range s.givens {
		if v := textOf(g.of(r)); v != "" {
			out += g.kind + " " + v + "\n"
		}
	}
	return out
}

// group is the places for which all holds that is said, as far as there are any: else what
// tells more goes before what tells less.
func (s *subject) group(p *Plan, said string) *fake.Group {
	if g := s.groups[said]; g != nil {
		return g
	}
	list := fake.Around(p.locale).List
	if said != "" && p.locale == "" {
		list = fake.Places(false)
	}
	keep := func(holds func(o *fake.Place) bool) {
		if some := slices.DeleteFunc(slices.Clone(list), func(o *fake.Place) bool { return !holds(o) }); len(some) > 0 {
			list = some
		}
	}
	lines := strings.Split(strings.TrimSuffix(said, "\n"), "\n")
	for i, line := range lines {
		kind, text, ok := strings.Cut(line, " ")
		says := func(o *fake.Place) bool { return o.Says(kind, text) }
		if ok && !slices.ContainsFunc(list, says) && i == 0 &&
			slices.ContainsFunc(fake.Places(false), says) { // not of the locale's
			list = fake.Places(false)
		}
		if ok && i == 0 && !slices.ContainsFunc(list, says) { // a country of which only the name is known
			if all := slices.DeleteFunc(slices.Clone(fake.Countries()), func(o *fake.Place) bool { return !says(o) }); len(
				all,
			) > 0 && s.countries() {
				list = all
			}
		}
		if ok {
			keep(says)
		}
	}
	for _, c := range s.members {
		if c.Type.Kind == schema.Choice {
			keep(func(o *fake.Place) bool {
				return slices.ContainsFunc(c.Type.Choices, func(v string) bool { return o.Says(c.about, v) })
			})
		}
	}
	g := fake.NewGroup(list)
	s.groups[said] = g
	return g
}

// countries tells whether nothing is asked of a place but its country.
func (s *subject) countries() bool {
	return !slices.ContainsFunc(s.members,
		func(c *column) bool { return c.about != "country" && c.about != "country_code" })
}

// distinct are places of a group that differ in what the leading column has of them.
func (s *subject) distinct(g *fake.Group) []*fake.Place {
	if s.lead == nil {
		return nil
	}
	if list, ok := s.lists[g]; ok {
		return list
	}
	all := g.List
	if s.countries() && len(s.givens) == 0 {
		all = append(slices.Clone(all), fake.Countries()...)
	}
	seen := map[string]bool{}
	var out []*fake.Place
	for _, o := range all {
		if v := o.Of(s.lead.about); v != "" && !seen[v] {
			seen[v] = true
			out = append(out, o)
		}
	}
	if s.lists == nil {
		s.lists = map[*fake.Group][]*fake.Place{}
	}
	s.lists[g] = out
	return out
}

// personOf is the person that a column of a row speaks of; a new try for the column makes
// another.
func (r *row) personOf(p *Plan, s *subject, c *column) *fake.Person {
	random := fake.NewRandom(r.line.hash, s.hash, uint64(r.n), uint64(r.attempts[c.at]))
	if p.locale == "" && s.home != nil {
		if at := r.placeOf(p, s.home); at.Language != "" {
			return fake.NewPerson(&random, at.Language, false)
		}
	}
	return fake.NewPerson(&random, p.locale, true)
}

// led lets a column whose values have to differ go through the places that there are, so that
// what else is said of them follows.
func (p *Plan) led(c *column) {
	s, nth := c.subject, c.nth
	c.nth = func(r *row, i int64) any {
		n := int64(len(s.distinct(s.group(p, s.said(r)))))
		if n == 0 {
			return nth(r, i)
		}
		text := r.placeOf(p, s).Of(c.about)
		if length := c.Type.Length; length > 0 {
			text = fake.Cut(text, length)
		}
		if i < n {
			return text
		}
		return nth(r, i)
	}
}
