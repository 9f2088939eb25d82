package declare

// This file makes the names of tables, columns and constraints. They follow
// the project's naming rules and are the same on every engine.

import (
	"cmp"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// Rules are a project's naming rules.
type Rules struct {
	Tables string // "plural" (or empty) or "singular"
	Key    string // what an implied id is: "number" (or empty) or "uuid"
	// Timestamps gives every model its timestamps that does not say that it has none.
	Timestamps bool
	// Unchecked has no check hold values to their types, unless an engine's own type needs it.
	Unchecked bool
	// Reference is the name of a reference's column, with {field} and {key} in it; empty:
	// {field}_{key}.
	Reference string
	// Names are those of constraints and indexes.
	Names Names
	// OnDelete and OnUpdate are what references do that do not say it; empty: restrict.
	OnDelete, OnUpdate schema.Action
	// Collation is that of texts, by engine, where a model says none.
	Collation map[string]string
	// PerTable are the engines on which only indexes of one table need different names.
	PerTable map[string]bool
	// Schemas are the engines whose databases have several.
	Schemas map[string]bool
	// Engines are the words that may stand behind "on"; none: any may.
	Engines []string
}

// Names are patterns for the names of constraints and indexes that a model does not name, with
// {table} and {columns} in them; an empty one is {table}_{columns}, and a word for what it is.
type Names struct {
	ForeignKey string // also with {target}, the table referred to
	Unique     string
	Index      string
	Check      string // of checks without a name of their own
	PrimaryKey string // has no {columns}
}

// named is a name by a pattern, or by the rule where there is none.
func named(pattern, table string, columns []string, target, suffix string) string {
	if pattern == "" {
		return schema.ConstraintName(table, columns, suffix)
	}
	return schema.Cut(strings.NewReplacer("{table}", table, "{columns}", strings.Join(columns, "_"),
		"{target}", target).Replace(pattern))
}

// ForeignKeyName is the name of a reference of a table to another, target.
func (n Names) ForeignKeyName(table string, columns []string, target string) string {
	return named(n.ForeignKey, table, columns, target, "fkey")
}

// IndexName is the name of an index, or of a uniqueness.
func (n Names) IndexName(table string, columns []string, unique bool) string {
	if unique {
		return named(n.Unique, table, columns, "", "key")
	}
	return named(n.Index, table, columns, "", "idx")
}

// PrimaryKeyName is the name of a primary key, where there is a pattern for it; else "".
func (n Names) PrimaryKeyName(table string) string {
	if n.PrimaryKey == "" {
		return ""
	}
	return named(n.PrimaryKey, table, nil, "", "")
}

// Problem says what is wrong with a pattern, by its kind: names of one table have to differ, and some
// those of all tables. kind is "" where nothing is.
func (n Names) Problem() (kind, pattern, needs string) {
	for _, p := range []struct {
		kind, pattern string
		needs         []string
	}{
		{"foreign_key", n.ForeignKey, []string{"{table}", "{columns}"}}, {"unique", n.Unique, []string{"{columns}"}},
		{"index", n.Index, []string{"{columns}"}}, {"check", n.Check, []string{"{table}"}},
		{"primary_key", n.PrimaryKey, []string{"{table}"}},
	} {
		for _, s := range p.needs {
			if p.pattern != "" && !strings.Contains(p.pattern, s) {
				return p.kind, p.pattern, s
			}
		}
	}
	return "", "", ""
}

// ReferenceColumn is the name of the column of a reference.
func (r Rules) ReferenceColumn(field, key string) string {
	pattern := cmp.Or(r.Reference, "{field}_{key}")
	return strings.NewReplacer("{field}", field, "{key}", key).Replace(pattern)
}

// TableName is the name of a model's table.
func (r Rules) TableName(model string) string { return schema.Cut(r.tableName(model)) }

// ReferenceField is the field of whose reference a column is, by its name; "": none is.
func (r Rules) ReferenceField(column, key string) string {
	before, after, _ := strings.Cut(cmp.Or(r.Reference, "{field}_{key}"), "{field}")
	after = strings.ReplaceAll(after, "{key}", key)
	field, ok := strings.CutSuffix(strings.TrimPrefix(column, before), after)
	if !ok || field == "" || r.ReferenceColumn(field, key) != column {
		return ""
	}
	return field
}

// tableName turns a model's name into its table's.
func (r Rules) tableName(model string) string {
	snake := SnakeCase(model)
	if r.Tables == "singular" {
		return snake
	}
	return Plural(snake)
}

// Plural is the regular English plural of a word's end: a rule that a reader
// can foretell. A model that wants a learned plural writes table "taxa". The
// libraries for it load tables for longer than all the rest of the program takes
// to start.
func Plural(word string) string {
	i := strings.LastIndexByte(word, '_') + 1
	head, last := word[:i], word[i:]
	if p, ok := irregular[last]; ok {
		return head + p
	}
	n := len(last)
	switch {
	case n == 0:
		return word
	case strings.HasSuffix(last, "s"),
		strings.HasSuffix(last, "x"),
		strings.HasSuffix(last, "z"),
		strings.HasSuffix(last, "ch"),
		strings.HasSuffix(last, "sh"):
		return word + "es"
	case n > 1 && last[n-1] == 'y' && !strings.ContainsRune("aeiou", rune(last[n-2])):
		return word[:len(word)-1] + "ies"
	}
	return word + "s"
}

// Singular is a word of which Plural makes the one given, or that itself where none is found.
func Singular(word string) string {
	for one, many := range irregular {
		if strings.EqualFold(many, word) {
			return asCased(one, word)
		}
	}
	lower := strings.ToLower(word)
	for _, try := range [][2]string{{"ies", "y"}, {"es", ""}, {"s", ""}} {
		stem, ok := strings.CutSuffix(lower, try[0])
		if !ok || len(stem) < 2 || Plural(stem+try[1]) != lower || try[0] == "es" && !hisses(stem) {
			continue
		}
		return word[:len(stem)] + try[1]
	}
	return word
}

// hisses tells whether a word's plural most likely ends with es: boxes are of box, and uses of use.
func hisses(word string) bool {
	for _, end := range []string{"x", "z", "ch", "sh", "ss"} {
		if strings.HasSuffix(word, end) {
			return true
		}
	}
	return len(word) > len("bus") && strings.HasSuffix(word, "us")
}

// asCased is a word that begins as another does.
func asCased(s, like string) string {
	if r, _ := utf8.DecodeRuneInString(like); unicode.IsUpper(r) {
		return strings.ToUpper(s[:1]) + s[1:]
	}
	return s
}

// irregular are the common words whose plural is not regular.
var irregular = map[string]string{
	"person": "people", "child": "children", "man": "men", "woman": "women", "foot": "feet", "tooth": "teeth",
	"mouse": "mice", "leaf": "leaves", "shelf": "shelves", "half": "halves",
	"series": "series", "species": "species", "analysis": "analyses", "basis": "bases", "index": "indexes", "datum": "data", "genus": "genera", "data": "data", "information": "information", "equipment": "equipment", "staff": "staff", "news": "news",
}

// SnakeCase puts an underscore before each capital that begins a word: LoanItem
// is loan_item, HTTPHost http_host, Sheet2 sheet2.
func SnakeCase(name string) string {
	list := []rune(name)
	var b strings.Builder
	for i, r := range list {
		if unicode.IsUpper(r) && i > 0 && list[i-1] != '_' &&
			(!unicode.IsUpper(list[i-1]) || i+1 < len(list) && unicode.IsLower(list[i+1])) {
			b.WriteByte('_')
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return b.String()
}

// apart renames indexes whose made-up names collide in the database, each by a
// hash of what it is, so that no name depends on the order of files.
func apart(tables []*schema.Table, given map[*schema.Index]lang.Pos, perTable bool) {
	count := map[string]int{}
	key := func(t *schema.Table, x *schema.Index) string {
		if perTable {
			return strings.ToLower(t.Name + " " + x.Name)
		}
		return strings.ToLower(t.Beside(x.Name))
	}
	for _, t := range tables {
		count[strings.ToLower(t.Name)]++
		for _, x := range t.Indexes {
			count[key(t, x)]++
		}
	}
	for _, t := range tables {
		for _, x := range t.Indexes {
			if _, own := given[x]; count[key(t, x)] > 1 && !own {
				key := fmt.Sprintf("%q %t", t.Name, x.Unique)
				for _, p := range x.Parts {
					folding := ""
					if p.IgnoringCase {
						folding = "ignoring case"
					}
					key += fmt.Sprintf(" %q %t %q", p.Column, p.Desc, folding) + p.SQL
				}
				if x.Where != "" {
					key += " where " + x.Where
				}
				x.Name = schema.Cut(x.Name + "_" + schema.Hash8(key))
			}
		}
	}
}

// perTable tells whether made-up names of indexes have to differ only within their table: by
// patterns that do not have it in them, on an engine that keeps the indexes of each table apart.
func (r Rules) perTable(engine string) bool {
	lacks := func(pattern string) bool { return pattern != "" && !strings.Contains(pattern, "{table}") }
	return r.PerTable[engine] && (lacks(r.Names.Index) || lacks(r.Names.Unique))
}
