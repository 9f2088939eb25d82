package sqlite

// This file copies a table into a new one, which is how SQLite makes most changes.

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// copyTable makes a new table of the old one, rows and all.
func copyTable(from, to *sqlschema.Table, sources map[string]engine.Source) []string {
	aside := asideName(from.Name)
	var out []string
	for _, g := range from.Triggers {
		out = append(out, dropTrigger(g))
	}
	for _, x := range from.Indexes {
		if !x.Constraint {
			out = append(out, dropIndex(x))
		}
	}
	out = append(out, renameTable(from.Name, aside), createTable(to, to.Name))
	out = append(out, copyRows(from, to, [2]string{aside, to.Name}, sources, "")...)
	out = append(out, "DROP TABLE "+quote(aside))
	return append(out, dependents(to)...)
}

// copyRows fills the new table from the old one, which stands under oldName; where
// chooses rows of it, empty for all.
func copyRows(from, to *sqlschema.Table, names [2]string, sources map[string]engine.Source,
	where string) []string {
	oldName, newName := names[0], names[1]
	var columns, values []string
	f, t := rowidName(from), rowidName(to)
	if f != "" && t != "" && rowidKey(to) == "" && rowidKey(from) == "" {
		columns, values = append(columns, t), append(values, f)
	}
	for _, c := range to.Columns {
		if c.Generated != nil {
			continue
		}
		if expr, ok := sourceSQL(from, c, oldName, sources); ok {
			columns = append(columns, quote(c.Name))
			values = append(values, expr)
		}
	}
	order := ""
	if where != "" {
		order = " WHERE " + where
	}
	if f != "" {
		order += " ORDER BY " + f
	}
	if len(columns) == 0 {
		// Nothing of the old rows goes on but that they are there.
		for _, c := range to.Columns {
			if c.Generated == nil {
				columns, values = []string{quote(c.Name)}, []string{"NULL"}
				if c.Default != nil {
					values[0] = c.Default.Text
				}
				break
			}
		}
	}
	out := []string{
		fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s%s", quote(newName), strings.Join(columns, ", "),
			strings.Join(values, ", "), quote(oldName), order),
	}
	if autoincrement(from) && autoincrement(to) {
		// The next number goes on from where it was, not from the rows that are left.
		out = append(
			out,
			fmt.Sprintf("DELETE FROM sqlite_sequence WHERE name = %s", literal(newName)),
			fmt.Sprintf("INSERT INTO sqlite_sequence (name, seq) SELECT %s, seq FROM sqlite_sequence WHERE name = %s",
				literal(newName), literal(oldName)),
		)
	}
	return out
}

func autoincrement(t *sqlschema.Table) bool { return t.PrimaryKey != nil && t.PrimaryKey.Autoincrement }

// sourceSQL is the expression over the old row that gives a column its value;
// false where the column's default is to do it.
func sourceSQL(from *sqlschema.Table, c *sqlschema.Column, oldName string, sources map[string]engine.Source) (string,
	bool) {
	src, ok := sources[c.Name]
	if !ok {
		if o := from.Column(c.Name); o != nil {
			return quote(o.Name), true
		}
		return "", false
	}
	switch {
	case src.Kept != "":
		expr := fmt.Sprintf("(SELECT %s FROM %s WHERE %s ORDER BY %s.rowid DESC LIMIT 1)", quote(c.Name),
			quote(src.Kept), keptMatch(src.Match, src.Kept, oldName), quote(src.Kept))
		switch {
		case c.NotNull && c.Default != nil:
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, c.Default.Text)
		case src.Else != "":
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, renameIn(src.Else, from.Name, oldName))
		}
		return expr, true
	case src.NullsIn != "":
		value := quote(c.Name)
		if src.SQL != "" {
			value = renameIn(src.SQL, from.Name, oldName)
		}
		return fmt.Sprintf(
			"CASE WHEN EXISTS (SELECT 1 FROM %s WHERE %s AND %s.%s IS %s.%s AND %s.%s IS NULL) THEN NULL ELSE %s END",
			quote(src.NullsIn), keptMatch(src.Match, src.NullsIn, oldName), quote(src.NullsIn), quote("filled_"+c.Name),
			quote(oldName), quote(c.Name), quote(src.NullsIn), quote(c.Name), value), true
	case src.Unconvertible && !c.NotNull:
		return "NULL", true // all of them are: it was asked
	case src.SQL != "":
		return renameIn(src.SQL, from.Name, oldName), true
	}
	return "", false
}

// renameIn gives SQL in which a table goes by another name: an expression that
// reads the table itself means its old rows, not the new table that is just
// being filled.
func renameIn(sql, table, name string) string {
	if table == name {
		return sql
	}
	var b strings.Builder
	last := 0
	list := tokens(sql)
	for i, t := range list {
		if (t.Kind == sqltok.Word || t.Kind == sqltok.Name) && strings.EqualFold(t.Name(), table) &&
			(i == 0 || !list[i-1].Is(".")) {
			b.WriteString(sql[last:t.Start] + quote(name))
			last = t.End
		}
	}
	return b.String() + sql[last:]
}

var dialect = preconditions.Dialect{
	Quote: quote, QuoteTable: quote, RowsOf: quote,
	Source:  sourceSQL,
	Convert: Engine{}.Convert,
	Differs: func(a, b string, _ *sqlschema.Column) string { return a + " IS NOT " + b },
	Typed:   func(sql string, _ *sqlschema.Column) string { return sql },
	RowName: rowidName,
	Given:   func(t *sqlschema.Table, c *sqlschema.Column) bool { return rowidKey(t) == c.Name },
	Tokens: func(sql string) []string {
		var out []string
		for _, t := range tokens(sql) {
			if t.Named() && t.Kind != sqltok.Text {
				out = append(out, t.Name())
			}
		}
		return out
	},
	Group: func(p sqlschema.Part) string {
		if p.Collation != "" {
			return quote(p.Column) + " COLLATE " + p.Collation
		}
		return quote(p.Column)
	},
}

// carried is what must hold before a table is copied or dropped: that it has no
// column that the migration does not know. What was added by hand on some other
// database would be gone with the old table. Indexes and triggers are carried
// along (see Step).
func carried(t *sqlschema.Table) engine.Requirement {
	var columns []string
	for _, c := range t.Columns {
		columns = append(columns, literal(strings.ToLower(c.Name)))
	}
	return engine.Requirement{
		Shape:    true,
		Sentence: fmt.Sprintf("{n} columns of %s were added outside Erbario and would be lost", t.Name),
		Query: fmt.Sprintf("SELECT name FROM pragma_table_xinfo(%s) WHERE lower(name) NOT IN (%s)", literal(t.Name),
			strings.Join(columns, ", ")),
	}
}

// tableOf is a table of a schema; nil without one.
func tableOf(s *sqlschema.Schema, name string) *sqlschema.Table {
	if s == nil {
		return nil
	}
	return s.Table(name)
}
