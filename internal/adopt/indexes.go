package adopt

// This file writes the indexes and the uniqueness of a model.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// indexed tells whether a reference has an index as the rule has it, without a word: of its own,
// or one that begins with its columns.
func (w *writer) indexed(columns []string) bool {
	begins := func(names []string) bool {
		return len(names) >= len(columns) && slices.Equal(names[:len(columns)], columns)
	}
	rule := w.rules.Names.IndexName(w.t.Bare(), columns, false)
	others := slices.ContainsFunc(w.t.Indexes, func(x *schema.Index) bool {
		names := schema.Names(x.Parts)
		return x.Where == "" && len(names) == len(x.Parts) && begins(names) && !w.byRule(x, rule)
	})
	if begins(w.t.Key) || others {
		return true
	}
	for _, x := range w.t.Indexes {
		if w.byRule(x, rule) && slices.Equal(schema.Names(x.Parts), columns) {
			w.done[x] = true
			return true
		}
	}
	return false
}

// byRule tells whether an index is plain and has the name of the rule.
func (w *writer) byRule(x *schema.Index, rule string) bool {
	return x.Name == rule && plainIndex(x)
}

// plainIndex tells whether an index is of columns, and nothing else is said of it.
func plainIndex(x *schema.Index) bool {
	s := x.Stored
	if x.Where != "" || x.Using != "" || x.NullsEqual || s.Options != "" || s.Comment != "" || s.Invisible ||
		len(s.Include) > 0 || x.Unique {
		return false
	}
	return plainParts(x)
}

func plainParts(x *schema.Index) bool {
	return !slices.ContainsFunc(x.Parts, func(p schema.Part) bool {
		return p.SQL != "" || p.Desc || p.Length > 0 || p.Collation != "" || p.Class != "" || p.Nulls != "" ||
			p.IgnoringCase
	})
}

// uniqueness are the clauses unique and index of a column.
func (w *writer) uniqueness(c *schema.Column) []string {
	for _, x := range w.t.Indexes {
		s := x.Stored
		if !x.Unique || len(x.Parts) != 1 || x.Parts[0].Column != c.Name || x.Parts[0].SQL != "" || x.Where != "" ||
			x.Using != "" || x.NullsEqual || s.Options != "" || s.Comment != "" || len(s.Include) > 0 || w.done[x] {
			continue
		}
		ignoring := x.Parts[0].IgnoringCase
		plain := *x
		plain.Parts = slices.Clone(x.Parts)
		plain.Parts[0].IgnoringCase = false
		if !plainParts(&plain) {
			continue
		}
		w.done[x] = true
		out := []string{"unique"}
		if ignoring {
			out = append(out, "ignoring case")
		}
		if s.Form != "" {
			out = append(out, "as", string(s.Form))
		}
		if s.Unnamed {
			return append(out, held(s)...)
		}
		return append(out, w.stored(s, x.Name, w.rules.Names.IndexName(w.t.Bare(), []string{c.Name}, true))...)
	}
	if k, _ := w.reference(c.Name); k != nil { // it has its own rule for an index
		return nil
	}
	for _, x := range w.t.Indexes {
		if plainIndex(x) && len(x.Parts) == 1 && x.Parts[0].Column == c.Name && !w.done[x] {
			w.done[x] = true
			return append([]string{"index"}, w.stored(x.Stored, x.Name,
				w.rules.Names.IndexName(w.t.Bare(), []string{c.Name}, false))...)
		}
	}
	return nil
}

// part is a part of an index or a key, with how it is held.
func (w *writer) part(p schema.Part) string {
	s := fieldName(cmp.Or(w.fields[p.Column], p.Column))
	if p.SQL != "" {
		s = "(" + w.sql(p.SQL) + ")"
	}
	if p.Length > 0 {
		if lang.BeginsType(s) { // it would be the type of a field called index
			s = text(s)
		}
		s += fmt.Sprintf("(%d)", p.Length)
	}
	if p.Collation != "" {
		s += " collation " + text(p.Collation)
	}
	if p.Class != "" {
		s += " class " + text(p.Class)
	}
	if p.Desc {
		s += " desc"
	}
	if p.Nulls != "" {
		s += " nulls " + strings.ToLower(p.Nulls)
	}
	return s
}

// index writes the line of an index or a uniqueness.
func (w *writer) index(x *schema.Index) {
	word := "index"
	if x.Unique {
		word = "unique"
	}
	var columns, parts []string
	ignoring := false
	for _, p := range x.Parts {
		if p.SQL != "" {
			columns = append(columns, "expr")
		} else {
			columns = append(columns, p.Column)
		}
		ignoring = ignoring || p.IgnoringCase
		parts = append(parts, w.part(p))
	}
	head := ""
	switch rule := w.rules.Names.IndexName(w.t.Bare(), columns, x.Unique); {
	case x.Stored.Unnamed:
		head = "unnamed"
	case x.Name != rule:
		head = constraintName(x.Name)
	}
	if x.Stored.Comment != "" {
		head += " comment " + text(x.Stored.Comment)
		if strings.HasPrefix(head, " ") {
			head = constraintName(x.Name) + head
		}
	}
	if head != "" {
		head += ":"
	}
	words := []string{word, head, strings.Join(parts, ", ")}
	if x.Using != "" {
		words = append(words, "using", x.Using)
	}
	if x.NullsEqual {
		words = append(words, "nulls equal")
	}
	if ignoring {
		words = append(words, "ignoring case")
	}
	if x.Stored.Form != "" {
		words = append(words, "as", string(x.Stored.Form))
	}
	words = append(words, held(x.Stored)...)
	if len(x.Stored.Include) > 0 {
		words = append(words, "include", w.names(x.Stored.Include))
	}
	if x.Stored.Options != "" {
		words = append(words, "options", text(x.Stored.Options))
	}
	if x.Stored.Invisible {
		words = append(words, "invisible")
	}
	if x.Where != "" {
		words = append(words, "where", w.sql(x.Where))
	}
	w.add(words...)
}
