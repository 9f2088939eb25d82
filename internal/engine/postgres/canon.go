package postgres

// This file gives expressions the form in which they are compared. The server
// keeps them in its own words: with brackets around everything, the type behind
// every constant, and IN as a comparison with an array. What such words do not
// change is left out, on both sides; anything else that differs is put through the
// server itself (see canonicalize.go).

import (
	"bytes"
	"encoding/json"
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// sqlOf is an expression with its way to be compared.
func sqlOf(text string) sqlschema.SQL { return sqlschema.SQL{Text: text, Canon: canon} }

// plainTypes are the types that a cast behind a constant only names, since the
// constant stands where it could be nothing else.
var plainTypes = map[string]bool{
	"text": true, "character varying": true, "varchar": true, "bpchar": true, "integer": true, "bigint": true,
	"smallint": true, "numeric": true, "real": true, "double precision": true,
	"date": true, "time without time zone": true, "time": true, "timestamp without time zone": true,
	"timestamp": true, "timestamp with time zone": true, "timestamptz": true,
	"uuid": true, "jsonb": true, "json": true, "bytea": true, "boolean": true, "interval": true,
}

var numberTypes = map[string]bool{
	"integer": true, "bigint": true, "smallint": true, "numeric": true, "real": true, "double precision": true,
}

// textTypes are those among which a cast changes nothing.
var textTypes = map[string]bool{"text": true, "character varying": true, "varchar": true}

// canon is the form of an expression in which two that mean the same are equal.
func canon(text string) string {
	list := words(text)
	for {
		n := len(list)
		list = uncast(list)
		list = unbracket(list)
		list = unarray(list)
		if len(list) == n {
			break
		}
	}
	return strings.Join(list, " ")
}

// words are the tokens of an expression, each in one form.
func words(text string) []string {
	var out []string
	for _, t := range tokens(text) {
		switch t.Kind {
		case sqltok.Word:
			out = append(out, strings.ToLower(t.Text))
		case sqltok.Name:
			if t.Placed {
				out = append(out, quoteTable(t.Val))
				continue
			}
			out = append(out, quote(t.Val))
		case sqltok.Text:
			if strings.HasPrefix(t.Text, "b'") || strings.HasPrefix(t.Text, "B'") || strings.HasPrefix(t.Text, "x'") ||
				strings.HasPrefix(t.Text, "X'") {
				out = append(out, t.Text)
			} else {
				out = append(out, literal(t.Val))
			}
		case sqltok.Mark:
			if t.Text == "!=" {
				t.Text = "<>"
			}
			if n := len(out); n > 0 && t.Text == "-" {
				out = append(out, "-")
				continue
			}
			out = append(out, t.Text)
		default:
			out = append(out, t.Text)
		}
	}
	return negatives(out)
}

// negatives joins a minus to the number behind it where it is no subtraction.
func negatives(list []string) []string {
	var out []string
	for i := 0; i < len(list); i++ {
		if list[i] == "-" && i+1 < len(list) && isNumber(list[i+1]) && (len(out) == 0 || opens(out[len(out)-1])) {
			out = append(out, "-"+list[i+1])
			i++
			continue
		}
		out = append(out, list[i])
	}
	return out
}

// opens tells whether a value, rather than an operator, follows a word.
func opens(w string) bool {
	switch w {
	case "(",
		",",
		"=",
		"<",
		">",
		"<=",
		">=",
		"<>",
		"+",
		"*",
		"/",
		"%",
		"and",
		"or",
		"not",
		"then",
		"else",
		"when",
		"between",
		"[",
		"in":
		return true
	}
	return false
}

func isNumber(w string) bool {
	w = strings.TrimPrefix(w, "-")
	return w != "" && (w[0] >= '0' && w[0] <= '9' || w[0] == '.')
}

func isConstant(w string) bool { return isNumber(w) || w != "" && w[0] == '\'' }

// castAt gives the type of the cast that stands at i, and the number of its words.
func castAt(list []string, i int) (typ string, n int) {
	if i >= len(list) || list[i] != "::" || i+1 >= len(list) {
		return "", 0
	}
	for _, two := range []string{"character varying", "double precision"} {
		a, b, _ := strings.Cut(two, " ")
		if list[i+1] == a && i+2 < len(list) && list[i+2] == b {
			typ, n = two, 3
		}
	}
	if n == 0 {
		typ, n = list[i+1], 2
		if (typ == "time" || typ == "timestamp") && i+4 < len(list) && list[i+3] == "time" && list[i+4] == "zone" {
			typ, n = strings.Join(list[i+1:i+5], " "), 5
		}
	}
	if i+n+1 < len(list) && list[i+n] == "[" && list[i+n+1] == "]" {
		return typ + "[]", n + 2
	}
	if i+n < len(list) && list[i+n] == "(" {
		return "", 0 // a length is a meaning
	}
	return typ, n
}

// uncast leaves casts out that change nothing: behind a constant, and from one
// kind of text to another.
func uncast(list []string) []string {
	var out []string
	for i := 0; i < len(list); i++ {
		typ, n := castAt(list, i)
		last := ""
		if len(out) > 0 {
			last = out[len(out)-1]
		}
		switch {
		case n == 0:
			out = append(out, list[i])
			continue
		case numberTypes[typ] && isConstant(last) && last[0] == '\'' && isNumber(strings.Trim(last, "'")):
			out[len(out)-1] = strings.Trim(last, "'")
		case numberTypes[typ] && isNumber(last):
		case (typ == "jsonb" || typ == "json") && strings.HasPrefix(last, "'"):
			out[len(out)-1] = jsonLiteral(last)
		case plainTypes[typ] && !numberTypes[typ] && strings.HasPrefix(last, "'"):
		case last == "null":
		case textTypes[strings.TrimSuffix(typ, "[]")]:
		default:
			out = append(out, list[i])
			continue
		}
		i += n - 1
	}
	return out
}

// jsonLiteral is a constant of JSON in one form: the server orders the keys in its
// own way.
func jsonLiteral(s string) string {
	raw := strings.ReplaceAll(s[1:len(s)-1], "''", "'")
	d := json.NewDecoder(strings.NewReader(raw))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil {
		return s
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(v) != nil {
		return s
	}
	return literal(strings.TrimSpace(b.String()))
}

// unbracket leaves brackets out around one word, around brackets, and around the
// whole.
func unbracket(list []string) []string {
	match := make([]int, len(list))
	var stack []int
	for i, w := range list {
		switch w {
		case "(":
			stack = append(stack, i)
		case ")":
			if len(stack) == 0 {
				return list
			}
			match[stack[len(stack)-1]] = i
			stack = stack[:len(stack)-1]
		}
	}
	if len(stack) > 0 {
		return list
	}
	drop := map[int]bool{}
	for i, w := range list {
		if w != "(" {
			continue
		}
		j := match[i]
		called := i > 0 &&
			(isWord(list[i-1]) && !opens(list[i-1]) && list[i-1] != "is" && list[i-1] != "from" || list[i-1] == "in")
		switch {
		case i == 0 && j == len(list)-1:
		case !called && j == i+2:
		case i+1 < len(list) && list[i+1] == "(" && match[i+1] == j-1: // brackets within brackets
		case !called && j > i+3 && isWord(list[i+1]) && list[i+2] == "(" && match[i+2] == j-1 && !opens(list[i+1]): // one call
		default:
			continue
		}
		drop[i], drop[j] = true, true
	}
	if len(drop) == 0 {
		return list
	}
	var out []string
	for i, w := range list {
		if !drop[i] {
			out = append(out, w)
		}
	}
	return out
}

func isWord(w string) bool { return w != "" && (rules.Begins(w[0]) || w[0] == '"') }

// unarray writes a comparison with an array of constants as IN.
func unarray(list []string) []string {
	for i := 0; i+4 < len(list); i++ {
		if list[i] != "=" || list[i+1] != "any" || list[i+2] != "(" {
			continue
		}
		at := i + 3
		nested := list[at] == "("
		if nested {
			at++
		}
		if at+1 >= len(list) || list[at] != "array" || list[at+1] != "[" {
			continue
		}
		end := at + 2
		for end < len(list) && list[end] != "]" {
			end++
		}
		if end+1 >= len(list) || list[end+1] != ")" || nested && (end+2 >= len(list) || list[end+2] != ")") {
			continue
		}
		out := append([]string{}, list[:i]...)
		if end == at+3 { // one value alone: the server compares with it
			out = append(out, "=", list[at+2])
		} else {
			out = append(out, "in", "(")
			out = append(out, list[at+2:end]...)
			out = append(out, ")")
		}
		end++
		if nested {
			end++
		}
		return append(out, list[end+1:]...)
	}
	for i := 0; i+3 < len(list); i++ { // IN with one value
		if list[i] == "in" && list[i+1] == "(" && list[i+3] == ")" && (i == 0 || list[i-1] != "not") {
			out := append([]string{}, list[:i]...)
			return append(append(out, "=", list[i+2]), list[i+4:]...)
		}
	}
	return list
}

// tidy is a stored expression as a person would write it: without the brackets
// around it, and a constant without its type.
func tidy(text string) string {
	list := tokens(text)
	for len(list) > 2 && sqltok.Bracketed(list) {
		list = list[1 : len(list)-1]
	}
	if len(list) == 0 {
		return text
	}
	if c := canon(text); !strings.Contains(c, " ") && isConstant(c) {
		return c
	}
	if single := words(text); len(single) > 0 {
		if c := unbracketed(canon(text)); c != "" {
			return c
		}
	}
	return text[list[0].Start:list[len(list)-1].End]
}

// unbracketed is the form of a constant of several words; "" for anything else.
func unbracketed(c string) string {
	if strings.HasPrefix(c, "'") && strings.Count(c, "'")%2 == 0 && strings.HasSuffix(c, "'") && len(tokens(c)) == 1 {
		return c
	}
	return ""
}

// spelled writes the words of a form as a person would: names and constants as they
// are, SQL's own words in capitals.
func spelled(form string) string {
	var b strings.Builder
	last := ""
	for _, t := range tokens(form) {
		w := t.Text
		if t.Kind == sqltok.Word && (reservedWords()[w] || w == "between") {
			w = strings.ToUpper(w)
		}
		tight := w == ")" || w == "," || w == "]" || w == "[" || w == "." || last == "(" || last == "[" ||
			last == "." || last == "" || last == "::" || w == "::" ||
			w == "(" && isWord(last) && strings.ToUpper(last) != last
		if !tight {
			b.WriteByte(' ')
		}
		b.WriteString(w)
		last = w
	}
	return b.String()
}

func jsonTexts(s string) []string {
	var out []string
	if s != "" {
		_ = json.Unmarshal([]byte(s), &out)
	}
	return out
}

func jsonPairs(s string) [][]string {
	var out [][]string
	if s != "" {
		_ = json.Unmarshal([]byte(s), &out)
	}
	return out
}
