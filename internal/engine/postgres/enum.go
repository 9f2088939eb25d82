package postgres

// This file puts the changes of enum types into PostgreSQL's words.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

type enums struct{}

// Enums are the words for enum types.
func (Engine) Enums() engine.Enums { return enums{} }

func (enums) Make(name string, values []string) []string {
	list := make([]string, len(values))
	for i, v := range values {
		list[i] = literal(v)
	}
	return []string{"CREATE TYPE " + quote(name) + " AS ENUM (" + strings.Join(list, ", ") + ")"}
}

func (enums) Drop(name string) []string { return []string{"DROP TYPE " + quote(name)} }

func (enums) Rename(name, to string) []string {
	return []string{"ALTER TYPE " + quote(name) + " RENAME TO " + quote(to)}
}

func (enums) RenameValue(name, value, to string) []string {
	return []string{"ALTER TYPE " + quote(name) + " RENAME VALUE " + literal(value) + " TO " + literal(to)}
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
		out = append(out, "ALTER TYPE "+quote(name)+" ADD VALUE "+literal(v)+place)
	}
	return out
}

func (enums) Text(sql string) string { return "(" + sql + ")::text" }

func (enums) Value(sql, sqlType string) string { return "(" + sql + ")::" + sqlType }

// enumType is an enum type as it stands among what a database holds.
func enumType(name string, values []string) *sqlschema.Other {
	return &sqlschema.Other{Kind: sqlschema.EnumType, Name: name, Values: values, Make: enums{}.Make(name, values)}
}
