package cli

// This file drafts for the other engines of a project: the same change of the models,
// planned over what each engine's own migrations make on scratch, with the same answers,
// proved by itself, and written as a file of its own under the same id.

import (
	"context"
	"fmt"
	"slices"
	"time"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/schema"
)

// draftOthers gives the migrations for the engines beside that of the database at hand,
// for which d was drafted. None is written yet.
func (a *app) draftOthers(ctx context.Context, p *project.Project, l *live, d *draft.Draft, f *answerFlags, title string, with drafter) ([]*migration.Migration, error) {
	var out []*migration.Migration
	for _, e := range p.Others(l.engine) {
		list, err := a.draftOther(ctx, p, e, d, f, title, with, nil)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// draftOther does it for one of them; again tells what is drafted again, if anything is.
func (a *app) draftOther(ctx context.Context, p *project.Project, e engine.Engine, d *draft.Draft, f *answerFlags, title string, with drafter, again *remaking) ([]*migration.Migration, error) {
	files, err := p.Migrations(e)
	if err != nil {
		return nil, err
	}
	var steps []draft.HandStep
	if again != nil {
		files = slices.DeleteFunc(files, func(m *migration.Migration) bool {
			if !slices.ContainsFunc(again.old, func(o *migration.Migration) bool { return o.ID == m.ID }) {
				return false
			}
			if !again.noCarry {
				steps = append(steps, draft.HandSteps(m)...)
			}
			return true
		})
	}
	models, err := a.models(p, e)
	if err != nil {
		return nil, err
	}
	wanted, _ := e.Realize(models.Schema)
	other := &live{Database: project.Database{Name: e.Name()}, engine: e}
	var o *draft.State
	db, unreached := e.Scratch(ctx)
	if unreached == nil {
		defer db.Close()
		other.db = db
		if o, err = draft.Look(ctx, e, db, func() (*schema.Schema, []*migration.Migration, error) { return wanted, files, nil }); err != nil {
			return nil, fmt.Errorf("the draft for %s: %w", e.Name(), err)
		}
	} else {
		if o, err = draft.Unreached(e, models.Schema, d.Plan.Changes, files); err != nil {
			return nil, fmt.Errorf("the draft for %s: %w; and no server is there to look at what its migrations make: %w", e.Name(), err, unreached)
		}
	}
	o.InUse = p.Online()
	given := *f
	if again != nil {
		given = f.readable(o)
	}
	answers, said, err := given.answers(o)
	if err != nil {
		return nil, err
	}
	r := draft.Request{Title: title, Answers: answers, Said: said, NoKeep: f.noKeep, Plain: f.plain, Now: time.Now(), Carried: true, Steps: steps}
	switch {
	case d.Migration != nil:
		r.ID = d.Migration.ID
	case again != nil:
		r.ID = o.IDAgain(again.old[0], time.Now())
	}
	got, second, err := with.make(ctx, o, r)
	if err != nil {
		return nil, fmt.Errorf("the draft for %s: %w", e.Name(), err)
	}
	got.InTheWay = nil // there are no rows but those of the proof
	for _, half := range []*draft.Draft{got, second} {
		if half == nil {
			continue
		}
		if err := a.refused(ctx, other, half, "draft TITLE"); err != nil {
			return nil, fmt.Errorf("the draft for %s: %w", e.Name(), err)
		}
	}
	if m := got.Migration; m != nil && unreached != nil {
		m.SetProof("not proved: " + unreached.Error())
		m.Text = migration.WithHead(m)
	}
	return migrationsOf(got, second), nil
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
