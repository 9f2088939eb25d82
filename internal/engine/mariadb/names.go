package mariadb

// This file takes the name of the database from the SQL that the server tells of views and
// defaults, which names it before each name.

import (
	"slices"
	"strings"

	"erbario/internal/engine/sqltok"
)

// unqualified takes the name of the database from before the names in SQL that the
// server wrote; false: it may be another thing's name too, or another database is named.
func unqualified(text, database string) (string, bool) {
	list := tokens(text)
	var b strings.Builder
	last := 0
	for i := 0; i+2 < len(list); i++ {
		if !list[i].Named() || !list[i+1].Is(".") || i > 0 && list[i-1].Is(".") {
			continue
		}
		behind := ""
		if i > 0 {
			behind = strings.ToLower(list[i-1].Text)
		}
		table := behind == "from" || behind == "join" || behind == "straight_join" ||
			behind == "," && i+3 < len(list) && !list[i+3].Is(".") && !list[i+3].Is(",") && !list[i+3].Is(")") &&
				from(list[:i])
		whole := i+4 < len(list) && list[i+3].Is(".")
		if behind == "(" { // as in FROM (`a`.`b` JOIN `a`.`c`)
			table = !whole && from(list[:i])
		}
		switch {
		case !whole && !table: // a table or its alias, and a column
			if list[i].Name() == database {
				return "", false
			}
		case list[i].Name() == database:
			b.WriteString(text[last:list[i].Start])
			last = list[i+2].Start
		default:
			return "", false
		}
	}
	return b.String() + text[last:], true
}

// ownSequences takes the name of the database from before the sequences of defaults, where it is
// this one: a copy would count on in the live one.
func ownSequences(text, database string) string {
	if !strings.Contains(text, "val(") {
		return text
	}
	list := tokens(text)
	var b strings.Builder
	last := 0
	for i := 0; i+4 < len(list); i++ {
		if (list[i].Is("NEXTVAL") || list[i].Is("LASTVAL") || list[i].Is("SETVAL")) && list[i+1].Is("(") &&
			list[i+2].Named() && list[i+2].Name() == database && list[i+3].Is(".") {
			b.WriteString(text[last:list[i+2].Start])
			last = list[i+4].Start
		}
	}
	return b.String() + text[last:]
}

// from tells whether tokens end within the tables that a query reads.
func from(list []sqltok.Token) bool {
	for _, t := range slices.Backward(list) {
		switch {
		case t.Is("FROM"):
			return true
		case t.Is("SELECT"), t.Is("WHERE"), t.Is("ON"), t.Is("HAVING"), t.Is("BY"):
			return false
		}
	}
	return false
}
