// Package draft holds models, migrations and the live database against each
// other, and drafts the migration that closes the difference: planned from what
// is there, proved on scratch, asked of the live rows, and only then a file.
package draft

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
)

// State is how one database stands against the models and the migrations.
type State struct {
	Engine   engine.Engine
	DB       engine.Database
	Wanted   *schema.Schema // what the models declare, as the engine would keep it
	Live     *schema.Schema
	Upcoming *schema.Schema // live with the waiting migrations applied, on scratch
	Status   *runner.LineStatus
	// InUse tells that the migration goes where others work on the tables.
	InUse bool
	// Unseen tells which columns rows may have that nobody can see here; nil: none.
	Unseen func(table, column string) bool
	// Missing is what scratch databases could not have of the live one.
	Missing []engine.LeftOut
	Lacking func(engine.LeftOut) // told of each at once; nil: nobody
	// Memory knows what migrations make from runs before this; nil: nobody does.
	Memory Memory

	unasked   bool             // no question is put to the rows
	unreached bool             // no server of the engine is there
	home      *State           // then: of the database whose draft it follows
	refer     []plan.TableRows // then: the reference rows
	stage     *plan.Stage
	made      *schema.Schema
}

// MissingOutside is an error that names the tables which the models declare as outside, and
// which are neither in the database nor created by the waiting migrations; nil: there are
// none.
func MissingOutside(e engine.Engine, wanted, live *schema.Schema, waiting []*migration.Migration) error {
	var names []string
	for _, t := range proof.Missing(e, wanted, live, waiting) {
		names = append(names, t.Name)
	}
	if len(names) == 0 {
		return nil
	}
	return fmt.Errorf("%s, declared as outside, does not exist in this database: create it there; in a throwaway database erbario rebuild creates it", strings.Join(names, " and "))
}

// Look reads a database and holds it against the models and the files, which
// read gives; it is called while the database is read.
func Look(ctx context.Context, e engine.Engine, db engine.Database, read func() (*schema.Schema, []*migration.Migration, error)) (*State, error) {
	s := &State{Engine: e, DB: db}
	var files []*migration.Migration
	var readErr error
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.Wanted, files, readErr = read()
	}()
	applied, err := runner.History(ctx, db)
	if err == nil {
		s.Live, err = db.Inspect(ctx)
	}
	<-done
	if readErr != nil {
		return nil, readErr
	}
	if err != nil {
		return nil, err
	}
	if err := runner.Whole(ctx, db, e); err != nil {
		return nil, err
	}
	s.Status = runner.StatusOf(files, applied, e)
	if missing := MissingOutside(e, s.Wanted, s.Live, s.Status.Pending); missing != nil {
		return nil, missing
	}
	if err := db.Canonicalize(ctx, s.Wanted, s.Live); err != nil {
		return nil, err
	}
	s.Upcoming = s.Live
	if len(s.Status.Pending) == 0 {
		return s, nil
	}
	s.Upcoming, err = s.ahead(ctx, s.Live, s.Status.Pending, func(scratch engine.Database) error {
		for _, m := range s.Status.Pending {
			if err := proof.Run(ctx, scratch, e, m, false); err != nil {
				if problem := cmp.Or(s.Status.Problem(), s.Status.TooEarly()); problem != nil { // most likely for that
					return problem
				}
				if names := runner.AlreadyThere(m, e, s.Live); len(names) > 0 {
					return &runner.AlreadyThereError{Migration: m.ID, Names: names}
				}
				return fmt.Errorf("a pending migration cannot be applied on scratch: %w", err)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s, nil
}

// ahead is what a schema becomes by migrations, which run on scratch.
func (s *State) ahead(ctx context.Context, from *schema.Schema, list []*migration.Migration, run func(scratch engine.Database) error) (*schema.Schema, error) {
	out, left, err := proof.After(ctx, s.Engine, from, s.Wanted, list, run)
	if e := s.lacks(left); e != nil {
		return nil, e
	}
	return out, err
}

// scratch makes a scratch database that holds what from does. A table that the models
// declare has to be there; anything else that cannot be is noted, and left out.
func (s *State) scratch(ctx context.Context, from *schema.Schema) (engine.Database, error) {
	db, left, err := proof.Scratch(ctx, s.Engine, from)
	if err != nil {
		return nil, err
	}
	if err := s.lacks(left); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// lacks notes what a scratch database could not have. It is an error where that is a table
// that the models declare.
func (s *State) lacks(left []engine.LeftOut) error {
	for _, l := range left {
		if t := s.Wanted.Table(l.Name); l.Kind == "table" && t != nil && !t.Outside {
			return &engine.MissingError{Left: l}
		}
		if !slices.ContainsFunc(s.Missing, func(o engine.LeftOut) bool { return o.String() == l.String() }) {
			s.Missing = append(s.Missing, l)
			if s.Lacking != nil {
				s.Lacking(l)
			}
		}
	}
	return nil
}

// line is every migration that made or will make what is ahead: the applied
// ones by the text that the database kept, and those that wait.
func (s *State) line() ([]*migration.Migration, error) {
	list, err := runner.Texts(s.Status.Applied, s.Status.Files, s.Engine)
	if err != nil {
		return nil, err
	}
	list = append(list, s.Status.Pending...)
	slices.SortStableFunc(list, func(a, b *migration.Migration) int { return strings.Compare(a.ID, b.ID) })
	return list, nil
}

// Made is what the migrations alone make, by running them from nothing on
// scratch: only that is ever dropped.
func (s *State) Made(ctx context.Context) (*schema.Schema, error) {
	if s.made != nil {
		return s.made, nil
	}
	list, err := s.line()
	if err != nil {
		return nil, err
	}
	if known := s.known(list, s.Upcoming); known != nil {
		s.made = known.Clone()
	} else {
		s.made, err = s.replay(ctx, list)
	}
	return s.made, err
}

// known is what migrations make, without running them: the part of a schema that they
// created, not copied, if that is known to be what all of them make. nil: it is not, or
// somebody has changed that part.
func (s *State) known(list []*migration.Migration, in *schema.Schema) *schema.Schema {
	told := s.told(list)
	if len(told) == 0 {
		return nil
	}
	created := migration.Creates(list, s.Engine)
	var named map[string]bool
	if len(in.Views)+len(in.Others) > 0 {
		named = migration.Names(list, s.Engine)
	}
	out := &schema.Schema{}
	for _, t := range in.Tables {
		if created[strings.ToLower(t.Name)] && !schema.Own(t.Name) && !s.outside(t.Name) {
			out.Tables = append(out.Tables, t)
		}
	}
	for _, v := range in.Views {
		if named[strings.ToLower(v.Name)] {
			out.Views = append(out.Views, v)
		}
	}
	for _, o := range in.Others {
		switch {
		case !named[strings.ToLower(strings.Trim(o.Name, `"`))]:
		case o.Kind == schema.EnumType:
			out.Others = append(out.Others, o)
		default:
			return nil // what it holds is not in a fingerprint
		}
	}
	if !slices.Contains(told, schema.Fingerprint(out)) {
		return nil
	}
	return out
}

// mentioned tells whether an applied migration has the name of a table in it.
func (s *State) mentioned(table string) bool {
	return slices.ContainsFunc(s.Status.Applied, func(a runner.Applied) bool { return strings.Contains(a.Text, table) })
}

// replay is what migrations make from nothing, on scratch.
func (s *State) replay(ctx context.Context, list []*migration.Migration) (*schema.Schema, error) {
	db, err := proof.Replay(ctx, s.Engine, list, s.Wanted)
	if err != nil {
		if name := s.stranger(list); name != "" { // its declaration may be gone
			err = fmt.Errorf("%w; no migration creates %s, which exists here: declare it as model NAME outside, with the columns that are referred to", err, name)
		}
		return nil, err
	}
	defer db.Close()
	made, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	made.Tables = slices.DeleteFunc(made.Tables, func(t *schema.Table) bool { return s.outside(t.Name) })
	s.remember(list, made)
	return made, nil
}

// stranger is a live table that migrations mention, and none of them creates; "": there is
// none.
func (s *State) stranger(line []*migration.Migration) string {
	created := migration.Creates(line, s.Engine)
	for _, t := range s.Live.Tables {
		mentioned := slices.ContainsFunc(line, func(m *migration.Migration) bool { return strings.Contains(m.Text, s.Engine.SQL().Quote(t.Name)) })
		if mentioned && !schema.Own(t.Name) && s.Wanted.Table(t.Name) == nil && !created[strings.ToLower(t.Name)] {
			return t.Name
		}
	}
	return ""
}

// inside is a schema without the tables that are declared as outside.
func (s *State) inside(from *schema.Schema) *schema.Schema {
	out := *from
	out.Tables = slices.DeleteFunc(slices.Clone(from.Tables), func(t *schema.Table) bool { return s.outside(t.Name) })
	return &out
}

// outside tells whether a table is declared as outside: no migration changes it.
func (s *State) outside(table string) bool {
	t := s.Wanted.Table(table)
	return t != nil && t.Outside
}

// Drafted lists what the waiting migrations will change; of reference rows, those
// that come and go.
func (s *State) Drafted() []diff.Change {
	if s.Upcoming == s.Live {
		return nil
	}
	out := slices.DeleteFunc(diff.Schemas(s.Live, s.Upcoming), func(c diff.Change) bool { return s.outside(c.Table) })
	for _, m := range s.Status.Pending {
		for _, step := range m.Steps {
			for _, r := range step.Rows {
				for _, key := range r.Keys {
					c := diff.Change{Kind: diff.AddRow, Table: r.Table, Name: key, What: "reference row"}
					if r.Gone {
						c.Kind = diff.DropRow
					}
					out = append(out, c)
				}
			}
		}
	}
	diff.Group(out)
	return out
}

// Drift lists what people changed by hand since the applied migrations: what came
// to the live schema, changed and went. Whole tables and views by hand are left
// out.
func (s *State) Drift(ctx context.Context) ([]diff.Change, error) {
	list, err := runner.Texts(s.Status.Applied, s.Status.Files, s.Engine)
	if err != nil {
		return nil, err
	}
	made, live := s.known(list, s.Live), s.Live
	if made != nil { // no table of the migrations differs then, and others are left out
		made, live = &schema.Schema{Others: made.Others}, &schema.Schema{Others: live.Others}
	} else if made, err = s.replay(ctx, list); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(diff.Schemas(made, live), func(c diff.Change) bool {
		return c.Kind == diff.AddTable || c.Kind == diff.AddView || c.Kind == diff.AddEnum && s.Wanted.Enum(c.Table) == nil
	}), nil
}

// Changes plans without answers: the changes, what they do to rows, and what
// is to be asked.
func (s *State) Changes(ctx context.Context) (*plan.Plan, error) {
	return s.plan(ctx, "draft", Request{})
}

// Undrafted are the changes that the models have and no migration, without a look at any
// row.
func (s *State) Undrafted(ctx context.Context) ([]diff.Change, error) {
	blind := *s
	blind.unasked = true
	pl, err := blind.plan(ctx, "draft", Request{})
	if err != nil {
		return nil, err
	}
	return diff.Told(pl.Changes), nil
}

// plan plans the way from what is ahead to what is wanted.
func (s *State) plan(ctx context.Context, id string, r Request) (*plan.Plan, error) {
	from := s.Upcoming
	if s.unreached {
		return s.planUnreached(id, r)
	}
	answers, err := r.Answers, error(nil)
	if s.stage == nil { // those of a half have their names from the whole
		if answers, err = s.names(r.Answers, r.Carried); err != nil {
			return nil, err
		}
		if answers.Rename, err = s.enumNames(answers.Rename); err != nil {
			return nil, err
		}
	}
	wanted := s.Wanted
	if len(r.Order) > 0 {
		if from, wanted, r.Order, err = ordered(from, wanted, r.Order); err != nil {
			return nil, err
		}
	}
	changes := diff.Schemas(from, wanted)
	refer, err := s.rows(ctx)
	if err != nil {
		return nil, err
	}
	if len(changes) == 0 && len(refer) == 0 && len(from.Others) == 0 && answers.None() && r.Title == "" {
		return &plan.Plan{}, nil
	}
	made := &schema.Schema{}
	// Also a migration that only creates tables has to know what the others made: the
	// rest of what is declared and exists is found, and belongs into its file.
	if r.Title != "" && len(from.Tables) > 0 || len(changes) == 0 && len(s.Wanted.Tables) > 0 || slices.ContainsFunc(changes, func(c diff.Change) bool { return c.Kind != diff.AddTable || s.mentioned(c.Table) }) {
		if made, err = s.Made(ctx); err != nil {
			return nil, err
		}
	}
	var renames, madeRenames []engine.Step // of the latter only what a migration made
	enums, named := map[plan.Rename]engine.Step{}, map[plan.Rename][]engine.Step{}
	renamed, madeRenamed := from, made // by what was renamed before
	there := made.Clone()              // the same, by names alone
	for _, r := range answers.Rename {
		if r.Value != "" {
			step, ok := plan.EnumRename(s.Engine, from, r, answers.Rename)
			if !ok {
				continue
			}
			enums[r] = step
			if slices.ContainsFunc(renames, func(o engine.Step) bool { return slices.Equal(o.Apply, step.Apply) }) {
				continue // said of another column of the type
			}
			renames = append(renames, step)
			if _, ok := plan.EnumRename(s.Engine, made, r, answers.Rename); ok {
				madeRenames = append(madeRenames, step)
			}
			continue
		}
		named[r], renamed = s.Engine.DDL().Rename(renamed, r.Table, r.Column, r.To)
		renames = append(renames, named[r]...)
		if has(there, r.Table, r.Column) {
			if t := there.Table(r.Table); r.Column == "" {
				t.Name = r.To
			} else {
				t.Column(r.Column).Name = r.To
			}
			var steps []engine.Step
			steps, madeRenamed = s.Engine.DDL().Rename(madeRenamed, r.Table, r.Column, r.To)
			madeRenames = append(madeRenames, steps...)
		}
	}
	for _, o := range s.Wanted.Others { // an enum type that has to be made anew
		if old := from.Enum(o.Name); o.Kind == schema.EnumType && old != nil {
			there := slices.Clone(old.Values)
			for _, r := range answers.Rename {
				if enums[r].Apply == nil {
					continue
				}
				if i := slices.Index(there, r.Value); i >= 0 && slices.Equal(enums[r].Apply, engine.EnumsOf(s.Engine).RenameValue(o.Name, r.Value, r.To)) {
					there[i] = r.To
				}
			}
			if !plan.OnlyAdded(there, o.Values) {
				renames = append(renames, engine.Step{Title: "set the enum type " + o.Name + " apart", Apply: engine.EnumsOf(s.Engine).Rename(o.Name, plan.Apart(o.Name))})
			}
		}
	}
	in := plan.Input{Engine: s.Engine, EnumRenames: enums, Renames: named, Kept: migration.KeptNames(id, r.Form), Live: from, Wanted: wanted, Order: r.Order, Made: made, Answers: answers, NoKeep: r.NoKeep, Stage: s.stage, Rows: refer, TakeOver: r.Title != "" && len(s.Status.Pending) == 0, Lenient: r.Carried, Unseen: s.Unseen, Count: func(q string) (int64, error) {
		n, err := s.DB.Count(ctx, q)
		if err != nil && len(s.Status.Pending) > 0 {
			return 0, nil // about what a waiting migration will make: no rows yet
		}
		return n, err
	}}
	in.Look = func(q string) (int64, engine.Rows, error) {
		n, rows, err := engine.InTheWay(ctx, s.DB, q)
		if err != nil && len(s.Status.Pending) > 0 {
			return 0, engine.Rows{}, nil
		}
		return n, rows, err
	}
	in.Size = func(table string) (int64, error) { return s.DB.TableSize(ctx, table) }
	if s.unasked {
		in.Count = func(string) (int64, error) { return 0, nil }
		in.Look = func(string) (int64, engine.Rows, error) { return 0, engine.Rows{}, nil }
		in.Size = in.Count
	}
	if s.InUse {
		in.InUse = func(table string) bool {
			return !slices.ContainsFunc(r.Plain, func(n string) bool { return strings.EqualFold(n, table) })
		}
	}
	if !r.Now.IsZero() { // it becomes a file
		in.Gentle = s.gentle(ctx, from, r.Rows)
	}
	if in.NoDrop, err = s.trial(ctx, from, renames, &in.Live); err != nil {
		return nil, err
	}
	if len(madeRenames) > 0 {
		if _, err = s.trial(ctx, made, madeRenames, &in.Made); err != nil {
			return nil, err
		}
	}
	softDeletesAfter(from, in.Live, answers)
	softDeletesAfter(made, in.Made, answers)
	return plan.Make(in)
}

// ordered compares the order of the columns of some tables, too; it is an error where they
// stand as declared. The names may be those of models.
func ordered(live, wanted *schema.Schema, names []string) (from, to *schema.Schema, tables []string, err error) {
	from, to = live.Clone(), wanted.Clone()
	for _, name := range names {
		i := slices.IndexFunc(to.Tables, func(t *schema.Table) bool { return t.Model == name || strings.EqualFold(t.Name, name) })
		if i < 0 || from.Table(to.Tables[i].Name) == nil {
			return nil, nil, nil, fmt.Errorf("--order %s matches nothing: no such table in the database and the models", name)
		}
		w := to.Tables[i]
		old := from.Table(w.Name)
		old.Ordered, w.Ordered = true, true
		comes := slices.ContainsFunc(w.Columns, func(c *schema.Column) bool { return old.Column(c.Name) == nil })
		moves := slices.ContainsFunc(diff.Tables(old, w), func(c diff.Change) bool { return c.Kind == diff.ChangeOrder })
		if !comes && !moves {
			return nil, nil, nil, fmt.Errorf("--order %s matches nothing: its columns are in the declared order", name)
		}
		tables = append(tables, w.Name)
	}
	return from, to, tables, nil
}

// enumNames orders the renames of values of enum types, which are made one after the
// other, and checks that the models declare them.
func (s *State) enumNames(list []plan.Rename) ([]plan.Rename, error) {
	var out []plan.Rename
	of := map[string][]plan.Rename{}
	var columns []string
	for _, r := range list {
		if _, ok := plan.EnumRename(s.Engine, s.Upcoming, r, list); !ok {
			out = append(out, r)
			continue
		}
		key := r.Table + "." + r.Column
		if of[key] == nil {
			columns = append(columns, key)
		}
		of[key] = append(of[key], r)
	}
	for _, key := range columns {
		values := of[key]
		old, now := s.Upcoming.Table(values[0].Table).Column(values[0].Column), s.declared(values[0], list)
		among := func(list []string, v string) bool { return slices.Contains(list, v) }
		for _, r := range values {
			frees := slices.ContainsFunc(values, func(o plan.Rename) bool { return o.Value == r.To })
			takes := slices.ContainsFunc(values, func(o plan.Rename) bool { return o.To == r.Value })
			if now == nil || !among(old.Values, r.Value) || among(old.Values, r.To) && !frees || among(now.Values, r.Value) && !takes || !among(now.Values, r.To) {
				return nil, fmt.Errorf("--rename %s: %s has to lose the value %q and to have %q", r, key, r.Value, r.To)
			}
		}
		out = append(out, plan.ValuesInOrder(values, old.Values, now.Values)...)
	}
	return out, nil
}

// declared is the column that the models have for one whose value has another name.
func (s *State) declared(r plan.Rename, all []plan.Rename) *schema.Column {
	table, column := plan.Answers{Rename: all}.After(r.Table, r.Column)
	if t := s.Wanted.Table(table); t != nil {
		return t.Column(column)
	}
	return nil
}

// softDeletesAfter notes which tables mark their deleted rows, and what are their views,
// where the names by which that is told are still those from before the renames.
func softDeletesAfter(before, after *schema.Schema, renames plan.Answers) {
	if before == after {
		return
	}
	for _, t := range before.Tables {
		name, column := renames.After(t.Name, t.SoftDelete)
		if now := after.Table(name); now != nil && t.SoftDelete != "" && now.Column(column) != nil {
			now.SoftDelete = column
		}
	}
	for _, v := range before.Views {
		if now := after.View(v.Name); now != nil && v.LiveOf != "" {
			now.LiveOf, _ = renames.After(v.LiveOf, "")
		}
	}
}

// trial makes renames on scratch, so that the engine itself says what follows
// them, and tells whether something there is broken.
func (s *State) trial(ctx context.Context, from *schema.Schema, renames []engine.Step, out **schema.Schema) (broken bool, err error) {
	breakable := len(from.Views) > 0 || slices.ContainsFunc(from.Tables, func(t *schema.Table) bool { return len(t.Triggers) > 0 })
	var list []string
	if s.Engine.Caps().ChecksAll && breakable {
		if list, err = s.broken(ctx, from); err != nil {
			return false, err
		}
	}
	if len(renames) == 0 {
		return len(list) > 0, nil
	}
	m := &migration.Migration{}
	for _, r := range renames {
		m.Steps = append(m.Steps, migration.Step{Title: r.Title, Apply: statements(r.Apply)})
	}
	after, left, err := proof.After(ctx, s.Engine, from, nil, []*migration.Migration{m}, func(db engine.Database) error {
		if breakable && !s.Engine.Caps().ChecksAll {
			if list, err = engine.InvalidObjects(ctx, db); err != nil {
				return err
			}
		}
		if len(list) > 0 {
			return fmt.Errorf("nothing can be renamed while %s does not work: fix or drop it first", list[0])
		}
		for _, r := range renames {
			for _, sql := range r.Apply {
				if err := db.Exec(ctx, sql); err != nil {
					return fmt.Errorf("%s: %w", r.Title, err)
				}
			}
		}
		return nil
	})
	if e := s.lacks(left); e != nil {
		return false, e
	}
	if err == nil {
		*out = after
	}
	return len(list) > 0, err
}

// broken are the views and triggers of a schema that do not work: of the live one they are
// asked there.
func (s *State) broken(ctx context.Context, from *schema.Schema) ([]string, error) {
	if from == s.Live {
		return engine.InvalidObjects(ctx, s.DB)
	}
	db, err := s.scratch(ctx, from)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	return engine.InvalidObjects(ctx, db)
}

// gentle gives a function that has the engine find out, on scratch, how gently it can
// make the changes of a plan, where that is to be said of each; nil: it is not.
func (s *State) gentle(ctx context.Context, from *schema.Schema, rows bool) func(*plan.Plan) error {
	db, ok := engine.As[engine.OnlineDDL](s.DB)
	if !ok {
		return nil
	}
	return func(p *plan.Plan) error {
		if !slices.ContainsFunc(p.Steps, func(st engine.Step) bool {
			return slices.ContainsFunc(append(slices.Clone(st.Apply), st.Undo...), db.CanRunOnline)
		}) {
			return nil
		}
		m := planned("gentle", 0, s.Engine, p)
		in := proof.Input{Engine: s.Engine, Start: from, Migration: m, Drafted: true}
		if rows {
			in.Live = s.sample(ctx)
		}
		if err := proof.Gently(ctx, in); err != nil {
			return err
		}
		for i, st := range m.Steps {
			for j := range st.Apply {
				p.Steps[i].Apply[j] = st.Apply[j].SQL
			}
			for j := range st.Undo {
				p.Steps[i].Undo[j] = st.Undo[j].SQL
			}
		}
		return nil
	}
}

// planned is the migration of a plan.
func planned(id string, form int, e engine.Engine, p *plan.Plan) *migration.Migration {
	m := &migration.Migration{ID: id, Form: form, Engine: e.Name(), Parameters: p.Parameters, BeforeApply: p.BeforeApply, BeforeUndo: p.BeforeUndo}
	for _, f := range p.Found {
		m.Found = append(m.Found, migration.Found{Table: f.Table, Column: f.Column, Beside: f.Beside, Make: statements(f.Make)})
	}
	for _, st := range p.Steps {
		m.Steps = append(m.Steps, migration.Step{Title: st.Title, Kind: st.Kind, Work: st.Work, Note: cmp.Or(st.Note, st.Work.String()), Loses: st.Loses, Kept: st.Kept, UndoLoses: st.UndoLoses, Here: st.Here, HereUndo: st.HereUndo, Batches: st.Batches, Rows: st.Rows, Apply: statements(st.Apply), Undo: statements(st.Undo)})
	}
	return m
}

// Request is what a draft is made of.
type Request struct {
	Title   string
	Answers plan.Answers
	Said    []string // the answers as flags, for the file's head
	Now     time.Time
	Rows    bool     // rows of the live database may be taken to the proof
	NoKeep  bool     // what goes is not kept
	Carried bool     // the answers were given to an earlier draft: those that answer nothing now are left out
	ID      string   // the id to have; empty: a new one
	Form    int      // of the file; 0: the newest
	Order   []string // tables whose columns are to stand as declared, though they are copied for it
	Plain   []string // tables that are changed in the simple way, in use or not
	Steps   []HandStep
	// Redrafts are the ids of the migrations that are drafted again.
	Redrafts []string
}

// Draft is the outcome: a migration, or why there is none.
type Draft struct {
	Plan      *plan.Plan
	Migration *migration.Migration // nil: there is nothing to draft, or something is to be asked
	Outcome   *proof.Outcome
	InTheWay  []plan.InTheWay // rows of the live database that the migration would stop at
	Barred    []string        // what the user of the connection has no right to do of it
}

// Make drafts the migration that closes the difference. Nothing is written.
func (s *State) Make(ctx context.Context, r Request) (*Draft, error) {
	if newer := s.Status.Newer; len(newer) > 0 {
		return nil, fmt.Errorf("%s is applied here and has no file in this checkout, so a draft would follow a migration that others do not have. Restore its file first, or undo it with erbario undo (the database has its text)", newer[len(newer)-1])
	}
	id := cmp.Or(r.ID, s.NextID(r.Now, r.Title))
	p, err := s.plan(ctx, id, r)
	if err != nil {
		return nil, err
	}
	d := &Draft{Plan: p}
	if len(s.Status.Pending) == 0 { // else those that wait may see to them first
		d.InTheWay = p.InTheWay
	}
	if len(p.Questions) > 0 || len(p.Steps)+len(r.Steps) == 0 {
		return d, nil
	}
	m := planned(id, r.Form, s.Engine, p)
	for _, old := range r.Redrafts {
		if old != id && !slices.Contains(m.Redrafts, old) {
			m.Redrafts = append(m.Redrafts, old)
		}
	}
	m.Follows, m.Answers = s.Last(), s.said(r.Said, p.Unused)
	for i := range m.Steps {
		m.Drafted = append(m.Drafted, m.Sum(&m.Steps[i]))
	}
	if err := carry(m, r.Steps); err != nil {
		return nil, err
	}
	// The file is what is proved: it is written and read again.
	if m, err = migration.Parse(m.FileName(), migration.Write(m), s.Engine); err != nil {
		return nil, fmt.Errorf("the draft cannot be read again, which is a bug in erbario: %w", err)
	}
	if s.unreached {
		d.Migration = m
		m.Text = migration.WithHead(m)
		return d, nil
	}
	in := proof.Input{Engine: s.Engine, Start: s.Upcoming, Wanted: s.Wanted, Ignore: p.Undeclared, More: len(r.Steps) > 0, Migration: m}
	live, done, err := s.rowsToTry(ctx, r.Rows)
	if err != nil {
		return nil, err
	}
	defer done()
	in.Live = live
	if d.Outcome, err = proof.Prove(ctx, in); err != nil {
		return nil, err
	}
	d.Migration = m
	if db, ok := engine.As[engine.PermissionChecker](s.DB); ok {
		if d.Barred, err = db.MissingPermissions(ctx, append(m.SQL(false), m.SQL(true)...)); err != nil {
			return nil, err
		}
		byRole := slices.ContainsFunc(s.Wanted.Tables, func(t *schema.Table) bool {
			return t.GuardRole != "" && slices.ContainsFunc(p.Changes, func(c diff.Change) bool { return c.Table == t.Name })
		})
		if byRole && len(d.Barred) > 0 { // a guard that cannot ask would let nobody delete anything
			return nil, errors.New(strings.Join(d.Barred, "; ") + ": nothing was written")
		}
	}
	if !d.Outcome.Proved() {
		return d, nil
	}
	m.SetProof(d.Outcome.Sentence())
	made, err := s.Made(ctx)
	if err != nil {
		return nil, err
	}
	m.Before = schema.Fingerprint(made)
	if m.Before == schema.Fingerprint(s.inside(s.Upcoming)) { // the proof began from just that
		m.After = schema.Fingerprint(s.inside(d.Outcome.After))
	} else if m.After, err = s.after(ctx, m); err != nil {
		return nil, err
	}
	m.Text = migration.WithHead(m)
	return d, nil
}

func statements(list []string) []migration.Statement {
	out := make([]migration.Statement, len(list))
	for i, sql := range list {
		out[i] = migration.Statement{SQL: sql}
	}
	return out
}

// after is the fingerprint of what the migrations make with this one behind
// them.
func (s *State) after(ctx context.Context, m *migration.Migration) (string, error) {
	made, err := s.Made(ctx)
	if err != nil {
		return "", err
	}
	cannot := false
	out, left, err := proof.After(ctx, s.Engine, made, nil, []*migration.Migration{m}, func(db engine.Database) error {
		err := proof.Run(ctx, db, s.Engine, m, false)
		cannot = err != nil
		return err
	})
	if e := s.lacks(left); e != nil {
		return "", e
	}
	if cannot {
		// The live database has more than the migrations made, and the change
		// needs it: then the live state is the measure.
		return schema.Fingerprint(s.Wanted), nil
	}
	if err != nil {
		return "", err
	}
	return schema.Fingerprint(out), nil
}

// sample gives a few live rows to a proof.
func (s *State) sample(ctx context.Context) func(string, int) (engine.Rows, error) {
	return func(table string, limit int) (engine.Rows, error) {
		t := s.Live.Table(table)
		if t == nil {
			return engine.Rows{}, nil
		}
		names := proof.Stored(t, s.Engine)
		if names == "" {
			return engine.Rows{}, nil
		}
		return s.DB.Sample(ctx, "SELECT "+names+" FROM "+s.Engine.SQL().Quote(t.Name), limit)
	}
}

// Last is the newest migration, applied or waiting; "" for none.
func (s *State) Last() string {
	last := s.Status.At()
	for _, m := range s.Status.Files {
		last = max(last, m.ID)
	}
	return last
}

// NextID is the id for a new migration: the time in UTC, but never before the
// newest there is.
func (s *State) NextID(now time.Time, title string) string {
	const form = "20060102T150405"
	stamp := now.UTC().Format(form)
	if last, _, _ := strings.Cut(s.Last(), "-"); stamp <= last {
		if t, err := time.Parse(form, last); err == nil {
			stamp = t.Add(time.Second).Format(form)
		}
	}
	return stamp + "-" + migration.Slug(title)
}

// ByHand is a migration to fill in.
func (s *State) ByHand(r Request) *migration.Migration {
	m := &migration.Migration{ID: cmp.Or(r.ID, s.NextID(r.Now, r.Title)), Engine: s.Engine.Name(), Follows: s.Last(), ByHand: true, Proof: "not proved: fill it in, then run erbario prove"}
	m.Steps = []migration.Step{{Title: migration.Title(r.Title)}}
	migration.Write(m)
	return m
}
