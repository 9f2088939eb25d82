package cli

// This file is the command prove.

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
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
			var list []engine.Engine
			if all {
				list = p.Engines()
				for _, e := range p.EnginesOfFiles() {
					if !slices.ContainsFunc(list, func(o engine.Engine) bool { return o.Name() == e.Name() }) {
						list = append(list, e)
					}
				}
				if len(list) == 0 {
					return fmt.Errorf(
						"there is no migration, and no database of the project has a URL here, so the engine is unknown",
					)
				}
			} else {
				e, err := a.engineToProve(p)
				if err != nil {
					return err
				}
				list = []engine.Engine{e}
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
	if len(files) == 0 && !all {
		return nil, nil, fmt.Errorf("there is no migration yet: write one with erbario draft TITLE")
	}
	todo := files
	if !all {
		m := files[len(files)-1]
		if id != "" {
			if m, err = migration.Find(files, id); err != nil {
				return nil, nil, err
			}
		}
		todo = []*migration.Migration{m}
	}
	if gaps := migration.Gaps(files, func(string) bool { return false }); len(gaps) > 0 &&
		(all || slices.ContainsFunc(gaps, func(g *migration.Gap) bool { return g.Migration.ID <= todo[0].ID })) {
		return nil, nil, gaps[0]
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
	failed := 0
	var fork error
	if all {
		fork = forked(migration.Forks(files, e))
	}
	// What the migrations so far make is told by the proofs themselves; where it is not, it
	// is read off a database on which all of them have been run.
	var start *sqlschema.Schema
	ran := 0
	run := func(until int) error {
		for ; ran < until; ran++ {
			if err := runner.MakeFound(ctx, db, files[ran]); err != nil {
				return err
			}
			if err := proof.Run(ctx, db, e, files[ran], false); err != nil {
				if fork != nil { // most likely for that
					return fork
				}
				return fmt.Errorf("%w; what follows cannot be proved", err)
			}
		}
		return nil
	}
	for i, m := range files {
		if slices.Contains(todo, m) && (start == nil || len(m.Found) > 0) {
			if err = run(i); err == nil {
				err = runner.MakeFound(ctx, db, m)
			}
			if err == nil {
				start, err = db.Inspect(ctx)
			}
			if err != nil && err == fork {
				return out, fork, nil
			} else if err != nil {
				return out, nil, err
			}
		}
		var after *sqlschema.Schema
		if slices.Contains(todo, m) {
			in := proof.Input{Engine: e, Start: start, Migration: m}
			if slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return len(s.Rows) > 0 }) &&
				len(migration.RowsOf(files[:i], e)) > 0 {
				if err := run(i); err != nil && err == fork {
					return out, fork, nil
				} else if err != nil {
					return out, nil, err
				}
				in.Live = proof.ReferenceRows(ctx, db, e, start, files[:i])
			}
			done := a.slow("proving on a scratch copy…")
			o, err := proof.Prove(ctx, in)
			done()
			if err != nil {
				return out, nil, err
			}
			m.SetProof(o.Sentence())
			if text := migration.WithHead(m); text != m.Text {
				if err := project.WriteFile(m.Path, text); err != nil {
					return out, nil, err
				}
				m.Text = text
			}
			ok := o.Proved()
			if ok {
				after = o.After
			}
			out = append(out, jsonProof{m.ID, e.Name(), ok, m.Proof, o.Differ})
			if !ok {
				failed++
			}
			if !a.json {
				a.showProof(m, o)
			}
			if !all {
				break
			}
		}
		if after == nil && slices.Contains(todo, m) { // also what cannot be run at all is told here
			if err := run(i + 1); err != nil && err == fork {
				return out, fork, nil
			} else if err != nil {
				return out, nil, err
			}
		}
		start = after
	}
	if failed > 0 && fork == nil {
		return out, nil, fmt.Errorf("%s not proved", plural(failed, "migration is", "migrations are"))
	}
	if !all {
		return out, nil, nil
	}
	if fork != nil {
		return out, fork, nil
	}
	end := start
	var refer []diff.Change
	if withRows(declared, files) || end == nil || len(end.Others)+len(end.Views) > 0 {
		if err := run(len(files)); err != nil {
			return out, nil, err
		}
		if end, err = db.Inspect(ctx); err != nil {
			return out, nil, err
		}
	}
	if err := db.Canonicalize(ctx, declared, end); err != nil {
		return out, nil, err
	}
	if withRows(declared, files) {
		if refer, err = draft.RowChanges(ctx, e, db, end, declared, files); err != nil {
			return out, nil, err
		}
	}
	changes := append(diff.Schemas(end, declared), refer...)
	if len(changes) == 0 {
		if !a.json {
			a.out.printf("%s applied from an empty database %s the models",
				plural(len(files), "migration", "migrations"), oneMany(len(files), "matches", "match"))
		}
		return out, nil, nil
	}
	if !a.json {
		a.out.line("")
		a.out.line(a.out.paint(styleHead, "the models declare more than the migrations create"))
		a.changes(changes, nil)
		a.next("erbario draft TITLE")
	}
	return out, &exitError{
		code: exitDiffers,
		err: fmt.Errorf("the result of the %s migrations differs from the models in %s", e.Name(),
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
