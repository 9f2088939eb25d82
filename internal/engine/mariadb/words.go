package mariadb

// This file writes MariaDB's words: names, literals, types, and the statements that
// make tables with all that belongs to them from schema values.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// quote gives a name as SQL: always in backticks, since the list of words that need
// them grows with every version.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func quoteAll(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
	}
	return strings.Join(out, ", ")
}

var literalEscapes = strings.NewReplacer("'", "''", `\`, `\\`, "\x00", `\0`)

// literal gives a text as SQL.
func literal(s string) string { return "'" + literalEscapes.Replace(s) + "'" }

// named gives a constraint its name.
func named(name string) string {
	if name == "" {
		return ""
	}
	return "CONSTRAINT " + quote(name) + " "
}

// typeOf is a stored type as one of the language, as far as there is one for it. What a
// check adds to a type is not seen here.
func typeOf(sqlType string) schema.Type {
	if plain, ok := strings.CutSuffix(sqlType, " unsigned"); ok {
		if t := typeOf(plain); t.Kind.Whole() {
			t.Unsigned = true
			return t
		}
	}
	name, args, _ := strings.Cut(strings.TrimSuffix(sqlType, ")"), "(")
	if name == "enum" {
		t := schema.Type{Kind: schema.Choice, Listed: true}
		for _, v := range tokens(args) {
			if v.Kind == sqltok.Text {
				t.Choices = append(t.Choices, v.Val)
			}
		}
		return t
	}
	first, second, _ := strings.Cut(args, ",")
	n, _ := strconv.Atoi(first)
	m, _ := strconv.Atoi(second)
	switch {
	case sqlType == "tinyint(1)":
		return schema.Type{Kind: schema.Boolean}
	case name == "varchar":
		return schema.Type{Kind: schema.Text, Length: n}
	case name == "longtext" || name == "text" || name == "mediumtext":
		return schema.Type{Kind: schema.Text}
	case name == "decimal" && args != "":
		return schema.Type{Kind: schema.Decimal, Precision: n, Scale: m}
	case name == "int" && args == "":
		return schema.Type{Kind: schema.Integer}
	case name == "float" && args == "":
		return schema.Type{Kind: schema.Real}
	case name == "double" && args == "":
		return schema.Type{Kind: schema.Double}
	case name == "datetime" && n == 6:
		return schema.Type{Kind: schema.Timestamp}
	case name == "datetime":
		return schema.Type{Kind: schema.Timestamp, Seconds: n + 1}
	case name == "time" && n == 6:
		return schema.Type{Kind: schema.Time}
	case name == "time":
		return schema.Type{Kind: schema.Time, Seconds: n + 1}
	case name == "longblob":
		return schema.Type{Kind: schema.Bytes}
	case name == "varbinary":
		return schema.Type{Kind: schema.Bytes, Length: n}
	case sqlType == "char(36)":
		return schema.Type{Kind: schema.UUID}
	case name == "char" && args != "":
		return schema.Type{Kind: schema.Text, Length: n, Fixed: true}
	case sqlType == "smallint", sqlType == "bigint", sqlType == "date", sqlType == "uuid", sqlType == "json":
		return schema.Type{Kind: schema.Kind(sqlType)}
	}
	return schema.Type{Kind: schema.Native, Name: sqlType}
}

// createTable gives the statement that makes the table with another name or its own,
// without its references where they are left out.
func createTable(t *sqlschema.Table, name string) string {
	var items []string
	for _, c := range t.Columns {
		s := columnDefinition(c)
		for _, k := range t.Checks {
			if k.Name == "" && k.Column == c.Name { // of the column itself
				s += " CHECK (" + k.SQL.Text + ")"
			}
		}
		items = append(items, s)
	}
	if pk := t.PrimaryKey; pk != nil {
		items = append(items, "PRIMARY KEY ("+partList(pk.Columns)+")"+pk.Options)
	}
	for _, x := range inServerOrder(t, slices.Concat(t.Indexes, ownOf(t)),
		func(x *sqlschema.Index) string { return x.Name }) {
		items = append(items, indexDefinition(x))
	}
	for _, k := range t.ForeignKeys {
		items = append(items, named(k.Name)+foreignKey(k))
	}
	for _, k := range inServerOrder(t, t.Checks, func(k *sqlschema.Check) string { return k.Name }) {
		if k.Name != "" {
			items = append(items, named(k.Name)+"CHECK ("+k.SQL.Text+")")
		}
	}
	return "CREATE TABLE " + quote(name) + " (\n    " + strings.Join(items,
		",\n    ") + "\n)" + t.Options.Behind + commentOf(t.Comment)
}

// columnDefinition gives a column with what stands with it.
func columnDefinition(c *sqlschema.Column) string {
	s := quote(c.Name) + " " + c.SQLType
	if c.Collation != "" {
		charset, _, _ := strings.Cut(c.Collation, "_")
		s += " CHARACTER SET " + charset + " COLLATE " + c.Collation
	}
	if c.Generated != nil {
		how := " VIRTUAL"
		if c.Generated.Stored {
			how = " STORED"
		}
		s += " GENERATED ALWAYS AS (" + c.Generated.SQL.Text + ")" + how
	}
	switch {
	case c.NotNull && c.Generated == nil:
		s += " NOT NULL"
	case strings.HasPrefix(c.SQLType, "timestamp"): // else it is required by itself
		s += " NULL"
	}
	if c.Invisible {
		s += " INVISIBLE"
	}
	if c.Default != nil {
		s += " DEFAULT " + defaultSQL(c.Default.Text)
	}
	if c.OnUpdate != "" {
		s += " ON UPDATE " + c.OnUpdate
	}
	if c.Identity {
		s += " AUTO_INCREMENT"
	}
	return s + commentOf(c.Comment)
}

// defaultSQL is an expression as it may stand behind DEFAULT: all but constants and the
// time of day in brackets.
func defaultSQL(text string) string {
	list := tokens(text)
	switch {
	case len(list) == 1,
		len(list) == 2 && list[0].Is("-"),
		len(list) > 0 && list[0].Is("current_timestamp"),
		sqltok.Bracketed(list):
		return text
	}
	return "(" + text + ")"
}

func commentOf(comment string) string {
	if comment == "" {
		return ""
	}
	return " COMMENT " + literal(comment)
}

// foreignKey gives a reference as a constraint of its table.
func foreignKey(k *sqlschema.ForeignKey) string {
	s := "FOREIGN KEY (" + quoteAll(k.Columns) + ") REFERENCES " + quote(k.Table) + " (" + quoteAll(k.References) + ")"
	// RESTRICT is what the server does unless it is told otherwise; said, it would be kept
	// as NO ACTION where the reference is made without a look at the rows.
	if k.OnDelete != schema.Restrict && k.OnDelete != "" {
		s += " ON DELETE " + string(k.OnDelete)
	}
	if k.OnUpdate != schema.Restrict && k.OnUpdate != "" {
		s += " ON UPDATE " + string(k.OnUpdate)
	}
	return s
}

func partList(parts []sqlschema.Part) string {
	out := make([]string, len(parts))
	for i, p := range parts {
		s := quote(p.Column)
		if p.Expr != nil {
			s = "(" + p.Expr.Text + ")"
		}
		if p.Length > 0 {
			s += fmt.Sprintf("(%d)", p.Length)
		}
		if p.Desc {
			s += " DESC"
		}
		out[i] = s
	}
	return strings.Join(out, ", ")
}

// indexDefinition gives an index as an item of its table.
func indexDefinition(x *sqlschema.Index) string {
	s := ""
	switch {
	case x.Unique:
		s = "UNIQUE "
	case x.Using != "":
		s = strings.ToUpper(x.Using) + " "
	}
	return s + "KEY " + quote(x.Name) + " (" + partList(x.Parts) + ")" + x.Options
}

// typeOrStored is the stored type of a column, also where it is declared alone.
func typeOrStored(c *sqlschema.Column) string {
	if c.SQLType != "" {
		return c.SQLType
	}
	return typeName(c.Type)
}

// binary tells whether a stored type holds bytes rather than text.
func binary(sqlType string) bool {
	name, _, _ := strings.Cut(sqlType, "(")
	return strings.HasSuffix(name, "blob") || strings.HasSuffix(name, "binary")
}

// SameValue is the condition that two values are the same to an index.
func (Engine) SameValue(p sqlschema.Part, _ *sqlschema.Column, a, b string) string {
	s := a + " = " + b
	if p.Collation != "" {
		s += " COLLATE " + p.Collation
	}
	return s
}
