package engine

// This file makes an empty database hold what a schema does. Nobody says in which order
// functions, types, tables and views stand on each other, so what fails is tried again
// behind the others, until nothing more can be created.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Creation is one statement that creates something of a schema.
type Creation struct {
	Kind string // what it creates, such as "view"; "": a setting for those behind it
	Name string
	SQL  string
	// Before and After set the session for the statement, and set it back; empty: it needs none.
	Before, After string
	// Of is what it belongs to, and OfKind the kind of that; empty: a table. Without Of it is a
	// thing of its own.
	Of, OfKind string
	// Form is what it is compared by; empty: SQL.
	Form string
	// Said is the statement as a file of SQL says it, without what is left to the session; empty: SQL.
	Said string
	// Behind and Ahead are the names of the triggers behind which and ahead of which it runs at the
	// same moment, where the order is kept; empty: there is none.
	Behind, Ahead string
}

// LeftOut is something that could not be created, and why.
type LeftOut struct {
	Kind, Name string
	Err        error
}

func (l LeftOut) String() string { return l.Kind + " " + l.Name }

// Fill runs creations on an empty database. What cannot be created even once all the
// others are there is left out; the error is for what has nothing to do with a single one.
func Fill(ctx context.Context, db Database, list []Creation) ([]LeftOut, error) {
	for {
		var again []Creation
		var left []LeftOut
		created := 0
		for _, c := range list {
			err := db.Exec(ctx, c.SQL)
			switch {
			case ctx.Err() != nil || errors.Is(err, ErrLost) || errors.Is(err, ErrBusy):
				return nil, err
			case c.Kind == "" && err != nil:
				return nil, err
			case c.Kind == "":
				again = append(again, c)
			case err != nil:
				again, left = append(again, c), append(left, LeftOut{c.Kind, c.Name, err})
			default:
				created++
			}
		}
		if len(left) == 0 || created == 0 {
			return left, nil
		}
		list = again
	}
}

// BeyondError refuses a statement on scratch that would reach another database.
type BeyondError struct{ Names string } // what it names there, such as garden.log

func (e *BeyondError) Error() string {
	return fmt.Sprintf("it names the database of %s: on scratch it would reach the live one", e.Names)
}

// MissingError is what a scratch database lacks, where it is needed.
type MissingError struct{ Left LeftOut }

func (e *MissingError) Error() string {
	return fmt.Sprintf("the scratch database cannot have the %s, which the change needs: %v", e.Left, e.Left.Err)
}

func (e *MissingError) Unwrap() error { return e.Left.Err }

// FillWhole is Fill where everything is needed.
func FillWhole(ctx context.Context, db Database, list []Creation) error {
	left, err := Fill(ctx, db, list)
	if err == nil && len(left) > 0 {
		err = &MissingError{left[0]}
	}
	return err
}

// LeftNames are what was left out, in one line that names the first of them.
func LeftNames(left []LeftOut) string {
	const named = 4
	var out []string
	for _, l := range left {
		if !slices.Contains(out, l.String()) {
			out = append(out, l.String())
		}
	}
	if more := len(out) - named; more > 1 {
		out = append(out[:named], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(out, ", ")
}
