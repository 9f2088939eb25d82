package draft

// This file drafts a change again: what was made of it is taken back, the way
// from there to the models is planned anew, and what the rows held goes on into
// the columns and tables that there are now.

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// HandStep is a step that a person wrote, or changed, in a migration that is
// drafted again.
type HandStep struct {
	migration.Step
	Of    *migration.Migration
	First bool   // it stands before all that was drafted
	Was   string // the sum of the drafted step that it has taken the place of; empty: of none
}

// HandSteps are the steps of a migration that a person wrote or changed.
func HandSteps(m *migration.Migration) []HandStep {
	var out []HandStep
	here := map[string]bool{}
	for i := range m.Steps {
		here[m.Sum(&m.Steps[i])] = true
	}
	drafted := false // one that was drafted has come
	for i := range m.Steps {
		s := &m.Steps[i]
		if !m.ByHand && !m.ByPerson(s) {
			drafted = true
			continue
		}
		h := HandStep{Step: *s, Of: m, First: !drafted && !m.ByHand}
		if i < len(m.Drafted) && !here[m.Drafted[i]] {
			h.Was = m.Drafted[i]
			drafted = true
		}
		out = append(out, h)
	}
	return out
}

// carry puts the steps of persons into a new draft: a changed one in the place
// of the step that it was, the others before or behind all.
func carry(m *migration.Migration, list []HandStep) error {
	var first, last []migration.Step
	for _, h := range list {
		step := renamed(h.Step, h.Of, m)
		switch i := slices.Index(m.Drafted, h.Was); {
		case h.Was != "" && i < 0:
			return fmt.Errorf("a step of %s was edited (%s), and the draft of it would be different now: nothing was changed. Note what you edited, then erbario redraft --no-carry leaves it out", h.Of.ID, h.Title)
		case h.Was != "":
			m.Steps[i] = step
		case h.First:
			first = append(first, step)
		default:
			last = append(last, step)
		}
	}
	m.Steps = append(append(first, m.Steps...), last...)
	m.ByHand = len(m.Drafted) == 0 // else what a person wrote could not be told from what was drafted
	return nil
}

// renamed is a step with the kept tables of another migration.
func renamed(s migration.Step, from, to *migration.Migration) migration.Step {
	list := func(in []migration.Statement) []migration.Statement {
		var out []migration.Statement
		for _, st := range in {
			st.SQL = strings.ReplaceAll(st.SQL, from.Kept(), to.Kept())
			out = append(out, st)
		}
		return out
	}
	s.Apply, s.Undo = list(s.Apply), list(s.Undo)
	return s
}

// TakeBack takes migrations back on a database inside the transaction that was
// begun, newest first, as far as it has them; it returns those. Deleted rows may come
// back: the new draft puts their mark back.
func TakeBack(ctx context.Context, db engine.Database, e engine.Engine, old []*migration.Migration) (gone []*migration.Migration, err error) {
	applied, err := runner.History(ctx, db)
	if err != nil {
		return nil, err
	}
	for i := len(applied) - 1; i >= 0; i-- {
		a := applied[i]
		if !slices.ContainsFunc(old, func(m *migration.Migration) bool { return m.ID == a.ID }) {
			if slices.ContainsFunc(applied[:i], func(b runner.Applied) bool {
				return slices.ContainsFunc(old, func(m *migration.Migration) bool { return m.ID == b.ID })
			}) && !independent(a, old) {
				return gone, fmt.Errorf("%s was applied after what is to be drafted again and does not belong to it: undo it first with erbario undo", a.ID)
			}
			continue
		}
		m, err := migration.Parse("history of "+a.ID, a.Text, e)
		if err != nil {
			return gone, err
		}
		if _, err := runner.Away(ctx, db, e, m, runner.Options{Revive: true, Wait: time.Minute}); err != nil {
			return gone, err
		}
		gone = append(gone, m)
	}
	return gone, nil
}

// independent tells whether an applied migration came with a merge: it was not
// drafted upon any of the old ones.
func independent(a runner.Applied, old []*migration.Migration) bool {
	return !slices.ContainsFunc(old, func(m *migration.Migration) bool {
		return migration.FollowsOf(a.Text) == m.ID
	})
}

// Handover is what happens to what an undo kept, on its way to a new migration. Kept
// tables are told by the names that they have before it.
type Handover struct {
	Tables  map[string]string            // the new names of tables that only the old migrations created
	Columns map[string]map[string]string // the new names of columns, by kept table
	Fills   map[string][]KeptFill        // by kept table

	answers map[string]bool // the flags, without their values, that are answered by this
}

// tableNow is what a table is called after it.
func (h *Handover) tableNow(table string) string { return cmp.Or(h.Tables[table], table) }

// Hand moves what an undo of the old migrations kept to where the new one looks
// for it, and fills what kept rows lack. done is told how to revert each change.
func Hand(ctx context.Context, db engine.Database, e engine.Engine, old []*migration.Migration, now *migration.Migration, to *Handover, done func(back func(context.Context) error)) error {
	live, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, m := range old {
		if err := runner.HandNumbers(ctx, db, m, now, to.tableNow); err != nil {
			return err
		}
	}
	all, err := runner.ArchivedByAll(ctx, db, old, now)
	if err != nil {
		return err
	}
	var was []string // their names until now
	for _, aside := range all {
		was = append(was, aside.Name)
		if kept := live.Table(aside.Name); kept != nil {
			if err := renameColumns(ctx, db, e, kept, to.Columns[aside.Name], done); err != nil {
				return err
			}
		}
	}
	if err := runner.HandOver(ctx, db, e, live, all, now, to.tableNow, done); err != nil {
		return err
	}
	for i, aside := range all {
		if fills := to.Fills[was[i]]; len(fills) > 0 {
			now := func(name string) string { return all[slices.Index(was, name)].Name }
			if err := fillKept(ctx, db, e, aside.Name, fills, now, done); err != nil {
				return err
			}
		}
	}
	return nil
}

// renameColumns gives columns of a kept table new names, which may be those that others of
// them have until then.
func renameColumns(ctx context.Context, db engine.Database, e engine.Engine, kept *schema.Table, names map[string]string, done func(back func(context.Context) error)) error {
	var steps [][2]string
	for _, old := range slices.Sorted(maps.Keys(names)) {
		now := names[old]
		if kept.Column(old) == nil {
			continue
		}
		if kept.Column(now) == nil {
			steps = append(steps, [2]string{old, now})
			continue
		}
		between := schema.Cut(schema.OwnPrefix + "now_" + now)
		steps = append([][2]string{{old, between}}, append(steps, [2]string{between, now})...)
	}
	for _, n := range steps {
		if err := runner.RenameKept(ctx, db, e, kept.Name, n[0], n[1]); err != nil {
			return err
		}
		done(func(ctx context.Context) error { return runner.RenameKept(ctx, db, e, kept.Name, n[1], n[0]) })
	}
	return nil
}

// Returned are values that were put back into a table by Return.
type Returned struct {
	Table   *schema.Table
	Columns []string // none: whole rows
	Kept    string   // the table in which they were kept
	Rows    int64
}

// Again keeps the values once more where they were kept, before their columns go.
func (r Returned) Again(ctx context.Context, db engine.Database, e engine.Engine) error {
	has, err := db.Kept(ctx, r.Kept)
	if err != nil || slices.Contains(has, r.Kept) {
		return err
	}
	makes, fills := e.DDL().Archive(r.Table, r.Columns, r.Kept)
	for _, sql := range append(makes, fills...) {
		if err := db.Step(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// Return puts values that an undo of the old migrations kept back into columns and tables
// that exist without the new one: another migration made them, such as one that came with
// a merge. Those of another type, and those that a person let go of, stay kept. told is told
// of each.
func Return(ctx context.Context, db engine.Database, e engine.Engine, old []*migration.Migration, told func(Returned)) error {
	var live *schema.Schema
	for _, m := range old {
		list, err := runner.ArchivedBy(ctx, db, m)
		if err != nil {
			return err
		}
		for _, aside := range list {
			if live == nil {
				if live, err = db.Inspect(ctx); err != nil {
					return err
				}
			}
			kept, t := live.Table(aside.Name), live.Table(aside.Table)
			if kept == nil || t == nil {
				continue
			}
			fits, rest := kept.Clone(), false
			fits.Columns = nil
			for _, c := range kept.Columns {
				switch o := t.Column(c.Name); {
				case strings.HasPrefix(c.Name, "key_") || o != nil && sameKept(c, o):
					fits.Columns = append(fits.Columns, c)
				default:
					rest = true
				}
			}
			if !slices.ContainsFunc(fits.Columns, func(c *schema.Column) bool { return !strings.HasPrefix(c.Name, "key_") }) {
				continue
			}
			before, err := db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(kept.Name))
			if err != nil {
				return err
			}
			for _, sql := range e.DDL().Restore(t, fits, rest) {
				if err := db.Step(ctx, sql); err != nil {
					return fmt.Errorf("the values that %s kept for %s, which another migration creates now, cannot be restored (they remain in %s): %w", m.ID, t.Name, kept.Name, err)
				}
			}
			after := int64(0)
			if has, err := db.Kept(ctx, kept.Name); err != nil {
				return err
			} else if slices.Contains(has, kept.Name) && !rest {
				if after, err = db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(kept.Name)); err != nil {
					return err
				}
			}
			back := Returned{Table: t, Kept: kept.Name, Rows: before - after}
			for _, c := range fits.Columns {
				if !strings.HasPrefix(c.Name, "key_") {
					back.Columns = append(back.Columns, c.Name)
				}
			}
			if len(back.Columns) == len(fits.Columns) {
				back.Columns = nil
			}
			told(back)
			if after == 0 && !rest {
				if has, _ := db.Kept(ctx, kept.Name); slices.Contains(has, kept.Name) {
					if err := db.Step(ctx, "DROP TABLE "+e.SQL().Quote(kept.Name)); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

// sameKept tells whether a kept value is one of a column as it is: those of an enum type are
// kept as texts.
func sameKept(kept, c *schema.Column) bool {
	return schema.SameForm(kept.SQLType, c.SQLType) || c.Values != nil && kept.Values == nil && kept.Type.Kind == schema.Text && kept.Type.Length == 0
}

// Again is what a change is drafted again from.
type Again struct {
	Old     []*migration.Migration // oldest first
	NoCarry bool                   // steps by hand are left out
	Now     []string               // the answers that were given now, as flags, and not to the old ones
}

// Redrafted are the ids of migrations that are drafted again, and those that they were
// drafted again from themselves. What was applied directly is on one database alone.
func Redrafted(old []*migration.Migration) []string {
	var out []string
	for _, m := range old {
		out = append(out, m.Redrafts...)
		if !m.Direct {
			out = append(out, m.ID)
		}
	}
	return out
}

// FormOf is the form of the file that one of the old migrations with this id stands in: a
// new one under the same id has it, too, so that it finds what undos of the old one kept on
// other databases. 0: none of them is called so.
func FormOf(old []*migration.Migration, id string, e engine.Engine) int {
	for _, m := range old {
		if m.ID == id && m.Engine == e.Name() {
			return m.Form
		}
	}
	return 0
}

// Redraft drafts the old migrations' change again, from a state in which they are
// taken back. Hand wants the Handover that it returns.
func (s *State) Redraft(ctx context.Context, again Again, r Request) (*Draft, *Handover, error) {
	r.Carried, r.Redrafts = true, Redrafted(again.Old)
	r.Form = FormOf(again.Old, r.ID, s.Engine)
	if !again.NoCarry {
		for _, m := range again.Old {
			r.Steps = append(r.Steps, HandSteps(m)...)
		}
	}
	answers, to, questions, err := s.orphans(ctx, again, r.Answers)
	if err != nil {
		return nil, to, err
	}
	r.Answers = answers
	r.Said = slices.DeleteFunc(slices.Clone(r.Said), func(flag string) bool { // they answered what the file does not ask
		key := s.flagKey(flag)
		return to.answers[key] || strings.HasPrefix(flag, "--drop ") && !answers.Drop[strings.TrimPrefix(key, "--drop ")] && !answers.Drop[strings.TrimPrefix(flag, "--drop ")]
	})
	if len(questions) > 0 {
		return &Draft{Plan: &plan.Plan{Questions: questions}}, to, nil
	}
	d, err := s.Make(ctx, r)
	return d, to, err
}

// orphans asks about values that rows held in what the old migrations made and
// the models no longer declare, and about those that such rows lack now. It takes the
// answers about them out.
func (s *State) orphans(ctx context.Context, again Again, in plan.Answers) (out plan.Answers, to *Handover, questions []plan.Question, err error) {
	out, to = in, &Handover{Tables: map[string]string{}, Columns: map[string]map[string]string{}, Fills: map[string][]KeptFill{}, answers: map[string]bool{}}
	out.Rename = nil
	fill, drop := map[string]plan.Fill{}, map[string]bool{}
	for k, v := range in.Fill {
		if table, _, _ := strings.Cut(k, "."); !v.Literal {
			v.SQL = s.inBraces(s.table(table), v.SQL)
		}
		fill[k] = v
	}
	for k, v := range in.Drop {
		drop[k] = v
	}
	used := map[int]bool{}
	find := func(table, column string) (name string, ok bool) {
		for i, r := range in.Rename {
			if r.Value == "" && strings.EqualFold(r.Column, column) && (strings.EqualFold(r.Table, table) || strings.EqualFold(s.table(r.Table), table)) {
				used[i] = true
				to.answers[strings.TrimSuffix("--rename "+table+"."+column, ".")] = true
				return r.To, true
			}
		}
		return "", false
	}
	var all []runner.Archived
	for _, m := range again.Old {
		list, err := runner.ArchivedBy(ctx, s.DB, m)
		if err != nil {
			return out, to, nil, err
		}
		all = append(all, list...)
	}
	for _, aside := range all {
		kept, table := s.Live.Table(aside.Name), aside.Table
		if kept == nil {
			continue
		}
		wanted := s.Wanted.Table(table)
		if wanted == nil && s.Live.Table(table) == nil {
			name, ok := find(table, "")
			switch {
			case ok:
				to.Tables[table] = s.table(name)
				if wanted = s.Wanted.Table(to.Tables[table]); wanted != nil && s.ownRows(wanted, all) {
					return out, to, nil, fmt.Errorf("--rename %s=%s: %s has rows of its own, which are restored: give up %s with --drop %s, or declare it under a free name", table, name, wanted.Name, table, table)
				}
			case drop[table]:
				delete(drop, table)
			default:
				questions = append(questions, s.orphanTable(ctx, kept, table, all))
			}
		}
		if wanted == nil {
			continue
		}
		called, byKey, asked := map[string]string{}, runner.ByKey(kept, wanted), len(questions)
		created := s.Upcoming.Table(table) == nil && s.Upcoming.Table(wanted.Name) == nil // by the new migration
		rename := func(c, now string) {
			if to.Columns[kept.Name] == nil {
				to.Columns[kept.Name] = map[string]string{}
			}
			called[c], to.Columns[kept.Name][c] = now, now
			if f, ok := fill[table+"."+c]; ok && wanted.Column(c) == nil {
				delete(fill, table+"."+c)
				fill[wanted.Name+"."+now] = f
			}
		}
		for _, c := range kept.Columns {
			if byKey && strings.HasPrefix(c.Name, "key_") {
				continue
			}
			called[c.Name] = c.Name
			name := table + "." + c.Name
			if t := s.Upcoming.Table(table); t != nil && t.Column(c.Name) != nil && !sameKept(c, t.Column(c.Name)) {
				if drop[name] {
					delete(drop, name)
					continue
				}
				q, err := s.otherType(ctx, kept, t, c)
				if err != nil {
					return out, to, nil, err
				}
				if q != nil {
					questions = append(questions, *q)
				}
				continue
			}
			stays := wanted.Column(c.Name) != nil || s.Upcoming.Table(table) != nil && s.Upcoming.Table(table).Column(c.Name) != nil
			if stays && (!created || byKey) {
				continue
			}
			// Also one whose name another field has now; several renames may have become one.
			now, ok := find(table, c.Name)
			for range in.Rename {
				if next, more := find(table, now); ok && more && wanted.Column(s.column(wanted.Name, now)) == nil {
					now = next
				}
			}
			if now = s.column(wanted.Name, now); ok && wanted.Column(now) != nil {
				for other, taken := range to.Columns[kept.Name] {
					if taken == now && other != c.Name {
						return out, to, nil, fmt.Errorf("--rename %s=%s: %s is to be called %s already", name, now, other, now)
					}
				}
				rename(c.Name, now)
				continue
			}
			if stays {
				continue
			}
			if drop[name] {
				delete(drop, name)
				continue
			}
			q, err := s.orphanColumn(ctx, kept, wanted, table, c, slices.Collect(maps.Values(to.Columns[kept.Name])))
			if err != nil {
				return out, to, nil, err
			}
			if q != nil {
				questions = append(questions, *q)
			}
		}
		// The answer to a question about a name decides what is lacking.
		if len(questions) > asked || !byKey && !created {
			continue
		}
		rows := keptRows{State: s, kept: kept, wanted: wanted, called: called, alone: byKey}
		rows.renamed = func(column, value string) (string, bool) {
			for i, r := range in.Rename {
				if r.Value == value && strings.EqualFold(s.column(wanted.Name, r.Column), column) && (strings.EqualFold(r.Table, table) || strings.EqualFold(s.table(r.Table), wanted.Name)) {
					used[i] = true
					to.answers["--rename "+wanted.Name+"."+column+"."+value] = true
					return r.To, true
				}
			}
			return "", false
		}
		rows.adds = func(column string) bool {
			t := s.Upcoming.Table(wanted.Name)
			return t != nil && t.Column(column) == nil
		}
		for _, o := range all {
			if t := s.Live.Table(o.Name); t != nil && o.Table == table && runner.ByKey(t, wanted) {
				rows.byKey = append(rows.byKey, t)
			}
		}
		given := fill
		if byKey { // what was said to the old ones is for rows that have no value
			given = map[string]plan.Fill{}
			for _, flag := range again.Now {
				key := s.flagKey(flag)
				if f, ok := fill[strings.TrimPrefix(key, "--fill ")]; ok && strings.HasPrefix(key, "--fill ") {
					given[strings.TrimPrefix(key, "--fill ")] = f
				}
			}
		}
		had := maps.Clone(given)
		list, more, err := rows.fills(ctx, given)
		if err != nil {
			return out, to, nil, err
		}
		for key := range had { // a required one needs it for rows elsewhere, too
			_, left := given[key]
			if c := wanted.Column(strings.TrimPrefix(key, wanted.Name+".")); byKey && !left && c != nil && (!c.NotNull || c.Default != nil) {
				delete(fill, key)
			}
		}
		to.Fills[kept.Name] = list
		for _, f := range list {
			to.answers["--fill "+f.Table+"."+f.Column.Name] = true
		}
		questions = append(questions, more...)
	}
	for i, r := range in.Rename {
		if !used[i] {
			out.Rename = append(out.Rename, r)
		}
	}
	out.Fill, out.Drop = fill, drop
	return out, to, questions, nil
}

// ownRows tells whether rows of a declared table are among what the undo put aside.
func (s *State) ownRows(t *schema.Table, all []runner.Archived) bool {
	return slices.ContainsFunc(all, func(o runner.Archived) bool {
		kept := s.Live.Table(o.Name)
		return strings.EqualFold(o.Table, t.Name) && kept != nil && !runner.ByKey(kept, t)
	})
}

// orphanTable asks about a table that is no longer declared; all are what the undo put
// aside, and a table that is among it has rows of its own.
func (s *State) orphanTable(ctx context.Context, kept *schema.Table, table string, all []runner.Archived) plan.Question {
	n, _ := s.DB.Count(ctx, "SELECT 1 FROM "+s.Engine.SQL().Quote(kept.Name))
	q := plan.Question{About: table, Rows: n, Text: fmt.Sprintf("the table %s, which this change had created, is no longer declared, and it has %s", table, words.Rows(n))}
	for _, t := range s.Wanted.Tables {
		shared := 0
		for _, c := range t.Columns {
			if kept.Column(c.Name) != nil {
				shared++
			}
		}
		if s.Upcoming.Table(t.Name) == nil && !s.ownRows(t, all) && shared*2 >= len(kept.Columns) {
			q.Choices = append(q.Choices, plan.Choice{Words: "renamed to " + t.Name, Flags: []string{fmt.Sprintf("--rename %s=%s", table, t.Name)}})
		}
	}
	q.Choices = append(q.Choices, plan.Choice{Words: "drop it; its rows stay kept", Flags: []string{"--drop " + table}})
	return q
}

// orphanColumn asks about a column that is no longer declared; taken are the names that
// others of its table get.
func (s *State) orphanColumn(ctx context.Context, kept, wanted *schema.Table, table string, c *schema.Column, taken []string) (*plan.Question, error) {
	n, err := s.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", s.Engine.SQL().Quote(kept.Name), s.Engine.SQL().Quote(c.Name)))
	if err != nil || n == 0 {
		return nil, err
	}
	name := table + "." + c.Name
	q := &plan.Question{About: name, Rows: n, Text: fmt.Sprintf("%s, which this change had added, is no longer declared, and %s a value in it", name, words.Have(n))}
	for _, w := range wanted.Columns {
		if live := s.Upcoming.Table(wanted.Name); (live == nil || live.Column(w.Name) == nil) && kept.Column(w.Name) == nil && !slices.Contains(taken, w.Name) && strings.EqualFold(w.SQLType, c.SQLType) {
			q.Choices = append(q.Choices, plan.Choice{Words: "renamed to " + w.Name, Flags: []string{fmt.Sprintf("--rename %s=%s", name, w.Name)}})
		}
	}
	q.Choices = append(q.Choices, plan.Choice{Words: "drop it; the values stay kept", Flags: []string{"--drop " + name}})
	return q, nil
}

// otherType asks about values of a column that another migration makes now, with another
// type.
func (s *State) otherType(ctx context.Context, kept, t *schema.Table, c *schema.Column) (*plan.Question, error) {
	n, err := s.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", s.Engine.SQL().Quote(kept.Name), s.Engine.SQL().Quote(c.Name)))
	if err != nil || n == 0 {
		return nil, err
	}
	name := t.Name + "." + c.Name
	return &plan.Question{About: name, Rows: n,
		Text:    fmt.Sprintf("%s, which this change had added as %s, is added as %s by another migration, and %s a value in it", name, c.SQLType, t.Column(c.Name).SQLType, words.Have(n)),
		Choices: []plan.Choice{{Words: "the values stay kept", Flags: []string{"--drop " + name}}},
		Other:   "or give the field a new name, and answer --rename"}, nil
}

// IDAgain is the id that a migration has when it is drafted again: its own,
// unless another came behind it.
func (s *State) IDAgain(old *migration.Migration, now time.Time) string {
	_, slug, _ := strings.Cut(old.ID, "-")
	if s.Last() < old.ID {
		return old.ID
	}
	return s.NextID(now, slug)
}
