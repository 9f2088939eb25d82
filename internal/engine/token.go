package engine

// This file is SQL cut into tokens, in a form that is the same for every engine.

import "strings"

// Token is one token of SQL.
type Token struct {
	Text  string // as written
	Name  string // what it stands for as a name, where it is Named
	Named bool   // it can be a name
	Bare  bool   // a keyword, or a name without quotes
	// Start and End are its place in the SQL.
	Start, End int
}

// Word is a bare token in capitals, to be compared with keywords; "" for all others.
func (t Token) Word() string {
	if !t.Bare {
		return ""
	}
	return strings.ToUpper(t.Text)
}
