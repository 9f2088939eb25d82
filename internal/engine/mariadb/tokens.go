package mariadb

// This file is a tokenizer of MariaDB's SQL: names in backticks, texts with
// backslashes, three kinds of comment. What a piece of SQL names and means is told by
// its tokens, never by searching in its text.

import (
	"slices"
	"strings"

	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
)

// rules: names in backticks, texts with backslashes, three kinds of comment.
var rules = &sqltok.Rules{
	NameQuotes: "`", TextQuotes: `'"`,
	Escapes: `'"`, Escaped: map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', '0': 0, 'Z': 26},
	Prefixes: []sqltok.Prefix{
		{Head: "b", Quote: '\'', Kind: sqltok.Text, Escapes: true},
		{Head: "x", Quote: '\'', Kind: sqltok.Text, Escapes: true},
		{Head: "n", Quote: '\'', Kind: sqltok.Text, Escapes: true},
	},
	CharsetText: true, Dollar: true, HashComments: true, DashBlank: true,
	RunComments: []string{"/*!", "/*M!"}, Hex: true,
	Operators: []string{"<=>", "->>", "<>", "<=", ">=", "!=", "||", "&&", "->", ":="},
}

// tokens are all tokens of SQL but comments.
func tokens(src string) []sqltok.Token { return rules.Lex(src) }

// mentions tells whether a name stands among the tokens of SQL.
func mentions(sql, name string) bool {
	return slices.ContainsFunc(tokens(sql), func(t sqltok.Token) bool { return t.Named() && t.Name() == name })
}

// canon is the form of an expression in which two that mean the same are equal: words
// without case, names without quotes, and no brackets around the whole.
func canon(text string) string { return strings.Join(canonWords(text), " ") }

func canonWords(text string) []string {
	list := tokens(text)
	for sqltok.Bracketed(list) {
		list = list[1 : len(list)-1]
	}
	var out []string
	for _, t := range list {
		switch t.Kind {
		case sqltok.Word:
			out = append(out, strings.ToLower(t.Text))
		case sqltok.Name:
			out = append(out, strings.ToLower(t.Val))
		case sqltok.Text:
			out = append(out, literal(t.Val))
		case sqltok.Mark:
			if t.Text == "!=" {
				t.Text = "<>"
			}
			out = append(out, t.Text)
		default:
			out = append(out, t.Text)
		}
	}
	return out
}

// Lex cuts SQL into its tokens, comments left out.
func (Engine) Lex(sql string) []sqltok.Token { return tokens(sql) }

// tablesOf are the tables that a statement names; what one locks, others name.
func tablesOf(statement string) []string {
	if locksTables(statement) {
		return nil
	}
	return sqltext.Touches(Engine{}.Lex(statement), nil).Tables
}
