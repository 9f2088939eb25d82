package draft

// This file drafts a change again: what was made of it is taken back, the way
// from there to the models is planned anew, and what the rows held goes on into
// the columns and tables that there are now.

import (
	"context"
	"fmt"
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
		step := renamed(h.Step, h.Of.ID, m.ID)
		switch i := slices.Index(m.Drafted, h.Was); {
		case h.Was != "" && i < 0:
			return fmt.Errorf("a step of %s was changed by hand (%s), and what it was drafted as comes out differently now: nothing was changed; note what you changed, then erbario redraft --no-carry leaves it out", h.Of.ID, h.Title)
		case h.Was != "":
			m.Steps[i] = step
		case h.First:
			first = append(first, step)
		default:
			last = append(last, step)
		}
	}
	m.Steps = append(append(first, m.Steps...), last...)
	return nil
}

// renamed is a step with the kept tables of another migration.
func renamed(s migration.Step, from, to string) migration.Step {
	list := func(in []migration.Statement) []migration.Statement {
		var out []migration.Statement
		for _, st := range in {
			st.SQL = strings.ReplaceAll(st.SQL, schema.Kept(from), schema.Kept(to))
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
				return gone, fmt.Errorf("%s was applied after what is to be drafted again and does not belong to it: take it back first with erbario undo", a.ID)
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
		return strings.Contains(a.Text, migration.Marker+"follows "+m.ID+"\n")
	})
}

// Hand moves what an undo of the old migrations kept to where the new one looks
// for it. Renames, by table or table.column, are of what only the old ones made. done is
// told each name that was given, table, column and new name.
func Hand(ctx context.Context, db engine.Database, e engine.Engine, old []*migration.Migration, now *migration.Migration, renames []plan.Rename, done func(table, column, to string)) error {
	taken := map[string]int{} // how many of the names for a table are
	for _, m := range old {
		list, err := runner.PutAsideBy(ctx, db, m)
		if err != nil {
			return err
		}
		if m.Atomic() != now.Atomic() { // what steps that run apart kept last comes back first
			slices.Reverse(list)
		}
		for _, aside := range list {
			name, table := aside.Name, aside.Table
			for _, r := range renames {
				if r.Column != "" && strings.EqualFold(r.Table, table) {
					if err := Rename(ctx, db, e, name, r.Column, r.To); err != nil {
						return err
					}
					done(name, r.Column, r.To)
				}
			}
			for _, r := range renames {
				if r.Column == "" && strings.EqualFold(r.Table, table) {
					table = r.To
				}
			}
			free := runner.UndoKeeps(now.ID, table)
			if taken[table] == len(free) {
				return fmt.Errorf("too many migrations of %s would become one", table)
			}
			to := free[taken[table]]
			taken[table]++
			if to == name {
				continue
			}
			if err := Rename(ctx, db, e, name, "", to); err != nil {
				return err
			}
			done(name, "", to)
		}
	}
	return nil
}

// Rename gives a kept table, or a column of one, another name.
func Rename(ctx context.Context, db engine.Database, e engine.Engine, table, column, to string) error {
	steps, _ := e.Rename(nil, table, column, to)
	for _, s := range steps {
		for _, sql := range s.Apply {
			if err := db.Step(ctx, sql); err != nil {
				return err
			}
		}
	}
	return nil
}

// Again is what a change is drafted again from.
type Again struct {
	Old     []*migration.Migration // oldest first
	NoCarry bool                   // steps by hand are left out
}

// Redraft drafts the old migrations' change again, from a state in which they are
// taken back. The renames that it returns are of what only they had made; Hand
// wants them.
func (s *State) Redraft(ctx context.Context, again Again, r Request) (*Draft, []plan.Rename, error) {
	r.Carried = true
	if !again.NoCarry {
		for _, m := range again.Old {
			r.Steps = append(r.Steps, HandSteps(m)...)
		}
	}
	answers, renames, questions, err := s.orphans(ctx, again.Old, r.Answers)
	if err != nil {
		return nil, nil, err
	}
	r.Answers = answers
	r.Said = slices.DeleteFunc(slices.Clone(r.Said), func(flag string) bool { // they answered what the file does not ask
		key := s.flagKey(flag)
		return slices.ContainsFunc(renames, func(n plan.Rename) bool {
			return key == strings.TrimSuffix("--rename "+n.Table+"."+n.Column, ".")
		}) || strings.HasPrefix(flag, "--drop ") && !answers.Drop[strings.TrimPrefix(key, "--drop ")] && !answers.Drop[strings.TrimPrefix(flag, "--drop ")]
	})
	if len(questions) > 0 {
		return &Draft{Plan: &plan.Plan{Questions: questions}}, nil, nil
	}
	d, err := s.Make(ctx, r)
	return d, renames, err
}

// orphans asks about values that rows held in what the old migrations made and
// the models declare no more. It takes the answers about them out.
func (s *State) orphans(ctx context.Context, old []*migration.Migration, in plan.Answers) (out plan.Answers, renames []plan.Rename, questions []plan.Question, err error) {
	out = in
	out.Rename = nil
	fill, drop := map[string]plan.Fill{}, map[string]bool{}
	for k, v := range in.Fill {
		fill[k] = v
	}
	for k, v := range in.Drop {
		drop[k] = v
	}
	used := map[int]bool{}
	find := func(table, column string) (plan.Rename, bool) {
		for i, r := range in.Rename {
			if r.Value == "" && strings.EqualFold(r.Column, column) && (strings.EqualFold(r.Table, table) || strings.EqualFold(s.table(r.Table), table)) {
				used[i] = true
				return plan.Rename{Table: table, Column: column, To: r.To}, true
			}
		}
		return plan.Rename{}, false
	}
	for _, m := range old {
		list, err := runner.PutAsideBy(ctx, s.DB, m)
		if err != nil {
			return out, nil, nil, err
		}
		for _, aside := range list {
			kept, table := s.Live.Table(aside.Name), aside.Table
			if kept == nil {
				continue
			}
			wanted := s.Wanted.Table(table)
			if wanted == nil && s.Live.Table(table) == nil {
				r, ok := find(table, "")
				switch {
				case ok:
					r.To = s.table(r.To)
					renames = append(renames, r)
					wanted = s.Wanted.Table(r.To)
				case drop[table]:
					delete(drop, table)
				default:
					questions = append(questions, s.orphanTable(ctx, kept, table))
				}
			}
			if wanted == nil {
				continue
			}
			for _, c := range kept.Columns {
				if strings.HasPrefix(c.Name, "key_") || wanted.Column(c.Name) != nil || s.Ahead.Table(table) != nil && s.Ahead.Table(table).Column(c.Name) != nil {
					continue
				}
				name := table + "." + c.Name
				if r, ok := find(table, c.Name); ok {
					r.To = s.column(wanted.Name, r.To)
					renames = append(renames, r)
					if f, ok := fill[name]; ok {
						delete(fill, name)
						fill[wanted.Name+"."+r.To] = f
					}
					continue
				}
				if drop[name] {
					delete(drop, name)
					continue
				}
				q, err := s.orphanColumn(ctx, kept, wanted, table, c)
				if err != nil {
					return out, nil, nil, err
				}
				if q != nil {
					questions = append(questions, *q)
				}
			}
		}
	}
	for i, r := range in.Rename {
		if !used[i] {
			out.Rename = append(out.Rename, r)
		}
	}
	out.Fill, out.Drop = fill, drop
	return out, renames, questions, nil
}

func (s *State) orphanTable(ctx context.Context, kept *schema.Table, table string) plan.Question {
	n, _ := s.DB.Count(ctx, "SELECT 1 FROM "+s.Engine.Quote(kept.Name))
	q := plan.Question{About: table, Rows: n, Text: fmt.Sprintf("the table %s, which this change had made, is declared no more, and it has %s", table, words.Rows(n))}
	for _, t := range s.Wanted.Tables {
		shared := 0
		for _, c := range t.Columns {
			if kept.Column(c.Name) != nil {
				shared++
			}
		}
		if s.Ahead.Table(t.Name) == nil && shared*2 >= len(kept.Columns) {
			q.Choices = append(q.Choices, plan.Choice{Words: "it is called " + t.Name + " now", Flag: fmt.Sprintf("--rename %s=%s", table, t.Name)})
		}
	}
	q.Choices = append(q.Choices, plan.Choice{Words: "it may go; its rows stay kept", Flag: "--drop " + table})
	return q
}

func (s *State) orphanColumn(ctx context.Context, kept, wanted *schema.Table, table string, c *schema.Column) (*plan.Question, error) {
	n, err := s.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", s.Engine.Quote(kept.Name), s.Engine.Quote(c.Name)))
	if err != nil || n == 0 {
		return nil, err
	}
	name := table + "." + c.Name
	q := &plan.Question{About: name, Rows: n, Text: fmt.Sprintf("%s, which this change had made, is declared no more, and %s a value in it", name, words.Have(n))}
	for _, w := range wanted.Columns {
		if live := s.Ahead.Table(wanted.Name); (live == nil || live.Column(w.Name) == nil) && kept.Column(w.Name) == nil && strings.EqualFold(w.SQLType, c.SQLType) {
			q.Choices = append(q.Choices, plan.Choice{Words: "it is called " + w.Name + " now", Flag: fmt.Sprintf("--rename %s=%s", name, w.Name)})
		}
	}
	q.Choices = append(q.Choices, plan.Choice{Words: "it may go; the values stay kept", Flag: "--drop " + name})
	return q, nil
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
