package sqlite

// This file says what SQLite keeps for a declaration. SQLite itself holds
// values to nothing but NOT NULL, so every type is held by a check, and the
// types' names are chosen by the affinity that they give (a name with INT in it
// turns '0930' into 930).

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

const (
	nowExpr   = "strftime('%Y-%m-%d %H:%M:%f', 'now')"
	todayExpr = "date('now')"
	// A version 7 UUID: 48 bits of milliseconds, then random bits. SQLite has no
	// function for one.
	uuidExpr = "printf('%08x-%04x-7%s-%s%s-%s', " +
		"CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER) >> 16, " +
		"CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER) & 65535, " +
		"substr(lower(hex(randomblob(2))), 2), substr('89ab', 1 + (abs(random()) % 4), 1), " +
		"substr(lower(hex(randomblob(2))), 2), lower(hex(randomblob(6))))"
)

// exactDigits is the number of decimal digits that a floating number keeps.
const exactDigits = 15

// Lower gives what the database is to hold for a declared schema.
func (Engine) Lower(declared *schema.Schema) (*sqlschema.Schema, []engine.Notice) {
	return lowering.Schema(declared)
}

var lowering = &ddl.Lowering{
	Quote: quote, Text: literal, SQL: sqlOf, Value: valueSQL,
	Now:   func(schema.Type) string { return "(" + nowExpr + ")" },
	Stamp: stampTrigger, Immutable: immutableTrigger, Between: "%[1]s BETWEEN %[2]s AND %[3]s",
	OneOf: func(x string, values []string) string { return x + " IN (" + strings.Join(values, ", ") + ")" },
	Nonblank: func(c *sqlschema.Column) string {
		return "trim(" + quote(c.Name) + ", char(9, 10, 11, 12, 13, 32)) <> ''"
	},
	Lower: lowerTable,
	Children: func(out *sqlschema.Schema, d *schema.Schema, t *sqlschema.Table) ([]*sqlschema.Trigger,
		[]engine.Notice) {
		if g := childrenTrigger(out, d, t); g != nil {
			return []*sqlschema.Trigger{g}, nil
		}
		return nil, nil
	},
	Guards: guards,
	LiveView: func(name string, t *sqlschema.Table) sqlschema.SQL {
		return sqlschema.SQL{Text: liveView(name, t), Canon: bodyKey}
	},
}

// guards are the trigger of a guard, and what SQLite cannot do of it.
func guards(t *sqlschema.Table) ([]*sqlschema.Trigger, []engine.Notice) {
	n := engine.Notice{Kind: "guard", Table: t.Name, Column: t.SoftDelete, Text: fmt.Sprintf(
		"on SQLite REPLACE deletes rows of %s without their guard, unless PRAGMA recursive_triggers is on", t.Name)}
	if role := t.Declared.GuardRole; role != "" {
		n.Kind, n.Mistake, n.Text = "guard by", true, fmt.Sprintf(
			"SQLite has no roles: write with guard alone, or keep it to the servers, on postgres, mariadb: soft delete with guard by %q",
			role)
	}
	return []*sqlschema.Trigger{guardTrigger(t)}, []engine.Notice{n}
}

func lowerTable(w *ddl.Lowering, t *sqlschema.Table) []engine.Notice {
	var notices []engine.Notice
	notice := func(c *sqlschema.Column, format string, args ...any) {
		notices = append(notices,
			engine.Notice{Kind: format, Table: t.Name, Column: c.Name, Text: fmt.Sprintf(format, args...)})
	}
	mistake := func(c *sqlschema.Column, format string, args ...any) {
		notice(c, format, args...)
		notices[len(notices)-1].Mistake = true
	}
	t.Options.Strict = mentions(t.Declared.Options, "strict")
	t.Options.WithoutRowid = mentions(t.Declared.Options, "without")
	key := t.Key()
	var checks []*sqlschema.Check
	for _, c := range t.Columns {
		t.Comment, c.Comment = "", ""
		numbers(c, notice, mistake)
		c.SQLType = typeName(c.Type)
		if t.Options.Strict && c.Type.As == "" && !c.Type.Typeless && c.Type.Kind != schema.Native {
			c.SQLType = strictName(wider(c.Type))
		}
		identity, rowid := c.Identity, c.Declared.Numbers.Rowid
		if identity || rowid {
			c.SQLType = "INTEGER"
			c.NotNull = false // the row number never is
		} else if len(key) == 1 && key[0] == c.Name && c.SQLType == "INTEGER" && c.Type.As == "" {
			c.SQLType = "INT" // INTEGER would make it the row number, given by SQLite
		}
		if c.Collation == "" && c.Type.Kind == schema.Text {
			c.Collation = t.Declared.Collation
		}
		lacking(c, notice, mistake)
		w.Column(t, c)
		check := func(purpose schema.Purpose, expr string) {
			checks = append(checks, w.Check(t, c, purpose, expr))
		}
		unchecked := identity || rowid || t.Declared.Unchecked && c.Name != t.SoftDelete || c.Type.As != "" ||
			c.Type.Typeless
		if e := typeCheck(c); e != "" && !unchecked {
			purpose := schema.ForType
			if c.Name == t.SoftDelete {
				purpose = schema.ForSoftDelete
			}
			check(purpose, e)
		}
		if c.Type.Enum != "" {
			notice(c, "SQLite has no enum types: a check enforces the values of %s", c.Type.Name)
		}
		checks = append(checks, w.Checks(t, c)...)
		if k := c.Type; k.Kind == schema.Decimal && k.Precision <= exactDigits {
			notice(c, "SQLite keeps decimals as floating numbers: sums of %s may be off in the last digit", k)
		}
	}
	t.Checks = append(checks, t.Checks...)
	for _, x := range t.Indexes {
		lowerIndex(t, x, notice)
	}
	for i, k := range t.ForeignKeys {
		if !t.Declared.ForeignKeys[i].Stored.Named { // SQLite never shows it
			k.Name = ""
		}
		k.NotValid = false
	}
	if t.PrimaryKey != nil {
		lowerParts(t.PrimaryKey.Columns, "the primary key of "+t.Name, notice)
		t.PrimaryKey.Name, t.PrimaryKey.Options = t.Declared.KeyName, ""
		t.PrimaryKey.Autoincrement = len(key) == 1 && t.Column(key[0]) != nil && t.Column(key[0]).Identity
	}
	return notices
}

// numbers says what SQLite does for a column that is numbered: the number of the row alone.
func numbers(c *sqlschema.Column, notice, mistake func(c *sqlschema.Column, format string, args ...any)) {
	n := c.Declared.Numbers
	if n.NoKey {
		mistake(c, "SQLite numbers only a primary key of one field, and %s is none", c.Declared.Field)
	}
	if n.Serial {
		notice(c, "SQLite has no sequences: %s is numbered as identity", c.Declared.Field)
	}
	if n.Always || n.Start > 1 {
		notice(c, "SQLite numbers from 1 on, and takes numbers that are given: %s", c.Declared.Field)
	}
	c.IdentityAlways, c.Start = false, 0
	c.Identity = c.Identity && !n.Rowid
}

// lacking reports what SQLite does not have of what is declared for a column.
func lacking(c *sqlschema.Column, notice, mistake func(c *sqlschema.Column, format string, args ...any)) {
	if c.Declared.UpdateNow {
		mistake(c, "SQLite sets no time by itself when a row is updated: write stamped")
	}
	if c.Invisible {
		notice(c, "SQLite has no invisible columns")
		c.Invisible = false
	}
	if c.Storage != "" || c.Statistics != nil {
		notice(c, "SQLite has no storage and no statistics of single columns")
		c.Storage, c.Statistics = "", nil
	}
	if c.Type.Of != nil {
		mistake(c, "SQLite has no arrays: write json")
	}
}

// lowerParts leaves out of the parts of a key or an index what SQLite does not have.
func lowerParts(parts []sqlschema.Part, of string, notice func(c *sqlschema.Column, format string, args ...any)) {
	for i, p := range parts {
		c := &sqlschema.Column{Name: p.Column}
		switch {
		case p.Length > 0:
			notice(c, "SQLite has no index on the beginning of a value: %s covers all of it", of)
		case p.Class != "" || p.Nulls != "":
			notice(c, "SQLite has neither operator classes nor an order of nulls in an index: %s", of)
		}
		parts[i].Length, parts[i].Class, parts[i].Nulls = 0, "", ""
	}
}

// lowerIndex makes an index what SQLite keeps for it.
func lowerIndex(t *sqlschema.Table, x *sqlschema.Index,
	notice func(c *sqlschema.Column, format string, args ...any)) {
	lowerParts(x.Parts, x.Name, notice)
	if x.Included != "" || x.Options != "" {
		notice(&sqlschema.Column{}, "SQLite has plain indexes only, without include, options or deferrable: %s", x.Name)
	}
	x.Using = ""
	for i, p := range x.Parts {
		if p.Collation == sqlschema.IgnoringCase {
			x.Parts[i].Collation = "NOCASE"
			if c := t.Column(p.Column); c != nil {
				notice(c, "SQLite ignores the case only of the letters a to z")
			}
		}
	}
	if x.NullsEqual {
		notice(&sqlschema.Column{Name: strings.Join(sqlschema.Names(x.Parts), ", ")},
			"SQLite allows any number of rows with null: nulls equal is not enforced")
		x.NullsEqual = false
	}
	x.Included, x.Options, x.Said = "", "", false
	for _, d := range t.Declared.Indexes {
		if d.Name == x.Name && x.Constraint && !d.Stored.Named {
			x.Name = ""
			return
		}
	}
}

// strictName is the type of a column of a STRICT table, which knows few.
func strictName(t schema.Type) string {
	switch t.Kind {
	case schema.Smallint, schema.Integer, schema.Bigint, schema.Boolean:
		return "INTEGER"
	case schema.Real, schema.Double:
		return "REAL"
	case schema.Decimal:
		if t.Precision <= exactDigits {
			return "REAL"
		}
	case schema.Bytes:
		return "BLOB"
	}
	return "TEXT"
}

// typeName is the declared type by which SQLite keeps a type of the language.
func typeName(t schema.Type) string {
	if t.As != "" || t.Typeless {
		return t.As
	}
	t = wider(t)
	switch t.Kind {
	case schema.Timestamp, schema.Datetime, schema.Time:
		if t.Seconds > 0 {
			return fmt.Sprintf("%s(%d)", strings.ToUpper(string(t.Kind)), t.Seconds-1)
		}
	case schema.Smallint, schema.Integer:
		if t.Unsigned {
			return strings.ToUpper(string(t.Kind)) + " UNSIGNED"
		}
	case schema.Text:
		if t.Fixed {
			return fmt.Sprintf("CHAR(%d)", t.Length)
		}
		if t.Length > 0 {
			return fmt.Sprintf("VARCHAR(%d)", t.Length)
		}
		return "TEXT"
	case schema.Choice:
		return "TEXT"
	case schema.Decimal:
		if t.Precision > exactDigits {
			return fmt.Sprintf("DECIMAL_TEXT(%d,%d)", t.Precision, t.Scale)
		}
		return fmt.Sprintf("DECIMAL(%d,%d)", t.Precision, t.Scale)
	case schema.UUID:
		return "CHAR(36)"
	case schema.JSON:
		return "JSON_TEXT"
	case schema.Bytes:
		return "BLOB"
	case schema.Native:
		return t.Name
	}
	return strings.ToUpper(string(t.Kind))
}

// wider is the type that holds the values of one: whole numbers of 64 bits without a sign are
// beyond those that SQLite has.
func wider(t schema.Type) schema.Type {
	if t.Kind == schema.Bigint && t.Unsigned {
		return schema.Type{Kind: schema.Decimal, Precision: 20}
	}
	return t
}

// typeCheck is the condition that holds a column to its type. It lets NULL
// pass, so that it stays the same when a field becomes optional.
func typeCheck(c *sqlschema.Column) string {
	x, t := quote(c.Name), wider(c.Type)
	switch t.Kind {
	case schema.Text:
		s := fmt.Sprintf("typeof(%s) IN ('text', 'null')", x)
		if t.Length > 0 {
			s += fmt.Sprintf(" AND length(%s) <= %d", x, t.Length)
		}
		return s + fmt.Sprintf(" AND instr(%s, char(0)) = 0", x)
	case schema.Smallint, schema.Integer:
		bits := 15
		if t.Kind == schema.Integer {
			bits = 31
		}
		high := int64(1)<<bits - 1
		if t.Unsigned {
			return fmt.Sprintf("typeof(%s) IN ('integer', 'null') AND %s BETWEEN 0 AND %s", x, x, ddl.Most(t))
		}
		return fmt.Sprintf("typeof(%s) IN ('integer', 'null') AND %s BETWEEN %d AND %d", x, x, -high-1, high)
	case schema.Bigint:
		return fmt.Sprintf("typeof(%s) IN ('integer', 'null')", x)
	case schema.Real, schema.Double:
		return fmt.Sprintf("typeof(%s) IN ('real', 'null')", x)
	case schema.Decimal:
		return decimalCheck(x, t)
	case schema.Boolean:
		return x + " IN (0, 1)"
	case schema.Date:
		return fmt.Sprintf("%s IS date(%s)", x, x)
	case schema.Time:
		// IS and not IN: what is no time gives null, and a check lets null pass.
		return fmt.Sprintf("%s IS time(%s) OR %s IS strftime('%%H:%%M:%%f', %s)", x, x, x, x)
	case schema.Timestamp, schema.Datetime:
		return fmt.Sprintf("%s IS datetime(%s) OR %s IS strftime('%%Y-%%m-%%d %%H:%%M:%%f', %s)", x, x, x, x)
	case schema.UUID:
		return fmt.Sprintf(
			"%s GLOB '????????-????-????-????-????????????' AND length(replace(%s, '-', '')) = 32 AND %s NOT GLOB '*[^0-9a-f-]*'",
			x, x, x)
	case schema.JSON:
		// Before 3.41 json_valid(NULL) was 0: an application may bring such an SQLite.
		return fmt.Sprintf("%s IS NULL OR typeof(%s) = 'text' AND json_valid(%s)", x, x, x)
	case schema.Bytes:
		s := fmt.Sprintf("typeof(%s) IN ('blob', 'null')", x)
		if t.Length > 0 {
			s += fmt.Sprintf(" AND length(%s) <= %d", x, t.Length)
		}
		return s
	}
	return ""
}

func decimalCheck(x string, t schema.Type) string {
	if t.Precision <= exactDigits {
		limit := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(t.Precision-t.Scale)), nil)
		return fmt.Sprintf("typeof(%s) IN ('integer', 'real', 'null') AND round(%s, %d) = %s AND abs(%s) < %s", x, x,
			t.Scale, x, x, limit)
	}
	// As text in one form: a sign only if negative, no leading zeros but one
	// before the point, and all digits behind it.
	whole := t.Precision - t.Scale
	s := fmt.Sprintf(
		"typeof(%s) IN ('text', 'null') AND ltrim(%s, '-') NOT GLOB '*[^0-9.]*' AND substr(%s, 2) NOT GLOB '*-*'", x, x,
		x)
	if t.Scale > 0 {
		s += fmt.Sprintf(
			" AND length(%s) - length(replace(%s, '.', '')) = 1 AND instr(%s, '.') = length(%s) - %d AND instr(ltrim(%s, '-'), '.') BETWEEN 2 AND %d",
			x, x, x, x, t.Scale, x, max(whole, 1)+1)
	} else {
		s += fmt.Sprintf(" AND instr(%s, '.') = 0 AND length(ltrim(%s, '-')) BETWEEN 1 AND %d", x, x, whole)
	}
	return s + fmt.Sprintf(" AND ltrim(%s, '-') NOT GLOB '0[0-9]*'", x)
}

var constants = &ddl.Constants{
	Text: literal, True: "1", False: "0",
	Now:   func(schema.Type) string { return "(" + nowExpr + ")" },
	Today: "(" + todayExpr + ")", FreshUUID: "(" + uuidExpr + ")",
}

// valueSQL gives a declared value in the form in which SQLite keeps its type,
// fit to stand behind DEFAULT.
func valueSQL(v schema.Value, t schema.Type) (string, error) {
	switch {
	case v.Kind == schema.NumberValue && t.Kind == schema.Decimal && t.Precision > exactDigits:
		r, ok := new(big.Rat).SetString(v.Text)
		if !ok {
			return "", fmt.Errorf("%s is not a number", v.Text)
		}
		return literal(r.FloatString(t.Scale)), nil
	case v.Kind == schema.NumberValue && (t.Kind == schema.Real || t.Kind == schema.Double) &&
		!strings.Contains(v.Text, "."):
		return v.Text + ".0", nil
	case v.Kind == schema.TextValue && t.Kind == schema.UUID:
		return literal(strings.ToLower(v.Text)), nil
	case v.Kind == schema.SQLValue && nameAsText(v.Text):
		return v.Text, nil
	}
	if sql, ok := constants.SQL(v, t); ok {
		return sql, nil
	}
	return literal(v.Text), nil
}

// nameAsText tells whether a default is a name, which SQLite takes for a text as long as it is not in
// brackets.
func nameAsText(sql string) bool {
	list := tokens(sql)
	if len(list) != 1 || !list[0].Named() {
		return false
	}
	switch list[0].Word() {
	case "CURRENT_TIMESTAMP", "CURRENT_DATE", "CURRENT_TIME", "NULL", "TRUE", "FALSE":
		return false
	}
	return list[0].Kind == sqltok.Name || list[0].Kind == sqltok.Word
}

// Literal is a declared value as SQL of the type.
func (Engine) Literal(v schema.Value, t schema.Type) (string, error) { return valueSQL(v, t) }

// rowCondition tells the new row from all others in a trigger.
func rowCondition(t *sqlschema.Table) string {
	if name := rowidName(t); name != "" {
		return name + " = NEW." + name
	}
	var terms []string
	for _, k := range t.Key() {
		terms = append(terms, quote(k)+" IS NEW."+quote(k))
	}
	return strings.Join(terms, " AND ")
}

func stampTrigger(t *sqlschema.Table, c *sqlschema.Column) *sqlschema.Trigger {
	name, x := schema.ConstraintName(t.Name, []string{c.Name}, "stamped"), quote(c.Name)
	text := fmt.Sprintf(
		"CREATE TRIGGER %s AFTER UPDATE ON %s FOR EACH ROW\nWHEN NEW.%s IS OLD.%s AND NEW.%s IS NOT %s\nBEGIN\n    UPDATE %s SET %s = %s WHERE %s;\nEND",
		quote(name), quote(t.Name), x, x, x, nowExpr, quote(t.Name), x, nowExpr, rowCondition(t))
	return &sqlschema.Trigger{
		Name:    name,
		Column:  c.Name,
		Purpose: schema.ForStamped,
		SQL:     sqlschema.SQL{Text: text, Canon: bodyKey},
	}
}

// guardTrigger lets no row go permanently that is not marked as deleted.
func guardTrigger(t *sqlschema.Table) *sqlschema.Trigger {
	name := schema.ConstraintName(t.Name, []string{t.SoftDelete}, string(schema.ForGuard))
	text := fmt.Sprintf(
		"CREATE TRIGGER %s BEFORE DELETE ON %s FOR EACH ROW\nWHEN OLD.%s IS NULL\nBEGIN\n    SELECT RAISE(ABORT, %s);\nEND",
		quote(name), quote(t.Name), quote(t.SoftDelete), literal(engine.GuardWords(t.Name)))
	return &sqlschema.Trigger{
		Name:    name,
		Column:  t.SoftDelete,
		Purpose: schema.ForGuard,
		SQL:     sqlschema.SQL{Text: text, Canon: bodyKey},
	}
}

// unguarded are statements that delete rows of a table past its guard, in a transaction of
// ours.
func unguarded(t *sqlschema.Table, sql ...string) []string {
	var drop, make []string
	for _, g := range t.Triggers {
		if g.Purpose == schema.ForGuard {
			drop, make = append(drop, dropTrigger(g)), append(make, g.SQL.Text)
		}
	}
	return slices.Concat(drop, sql, make)
}

// Unguarded gives statements that delete rows of a table past its guard.
func (Engine) Unguarded(t *sqlschema.Table, sql ...string) []string { return unguarded(t, sql...) }

func immutableTrigger(t *sqlschema.Table, c *sqlschema.Column) *sqlschema.Trigger {
	name, x := schema.ConstraintName(t.Name, []string{c.Name}, "immutable"), quote(c.Name)
	text := fmt.Sprintf(
		"CREATE TRIGGER %s BEFORE UPDATE ON %s FOR EACH ROW\nWHEN OLD.%s IS NOT NULL AND NEW.%s IS NOT OLD.%s\nBEGIN\n    SELECT RAISE(ABORT, %s);\nEND",
		quote(name), quote(t.Name), x, x, x, literal(t.Name+"."+c.Name+" cannot be changed once it is set"))
	return &sqlschema.Trigger{
		Name:    name,
		Column:  c.Name,
		Purpose: schema.ForImmutable,
		SQL:     sqlschema.SQL{Text: text, Canon: bodyKey},
	}
}

// liveView is the view of the rows that are not deleted. It names its columns,
// so that one added by hand does not come into it.
func liveView(name string, t *sqlschema.Table) string {
	var names []string
	for _, c := range t.Columns {
		names = append(names, quote(c.Name))
	}
	return fmt.Sprintf("CREATE VIEW %s AS\nSELECT %s\nFROM %s\nWHERE %s IS NULL", quote(name),
		strings.Join(names, ", "), quote(t.Name), quote(t.SoftDelete))
}

// childrenTrigger marks the rows that refer to a row as deleted together with it, and
// brings those back that went at the same moment. Each of them does so with those that
// refer to it, by the trigger of its own table; only where that leads back to the first
// table the rows are found by one recursive query for each table that is reached, since
// SQLite runs no trigger inside itself. nil: nothing can be reached.
func childrenTrigger(out *sqlschema.Schema, declared *schema.Schema, t *sqlschema.Table) *sqlschema.Trigger {
	x := quote(t.SoftDelete)
	var updates []string
	if leadsBack(declared, t.Declared) {
		updates = recursiveUpdates(out, declared, t)
	} else {
		for _, c := range schema.Children(declared, t.Declared) {
			var where []string
			for i, col := range c.Key.Columns {
				where = append(where, fmt.Sprintf("%s = NEW.%s", quote(col), quote(c.Key.References[i])))
			}
			updates = append(updates, fmt.Sprintf("UPDATE %s SET %s = NEW.%s WHERE %s AND %s IS OLD.%s",
				quote(c.Table.Name), quote(c.Table.SoftDelete), x, strings.Join(where, " AND "),
				quote(c.Table.SoftDelete), x))
		}
	}
	if len(updates) == 0 {
		return nil
	}
	name := schema.ConstraintName(t.Name, []string{t.SoftDelete}, string(schema.ForChildren))
	text := fmt.Sprintf(
		"CREATE TRIGGER %s AFTER UPDATE ON %s FOR EACH ROW\nWHEN OLD.%s IS NOT NEW.%s\nBEGIN\n    %s;\nEND",
		quote(name), quote(t.Name), x, x, strings.Join(updates, ";\n    "))
	return &sqlschema.Trigger{
		Name:    name,
		Column:  t.SoftDelete,
		Purpose: schema.ForChildren,
		SQL:     sqlschema.SQL{Text: text, Canon: bodyKey},
	}
}

// leadsBack tells whether rows of a table can go with others of the same table.
func leadsBack(s *schema.Schema, t *schema.Table) bool {
	seen := map[*schema.Table]bool{}
	var walk func(parent *schema.Table) bool
	walk = func(parent *schema.Table) bool {
		if seen[parent] || !parent.Children {
			return false
		}
		seen[parent] = true
		return slices.ContainsFunc(schema.Children(s, parent),
			func(c schema.Child) bool { return c.Table == t || walk(c.Table) })
	}
	return walk(t)
}

// recursiveUpdates mark the rows of each table that a row leads to.
func recursiveUpdates(out *sqlschema.Schema, declared *schema.Schema, t *sqlschema.Table) []string {
	var reached []*schema.Table
	var terms []string
	rowid := func(t *schema.Table) string { return rowidName(out.Table(t.Name)) }
	var walk func(parent *schema.Table)
	seen := map[string]bool{}
	walk = func(parent *schema.Table) {
		if seen[parent.Name] || !parent.Children {
			return
		}
		seen[parent.Name] = true
		for _, c := range schema.Children(declared, parent) {
			pr, cr := rowid(parent), rowid(c.Table)
			if pr == "" || cr == "" {
				continue
			}
			var on []string
			for i, col := range c.Key.Columns {
				on = append(on, fmt.Sprintf("c.%s = p.%s", quote(col), quote(c.Key.References[i])))
			}
			x := "c." + quote(c.Table.SoftDelete)
			terms = append(
				terms,
				fmt.Sprintf(
					"SELECT %s, c.%s FROM gone JOIN %s AS p ON gone.kind = %s AND p.%s = gone.n JOIN %s AS c ON %s WHERE (%s IS OLD.%s OR %s IS NEW.%s)",
					literal(c.Table.Name), cr, quote(parent.Name), literal(parent.Name), pr, quote(c.Table.Name),
					strings.Join(on, " AND "), x, quote(t.SoftDelete), x, quote(t.SoftDelete)),
			)
			if !slices.Contains(reached, c.Table) {
				reached = append(reached, c.Table)
			}
			walk(c.Table)
		}
	}
	walk(t.Declared)
	var updates []string
	for _, c := range reached {
		updates = append(
			updates,
			fmt.Sprintf(
				"UPDATE %s SET %s = NEW.%s WHERE %s IS OLD.%s AND %s IN (\n        WITH RECURSIVE gone (kind, n) AS (\n            SELECT %s, NEW.%s\n            UNION\n            %s\n        )\n        SELECT n FROM gone WHERE kind = %s)",
				quote(c.Name), quote(c.SoftDelete), quote(t.SoftDelete), quote(c.SoftDelete), quote(t.SoftDelete),
				rowid(c), literal(t.Name), rowidName(t), strings.Join(terms, "\n            UNION\n            "),
				literal(c.Name)),
		)
	}
	return updates
}
