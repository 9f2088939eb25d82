package migration

// This file is the lines of a step that say what is declared in SQL and belongs to the line of
// migrations from there on: only that is dropped once it is no longer declared.

import (
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

const goneWord = "gone "

func objectWord(o engine.StepObject) string {
	if o.Gone {
		return "object gone"
	}
	return "object"
}

func objectNames(k engine.ObjectKey) []string {
	if k.Of == "" {
		return []string{k.Kind, k.Name}
	}
	return []string{k.Kind, k.Name, k.Of}
}

// readObject reads what stands behind the word object.
func readObject(rest string) (o engine.StepObject, ok bool) {
	rest, o.Gone = strings.CutPrefix(rest, goneWord)
	names := readNames(rest)
	if len(names) < 2 || len(names) > 3 {
		return o, false
	}
	o.Kind, o.Name = names[0], names[1]
	if len(names) == 3 {
		o.Of = names[2]
	}
	return o, true
}

// ObjectsOf are the objects that belong to a line of migrations. They follow its renames of
// tables.
func ObjectsOf(line []*Migration, e Engine) map[engine.ObjectKey]bool {
	out := map[engine.ObjectKey]bool{}
	for _, m := range line {
		for _, s := range m.Steps {
			if len(out) > 0 {
				for _, st := range s.Apply {
					if r, ok := ReadRename(e, st.SQL); ok && r.Column == "" && !schema.Own(r.To) {
						renamed(out, r.Table, r.To)
					}
				}
			}
			for _, o := range s.Objects {
				if delete(out, o.ObjectKey); !o.Gone {
					out[o.ObjectKey] = true
				}
			}
		}
	}
	return out
}

// renamed gives what belongs to a table that table's new name.
func renamed(objects map[engine.ObjectKey]bool, from, to string) {
	for k := range objects {
		if k.Kind == "table" && strings.EqualFold(k.Name, from) {
			delete(objects, k)
			k.Name = to
			objects[k] = true
			continue
		}
		if strings.EqualFold(k.Of, from) {
			delete(objects, k)
			k.Name = strings.Replace(k.Name, " of "+k.Of, " of "+to, 1)
			k.Of = to
			objects[k] = true
		}
	}
}

// FoundNames are the names, in lower case, that the statements have in them which create what existed
// before a line of migrations.
func FoundNames(line []*Migration, e Engine) map[string]bool {
	out := map[string]bool{}
	for _, m := range line {
		for _, f := range m.Found {
			for _, st := range f.Make {
				for _, t := range e.SQL().Lex(st.SQL) {
					if t.Named() {
						out[strings.ToLower(t.Name())] = true
					}
				}
			}
		}
	}
	return out
}

// FoundObjects are the kinds and names, in lower case, of what existed before a line of migrations, and is
// neither a table nor a part of one.
func FoundObjects(line []*Migration) map[string]bool {
	out := map[string]bool{}
	for _, m := range line {
		for _, f := range m.Found {
			if f.Kind != "" {
				out[f.Kind+" "+strings.ToLower(f.Table)] = true
			}
		}
	}
	return out
}
