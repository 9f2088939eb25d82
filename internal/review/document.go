package review

// This file gives a review as plain values for JSON.

import "strings"

// Ours reports whether a file was written here.
func Ours(text string) bool { return strings.Contains(text, "<!-- written by erbario review -->") }

// Document is the review as plain values.
func (r *Review) Document() map[string]any {
	list := []map[string]any{}
	for _, m := range r.Migrations {
		list = append(list, m.document())
	}
	return map[string]any{"project": r.Project, "migrations": list}
}

func (m *Migration) document() map[string]any {
	changes, steps, databases := []map[string]any{}, []map[string]any{}, []map[string]any{}
	for _, c := range m.Changes {
		changes = append(changes, map[string]any{
			"kind": string(c.Kind), "table": c.Table, "name": c.Name, "what": c.What,
		})
	}
	for _, s := range m.Steps {
		one := map[string]any{"title": s.Title, "note": s.Note, "sql": s.Apply, "undo": s.Undo,
			"kept": names(s.Loses, s.Kept), "lost": names(s.Loses, !s.Kept)}
		if s.NoUndo {
			one["undo"] = nil
		}
		steps = append(steps, one)
	}
	for _, d := range m.Databases {
		databases = append(databases, d.document())
	}
	out := map[string]any{
		"migration": m.ID, "engine": m.Engine, "file": m.File, "proof": m.proofWords(), "changes": changes,
		"steps": steps, "databases": databases, "undo": m.undoWords(),
	}
	if m.Unknown != "" {
		out["unknown"] = m.Unknown
	}
	return out
}

func names[T interface{ String() string }](list []T, these bool) []string {
	out := []string{}
	for _, x := range list {
		if these {
			out = append(out, x.String())
		}
	}
	return out
}

func (d *Database) document() map[string]any {
	if d.Problem != "" {
		return map[string]any{"database": d.Name, "problem": d.Problem}
	}
	needs, steps := []map[string]any{}, []map[string]any{}
	for _, n := range d.Needs {
		needs = append(needs, map[string]any{"sentence": needWords(n), "rows": n.Rows, "asked": n.Asked})
	}
	for _, c := range d.Steps {
		tables := []map[string]any{}
		for _, t := range c.Tables {
			tables = append(tables, map[string]any{"table": t.Name, "rows": t.Rows, "bytes": t.Bytes})
		}
		steps = append(steps, map[string]any{"lock": c.Lock, "tables": tables, "about_ms": c.About.Milliseconds()})
	}
	return map[string]any{"database": d.Name, "state": string(d.State), "requirements": needs, "steps": steps}
}
