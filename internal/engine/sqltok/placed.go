package sqltok

// This file makes one token of the name of something and the schema before it, where only a name
// of such a thing can stand: behind FROM, TABLE, INTO and the like, and before the point of a
// column. Elsewhere a point stands between a table and a column.

import (
	"slices"
	"strings"
)

// placeWords are the words behind which something is named that lies in a schema.
var placeWords = map[string]bool{
	"TABLE": true, "ONLY": true, "EXISTS": true, "JOIN": true, "INTO": true, "UPDATE": true, "REFERENCES": true,
	"VIEW": true, "INDEX": true, "CONCURRENTLY": true, "SEQUENCE": true, "FUNCTION": true, "PROCEDURE": true,
	"ROUTINE": true, "AGGREGATE": true, "TYPE": true, "DOMAIN": true, "STATISTICS": true, "PARTITION": true, "OF": true,
	"TRUNCATE": true, "INHERIT": true, "COLLATION": true, "CONFIGURATION": true, "DICTIONARY": true, "::": true,
}

// ends are the words that end a list of tables.
var ends = map[string]bool{
	"WHERE": true, "ON": true, "GROUP": true, "ORDER": true, "UNION": true, "SELECT": true, "SET": true, "USING": true,
	"HAVING": true, "LIMIT": true, "RETURNING": true, "WITH": true,
}

// fromInside are functions that have the word FROM among their arguments.
var fromInside = map[string]bool{"EXTRACT": true, "SUBSTRING": true, "TRIM": true, "OVERLAY": true, "POSITION": true}

// places tells, token by token, where a name is that of something in a schema.
type places struct {
	list   []Token
	opens  []int  // the brackets that are open
	listed []bool // for each of them, and outside: a list of tables is under way
	query  bool   // a SELECT or a JOIN has been seen: ON begins a condition
}

func newPlaces(list []Token) *places { return &places{list: list, listed: []bool{false}} }

// next tells whether what stands behind the i-th token, at which all before have been, can only be such a
// name.
func (p *places) next(i int) bool {
	t := p.list[i]
	word, here := t.Word(), &p.listed[len(p.listed)-1]
	switch {
	case t.Is("("):
		p.opens, p.listed = append(p.opens, i), append(p.listed, false)
		return false
	case t.Is(")"):
		if n := len(p.opens); n > 0 {
			p.opens, p.listed = p.opens[:n-1], p.listed[:n]
		}
		return false
	case t.Is(","):
		return *here
	case word == "SELECT" || word == "JOIN":
		p.query = true
	}
	if ends[word] {
		*here = false
	}
	first := p.list[0].Word()
	switch {
	case word == "FROM":
		n := len(p.opens)
		inside := n > 0 && p.opens[n-1] > 0 && fromInside[p.list[p.opens[n-1]-1].Word()]
		*here = !inside && (i == 0 || !p.list[i-1].Is("DISTINCT"))
		return *here
	case word == "TABLE" || word == "TRUNCATE":
		*here = true
		return true
	case word == "ON":
		return !p.query && (first == "CREATE" || first == "DROP" || first == "COMMENT" || first == "ALTER" ||
			first == "GRANT" || first == "REVOKE")
	case word == "USING":
		return first == "DELETE"
	case word == "TO":
		return first == "CREATE" && slices.ContainsFunc(p.list[:min(4, len(p.list))],
			func(t Token) bool { return t.Is("RULE") })
	}
	return placeWords[word] || t.Is("::")
}

// placed are tokens with each such name as one.
func (r *Rules) placed(src string, list []Token) []Token {
	p := newPlaces(list)
	out := make([]Token, 0, len(list))
	place := false
	for i := 0; i < len(list); i++ {
		t := list[i]
		if n := i + 2; n < len(list) && t.Named() && list[i+1].Is(".") && list[n].Named() &&
			(i == 0 || !list[i-1].Is(".")) && !strings.EqualFold(t.Name(), "public") && t.Name() != "pg_catalog" {
			more := n+2 < len(list) && list[n+1].Is(".") && list[n+2].Named() // a column
			if place || more {
				t = Token{Kind: Name, Text: src[t.Start:list[n].End], Val: r.InSchema(t.Name(), list[n].Name()),
					Start: t.Start, End: list[n].End, Placed: true, In: t.Name(), rules: t.rules}
				place = p.next(n)
				i = n
				out = append(out, t)
				continue
			}
		}
		if place && t.Kind == Name && strings.Contains(t.Val, ".") {
			t.Val, t.Placed = r.InSchema("", t.Val), true
		}
		place = p.next(i)
		out = append(out, t)
	}
	return out
}
