package mariadb

// This file is the statements that fill columns, convert their values, and give back what they were.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// noted is the step that makes the table in which is noted which rows had no value; nil
// where none is filled.
func (c *change) noted() *engine.Step {
	filled := c.Filled()
	if len(filled) == 0 || c.Keep == "" {
		return nil
	}
	return &engine.Step{
		Title: "prepare to note which rows have no " + strings.Join(filled, ", "),
		Apply: []string{keptTable(c.Alteration, filled)},
		Undo:  []string{"DROP TABLE " + quote(c.Keep)},
	}
}

// values gives the statements that give columns values beside others, and back.
func (c *change) values() (apply, undo []string) {
	table := quote(c.From.Name)
	if filled := c.Filled(); len(filled) > 0 && c.Keep != "" {
		apply = append(apply, noteEmpty(c.Alteration, filled))
	}
	var set []string
	where := ""
	n := 0
	for _, name := range c.replaced {
		if s := c.Forward[name]; asksOthers(s.SQL) {
			n++
			set = append(set, quote(newName(name))+" = "+s.SQL)
		}
	}
	for _, col := range c.Alteration.To.Columns {
		s, ok := c.worked(col)
		if lit, has := c.Forward[col.Name]; has && lit.Literal && lit.SQL != "" && c.From.Column(col.Name) != nil {
			s, ok = lit, true
		}
		if !ok || slices.Contains(c.replaced, col.Name) || c.From.Column(col.Name) != nil && c.touched(col.Name) {
			continue
		}
		n++
		if s.Fill != "" && !s.Converts {
			where = quote(col.Name) + " IS NULL"
		}
		set = append(set, quote(col.Name)+" = "+s.SQL)
	}
	if n != 1 {
		where = ""
	}
	if len(set) > 0 {
		apply = append(apply, update(table, set, where))
	}
	set = nil
	for _, name := range c.replaced {
		if s := c.Back[name]; asksOthers(s.SQL) && c.kept[name] == "" {
			set = append(set, quote(name)+" = "+renameIn(s.SQL, c.midNames()))
		}
	}
	for _, o := range c.From.Columns {
		s, ok := c.Back[o.Name]
		if !ok || o.Generated != nil || slices.Contains(c.replaced, o.Name) {
			continue
		}
		_, kept := c.kept[o.Name]
		x := quote(o.Name)
		switch {
		case kept:
			if value := orElse(o, s); o.NotNull && value != "" {
				undo = append(undo, update(table, []string{x + " = " + value}, x+" IS NULL"))
			}
		case c.backNone(o):
			undo = append(undo, update(table, []string{x + " = " + s.Else}, x+" IS NULL"))
		case s.SQL != "" && !c.touched(o.Name):
			set = append(set, x+" = "+renameIn(s.SQL, c.midNames()))
		}
	}
	if len(set) > 0 {
		undo = append([]string{update(table, set, "")}, undo...)
	}
	for _, o := range c.From.Columns {
		if s := c.Back[o.Name]; s.NullsIn != "" && !slices.Contains(c.replaced, o.Name) {
			undo = append(undo, c.unfill(o, s, o.Name))
		}
	}
	if c.Keep != "" && len(c.Filled()) > 0 {
		undo = append(undo, "DELETE FROM "+quote(c.Keep))
	}
	return quietly(apply), quietly(undo)
}

// midNames are the names that columns of to have between the steps, where they have
// others.
func (c *change) midNames() map[string]string {
	out := map[string]string{}
	for _, n := range c.replaced {
		out[n] = newName(n)
	}
	return out
}

// unfill makes null again what was filled and is still what it was filled with.
func (c *change) unfill(o *sqlschema.Column, s engine.Source, value string) string {
	t := quote(c.From.Name)
	return update(t, []string{quote(o.Name) + " = NULL"}, keptEmpty(s, o.Name, t, t+"."+quote(value)))
}

// keptEmpty is the condition that a row of a table was noted to have had no value in a
// column, and still has what it was given.
func keptEmpty(s engine.Source, column, table, value string) string {
	return fmt.Sprintf("EXISTS (SELECT 1 FROM %s AS kept%s WHERE %s AND kept.%s <=> %s AND kept.%s IS NULL)",
		quote(s.NullsIn), keptByKey, keptMatch(s.Match, "kept", table), quote("filled_"+column), value, quote(column))
}

// conversions gives the statements by which columns that are replaced get their values,
// and those that take them back.
func (c *change) conversions() (apply, undo []string) {
	table := quote(c.From.Name)
	var set, unset []string
	for _, name := range c.replaced {
		o := c.From.Column(name)
		switch s := c.Forward[name]; {
		case asksOthers(s.SQL):
		case s.SQL != "":
			set = append(set, quote(newName(name))+" = "+s.SQL)
		case !s.Unconvertible: // the server's own conversion
			set = append(set, quote(newName(name))+" = "+quote(name))
		}
		s := c.Back[name]
		if _, kept := c.kept[name]; kept {
			if value := orElse(o, s); o.NotNull && value != "" {
				undo = append(undo, update(table, []string{quote(name) + " = " + value}, quote(name)+" IS NULL"))
			}
			continue
		}
		value := quote(newName(name))
		switch {
		case asksOthers(s.SQL), o.Generated != nil:
			continue
		case s.SQL != "":
			value = renameIn(s.SQL, c.midNames())
		case s.Unconvertible:
			continue
		}
		if s.NullsIn != "" { // what was filled need not fit: it is null again; one at a time, since a locked table has its name once
			value = "CASE WHEN " + keptEmpty(s, name, table,
				table+"."+quote(newName(name))) + " THEN NULL ELSE " + value + " END"
			undo = append(undo, update(table, []string{quote(name) + " = " + value}, ""))
			continue
		}
		unset = append(unset, quote(name)+" = "+value)
	}
	if len(set) > 0 {
		apply = append(apply, update(table, set, ""))
	}
	if len(unset) > 0 {
		undo = append([]string{update(table, unset, "")}, undo...)
	}
	for _, name := range c.replaced {
		if s := c.Back[name]; s.NullsIn != "" && asksOthers(s.SQL) {
			undo = append(undo, c.unfill(c.From.Column(name), s, newName(name)))
		}
	}
	return quietly(apply), quietly(undo)
}

// asksOthers tells whether an expression asks other rows, which cannot be had under LOCK
// TABLES: these are other tables, or the same one by a second name.
func asksOthers(sql string) bool {
	return slices.ContainsFunc(tokens(sql), func(t sqltok.Token) bool { return t.Is("SELECT") })
}

func update(table string, set []string, where string) string {
	s := "UPDATE " + table + " SET " + strings.Join(set, ", ")
	if where != "" {
		s += " WHERE " + where
	}
	return s
}

// quietly has the triggers of ours keep still during statements: they change no other
// column, and refuse nothing.
func quietly(sql []string) []string {
	if len(sql) == 0 {
		return nil
	}
	return slices.Concat([]string{"SET " + quiet + " = 1"}, sql, []string{"SET " + quiet + " = NULL"})
}

// dialect is what MariaDB says otherwise where rows are asked about.
var dialect = preconditions.Dialect{
	Many:  "SQL_BIG_RESULT ", // it sorts: a temporary table with an index on long texts takes many times as long
	Quote: quote, QuoteTable: quote, RowsOf: quote,
	Source:  sourceSQL,
	Convert: Engine{}.Convert,
	Differs: func(a, b string, c *sqlschema.Column) string { // two collations may not be comparable
		if textual(c.SQLType) {
			a, b = "BINARY CONVERT("+a+" USING utf8mb4)", "BINARY CONVERT("+b+" USING utf8mb4)"
		}
		return "NOT (" + a + " <=> " + b + ")"
	},
	Typed:   func(sql string, _ *sqlschema.Column) string { return sql },
	RowName: func(*sqlschema.Table) string { return "" },
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
	Group: func(p sqlschema.Part) string { return quote(p.Column) },
	Only:  func(c *sqlschema.Column) bool { return c.SQLType == "tinyint" },
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
	row := quote(table)
	switch {
	case src.NullsIn != "":
		value := quote(c.Name)
		if src.SQL != "" {
			value = src.SQL
		}
		return "CASE WHEN " + keptEmpty(src, c.Name, row,
			row+"."+quote(c.Name)) + " THEN NULL ELSE " + value + " END", true
	case src.Unconvertible && !c.NotNull:
		return "NULL", true // all of them are: it was asked
	case src.SQL != "":
		return src.SQL, true
	}
	return "", false
}
