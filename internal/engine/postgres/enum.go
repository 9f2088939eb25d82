package postgres

// This file puts the changes of enum types into PostgreSQL's words.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

type enums struct{}

// Enums are the words for enum types.
func (Engine) Enums() engine.Enums { return enums{} }

func (enums) Make(name string, values []string) []string {
	return []string{"CREATE TYPE " + quoteTable(name) + " AS ENUM (" + strings.Join(inQuotes(values), ", ") + ")"}
}

// inQuotes are values as texts.
func inQuotes(values []string) []string {
	list := make([]string, len(values))
	for i, v := range values {
		list[i] = literal(v)
	}
	return list
}

func (enums) Drop(name string) []string { return []string{"DROP TYPE " + quoteTable(name)} }

func (enums) Rename(name, to string) []string {
	return []string{"ALTER TYPE " + quoteTable(name) + " RENAME TO " + quote(bare(to))}
}

func (enums) RenameValue(name, value, to string) []string {
	return []string{"ALTER TYPE " + quoteTable(name) + " RENAME VALUE " + literal(value) + " TO " + literal(to)}
}

func (enums) Add(name string, values, wanted []string) []string {
	var out []string
	for i, v := range wanted {
		if slices.Contains(values, v) {
			continue
		}
		place := ""
		if i > 0 {
			place = " AFTER " + literal(wanted[i-1])
		} else if len(values) > 0 {
			place = " BEFORE " + literal(values[0])
		}
		out = append(out, "ALTER TYPE "+quoteTable(name)+" ADD VALUE "+literal(v)+place)
	}
	return out
}

func (enums) Text(sql string) string { return "(" + sql + ")::text" }

func (enums) Value(sql, sqlType string) string { return "(" + sql + ")::" + sqlType }

// enumType is an enum type as it stands among what a database holds.
func enumType(name string, values []string) *sqlschema.Other {
	return &sqlschema.Other{Kind: sqlschema.EnumType, Name: name, Values: values, Make: enums{}.Make(name, values)}
}

// enumValues are the values of enum types, by these as SQL.
func enumValues(s *sqlschema.Schema) map[string][]string {
	out := map[string][]string{}
	for _, o := range s.Others {
		if o.Kind == sqlschema.EnumType {
			out[quoteTable(o.Name)] = o.Values
		}
	}
	return out
}

// elements are the values of an enum type, by how it is written, if a type is an array of it.
func elements(sqlType string, values map[string][]string) []string {
	if of, ok := strings.CutSuffix(sqlType, "[]"); ok {
		return values[of]
	}
	return nil
}

// TypeIn reads which type statements give a column last, and whether they make it.
func (enums) TypeIn(statements []string, table, column string) (name string, made bool) {
	types := map[string]bool{}
	for _, sql := range statements {
		list := tokens(sql)
		at := 0
		is := func(words ...string) bool {
			for i, w := range words {
				if at+i >= len(list) || !list[at+i].Is(w) {
					return false
				}
			}
			at += len(words)
			return true
		}
		named := func(name string) bool { return at < len(list) && list[at].Named() && list[at].Name() == name }
		switch {
		case is("CREATE", "TYPE"):
			if at < len(list) {
				types[list[at].Name()] = true
			}
		case is("CREATE", "TABLE"), is("CREATE", "UNLOGGED", "TABLE"):
			if !named(table) {
				continue
			}
			depth := 0
			for at++; at+1 < len(list); at++ {
				begins := depth == 0 && list[at].Is("(") || depth == 1 && list[at].Is(",")
				depth += depthOf(list[at])
				if begins && list[at+1].Named() && list[at+1].Name() == column && at+2 < len(list) {
					name = typeAt(list, at+2)
				}
			}
		case is("ALTER", "TABLE"):
			if is("ONLY"); !named(table) {
				continue
			}
			for at++; at < len(list); {
				adds := is("ADD", "COLUMN")
				if !adds && !is("ALTER", "COLUMN") {
					at++
					continue
				}
				if !named(column) {
					continue
				}
				if at++; (adds || is("TYPE")) && at < len(list) {
					name = typeAt(list, at)
				}
			}
		}
	}
	return name, types[name]
}

// typeAt is the name of the type that begins at a token, with its schema.
func typeAt(list []sqltok.Token, at int) string {
	if name := list[at].Name(); at+2 >= len(list) || !list[at+1].Is(".") || !list[at+2].Named() {
		return name
	}
	return schema.InSchema(list[at].Name(), list[at+2].Name())
}

// depthOf is what a token adds to the number of open brackets.
func depthOf(t sqltok.Token) int {
	switch {
	case t.Is("("):
		return 1
	case t.Is(")"):
		return -1
	}
	return 0
}
