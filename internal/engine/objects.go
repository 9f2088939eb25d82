package engine

// This file is what a database holds beside its tables: views, functions, triggers, rights and the
// like. No model says what they are, so they are declared in SQL, and compared in the words of the
// server.

import (
	"strings"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// ObjectWords is a Compiler for what is declared in SQL.
type ObjectWords interface {
	// CreateObject is the statement that creates it in its place.
	CreateObject(c Creation) string
	// DropObject gives the statements that drop what a creation creates; nil: there are none.
	DropObject(c Creation) []string
	// ReplaceObject is the statement, or several, that makes something else of what there is, which
	// keeps what depends on it; empty: there is none.
	ReplaceObject(was, now Creation) string
	// AgainObject is a statement that creates it where it is missing, and changes nothing where it is;
	// empty: there is none.
	AgainObject(c Creation) string
}

// TypeHolder is a compiler that says to what a type which is declared in SQL holds the values of a column.
type TypeHolder interface {
	// TypeHolds are the conditions that each value fulfils, by the names of the checks of the type; that of
	// "" is that there is a value.
	TypeHolds(c Creation, column *sqlschema.Column) map[string]string
}

// Retyper is a compiler for columns whose type, which is declared in SQL, becomes another of the same name.
type Retyper interface {
	// TypeApart gives a type another name, under which it waits until no column is of it, and drops it there.
	TypeApart(c Creation) (rename, drop string)
	// Retype converts a column; false: nobody can tell how.
	Retype(t *sqlschema.Table, column *sqlschema.Column, from, to Creation) (Retyping, bool)
}

// Retyping is how one column takes such a type.
type Retyping struct {
	SQL   string            // the statement
	Fits  string            // the condition that a value can be converted, and comes back the same; empty: each does
	Holds map[string]string // to what the type holds the new values, as TypeHolds says it
}

// Parts is a compiler for tables whose rows are in parts.
type Parts interface {
	// DropPart takes a part out of its table with its rows, and sets it aside as keep. own are the indexes and
	// the constraints that its table has not. It is false where nothing could bring the part back as it is.
	DropPart(c Creation, t *sqlschema.Table, own []string, keep string) (Step, bool)
	// Bounds is the condition that a row of a table belongs into a part of it, empty where none can be told, and
	// whether that part has the rows that belong into no other.
	Bounds(of *sqlschema.Table, c Creation) (within string, rest bool)
	// PartValues are values, as SQL by column, of rows of a table that belong into a part of it.
	PartValues(of, part *sqlschema.Table) map[string]string
	// PartHolds asks for the rows of a part that something of it, such as a check, does not let in; nil: none can
	// be told.
	PartHolds(c Creation) *Requirement
	// RestPart creates a part of a table for the rows that are in no other; empty: rows need none.
	RestPart(t *sqlschema.Table, name string) string
}

// Recalculator is a compiler that has generated columns calculated again, because something that they call is
// another.
type Recalculator interface {
	Recalculate(t *sqlschema.Table, columns []*sqlschema.Column) []string
}

// Exclusion is the kind of a constraint that no model declares: no two rows may be alike in it.
const Exclusion = "exclusion constraint"

// Part is the kind of a table whose rows are those of another, too: a partition, or a table that inherits.
const Part = "part"

// ofTables are the kinds of creation that are parts of a table.
var ofTables = map[string]bool{
	"": true, "table": true, "reference": true, "constraint": true, "default": true, "check": true, "part of": true,
	"sequence of": true, "column": true, "clustering of": true, "identity of": true, "schema": true,
	sqlschema.EnumType: true,
}

// Objects are those of the creations of a schema that are neither a table, nor a part of one, nor
// made for a model.
func Objects(s *sqlschema.Schema, list []Creation) []Creation {
	made := map[string]bool{} // for a model, in lower case
	for _, v := range s.Views {
		if v.LiveOf != "" {
			made["view "+strings.ToLower(v.Name)] = true
		}
	}
	for _, t := range s.Tables {
		for _, g := range t.Triggers {
			if g.Purpose != "" {
				made["trigger "+strings.ToLower(g.Name)] = true
			}
		}
	}
	var out []Creation
	for _, c := range list {
		switch {
		case ofTables[c.Kind] && c.OfKind != Part, c.Kind == "index" && c.OfKind == "",
			strings.HasPrefix(c.Kind, sqlschema.OtherView):
		case made[c.Kind+" "+strings.ToLower(c.Name)], made[c.OfKind+" "+strings.ToLower(c.Of)]:
		case schema.Own(c.Name), schema.Own(c.Of):
		default:
			out = append(out, c)
		}
	}
	return out
}

// ObjectKey tells one thing that is declared in SQL from others.
type ObjectKey struct {
	Kind string
	Name string // with the types that it takes, if it is a function where those count
	Of   string // what it belongs to; empty: it is a thing of its own
}

// StepObject is something declared in SQL that belongs to the line of migrations from a step on, or
// no longer.
type StepObject struct {
	ObjectKey
	Gone bool
}
