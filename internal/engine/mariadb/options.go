package mariadb

// This file is how declared tables and indexes get the options that models say.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// seconds are the digits of a second of a stored type; "" for none.
func seconds(sqlType string) string {
	_, n, _ := strings.Cut(strings.TrimSuffix(sqlType, ")"), "(")
	return n
}

// collationOf is the collation of a table among what is behind its columns.
func collationOf(behind string) string {
	_, rest, _ := strings.Cut(behind, " COLLATE=")
	name, _, _ := strings.Cut(rest, " ")
	return name
}

// tableOptions is what is behind the columns of a declared table.
func tableOptions(d *schema.Table) string {
	if d.Options == "" && d.Collation == "" {
		return behind
	}
	collation, engine, last := cmp.Or(d.Collation, server{}.binary()), "InnoDB", ""
	text := d.Options
	for _, t := range tokens(text) {
		if t.Is("PARTITION") {
			text, last = text[:t.Start], " "+strings.TrimSpace(text[t.Start:])
			break
		}
	}
	var more []string
	text = strings.NewReplacer(" =", "=", "= ", "=").Replace(text)
	for _, word := range strings.Fields(text) {
		key, value, ok := strings.Cut(word, "=")
		switch {
		case ok && strings.EqualFold(key, "engine"):
			engine = value
		case ok:
			more = append(more, strings.ToUpper(key)+"="+value)
		default:
			more = append(more, strings.ToUpper(word))
		}
	}
	charset, _, _ := strings.Cut(collation, "_")
	out := " ENGINE=" + engine + " DEFAULT CHARSET=" + charset + " COLLATE=" + collation
	if len(more) > 0 {
		out += " " + strings.Join(more, " ")
	}
	return out + last
}

// lowerParts leaves out of the parts of a key or an index what MariaDB does not have.
func lowerParts(parts []sqlschema.Part, of string, notice func(column, format string, args ...any)) {
	for i, p := range parts {
		if p.Class != "" || p.Nulls != "" || p.Collation != "" && p.Collation != sqlschema.IgnoringCase {
			notice(p.Column, "MariaDB has neither operator classes, collations nor an order of nulls in an index: %s", of)
			parts[i].Class, parts[i].Nulls, parts[i].Collation = "", "", ""
		}
	}
}

// asWritten gives an index the options that are declared, and tells whether it is kept as it is
// written: as one of a method that holds other things than the values, or by their sums.
func asWritten(t *sqlschema.Table, x *sqlschema.Index, notice func(column, format string, args ...any)) bool {
	method := strings.ToLower(x.Using)
	x.Using, x.Options = "", ""
	if method == "hash" {
		x.Options = " USING HASH"
	}
	lowerParts(x.Parts, x.Name, notice)
	for _, d := range t.Declared.Indexes {
		if d.Name != x.Name {
			continue
		}
		if d.Stored.Options != "" {
			x.Options += " " + d.Stored.Options
		}
		x.Options += commentOf(d.Stored.Comment)
		if d.Stored.Invisible {
			x.Options += " " + server{}.ignored()
		}
		if d.Stored.Deferrable != "" || len(d.Stored.Include) > 0 {
			notice("", "MariaDB has neither deferrable constraints nor include: %s", x.Name)
		}
	}
	x.Included, x.Constraint, x.Form = "", false, false
	if method == "fulltext" || method == "spatial" {
		x.Using = method
	}
	return x.Using != "" || method == "hash" && x.Unique
}

// digits are those of a second that a type keeps, behind its name.
func digits(t schema.Type) string {
	switch t.Seconds {
	case 0:
		return "(6)"
	case 1:
		return ""
	}
	return fmt.Sprintf("(%d)", t.Seconds-1)
}

// nowOf is the time for a column of a type: the server keeps the stamps of its own type in UTC
// itself.
func nowOf(t schema.Type) string {
	if strings.HasPrefix(strings.ToLower(t.As), "timestamp") {
		return "current_timestamp(" + seconds(t.As) + ")"
	}
	return "utc_timestamp" + cmp.Or(digits(t), "()")
}

// lowerColumn gives a column what MariaDB keeps for it, but for its default and its checks.
func lowerColumn(t *sqlschema.Table, c *sqlschema.Column, notice, mistake func(column, format string, args ...any)) {
	c.SQLType = typeName(c.Type)
	if strings.HasPrefix(c.SQLType, "enum(") {
		c.Values = c.Type.Choices
	}
	if !c.NotNull && slices.Contains(t.Key(), c.Name) {
		notice(c.Name, "%s is in the primary key, and so required on MariaDB", c.Declared.Field)
		c.NotNull = true
	}
	begins := func(parts []sqlschema.Part) bool { return len(parts) > 0 && parts[0].Column == c.Name }
	n := c.Declared.Numbers
	switch indexed := slices.ContainsFunc(t.Indexes, func(x *sqlschema.Index) bool { return begins(x.Parts) }); {
	case n.NoKey && !indexed && !(t.PrimaryKey != nil && begins(t.PrimaryKey.Columns)):
		mistake(c.Name, "MariaDB numbers a column only if an index begins with it: add index to %s", c.Declared.Field)
	case n.Serial:
		notice(c.Name, "MariaDB numbers %s as identity, without a sequence", c.Declared.Field)
	case n.Rowid:
		notice(c.Name, "MariaDB has no row numbers: %s is an identity", c.Declared.Field)
	case n.Always || n.Start > 1:
		notice(c.Name, "MariaDB numbers from 1 on, and takes numbers that are given: %s", c.Declared.Field)
	case c.Type.Of != nil:
		mistake(c.Name, "MariaDB has no arrays: write json")
	}
	c.IdentityAlways, c.Start = false, 0
	if c.Declared.UpdateNow {
		c.OnUpdate = "current_timestamp(" + seconds(c.SQLType) + ")"
	}
}
