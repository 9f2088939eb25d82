package postgres

// This file reads indexes, and the options of primary keys.

import (
	"slices"
	"strconv"
	"strings"

	"erbario/internal/sqlschema"
)

// indexes notes the indexes of tables. classes and collations are names by numbers.
func (r *reading) indexes(rows [][]string, classes, collations map[string]string) {
	for _, v := range rows {
		rel := r.byOID[v[2]]
		if rel == nil || v[5] == "t" { // an exclusion's
			continue
		}
		t := rel.table
		if pk := t.PrimaryKey; v[4] == "t" { // the key's own
			if v[14] != "" {
				pk.Options = " WITH (" + v[14] + ")" + pk.Options
			}
			if beside := rel.beside(v); beside != "" {
				pk.Options = " INCLUDE (" + beside + ")" + pk.Options
			}
			continue
		}
		i := slices.IndexFunc(t.Indexes, func(x *sqlschema.Index) bool { return x.Constraint && x.Name == v[1] })
		var x *sqlschema.Index
		if i >= 0 {
			x = t.Indexes[i]
		} else {
			x = &sqlschema.Index{Name: v[1]}
			t.Indexes = append(t.Indexes, x)
		}
		x.Unique, x.NullsEqual, x.Invalid = v[3] == "t", v[7] == "t", v[6] != "t"
		if v[13] != "btree" {
			x.Using = v[13]
		}
		if v[14] != "" {
			x.Options = " WITH (" + v[14] + ")" + x.Options
		}
		if v[15] != "" {
			x.Where = new(tidied(v[15], v[17]))
		}
		keys, _ := strconv.Atoi(v[8])
		numbers, options, colls, ops := strings.Fields(v[9]), strings.Fields(
			v[10],
		), strings.Fields(v[11]), strings.Fields(v[12])
		expressions, full := jsonTexts(v[16]), jsonTexts(v[18])
		full = append(full, make([]string, len(expressions))...)
		for n, number := range numbers[:keys] {
			p := sqlschema.Part{Class: classes[ops[n]]}
			if number == "0" {
				p = expressionPart(t, tidied(expressions[n], full[n]), p)
			} else {
				p.Column = rel.columns[number].Name
				if colls[n] != "0" && colls[n] != rel.collations[number] {
					p.Collation = collations[colls[n]]
				}
			}
			if o, _ := strconv.Atoi(options[n]); x.Using == "" {
				p.Desc = o&1 != 0
				if first := o&2 != 0; first != p.Desc {
					p.Nulls = map[bool]string{true: "FIRST", false: "LAST"}[first]
				}
			}
			x.Parts = append(x.Parts, p)
		}
		x.Included = rel.beside(v)
		if x.Constraint && x.Included != "" {
			x.Options = " INCLUDE (" + x.Included + ")" + x.Options
			x.Included = ""
		}
	}
}

// beside are the columns that an index only has beside those by which it is in order.
func (rel *relation) beside(v []string) string {
	keys, _ := strconv.Atoi(v[8])
	var out []string
	for _, number := range strings.Fields(v[9])[keys:] {
		out = append(out, quote(rel.columns[number].Name))
	}
	return strings.Join(out, ", ")
}

// expressionPart is a part of an index that is no column: lower() of one is how a
// text that ignores case is kept.
func expressionPart(t *sqlschema.Table, e sqlschema.SQL, p sqlschema.Part) sqlschema.Part {
	if list := strings.Fields(e.Key()); len(list) == 4 && list[0] == "lower" && list[1] == "(" && list[3] == ")" {
		for _, c := range t.Columns {
			textual := c.SQLType == "text" || strings.HasPrefix(c.SQLType, "varchar") || c.SQLType == ""
			if quote(c.Name) == list[2] && (textual || c.Values != nil) {
				p.Column, p.Collation = c.Name, ignoringCase
				return p
			}
		}
	}
	p.Expr = &e
	return p
}
