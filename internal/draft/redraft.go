package draft

// This file drafts a change again: what was made of it is undone, the way
// from there to the models is planned again, and what the rows held goes on into
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
	"erbario/internal/sqlschema"
)

// TakeBack takes migrations back on a database inside the transaction that was
// begun, newest first, as far as it has them; it returns those. Deleted rows may come
// back: the new draft puts their mark back.
func TakeBack(ctx context.Context, db engine.Database, e runner.Engine,
	old []*migration.Migration) (gone []*migration.Migration, err error) {
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
				return gone, fmt.Errorf(
					"%s was applied after what is to be drafted again and does not belong to it: undo it first with erbario undo",
					a.ID,
				)
			}
			continue
		}
		m, err := migration.Parse("history of "+a.ID, a.Text, e)
		if err != nil {
			return gone, err
		}
		if _, err := runner.UndoOne(ctx, db, e, m, runner.Options{Revive: true, Wait: time.Minute}); err != nil {
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

	// Done is told how to revert each change.
	Done func(back func(context.Context) error)

	answers map[string]bool // the flags, without their values, that are answered by this
}

// tableNow is what a table is called after it.
func (h *Handover) tableNow(table string) string { return cmp.Or(h.Tables[table], table) }

// Hand moves what an undo of the old migrations kept to where the new one looks
// for it, and fills what kept rows lack.
func (h *Handover) Hand(ctx context.Context, db engine.Database, e runner.Engine, old []*migration.Migration,
	now *migration.Migration) error {
	live, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, m := range old {
		if err := runner.HandNumbers(ctx, db, m, now, h.tableNow); err != nil {
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
			if err := renameColumns(ctx, db, e, kept, h.Columns[aside.Name], h.Done); err != nil {
				return err
			}
		}
	}
	if err := (runner.Handover{Live: live, All: all, Renamed: h.tableNow, Done: h.Done}).To(ctx, db, e,
		now); err != nil {
		return err
	}
	for i, aside := range all {
		if fills := h.Fills[was[i]]; len(fills) > 0 {
			fills = slices.Clone(fills)
			for k, f := range fills {
				if f.From != "" {
					fills[k].SQL = strings.ReplaceAll(f.SQL, "{from}",
						e.SQL().Quote(all[slices.Index(was, f.From)].Name))
				}
			}
			if err := h.fillKept(ctx, db, e, aside.Name, fills); err != nil {
				return err
			}
		}
	}
	return nil
}

// renameColumns gives columns of a kept table new names, which may be those that others of
// them have until then.
func renameColumns(ctx context.Context, db engine.Database, e runner.Engine, kept *sqlschema.Table,
	names map[string]string, done func(back func(context.Context) error)) error {
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
	Table   *sqlschema.Table
	Columns []string // none: whole rows
	Kept    string   // the table in which they were kept
	Rows    int64
}

// Again keeps the values once more where they were kept, before their columns go.
func (r Returned) Again(ctx context.Context, db engine.Database, e runner.Engine) error {
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
func Return(ctx context.Context, db engine.Database, e runner.Engine, old []*migration.Migration,
	told func(Returned)) error {
	var live *sqlschema.Schema
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
			if !slices.ContainsFunc(fits.Columns,
				func(c *sqlschema.Column) bool { return !strings.HasPrefix(c.Name, "key_") }) {
				continue
			}
			before, err := db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(kept.Name))
			if err != nil {
				return err
			}
			for _, sql := range e.DDL().Restore(t, fits, rest) {
				if err := db.Step(ctx, sql); err != nil {
					return fmt.Errorf(
						"the values that %s kept for %s, which another migration creates now, cannot be restored (they remain in %s): %w",
						m.ID, t.Name, kept.Name, err)
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
func sameKept(kept, c *sqlschema.Column) bool {
	return sqlschema.SameForm(kept.SQLType, c.SQLType) ||
		(c.Values != nil || c.OwnType) && kept.Values == nil && kept.Type.Kind == schema.Text && kept.Type.Length == 0
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

// FormOf is the form of the file that one of the old migrations with this id is in: a
// new one under the same id has it, too, so that it finds what undos of the old one kept on
// other databases. 0: none of them is called so.
func FormOf(old []*migration.Migration, id string, e runner.Engine) int {
	for _, m := range old {
		if m.ID == id && m.Engine == e.Name() {
			return m.Form
		}
	}
	return 0
}

// Redraft drafts the old migrations' change again, from a state in which they are
// undone. Hand wants the Handover that it returns.
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
	r.Said = slices.DeleteFunc(
		slices.Clone(r.Said),
		func(flag string) bool { // they answered what the file does not ask
			key := s.flagKey(flag)
			return to.answers[key] ||
				strings.HasPrefix(flag, "--drop ") && !answers.Drop[strings.TrimPrefix(key, "--drop ")] &&
					!answers.Drop[strings.TrimPrefix(flag, "--drop ")]
		},
	)
	if len(questions) > 0 {
		return &Draft{Plan: &plan.Plan{Questions: questions}}, to, nil
	}
	d, err := s.Make(ctx, r)
	return d, to, err
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
