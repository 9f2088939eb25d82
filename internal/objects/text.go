package objects

// This file writes objects as a file of SQL has them.

import (
	"cmp"
	"strings"

	"erbario/internal/engine"
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
