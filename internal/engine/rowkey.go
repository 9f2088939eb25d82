package engine

// This file is conditions that find rows by what tells them apart: one column, or several
// together. column gives the name of a column in the statement.

import (
	"fmt"
	"strings"
)

// IsRow is the condition that a row has the values of a key, as SQL, in the columns by.
func IsRow(column func(name string) string, by, key []string) string {
	var out []string
	for i, c := range by {
		out = append(out, column(c)+" = "+key[i])
	}
	return strings.Join(out, " AND ")
}

// IsAny is the condition that a row has one of several keys.
func IsAny(column func(name string) string, by []string, keys [][]string) string {
	if len(by) == 1 {
		var list []string
		for _, k := range keys {
			list = append(list, k[0])
		}
		return column(by[0]) + " IN (" + strings.Join(list, ", ") + ")"
	}
	var any func(keys [][]string) string // in halves, since a database reads only so many behind each other
	any = func(keys [][]string) string {
		if len(keys) > 8 {
			return "(" + any(keys[:len(keys)/2]) + " OR " + any(keys[len(keys)/2:]) + ")"
		}
		var list []string
		for _, k := range keys {
			list = append(list, IsRow(column, by, k))
		}
		return "(" + strings.Join(list, " OR ") + ")"
	}
	return any(keys)
}

// KeyList are the columns of a key, one behind the other.
func KeyList(column func(name string) string, by []string) string {
	var out []string
	for _, c := range by {
		out = append(out, column(c))
	}
	return strings.Join(out, ", ")
}

// IsAmong is the condition that a row's key is, or with not is not, among those of a query
// whose columns are those of the key.
func IsAmong(column func(name string) string, by []string, not bool, query string) string {
	in := " IN ("
	if not {
		in = " NOT IN ("
	}
	list := KeyList(column, by)
	if len(by) > 1 {
		list = "(" + list + ")"
	}
	return list + in + query + ")"
}

// Same is the condition that two rows have the same key.
func Same(one, other func(name string) string, by []string) string {
	var out []string
	for _, c := range by {
		out = append(out, one(c)+" = "+other(c))
	}
	return strings.Join(out, " AND ")
}

// Aliased gives the names of columns of a table that is called by an alias; without one they
// stand alone.
func Aliased(quote func(string) string, alias string) func(name string) string {
	if alias == "" {
		return quote
	}
	return func(name string) string { return fmt.Sprintf("%s.%s", alias, quote(name)) }
}
