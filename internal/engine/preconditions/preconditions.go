// Package preconditions writes the queries that tell which rows block a change, over the table
// as it is before it: the old rows are put in the form that they would have, and asked whether
// they break what comes. The SQL is the same on every engine but for a few words, which a
// Dialect gives. Of a column that becomes required:
//
//	{n} rows of boxes have no label
//	SELECT id, label FROM (SELECT id, label FROM boxes) AS q
//	WHERE label IS NULL
package preconditions

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Dialect is what an engine says otherwise than others.
type Dialect struct {
	Quote, QuoteTable func(name string) string
	// RowsOf is the name of a table where its rows have it: without its schema.
	RowsOf func(table string) string
	// Tokens are the names that SQL mentions.
	Tokens func(sql string) []string
	// Source is the value of a column over an old row.
	Source func(from *sqlschema.Table, c *sqlschema.Column, oldName string,
		sources map[string]engine.Source) (sql string, fromRow bool)
	Convert func(from, to *sqlschema.Column) (engine.Conversion, bool)
	// Typed is an expression that says its type.
	Typed func(sql string, c *sqlschema.Column) string
	// Differs is the condition that two values differ, nulls being alike.
	Differs func(a, b string, c *sqlschema.Column) string
	// RowName is what tells the rows of a table without a key apart; "": nothing.
	RowName func(t *sqlschema.Table) string
	// Given tells whether the database gives the column a value by itself.
	Given func(t *sqlschema.Table, c *sqlschema.Column) bool
	// Group is a part of an index as it tells values apart.
	Group func(p sqlschema.Part) string
	// Many stands behind SELECT of a query that groups every row of a table; "": nothing.
	Many string
	// Only tells whether a generated column only says which rows an index counts; nil: none does.
	Only func(c *sqlschema.Column) bool
}

// tells is whether a generated column that is part of an index stands for no other, but
// tells which rows the index counts.
func (d Dialect) tells(c *sqlschema.Column) bool { return d.Only != nil && d.Only(c) }

// Here are what is asked again just before a step that changes values, and before its undo.
type Here struct{ Apply, Undo []engine.Requirement }

// Both are what the rows of a table must fulfil before an alteration and before its undo, and
// what of it is asked again at the steps that change values, under their lock: rows come in
// between. Of rows that a step before has taken out, the column that told them may be gone
// then.
func (d Dialect) Both(a engine.Alteration) (out engine.Change, here Here) {
	before := func(table string) engine.Parent { return a.Parent(table, false) }
	after := func(table string) engine.Parent { return a.Parent(table, true) }
	out.BeforeApply = d.Rows(a.From, a.To, a.Forward, a.Only, before)
	out.BeforeUndo = d.Rows(a.To, a.From, a.Back, "", after)
	here = Here{engine.Guards(out.BeforeApply), engine.Guards(out.BeforeUndo)}
	if a.Only != "" {
		here.Apply = engine.Guards(d.Rows(a.From, a.To, a.Forward, "", before))
	}
	return out, here
}

// Rows are what the rows of from must fulfil to become rows of to; only
// tells which rows stay until then.
func (d Dialect) Rows(from, to *sqlschema.Table, sources map[string]engine.Source, only string,
	parent func(string) engine.Parent) []engine.Requirement {
	if from.Options.Virtual != "" { // nobody knows what it holds
		return nil
	}
	p := projection{Dialect: d, from: from, to: to, sources: sources, only: only}
	var out []engine.Requirement
	for _, c := range to.Columns {
		out = append(out, p.ofColumn(c)...)
	}
	out = slices.Concat(out, p.ofChecks(), p.ofUniques(), p.ofKey(), p.ofReferences(parent))
	for i := range out {
		out[i].Table = to.Name
	}
	return out
}

// ofColumn asks about the values of one column: those that do not convert, do not fit, would not
// come back, or are missing.
func (p projection) ofColumn(c *sqlschema.Column) (out []engine.Requirement) {
	old := p.from.Column(c.Name)
	if c.Generated != nil {
		return nil
	}
	if old != nil && p.sources[c.Name].Unconvertible {
		shown := slices.Clone(p.from.Key())
		if !slices.Contains(shown, old.Name) {
			shown = append(shown, old.Name)
		}
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} values of %s.%s cannot be converted to the declared type in a single way",
				p.to.Name, c.Name), About: c.Name, Guards: true,
			Query: fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL", p.list(shown), p.rows(),
				p.Quote(old.Name)),
		})
	}
	if q, typ := p.unfit(c); q != "" {
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} values of %s.%s do not fit %s", p.to.Name, c.Name, typ),
			About:    c.Name,
			Guards:   true,
			Query:    q,
		})
	}
	if q := p.lossy(c); q != "" {
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} values of %s.%s would be changed by the undo from %s", p.to.Name, c.Name,
				c.SQLType),
			About:  c.Name,
			Guards: true,
			Query:  q,
		})
	}
	if c.NotNull && (old == nil || !old.NotNull || p.changed(c)) && p.sourced(c) && !p.sources[c.Name].Constant &&
		!(p.kept(c.Name) && (c.Default != nil || p.sources[c.Name].Literal)) {
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} rows of %s have no %s", p.to.Name, c.Name),
			About:    c.Name,
			Lacks:    true,
			Query:    p.query([]string{c.Name}, p.Quote(c.Name)+" IS NULL"),
		})
	}
	if c.NotNull && c.Default == nil && !p.sourced(c) && !p.Given(p.to, c) {
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} rows of %s would have no %s", p.to.Name, c.Name),
			About:    c.Name,
			Lacks:    true,
			Query:    p.query(nil, "true"),
		})
	}
	return out
}

// ofChecks asks about rows that a check would refuse.
func (p projection) ofChecks() (out []engine.Requirement) {
	for _, k := range p.to.Checks {
		used := p.used(k.SQL.Text)
		if !p.concerned(used) && p.from.HasCheck(k) || !p.anySourced(used) {
			continue
		}
		if !slices.ContainsFunc(used, func(n string) bool { return !p.kept(n) }) {
			continue // values that were kept fulfilled it before, constants are tried in the proof
		}
		if len(used) == 1 && k.Purpose != "" && p.from.HasCheck(k) &&
			(p.sources[used[0]].Constant || p.sources[used[0]].NullsIn != "") && !p.sources[used[0]].Converts {
			continue // the other values fulfil it already, and so do the constant and null
		}
		out = append(out, engine.Requirement{
			Sentence: checkSentence(p.to, k),
			About:    k.Column,
			Query:    p.query(used, "NOT ("+k.SQL.Text+")"),
		})
	}
	return out
}

// ofUniques asks about values that are no longer unique.
func (p projection) ofUniques() (out []engine.Requirement) {
	for _, x := range p.to.Indexes {
		if !x.Unique {
			continue
		}
		names, parts := p.bases(sqlschema.Names(x.Parts)), len(sqlschema.Names(x.Parts))
		same := slices.ContainsFunc(p.from.Indexes, func(o *sqlschema.Index) bool { return sqlschema.SameIndex(o, x) })
		null := slices.ContainsFunc(p.told(x),
			func(n string) bool { c := p.to.Column(n); return c != nil && !p.sourced(c) && c.Default == nil })
		implied := slices.ContainsFunc(p.from.Indexes, func(o *sqlschema.Index) bool { // it was unique among more rows
			whole := o.Where == nil && (x.Where != nil || len(o.Parts) < len(x.Parts))
			return o.Unique && whole && len(o.Parts) <= len(x.Parts) &&
				slices.EqualFunc(o.Parts, x.Parts[:len(o.Parts)], sqlschema.SamePart)
		})
		if (same || implied) && !p.concerned(names) || parts != len(x.Parts) || null {
			continue
		}
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} values of %s.%s occur in more than one row", p.to.Name,
				strings.Join(p.told(x), ", ")),
			Query:   p.duplicates(x),
			Among:   p.from.Name,
			Repeats: p.told(x),
			Folded:  p.folded(x),
		})
	}
	return out
}

// ofKey asks about rows that a primary key would not tell apart.
func (p projection) ofKey() (out []engine.Requirement) {
	if names := p.to.Key(); len(names) > 0 &&
		(!sqlschema.SameKey(p.from.PrimaryKey, p.to.PrimaryKey) || p.concerned(names)) &&
		p.allSourced(names) {
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} values of %s.%s occur in more than one row and cannot be its primary key",
				p.to.Name, strings.Join(names, ", ")),
			Query:   p.duplicates(&sqlschema.Index{Parts: p.to.PrimaryKey.Columns}),
			Among:   p.from.Name,
			Repeats: names,
		})
	}
	return out
}

// ofReferences asks about rows that refer to nothing.
func (p projection) ofReferences(parent func(string) engine.Parent) (out []engine.Requirement) {
	for _, k := range p.to.ForeignKeys {
		same := slices.ContainsFunc(p.from.ForeignKeys, func(o *sqlschema.ForeignKey) bool {
			return slices.Equal(o.Columns, k.Columns) && strings.EqualFold(o.Table, k.Table) &&
				slices.Equal(o.References, k.References)
		})
		if same && !p.concerned(k.Columns) || !p.allSourced(k.Columns) || parent(k.Table) == engine.ParentUnknown ||
			len(k.References) != len(k.Columns) {
			continue
		}
		var there, match []string
		for i, c := range k.Columns {
			there = append(there, p.Quote(c)+" IS NOT NULL")
			match = append(match, fmt.Sprintf("parent.%s = q.%s", p.Quote(k.References[i]), p.Quote(c)))
		}
		if parent(k.Table) == engine.ParentNew {
			out = append(out, engine.Requirement{
				Sentence: fmt.Sprintf("{n} rows of %s refer to no row of %s", p.to.Name, k.Table),
				Query:    p.query(k.Columns, strings.Join(there, " AND ")),
			})
			continue
		}
		where := fmt.Sprintf("%s AND NOT EXISTS (SELECT 1 FROM %s AS parent WHERE %s)", strings.Join(there, " AND "),
			p.QuoteTable(k.Table), strings.Join(match, " AND "))
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} rows of %s refer to no row of %s", p.to.Name, k.Table),
			Query:    p.query(k.Columns, where),
		})
	}
	return out
}

func checkSentence(t *sqlschema.Table, k *sqlschema.Check) string {
	switch k.Purpose {
	case schema.ForType, schema.ForSoftDelete:
		return fmt.Sprintf("{n} values of %s.%s do not fit %s", t.Name, k.Column, t.Column(k.Column).SQLType)
	case schema.ForNonblank:
		return fmt.Sprintf("{n} values of %s.%s are blank", t.Name, k.Column)
	case schema.ForChoice:
		return fmt.Sprintf("{n} values of %s.%s are not among the choices", t.Name, k.Column)
	case schema.ForRange:
		return fmt.Sprintf("{n} values of %s.%s are out of range", t.Name, k.Column)
	}
	if k.Name != "" {
		return fmt.Sprintf("{n} rows of %s break the check %s", t.Name, k.Name)
	}
	return fmt.Sprintf("{n} rows of %s break the check %s", t.Name, strings.Join(strings.Fields(k.SQL.Text), " "))
}

// projection is the rows of from in the form of to.
type projection struct {
	Dialect
	from, to *sqlschema.Table
	sources  map[string]engine.Source
	only     string // the rows that are asked about; empty: all
}

// rows is what the rows are selected from.
func (p projection) rows() string {
	name := p.QuoteTable(p.from.Name)
	if p.only == "" || p.from.Unkeyed() {
		return name
	}
	return fmt.Sprintf("(SELECT * FROM %s WHERE %s) AS %s", name, p.only, p.RowsOf(p.from.Name))
}

// expr is the value of a column of to over a row of from.
func (p projection) expr(c *sqlschema.Column) string {
	if e, ok := p.Source(p.from, c, p.from.Name, p.sources); ok {
		src := p.sources[c.Name]
		switch {
		case src.SQL != "":
			return p.Typed("("+e+")", c)
		case src.Kept != "" || src.Unconvertible:
			return p.Typed(e, c)
		}
		return e
	}
	if c.Default != nil {
		return p.Typed(c.Default.Text, c)
	}
	return p.Typed("NULL", c)
}

// sourced tells whether the column's value comes from the old row, rather than
// from its default.
func (p projection) sourced(c *sqlschema.Column) bool {
	_, ok := p.Source(p.from, c, p.from.Name, p.sources)
	return ok
}

// reworked tells whether a column that has values of its own in from is generated in to.
func (p projection) reworked(c *sqlschema.Column) bool {
	return c.Generated != nil && p.from.Column(c.Name) != nil && p.from.Column(c.Name).Generated == nil
}

// formed selects columns of to, and others by their names in from, from every row. What
// only to generates is generated from the values that the others have in to.
func (p projection) formed(others, columns []string) string {
	seen := map[string]bool{}
	var inner []string
	var worked []*sqlschema.Column
	var add func(n string)
	add = func(n string) {
		if seen[n] {
			return
		}
		seen[n] = true
		c := p.to.Column(n)
		if p.reworked(c) {
			for _, u := range p.used(c.Generated.SQL.Text) {
				add(u)
			}
			worked = append(worked, c)
			return
		}
		e := p.expr(c)
		if e != p.Quote(n) {
			e += " AS " + p.Quote(n)
		}
		inner = append(inner, e)
	}
	for _, n := range columns {
		add(n)
	}
	others = slices.DeleteFunc(slices.Clone(others), func(n string) bool { return seen[n] })
	for i, n := range others {
		others[i] = p.bare(n)
	}
	sql := fmt.Sprintf("SELECT %s FROM %s", strings.Join(append(others, inner...), ", "), p.rows())
	for _, c := range worked {
		sql = fmt.Sprintf("SELECT q.*, (%s) AS %s FROM (%s) AS q", c.Generated.SQL.Text, p.Quote(c.Name), sql)
	}
	return sql
}

// kept tells whether the column's value is one that was kept, or a constant that
// was given for it.
func (p projection) kept(column string) bool {
	return p.sources[column].Kept != "" || p.sources[column].Literal
}

func (p projection) anySourced(columns []string) bool {
	return slices.ContainsFunc(columns, func(n string) bool { c := p.to.Column(n); return c != nil && p.sourced(c) })
}

func (p projection) allSourced(columns []string) bool {
	return !slices.ContainsFunc(columns, func(n string) bool { c := p.to.Column(n); return c == nil || !p.sourced(c) })
}

// changed tells whether a column's values are not simply those it had.
func (p projection) changed(c *sqlschema.Column) bool {
	old := p.from.Column(c.Name)
	if old == nil || !strings.EqualFold(old.SQLType, c.SQLType) {
		return true
	}
	_, ok := p.sources[c.Name]
	return ok
}

func (p projection) concerned(columns []string) bool {
	return slices.ContainsFunc(columns, func(n string) bool { c := p.to.Column(n); return c != nil && p.changed(c) })
}

// used are the columns of to that SQL mentions.
func (p projection) used(sql string) []string {
	var out []string
	for _, n := range p.Tokens(sql) {
		if c := p.to.Column(n); c != nil && !slices.Contains(out, c.Name) {
			out = append(out, c.Name)
		}
	}
	return out
}

// list quotes names.
func (p projection) list(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = p.Quote(n)
	}
	return strings.Join(out, ", ")
}

// unfit selects the rows whose value the new type of a column would refuse; ""
// where it refuses none.
func (p projection) unfit(c *sqlschema.Column) (query, typ string) {
	old := p.from.Column(c.Name)
	src, sourced := p.sources[c.Name]
	if old == nil || strings.EqualFold(old.SQLType, c.SQLType) ||
		sourced && !src.Converts && src.Fill == "" && src.NullsIn == "" {
		return "", ""
	}
	conv, ok := p.Convert(old, c)
	if !ok || conv.Fits == "" {
		return "", ""
	}
	shown := slices.Clone(p.from.Key())
	if !slices.Contains(shown, c.Name) {
		shown = append(shown, c.Name)
	}
	where := fmt.Sprintf("%s IS NOT NULL AND NOT (%s)", p.Quote(c.Name), conv.Fits)
	if src.NullsIn != "" { // what was filled becomes null again and is not converted
		src.SQL = "1"
		filled, _ := p.Source(p.from, c, p.from.Name, map[string]engine.Source{c.Name: src})
		where += " AND " + filled + " IS NOT NULL"
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", p.list(shown), p.rows(), where), c.SQLType
}

// bases are columns, and in the place of generated ones those they are worked out from.
func (p projection) bases(columns []string) []string {
	var out []string
	add := func(n string) {
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	for _, n := range columns {
		if c := p.to.Column(n); c != nil && c.Generated != nil && c.Invisible {
			for _, u := range p.used(c.Generated.SQL.Text) {
				add(u)
			}
			continue
		}
		add(n)
	}
	return out
}

// told are the columns of an index as people know them: in the place of one that stands
// for another, that; without one that only tells which rows count.
func (p projection) told(x *sqlschema.Index) []string {
	var out []string
	for _, n := range sqlschema.Names(x.Parts) {
		if c := p.to.Column(n); c != nil && c.Generated != nil && c.Invisible {
			if p.tells(c) {
				continue
			}
			out = append(out, p.used(c.Generated.SQL.Text)...)
			continue
		}
		out = append(out, n)
	}
	return out
}

// query selects, by key and the columns asked about, the rows that fulfil where
// once they are in the form of to.
func (p projection) query(columns []string, where string) string {
	shown := slices.Clone(p.from.Key())
	if shown == nil {
		if name := p.RowName(p.from); name != "" {
			shown = []string{name}
		}
	}
	if len(shown)+len(columns) == 0 {
		return fmt.Sprintf("SELECT * FROM %s\nWHERE %s", p.rows(), where)
	}
	list := slices.Clone(shown)
	for _, n := range columns {
		if !slices.Contains(list, n) {
			list = append(list, n)
		}
	}
	return fmt.Sprintf("SELECT %s FROM (%s) AS q\nWHERE %s", p.bareList(list), p.formed(shown, columns), where)
}

// bare is a column's or the row number's name; the latter is never quoted.
func (p projection) bare(name string) string {
	if p.from.Column(name) == nil {
		return name
	}
	return p.Quote(name)
}

func (p projection) bareList(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = p.Quote(n)
		if n == "rowid" || n == "_rowid_" || n == "oid" {
			out[i] = n
		}
	}
	return strings.Join(out, ", ")
}

// folded tells whether case does not count for a unique index.
func (p projection) folded(x *sqlschema.Index) bool {
	return slices.ContainsFunc(x.Parts, func(part sqlschema.Part) bool {
		c := p.to.Column(part.Column)
		return part.Collation != "" || c != nil && c.Generated != nil && c.Invisible && !p.tells(c)
	})
}

// duplicates selects the values of a unique index that more than one row has.
func (p projection) duplicates(x *sqlschema.Index) string {
	used := p.bases(sqlschema.Names(x.Parts))
	hidden := func(n string) *sqlschema.Column {
		if c := p.to.Column(n); c != nil && c.Generated != nil && c.Invisible {
			return c
		}
		return nil
	}
	var where []string
	for _, n := range sqlschema.Names(x.Parts) {
		if c := hidden(n); c != nil {
			where = append(where, "("+c.Generated.SQL.Text+") IS NOT NULL")
			continue
		}
		where = append(where, p.Quote(n)+" IS NOT NULL")
	}
	if x.Where != nil {
		for _, n := range p.used(x.Where.Text) {
			if !slices.Contains(used, n) {
				used = append(used, n)
			}
		}
		where = append(where, "("+x.Where.Text+")")
	}
	var group []string
	var shown []string
	for _, part := range x.Parts {
		name := p.Quote(part.Column)
		if c := hidden(part.Column); c != nil { // it stands for another, or tells which rows count
			if p.tells(c) {
				continue
			}
			group = append(group, c.Generated.SQL.Text)
			for _, n := range p.used(c.Generated.SQL.Text) {
				shown = append(shown, "min("+p.Quote(n)+") AS "+p.Quote(n))
			}
			continue
		}
		group = append(group, p.Group(part))
		if part.Collation != "" { // of several spellings, one
			name = "min(" + name + ") AS " + name
		}
		shown = append(shown, name)
	}
	return fmt.Sprintf("SELECT %s%s, count(*) AS %s FROM (%s) AS q\nWHERE %s GROUP BY %s HAVING count(*) > 1", p.Many,
		strings.Join(shown, ", "), p.Quote("rows"), p.formed(nil, used), strings.Join(where, " AND "),
		strings.Join(group, ", "))
}

// lossy selects the rows whose value would not come back the same from a
// conversion; "" where none can be.
func (p projection) lossy(c *sqlschema.Column) string {
	old := p.from.Column(c.Name)
	src, sourced := p.sources[c.Name]
	if old == nil || !sourced || !src.Converts {
		return ""
	}
	const value = "erbario_value" // stands for the column where a short name may be a part of others
	there, here := *c, *old
	there.Name, here.Name = value, value
	back, ok := p.Convert(&there, &here)
	if conv, _ := p.Convert(old, c); !ok || conv.Exact {
		return ""
	}
	name := p.Quote(c.Name)
	// The converted value, converted back, against the old one.
	converted := "(" + src.SQL + ")"
	if back.SQL != "" {
		converted = strings.ReplaceAll(back.SQL, p.Quote(value), "("+src.SQL+")")
	}
	shown := slices.Clone(p.from.Key())
	if !slices.Contains(shown, c.Name) {
		shown = append(shown, c.Name)
	}
	where := fmt.Sprintf("%s IS NOT NULL AND %s", name, p.Differs(converted, name, old))
	if src.NullsIn != "" { // what was filled becomes null again and is not converted
		where += " AND " + p.expr(c) + " IS NOT NULL"
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", p.list(shown), p.rows(), where)
}
