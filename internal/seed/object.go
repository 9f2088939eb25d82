package seed

// This file makes JSON: objects whose keys the field's name suggests, with values as fields of
// these names would have them. Their keys are in the order in which a database gives them back
// that has one of its own.

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/fake"
	"erbario/internal/schema"
)

// keysOf are the keys of objects by the names of fields.
var keysOf = map[string]string{
	"settings preferences options config configuration prefs": "theme language notifications page_size",
	"address location billing_address shipping_address":       "street postcode city country",
	"dimensions measurements":                                 "width height depth unit",
	"coordinates position geo point":                          "latitude longitude",
	"tags labels keywords":                                    "",
	"contact contact_details person owner":                    "name email phone",
	"payload event data body request":                         "action source ip",
	"metadata meta info extra additional custom_fields":       "source version checked",
	"attributes properties features specs details":            "color material weight_g",
	"opening_hours hours":                                     "monday tuesday wednesday thursday friday",
	"links social urls":                                       "website image_url",
	"history log changes":                                     "field before after",
	"notes":                                                   "note author",
}

// keysFor are the keys of an object in a field.
func keysFor(field string) []string {
	field = strings.ToLower(field)
	for names, keys := range keysOf {
		if slices.Contains(strings.Fields(names), field) {
			return strings.Fields(keys)
		}
	}
	return []string{"source", "note"}
}

// isList tells whether a field holds a list of words rather than an object.
func isList(field string) bool {
	return slices.Contains([]string{"tags", "labels", "keywords"}, strings.ToLower(field))
}

// object fills a column with JSON.
func (p *Plan) object(c *column, args []string) {
	keys := keysFor(c.Field)
	if len(args) > 0 {
		keys = strings.Fields(strings.ReplaceAll(args[0], ",", " "))
	}
	slices.SortStableFunc(keys, func(a, b string) int { return cmp.Or(len(a)-len(b), strings.Compare(a, b)) })
	keys = slices.Compact(keys)
	list := isList(c.Field) && len(args) == 0
	c.fill = func(r *row, random *fake.Random) any {
		var parts []string
		if list {
			word := fake.Lookup("word")
			for range 1 + random.Below(4) {
				if w := strconv.Quote(word.Make(&fake.Want{Random: random})); !slices.Contains(parts, w) {
					parts = append(parts, w)
				}
			}
			return "[" + strings.Join(parts, ", ") + "]"
		}
		whole := &fake.Want{Random: random, Locale: p.locale}
		size := 2
		for _, key := range keys {
			part := strconv.Quote(key) + ": " + p.inObject(key, whole)
			if size += len(part) + 2; c.Type.Length > 0 && size > c.Type.Length {
				break
			}
			parts = append(parts, part)
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	c.domain, c.nth = nil, nil
	if c.Type.Kind != schema.JSON {
		p.numberedObject(c, keys)
	}
}

// numberedObject tells objects apart by a number in them.
func (p *Plan) numberedObject(c *column, keys []string) {
	fill := c.fill
	c.domain = func(*row) int64 { return most }
	c.nth = func(r *row, i int64) any {
		random := fake.NewRandom(c.seed, r.line.hash, uint64(r.n))
		base := strings.TrimPrefix(textOf(fill(r, &random)), "{")
		if base == "}" || len(keys) == 0 {
			return fmt.Sprintf(`{"n": %d}`, i)
		}
		return fmt.Sprintf(`{"n": %d, %s`, i, base)
	}
}

// inObject is a value as a field of that name would have it, in JSON.
func (p *Plan) inObject(key string, w *fake.Want) string {
	switch key {
	case "theme":
		return strconv.Quote(w.Random.Of([]string{"light", "dark"}))
	case "unit":
		return `"cm"`
	case "action":
		return strconv.Quote(w.Random.Of([]string{"create", "update", "remove", "open"}))
	case "source":
		return strconv.Quote(w.Random.Of([]string{"import", "form", "phone", "letter"}))
	case "material":
		return strconv.Quote(w.Random.Of([]string{"oak", "brass", "linen", "glass", "paper"}))
	case "field", "before", "after":
		return strconv.Quote(fake.Lookup("word").Make(w))
	case "page_size":
		return w.Random.Of([]string{"10", "25", "50"})
	case "latitude", "longitude":
		return fake.Lookup(key).Make(w)
	case "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday":
		return strconv.Quote(w.Random.Of([]string{"08:00-17:00", "09:00-18:00", "10:00-16:00"}))
	case "notifications", "checked", "enabled", "active":
		return w.Random.Of([]string{"true", "false"})
	}
	if strings.HasPrefix(key, "is_") || strings.HasPrefix(key, "has_") {
		return w.Random.Of([]string{"true", "false"})
	}
	if words := strings.Fields(GuessOf(key)); len(words) > 0 && words[0] != "bcrypt" {
		w.Args = words[1:]
		defer func() { w.Args = nil }()
		return quoted(fake.Lookup(words[0]).Make(w))
	}
	if at, ok := sizes()[sizeWord(key)]; ok && at[1] > 0 {
		return strconv.FormatInt(w.Random.Between(int64(max(1, at[0])), int64(at[1])), 10)
	}
	return strconv.Quote(fake.Lookup("word").Make(w))
}

// quoted is a text in JSON.
func quoted(s string) string {
	s = strings.ReplaceAll(strings.ReplaceAll(s, `\`, `\\`), `"`, `\"`)
	return `"` + s + `"`
}
