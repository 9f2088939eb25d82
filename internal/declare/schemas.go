package declare

// This file is the schemas of a database in which declarations put tables and the types of choices.

import (
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// TypeName is the name of the type as which a choice is kept, with its schema where the engine has schemas.
func TypeName(choice *lang.Block, schemas bool) string {
	name, in := SnakeCase(choice.Name.Name), ""
	if choice.EnumName != nil {
		name = choice.EnumName.Text
	}
	if !schemas {
		return name
	}
	if choice.EnumSchema != nil {
		in = choice.EnumSchema.Text
	}
	return schema.InSchema(in, name) // a point of the name is its own
}

// schemaLine notes in which schema the table of a model lies.
func (r *resolver) schemaLine(m *model, v *lang.Value) {
	switch {
	case !r.rules.Schemas[r.engine]:
		r.errorf(v.Pos, "write on postgres: before the line, or leave it out",
			"a database of this engine (%s) has no schemas", r.engine)
	case m.table.Schema != "":
		r.errorf(v.Pos, "", "the schema of %s is named twice", m.table.Model)
	case r.otherSchema(v):
		m.table.Schema = v.Text
	}
}

// otherSchema tells whether a schema next to the project's own can have this name.
func (r *resolver) otherSchema(v *lang.Value) bool {
	name := v.Text
	reserved := schema.Own(name) || strings.HasPrefix(name, "pg_") || name == "information_schema"
	switch {
	case name == "" || len(name) > schema.NameLimit:
		r.errorf(v.Pos, "", "a schema's name has 1 to %d bytes", schema.NameLimit)
	case reserved:
		r.errorf(v.Pos, "give it another name", "a schema cannot be called %s: names that begin so are reserved", name)
	case name == "public":
		r.errorf(v.Pos, "leave the line out, or write ?schema=public into the URL and a line for each of the others",
			"public can only be the schema of the project itself")
	default:
		return true
	}
	return false
}
