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
	names(live, engine, &rules, set)
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

// names chooses the patterns for the names of constraints and indexes, where most have one that is
// not the rule.
func names(live *sqlschema.Schema, engine string, rules *declare.Rules, set func(section, key, value string)) {
	keys, uniques, indexes, primary := map[string]int{}, map[string]int{}, map[string]int{}, map[string]int{}
	tables := 0
	own := func(table string) string { // without its schema
		if rules.Schemas[engine] {
			_, table = schema.SplitName(table)
		}
		return table
	}
	count := func(in map[string]int, name, table string, columns []string, target string) {
		if p := patternOf(name, own(table), columns, own(target)); p != "" {
			in[p]++
		}
	}
	for _, t := range live.Tables {
		if schema.Own(t.Name) {
			continue
		}
		if t.PrimaryKey != nil {
			tables++
			count(primary, t.PrimaryKey.Name, t.Name, nil, "")
		}
		for _, k := range t.ForeignKeys {
			count(keys, k.Name, t.Name, k.Columns, k.Table)
		}
		for _, x := range t.Indexes {
			var columns []string
			for _, p := range x.Parts {
				columns = append(columns, p.Column)
			}
			ofKey := func(k *sqlschema.ForeignKey) bool { return k.Name == x.Name } // some servers make it with that
			if slices.ContainsFunc(t.ForeignKeys, ofKey) {
				continue
			}
			if x.Unique {
				count(uniques, x.Name, t.Name, columns, "")
			} else {
				count(indexes, x.Name, t.Name, columns, "")
			}
		}
	}
	// A table whose primary key has another name could not say so where an engine names none.
	if p := most(primary); p != "{table}_pkey" && primary[p] == tables && strings.Contains(p, "{table}") {
		rules.Names.PrimaryKey = p
		set("naming", "primary_key", p)
	}
	for _, x := range []struct {
		counts      map[string]int
		to          *string
		key, suffix string
	}{
		{keys, &rules.Names.ForeignKey, "foreign_key", "fkey"}, {uniques, &rules.Names.Unique, "unique", "key"},
		{indexes, &rules.Names.Index, "index", "idx"},
	} {
		rule := "{table}_{columns}_" + x.suffix
		for p := range x.counts {
			*x.to = p
			kind, _, _ := rules.Names.Problem()
			if p != rule && (kind != "" || !strings.Contains(p, "{table}") && !rules.PerTable[engine]) {
				delete(x.counts, p)
			}
		}
		p := most(x.counts)
		if *x.to = ""; p != "" && x.counts[p] > x.counts[rule] {
			*x.to = p
			set("naming", x.key, p)
		}
	}
}

// patternOf is the pattern by which a name was made of a table and columns, if any are given; "" where
// none is seen.
func patternOf(name, table string, columns []string, target string) string {
	joined := strings.Join(columns, "_")
	if slices.Contains(columns, "") || strings.ContainsAny(name, "{}") {
		return ""
	}
	p := name
	for _, n := range [][2]string{{joined, "{columns}"}, {table, "{table}"}, {target, "{target}"}} {
		at := wholeWord(p, n[0])
		if at < 0 && n[0] == joined && joined != "" {
			return ""
		}
		if at >= 0 {
			p = p[:at] + n[1] + p[at+len(n[0]):]
		}
	}
	return p
}

// wholeWord is where a name has a word in it with no letter or digit beside it; -1: nowhere.
func wholeWord(name, word string) int {
	part := func(b byte) bool {
		return b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80 || b == '{' || b == '}'
	}
	for from := 0; word != ""; from++ {
		i := strings.Index(name[from:], word)
		if i < 0 {
			break
		}
		from += i
		end := from + len(word)
		if (from == 0 || !part(name[from-1])) && (end == len(name) || !part(name[end])) {
			return from
		}
	}
	return -1
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
