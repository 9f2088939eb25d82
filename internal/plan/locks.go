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
	if t := p.Live.Table(table); t != nil && t.Partitioned() {
		return false // no server builds an index or a reference of one beside its users
	}
	return p.InUse != nil && p.Made != nil && p.Made.Table(table) != nil && p.InUse(table)
}

// strongest are the locks of a step's statements, one for each table that is known.
func strongest(e Engine, statements []string, known func(table string) bool) []engine.Lock {
	var out []engine.Lock
	online, ok := engine.OnlineOf(e)
	if !ok {
		return nil
	}
	for _, sql := range statements {
		for _, l := range online.Locks(sql) {
			if schema.Own(l.Table) || !known(l.Table) {
				continue
			}
			i := slices.IndexFunc(out, func(o engine.Lock) bool { return strings.EqualFold(o.Table, l.Table) })
			if i < 0 {
				out = append(out, l)
				continue
			}
			switch {
			case out[i].Around && !l.Around:
				out[i].Mode, out[i].Around = out[i].Mode+", "+l.Mode, false
			case l.Level > out[i].Level:
				out[i].Mode, out[i].Level, out[i].Alone = l.Mode, l.Level, l.Alone
			}
			out[i].Work = max(out[i].Work, l.Work)
		}
	}
	slices.SortStableFunc(out, func(a, b engine.Lock) int { return cmp.Compare(b.Level, a.Level) })
	return out
}

// LockWords tells what a step's statements lock, on a database whose tables have the
// sizes that size gives ("" where one does not exist); empty on an engine without locks
// of tables. s has the step's kind, what it does with rows and its note.
func LockWords(e Engine, statements []string, s engine.Step,
	size func(table string) (string, bool)) (words string, most []engine.Lock) {
	var list []string
	most = strongest(e, statements, func(table string) bool { _, ok := size(table); return ok })
	for _, l := range most {
		room, _ := size(l.Table)
		w := l.Mode + " on " + l.Table + room
		switch {
		case s.Work == engine.Keeps:
		case l.Work == engine.Rewrites && s.Work != engine.Reads && s.Kind == engine.InBatches:
			w += ", some rows at a time"
		case l.Work == engine.Rewrites && s.Work != engine.Reads:
			w += ", rewrites it"
		case l.Work != engine.NoWork:
			w += ", reads it"
		}
		list = append(list, w)
	}
	if len(list) > 0 && s.Note != "" {
		list = append(list, s.Note)
	}
	return strings.Join(list, "; "), most
}

// SizeWords are a table's rows and room, as they stand behind a lock.
func SizeWords(rows, bytes int64) string {
	if rows == 0 {
		return ""
	}
	return fmt.Sprintf(", %s, %s", words.Rows(rows), words.Bytes(bytes))
}

// locks writes what the steps lock into their notes.
func (p *planner) locks() error {
	known := map[string]bool{}
	for _, t := range p.Live.Tables {
		known[strings.ToLower(t.Name)] = true
	}
	var failed error
	sizes, most := map[string]string{}, map[string]engine.Lock{}
	size := func(table string) (string, bool) {
		if !known[strings.ToLower(table)] {
			return "", false
		}
		if _, ok := sizes[table]; !ok {
			text, err := p.sizeOf(table)
			if err != nil && failed == nil {
				failed = err
			}
			sizes[table] = text
		}
		return sizes[table], true
	}
	for i := range p.plan.Steps {
		s := &p.plan.Steps[i]
		text, locks := LockWords(p.Engine, s.Apply, *s, size)
		for _, l := range locks {
			if l.Level > most[l.Table].Level {
				most[l.Table] = l
			}
			if l.Alone && l.Work == engine.Rewrites && s.Work != engine.Keeps && p.inUse(l.Table) {
				p.plan.Held = append(p.plan.Held, Held{l.Table, i + 1})
			}
		}
		if text != "" {
			s.Note = text
		}
	}
	for table, l := range most {
		if old, ok := p.plan.Effects[table]; ok {
			p.plan.Effects[table] = strings.TrimPrefix(old+"; ", "; ") + l.Mode + " at most" + sizes[table]
		}
	}
	return failed
}

// sizeOf tells how many rows a live table has, and its room.
func (p *planner) sizeOf(table string) (string, error) {
	if p.Size == nil || p.Count == nil {
		return "", nil
	}
	old := p.oldTable(table)
	rows := p.count("SELECT 1 FROM " + p.Engine.SQL().QuoteTable(old))
	if p.err != nil {
		return "", p.err
	}
	bytes, err := p.Size(old)
	return SizeWords(rows, bytes), err
}
