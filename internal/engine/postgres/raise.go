package postgres

// This file tells what PostgreSQL holds in the terms of the models.

import (
	"strings"

	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Raise says what would be declared for a stored table.
func (Engine) Raise(t *sqlschema.Table, plain bool) *schema.Table { return raising.Table(t, plain) }

var raising = &ddl.Raising{
	Lowering: lowering, Lex: tokens, TypeName: typeName, Meaning: meaning,
	Constraint: plainUnique,
	Own:        raiseOwn, OwnIndex: raiseIndex,
}

// plainUnique tells whether a uniqueness can be a constraint, which it is unless a model says
// otherwise.
func plainUnique(x *sqlschema.Index) bool {
	if !x.Unique || x.Where != nil || x.Using != "" {
		return false
	}
	for _, p := range x.Parts {
		if p.Expr != nil || p.Collation != "" || p.Desc || p.Class != "" || p.Nulls != "" {
			return false
		}
	}
	return true
}

// raiseOwn adds the options of a table, and names of collations as people write them.
func raiseOwn(t *sqlschema.Table, out *schema.Table) {
	out.Schema, _ = schema.SplitName(t.Name)
	for _, c := range out.Columns {
		c.Collation = strings.Trim(c.Collation, `"`)
		if o := t.Column(c.Name); o.Serial != "" && bare(o.Serial) != sequenceName(bare(t.Name), c.Name) {
			c.Numbers.Sequence = o.Serial
		}
	}
	var options []string
	if t.Options.Unlogged {
		options = append(options, "UNLOGGED")
	}
	options = append(options, parameters(t.Options.Behind)...)
	if head, _, _ := strings.Cut(t.Options.Behind, " WITH ("); strings.TrimSpace(head) != "" {
		options = append(options, strings.TrimSpace(head))
	}
	out.Options = strings.Join(options, " ")
	if out.KeyName == bare(t.Name)+"_pkey" {
		out.KeyName = ""
	}
}

// raiseIndex adds the options of an index.
func raiseIndex(x *sqlschema.Index, out *schema.Index) {
	for i := range out.Parts {
		out.Parts[i].Collation = strings.Trim(out.Parts[i].Collation, `"`)
		if out.Parts[i].IgnoringCase { // an expression in an index
			out.Parts[i] = schema.Part{SQL: "lower({" + x.Parts[i].Column + "})", Desc: x.Parts[i].Desc,
				Nulls: x.Parts[i].Nulls}
		}
	}
	rest := x.Options
	if _, list, ok := strings.Cut(rest, "INCLUDE ("); ok {
		names, after, _ := strings.Cut(list, ")")
		for _, tok := range tokens(names) {
			if tok.Named() {
				out.Stored.Include = append(out.Stored.Include, tok.Name())
			}
		}
		rest = after
	}
	if _, list, ok := strings.Cut(rest, "WITH ("); ok {
		out.Stored.Options, rest, _ = strings.Cut(list, ")")
	}
	out.Stored.Deferrable = strings.TrimSpace(rest)
}

// meaning is the type of the language whose values have the form of those of a column.
func meaning(c *sqlschema.Column) (schema.Type, bool) {
	if of, ok := strings.CutSuffix(c.SQLType, "[]"); ok {
		t, ok := meaning(&sqlschema.Column{SQLType: of})
		if !ok || t.Of != nil || !sqlschema.SameForm(typeName(t), of) {
			return schema.Type{}, false
		}
		return schema.Type{Kind: schema.Native, Of: &t}, true
	}
	if c.Values != nil {
		name := tokens("::" + c.SQLType)
		if len(name) != 2 {
			return schema.Type{}, false
		}
		return schema.Type{Kind: schema.Choice, Choices: c.Values, Enum: name[1].Name()}, true
	}
	if c.Domain != "" {
		return meaning(&sqlschema.Column{SQLType: c.Domain})
	}
	t := typeOf(c.SQLType)
	head, _, _ := strings.Cut(c.SQLType, "(")
	switch {
	case t.Kind != schema.Native:
		return t, true
	case head == "bpchar", head == "citext", head == "name", head == "character":
		return schema.Type{Kind: schema.Text}, true
	case head == "numeric":
		return schema.Type{Kind: schema.Decimal, Precision: 38, Scale: 10}, true
	case head == "json":
		return schema.Type{Kind: schema.JSON}, true
	}
	return schema.Type{}, false
}
