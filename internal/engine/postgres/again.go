package postgres

// This file writes expressions and views so that the server stores them again as it had them:
// not all that it says of itself makes the same once more. Its short form leaves out brackets
// that change nothing and are kept all the same, its long form cannot say everything.

import (
	"regexp"
	"slices"
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// twice tells of a stored tree, as SQL, whether AND and OR are in it twice: only then its two
// forms can differ in more than their looks.
func twice(tree string) string { return tree + `::text ~ 'BOOLEXPR.*BOOLEXPR'` }

// tidied is a stored expression as a person would write it, which is created as it was stored.
// full has all its brackets, or is empty where they say nothing further.
func tidied(stored, full string) sqlschema.SQL {
	out := sqlOf(tidy(stored))
	again := storedAgain(stored)
	if nested(full) {
		again = storedAgain(full)
	}
	if out.Text != again {
		out.Stored = again
	}
	return out
}

// viewSQL is the statement that creates a view.
func viewSQL(head, stored, full, behind string) sqlschema.SQL {
	query := func(s string) string { return head + strings.TrimSuffix(strings.TrimSpace(s), ";") + behind }
	out := sqlschema.SQL{Text: query(stored), Canon: viewKey}
	if nested(full) {
		out.Stored = query(storedAgain(full))
	}
	return out
}

// triggerText is a trigger as it is created again: its condition in full where that says more.
func triggerText(stored, full string) string {
	head, _, when := strings.Cut(stored, " WHEN (")
	_, tail, also := strings.Cut(full, " WHEN (")
	if when && also && nested(full) {
		return head + " WHEN (" + storedAgain(tail)
	}
	return stored
}

// group is what is between two brackets of a text in full: where its words are in the list, and
// the word that joins its parts, if one does.
type group struct {
	open, close int
	joined      string // AND, OR
	at          []int  // the places of that word
	inner       []*group
}

// groups reads the brackets of a text.
func groups(list []sqltok.Token) []*group {
	all := &group{open: -1, close: len(list)}
	stack := []*group{all}
	var out []*group
	for i, t := range list {
		in := stack[len(stack)-1]
		switch {
		case t.Text == "(":
			g := &group{open: i}
			in.inner, stack = append(in.inner, g), append(stack, g)
		case t.Text == ")" && len(stack) > 1:
			in.close, stack = i, stack[:len(stack)-1]
			out = append(out, in)
		case t.Is("AND") || t.Is("OR"):
			in.joined, in.at = strings.ToUpper(t.Text), append(in.at, i)
		}
	}
	return append(out, all)
}

// nested tells whether a text in full has something joined by AND within something joined by
// AND, or the same with OR: a short form has no brackets there.
func nested(full string) bool {
	for _, g := range groups(tokens(full)) {
		for _, in := range g.inner {
			if in.joined != "" && in.joined == g.joined && g.joins(in) {
				return true
			}
		}
	}
	return false
}

// joins tells whether a group within this one is a part of its own that AND or OR joins: the
// word is directly before or after its brackets.
func (g *group) joins(in *group) bool {
	return slices.Contains(g.at, in.open-1) || slices.Contains(g.at, in.close+1)
}

// betweens writes the bounds of a value as BETWEEN where they come first of what the same word
// joins: the server would take the brackets around them for none.
func betweens(full string) string {
	list := tokens(full)
	for _, g := range groups(list) {
		for _, in := range g.inner {
			if in.joined == "" || in.joined != g.joined || in.close+1 != g.at[0] ||
				len(in.at) != 1 || len(in.inner) != 2 {
				continue
			}
			low, high := in.inner[0], in.inner[1]
			if in.open+1 != low.open || low.close+1 != in.at[0] || in.at[0]+1 != high.open ||
				high.close+1 != in.close {
				continue
			}
			word, less, more := " BETWEEN ", ">=", "<="
			if in.joined == "OR" {
				word, less, more = " NOT BETWEEN ", "<", ">"
			}
			x, a, ok := sides(full, list, low, less)
			y, b, also := sides(full, list, high, more)
			if ok && also && x == y {
				from, to := list[in.open].End, list[in.close].Start
				return betweens(full[:from] + x + word + a + " AND " + b + full[to:])
			}
		}
	}
	return full
}

// sides are the two sides of a comparison between brackets.
func sides(text string, list []sqltok.Token, g *group, operator string) (left, right string, ok bool) {
	depth := 0
	for i := g.open + 1; i < g.close; i++ {
		switch list[i].Text {
		case "(":
			depth++
		case ")":
			depth--
		case operator:
			if depth == 0 {
				return strings.TrimSpace(text[list[g.open].End:list[i].Start]),
					strings.TrimSpace(text[list[i].End:list[g.close].Start]), true
			}
		}
	}
	return "", "", false
}

// oneOf are the ways in which the server stores that a column is one of some texts, or none of
// them: of varchar, and of text.
var oneOf = []*regexp.Regexp{
	regexp.MustCompile(`(\(` + ofColumn + `\)|` + ofColumn + `)::text (= ANY|<> ALL) ` +
		`\(\(?ARRAY\[((?:'(?:[^']|'')*'::character varying, )+'(?:[^']|'')*'::character varying)\]\)?::text\[\]\)`),
	regexp.MustCompile(`(` + ofColumn + `) (= ANY|<> ALL) ` +
		`\(ARRAY\[((?:'(?:[^']|'')*'::text, )+'(?:[^']|'')*'::text)\]\)`),
}

// ofColumn is a column, alone or with its table.
const ofColumn = `(?:"(?:[^"]|"")+"|\b[a-z_]\w*)(?:\.(?:"(?:[^"]|"")+"|\w+))?`

// storedAgain is what the server stores as this text. From its own text for a list of
// varchars it makes another: it takes the type of the list for the type of each.
func storedAgain(stored string) string {
	if strings.Contains(stored, ")) AND ") || strings.Contains(stored, ")) OR ") {
		stored = betweens(stored)
	}
	for _, form := range oneOf {
		stored = form.ReplaceAllStringFunc(stored, func(s string) string {
			m := form.FindStringSubmatch(s)
			word := " IN ("
			if m[2] == "<> ALL" {
				word = " NOT IN ("
			}
			return m[1] + word + ofText.ReplaceAllString(m[3], "$1") + ")"
		})
	}
	return stored
}

// ofText is a text with its type.
var ofText = regexp.MustCompile(`('(?:[^']|'')*')::(?:character varying|text)`)
