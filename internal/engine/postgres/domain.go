package postgres

// This file reads domains and changes them where they are, since columns are of them. One over another type needs a
// new domain: retype.go.

import (
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// domain is what a CREATE DOMAIN statement says, as Inspect writes it.
type domain struct {
	of       string // the type, with its collation
	value    string // the default; empty: none
	required bool
	checks   map[string]string // what stands behind CHECK, by name as it is written
}

// readDomain reads such a statement.
func readDomain(sql string) domain {
	d := domain{checks: map[string]string{}}
	list := tokens(sql)
	part, from, name := "", 0, ""
	put := func(end int) {
		text := strings.TrimSpace(sql[from:end])
		switch part {
		case "AS":
			d.of = text
		case "DEFAULT":
			d.value = text
		case "CHECK":
			d.checks[name] = text
		}
	}
	for i, t := range sqltok.Outside(list) {
		switch {
		case t.Is("AS") && part == "":
			part, from = "AS", t.End
		case t.Is("DEFAULT"):
			put(t.Start)
			part, from = "DEFAULT", t.End
		case t.Is("NOT") && i+1 < len(list) && list[i+1].Is("NULL"):
			put(t.Start)
			part, d.required = "NOT NULL", true
		case t.Is("CONSTRAINT") && i+2 < len(list) && list[i+2].Is("CHECK"):
			put(t.Start)
			part, name, from = "CHECK", sql[list[i+1].Start:list[i+1].End], list[i+2].End
		}
	}
	put(len(sql))
	return d
}

// alterDomain gives what makes another of a domain; empty: nothing does.
func alterDomain(was, now engine.Creation) string {
	a, b := readDomain(was.SQL), readDomain(now.SQL)
	if canon(a.of) != canon(b.of) {
		return ""
	}
	var out []string
	alter := func(words string) { out = append(out, "ALTER DOMAIN "+quoteTable(now.Name)+" "+words) }
	switch {
	case canon(a.value) == canon(b.value):
	case b.value == "":
		alter("DROP DEFAULT")
	default:
		alter("SET DEFAULT " + b.value)
	}
	if a.required && !b.required {
		alter("DROP NOT NULL")
	}
	for _, n := range slices.Sorted(maps.Keys(a.checks)) {
		if canon(a.checks[n]) != canon(b.checks[n]) {
			alter("DROP CONSTRAINT " + n)
		}
	}
	for _, n := range slices.Sorted(maps.Keys(b.checks)) {
		if canon(a.checks[n]) != canon(b.checks[n]) {
			alter("ADD CONSTRAINT " + n + " CHECK " + b.checks[n])
		}
	}
	if b.required && !a.required {
		alter("SET NOT NULL")
	}
	return strings.Join(out, ";\n")
}

// TypeHolds are the conditions that a domain has its columns fulfil, by the names of its checks; that of "" is
// that there is a value.
func (Engine) TypeHolds(c engine.Creation, column *sqlschema.Column) map[string]string {
	if c.Kind != "domain" || column.SQLType != quoteTable(c.Name) {
		return nil
	}
	d, out := readDomain(c.SQL), map[string]string{}
	for name, check := range d.checks {
		out[strings.Trim(name, `"`)] = valueIn(check, quote(column.Name))
	}
	if d.required {
		out[""] = quote(column.Name) + " IS NOT NULL"
	}
	return out
}

// valueIn is the check of a domain with a column in the place of its value.
func valueIn(check, column string) string {
	var b strings.Builder
	last := 0
	for _, t := range tokens(check) {
		if t.Kind == sqltok.Word && t.Is("VALUE") {
			b.WriteString(check[last:t.Start] + column)
			last = t.End
		}
	}
	return b.String() + check[last:]
}

// ofDomain is a default of a domain: a text has the type of that, which need not be said.
func ofDomain(value sqlschema.SQL, of string) sqlschema.SQL {
	if of == "" {
		return value
	}
	stored := value.Make()
	list := tokens(stored)
	of, _, _ = strings.Cut(of, "(")
	if len(list) < 3 || list[0].Kind != sqltok.Text || !list[1].Is("::") || shortType(stored[list[2].Start:]) != of {
		return value
	}
	return sqlOf(stored[:list[0].End])
}
