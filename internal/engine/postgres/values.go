package postgres

// This file is the statements that fill columns, change their types, and give back what they were.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// rewrites tells whether adding a column writes every row again: its value is another
// for each.
func rewrites(c *sqlschema.Column) bool {
	if c.Identity || c.Generated != nil {
		return true
	}
	return c.Default != nil &&
		(mentions(c.Default.Text, "gen_random_uuid") || mentions(c.Default.Text, "clock_timestamp") ||
			mentions(c.Default.Text, "random") || mentions(c.Default.Text, "nextval"))
}

// values gives columns their values: all that are worked out from the old row in one
// statement, so that none sees what another has just become.
func (a *alteration) values() {
	table := quoteTable(a.to.Name)
	var set, sql []string
	where := ""
	n := 0
	target := func(c *sqlschema.Column) string {
		if a.replaced[c.Name] {
			return quote(newName(c.Name))
		}
		return quote(c.Name)
	}
	worked := func(c *sqlschema.Column) (engine.Source, bool) { // out from the old row
		s, ok := a.sources[c.Name]
		replaced := a.replaced[c.Name]
		return s, ok && c.Generated == nil && s.Kept == "" && (s.NullsIn == "" || replaced) && !s.Unconvertible &&
			s.SQL != "" && (!a.touched[c.Name] || replaced)
	}
	for _, c := range a.to.Columns {
		s, ok := worked(c)
		if !ok {
			continue
		}
		n++
		if s.Fill != "" && !s.Converts && !a.replaced[c.Name] {
			set, where = append(set, target(c)+" = "+s.Fill), " WHERE "+quote(c.Name)+" IS NULL"
			continue
		}
		set, where = append(set, target(c)+" = "+s.SQL), ""
	}
	if n > 1 { // together: each in its own words, over every row
		set, where = nil, ""
		for _, c := range a.to.Columns {
			if s, ok := worked(c); ok {
				set = append(set, target(c)+" = "+s.SQL)
			}
		}
	}
	if len(set) > 0 {
		sql = append(sql, "UPDATE "+table+" SET "+strings.Join(set, ", ")+where)
	}
	for _, c := range a.to.Columns {
		s, ok := a.sources[c.Name]
		if !ok || c.Generated != nil || s.Kept == "" && s.NullsIn == "" {
			continue
		}
		kept, x := s.Kept+s.NullsIn, quote(c.Name)
		keys := make([]string, len(s.Match))
		for i, k := range s.Match {
			keys[i] = quote("key_" + k)
		}
		// The newest of what is kept for a row counts.
		newest := fmt.Sprintf("(SELECT DISTINCT ON (%s) * FROM %s ORDER BY %s, ctid DESC) AS kept",
			strings.Join(keys, ", "), quote(kept), strings.Join(keys, ", "))
		match := keptMatch(a.from, s.Match, "kept", "here")
		if s.NullsIn != "" {
			sql = append(
				sql,
				fmt.Sprintf(
					"UPDATE %s AS here SET %s = NULL FROM %s WHERE %s AND kept.%s IS NULL AND %s IS NOT DISTINCT FROM %s",
					table, target(c), newest, match, x,
					compared(a.from.Column(c.Name), fromKept(a.from.Column(c.Name), "kept."+quote("filled_"+c.Name))),
					compared(a.from.Column(c.Name), "here."+x)),
			)
			continue
		}
		if a.from.Column(c.Name) != nil && !a.replaced[c.Name] {
			sql = append(sql, fmt.Sprintf("UPDATE %s SET %s = NULL", table, x))
		}
		sql = append(
			sql,
			fmt.Sprintf("UPDATE %s AS here SET %s = %s FROM %s WHERE %s", table, target(c), fromKept(c, "kept."+x),
				newest, match),
		)
		rest := s.Else
		if c.NotNull && c.Default != nil {
			rest = c.Default.Text
		}
		if rest != "" {
			sql = append(sql, fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s IS NULL", table, target(c), rest, target(c)))
		}
	}
	if len(sql) > 0 {
		a.do("values", "", engine.Rewrites, quiet(sql)...)
	}
}

// quiet has the triggers of ours keep still during statements: they change no other
// column, and refuse nothing.
func quiet(sql []string) []string {
	out := append([]string{"SET LOCAL erbario.quiet = 'on'"}, sql...)
	return append(out, "SET LOCAL erbario.quiet = ''")
}

// types changes the types of columns, in one statement, since that is one rewrite.
func (a *alteration) types() {
	table := alterTable(a.to.Name)
	var list, names, again []string
	grave := engine.Keeps
	for _, c := range a.to.Columns {
		old := a.from.Column(c.Name)
		if !a.touched[c.Name] || a.replaced[c.Name] {
			continue
		}
		x := quote(c.Name)
		if old.Default != nil {
			list = append(list, "ALTER COLUMN "+x+" DROP DEFAULT")
		}
		s := "ALTER COLUMN " + x + " TYPE " + c.SQLType
		if c.Collation != "" {
			s += " COLLATE " + c.Collation
		}
		src := a.sources[c.Name]
		switch {
		case src.Unconvertible && c.NotNull && c.Default != nil:
			s += " USING CAST(" + c.Default.Text + " AS " + c.SQLType + ")"
		case src.Unconvertible:
			s += " USING NULL::" + c.SQLType
		case src.SQL != "": // without, the server refuses what does not fit rather than cutting it
			s += " USING " + src.SQL
		}
		if !widens(old.SQLType, c.SQLType) {
			grave = engine.Rewrites
		}
		list = append(list, s)
		if c.Default != nil {
			list = append(list, "ALTER COLUMN "+x+" SET DEFAULT "+defaultSQL(c.Default.Make()))
		}
		names = append(names, fmt.Sprintf("%s is %s", c.Name, c.SQLType))
		was := *old
		was.Storage = "" // which the new type takes
		again = append(again, keepsAs(a.to.Name, &was, c)...)
	}
	if len(list) > 0 {
		a.do("types", a.to.Name+": "+strings.Join(names, ", "), grave,
			append([]string{table + strings.Join(list, ", ")}, again...)...)
	}
	for _, c := range a.to.Columns {
		old := a.from.Column(c.Name)
		if old == nil || a.touched[c.Name] || c.Generated != nil || sqlschema.SameSQL(old.Default, c.Default) {
			continue
		}
		s := table + "ALTER COLUMN " + quote(c.Name)
		if c.Default == nil {
			a.do("default "+c.Name, fmt.Sprintf("%s.%s has no default", a.to.Name, c.Name), engine.Keeps,
				s+" DROP DEFAULT")
		} else {
			a.do("default "+c.Name, fmt.Sprintf("%s.%s has the default %s", a.to.Name, c.Name, c.DefaultWords()),
				engine.Keeps, s+" SET DEFAULT "+defaultSQL(c.Default.Make()))
		}
	}
}

// widens tells whether a type takes every value of another as it is stored, so that
// the server neither reads nor writes a row.
func widens(from, to string) bool {
	a, b := typeOf(from), typeOf(to)
	if a.Kind == schema.Text && b.Kind == schema.Text {
		return b.Length == 0 || a.Length > 0 && a.Length <= b.Length
	}
	return a.Kind == schema.Decimal && b.Kind == schema.Decimal && a.Scale == b.Scale && a.Precision <= b.Precision
}

// dialect is what PostgreSQL says otherwise where rows are asked about.
var dialect = preconditions.Dialect{
	Quote: quote, QuoteTable: quoteTable, RowsOf: rowsOf,
	Source:  sourceSQL,
	Convert: Engine{}.Convert,
	Differs: func(a, b string, c *sqlschema.Column) string {
		return compared(c, a) + " IS DISTINCT FROM " + compared(c, b)
	},
	Typed: func(sql string, c *sqlschema.Column) string { // without its length: nothing is cut or rounded
		typ, _, _ := strings.Cut(c.SQLType, "(")
		return "CAST(" + sql + " AS " + typ + ")"
	},
	RowName: func(*sqlschema.Table) string { return "ctid" },
	Given:   func(_ *sqlschema.Table, c *sqlschema.Column) bool { return c.Identity },
	Tokens: func(sql string) []string {
		var out []string
		for _, t := range tokens(sql) {
			if t.Named() {
				out = append(out, t.Name())
			}
		}
		return out
	},
	Group: func(p sqlschema.Part) string {
		if p.Collation == ignoringCase {
			return "pg_catalog.lower(" + quote(p.Column) + ")"
		}
		return quote(p.Column)
	},
}

// sourceSQL is the expression over the old row that gives a column its value; false
// where the column's default is to do it.
func sourceSQL(from *sqlschema.Table, c *sqlschema.Column, table string, sources map[string]engine.Source) (string,
	bool) {
	src, ok := sources[c.Name]
	if !ok {
		if o := from.Column(c.Name); o != nil {
			return quote(o.Name), true
		}
		return "", false
	}
	row := rowsOf(table)
	switch {
	case src.Kept != "":
		expr := fmt.Sprintf("(SELECT %s FROM %s AS kept WHERE %s ORDER BY kept.ctid DESC LIMIT 1)",
			fromKept(c, "kept."+quote(c.Name)), quote(src.Kept), keptMatch(from, src.Match, "kept", row))
		switch {
		case c.NotNull && c.Default != nil:
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, c.Default.Text)
		case src.Else != "":
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, src.Else)
		}
		return expr, true
	case src.NullsIn != "":
		value := quote(c.Name)
		if src.SQL != "" {
			value = src.SQL
		}
		return fmt.Sprintf(
			"CASE WHEN EXISTS (SELECT 1 FROM %s AS kept WHERE %s AND %s IS NOT DISTINCT FROM %s AND kept.%s IS NULL) THEN NULL ELSE %s END",
			quote(src.NullsIn), keptMatch(from, src.Match, "kept", row),
			compared(from.Column(c.Name), fromKept(from.Column(c.Name), "kept."+quote("filled_"+c.Name))),
			compared(from.Column(c.Name), row+"."+quote(c.Name)), quote(c.Name), value), true
	case src.Unconvertible && !c.NotNull:
		return "NULL", true // all of them are: it was asked
	case src.SQL != "":
		return src.SQL, true
	}
	return "", false
}

// Recalculate has the server calculate generated columns again: it does so where a statement sets what they are
// calculated from.
func (Engine) Recalculate(t *sqlschema.Table, columns []*sqlschema.Column) []string {
	var set []string
	for _, c := range columns {
		for _, tok := range tokens(c.Generated.SQL.Text) {
			if from := t.Column(tok.Name()); tok.Named() && from != nil && from.Generated == nil {
				set = append(set, quote(from.Name)+" = "+quote(from.Name))
			}
		}
	}
	if len(set) == 0 { // it is the same in every row, and depends on nothing in it
		for _, c := range columns {
			set = append(set, quote(c.Name)+" = DEFAULT")
		}
	}
	slices.Sort(set)
	return quiet([]string{"UPDATE " + quoteTable(t.Name) + " SET " + strings.Join(slices.Compact(set), ", ")})
}
