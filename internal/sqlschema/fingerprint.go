package sqlschema

// This file gives a schema a short name that changes when the schema does.

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"erbario/internal/schema"
)

// Fingerprint is twelve hexadecimal digits of a hash over everything that a
// schema holds, in an order of its own: how a statement was written makes no difference, nor
// does the order of columns but where it can be corrected. Erbario's own tables do not count,
// and of what no model can declare only enum types do.
func Fingerprint(s *Schema) string {
	h := sha256.New()
	var tables []*Table
	for _, t := range s.Tables {
		if !schema.Own(t.Name) {
			tables = append(tables, t)
		}
	}
	slices.SortFunc(tables,
		func(a, b *Table) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	texts := make([]bytes.Buffer, len(tables))
	var work sync.WaitGroup
	const some = 50
	for from := 0; from < len(tables); from += some { // bringing SQL into its form takes long
		work.Go(func() {
			for i := from; i < min(from+some, len(tables)); i++ {
				writeTable(&texts[i], tables[i])
			}
		})
	}
	work.Wait()
	for i := range texts {
		h.Write(texts[i].Bytes())
	}
	var views []string
	for _, v := range s.Views {
		if !schema.Own(v.Name) {
			views = append(views, "view "+v.SQL.Key())
		}
	}
	for _, o := range s.Others {
		if o.Kind == EnumType {
			views = append(views, fmt.Sprintf("enum %s %q", o.Name, o.Values))
		}
	}
	lines(h, views)
	return hex.EncodeToString(h.Sum(nil))[:12]
}

// lines writes lines in order, whatever order they came in.
func lines(w io.Writer, list []string) {
	slices.Sort(list)
	for _, l := range list {
		fmt.Fprintf(w, "%d %s\n", len(l), l)
	}
}

func writeTable(w io.Writer, t *Table) {
	o := t.Options
	fmt.Fprintf(w, "table %q {%t %t %s %t %t}%s\n", strings.ToLower(t.Name), o.Strict, o.WithoutRowid, o.Virtual,
		o.Unlogged, o.Foreign, o.Behind)
	var list []string
	add := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	key := func(s *SQL) string {
		if s == nil {
			return "-"
		}
		return "=" + s.Key()
	}
	partKeys := func(parts []Part) string {
		var out []string
		for _, p := range parts {
			one := fmt.Sprintf("%q %s %t %s", strings.ToLower(p.Column), key(p.Expr), p.Desc,
				strings.ToLower(p.Collation))
			if p.Length > 0 || p.Class != "" || p.Nulls != "" {
				one += fmt.Sprintf(" (%d) %s %s", p.Length, p.Class, p.Nulls)
			}
			out = append(out, one)
		}
		return strings.Join(out, ";")
	}
	for _, c := range t.Columns {
		gen := "-"
		if c.Generated != nil {
			gen = fmt.Sprintf("%s %t", c.Generated.SQL.Key(), c.Generated.Stored)
		}
		add("column %q %q %t %s %s %s %s", c.Name, strings.ToLower(c.SQLType), c.NotNull, key(c.Default), gen,
			strings.ToLower(c.Collation), c.Conflict)
		if c.OnUpdate != "" || c.Invisible {
			add("column %q on update %s, invisible %t", c.Name, strings.ToLower(c.OnUpdate), c.Invisible)
		}
		if c.Identity || c.IdentityAlways {
			add("column %q identity %t", c.Name, c.IdentityAlways)
		}
		if c.Comment != "" {
			add("column %q comment %q", c.Name, c.Comment)
		}
	}
	if k := t.PrimaryKey; k != nil {
		add("key %s %t %s", partKeys(k.Columns), k.Autoincrement, k.Conflict)
	}
	for _, x := range t.Indexes {
		add("index %q %t %s %s %s %t", x.Name, x.Unique, partKeys(x.Parts), key(x.Where), x.Conflict, x.NullsEqual)
		if x.Using != "" || x.Included != "" || x.Options != "" || x.Invalid || x.Constraint {
			add("index %q %s %q %q %t %t", x.Name, x.Using, x.Included, x.Options, x.Invalid, x.Constraint)
		}
	}
	for _, k := range t.ForeignKeys {
		add("reference %q %q %q %s %s %s", k.Columns, strings.ToLower(k.Table), k.References, k.OnDelete, k.OnUpdate,
			k.Deferrable)
		add("reference %q named %q %s %q %t", k.Columns, k.Name, k.Match, k.SetColumns, k.NotValid)
	}
	for _, k := range t.Checks {
		add("check %q %s %s", k.Name, k.SQL.Key(), k.Conflict)
		if k.NoInherit || k.NotValid {
			add("check %q %t %t", k.Name, k.NoInherit, k.NotValid)
		}
	}
	for _, k := range t.Others {
		add("constraint %q %q", k.Name, k.Text)
	}
	if t.Comment != "" {
		add("comment %q", t.Comment)
	}
	if t.Ordered { // where the order can be corrected, it counts
		for i, c := range t.Columns {
			add("place %d %q", i, c.Name)
		}
	}
	for _, g := range t.Triggers {
		add("trigger %q %s", g.Name, g.SQL.Key())
	}
	lines(w, list)
}
