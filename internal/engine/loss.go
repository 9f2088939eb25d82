package engine

// This file is what a step destroys.

import (
	"slices"
	"strings"
)

// Loss is what a step destroys: the rows of a table, the values of one of its columns, or
// the rows that are marked as deleted.
type Loss struct {
	Table   string
	Column  string // empty: the whole table
	Deleted bool   // those of its rows that are marked as deleted
}

// deletedRows begins the name of a Loss that is Deleted.
const deletedRows = "deleted rows of "

// String is the name of a loss, as files and people have it: specimens, specimens.label, or
// deleted rows of specimens.
func (l Loss) String() string {
	switch {
	case l.Deleted:
		return deletedRows + l.Table
	case l.Column == "":
		return l.Table
	}
	return l.Table + "." + l.Column
}

// ReadLoss reads the name of a loss. A dot in it is taken for the one before a column: see Is.
func ReadLoss(name string) Loss {
	if table, ok := strings.CutPrefix(name, deletedRows); ok {
		return Loss{Table: table, Deleted: true}
	}
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		return Loss{Table: name[:i], Column: name[i+1:]}
	}
	return Loss{Table: name}
}

// Is tells whether it is that table's rows, or the values of that column of it. One that was
// read may be either, where the name of a table has a dot.
func (l Loss) Is(table, column string) bool {
	return !l.Deleted && l.String() == Loss{Table: table, Column: column}.String()
}

// Loses tells whether one of the losses is that table or that column of it: see Is.
func Loses(list []Loss, table, column string) bool {
	return slices.ContainsFunc(list, func(l Loss) bool { return l.Is(table, column) })
}

// LossOf is the loss of columns of a table.
func LossOf(table string, columns []string) []Loss {
	var out []Loss
	for _, c := range columns {
		out = append(out, Loss{Table: table, Column: c})
	}
	return out
}

// Tables are the names that the table of a loss may have: see Is.
func (l Loss) Tables() []string {
	if l.Column == "" {
		return []string{l.Table}
	}
	return []string{l.String(), l.Table}
}
