package objects

// This file compares what is declared in SQL with what a database holds.

import (
	"cmp"
	"slices"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Change is one difference: what there is, and what there is to be; one of them is nil where it
// comes or goes.
type Change struct{ Was, Now *Object }

// Object is what the change is about.
func (c Change) Object() *Object { return cmp.Or(c.Now, c.Was) }

// Sign is "+" for what comes, "-" for what goes and "~" for what changes.
func (c Change) Sign() string { return c.kind().Sign() }

func (c Change) kind() diff.Kind {
	verb := "change "
	switch {
	case c.Was == nil:
		verb = "add "
	case c.Now == nil:
		verb = "drop "
	}
	return diff.Kind(verb + c.Object().Kind)
}

// Diff is the change as a diff says it. declared are the statements, for the place of each.
func (c Change) Diff(declared []*sqlschema.Object) diff.Change {
	o := c.Object()
	out := diff.Change{Kind: c.kind(), Table: cmp.Or(o.Of, o.Name), What: kindWords(o), Object: o}
	if c.Was != nil && c.Now != nil {
		out.Before = c.Was
	}
	if o.Of != "" && o.Name != o.Of {
		out.Name = ShortName(o)
	}
	if s := Source(declared, o); s != nil {
		out.What += ", in " + s.Path
	}
	return out
}

// Compare gives the differences between what a database holds and what is declared. What is not
// declared is left alone, unless it belongs to the line of migrations, and so is what holds rows, unless it is asked
// to go.
func Compare(there, wanted []*Object, line, asked map[engine.ObjectKey]bool) []Change {
	var out []Change
	for _, o := range wanted {
		switch was := Find(there, o.ObjectKey); {
		case was == nil:
			out = append(out, Change{Now: o})
		case !Same(was, o):
			out = append(out, Change{Was: was, Now: o})
		}
	}
	for _, o := range there {
		if Find(wanted, o.ObjectKey) == nil && compared(o) && goes(o, there, wanted, line, asked) {
			out = append(out, Change{Was: o})
		}
	}
	return out
}

// goes tells whether what is not declared is dropped. What belongs to a part of a table that stays does so, too.
func goes(o *Object, there, wanted []*Object, line, asked map[engine.ObjectKey]bool) bool {
	if o.OfKind == engine.Part {
		of := slices.IndexFunc(there, func(x *Object) bool { return About(o, x) })
		known := of < 0 || Find(wanted, there[of].ObjectKey) != nil || asked[there[of].ObjectKey]
		return line[o.ObjectKey] && known
	}
	return line[o.ObjectKey] && !holding[o.Kind] && o.Kind != engine.Part || asked[o.ObjectKey]
}

// Drops tells whether a change, as it is without what is declared in SQL, would drop one of some
// objects.
func Drops(c diff.Change, list []*Object) bool { return c.Kind.Drops() && Concerns(c, list) }

// Concerns tells whether a change of a schema is about one of some objects.
func Concerns(c diff.Change, list []*Object) bool {
	return slices.ContainsFunc(list, func(o *Object) bool {
		if o.Kind == engine.Part {
			return c.Kind.Thing() == kindTable && c.Table == o.Name
		}
		return c.Kind.Thing() == o.Kind && (c.Table == o.Name || c.Name == o.Name && c.Table == o.Of)
	})
}
