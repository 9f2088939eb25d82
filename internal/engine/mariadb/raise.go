package mariadb

// This file tells what MariaDB holds in the terms of the models.

import (
	"cmp"
	"strings"

	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Raise says what would be declared for a stored table.
func (Engine) Raise(t *sqlschema.Table, plain bool) *schema.Table { return raising.Table(t, plain) }

var raising = &ddl.Raising{
	Lowering: lowering, Lex: tokens, TypeName: typeName, Meaning: meaning,
	Constraint: func(*sqlschema.Index) bool { return false },
	Own:        raiseOwn, OwnIndex: raiseIndex,
}

// raiseOwn adds the collation and the options of a table, and the stamps of its columns.
func raiseOwn(t *sqlschema.Table, out *schema.Table) {
	out.KeyName, out.Collation = "", collationOf(t.Options.Behind)
	var options []string
	head, partitions, parted := strings.Cut(strings.Join(strings.Fields(t.Options.Behind), " "), " PARTITION BY ")
	for _, w := range strings.Fields(strings.ReplaceAll(head, "DEFAULT CHARSET=", "CHARSET=")) {
		if !strings.HasPrefix(w, "CHARSET=") && !strings.HasPrefix(w, "COLLATE=") && w != "ENGINE=InnoDB" {
			options = append(options, w)
		}
	}
	if parted {
		options = append(options, "PARTITION BY "+partitions)
	}
	out.Options = strings.Join(options, " ")
	out.Unchecked = true
	for _, k := range t.Checks { // that of JSON is the type itself
		if k.Purpose == schema.ForType && k.Name != "" {
			out.Unchecked = false
		}
	}
	for _, c := range out.Columns {
		o := t.Column(c.Name)
		if o.OnUpdate != "" {
			c.UpdateNow = true
		}
		if c.Type.Kind != schema.JSON || c.Type.As != "" {
			continue
		}
		if collation := cmp.Or(o.Collation, out.Collation); collation == "utf8mb4_bin" { // it comes with the type
			c.Collation = ""
			continue
		}
		c.Type = schema.Type{Kind: schema.Text}
		for _, k := range t.Checks {
			if k.Column == c.Name && k.Purpose == schema.ForType && k.Name == "" {
				out.Checks = append(out.Checks, &schema.Check{Column: c.Name, SQL: "json_valid({" + c.Name + "})",
					Purpose: schema.ForCheck, Stored: schema.Stored{Unnamed: true}})
			}
		}
	}
}

// raiseIndex adds the method and the options of an index.
func raiseIndex(x *sqlschema.Index, out *schema.Index) {
	rest := x.Options
	if after, ok := strings.CutPrefix(rest, " USING HASH"); ok {
		out.Using, rest = "hash", after
	}
	if before, ok := strings.CutSuffix(rest, " "+server{}.ignored()); ok {
		out.Stored.Invisible, rest = true, before
	}
	for _, tok := range tokens(rest) {
		if tok.Val != "" || strings.HasPrefix(tok.Text, "'") {
			out.Stored.Comment = tok.Val
		}
	}
}

// meaning is the type of the language whose values have the form of those of a column.
func meaning(c *sqlschema.Column) (schema.Type, bool) {
	stored := strings.ToLower(c.SQLType)
	if c.Type.Kind == schema.JSON && stored == "longtext" {
		return schema.Type{Kind: schema.JSON}, true
	}
	t := typeOf(stored)
	if _, more, _ := strings.Cut(stored, ")"); more != "" && !t.Unsigned {
		t = schema.Type{Kind: schema.Native}
	}
	switch t.Kind {
	case schema.UUID:
		if stored != "uuid" {
			return schema.Type{Kind: schema.Text, Length: 36, Fixed: true}, true
		}
		return t, true
	case schema.Native:
	default:
		return t, true
	}
	head, args, _ := strings.Cut(stored, "(")
	head, _, _ = strings.Cut(head, " ")
	args, _, _ = strings.Cut(args, ")")
	switch head {
	case "tinyint":
		return schema.Type{Kind: schema.Smallint, Unsigned: strings.Contains(stored, "unsigned")}, true
	case "smallint", "bigint":
		return schema.Type{Kind: schema.Kind(head), Unsigned: strings.Contains(stored, "unsigned")}, true
	case "mediumint", "int":
		return schema.Type{Kind: schema.Integer, Unsigned: strings.Contains(stored, "unsigned")}, true
	case "year":
		return schema.Type{Kind: schema.Smallint}, true
	case "tinytext":
		return schema.Type{Kind: schema.Text}, true
	case "tinyblob", "blob", "mediumblob":
		return schema.Type{Kind: schema.Bytes}, true
	case "binary":
		return typeOf("varbinary(" + args + ")"), true
	case "decimal":
		if t := typeOf("decimal(" + args + ")"); t.Kind == schema.Decimal {
			return t, true
		}
	case "float":
		return schema.Type{Kind: schema.Real}, true
	case "double":
		return schema.Type{Kind: schema.Double}, true
	case "timestamp":
		return schema.Type{Kind: schema.Timestamp}, true
	}
	return schema.Type{}, false
}
