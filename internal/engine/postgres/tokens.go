package postgres

// This file is a tokenizer of PostgreSQL's SQL: dollar quotes, E'' strings,
// comments within comments, casts. Where a statement ends, what it names and what
// it means is told by its tokens, never by searching in its text.

import (
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

// rules: dollar quotes, E” texts, comments within comments, casts.
var rules = &sqltok.Rules{
	NameQuotes: `"`, TextQuotes: "'", FoldNames: true, InSchema: schema.InSchema,
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

// tokens are all tokens of SQL but comments. The table that is moved into another schema is named in a text.
func tokens(src string) []sqltok.Token {
	list := rules.Lex(src)
	if len(list) == moveTokens && list[1].Name() == moveFunction {
		if t := rules.Lex("TABLE " + list[3].Val); len(t) == 2 {
			name := &list[3]
			name.Kind, name.Val, name.Placed, name.In = sqltok.Name, t[1].Name(), t[1].Placed, t[1].In
		}
	}
	return list
}

// moveTokens is the number of tokens of SELECT erbario_move('TABLE', 'SCHEMA').
const moveTokens = 7

// mentions tells whether a name stands among the tokens of SQL.
func mentions(sql, name string) bool {
	for _, t := range tokens(sql) {
		if t.Named() && t.Name() == name {
			return true
		}
	}
	return false
}

// Lex cuts SQL into its tokens, comments left out. The schema of the project needs not stand before a name.
func (e Engine) Lex(sql string) []sqltok.Token {
	list := tokens(sql)
	for i := range list {
		if t := &list[i]; t.In != "" && t.In == e.main {
			t.In, t.Val = "", schema.InSchema("", bare(t.Val))
		}
	}
	return list
}
