package sqlite

// This file writes the queries that tell which rows stand in the way of a
// change, over the table as it is before it: the old rows are put in the form
// that they would have, and asked whether they break what comes.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// requirements are what the rows of from must fulfil to become rows of to.
func requirements(from, to *schema.Table, sources map[string]engine.Source, parent func(string) engine.Parent) []engine.Requirement {
	if from.Options.Virtual != "" {
		return nil
	}
	var out []engine.Requirement
	p := projection{from: from, to: to, sources: sources}
	for _, c := range to.Columns {
		old := from.Column(c.Name)
		if c.Generated != nil {
			continue
		}
		if old != nil && sources[c.Name].Blocks {
			shown := slices.Clone(from.Key())
			if !slices.Contains(shown, old.Name) {
				shown = append(shown, old.Name)
			}
			out = append(out, engine.Requirement{
				Sentence: fmt.Sprintf("{n} rows of %s have a %s with no one way to become what is declared", to.Name, c.Name), About: c.Name,
				Query: fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL", quoteAll(shown), quote(from.Name), quote(old.Name)),
			})
		}
		if q := p.lossy(c); q != "" {
			out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} rows of %s have a %s that does not come back the same from %s", to.Name, c.Name, c.SQLType), About: c.Name, Query: q})
		}
		if c.NotNull && (old == nil || !old.NotNull || p.changed(c)) && p.sourced(c) && !(p.kept(c.Name) && (c.Default != nil || p.sources[c.Name].Literal)) {
			out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} rows of %s have no %s", to.Name, c.Name), About: c.Name, Query: p.query([]string{c.Name}, quote(c.Name)+" IS NULL")})
		}
		if c.NotNull && c.Default == nil && !p.sourced(c) && rowidKey(to) != c.Name {
			out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} rows of %s would have no %s", to.Name, c.Name), About: c.Name, Query: p.query(nil, "true")})
		}
	}
	for _, k := range to.Checks {
		used := p.used(k.SQL.Text)
		if !p.concerned(used) && hasCheck(from, k) || !p.anySourced(used) {
			continue
		}
		if !slices.ContainsFunc(used, func(n string) bool { return !p.kept(n) }) {
			continue // values that were kept fulfilled it before, constants are tried in the proof
		}
		out = append(out, engine.Requirement{Sentence: checkSentence(to, k), About: k.Column, Query: p.query(used, "NOT ("+k.SQL.Text+")")})
	}
	for _, x := range to.Indexes {
		if !x.Unique {
			continue
		}
		names := schema.Names(x.Parts)
		same := slices.ContainsFunc(from.Indexes, func(o *schema.Index) bool { return sameIndex(o, x) })
		null := slices.ContainsFunc(names, func(n string) bool { c := to.Column(n); return c != nil && !p.sourced(c) && c.Default == nil })
		implied := slices.ContainsFunc(from.Indexes, func(o *schema.Index) bool { // it was unique among more rows
			return o.Unique && o.Where == nil && x.Where != nil && slices.EqualFunc(o.Parts, x.Parts, samePart)
		})
		if (same || implied) && !p.concerned(names) || len(names) != len(x.Parts) || null {
			continue
		}
		out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} values of %s.%s stand in more than one row", to.Name, strings.Join(names, ", ")), Query: p.duplicates(x)})
	}
	for _, k := range to.ForeignKeys {
		same := slices.ContainsFunc(from.ForeignKeys, func(o *schema.ForeignKey) bool {
			return slices.Equal(o.Columns, k.Columns) && strings.EqualFold(o.Table, k.Table) && slices.Equal(o.References, k.References)
		})
		if same && !p.concerned(k.Columns) || !p.allSourced(k.Columns) || parent(k.Table) == engine.ParentUnknown || len(k.References) != len(k.Columns) {
			continue
		}
		var there, match []string
		for i, c := range k.Columns {
			there = append(there, quote(c)+" IS NOT NULL")
			match = append(match, fmt.Sprintf("parent.%s = q.%s", quote(k.References[i]), quote(c)))
		}
		if parent(k.Table) == engine.ParentNew {
			out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} rows of %s refer to no row of %s", to.Name, k.Table), Query: p.query(k.Columns, strings.Join(there, " AND "))})
			continue
		}
		where := fmt.Sprintf("%s AND NOT EXISTS (SELECT 1 FROM %s AS parent WHERE %s)", strings.Join(there, " AND "), quote(k.Table), strings.Join(match, " AND "))
		out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} rows of %s refer to no row of %s", to.Name, k.Table), Query: p.query(k.Columns, where)})
	}
	return out
}

// carried is what must hold before a table is copied or dropped: that it has no
// column that the migration does not know. What was added by hand on some other
// database would be gone with the old table. Indexes and triggers are carried
// along (see Step).
func carried(t *schema.Table) engine.Requirement {
	var columns []string
	for _, c := range t.Columns {
		columns = append(columns, literal(strings.ToLower(c.Name)))
	}
	return engine.Requirement{
		Sentence: fmt.Sprintf("{n} columns of %s were added by hand and would be lost", t.Name),
		Query:    fmt.Sprintf("SELECT name FROM pragma_table_xinfo(%s) WHERE lower(name) NOT IN (%s)", literal(t.Name), strings.Join(columns, ", ")),
	}
}

func checkSentence(t *schema.Table, k *schema.Check) string {
	switch k.Purpose {
	case schema.ForType, schema.ForSoftDelete:
		return fmt.Sprintf("{n} rows of %s have a %s that %s does not hold", t.Name, k.Column, t.Column(k.Column).SQLType)
	case schema.ForNonblank:
		return fmt.Sprintf("{n} rows of %s have a blank %s", t.Name, k.Column)
	case schema.ForChoice:
		return fmt.Sprintf("{n} rows of %s have a %s that is none of the choices", t.Name, k.Column)
	case schema.ForRange:
		return fmt.Sprintf("{n} rows of %s have a %s out of range", t.Name, k.Column)
	}
	if k.Name != "" {
		return fmt.Sprintf("{n} rows of %s break the check %s", t.Name, k.Name)
	}
	return fmt.Sprintf("{n} rows of %s break the check %s", t.Name, strings.Join(strings.Fields(k.SQL.Text), " "))
}

// projection is the rows of from in the form of to.
type projection struct {
	from, to *schema.Table
	sources  map[string]engine.Source
}

// expr is the value of a column of to over a row of from.
func (p projection) expr(c *schema.Column) string {
	if e, ok := sourceSQL(p.from, c, p.from.Name, p.sources); ok {
		if src, ok := p.sources[c.Name]; ok && src.SQL != "" {
			return "(" + e + ")"
		}
		return e
	}
	if c.Default != nil {
		return c.Default.Text
	}
	return "NULL"
}

// sourced tells whether the column's value comes from the old row, rather than
// from its default.
func (p projection) sourced(c *schema.Column) bool {
	_, ok := sourceSQL(p.from, c, p.from.Name, p.sources)
	return ok
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
func (p projection) changed(c *schema.Column) bool {
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
	for _, t := range tokens(sql) {
		if !t.named() || t.kind == tokString {
			continue
		}
		if c := p.to.Column(t.name()); c != nil && !slices.Contains(out, c.Name) {
			out = append(out, c.Name)
		}
	}
	return out
}

// query selects, by key and the columns asked about, the rows that fulfil where
// once they are in the form of to.
func (p projection) query(columns []string, where string) string {
	shown := slices.Clone(p.from.Key())
	if shown == nil {
		if name := rowidName(p.from); name != "" {
			shown = []string{name}
		}
	}
	var inner []string
	if len(shown)+len(columns) == 0 {
		return fmt.Sprintf("SELECT * FROM %s\nWHERE %s", quote(p.from.Name), where)
	}
	for _, k := range shown {
		if p.to.Column(k) == nil || !slices.Contains(columns, k) {
			inner = append(inner, p.bare(k))
		}
	}
	list := slices.Clone(shown)
	for _, n := range columns {
		c := p.to.Column(n)
		e := p.expr(c)
		if e != quote(n) {
			e += " AS " + quote(n)
		}
		inner = append(inner, e)
		if !slices.Contains(list, n) {
			list = append(list, n)
		}
	}
	// Generated columns are worked out from those they mention.
	return fmt.Sprintf("SELECT %s FROM (SELECT %s FROM %s) AS q\nWHERE %s", bareList(list), strings.Join(inner, ", "), quote(p.from.Name), where)
}

// bare is a column's or the row number's name; the latter is never quoted.
func (p projection) bare(name string) string {
	if p.from.Column(name) == nil {
		return name
	}
	return quote(name)
}

func bareList(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
		if n == "rowid" || n == "_rowid_" || n == "oid" {
			out[i] = n
		}
	}
	return strings.Join(out, ", ")
}

// duplicates selects the values of a unique index that more than one row has.
func (p projection) duplicates(x *schema.Index) string {
	names := schema.Names(x.Parts)
	used := slices.Clone(names)
	var where []string
	for _, n := range names {
		where = append(where, quote(n)+" IS NOT NULL")
	}
	if x.Where != nil {
		for _, n := range p.used(x.Where.Text) {
			if !slices.Contains(used, n) {
				used = append(used, n)
			}
		}
		where = append(where, "("+x.Where.Text+")")
	}
	var inner, group []string
	for _, n := range used {
		e := p.expr(p.to.Column(n))
		if e != quote(n) {
			e += " AS " + quote(n)
		}
		inner = append(inner, e)
	}
	for _, part := range x.Parts {
		g := quote(part.Column)
		if part.Collation != "" {
			g += " COLLATE " + part.Collation
		}
		group = append(group, g)
	}
	return fmt.Sprintf("SELECT %s, count(*) AS %s FROM (SELECT %s FROM %s) AS q\nWHERE %s GROUP BY %s HAVING count(*) > 1",
		quoteAll(names), quote("rows"), strings.Join(inner, ", "), quote(p.from.Name), strings.Join(where, " AND "), strings.Join(group, ", "))
}

// Convert is the expression that turns a value of one column into one of
// another type, over the old row. ok is false where there is no one obvious
// way. An empty expression copies the value as it is.
func (Engine) Convert(from, to *schema.Column) (expr string, ok bool) {
	x := quote(from.Name)
	a, b := typeOf(from.SQLType).Kind, typeOf(to.SQLType).Kind
	if a == b || strings.EqualFold(from.SQLType, to.SQLType) {
		return "", true
	}
	exact := func(t string) bool { return strings.HasPrefix(strings.ToUpper(t), "DECIMAL_TEXT") }
	if exact(from.SQLType) || exact(to.SQLType) {
		return "", false
	}
	stored := func(k schema.Kind) bool { // kept as text
		switch k {
		case schema.Text, schema.Date, schema.Time, schema.Timestamp, schema.Datetime, schema.UUID, schema.JSON:
			return true
		}
		return false
	}
	whole := func(k schema.Kind) bool { return k.Whole() || k == schema.Boolean }
	switch {
	case a == schema.Timestamp && b == schema.Datetime, a == schema.Datetime && b == schema.Timestamp:
		return "", true
	case a == schema.Date && (b == schema.Timestamp || b == schema.Datetime):
		return x + " || ' 00:00:00'", true
	case (a == schema.Timestamp || a == schema.Datetime) && b == schema.Date:
		return "date(" + x + ")", true
	case a == schema.Text && stored(b), stored(a) && b == schema.Text:
		return "", true
	case whole(a) && whole(b), whole(a) && b == schema.Decimal:
		return "", true
	case b == schema.Text && (whole(a) || a == schema.Decimal || a == schema.Real || a == schema.Double):
		return "CAST(" + x + " AS TEXT)", true
	case a == schema.Text && b.Whole():
		return "CAST(" + x + " AS INTEGER)", true
	case a == schema.Text && b == schema.Decimal:
		return "CAST(" + x + " AS NUMERIC)", true
	case a == schema.Text && (b == schema.Real || b == schema.Double), (a.Whole() || a == schema.Decimal) && (b == schema.Real || b == schema.Double):
		return "CAST(" + x + " AS REAL)", true
	case (a == schema.Real || a == schema.Double || a == schema.Decimal) && b.Whole():
		return "CAST(" + x + " AS INTEGER)", true
	case (a == schema.Real || a == schema.Double) && (b == schema.Decimal || b == schema.Real || b == schema.Double):
		return "", true
	}
	return "", false
}

// lossy selects the rows whose value would not come back the same from a
// conversion; "" where none can be.
func (p projection) lossy(c *schema.Column) string {
	old := p.from.Column(c.Name)
	src, sourced := p.sources[c.Name]
	if old == nil || !sourced || !src.Converts {
		return ""
	}
	back, ok := Engine{}.Convert(c, old)
	if !ok {
		return ""
	}
	name := quote(c.Name)
	if back == "" {
		back = name
	}
	// The converted value, converted back, against the old one.
	converted := strings.ReplaceAll(back, name, "("+src.SQL+")")
	shown := slices.Clone(p.from.Key())
	if !slices.Contains(shown, c.Name) {
		shown = append(shown, c.Name)
	}
	where := fmt.Sprintf("%s IS NOT NULL AND %s IS NOT %s", name, converted, name)
	if src.Unfill != "" { // what was filled becomes null again and is not converted
		where += " AND " + p.expr(c) + " IS NOT NULL"
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", quoteAll(shown), quote(p.from.Name), where)
}
