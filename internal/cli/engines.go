package cli

// This file drafts for the other engines of a project: the same change of the models,
// planned over what each engine's own migrations make on scratch, with the same answers,
// proved by itself, and written as a file of its own under the same id.

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/declare"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
)

// change is a draft for the database at hand, of which drafts for other engines are made.
type change struct {
	home  *draft.State
	draft *draft.Draft
	f     *answerFlags
	title string
	with  drafter
	again *remaking // what is drafted again; nil: nothing
}

// draftOthers gives the migrations for the engines beside that of the database at hand.
// None is written yet.
func (a *app) draftOthers(ctx context.Context, p *project.Project, c change) ([]*migration.Migration, error) {
	var out []*migration.Migration
	for _, e := range p.Others(c.home.Engine.Name()) {
		one := c
		if c.again != nil {
			f := c.again.carried(
				slices.DeleteFunc(slices.Clone(c.again.oldElsewhere),
					func(m *migration.Migration) bool { return m.Engine != e.Name() }),
			)
			one.f = &f
		}
		list, err := a.draftOther(ctx, p, e, one)
		if err != nil {
			return nil, fmt.Errorf("the draft for %s: %w", e.Name(), err)
		}
		c.f.unknown = one.f.unknown
		out = append(out, list...)
	}
	if len(c.f.unknown) > 0 {
		return nil, fmt.Errorf("%s matches nothing: no engine of the project has such a column, or would get one",
			c.f.unknown[0])
	}
	return out, nil
}

func (a *app) draftOther(ctx context.Context, p *project.Project, e engine.Engine,
	c change) ([]*migration.Migration, error) {
	files, err := p.Migrations(e)
	if err != nil {
		return nil, err
	}
	var steps []draft.HandStep
	if c.again != nil {
		files = slices.DeleteFunc(files, func(m *migration.Migration) bool {
			if !slices.ContainsFunc(c.again.old, func(o *migration.Migration) bool { return o.ID == m.ID }) {
				return false
			}
			if !c.again.noCarry {
				steps = append(steps, draft.HandSteps(m)...)
			}
			return true
		})
	}
	models, wanted, err := a.declared(p, e)
	if err != nil {
		return nil, err
	}
	other := &live{Database: project.Database{Name: e.Name()}, engine: e}
	o, unreached, err := c.stateOf(ctx, other, models, wanted, files)
	if err != nil {
		return nil, err
	}
	if unreached == nil {
		defer other.Close()
	}
	o.InUse = p.Online()
	o.Unseen = func(table, column string) bool {
		return !has(c.home.Wanted, table, column) && !has(c.home.Upcoming, table, column)
	}
	given, unknown := c.f.known(o.Wanted, o.Upcoming)
	c.f.unknown = slices.DeleteFunc(c.f.unknown, func(flag string) bool { return !slices.Contains(unknown, flag) })
	if c.again != nil {
		given = given.readable(o)
	}
	answers, said, err := given.answers(o)
	if err != nil {
		return nil, err
	}
	r := draft.Request{
		Title: c.title, Answers: answers, Said: said, Plain: given.plain, Now: time.Now(), Carried: true,
		NoKeep: given.noKeep, LeaveBroken: given.leaveBroken,
		Steps: steps,
	}
	if c.again != nil {
		r.Redrafts = draft.Redrafted(
			slices.DeleteFunc(slices.Clone(c.again.oldElsewhere),
				func(m *migration.Migration) bool { return m.Engine != e.Name() }),
		)
	}
	switch {
	case c.draft.Migration != nil:
		r.ID = c.draft.Migration.ID
	case c.again != nil:
		r.ID = o.IDAgain(c.again.old[0], time.Now())
	}
	if c.again != nil {
		r.Form = draft.FormOf(c.again.oldElsewhere, r.ID, e)
	}
	got, second, err := c.with.make(ctx, o, r)
	if err != nil {
		return nil, err
	}
	got.InTheWay = nil // there are no rows but those of the proof
	for _, half := range []*draft.Draft{got, second} {
		if half == nil {
			continue
		}
		if err := a.refused(ctx, other, half, "draft TITLE"); err != nil {
			return nil, err
		}
	}
	if m := got.Migration; m != nil && unreached != nil {
		m.SetProof("not proved: " + unreached.Error() + withoutObjects(wanted))
		m.Text = migration.WithHead(m)
	}
	return migrationsOf(got, second), nil
}

// withoutObjects says what a draft lacks that no server was there for.
func withoutObjects(wanted *sqlschema.Schema) string {
	if len(wanted.Objects) == 0 {
		return ""
	}
	return "; it has no object that is declared in SQL: these are drafted once there is a server"
}

// stateOf is what an engine has before the change: on scratch, or worked out where there is no
// server, which unreached says.
func (c change) stateOf(ctx context.Context, other *live, models *declare.Declared, wanted *sqlschema.Schema,
	files []*migration.Migration) (o *draft.State, unreached, err error) {
	if other.db, unreached = other.engine.Scratch(ctx); unreached != nil {
		other.db = nil
		if o, err = c.home.Unreached(other.engine, models.Schema, c.draft.Plan.Changes, files); err != nil {
			err = fmt.Errorf("%w; and there is no server to show what its migrations create: %w", err, unreached)
		}
		return o, unreached, err
	}
	o, err = look(ctx, other, func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted, files, nil })
	if err == nil {
		err = o.ReadTables(ctx)
	}
	if err != nil {
		other.Close()
	}
	return o, nil, err
}

type jsonFile struct {
	Engine string `json:"engine"`
	File   string `json:"file"`
	Steps  int    `json:"steps"`
	Proof  string `json:"proof"`
}

func jsonFiles(list []*migration.Migration) []jsonFile {
	var out []jsonFile
	for _, m := range list {
		out = append(out, jsonFile{m.Engine, fileOf(m), len(m.Steps), m.Proof})
	}
	return out
}

// has tells whether a schema has a column, or a table, by the names of either layer.
func has(s *sqlschema.Schema, table, column string) bool {
	if column == "" {
		return s.Table(table) != nil
	}
	_, c := columnNamed(s, table+"."+column)
	return c != nil
}

// known are the answers about what an engine's schemas know, and as flags those about
// columns of tables that they do not: these are for other engines, or mistaken.
func (f *answerFlags) known(wanted, ahead *sqlschema.Schema) (out answerFlags, unknown []string) {
	out = *f
	filter := func(flag string, list []string, rename bool) []string {
		return slices.DeleteFunc(slices.Clone(list), func(v string) bool {
			name, to, _ := strings.Cut(v, "=")
			table, column, _ := sqlschema.CutTable(name, wanted, ahead)
			column, value, _ := strings.Cut(column, ".") // of a choice
			if column == "" || column == "*" || has(wanted, table, column) || has(ahead, table, column) ||
				rename && value == "" && has(wanted, table, to) {
				return false
			}
			unknown = append(unknown, flag+v)
			return true
		})
	}
	out.fill, out.drop, out.rename = filter("--fill ", f.fill, false), filter("--drop ", f.drop,
		false), filter("--rename ", f.rename, true)
	return out, unknown
}
