package postgres

// This file is a tokenizer of PostgreSQL's SQL: dollar quotes, E'' strings,
// comments within comments, casts. Where a statement ends, what it names and what
// it means is told by its tokens, never by searching in its text.

import (
	"erbario/internal/engine/sqltok"
)

// rules: dollar quotes, E” texts, comments within comments, casts.
var rules = &sqltok.Rules{
	NameQuotes: `"`, TextQuotes: "'", FoldNames: true,
	Escaped: map[byte]byte{'n': '\n', 't': '\t', 'r': '\r'},
	Prefixes: []sqltok.Prefix{
		{Head: "e", Quote: '\'', Kind: sqltok.Text, Escapes: true},
		{Head: "b", Quote: '\'', Kind: sqltok.Text}, {Head: "x", Quote: '\'', Kind: sqltok.Text},
		{Head: "n", Quote: '\'', Kind: sqltok.Text}, {Head: "u&", Quote: '\'', Kind: sqltok.Text},
		{Head: "u&", Quote: '"', Kind: sqltok.Name},
	},
	DollarTexts: true, DollarAfter: true, NestedComments: true, Underscores: true,
	Operators: []string{
		"#>>", "!~*", "->>", "<>", "<=", ">=", "!=", "||", "->", "#>", "@>", "<@", "&&", "!~", "~*", ":=", "::",
	},
}

// tokens are all tokens of SQL but comments.
func tokens(src string) []sqltok.Token { return rules.Lex(src) }

// mentions tells whether a name stands among the tokens of SQL.
func mentions(sql, name string) bool {
	for _, t := range tokens(sql) {
		if t.Named() && t.Name() == name {
			return true
		}
	}
	return false
}

// Lex cuts SQL into its tokens, comments left out.
func (Engine) Lex(sql string) []sqltok.Token { return tokens(sql) }
