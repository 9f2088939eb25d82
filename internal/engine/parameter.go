package engine

// This file holds parameters: values in a migration that one database may need otherwise than
// the next. They are in its SQL as :name, and are put in before it runs.

import "strings"

// Parameter is a value that is asked for on each database.
type Parameter struct {
	Name  string // is in SQL behind a colon
	For   string // the column that is given it, as table.column
	Type  string // of the column, as a model would write it
	Home  string // what it was where the migration was drafted, as SQL; "": null
	Undo  bool   // it belongs to the way back: null unless it is given
	Query string // the rows that are given it; none: nobody needs to be asked
}

// ParameterName makes the word for a column's value.
func ParameterName(column string, undo bool) string {
	word := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return '_'
	}, strings.ToLower(column))
	if undo {
		return "back_" + word
	}
	return "value_" + word
}
