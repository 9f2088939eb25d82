package sqltok

// This file makes one token of the name of something and the schema before it, where nothing but the
// name of such a thing is possible: after FROM, TABLE, INTO and the like, and before the point of a
// column. Elsewhere a point is between a table and a column.

import (
	"slices"
	"strings"
)

// placeWords are the words after which something is named that lies in a schema.
var placeWords = map[string]bool{
	"TABLE": true, "ONLY": true, "EXISTS": true, "JOIN": true, "INTO": true, "UPDATE": true, "REFERENCES": true,
	"VIEW": true, "INDEX": true, "CONCURRENTLY": true, "SEQUENCE": true, "FUNCTION": true, "PROCEDURE": true,
	"ROUTINE": true, "AGGREGATE": true, "TYPE": true, "DOMAIN": true, "STATISTICS": true, "PARTITION": true, "OF": true,
	"TRUNCATE": true, "INHERIT": true, "COLLATION": true, "CONFIGURATION": true, "DICTIONARY": true,
}

// lists are the words after which there may be several tables; ends are those that end such a list.
var (
	lists = []string{"FROM", "TABLE", "TRUNCATE", "USING"}
	ends  = []string{"WHERE", "ON", "GROUP", "ORDER", "UNION", "SELECT", "SET", "HAVING", "LIMIT", "RETURNING", "WITH"}
)

// fromInside are functions that have the word FROM among their arguments.
var fromInside = []string{"EXTRACT", "SUBSTRING", "TRIM", "OVERLAY", "POSITION"}

// pointed tells whether a text may have such a name: most have none, and are read as they are.
func pointed(src string) bool {
	letter := func(b byte) bool { return b|0x20 >= 'a' && b|0x20 <= 'z' || b == '_' || b == '"' || b >= 0x80 }
	for off := 0; ; {
		i := strings.IndexByte(src[off:], '.')
		if i < 0 {
			return false
		}
		if off += i + 1; off < len(src) && off > 1 && letter(src[off]) && (letter(src[off-2]) || digit(src[off-2])) {
			return true
		}
	}
}

// place tells whether the i-th token can only be such a name.
func place(list []Token, i int) bool {
	if i == 0 {
		return false
	}
	before := &list[i-1]
	if before.Is(",") || before.Is("(") {
		if at := opening(list, i); at > 0 && list[at-1].Is("INHERITS") {
			return true
		}
	}
	if before.Is(",") {
		at := listBefore(list, i-1)
		return at >= 0 && (!list[at].Is("FROM") && !list[at].Is("USING") || place(list, at+1))
	}
	switch word := before.Word(); word {
	case "":
		return before.Is("::")
	case "FROM":
		at := opening(list, i-1)
		inside := at > 0 && slices.Contains(fromInside, list[at-1].Word())
		return !inside && !(i > 1 && list[i-2].Is("DISTINCT"))
	case "ON": // of a CREATE, and not of a join
		query := func(t Token) bool { return t.Is("SELECT") || t.Is("JOIN") }
		return slices.Contains([]string{"CREATE", "DROP", "COMMENT", "ALTER", "GRANT", "REVOKE"}, list[0].Word()) &&
			!slices.ContainsFunc(list[:i], query)
	case "USING":
		return list[0].Is("DELETE")
	case "TO":
		return list[0].Is("CREATE") &&
			slices.ContainsFunc(list[:min(4, len(list))], func(t Token) bool { return t.Is("RULE") })
	default:
		return placeWords[word]
	}
}

// listBefore is the word with which the list of tables begins to which a comma belongs; -1: it is in none.
func listBefore(list []Token, comma int) int {
	depth := 0
	for i := comma - 1; i >= 0 && depth >= 0; i-- {
		switch {
		case list[i].Is(")"):
			depth++
		case list[i].Is("("):
			depth--
		case depth > 0 || list[i].Kind != Word:
		case slices.Contains(lists, list[i].Word()):
			return i
		case slices.Contains(ends, list[i].Word()):
			return -1
		}
	}
	return -1
}

// opening is the bracket in which the i-th token is; -1: it is in none.
func opening(list []Token, i int) int {
	depth := 0
	for i--; i >= 0; i-- {
		switch {
		case list[i].Is(")"):
			depth++
		case list[i].Is("("):
			if depth--; depth < 0 {
				return i
			}
		}
	}
	return -1
}

// placed are tokens with each such name as one.
func (r *Rules) placed(src string, list []Token) []Token {
	var out []Token // nil: nothing is joined yet
	last := 0
	for i := 0; i < len(list); i++ {
		t, n := &list[i], i+2
		if i > 0 && list[i-1].Text == "." {
			continue
		}
		switch {
		case n < len(list) && list[i+1].Text == "." && t.Named() && list[n].Named():
			if in := t.Name(); in == "public" || in == "pg_catalog" {
				continue
			}
			column := n+2 < len(list) && list[n+1].Is(".") && list[n+2].Named()
			if !column && !place(list, i) {
				continue
			}
			out = append(append(out, list[last:i]...), Token{
				Kind: Name, Text: src[t.Start:list[n].End], Val: r.InSchema(t.Name(), list[n].Name()), Start: t.Start,
				End: list[n].End, Placed: true, In: t.Name(), rules: t.rules,
			})
			last, i = n+1, n
		case t.Kind == Name && strings.Contains(t.Val, ".") && place(list, i):
			t.Val, t.Placed = r.InSchema("", t.Val), true
		}
	}
	if last == 0 {
		return list
	}
	return append(out, list[last:]...)
}
