package objects

// This file writes objects as a file of SQL has them.

import (
	"cmp"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Text is the statements of objects for a file, which the engine's own client reads as well.
func Text(scripts engine.Scripter, list []*Object) string {
	var b strings.Builder
	for _, o := range list {
		for _, c := range o.Make {
			if b.Len() > 0 {
				b.WriteByte('\n')
			}
			sql := strings.TrimRight(strings.TrimSpace(cmp.Or(c.Said, c.SQL)), ";")
			for _, line := range scripts.ScriptStatement(sql) {
				b.WriteString(line + "\n")
			}
		}
	}
	return b.String()
}

// Named are the objects of a name, and those that belong to what has it.
func Named(list []*Object, name string) []*Object {
	var out []*Object
	for _, o := range list {
		is := func(of string) bool { return strings.EqualFold(of, name) }
		if compared(o) && (is(o.Name) || is(plain(o.Name)) || is(ShortName(o)) || is(plain(o.Of))) {
			out = append(out, o)
		}
	}
	return out
}

// Says tells whether a statement has the words by which an object is there.
func Says(d engine.Dialect, statement *sqlschema.Object, o *Object) bool {
	return slices.ContainsFunc(o.Make, func(c engine.Creation) bool {
		return WordsOf(d, cmp.Or(c.Said, c.SQL)) == WordsOf(d, statement.SQL)
	})
}

// WordsOf are the words of a statement, without its spaces, its comments and what ends it.
func WordsOf(d engine.Dialect, sql string) string {
	var out []string
	for _, t := range d.Lex(strings.TrimRight(strings.TrimSpace(sql), ";")) {
		word := t.Text
		if t.Bare() {
			word = t.Word()
		}
		out = append(out, word)
	}
	return strings.Join(out, " ")
}

// AsRead gives creations the statements by which the objects that they make were read.
func AsRead(list []engine.Creation, there []*Object) []engine.Creation {
	out := slices.Clone(list)
	at := map[engine.ObjectKey][]int{}
	for i, c := range list {
		key := Of([]engine.Creation{c})[0].ObjectKey
		at[key] = append(at[key], i)
	}
	for _, o := range there {
		if places := at[o.ObjectKey]; len(places) == len(o.Make) {
			for n, i := range places {
				out[i].SQL, out[i].Said = o.Make[n].SQL, o.Make[n].Said
			}
		}
	}
	return out
}
