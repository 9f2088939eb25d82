package postgres

// This file tells what was read of a schema: which checks and triggers a declaration made, and
// what a type and a default are in the language.

import (
	"regexp"
	"strconv"
	"strings"
	"sync"

	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// rangeEnd is an end of a range.
var rangeEnd = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`([<>]= -?[0-9.]+)`) })

// asMade is a check of ours with the casts with which it is made.
func asMade(c *sqlschema.Column, p schema.Purpose, text string) string {
	x := quote(c.Name)
	switch typ, _, _ := strings.Cut(c.SQLType, "("); {
	case p == schema.ForNonblank && strings.HasPrefix(text, x+" "):
		return compared(c, x) + strings.TrimPrefix(text, x)
	case p == schema.ForRange && (typ == "numeric" || typ == "double precision"):
		return rangeEnd().ReplaceAllString(text, "$1::"+typ)
	}
	return text
}

// recognise tells what a declaration made, and for which column.
func recognise(t *sqlschema.Table) {
	for _, c := range t.Columns {
		if c.Type = typeOf(c.SQLType); c.Values != nil {
			c.Type = schema.Type{Kind: schema.Choice, Choices: c.Values}
		}
		if c.Default != nil {
			c.Value = knownDefaults()[c.Default.Key()]
		}
	}
	for _, k := range t.Checks {
		if c, p := t.MadeFor(k.Name); c != nil && !p.OfTrigger() {
			k.Column, k.Purpose = c.Name, p
		}
		switch k.Purpose {
		case schema.ForSoftDelete:
			t.SoftDelete = k.Column
		case schema.ForChoice, schema.ForRange, schema.ForNonblank:
			k.SQL.Stored = k.SQL.Make()
			k.SQL.Text = asMade(t.Column(k.Column), k.Purpose, spelled(canon(k.SQL.Text)))
			ddl.ReadCheck(k, t.Column(k.Column), tokens(k.SQL.Text))
		}
	}
	for _, g := range t.Triggers {
		name := strings.TrimPrefix(g.Name, "zz_")
		c, p := t.MadeFor(name)
		if c == nil {
			for _, o := range t.Columns { // a name that was cut
				for _, q := range []schema.Purpose{schema.ForStamped, schema.ForImmutable, schema.ForChildren,
					schema.ForGuard, schema.ForGuardAll} {
					if triggerName(t, o, q) == g.Name {
						c, p = o, q
					}
				}
			}
		}
		if c != nil && p.OfTrigger() {
			g.Column, g.Purpose = c.Name, p
			c.Immutable = c.Immutable || p == schema.ForImmutable
			c.Stamped = c.Stamped || p == schema.ForStamped
		} else if strings.Contains(g.SQL.Text, "$erbario$;\n") { // its table had another name
			g.Purpose = schema.ForChildren
			switch {
			case strings.HasPrefix(g.Name, bridgePrefix):
				g.Purpose = schema.ForBridge
			case strings.Contains(g.SQL.Text, "erbario_guard_all_"):
				g.Purpose = schema.ForGuardAll
			case strings.Contains(g.SQL.Text, "erbario_guard_"):
				g.Purpose = schema.ForGuard
			}
		}
	}
}

// knownDefaults are the defaults of the language that are expressions.
var knownDefaults = sync.OnceValue(func() map[string]*schema.Value {
	return map[string]*schema.Value{
		canon("now()"): {
			Kind: schema.NowValue,
		}, canon(utcNow): {Kind: schema.NowValue}, canon(todaySQL): {Kind: schema.TodayValue},
		canon("gen_random_uuid()"): {Kind: schema.UUIDValue},
	}
})

// liveOf is the table whose rows that are not deleted a view shows, as soft delete
// makes it; "" for any other view.
func liveOf(s *sqlschema.Schema, v *sqlschema.View) string {
	list := strings.Fields(v.SQL.Key())
	n := len(list)
	if n < 8 || list[n-1] != "null" || list[n-2] != "is" || list[n-4] != "where" || list[n-6] != "from" {
		return ""
	}
	for _, t := range s.Tables {
		if quoteTable(t.Name) == list[n-5] && t.SoftDelete != "" && quote(t.SoftDelete) == list[n-3] {
			return t.Name
		}
	}
	return ""
}

// typeOf guesses the type of the language that a stored type stands for; its Kind
// is Native where none does.
func typeOf(sqlType string) schema.Type {
	name, args, _ := strings.Cut(strings.TrimSuffix(sqlType, ")"), "(")
	first, second, _ := strings.Cut(args, ",")
	n, _ := strconv.Atoi(first)
	m, _ := strconv.Atoi(second)
	switch name {
	case "text":
		return schema.Type{Kind: schema.Text}
	case "varchar":
		return schema.Type{Kind: schema.Text, Length: n}
	case "numeric":
		if args != "" {
			return schema.Type{Kind: schema.Decimal, Precision: n, Scale: m}
		}
	case "double precision":
		return schema.Type{Kind: schema.Double}
	case "timestamptz", "timestamp", "time":
		kinds := map[string]schema.Kind{"timestamptz": schema.Timestamp, "timestamp": schema.Datetime,
			"time": schema.Time}
		t := schema.Type{Kind: kinds[name]}
		if args != "" {
			t.Seconds = n + 1
		}
		return t
	case "character":
		if args != "" {
			return schema.Type{Kind: schema.Text, Length: n, Fixed: true}
		}
	case "jsonb":
		return schema.Type{Kind: schema.JSON}
	case "bytea":
		return schema.Type{Kind: schema.Bytes}
	case "smallint", "integer", "bigint", "real", "boolean", "date", "uuid":
		return schema.Type{Kind: schema.Kind(name)}
	}
	return schema.Type{Kind: schema.Native, Name: sqlType}
}

// typesOf tells of a type whether it is one of the database, such as a domain, or an array of one.
func typesOf(s *sqlschema.Schema) func(sqlType string) bool {
	own := map[string]bool{}
	for _, o := range s.Others {
		switch o.Kind {
		case sqlschema.EnumType, "domain", "composite type", "range type":
			own[quoteTable(o.Name)] = true
		}
	}
	for _, o := range s.Objects {
		if o.Kind == "domain" || o.Kind == "type" {
			own[quoteTable(o.Name)] = true
		}
	}
	return func(sqlType string) bool { return own[strings.TrimRight(sqlType, "[]")] }
}
