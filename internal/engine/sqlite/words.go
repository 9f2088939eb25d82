package sqlite

// This file writes SQLite's words: names, literals, and the statements that
// make tables, indexes and triggers from schema values.

import (
	"fmt"
	"strings"
	"sync"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// quote gives a name as SQL: bare where it can stand so, else in double quotes.
func quote(name string) string {
	if plainName(name) && strings.ToLower(name) == name && !reservedWords()[name] && name[0] < 0x80 && asciiOnly(name) {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

func asciiOnly(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

func quoteAll(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
	}
	return strings.Join(out, ", ")
}

// collate gives a collation's name, which is written in capitals.
func collate(name string) string {
	if plainName(name) && asciiOnly(name) && !reservedWords()[strings.ToLower(name)] {
		return name
	}
	return quote(name)
}

// literal gives a text as SQL.
func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// reserved are SQLite's keywords: all are quoted, also those that need not be.
var reservedWords = sync.OnceValue(func() map[string]bool {
	m := map[string]bool{}
	for w := range strings.FieldsSeq(`abort action add after all alter always analyze and as asc attach autoincrement before begin between by cascade case cast check collate column commit conflict constraint create cross current current_date current_time current_timestamp database default deferrable deferred delete desc detach distinct do drop each else end escape except exclude exclusive exists explain fail filter first following for foreign from full generated glob group groups having if ignore immediate in index indexed initially inner insert instead intersect into is isnull join key last left like limit match materialized natural no not nothing notnull null nulls of offset on or order others outer over partition plan pragma preceding primary query raise range recursive references regexp reindex release rename replace restrict returning right rollback row rows savepoint select set table temp temporary then ties to transaction trigger unbounded union unique update using vacuum values view virtual when where window with without true false rowid oid _rowid_ stored strict`) {
		m[w] = true
	}
	return m
})

// sqlType gives a stored type as SQL. A type that anyone wrote is quoted where
// it would not be read back the same.
func sqlType(typ string) string {
	name, args, _ := strings.Cut(typ, "(")
	words := strings.Fields(name)
	for i, w := range words {
		if !plainName(w) || columnConstraintWords[strings.ToUpper(w)] || constraintStart[strings.ToUpper(w)] {
			words[i] = `"` + strings.ReplaceAll(w, `"`, `""`) + `"`
		}
	}
	out := strings.Join(words, " ")
	if args != "" {
		out += "(" + args
	}
	return out
}

var constraintStart = map[string]bool{
	"CONSTRAINT": true, "PRIMARY": true, "UNIQUE": true, "CHECK": true, "FOREIGN": true,
}

// createTable gives the statement that makes the table with another name or
// its own, without indexes and triggers: the very one that made it, where that is known.
func createTable(t *sqlschema.Table, name string) string {
	if name == t.Name && (madeBy(t) || virtualBy(t)) {
		return t.Text
	}
	return tableText(t, name)
}

// madeBy tells whether a table is as the statement has it that made it.
func madeBy(t *sqlschema.Table) bool {
	if t.Text == "" || strings.Contains(t.Text, "-- :") { // which would be a line of ours
		return false
	}
	list := tokens(t.Text)
	if len(list) < 4 || !list[1].Is("TABLE") || list[2].Name() != t.Name {
		return false
	}
	made, err := parseTable(t.Name, t.Text)
	if err != nil || len(made.ForeignKeys) != len(t.ForeignKeys) {
		return false
	}
	for i, k := range made.ForeignKeys {
		if len(k.References) == 0 && strings.EqualFold(k.Table, t.ForeignKeys[i].Table) {
			k.References = t.ForeignKeys[i].References
		}
	}
	return tableText(made, t.Name) == tableText(t, t.Name)
}

// tableText is a table in our words.
func tableText(t *sqlschema.Table, name string) string {
	if t.Options.Virtual != "" {
		return "CREATE VIRTUAL TABLE " + quote(name) + " USING " + t.Options.Virtual
	}
	var items []string
	for _, c := range t.Columns {
		items = append(items, columnDefinition(t, c))
	}
	if pk := t.PrimaryKey; pk != nil && !inlineKey(t) {
		s := named(pk.Name) + "PRIMARY KEY (" + partList(pk.Columns) + ")"
		items = append(items, s+conflict(pk.Conflict))
	}
	for _, x := range t.Indexes {
		if x.Constraint {
			items = append(items, named(x.Name)+"UNIQUE ("+partList(x.Parts)+")"+conflict(x.Conflict))
		}
	}
	for _, k := range t.ForeignKeys {
		if len(k.Columns) != 1 {
			items = append(items, named(k.Name)+"FOREIGN KEY ("+quoteAll(k.Columns)+") "+references(k))
		}
	}
	for _, c := range t.Checks {
		if c.Column == "" || t.Column(c.Column) == nil {
			items = append(items, named(c.Name)+"CHECK ("+c.SQL.Text+")"+conflict(c.Conflict))
		}
	}
	s := "CREATE TABLE " + quote(name) + " (\n    " + strings.Join(items, ",\n    ") + "\n)"
	var options []string
	if t.Options.Strict {
		options = append(options, "STRICT")
	}
	if t.Options.WithoutRowid {
		options = append(options, "WITHOUT ROWID")
	}
	if len(options) > 0 {
		s += " " + strings.Join(options, ", ")
	}
	return s
}

// inlineKey tells whether the primary key stands with its column: a key of one
// column must for AUTOINCREMENT, and may else.
func inlineKey(t *sqlschema.Table) bool {
	return t.PrimaryKey != nil && len(t.PrimaryKey.Columns) == 1 && t.PrimaryKey.Columns[0].Collation == "" &&
		t.Column(t.PrimaryKey.Columns[0].Column) != nil
}

func named(name string) string {
	if name == "" {
		return ""
	}
	return "CONSTRAINT " + quote(name) + " "
}

func conflict(c string) string {
	if c == "" {
		return ""
	}
	return " ON CONFLICT " + c
}

// columnDefinition gives a column with all that stands with it.
func columnDefinition(t *sqlschema.Table, c *sqlschema.Column) string {
	s := quote(c.Name)
	if c.SQLType != "" {
		s += " " + sqlType(c.SQLType)
	}
	if pk := t.PrimaryKey; inlineKey(t) && strings.EqualFold(pk.Columns[0].Column, c.Name) {
		s += " " + named(pk.Name) + "PRIMARY KEY"
		if pk.Columns[0].Desc {
			s += " DESC"
		}
		s += conflict(pk.Conflict)
		if pk.Autoincrement {
			s += " AUTOINCREMENT"
		}
	}
	if c.NotNull {
		s += " NOT NULL" + conflict(c.Conflict)
	}
	if c.Default != nil {
		s += " DEFAULT " + c.Default.Text
	}
	if c.Collation != "" {
		s += " COLLATE " + collate(c.Collation)
	}
	if g := c.Generated; g != nil {
		s += " GENERATED ALWAYS AS (" + g.SQL.Text + ")"
		if g.Stored {
			s += " STORED"
		} else {
			s += " VIRTUAL"
		}
	}
	for _, k := range t.ForeignKeys {
		if len(k.Columns) == 1 && strings.EqualFold(k.Columns[0], c.Name) {
			s += " " + named(k.Name) + references(k)
		}
	}
	for _, k := range t.Checks {
		if k.Column != "" && strings.EqualFold(k.Column, c.Name) {
			s += "\n        " + named(k.Name) + "CHECK (" + k.SQL.Text + ")" + conflict(k.Conflict)
		}
	}
	return s
}

func references(k *sqlschema.ForeignKey) string {
	s := "REFERENCES " + quote(k.Table)
	if len(k.References) > 0 {
		s += " (" + quoteAll(k.References) + ")"
	}
	if k.Match != "" {
		s += " MATCH " + k.Match
	}
	if k.OnDelete != schema.NoAction && k.OnDelete != "" {
		s += " ON DELETE " + string(k.OnDelete)
	}
	if k.OnUpdate != schema.NoAction && k.OnUpdate != "" {
		s += " ON UPDATE " + string(k.OnUpdate)
	}
	if k.Deferrable != "" {
		s += " " + k.Deferrable
	}
	return s
}

func partList(parts []sqlschema.Part) string {
	out := make([]string, len(parts))
	for i, p := range parts {
		s := quote(p.Column)
		if p.Expr != nil {
			s = p.Expr.Text
		}
		if p.Collation != "" {
			s += " COLLATE " + collate(p.Collation)
		}
		if p.Desc {
			s += " DESC"
		}
		out[i] = s
	}
	return strings.Join(out, ", ")
}

func createIndex(table string, x *sqlschema.Index) string {
	s := "CREATE "
	if x.Unique {
		s += "UNIQUE "
	}
	s += fmt.Sprintf("INDEX %s ON %s (%s)", quote(x.Name), quote(table), partList(x.Parts))
	if x.Where != nil {
		s += " WHERE " + x.Where.Text
	}
	return s
}

func dropIndex(x *sqlschema.Index) string     { return "DROP INDEX " + quote(x.Name) }
func dropTrigger(g *sqlschema.Trigger) string { return "DROP TRIGGER " + quote(g.Name) }

func renameTable(from, to string) string {
	return "ALTER TABLE " + quote(from) + " RENAME TO " + quote(to)
}

// tableStatements make a table with its indexes and triggers.
func tableStatements(t *sqlschema.Table) []string {
	return append(append([]string{createTable(t, t.Name)}, indexed(t)...), dependents(t)...)
}

// dependents are the statements for a table's indexes and triggers.
func dependents(t *sqlschema.Table) []string {
	var out []string
	for _, x := range t.Indexes {
		if !x.Constraint {
			out = append(out, createIndex(t.Name, x))
		}
	}
	for _, g := range t.Triggers {
		out = append(out, g.SQL.Text)
	}
	return out
}

// rowidName is the name by which the row number of the table can be asked for;
// "" where it has none, or none that a column does not hide.
func rowidName(t *sqlschema.Table) string {
	if t.Options.WithoutRowid || t.Options.Virtual != "" {
		return ""
	}
	for _, name := range []string{"rowid", "_rowid_", "oid"} {
		if t.Column(name) == nil {
			return name
		}
	}
	return ""
}

// rowidKey is the column that is another name for the row number, or "".
func rowidKey(t *sqlschema.Table) string {
	if t.PrimaryKey == nil || len(t.PrimaryKey.Columns) != 1 || t.PrimaryKey.Columns[0].Desc && inlineKey(t) ||
		t.Options.WithoutRowid {
		return ""
	}
	c := t.Column(t.PrimaryKey.Columns[0].Column)
	if c == nil || !strings.EqualFold(c.SQLType, "INTEGER") {
		return ""
	}
	return c.Name
}

// SameValue is the condition that two values are the same to an index.
func (Engine) SameValue(p sqlschema.Part, _ *sqlschema.Column, a, b string) string {
	s := a + " = " + b
	if p.Collation != "" {
		s += " COLLATE " + p.Collation
	}
	return s
}
