package postgres

// This file writes PostgreSQL's words: names, literals, types, and the statements
// that make tables with all that belongs to them from schema values.

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// quote gives a name as SQL: bare where it can stand so, else in double quotes.
func quote(name string) string {
	if plainName(name) && !reservedWords()[name] {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// quoteTable gives the name of a table, or of what else lies in a schema, as SQL.
func quoteTable(name string) string {
	in, own := schema.SplitName(name)
	return quoteIn(in, own)
}

// quoteBeside gives the name of what lies in the same schema as a table, such as an index of it, as SQL.
func quoteBeside(table, name string) string {
	in, _ := schema.SplitName(table)
	return quoteIn(in, name)
}

// quoteIn gives a name in a schema as SQL; "": the project's own.
func quoteIn(in, name string) string {
	if in == "" {
		return quote(name)
	}
	return quote(in) + "." + quote(name)
}

// renameTable gives the statements that give a table another name, or put it into another schema. What is
// Erbario's own lies in the project's schema, whose name is not known before the statement runs.
func renameTable(from, to string) []string {
	in, own := schema.SplitName(from)
	into, now := schema.SplitName(to)
	rename := func(in string) []string {
		if own == now {
			return nil
		}
		return []string{"ALTER TABLE " + quoteIn(in, own) + " RENAME TO " + quote(now)}
	}
	move := func(own string) string {
		place := "NULL"
		if into != "" {
			place = literal(into)
		}
		return fmt.Sprintf("SELECT %s(%s, %s)", moveFunction, literal(quoteIn(in, own)), place)
	}
	switch {
	case in == into:
		return rename(in)
	case into == "":
		return append(rename(in), move(now))
	}
	return append([]string{"CREATE SCHEMA IF NOT EXISTS " + quote(into), move(own)}, rename(into)...)
}

// rowsOf is the name of a table, as SQL, where its rows have it in a statement.
func rowsOf(table string) string { return quote(bare(table)) }

// bare is the name of what lies in a schema, without that.
func bare(name string) string {
	_, own := schema.SplitName(name)
	return own
}

func plainName(name string) bool {
	for i := range len(name) {
		b := name[i]
		if !(b == '_' || b >= 'a' && b <= 'z' || i > 0 && b >= '0' && b <= '9') {
			return false
		}
	}
	return name != ""
}

func quoteAll(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
	}
	return strings.Join(out, ", ")
}

// literal gives a text as SQL, under standard_conforming_strings.
func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// reserved are the words that cannot stand bare in every place where a name can.
var reservedWords = sync.OnceValue(func() map[string]bool {
	m := map[string]bool{}
	for w := range strings.FieldsSeq(`all analyse analyze and any array as asc asymmetric authorization between bigint binary bit boolean both case cast char character check coalesce collate collation column concurrently constraint create cross current_catalog current_date current_role current_schema current_time current_timestamp current_user dec decimal default deferrable desc distinct do else end except exists extract false fetch float for foreign freeze from full grant greatest group grouping having ilike in initially inner inout int integer intersect interval into is isnull join lateral leading least left like limit localtime localtimestamp merge_action national natural nchar none normalize not notnull null nullif numeric offset on only or order out outer overlaps overlay placing position precision primary real references returning right row select session_user setof similar smallint some substring symmetric system_user table tablesample then time timestamp to trailing treat trim true union unique user using values varchar variadic verbose when where window with xmlattributes xmlconcat xmlelement xmlexists xmlforest xmlnamespaces xmlparse xmlpi xmlroot xmlserialize xmltable`) {
		m[w] = true
	}
	return m
})

// serverTypes are the names of the server's own types, which are found before any other of
// the same name.
var serverTypes = sync.OnceValue(func() map[string]bool {
	m := map[string]bool{}
	for w := range strings.FieldsSeq(`aclitem any anyarray anyelement anyenum anyrange bit bool box bpchar bytea char cid cidr circle cstring date datemultirange daterange float4 float8 inet int2 int2vector int4 int4multirange int4range int8 int8multirange int8range internal interval json jsonb jsonpath line lseg macaddr macaddr8 money name numeric nummultirange numrange oid oidvector path point polygon record refcursor regclass regcollation regconfig regdictionary regnamespace regoper regoperator regproc regprocedure regrole regtype text tid time timestamp timestamptz timetz trigger tsmultirange tsquery tsrange tstzmultirange tstzrange tsvector txid_snapshot unknown uuid varbit varchar void xid xid8 xml`) {
		m[w] = true
	}
	return m
})

// shortTypes are the types that the server spells out and people do not.
var shortTypes = strings.NewReplacer("character varying", "varchar", "timestamp with time zone", "timestamptz",
	"timestamp without time zone", "timestamp", "time without time zone", "time", "time with time zone", "timetz")

// shortType is a type as the server tells it, as people write it. A length stands
// within the long words.
func shortType(s string) string {
	for _, w := range []string{"timestamp", "time"} {
		if rest, ok := strings.CutPrefix(s, w+"("); ok {
			if n, zone, ok := strings.Cut(rest, ") "); ok {
				name := w
				if strings.HasPrefix(zone, "with time zone") {
					name += "tz"
				}
				return name + "(" + n + ")" + strings.TrimPrefix(strings.TrimPrefix(zone, "with time zone"),
					"without time zone")
			}
		}
	}
	return shortTypes.Replace(s)
}

// named gives a constraint its name.
func named(name string) string {
	if name == "" {
		return ""
	}
	return "CONSTRAINT " + quote(name) + " "
}

// createTable gives the statement that makes the table with another name or its
// own, without what stands beside it.
func createTable(t *sqlschema.Table, name string) string {
	var items []string
	inline := inlineKey(t)
	for _, c := range t.Columns {
		s := columnDefinition(c)
		if inline == c.Name {
			s += " PRIMARY KEY"
		}
		items = append(items, s)
	}
	if pk := t.PrimaryKey; pk != nil && inline == "" {
		items = append(items, named(pk.Name)+"PRIMARY KEY ("+partList(pk.Columns)+")"+pk.Options)
	}
	for _, x := range t.Indexes {
		if x.Constraint {
			items = append(items, named(x.Name)+uniqueDefinition(x))
		}
	}
	for _, k := range t.ForeignKeys {
		if !k.NotValid {
			items = append(items, named(k.Name)+foreignKey(k))
		}
	}
	for _, k := range t.Checks {
		if !k.NotValid { // within the table it would count as looked at
			items = append(items, named(k.Name)+checkDefinition(k))
		}
	}
	for _, k := range t.Others {
		items = append(items, named(k.Name)+k.Text)
	}
	s := "CREATE "
	if t.Options.Unlogged {
		s += "UNLOGGED "
	}
	s += "TABLE " + quoteTable(name) + " ("
	if len(items) > 0 {
		s += "\n    " + strings.Join(items, ",\n    ") + "\n"
	}
	return s + ")" + t.Options.Behind
}

// inlineKey is the column with which the primary key can stand: the server then
// gives it the name that it has.
func inlineKey(t *sqlschema.Table) string {
	pk := t.PrimaryKey
	if pk == nil || len(pk.Columns) != 1 || pk.Options != "" || pk.Name != bare(t.Name)+"_pkey" ||
		len(pk.Name) > schema.NameLimit {
		return ""
	}
	return pk.Columns[0].Column
}

// columnDefinition gives a column with what stands with it.
func columnDefinition(c *sqlschema.Column) string {
	s := quote(c.Name) + " " + c.SQLType
	if c.Collation != "" {
		s += " COLLATE " + c.Collation
	}
	switch {
	case c.Identity:
		s += " GENERATED " + identityKind(c) + " AS IDENTITY"
		if c.Start > 1 {
			s += fmt.Sprintf(" (START WITH %d)", c.Start)
		}
	case c.Generated != nil:
		s += " GENERATED ALWAYS AS (" + c.Generated.SQL.Make() + ") STORED"
	}
	if c.NotNull && !c.Identity {
		s += " NOT NULL"
	}
	if c.Default != nil {
		s += " DEFAULT " + defaultSQL(c.Default.Make())
	}
	return s
}

func identityKind(c *sqlschema.Column) string {
	if c.IdentityAlways {
		return "ALWAYS"
	}
	return "BY DEFAULT"
}

// defaultSQL is an expression as it may stand behind DEFAULT: all but the simplest
// in brackets.
func defaultSQL(text string) string {
	list := tokens(text)
	simple := len(list) == 1 || len(list) == 2 && list[0].Is("-")
	call := len(list) > 2 && list[0].Kind == sqltok.Word && sqltok.Bracketed(list[1:])
	whole := sqltok.Bracketed(list)
	cast := len(list) == 3 && list[1].Is("::")
	if simple || call || whole || cast {
		return text
	}
	return "(" + text + ")"
}

func checkDefinition(k *sqlschema.Check) string {
	s := "CHECK (" + k.SQL.Make() + ")"
	if k.NoInherit {
		s += " NO INHERIT"
	}
	return s + unvalidated(k.NotValid)
}

func unvalidated(b bool) string {
	if b {
		return " NOT VALID"
	}
	return ""
}

func uniqueDefinition(x *sqlschema.Index) string {
	s := "UNIQUE "
	if x.NullsEqual {
		s += "NULLS NOT DISTINCT "
	}
	return s + "(" + partList(x.Parts) + ")" + x.Options
}

// renameConstraint gives a constraint of a table another name.
func renameConstraint(table, from, to string) string {
	return alterTable(table) + "RENAME CONSTRAINT " + quote(from) + " TO " + quote(to)
}

// foreignKey gives a reference as a constraint of its table.
func foreignKey(k *sqlschema.ForeignKey) string {
	s := "FOREIGN KEY (" + quoteAll(k.Columns) + ") REFERENCES " + quoteTable(k.Table)
	if len(k.References) > 0 {
		s += " (" + quoteAll(k.References) + ")"
	}
	if k.Match != "" {
		s += " MATCH " + k.Match
	}
	if k.OnUpdate != schema.NoAction && k.OnUpdate != "" {
		s += " ON UPDATE " + string(k.OnUpdate)
	}
	if k.OnDelete != schema.NoAction && k.OnDelete != "" {
		s += " ON DELETE " + string(k.OnDelete)
		if len(k.SetColumns) > 0 {
			s += " (" + quoteAll(k.SetColumns) + ")"
		}
	}
	if k.Deferrable != "" {
		s += " " + k.Deferrable
	}
	return s + unvalidated(k.NotValid)
}

func partList(parts []sqlschema.Part) string {
	out := make([]string, len(parts))
	for i, p := range parts {
		out[i] = partSQL(p)
	}
	return strings.Join(out, ", ")
}

// ignoringCase is the collation of the language that an index keeps by lower().
const ignoringCase = "ignoring case"

// compared is a column as it is compared: as a text where the server has no operator of
// its own for the type, and would take one that anybody made.
func compared(c *sqlschema.Column, x string) string {
	if c == nil {
		return x
	}
	typ := c.SQLType
	if typ == "" { // of a model
		typ = typeName(c.Type)
	}
	if strings.HasPrefix(typ, "varchar") || strings.HasPrefix(typ, "char") || passing(c) || c.Type.Enum != "" {
		return x + "::text"
	}
	return x
}

func partSQL(p sqlschema.Part) string {
	s := quote(p.Column)
	switch {
	case p.Expr != nil:
		s = "(" + p.Expr.Make() + ")"
	case p.Collation == ignoringCase:
		s = "pg_catalog.lower(" + s + ")"
	}
	if p.Collation != "" && p.Collation != ignoringCase {
		s += " COLLATE " + p.Collation
	}
	if p.Class != "" {
		s += " " + p.Class
	}
	if p.Desc {
		s += " DESC"
	}
	if p.Nulls != "" {
		s += " NULLS " + p.Nulls
	}
	return s
}

// createIndex gives the statement for an index that is no constraint.
func createIndex(table string, x *sqlschema.Index) string { return indexStatement(table, x, "") }

func indexStatement(table string, x *sqlschema.Index, how string) string {
	s := "CREATE "
	if x.Unique {
		s += "UNIQUE "
	}
	s += "INDEX " + how + quote(x.Name) + " ON " + quoteTable(table)
	if x.Using != "" {
		s += " USING " + quote(x.Using)
	}
	s += " (" + partList(x.Parts) + ")"
	if x.Included != "" {
		s += " INCLUDE (" + x.Included + ")"
	}
	if x.NullsEqual {
		s += " NULLS NOT DISTINCT"
	}
	s += x.Options
	if x.Where != nil {
		s += " WHERE " + x.Where.Make()
	}
	return s
}

// alterTable begins a change of a table.
func alterTable(table string) string { return "ALTER TABLE " + quoteTable(table) + " " }

// dropIndex gives the statement that drops an index or the constraint that it is.
func dropIndex(table string, x *sqlschema.Index) string {
	if x.Constraint {
		return alterTable(table) + "DROP CONSTRAINT " + quote(x.Name)
	}
	return "DROP INDEX " + quoteBeside(table, x.Name)
}

// addIndex gives the statement that makes an index or the constraint that it is.
func addIndex(table string, x *sqlschema.Index) string {
	if x.Constraint {
		return alterTable(table) + "ADD " + named(x.Name) + uniqueDefinition(x)
	}
	return createIndex(table, x)
}

// serials are the statements that create the sequences of columns that those number by
// their defaults, and those by which they belong to the columns.
func serials(table string, columns ...*sqlschema.Column) (create, own []string) {
	for _, c := range columns {
		if c.Serial == "" {
			continue
		}
		create = append(create, "CREATE SEQUENCE "+quoteTable(c.Serial)+" AS "+c.SQLType)
		own = append(own, "ALTER SEQUENCE "+quoteTable(c.Serial)+" OWNED BY "+quoteTable(table)+"."+quote(c.Name))
	}
	return create, own
}

// tableStatements make a table with its indexes, triggers and comments.
func tableStatements(t *sqlschema.Table) []string {
	create, own := serials(t.Name, t.Columns...)
	out := slices.Concat(create, []string{createTable(t, t.Name)}, own)
	out = append(out, dependents(t)...)
	for _, g := range t.Triggers {
		create, _ := Engine{}.Trigger(t, g)
		out = append(out, create...)
	}
	return out
}

// dependents are the statements for what stands beside a table: its indexes, what was
// not looked at, its comments.
func dependents(t *sqlschema.Table) []string {
	var out []string
	for _, x := range t.Indexes {
		if !x.Constraint {
			out = append(out, createIndex(t.Name, x))
		}
	}
	for _, k := range t.ForeignKeys {
		if k.NotValid {
			out = append(out, alterTable(t.Name)+"ADD "+named(k.Name)+foreignKey(k))
		}
	}
	for _, k := range t.Checks {
		if k.NotValid {
			out = append(out, alterTable(t.Name)+"ADD "+named(k.Name)+checkDefinition(k))
		}
	}
	if t.Comment != "" {
		out = append(out, commentOn(t.Name, "", t.Comment))
	}
	for _, c := range t.Columns {
		if c.Comment != "" {
			out = append(out, commentOn(t.Name, c.Name, c.Comment))
		}
		out = append(out, keepsAs(t.Name, nil, c)...)
	}
	return out
}

// commentOn gives the statement that sets the comment of a table or a column.
func commentOn(table, column, comment string) string {
	what := "TABLE " + quoteTable(table)
	if column != "" {
		what = "COLUMN " + quoteTable(table) + "." + quote(column)
	}
	text := "NULL"
	if comment != "" {
		text = literal(comment)
	}
	return fmt.Sprintf("COMMENT ON %s IS %s", what, text)
}

// SameValue is the condition that two values are the same to an index.
func (Engine) SameValue(p sqlschema.Part, c *sqlschema.Column, a, b string) string {
	if p.Collation == ignoringCase {
		return "pg_catalog.lower(" + a + ") = pg_catalog.lower(" + b + ")"
	}
	s := compared(c, a) + " = " + compared(c, b)
	if p.Collation != "" {
		s += " COLLATE " + p.Collation
	}
	return s
}
