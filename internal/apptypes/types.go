// Package apptypes writes the types of an application from the models: in Go, TypeScript and
// other languages, for a row as it is read, for one that is inserted, and for an update.
//
//	t := apptypes.Of(declared.Schema, "sqlite")
//	files, err := apptypes.Write(t, apptypes.Options{Language: "typescript"})
//
// A Types is made once from the schema and is the same for every language; it is also what a
// template of the user's own is given. A file for each language turns it into text.
package apptypes

import (
	"slices"
	"strconv"
	"strings"

	"erbario/internal/schema"
)

// Types is what the types of an application are made from.
type Types struct {
	Engine  string    // of the database whose values are converted, such as sqlite
	Choices []*Choice // in order of name
	Models  []*Model  // in order of name
}

// Choice is a list of values: a named one of the models, or that of one field.
type Choice struct {
	Name   string // Rarity; of one field: the model and the field, RoomClimate
	Values []string
}

// Model is one table.
type Model struct {
	Name    string   // Specimen
	Table   string   // specimens
	Comment string   // as the model says it; empty: none
	Key     []string // the columns of the primary key
	Fields  []*Field // in order of the columns
}

// Field is one column of a table.
type Field struct {
	Name       string // taxon, as the model says it
	Column     string // taxon_id
	Type       schema.Type
	Choice     *Choice // the values that it takes; nil: any of the type
	Null       bool    // a row may have no value
	Default    bool    // the database gives a value where an insert has none
	Generated  bool    // the database works the value out: neither inserted nor updated
	Numbered   bool    // the database numbers it
	Immutable  bool    // not updated
	Stamped    bool    // the database sets it with every update
	SoftDelete bool    // the time at which the row was deleted
	References string  // the model of the row that it refers to; empty: none
	Comment    string
	Range      *schema.Range
	Nonblank   bool
}

// Inserted are the fields that an insert can give: not what the database works out, nor a key
// that it numbers.
func (m *Model) Inserted() []*Field { return m.only((*Field).inserted) }

// Updated are the fields that an update can give: not what the database works out or sets, nor
// what is immutable, nor a key that it numbers.
func (m *Model) Updated() []*Field { return m.only((*Field).updated) }

func (m *Model) only(keep func(*Field) bool) (out []*Field) {
	for _, f := range m.Fields {
		if keep(f) {
			out = append(out, f)
		}
	}
	return out
}

func (f *Field) inserted() bool { return !f.Generated && !f.Numbered }

func (f *Field) updated() bool { return f.inserted() && !f.Immutable && !f.Stamped }

// Omissible says whether an insert may leave the field out.
func (f *Field) Omissible() bool { return f.Null || f.Default }

// About is the comment of the field, and what it refers to.
func (f *Field) About() string {
	said := f.Comment
	if f.References != "" {
		said = sentence(said) + "References " + f.References + "."
	}
	if f.SoftDelete {
		said = sentence(said) + "The time at which the row was deleted."
	}
	return said
}

func sentence(s string) string {
	if s == "" {
		return ""
	}
	return strings.TrimSuffix(s, ".") + ". "
}

// Of makes the types of a schema.
func Of(s *schema.Schema, engine string) *Types {
	out := &Types{Engine: engine}
	choices := map[string]*Choice{}
	taken := map[string]bool{}
	models := map[string]string{} // by table
	for _, t := range s.Tables {
		models[t.Name], taken[t.Model] = t.Model, true
	}
	named := func(t schema.Type, otherwise string) *Choice {
		if c := choices[t.Name]; c != nil && t.Name != "" {
			return c
		}
		name := t.Name
		if name == "" {
			name = otherwise
		}
		c := &Choice{Name: unique(name, taken), Values: t.Choices}
		out.Choices = append(out.Choices, c)
		if t.Name != "" {
			choices[t.Name] = c
		}
		return c
	}
	for _, t := range s.Tables { // their names are given first, whatever those of single fields are
		for _, c := range t.Columns {
			if k := c.Type; k.Kind == schema.Choice && k.Name != "" {
				named(k, "")
			}
		}
	}
	for _, t := range s.Tables {
		m := &Model{Name: t.Model, Table: t.Name, Comment: t.Comment, Key: t.Key}
		for _, c := range t.Columns {
			f := fieldOf(t, c)
			of := c.Type
			if of.Of != nil {
				of = *of.Of
			}
			if of.Kind == schema.Choice {
				f.Choice = named(of, t.Model+pascal(f.Name))
			}
			m.Fields = append(m.Fields, f)
		}
		for _, k := range t.ForeignKeys {
			if f := m.field(k.Columns[0]); len(k.Columns) == 1 && f != nil {
				f.References = models[k.Table]
			}
		}
		out.Models = append(out.Models, m)
	}
	slices.SortFunc(out.Models, func(a, b *Model) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(out.Choices, func(a, b *Choice) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func fieldOf(t *schema.Table, c *schema.Column) *Field {
	f := &Field{
		Name: c.Field, Column: c.Name, Type: c.Type, Null: !c.NotNull, Default: c.Value != nil || c.Stamped,
		Generated: c.Generated != nil, Numbered: c.Identity, Immutable: c.Immutable,
		Stamped: c.Stamped || c.UpdateNow, SoftDelete: c.Name == t.SoftDelete, Comment: c.Comment, Range: c.Range,
		Nonblank: c.Nonblank,
	}
	if f.Name == "" {
		f.Name = c.Name
	}
	if c.Value != nil && c.Value.Kind == schema.NullValue {
		f.Default = false
	}
	return f
}

func (m *Model) field(column string) *Field {
	for _, f := range m.Fields {
		if strings.EqualFold(f.Column, column) {
			return f
		}
	}
	return nil
}

// unique is a name that is not taken yet, and takes it.
func unique(name string, taken map[string]bool) string {
	one := name
	for n := 2; taken[one]; n++ {
		one = name + strconv.Itoa(n)
	}
	taken[one] = true
	return one
}
