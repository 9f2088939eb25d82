package seed

// This file reads the checks of a model as far as they are simple: comparisons of
// columns with constants and with each other, joined by and, or, not. What it can
// read narrows what is made, and is asked of every row before a database sees it;
// all else is left to the database.

import (
	"slices"
	"strconv"
	"strings"

	"erbario/internal/schema"
)

// expr is an expression over a row; its value is nil, a number (float64), a text
// or a truth (bool). unknown is the value of what cannot be told here.
type expr struct {
	op     string // column, const, and, or, not, = <> < <= > >=, null (is null), in, + - * /, length, abs, lower, upper
	column int    // position in the row
	number bool   // the column holds decimals, which are texts in a row
	value  any
	args   []*expr
}

// readCheck reads the SQL of a check; nil where it is not simple. place gives the
// position of a column's name, or -1, and number tells whether the column there
// holds decimals.
func readCheck(sql string, place func(name string) int, number func(int) bool) *expr {
	p := &checkParser{place: place, number: number}
	if !p.scan(sql) {
		return nil
	}
	e := p.or()
	if p.bad || p.at < len(p.tokens) {
		return nil
	}
	return e
}

type checkToken struct {
	kind byte // w word, c column in braces or quotes, n number, s text, o operator
	text string
}

type checkParser struct {
	tokens []checkToken
	at     int
	bad    bool
	place  func(string) int
	number func(int) bool
}

func (p *checkParser) scan(sql string) bool {
	for i := 0; i < len(sql); {
		b := sql[i]
		quoted := func(end byte) (string, bool) {
			var out strings.Builder
			for j := i + 1; j < len(sql); j++ {
				if sql[j] == end {
					if end == '}' || j+1 == len(sql) || sql[j+1] != end {
						i = j + 1
						return out.String(), true
					}
					j++
				}
				out.WriteByte(sql[j])
			}
			return "", false
		}
		switch {
		case b == ' ' || b == '\t' || b == '\n' || b == '\r':
			i++
		case b == '\'':
			s, ok := quoted('\'')
			if !ok {
				return false
			}
			p.tokens = append(p.tokens, checkToken{'s', s})
		case b == '{' || b == '"' || b == '`':
			end := b
			if b == '{' {
				end = '}'
			}
			s, ok := quoted(end)
			if !ok {
				return false
			}
			p.tokens = append(p.tokens, checkToken{'c', strings.Trim(strings.TrimSpace(s), `"`)})
		case b >= '0' && b <= '9' || b == '.' && i+1 < len(sql) && sql[i+1] >= '0' && sql[i+1] <= '9':
			j := i
			for j < len(sql) && (sql[j] >= '0' && sql[j] <= '9' || sql[j] == '.') {
				j++
			}
			p.tokens = append(p.tokens, checkToken{'n', sql[i:j]})
			i = j
		case b == '_' || b|0x20 >= 'a' && b|0x20 <= 'z':
			j := i
			for j < len(sql) && (sql[j] == '_' || sql[j]|0x20 >= 'a' && sql[j]|0x20 <= 'z' || sql[j] >= '0' &&
				sql[j] <= '9') {
				j++
			}
			p.tokens = append(p.tokens, checkToken{'w', sql[i:j]})
			i = j
		default:
			n := 1
			if i+1 < len(sql) && slices.Contains([]string{"<=", ">=", "<>", "!=", "==", "||"}, sql[i:i+2]) {
				n = 2
			}
			p.tokens = append(p.tokens, checkToken{'o', sql[i : i+n]})
			i += n
		}
	}
	return true
}

// accept takes the next token if it is this word or operator.
func (p *checkParser) accept(text string) bool {
	if p.at < len(p.tokens) && (p.tokens[p.at].kind == 'w' || p.tokens[p.at].kind == 'o') &&
		strings.EqualFold(p.tokens[p.at].text, text) {
		p.at++
		return true
	}
	return false
}

func (p *checkParser) fail() *expr {
	p.bad = true
	return &expr{op: "const"}
}

func (p *checkParser) or() *expr {
	e := p.and()
	for p.accept("or") {
		e = &expr{op: "or", args: []*expr{e, p.and()}}
	}
	return e
}

func (p *checkParser) and() *expr {
	e := p.not()
	for p.accept("and") {
		e = &expr{op: "and", args: []*expr{e, p.not()}}
	}
	return e
}

func (p *checkParser) not() *expr {
	if p.accept("not") {
		return &expr{op: "not", args: []*expr{p.not()}}
	}
	return p.comparison()
}

func (p *checkParser) comparison() *expr {
	e := p.sum()
	for _, op := range []string{"<=", ">=", "<>", "!=", "==", "=", "<", ">"} {
		if p.accept(op) {
			switch op {
			case "!=":
				op = "<>"
			case "==":
				op = "="
			}
			return &expr{op: op, args: []*expr{e, p.sum()}}
		}
	}
	negate := func(e *expr, not bool) *expr {
		if not {
			return &expr{op: "not", args: []*expr{e}}
		}
		return e
	}
	if p.accept("is") {
		not := p.accept("not")
		if !p.accept("null") {
			return p.fail()
		}
		return negate(&expr{op: "null", args: []*expr{e}}, not)
	}
	not := p.accept("not")
	switch {
	case p.accept("between"):
		low := p.sum()
		if !p.accept("and") {
			return p.fail()
		}
		return negate(
			&expr{op: "and", args: []*expr{{op: ">=", args: []*expr{e, low}}, {op: "<=", args: []*expr{e, p.sum()}}}},
			not,
		)
	case p.accept("in"):
		out := &expr{op: "in", args: []*expr{e}}
		if !p.accept("(") {
			return p.fail()
		}
		for {
			out.args = append(out.args, p.sum())
			if p.accept(")") {
				return negate(out, not)
			}
			if !p.accept(",") {
				return p.fail()
			}
		}
	case not:
		return p.fail()
	}
	return e
}

func (p *checkParser) sum() *expr {
	e := p.product()
	for {
		switch {
		case p.accept("+"):
			e = &expr{op: "+", args: []*expr{e, p.product()}}
		case p.accept("-"):
			e = &expr{op: "-", args: []*expr{e, p.product()}}
		default:
			return e
		}
	}
}

func (p *checkParser) product() *expr {
	e := p.operand()
	for p.accept("*") {
		e = &expr{op: "*", args: []*expr{e, p.operand()}}
	}
	return e
}

func (p *checkParser) operand() *expr {
	if p.at >= len(p.tokens) {
		return p.fail()
	}
	if p.accept("(") {
		e := p.or()
		if !p.accept(")") {
			return p.fail()
		}
		return e
	}
	if p.accept("-") {
		return &expr{op: "-", args: []*expr{{op: "const", value: 0.0}, p.operand()}}
	}
	t := p.tokens[p.at]
	p.at++
	switch t.kind {
	case 's':
		return &expr{op: "const", value: t.text}
	case 'n':
		n, err := strconv.ParseFloat(t.text, 64)
		if err != nil {
			return p.fail()
		}
		return &expr{op: "const", value: n}
	case 'w', 'c':
		word := strings.ToLower(t.text)
		if t.kind == 'w' && p.accept("(") {
			if !slices.Contains([]string{"length", "abs", "lower", "upper"}, word) {
				return p.fail()
			}
			e := &expr{op: word, args: []*expr{p.or()}}
			if !p.accept(")") {
				return p.fail()
			}
			return e
		}
		if t.kind == 'w' {
			switch word {
			case "true", "false":
				return &expr{op: "const", value: word == "true"}
			case "null":
				return &expr{op: "const"}
			}
		}
		if i := p.place(t.text); i >= 0 {
			return &expr{op: "column", column: i, number: p.number(i)}
		}
	}
	return p.fail()
}

// of is the expression's value over a row.
func (e *expr) of(row []any) any {
	switch e.op {
	case "const":
		return e.value
	case "column":
		switch v := row[e.column].(type) {
		case int64:
			return float64(v)
		case string:
			if e.number {
				f, _ := strconv.ParseFloat(v, 64)
				return f
			}
		}
		return row[e.column]
	case "and", "or":
		a, b := e.args[0].of(row), e.args[1].of(row)
		for _, v := range []any{a, b} {
			if t, ok := v.(bool); ok && t == (e.op == "or") {
				return t
			}
		}
		if a == nil || b == nil {
			return nil
		}
		return b
	case "not":
		if t, ok := e.args[0].of(row).(bool); ok {
			return !t
		}
		return nil
	case "null":
		return e.args[0].of(row) == nil
	case "in":
		a, found := e.args[0].of(row), any(false)
		for _, x := range e.args[1:] {
			switch c, ok := compare(a, x.of(row)); {
			case !ok:
				found = nil
			case c == 0:
				return true
			}
		}
		return found
	case "length", "lower", "upper":
		s, ok := e.args[0].of(row).(string)
		if !ok {
			return nil
		}
		switch e.op {
		case "lower":
			return strings.ToLower(s)
		case "upper":
			return strings.ToUpper(s)
		}
		return float64(len([]rune(s)))
	case "abs":
		n, ok := e.args[0].of(row).(float64)
		if !ok {
			return nil
		}
		return max(n, -n)
	case "+", "-", "*":
		a, ok1 := e.args[0].of(row).(float64)
		b, ok2 := e.args[1].of(row).(float64)
		if !ok1 || !ok2 {
			return nil
		}
		switch e.op {
		case "+":
			return a + b
		case "-":
			return a - b
		}
		return a * b
	}
	c, ok := compare(e.args[0].of(row), e.args[1].of(row))
	if !ok {
		return nil
	}
	switch e.op {
	case "=":
		return c == 0
	case "<>":
		return c != 0
	case "<":
		return c < 0
	case "<=":
		return c <= 0
	case ">":
		return c > 0
	}
	return c >= 0
}

// holds tells whether a row passes a check: what is null, or cannot be told here,
// passes.
func (e *expr) holds(row []any) bool {
	t, ok := e.of(row).(bool)
	return !ok || t
}

// compare orders two values; ok is false where one is null or they are of
// different kinds.
func compare(a, b any) (int, bool) {
	number := func(v any) any {
		if t, ok := v.(bool); ok {
			if t {
				return 1.0
			}
			return 0.0
		}
		return v
	}
	switch x := number(a).(type) {
	case float64:
		if y, ok := number(b).(float64); ok {
			switch {
			case x < y:
				return -1, true
			case x > y:
				return 1, true
			}
			return 0, true
		}
	case string:
		if y, ok := b.(string); ok {
			return strings.Compare(x, y), true
		}
	}
	return 0, false
}

// columns are the positions of the columns that an expression looks at.
func (e *expr) columns() []int {
	var out []int
	if e.op == "column" {
		out = append(out, e.column)
	}
	for _, a := range e.args {
		out = append(out, a.columns()...)
	}
	return out
}

// terms are the parts of an expression that all have to hold. One that holds of
// nulls too counts without them, since an empty value passes anyway.
func (e *expr) terms() []*expr {
	switch {
	case e.op == "and":
		return append(e.args[0].terms(), e.args[1].terms()...)
	case e.op == "or" && e.args[0].op == "null":
		return e.args[1].terms()
	case e.op == "or" && e.args[1].op == "null":
		return e.args[0].terms()
	}
	return []*expr{e}
}

var turned = map[string]string{"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "=", "<>": "<>"}

// comparisonOf splits a comparison of a column with a constant or a column.
func (e *expr) comparisonOf() (column int, op string, other *expr, ok bool) {
	if turned[e.op] == "" || len(e.args) != 2 {
		return 0, "", nil, false
	}
	a, b, op := e.args[0], e.args[1], e.op
	if a.op != "column" {
		a, b, op = b, a, turned[op]
	}
	if b = b.constant(); a.op != "column" || b.op != "column" && b.op != "const" {
		return 0, "", nil, false
	}
	return a.column, op, b, true
}

// constant is the expression worked out, where nothing in it depends on the row.
func (e *expr) constant() *expr {
	if e.op == "column" || e.op == "const" || len(e.columns()) > 0 {
		return e
	}
	return &expr{op: "const", value: e.of(nil)}
}

// checkMessage tells of a check that a row does not pass at the server, and the
// line of the seed that would make it pass.
func checkMessage(t *schema.Table, c *schema.Check) (message, hint string) {
	var fields []string
	if c.Column != "" {
		if col := t.Column(c.Column); col != nil {
			fields = append(fields, col.Field)
		}
	} else {
		for _, col := range t.Columns {
			if strings.Contains(c.SQL, "{"+col.Name+"}") {
				fields = append(fields, col.Field)
			}
		}
	}
	what := "a value of " + t.Model
	if len(fields) > 0 {
		what = t.Model + "." + strings.Join(fields, " and "+t.Model+".")
	}
	field := "FIELD"
	if len(fields) > 0 {
		field = fields[len(fields)-1]
	}
	return what + " does not pass the check " + c.Name + ": " + strings.Join(strings.Fields(c.SQL), " "),
		"write under " + t.Model + " what fits, such as a line " + field + " VALUE, or " + field + ` one, other, or a range`
}
