package seed

// This file tells where the values of each column come from.

import (
	"strings"

	"erbario/internal/schema"
)

// Origin is what decides how a column is filled.
type Origin string

// The origins, from what is said to what is made up.
const (
	FromSeed     Origin = "seed"     // a line of the seed says it
	FromModel    Origin = "model"    // the fake clause of the model
	FromDefault  Origin = "default"  // the default of the model
	FromAbove    Origin = "above"    // the line above gives it
	FromRows     Origin = "rows"     // a row is picked that it refers to
	FromNumbers  Origin = "numbers"  // the database numbers its rows
	FromDeletion Origin = "deletion" // the share of rows that are marked as deleted
	FromFields   Origin = "fields"   // it is worked out from other fields
	FromName     Origin = "name"     // its name is known
	FromType     Origin = "type"     // nothing but its type is
)

// Source is where a column's values come from.
type Source struct {
	Origin Origin `json:"by"`
	What   string `json:"what,omitempty"` // the generator, the model referred to, the fields that it follows; empty: nothing to say
}

// Sources are those of a line's columns, in their order.
func (p *Plan) Sources(l *Line) []Source {
	out := make([]Source, len(l.columns))
	for i, c := range l.columns {
		out[i] = p.sourceOf(l, c)
	}
	return out
}

func (p *Plan) sourceOf(l *Line, c *column) Source {
	made := ""
	if c.made != nil {
		made = strings.TrimSpace(c.made.Generator + " " + strings.Join(c.made.Args, " "))
	}
	for _, k := range l.Table.ForeignKeys {
		for _, name := range k.Columns {
			switch {
			case name != c.Name || c.said:
			case k == l.up || k == l.above || k == l.source.Tree:
				return Source{FromAbove, p.model(k.Table)}
			default:
				return Source{FromRows, p.model(k.Table)}
			}
		}
	}
	switch {
	case c.Identity:
		return Source{Origin: FromNumbers}
	case c.mark:
		return Source{Origin: FromDeletion}
	case c.said:
		return Source{FromSeed, made}
	case c.made == nil && p.leftToDefault(l, c):
		return Source{Origin: FromDefault}
	case c.Fake != nil && c.made == c.Fake:
		return Source{FromModel, made}
	case len(c.follows) > 0:
		return Source{FromFields, strings.Join(c.follows, " ")}
	case c.words != nil:
		return Source{FromName, "status"}
	case c.made != nil && p.known(l, c) != "" || c.made != nil && c.made.Generator == "name":
		return Source{FromName, made}
	case c.made != nil:
		return Source{FromType, made}
	case c.about != "":
		return Source{FromName, c.about}
	case c.Type.Kind == schema.JSON:
		return Source{Origin: FromName}
	case c.axis == nil:
		return Source{Origin: FromType}
	case c.axis.kind == schema.Date || c.axis.moment():
		if m := momentOf(c.Field); m.word != "" {
			return Source{FromName, m.word}
		}
	case isPrice(c.Field):
		return Source{FromName, "price"}
	case c.Type.Kind.Number() && c.sized():
		return Source{FromName, c.shown(c.soft)}
	}
	if c.soft != (interval{}) && !c.soft.empty() && c.Type.Kind.Number() {
		return Source{FromType, c.shown(c.soft.and(c.hard))}
	}
	return Source{Origin: FromType}
}
