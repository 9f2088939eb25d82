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

// requirements are what the rows of from must fulfil to become rows of to; only
// tells which rows stay until then.
func requirements(from, to *schema.Table, sources map[string]engine.Source, only string, parent func(string) engine.Parent) []engine.Requirement {
	if from.Options.Virtual != "" {
		return nil
	}
	var out []engine.Requirement
	p := projection{from: from, to: to, sources: sources, only: only}
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
				Sentence: fmt.Sprintf("{n} values of %s.%s have no one way to become what is declared", to.Name, c.Name), About: c.Name,
				Query: fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL", quoteAll(shown), p.rows(), quote(old.Name)),
			})
		}
		if q := p.lossy(c); q != "" {
			out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} values of %s.%s do not come back the same from %s", to.Name, c.Name, c.SQLType), About: c.Name, Query: q})
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
	if names := to.Key(); len(names) > 0 && (!samePrimaryKey(from.PrimaryKey, to.PrimaryKey) || p.concerned(names)) && p.allSourced(names) {
		out = append(out, engine.Requirement{Sentence: fmt.Sprintf("{n} values of %s.%s stand in more than one row and cannot be its key", to.Name, strings.Join(names, ", ")), Query: p.duplicates(&schema.Index{Parts: to.PrimaryKey.Columns})})
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
		return fmt.Sprintf("{n} values of %s.%s do not fit %s", t.Name, k.Column, t.Column(k.Column).SQLType)
	case schema.ForNonblank:
		return fmt.Sprintf("{n} values of %s.%s are blank", t.Name, k.Column)
	case schema.ForChoice:
		return fmt.Sprintf("{n} values of %s.%s are none of the choices", t.Name, k.Column)
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
	from, to *schema.Table
	sources  map[string]engine.Source
	only     string // the rows that are asked about; empty: all
}

// rows is what the rows are selected from.
func (p projection) rows() string {
	name := quote(p.from.Name)
	if p.only == "" || p.from.Unkeyed() {
		return name
	}
	return fmt.Sprintf("(SELECT * FROM %s WHERE %s) AS %s", name, p.only, name)
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
		return fmt.Sprintf("SELECT * FROM %s\nWHERE %s", p.rows(), where)
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
	return fmt.Sprintf("SELECT %s FROM (SELECT %s FROM %s) AS q\nWHERE %s", bareList(list), strings.Join(inner, ", "), p.rows(), where)
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
		quoteAll(names), quote("rows"), strings.Join(inner, ", "), p.rows(), strings.Join(where, " AND "), strings.Join(group, ", "))
}

// Convert tells how a value of one type becomes one of another. ok is false where
// there is no one obvious way.
func (Engine) Convert(from, to *schema.Column) (engine.Conversion, bool) {
	x := quote(from.Name)
	a, b := typeOf(from.SQLType).Kind, typeOf(to.SQLType).Kind
	if a == b || strings.EqualFold(from.SQLType, to.SQLType) {
		return engine.Conversion{}, true
	}
	exact := func(t string) bool { return strings.HasPrefix(strings.ToUpper(t), "DECIMAL_TEXT") }
	if exact(from.SQLType) || exact(to.SQLType) {
		return engine.Conversion{}, false
	}
	as := func(sql, how string) (engine.Conversion, bool) { return engine.Conversion{SQL: sql, How: how}, true }
	written := map[schema.Kind]string{ // kept as text
		schema.Text: "the text stays as it is", schema.Date: "the text has to be a day, as 2026-01-31", schema.Time: "the text has to be a time, as 10:30:00",
		schema.Timestamp: "the text has to be a moment in UTC, as 2026-01-31 10:30:00", schema.Datetime: "the text has to be a time, as 2026-01-31 10:30:00",
		schema.UUID: "the text has to be a UUID in lower case", schema.JSON: "the text has to be JSON",
	}
	moment := func(k schema.Kind) bool { return k == schema.Timestamp || k == schema.Datetime }
	float := func(k schema.Kind) bool { return k == schema.Real || k == schema.Double }
	whole := func(k schema.Kind) bool { return k.Whole() || k == schema.Boolean }
	switch {
	case moment(a) && moment(b):
		return as("", "the time stays as it is")
	case a == schema.Date && moment(b):
		return as(x+" || ' 00:00:00'", "a day becomes its midnight")
	case moment(a) && b == schema.Date:
		return as("date("+x+")", "a time becomes its day, and has to be a midnight")
	case a.Whole() && moment(b):
		return as("datetime("+x+", 'unixepoch')", "seconds since 1970 become the moment")
	case moment(a) && b.Whole():
		return as("unixepoch("+x+")", "a moment becomes the seconds since 1970, and has to be a whole one")
	case a == schema.Text && written[b] != "":
		return as("", written[b])
	case b == schema.Text && written[a] != "":
		return as("", written[b])
	case a == schema.Boolean && b == schema.Text:
		return as("CASE "+x+" WHEN 1 THEN 'true' WHEN 0 THEN 'false' END", "true and false become words")
	case a == schema.Text && b == schema.Boolean:
		return as("CASE "+x+" WHEN 'true' THEN 1 WHEN 'false' THEN 0 END", "the text has to be true or false")
	case a == schema.Boolean && whole(b):
		return as("", "false becomes 0, true 1")
	case whole(a) && b == schema.Boolean:
		return as("", "0 becomes false, 1 true; there can be no other")
	case whole(a) && (whole(b) || b == schema.Decimal):
		return as("", "the number stays as it is")
	case b == schema.Text && (whole(a) || a == schema.Decimal || float(a)):
		return as("CAST("+x+" AS TEXT)", "a number becomes its digits")
	case a == schema.Text && b.Whole():
		return as("CAST("+x+" AS INTEGER)", "the text has to be a whole number's digits")
	case a == schema.Text && b == schema.Decimal:
		return as("CAST("+x+" AS NUMERIC)", "the text has to be a number's digits")
	case a == schema.Text && float(b):
		return as("CAST("+x+" AS REAL)", "the text has to be a number's digits")
	case (a.Whole() || a == schema.Decimal) && float(b):
		return as("CAST("+x+" AS REAL)", "the number stays as it is")
	case (float(a) || a == schema.Decimal) && b.Whole():
		return as("CAST("+x+" AS INTEGER)", "the number has to be whole")
	case float(a) && (b == schema.Decimal || float(b)):
		return as("", "the number stays as it is")
	}
	return engine.Conversion{}, false
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
	// The converted value, converted back, against the old one.
	converted := "(" + src.SQL + ")"
	if back.SQL != "" {
		converted = strings.ReplaceAll(back.SQL, name, "("+src.SQL+")")
	}
	shown := slices.Clone(p.from.Key())
	if !slices.Contains(shown, c.Name) {
		shown = append(shown, c.Name)
	}
	where := fmt.Sprintf("%s IS NOT NULL AND %s IS NOT %s", name, converted, name)
	if src.Unfill != "" { // what was filled becomes null again and is not converted
		where += " AND " + p.expr(c) + " IS NOT NULL"
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", quoteAll(shown), p.rows(), where)
}
