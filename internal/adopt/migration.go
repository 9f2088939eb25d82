package adopt

// This file is the migration with which the history of an adopted database begins: it creates
// what is there where it is missing, and its undo takes nothing away.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// manyTables is from how many tables on the migration is more than one transaction: a server
// has room for some thousands of locks.
const manyTables = 300

// Beginning is the migration that creates, where it is missing, what a database holds of these
// tables, and all that models cannot declare. before are the migrations that exist. What cannot
// be created from nothing is returned, and is not in the migration.
func (in Input) Beginning(ctx context.Context, o *Outcome, id string,
	before []*migration.Migration) (*migration.Migration, []engine.LeftOut, error) {
	e, db := in.Engine, in.DB
	part := o.part(in.Live, e, before)
	part.Tables = sqlschema.ParentsFirst(part)
	if len(before) == 0 && len(in.Schemas) > 0 {
		part.Elsewhere = nil
		for _, s := range in.Schemas {
			part.Elsewhere = append(part.Elsewhere, s.Holds...)
		}
	}
	if in.Scratch == nil {
		in.Scratch = MakeScratch(ctx, e, before)
		defer in.Scratch.Close()
	}
	all := e.DDL().CreateAll(part)
	var err error
	if v, ok := engine.As[engine.Verbatim](db); ok {
		all, err = v.Verbatim(ctx, part)
	}
	scratch, failed := in.Scratch.ready()
	if err := errors.Join(failed, err); err != nil {
		return nil, nil, err
	}
	made, err := scratch.Inspect(ctx)
	if err != nil {
		return nil, nil, err
	}
	there, err := objects.Read(ctx, db, in.Live)
	if err != nil {
		return nil, nil, err
	}
	c := &creating{ctx: ctx, e: e, db: scratch, part: part, made: made, progress: in.Progress}
	if err := c.all(objects.AsRead(all, there), o.inserts); err != nil {
		return nil, nil, err
	}
	m, err := c.migration(id, before, o.rows)
	if err != nil {
		return nil, nil, err
	}
	after, err := c.compare()
	if err != nil {
		return nil, nil, err
	}
	o.Beyond = c.beyond
	if err := in.declareObjects(ctx, o, part, there, c.ran(after)); err != nil {
		return nil, nil, err
	}
	m.SetProof("proved by creating it from nothing")
	m.Before, m.After = sqlschema.Fingerprint(made), sqlschema.Fingerprint(after)
	m.Text = migration.WithHead(m)
	return m, c.left, nil
}

// Scratch is a scratch database under way, in which migrations run that exist.
type Scratch struct {
	db   engine.Database
	err  error
	done chan struct{}
}

// MakeScratch begins to make one: a server takes long to create a database.
func MakeScratch(ctx context.Context, e runner.Engine, before []*migration.Migration) *Scratch {
	s := &Scratch{done: make(chan struct{})}
	go func() {
		defer close(s.done)
		s.db, s.err = proof.Replay(ctx, e, before, nil)
	}()
	return s
}

func (s *Scratch) ready() (engine.Database, error) {
	<-s.done
	return s.db, s.err
}

// Close closes it, once it is made.
func (s *Scratch) Close() {
	if db, err := s.ready(); err == nil {
		db.Close()
	}
}

// part is what of a database no migration creates: the tables of the outcome, and what models
// cannot declare.
func (o *Outcome) part(live *sqlschema.Schema, e runner.Engine, before []*migration.Migration) *sqlschema.Schema {
	out := &sqlschema.Schema{Elsewhere: live.Elsewhere, Collation: live.Collation}
	created := migration.Creates(before, e)
	named := migration.Names(before, e)
	for _, t := range live.Tables {
		adopted := slices.ContainsFunc(o.Tables, func(x Table) bool { return x.Name == t.Name })
		if (adopted || t.Undeclarable() && !schema.Own(t.Name)) && !created[strings.ToLower(t.Name)] {
			out.Tables = append(out.Tables, t)
		}
	}
	for _, v := range live.Views {
		if !named[strings.ToLower(v.Name)] && !schema.Own(v.Name) {
			out.Views = append(out.Views, v)
		}
	}
	for _, x := range live.Others {
		if !named[strings.ToLower(strings.Trim(x.Name, `"`))] {
			out.Others = append(out.Others, x)
		}
	}
	return out
}

// creating creates a part of a database on scratch, and finds the order in which that can be done.
type creating struct {
	ctx  context.Context
	e    runner.Engine
	db   engine.Database
	part *sqlschema.Schema
	made *sqlschema.Schema // by the migrations that exist
	done []engine.Creation // in the order in which they could be run
	left []engine.LeftOut  // what cannot be created
	// beyond are the objects that name another database: scratch is without them, others are not.
	beyond []engine.LeftOut
	// progress is told how many creations are done; nil: nobody is.
	progress func(done, all int)
}

// all runs creations, and the rows before the triggers, which are not to fire for them.
func (c *creating) all(list, inserts []engine.Creation) error {
	if len(inserts) == 0 {
		return c.run(list)
	}
	late := func(x engine.Creation) bool { return x.Kind == "trigger" || x.Kind == "rule" }
	if err := c.run(slices.DeleteFunc(slices.Clone(list), late)); err != nil {
		return err
	}
	left := c.left
	for _, x := range inserts {
		if err := c.create(x); err != nil {
			return fmt.Errorf("--rows %s: its rows cannot be inserted into a new database: %w", x.Name, err)
		}
		c.done = append(c.done, x)
	}
	early := func(x engine.Creation) bool { return !late(x) }
	if err := c.run(slices.DeleteFunc(slices.Clone(list), early)); err != nil {
		return err
	}
	c.left = append(left, c.left...)
	return nil
}

// bundle is how many creations are tried at once, where a server takes several statements as one.
const bundle = 100

// run runs creations, those that fail again behind the others, until nothing more can be created.
func (c *creating) run(all []engine.Creation) error {
	todo := slices.DeleteFunc(all, func(x engine.Creation) bool { return x.Kind == "" })
	apart := false
	for len(todo) > 0 {
		var again []engine.Creation
		c.left = nil
		for list := range slices.Chunk(todo, bundle) {
			if c.progress != nil {
				c.progress(len(c.done), len(all))
			}
			if c.together(list) {
				c.done = append(c.done, list...)
				continue
			}
			for _, x := range list {
				switch err := c.create(x); {
				case c.ctx.Err() != nil || errors.Is(err, engine.ErrLost) || errors.Is(err, engine.ErrBusy):
					return err
				case err != nil && c.had(x):
				case err != nil:
					again, c.left = append(again, x), append(c.left, engine.LeftOut{Kind: x.Kind, Name: x.Name,
						Err: err})
				default:
					c.done = append(c.done, x)
				}
			}
		}
		if len(again) == len(todo) {
			if apart { // nothing more can be created
				c.putBeyond(again)
				return nil
			}
			apart = true
			again = withoutReferences(c.e, c.part, again)
		}
		todo = again
	}
	return nil
}

// had tells whether migrations that exist create something already, with the schema in which it is.
func (c *creating) had(x engine.Creation) bool {
	is := func(o *sqlschema.Other) bool { return o.Kind == x.Kind && o.Name == x.Name }
	switch {
	case x.OfKind != "":
		return false
	case isPart(x):
		return c.made.Table(x.Name) != nil
	case x.Of != "" || x.Kind == "table":
		return c.made.Table(cmp.Or(x.Of, x.Name)) != nil
	}
	return x.Kind == "view" && c.made.View(x.Name) != nil || slices.ContainsFunc(c.made.Others, is)
}

// putBeyond puts what was left because it names another database behind what was created.
func (c *creating) putBeyond(again []engine.Creation) {
	var left []engine.LeftOut
	for i, l := range c.left {
		if beyond := (*engine.BeyondError)(nil); errors.As(l.Err, &beyond) {
			c.done, c.beyond = append(c.done, again[i]), append(c.beyond, l)
		} else {
			left = append(left, l)
		}
	}
	c.left = left
}

// together runs creations as one, and tells whether that went well: else nothing was created.
func (c *creating) together(list []engine.Creation) bool {
	if caps := c.e.Caps(); !caps.Journal || caps.CommitsChanges {
		return false
	}
	var all []string
	for _, x := range list {
		all = append(all, strings.TrimRight(strings.TrimSpace(x.SQL), ";"))
	}
	return c.db.Exec(c.ctx, strings.Join(all, ";\n")) == nil
}

// create runs a creation in the session that it needs.
func (c *creating) create(x engine.Creation) error {
	if x.Before == "" {
		return c.db.Exec(c.ctx, x.SQL)
	}
	if err := c.db.Exec(c.ctx, x.Before); err != nil {
		return err
	}
	return errors.Join(c.db.Exec(c.ctx, x.SQL), c.db.Exec(c.ctx, x.After))
}

// withoutReferences has tables that refer to each other in a circle created first, and their
// references behind them.
func withoutReferences(e runner.Engine, s *sqlschema.Schema, list []engine.Creation) []engine.Creation {
	online, ok := engine.OnlineOf(e)
	if !ok {
		return list
	}
	var tables, references []engine.Creation
	for _, c := range list {
		t := s.Table(c.Name)
		if c.Kind != "table" || t == nil {
			references = append(references, c)
			continue
		}
		alone := t.Clone()
		alone.ForeignKeys, alone.Text = nil, ""
		for _, sql := range e.DDL().Create(alone).Apply {
			tables = append(tables, engine.Creation{Kind: "table", Name: t.Name, Of: t.Name, SQL: sql})
		}
		for _, k := range t.ForeignKeys {
			for _, sql := range online.AddReference(t, k) {
				references = append(references, engine.Creation{Kind: "reference", Name: k.Name,
					Of: t.Name, SQL: sql})
			}
		}
	}
	return append(tables, references...)
}

// ran gives a function that finds what statements make among what was created, which is made: nil
// where one of them did not run, word for word.
func (c *creating) ran(made *sqlschema.Schema) func(list []*sqlschema.Object) ([]*objects.Object, error) {
	d := c.e.SQL()
	run := map[string]bool{}
	for _, x := range c.done {
		run[objects.WordsOf(d, x.SQL)] = true
		run[objects.WordsOf(d, x.Said)] = true // the same, but for what is left to the session
	}
	return func(list []*sqlschema.Object) ([]*objects.Object, error) {
		for _, o := range list {
			if !run[objects.WordsOf(d, o.SQL)] {
				return nil, nil
			}
		}
		return objects.Read(c.ctx, c.db, made)
	}
}

// isPart tells whether a creation is of a part of a table.
func isPart(x engine.Creation) bool {
	return objects.Of([]engine.Creation{x})[0].Kind == engine.Part
}

// tableOf is the table to which a creation belongs; "": it is a thing of its own.
func tableOf(e runner.Engine, s *sqlschema.Schema, c engine.Creation) string {
	switch {
	case c.Kind == "table" && s.Table(c.Name) != nil:
		return c.Name
	case c.Kind == "owner of": // a sequence's
		for _, t := range s.Tables {
			if strings.Contains(c.SQL, " OWNED BY "+e.SQL().QuoteTable(t.Name)+".") {
				return t.Name
			}
		}
	}
	return ""
}

// migration is the migration of what was created, read again.
func (c *creating) migration(id string, before []*migration.Migration,
	rows []engine.StepRows) (*migration.Migration, error) {
	m := &migration.Migration{ID: id, Engine: c.e.Name()}
	if n := len(before); n > 0 {
		m.Follows = before[n-1].ID
	}
	for _, x := range c.done {
		f := migration.Found{Table: x.Of, Kind: x.OfKind}
		if x.OfKind == engine.Part {
			f.Kind = ""
		}
		if isPart(x) {
			f = migration.Found{Table: x.Name}
		}
		if f.Table == "" {
			f = migration.Found{Table: tableOf(c.e, c.part, x)}
		}
		if f.Table == "" {
			f.Kind, f.Table = x.Kind, x.Name
		}
		var list []migration.Statement
		for _, sql := range []string{x.Before, x.SQL, x.After} {
			if sql != "" {
				list = append(list, migration.Statement{SQL: strings.TrimRight(strings.TrimSpace(sql), ";")})
			}
		}
		if n := len(m.Found); n > 0 && m.Found[n-1].Table == f.Table && m.Found[n-1].Kind == f.Kind {
			m.Found[n-1].Make = append(m.Found[n-1].Make, list...)
			continue
		}
		f.Make = list
		m.Found = append(m.Found, f)
	}
	tables := len(c.part.Tables)
	step := migration.Step{
		Title: "have " + words.Count(int64(tables), "table", "tables") + " that existed",
		Note:  "created above if missing; nothing else to do",
		Rows:  rows,
	}
	if tables == 0 { // earlier migrations create them
		step.Title, step.Note = "have what existed", "nothing else to do"
	}
	if tables >= manyTables && c.e.Caps().Journal {
		step.Kind = engine.OwnTransaction
	}
	m.Steps = []migration.Step{step}
	m.Drafted = []string{m.Sum(&m.Steps[0])}
	m, err := migration.Parse(m.FileName(), migration.Write(m), c.e)
	if err != nil {
		return nil, fmt.Errorf("the migration cannot be read again, which is a bug in erbario: %w", err)
	}
	return m, nil
}

// compare compares what was created with what there is, and gives it.
func (c *creating) compare() (*sqlschema.Schema, error) {
	made, err := c.db.Inspect(c.ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range c.part.Tables {
		again := made.Table(t.Name)
		if again == nil {
			if isLeft(c.left, "table", t.Name) {
				continue
			}
			return nil, fmt.Errorf("%s cannot be created from nothing: it is missing then", t.Name)
		}
		changes := slices.DeleteFunc(diff.Tables(t, again), func(x diff.Change) bool {
			return x.Kind.Thing() == "trigger" && isLeft(c.beyond, "trigger", x.Name)
		})
		if len(changes) > 0 {
			return nil, fmt.Errorf("%s is not the same when it is created from nothing: %s %s", t.Name, changes[0].Name,
				changes[0].What)
		}
	}
	return made, nil
}

// isLeft tells whether something is among what was left out.
func isLeft(list []engine.LeftOut, kind, name string) bool {
	return slices.ContainsFunc(list, func(l engine.LeftOut) bool { return l.Kind == kind && l.Name == name })
}
