package plan

// This file tells of each step which tables it locks against whom, what it does with
// their rows, and how large they are: whoever reads the migration knows what it will
// be like where it goes.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// inUse tells whether a table is changed in the form that keeps nobody waiting: an
// earlier migration made it, and it may be in use where this one goes.
func (p *planner) inUse(table string) bool {
	return p.InUse != nil && p.Made != nil && p.Made.Table(table) != nil && p.InUse(table)
}

// strongest are the locks of a step's statements, one for each live table.
func (p *planner) strongest(statements []string, known map[string]bool) []engine.Lock {
	var out []engine.Lock
	for _, sql := range statements {
		for _, l := range p.Engine.Locks(sql) {
			if schema.Own(l.Table) || !known[strings.ToLower(l.Table)] {
				continue
			}
			i := slices.IndexFunc(out, func(o engine.Lock) bool { return strings.EqualFold(o.Table, l.Table) })
			if i < 0 {
				out = append(out, l)
				continue
			}
			if l.Level > out[i].Level {
				out[i].Mode, out[i].Level = l.Mode, l.Level
			}
			out[i].Work = max(out[i].Work, l.Work)
		}
	}
	slices.SortStableFunc(out, func(a, b engine.Lock) int { return cmp.Compare(b.Level, a.Level) })
	return out
}

// general are the notes that a lock's words take the place of.
var general = []string{"", "keeps every row", "reads every row", "rewrites every row"}

// locks writes what the steps lock into their notes.
func (p *planner) locks() error {
	known := map[string]bool{}
	for _, t := range p.Live.Tables {
		known[strings.ToLower(t.Name)] = true
	}
	size := map[string]string{}
	for i := range p.plan.Steps {
		s := &p.plan.Steps[i]
		var list []string
		for _, l := range p.strongest(s.Apply, known) {
			if _, ok := size[l.Table]; !ok {
				text, err := p.sizeOf(l.Table)
				if err != nil {
					return err
				}
				size[l.Table] = text
			}
			w := l.Mode + " on " + l.Table + size[l.Table]
			switch {
			case s.Note == general[1]:
			case l.Work == engine.Rewrites && s.Note != general[2]:
				w += ", rewrites it"
			case l.Work != engine.NoWork:
				w += ", reads it"
			}
			list = append(list, w)
		}
		if len(list) == 0 {
			continue
		}
		if !slices.Contains(general, s.Note) {
			list = append(list, s.Note)
		}
		s.Note = strings.Join(list, "; ")
	}
	return nil
}

// sizeOf tells how many rows a live table has, and its room.
func (p *planner) sizeOf(table string) (string, error) {
	if p.Size == nil || p.Count == nil {
		return "", nil
	}
	old := p.oldTable(table)
	rows := p.count("SELECT 1 FROM " + p.Engine.Quote(old))
	if p.err != nil {
		return "", p.err
	}
	bytes, err := p.Size(old)
	if err != nil || rows == 0 {
		return "", err
	}
	return fmt.Sprintf(", %s, %s", words.Rows(rows), words.Bytes(bytes)), nil
}
