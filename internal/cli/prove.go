package cli

// This file is the command prove.

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/project"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

func (a *app) proveCommand() *cli.Command {
	var all bool
	return &cli.Command{
		Name: "prove", ArgsUsage: "[ID]",
		Usage:       "apply, undo and apply again a migration on a scratch database, with rows",
		Description: "Without ID, the newest. The result is written into the file's head. --all runs\nevery migration from an empty database and compares the result with the models\n(exit 3 if they differ, or if two branches forked): a check for CI that needs no\ndatabase.\n\n  erbario prove --all",
		Flags: []cli.Flag{
			&cli.BoolFlag{
				Name:        "all",
				Usage:       "all of them, from an empty database, and the result compared with the models",
				Destination: &all,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := atMost(c, 1); err != nil {
				return err
			}
			if all && c.Args().Present() {
				return wrongUse("--all proves every migration: leave %s out", c.Args().First())
			}
			p, err := a.project()
			if err != nil {
				return err
			}
			list, err := a.enginesToProve(p, all)
			if err != nil {
				return err
			}
			var proved []jsonProof
			var failed, differs error
			for i, e := range list {
				if len(list) > 1 && !a.json {
					if i > 0 {
						a.out.line("")
					}
					a.out.line(a.out.paint(styleHead, e.Name()))
				}
				done, difference, err := a.prove(ctx, p, e, c.Args().First(), all)
				proved = append(proved, done...)
				a.report.proved(p, e, done, err)
				if all && err == nil {
					a.report.agreed(e, difference)
				}
				if err != nil && len(list) > 1 {
					err = fmt.Errorf("%s: %w", e.Name(), err)
				}
				if err != nil && failed == nil {
					failed = err
				} else if err != nil {
					failed = fmt.Errorf("%w; %w", failed, err)
				}
				if difference != nil {
					differs = difference
				}
			}
			if a.json {
				if proved == nil {
					proved = []jsonProof{}
				}
				a.document(map[string]any{"proofs": proved, "models_agree": differs == nil && failed == nil})
			}
			if failed != nil {
				return failed
			}
			return differs
		},
	}
}

// enginesToProve are those whose migrations are proved.
func (a *app) enginesToProve(p *project.Project, all bool) ([]engine.Engine, error) {
	if !all {
		e, err := a.engineToProve(p)
		return []engine.Engine{e}, err
	}
	list := p.Engines()
	for _, e := range p.EnginesOfFiles() {
		if !slices.ContainsFunc(list, func(o engine.Engine) bool { return o.Name() == e.Name() }) {
			list = append(list, e)
		}
	}
	if len(list) == 0 {
		return nil, errors.New("there is no migration, and no database of the project has a URL here, so the engine is unknown")
	}
	return list, nil
}

// engineToProve is the engine of the database that the run works on; where its URL has no
// value here, the one engine that the migrations are for.
func (a *app) engineToProve(p *project.Project) (engine.Engine, error) {
	d, err := p.Database(a.database)
	if err == nil {
		var e engine.Engine
		if e, err = d.Engine(); err == nil {
			return e, nil
		}
	}
	if list := p.EnginesOfFiles(); len(list) == 1 && (a.database == "" || d.Unset != "") {
		return list[0], nil
	}
	return nil, err
}

type jsonProof struct {
	Migration string   `json:"migration"`
	Engine    string   `json:"engine"`
	Proved    bool     `json:"proved"`
	Outcome   string   `json:"outcome"`
	Differ    []string `json:"differ,omitempty"`
}

// prove proves one migration or all, and tells whether the end is as the models
// declare.
func (a *app) prove(ctx context.Context, p *project.Project, e engine.Engine, id string,
	all bool) (out []jsonProof, difference, err error) {
	files, err := p.Migrations(e)
	if err != nil {
		return nil, nil, err
	}
	todo, err := toProve(files, id, all)
	if err != nil {
		return nil, nil, err
	}
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("there is no scratch database for the proof: %w", err)
	}
	defer db.Close()
	declared, err := a.wanted(p, e)
	if err != nil && all {
		return nil, nil, err
	}
	if err := proof.MakeOutside(ctx, db, e, declared, files); err != nil {
		return nil, nil, err
	}
	r := &proving{app: a, engine: e, db: db, files: files, declared: declared}
	if all {
		r.fork = forked(migration.Forks(files, e))
	}
	start, err := r.line(ctx, todo, all)
	switch {
	case err != nil && err == r.fork:
		return r.proofs, r.fork, nil
	case err != nil:
		return r.proofs, nil, err
	case r.failed > 0 && r.fork == nil:
		return r.proofs, nil, fmt.Errorf("%s not proved", plural(r.failed, "migration is", "migrations are"))
	case !all:
		return r.proofs, nil, nil
	case r.fork != nil:
		return r.proofs, r.fork, nil
	}
	difference, err = r.agree(ctx, start)
	return r.proofs, difference, err
}

// toProve are the migrations that are to be proved: all of the files, the one with an id, or
// the newest.
func toProve(files []*migration.Migration, id string, all bool) ([]*migration.Migration, error) {
	if len(files) == 0 && !all {
		return nil, fmt.Errorf("there is no migration yet: write one with erbario draft TITLE")
	}
	todo := files
	if !all {
		m := files[len(files)-1]
		if id != "" {
			var err error
			if m, err = migration.Find(files, id); err != nil {
				return nil, err
			}
		}
		todo = []*migration.Migration{m}
	}
	if gaps := migration.Gaps(files, func(string) bool { return false }); len(gaps) > 0 &&
		(all || slices.ContainsFunc(gaps, func(g *migration.Gap) bool { return g.Migration.ID <= todo[0].ID })) {
		return nil, gaps[0]
	}
	return todo, nil
}

// proving is the proof of an engine's migrations, on a scratch database on which they are run
// one behind the other where somebody has to look at what they make.
type proving struct {
	*app
	engine   engine.Engine
	db       engine.Database
	files    []*migration.Migration
	declared *sqlschema.Schema
	fork     error // two of them that no database takes both; nil: none
	ran      int   // so many of files have been run
	proofs   []jsonProof
	failed   int
}

// run runs the files up to one.
func (r *proving) run(ctx context.Context, until int) error {
	for ; r.ran < until; r.ran++ {
		if err := runner.MakeFound(ctx, r.db, r.files[r.ran]); err != nil {
			return err
		}
		if err := proof.Run(ctx, r.db, r.engine, r.files[r.ran], false); err != nil {
			if r.fork != nil { // most likely for that
				return r.fork
			}
			return fmt.Errorf("%w; what follows cannot be proved", err)
		}
	}
	return nil
}

// line proves those of the files that are in todo, and returns what the last of them made:
// what the migrations so far make is told by the proofs themselves; where it is not, it is
// read off the database on which all of them have been run, and is nil here.
func (r *proving) line(ctx context.Context, todo []*migration.Migration, all bool) (start *sqlschema.Schema, err error) {
	for i, m := range r.files {
		if !slices.Contains(todo, m) {
			start = nil
			continue
		}
		if start == nil || len(m.Found) > 0 {
			if err = r.run(ctx, i); err == nil {
				err = runner.MakeFound(ctx, r.db, m)
			}
			if err == nil {
				start, err = r.db.Inspect(ctx)
			}
			if err != nil {
				return nil, err
			}
		}
		if start, err = r.one(ctx, i, start); err != nil {
			return nil, err
		}
		if !all {
			return start, nil
		}
		if start == nil { // also what cannot be run at all is told here
			if err := r.run(ctx, i+1); err != nil {
				return nil, err
			}
		}
	}
	return start, nil
}

// one proves the i-th of the files, and returns what it made; nil: it is not proved.
func (r *proving) one(ctx context.Context, i int, start *sqlschema.Schema) (after *sqlschema.Schema, err error) {
	m := r.files[i]
	in := proof.Input{Engine: r.engine, Start: start, Migration: m}
	if slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return len(s.Rows) > 0 }) &&
		len(migration.RowsOf(r.files[:i], r.engine)) > 0 {
		if err := r.run(ctx, i); err != nil {
			return nil, err
		}
		in.Live = proof.ReferenceRows(ctx, r.db, r.engine, start, r.files[:i])
	}
	if in.Attached, err = r.attached(ctx, i); err != nil {
		return nil, err
	}
	done := r.slow("proving on a scratch copy…")
	o, err := proof.Prove(ctx, in)
	done()
	if err != nil {
		return nil, err
	}
	m.SetProof(o.Sentence())
	if text := migration.WithHead(m); text != m.Text {
		if err := project.WriteFile(m.Path, text); err != nil {
			return nil, err
		}
		m.Text = text
	}
	r.proofs = append(r.proofs, jsonProof{m.ID, r.engine.Name(), o.Proved(), m.Proof, o.Differ})
	if !r.json {
		r.showProof(m, o)
	}
	if !o.Proved() {
		r.failed++
		return nil, nil
	}
	return o.After, nil
}

// attached are the statements that create what a copy of the schema has not, such as rules and comments, before
// the i-th of the files: where that is about what is declared in SQL.
func (r *proving) attached(ctx context.Context, i int) ([]string, error) {
	m := r.files[i]
	if !slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return len(s.Objects) > 0 }) &&
		(i == 0 || !slices.ContainsFunc(m.Found, func(f migration.Found) bool { return f.Kind != "" })) {
		return nil, nil
	}
	if err := r.run(ctx, i); err != nil {
		return nil, err
	}
	s, err := r.db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	list, err := objects.Read(ctx, r.db, s)
	var out []string
	for _, o := range list {
		for _, c := range o.Make {
			out = append(out, c.SQL)
		}
	}
	return out, err
}

// agree compares what the migrations make with what the models declare; end is what the
// proofs tell of it, or nil.
func (r *proving) agree(ctx context.Context, end *sqlschema.Schema) (difference, err error) {
	var refer []diff.Change
	if withRows(r.declared, r.files) || end == nil || len(r.declared.Objects)+len(end.Others)+len(end.Views) > 0 {
		if err := r.run(ctx, len(r.files)); err != nil {
			return nil, err
		}
		if end, err = r.db.Inspect(ctx); err != nil {
			return nil, err
		}
	}
	if err := engine.Canonicalize(ctx, r.db, r.declared, end); err != nil {
		return nil, err
	}
	if withRows(r.declared, r.files) {
		if refer, err = draft.RowChanges(ctx, r.engine, r.db, end, r.declared, r.files); err != nil {
			return nil, err
		}
	}
	changes, err := r.differences(ctx, end)
	if err != nil {
		return nil, err
	}
	changes = append(changes, refer...)
	if len(changes) == 0 {
		if !r.json {
			r.out.printf("%s applied from an empty database %s the models",
				plural(len(r.files), "migration", "migrations"), oneMany(len(r.files), "matches", "match"))
		}
		return nil, nil
	}
	if !r.json {
		r.out.line("")
		r.out.line(r.out.paint(styleHead, "the models declare more than the migrations create"))
		r.changes(changes, nil)
		r.next("erbario draft TITLE")
	}
	return &exitError{
		code: exitDiffers,
		err: fmt.Errorf("the result of the %s migrations differs from the models in %s", r.engine.Name(),
			plural(len(changes), "change", "changes")),
	}, nil
}

// withRows tells whether models or migrations have reference rows.
func withRows(declared *sqlschema.Schema, files []*migration.Migration) bool {
	return slices.ContainsFunc(declared.Tables, func(t *sqlschema.Table) bool { return t.Rows() != nil }) ||
		slices.ContainsFunc(files, func(m *migration.Migration) bool {
			return slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return len(s.Rows) > 0 })
		})
}

// forked is the first of some forks as an error with exit code 3: no database takes both of
// the two.
func forked(forks []migration.Fork) error {
	if len(forks) == 0 {
		return nil
	}
	return &exitError{code: exitDiffers, err: forks[0]}
}

func (a *app) showProof(m *migration.Migration, o *proof.Outcome) {
	sign := "+"
	if !o.Proved() {
		sign = "-"
	}
	a.out.line(a.out.sign(sign, m.ID))
	a.out.line("  " + clean(o.Sentence()))
	for _, d := range o.Differ[min(1, len(o.Differ)):] {
		a.out.line("  " + clean(d))
	}
}

// differences are how the tables that are declared, and what is declared in SQL, differ from what the
// migrations make.
func (r *proving) differences(ctx context.Context, end *sqlschema.Schema) ([]diff.Change, error) {
	tables := func(wanted *sqlschema.Schema) []diff.Change {
		return slices.DeleteFunc(diff.Schemas(end, wanted), draft.Undeclarable(r.engine, r.files))
	}
	line := migration.ObjectsOf(r.files, r.engine)
	if len(r.declared.Objects)+len(line) == 0 {
		return tables(r.declared), nil
	}
	there, err := objects.Read(ctx, r.db, end)
	if err != nil {
		return nil, err
	}
	made, err := objects.Make(ctx, r.engine, r.declared, end)
	if err != nil {
		return nil, err
	}
	if len(made.Failed) > 0 {
		return nil, made.Failed[0]
	}
	changes := slices.DeleteFunc(tables(made.With(r.declared)),
		func(c diff.Change) bool { return objects.Drops(c, made.Objects) })
	for _, c := range objects.Compare(there, made.Objects, line, nil) {
		changes = append(changes, c.Diff(r.declared.Objects))
	}
	return changes, nil
}
