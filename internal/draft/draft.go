// Package draft compares models, migrations and the live database, and drafts the migration
// that closes the difference: planned from what is there, proved on scratch, asked of the live
// rows, and only then a file.
//
//	s, err := draft.Look(ctx, e, db, func() (*sqlschema.Schema, []*migration.Migration, error) {
//		return wanted, files, nil
//	})
//	d, err := s.Make(ctx, draft.Request{Title: "labels", Now: time.Now()})
//	if len(d.Plan.Questions) == 0 {
//		fmt.Println(d.Migration.Text)
//	}
package draft

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// State is how one database stands against the models and the migrations.
type State struct {
	Engine   runner.Engine
	DB       engine.Database
	Wanted   *sqlschema.Schema // what the models declare, as the engine would keep it
	Live     *sqlschema.Schema
	Upcoming *sqlschema.Schema // live with the waiting migrations applied, on scratch
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

	unasked     bool             // no question is put to the rows
	unreached   bool             // no server of the engine is there
	home        *State           // then: of the database whose draft it follows
	refer       []plan.TableRows // then: the reference rows
	stage       *plan.Stage
	made        *sqlschema.Schema
	sql         *sqlState     // nil: not looked at, or nothing is declared in SQL
	sqlAsked    bool          // something may be dropped that was declared in SQL
	sqlLater    bool          // what is declared in SQL comes with the second half of a pair
	newNames    []plan.Rename // of the plan
	leaveBroken bool          // what is declared in SQL may name what the plan takes away
	// tablesAlone leaves reference rows and what is declared in SQL as they are.
	tablesAlone bool
}

// MissingOutside is an error that names the tables which the models declare as outside, and
// which are neither in the database nor created by the waiting migrations; nil: there are
// none.
func MissingOutside(e runner.Engine, wanted, live *sqlschema.Schema, waiting []*migration.Migration) error {
	var names []string
	for _, t := range proof.Missing(e, wanted, live, waiting) {
		names = append(names, t.Name)
	}
	if len(names) == 0 {
		return nil
	}
	return fmt.Errorf(
		"%s, declared as outside, does not exist in this database: create it there; in a throwaway database erbario rebuild creates it",
		strings.Join(names, " and "),
	)
}

// Look reads a database and compares it with the models and the files, which
// read gives; it is called while the database is read.
func Look(ctx context.Context, e runner.Engine, db engine.Database,
	read func() (*sqlschema.Schema, []*migration.Migration, error)) (*State, error) {
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
	if err := runner.RefuseInterrupted(ctx, db, e); err != nil {
		return nil, err
	}
	s.Status = runner.StatusOf(files, applied, e)
	if missing := MissingOutside(e, s.Wanted, s.Live, s.Status.Pending); missing != nil {
		return nil, missing
	}
	if err := engine.Canonicalize(ctx, db, s.Wanted, s.Live); err != nil {
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
func (s *State) ahead(ctx context.Context, from *sqlschema.Schema, list []*migration.Migration,
	run func(scratch engine.Database) error) (*sqlschema.Schema, error) {
	out, left, err := proof.After(ctx, s.Engine, from, s.Wanted, list, func(db engine.Database) error {
		return s.follow(ctx, db, run, nil)
	})
	if e := s.lacks(left); e != nil {
		return nil, e
	}
	return out, err
}

// scratch makes a scratch database that holds what from does. A table that the models
// declare has to be there; anything else that cannot be is noted, and left out.
func (s *State) scratch(ctx context.Context, from *sqlschema.Schema) (engine.Database, error) {
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
		if t := s.Wanted.Table(l.Name); l.Kind == "table" && t != nil && !t.Outside() && t.Options.Virtual == "" {
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
func (s *State) Made(ctx context.Context) (*sqlschema.Schema, error) {
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
func (s *State) known(list []*migration.Migration, in *sqlschema.Schema) *sqlschema.Schema {
	told := s.told(list)
	if len(told) == 0 {
		return nil
	}
	out := s.ofMigrations(list, in)
	if !slices.Contains(told, sqlschema.Fingerprint(out)) {
		return nil
	}
	return out
}

// ofMigrations is the part of a schema that migrations create, as far as their statements tell, not copied.
func (s *State) ofMigrations(list []*migration.Migration, in *sqlschema.Schema) *sqlschema.Schema {
	created := migration.Creates(list, s.Engine)
	var named map[string]bool
	if len(in.Views)+len(in.Others) > 0 {
		named = migration.Names(list, s.Engine)
		maps.Copy(named, migration.FoundNames(list, s.Engine))
	}
	out := &sqlschema.Schema{}
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
		name, _, _ := strings.Cut(strings.ToLower(strings.Trim(o.Name, `"`)), "(")
		if named[name] { // as it is here: only enum types are in a fingerprint
			out.Others = append(out.Others, o)
		}
	}
	return out
}

// mentioned tells whether an applied migration has the name of a table in it.
func (s *State) mentioned(table string) bool {
	return slices.ContainsFunc(s.Status.Applied, func(a runner.Applied) bool { return strings.Contains(a.Text, table) })
}

// replay is what migrations make from nothing, on scratch.
func (s *State) replay(ctx context.Context, list []*migration.Migration) (*sqlschema.Schema, error) {
	db, err := proof.Replay(ctx, s.Engine, list, s.Wanted)
	if err != nil {
		if name := s.stranger(list); name != "" { // its declaration may be gone
			err = fmt.Errorf(
				"%w; no migration creates %s, which exists here: declare it as model NAME outside, with the columns that are referred to",
				err, name)
		}
		return nil, err
	}
	defer db.Close()
	made, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	made.Tables = slices.DeleteFunc(made.Tables, func(t *sqlschema.Table) bool { return s.outside(t.Name) })
	s.remember(list, made)
	return made, nil
}

// stranger is a live table that migrations mention, and none of them creates; "": there is
// none.
func (s *State) stranger(line []*migration.Migration) string {
	created := migration.Creates(line, s.Engine)
	for _, t := range s.Live.Tables {
		mentioned := slices.ContainsFunc(line,
			func(m *migration.Migration) bool { return strings.Contains(m.Text, s.Engine.SQL().QuoteTable(t.Name)) })
		if mentioned && !schema.Own(t.Name) && s.Wanted.Table(t.Name) == nil && !created[strings.ToLower(t.Name)] {
			return t.Name
		}
	}
	return ""
}

// outside tells whether a table is declared as outside: no migration changes it.
func (s *State) outside(table string) bool {
	t := s.Wanted.Table(table)
	return t != nil && t.Outside()
}

// Drafted lists what the waiting migrations will change; of reference rows, those
// that come and go.
func (s *State) Drafted() []diff.Change {
	if s.Upcoming == s.Live {
		return nil
	}
	lacks := func(c diff.Change) bool { // scratch is without it: it does not go
		return c.Kind.Drops() && slices.ContainsFunc(s.Missing, func(l engine.LeftOut) bool {
			return l.Kind == c.Kind.Thing() && (l.Name == c.Name || c.Name == "" && l.Name == c.Table)
		})
	}
	out := slices.DeleteFunc(diff.Schemas(s.Live, s.Upcoming),
		func(c diff.Change) bool { return s.outside(c.Table) || lacks(c) })
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
		made, live = &sqlschema.Schema{Others: made.Others}, &sqlschema.Schema{Others: live.Others}
	} else if made, err = s.replay(ctx, list); err != nil {
		return nil, err
	}
	inSQL := migration.ObjectsOf(list, s.Engine)
	return slices.DeleteFunc(diff.Schemas(made, live), func(c diff.Change) bool {
		thing := engine.ObjectKey{Kind: c.Kind.Thing(), Name: c.Table}
		if c.Name != "" {
			thing.Name, thing.Of = c.Name, c.Table
		}
		declared := thing.Kind != "table" && (inSQL[thing] ||
			objects.Source(s.Wanted.Objects, &objects.Object{ObjectKey: thing}) != nil)
		return declared ||
			c.Kind == diff.AddTable || c.Kind == diff.AddView ||
			c.Kind == diff.AddEnum && s.Wanted.Enum(c.Table) == nil
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

// Undeclarable tells of changes whether they would drop what existed before a line of migrations
// and no model can declare: a view, a trigger, a part of another table.
func Undeclarable(e runner.Engine, line []*migration.Migration) func(diff.Change) bool {
	views, triggers := map[string]bool{}, migration.FoundTriggers(line, e)
	for _, m := range line {
		for _, f := range m.Found {
			if f.Kind == "view" {
				views[strings.ToLower(f.Table)] = true
			}
		}
	}
	return func(c diff.Change) bool {
		switch o := c.Object.(type) {
		case *sqlschema.View:
			return c.Kind == diff.DropView && o.LiveOf == "" && views[strings.ToLower(o.Name)]
		case *sqlschema.Trigger:
			return c.Kind == diff.DropTrigger && o.Purpose == "" && triggers[strings.ToLower(o.Name)]
		case *sqlschema.Table:
			return c.Kind == diff.DropTable && o.Undeclarable()
		}
		return false
	}
}
