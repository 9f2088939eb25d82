package engine

// This file holds what every engine says in the same words about a table that becomes
// another: what is lost, what is filled, and the titles of its steps.

import (
	"fmt"
	"slices"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Between is the alteration of a table into another where no more is known than the two.
func Between(from, to *sqlschema.Table) Alteration {
	return Alteration{
		From:    from,
		To:      to,
		Forward: map[string]Source{},
		Back:    map[string]Source{},
		Parent:  func(string, bool) Parent { return ParentUnknown },
	}
}

// LostColumns are the columns of from, generated ones aside, that to lacks or generates.
func LostColumns(from, to *sqlschema.Table) []string {
	var out []string
	for _, c := range from.Columns {
		if o := to.Column(c.Name); c.Generated == nil && (o == nil || o.Generated != nil) {
			out = append(out, c.Name)
		}
	}
	return out
}

// Freed tells whether a column is generated before and plain after: its values stay, and
// what is written to it since is lost with the undo.
func Freed(before, after *sqlschema.Column) bool {
	return before != nil && after != nil && before.Generated != nil && after.Generated == nil
}

// Filled are the columns of which some rows are given a value they had not, in the
// order of the table.
func (a Alteration) Filled() []string {
	var out []string
	for _, c := range a.From.Columns {
		if a.Forward[c.Name].Fill != "" {
			out = append(out, c.Name)
		}
	}
	return out
}

// Guards are those of the requirements whose rows would lose a value, rather than be
// refused by the database.
func Guards(list []Requirement) []Requirement {
	return slices.DeleteFunc(slices.Clone(list), func(r Requirement) bool { return !r.Guards })
}

// TriggerTitle says that a trigger comes (hold) or goes (stop).
func TriggerTitle(verb string, t *sqlschema.Table, g *sqlschema.Trigger) string {
	switch {
	case g.Purpose == schema.ForImmutable && verb == "hold":
		return fmt.Sprintf("%s.%s is immutable", t.Name, g.Column)
	case g.Purpose == schema.ForImmutable:
		return fmt.Sprintf("%s.%s is no longer immutable", t.Name, g.Column)
	case g.Purpose == schema.ForStamped && verb == "hold":
		return fmt.Sprintf("%s.%s is stamped", t.Name, g.Column)
	case g.Purpose == schema.ForStamped:
		return fmt.Sprintf("%s.%s is not stamped", t.Name, g.Column)
	case g.Purpose == schema.ForBridge && verb == "hold":
		return "bridge old and new writers of " + t.Name
	case g.Purpose == schema.ForBridge:
		return "drop the bridge of " + t.Name
	case verb == "hold":
		return "create trigger " + g.Name
	}
	return "drop trigger " + g.Name
}
