package postgres

// This file gives columns a type of the same name that says something else: a domain over another type, a composite
// type with other attributes. The old one has another name until no column is of it.

import (
	"cmp"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// TypeApart gives a type the name under which it waits, and drops it there.
func (Engine) TypeApart(c engine.Creation) (rename, drop string) {
	kind := kindWords(tokens(c.SQL))
	apart := schema.Apart(c.Name)
	return "ALTER " + kind + " " + quoteTable(c.Name) + " RENAME TO " + quote(bare(apart)),
		"DROP " + kind + " " + quoteTable(apart)
}

// Retype converts a column of a type whose name another gets.
func (Engine) Retype(t *sqlschema.Table, column *sqlschema.Column, from, to engine.Creation) (engine.Retyping, bool) {
	var out engine.Retyping
	x, value, ok := quote(column.Name), "", false
	of, array := strings.CutSuffix(column.SQLType, "[]")
	switch {
	case of != quoteTable(from.Name) || column.Generated != nil || column.Identity:
		return out, false
	case from.Kind == "domain":
		a, b, one, every := readDomain(from.SQL), readDomain(to.SQL), x, func(sql string) string { return sql }
		if array {
			one, every = "erbario_each", func(sql string) string {
				return "NOT EXISTS (SELECT 1 FROM unnest(" + x + ") AS q (erbario_each) WHERE NOT (" + sql + "))"
			}
		}
		value, out.Fits, ok = converted(one, a.of, b.of)
		out.Holds = map[string]string{}
		for name, check := range b.checks {
			out.Holds[strings.Trim(name, `"`)] = every(valueIn(check, "("+value+")"))
		}
		if b.required {
			out.Holds[""] = every(one + " IS NOT NULL")
		}
		if array { // as a whole it can only be cast
			out.Fits = every(one + " IS NULL OR CASE WHEN " + cmp.Or(out.Fits, "true") + " THEN (" + one + "::" +
				plainType(b.of) + ")::text = (" + value + ")::text ELSE false END")
			value = x + "::" + plainType(a.of) + "[]::" + plainType(b.of) + "[]"
		}
	default:
		value, out.Fits, ok = attributesConverted(x, to.Name, attributesOf(from.SQL), attributesOf(to.SQL))
		ok = ok && !array
	}
	alter := "ALTER COLUMN " + x
	out.SQL = alter + " TYPE " + column.SQLType + " USING " + value
	if column.Default != nil { // of the old type
		out.SQL = alter + " DROP DEFAULT, " + out.SQL + ", " + alter + " SET DEFAULT " + column.Default.Text
	}
	out.SQL = alterTable(t.Name) + out.SQL
	return out, ok
}

// converted is a value of one type as one of another, and the condition that it can be, and comes back the same.
func converted(x, from, to string) (value, fits string, ok bool) {
	if from, to = shortType(plainType(from)), shortType(plainType(to)); from == to {
		return x, "", true
	}
	const here = "erbario_value"
	in := func(sql, x string) string { return strings.ReplaceAll(sql, here, x) }
	a, b := &sqlschema.Column{Name: here, SQLType: from}, &sqlschema.Column{Name: here, SQLType: to}
	there, ok := Engine{}.Convert(a, b)
	back, again := Engine{}.Convert(b, a)
	if !ok || !again {
		return "", "", false
	}
	value, fits = x+"::"+to, in(there.Fits, x)
	if there.SQL != "" {
		value = in(there.SQL, x)
	}
	if there.Exact || there.SQL == "" && there.Fits == "" {
		return value, fits, true
	}
	was := "(" + value + ")::" + from
	if back.SQL != "" {
		was = in(back.SQL, "("+value+")")
	}
	if fits != "" {
		fits = "(" + fits + ") AND "
	}
	return value, fits + "(" + was + ")::text IS NOT DISTINCT FROM (" + x + ")::text", true
}

// plainType is a type without its collation.
func plainType(of string) string {
	for _, t := range sqltok.Outside(tokens(of)) {
		if t.Is("COLLATE") {
			return strings.TrimSpace(of[:t.Start])
		}
	}
	return of
}

// attribute is one of a composite type.
type attribute struct{ name, of string }

// attributesOf reads the statement that creates a composite type, as Inspect writes it.
func attributesOf(sql string) []attribute {
	var out []attribute
	list := tokens(sql)
	depth, from := 0, 0
	for i, t := range list {
		begins := depth == 0 && t.Is("(") || depth == 1 && t.Is(",")
		depth += depthOf(t)
		if ends := depth == 0 && t.Is(")") || depth == 1 && t.Is(","); ends && from > 0 && i > from {
			name := list[from]
			out = append(out, attribute{name.Name(), strings.TrimSpace(sql[name.End:t.Start])})
		}
		if begins {
			from = i + 1
		}
	}
	return out
}

// attributesConverted is a composite value with other attributes: those that come are null, and those that go
// must be.
func attributesConverted(x, name string, from, to []attribute) (value, fits string, ok bool) {
	was, conditions := map[string]string{}, []string{}
	for _, a := range from {
		was[a.name] = a.of
	}
	var list []string
	for _, a := range to {
		of, has := was[a.name]
		if !has {
			list = append(list, "NULL::"+plainType(a.of))
			continue
		}
		delete(was, a.name)
		one, fit, can := converted("("+x+")."+quote(a.name), of, a.of)
		if !can {
			return "", "", false
		}
		list = append(list, one)
		if fit != "" {
			conditions = append(conditions, "("+fit+")")
		}
	}
	for _, a := range from {
		if was[a.name] != "" {
			conditions = append(conditions, "("+x+")."+quote(a.name)+" IS NULL")
		}
	}
	value = "CASE WHEN " + x + " IS DISTINCT FROM NULL THEN ROW(" + strings.Join(list, ", ") + ")::" +
		quoteTable(name) + " END"
	return value, strings.Join(conditions, " AND "), len(from)*len(to) > 0
}
