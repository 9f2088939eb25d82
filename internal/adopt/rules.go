package adopt

// This file chooses the settings of a project by what most tables of a database look like, so
// that those that come later look like them.

import (
	"cmp"
	"slices"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Setting is one setting that was chosen.
type Setting struct{ Section, Key, Value string }

// Choose gives the rules under which most of a database is said in the fewest words, and the
// settings that say them.
func Choose(live *sqlschema.Schema, engine string, rules declare.Rules) (declare.Rules, []Setting) {
	var settings []Setting
	set := func(section, key, value string) { settings = append(settings, Setting{section, key, value}) }
	singular, plural, checked := 0, 0, 0
	collations := map[string]int{}
	for _, t := range live.Tables {
		if schema.Own(t.Name) || len(t.Columns) == 0 {
			continue
		}
		words := strings.FieldsFunc(t.Name, func(r rune) bool { return r == '_' || r == '-' || r == ' ' })
		if last := words[max(len(words)-1, 0):]; len(last) > 0 && declare.Singular(last[0]) != last[0] {
			plural++
		} else {
			singular++
		}
		if slices.ContainsFunc(t.Checks, func(k *sqlschema.Check) bool {
			return k.Purpose == schema.ForType &&
				k.Name != ""
		}) {
			checked++
		}
		if _, rest, ok := strings.Cut(t.Options.Behind, " COLLATE="); ok {
			if name, _, _ := strings.Cut(rest, " "); name != "binary" { // which makes bytes of every text
				collations[name]++
			}
		}
	}
	if singular > plural {
		rules.Tables = "singular"
		set("naming", "tables", "singular")
	}
	if checked == 0 && singular+plural > 0 {
		rules.Unchecked = true
		set("naming", "type_checks", "false")
	}
	if name := most(collations); name != "" {
		rules.Collation = map[string]string{engine: name}
		set(engine, "collation", name)
	}
	references(live, &rules, set)
	return rules, settings
}

// references chooses the name of a reference's column, and what references do.
func references(live *sqlschema.Schema, rules *declare.Rules, set func(section, key, value string)) {
	patterns := []string{"{field}_{key}", "{field}_id", "{field}Id", "{field}ID", "{field}id", "id_{field}", "{field}"}
	fits, deletes, updates := map[string]int{}, map[string]int{}, map[string]int{}
	for _, t := range live.Tables {
		for _, k := range t.ForeignKeys {
			deletes[string(k.OnDelete)]++
			updates[string(k.OnUpdate)]++
			if len(k.Columns) != 1 || len(k.References) != 1 {
				continue
			}
			for _, p := range patterns {
				try := declare.Rules{Reference: p}
				if try.ReferenceField(k.Columns[0], k.References[0]) != "" {
					fits[p]++
					break
				}
			}
		}
	}
	if p := most(fits); p != "" && p != patterns[0] && fits[p] > fits[patterns[0]] {
		rules.Reference = p
		set("naming", "reference", p)
	}
	for _, x := range []struct {
		counts map[string]int
		to     *schema.Action
		key    string
	}{{deletes, &rules.OnDelete, "on_delete"}, {updates, &rules.OnUpdate, "on_update"}} {
		if x.counts[string(schema.NoAction)] > x.counts[string(schema.Restrict)] {
			*x.to = schema.NoAction
			set("models", x.key, "no action")
		}
	}
}

// most is what was counted most often, the first by name of several; "" for nothing.
func most(counts map[string]int) string {
	var names []string
	for n := range counts {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(counts[b]-counts[a], strings.Compare(a, b)) })
	if len(names) == 0 {
		return ""
	}
	return names[0]
}
