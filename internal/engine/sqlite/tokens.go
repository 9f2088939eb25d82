package sqlite

// This file is a tokenizer of SQLite's SQL, after the rules of SQLite's own:
// what the engine keeps of a schema is the text of its CREATE statements, and
// what a text means is told by its tokens, never by searching in it.

import (
	"strings"

	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// rules are those of SQLite's own tokenizer. A text in quotes can pose as a name.
var rules = &sqltok.Rules{
	NameQuotes: "\"`[", TextQuotes: "'", TextsAsNames: true,
	Prefixes:    []sqltok.Prefix{{Head: "x", Quote: '\'', Kind: sqltok.Blob}},
	DollarAfter: true, Params: "?:@$#", Hex: true, Underscores: true,
	Operators: []string{"->>", "<>", "<=", ">=", "<<", ">>", "==", "!=", "||", "->"},
}

// tokens are all tokens of SQL but comments.
func tokens(src string) []sqltok.Token { return rules.Lex(src) }

// canonical is the form in which two pieces of SQL are compared: their tokens,
// with names unquoted, words in lower case, comments gone, one spelling for
// operators that have two, and brackets around the whole taken off.
func canonical(src string) string {
	return key(unwrap(tokens(src)))
}

func key(list []sqltok.Token) string {
	var b strings.Builder
	for i, t := range list {
		if i > 0 {
			b.WriteByte(' ')
		}
		switch {
		case t.Kind == sqltok.Word:
			b.WriteString(strings.ToLower(t.Text))
		case t.Kind == sqltok.Name && plainName(t.Val):
			b.WriteString(strings.ToLower(t.Val))
		case t.Kind == sqltok.Name:
			b.WriteString(`"` + strings.ReplaceAll(strings.ToLower(t.Val), `"`, `""`) + `"`)
		case t.Text == "!=":
			b.WriteString("<>")
		case t.Text == "==":
			b.WriteString("=")
		case t.Kind == sqltok.Blob, t.Kind == sqltok.Number:
			b.WriteString(strings.ToLower(t.Text))
		default:
			b.WriteString(t.Text)
		}
	}
	return b.String()
}

func plainName(s string) bool { return rules.BareWord(s) && !strings.Contains(s, "$") }

// unwrap takes brackets off that go around all of list.
func unwrap(list []sqltok.Token) []sqltok.Token {
	for sqltok.Bracketed(list) {
		list = list[1 : len(list)-1]
	}
	return list
}

// sqlOf makes a comparable piece of SQL of a text.
func sqlOf(text string) sqlschema.SQL {
	return sqlschema.SQL{Text: text, Canon: canonical}
}

// Lex cuts SQL into its tokens, comments left out.
func (Engine) Lex(sql string) []sqltok.Token { return tokens(sql) }

// tablesOf are the tables that a statement names.
func tablesOf(statement string) []string {
	return sqltext.Touches(Engine{}.Lex(statement), nil).Tables
}
