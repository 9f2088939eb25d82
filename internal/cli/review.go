package cli

// This file is the command review: what a colleague needs to say yes to a migration.

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"erbario/internal/diagram"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/review"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

func (a *app) reviewCommand() *cli.Command {
	o := reviewOptions{}
	return &cli.Command{
		Name: "review", ArgsUsage: "[ID…]", Usage: "write what a colleague needs to know of migrations",
		Description: "Without ID, all that is pending. Without -o it is Markdown, for a pull request. Locks,\nsizes, times and the rows that block are those of the databases that --database or --all\nnames; it only reads there.\n\n  erbario review -o review.html\n  erbario review label --database production",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "o", Usage: "write it into `FILE`: .md or .html", Destination: &o.out},
			&cli.BoolFlag{Name: "all", Usage: "on all databases of the project", Destination: &o.all},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.project()
			if err != nil {
				return err
			}
			if ext := strings.ToLower(filepath.Ext(o.out)); o.out != "" && ext != ".md" && ext != ".html" {
				return wrongUse("%s: a review is written as .md or .html", o.out)
			}
			if o.all && len(a.databases) > 0 {
				return wrongUse("--all is every database: leave --database out")
			}
			return a.review(ctx, p, o, c.Args().Slice())
		},
	}
}

// reviewOptions are the flags of review.
type reviewOptions struct {
	out string
	all bool
}

// reviewing is a review that is being made.
type reviewing struct {
	*app
	p     *project.Project
	asked []*live // the databases
	state map[*live]*runner.LineStatus
	files map[string][]*migration.Migration // of each engine
	made  review.Review
}

func (a *app) review(ctx context.Context, p *project.Project, o reviewOptions, ids []string) error {
	r := &reviewing{app: a, p: p, state: map[*live]*runner.LineStatus{}, files: map[string][]*migration.Migration{},
		made: review.Review{Project: filepath.Base(p.Dir)}}
	defer func() {
		for _, l := range r.asked {
			l.Close()
		}
	}()
	names := a.databases
	switch {
	case o.all:
		names = p.Names()
	case len(names) == 0 && len(ids) == 0:
		names = []string{p.Default()}
	}
	problems, err := r.open(ctx, names, o.all)
	if err != nil {
		return err
	}
	todo, err := r.todo(ids)
	if err != nil {
		return err
	}
	r.made.Asked = len(names) > 0
	for _, m := range todo {
		one, err := r.migration(ctx, m)
		if err != nil {
			return err
		}
		for _, name := range problems {
			one.Databases = append(one.Databases, &review.Database{Name: name[0], Problem: name[1]})
		}
		r.made.Migrations = append(r.made.Migrations, one)
	}
	return r.write(o.out)
}

// open opens the databases. Of all of them, those that cannot be read are named; of those that somebody asked for
// it is an error.
func (r *reviewing) open(ctx context.Context, names []string, all bool) (problems [][2]string, err error) {
	for _, name := range names {
		l, err := r.app.open(ctx, r.p, name, engine.ReadOnly, false)
		var applied []runner.Applied
		if err == nil {
			r.asked = append(r.asked, l)
			applied, err = runner.History(ctx, l.db)
		}
		if err != nil && all {
			problems = append(problems, [2]string{name, err.Error()})
			continue
		}
		if err != nil {
			return nil, err
		}
		files, err := r.filesOf(l.engine)
		if err != nil {
			return nil, err
		}
		r.state[l] = runner.StatusOf(files, applied, l.engine)
	}
	return problems, nil
}

func (r *reviewing) filesOf(e engine.Engine) ([]*migration.Migration, error) {
	if list := r.files[e.Name()]; list != nil {
		return list, nil
	}
	list, err := r.p.Migrations(e)
	r.files[e.Name()] = list
	return list, err
}

// todo are the migrations that are named, or those that are pending on one of the databases.
func (r *reviewing) todo(ids []string) (out []*migration.Migration, err error) {
	if len(ids) == 0 {
		for _, l := range r.asked {
			if s := r.state[l]; s != nil {
				out = append(out, s.Pending...)
			}
		}
	}
	for _, id := range ids {
		found := false
		var failed error
		for _, e := range r.p.EnginesOfFiles() {
			files, err := r.filesOf(e)
			if err != nil {
				return nil, err
			}
			m, err := migration.Find(files, id)
			if err != nil {
				failed = err
				continue
			}
			out, found = append(out, m), true
		}
		if !found && failed == nil {
			failed = fmt.Errorf("there is no migration yet: write one with erbario draft TITLE")
		}
		if !found {
			return nil, failed
		}
	}
	slices.SortStableFunc(out, func(a, b *migration.Migration) int { return strings.Compare(a.ID, b.ID) })
	same := func(a, b *migration.Migration) bool { return a.ID == b.ID && a.Engine == b.Engine }
	return slices.CompactFunc(out, same), nil
}

// migration is what is to be known of one.
func (r *reviewing) migration(ctx context.Context, m *migration.Migration) (*review.Migration, error) {
	e, err := r.engineOf(m.Engine)
	if err != nil {
		return nil, err
	}
	files, err := r.filesOf(e)
	if err != nil {
		return nil, err
	}
	wanted, _ := declaredQuietly(r.p, e)
	if wanted == nil {
		wanted = &sqlschema.Schema{} // the names of tables do
	}
	at := slices.IndexFunc(files, func(o *migration.Migration) bool { return o.ID == m.ID })
	before, after, err := around(ctx, e, files, files[at], wanted)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	out := review.Of(m, e, before, after)
	out.File = filepath.ToSlash(filepath.Join(project.MigrationsFolder, m.FileName()))
	if err != nil {
		out.Unknown = "What changes is not known: there is no scratch database on which it could be tried: " + err.Error()
	} else {
		changes := diff.Schemas(before, after)
		out.Graph = diagram.Compared(raised(e, before, wanted), raised(e, after, wanted), changes, nil)
		out.Graph.Changed()
		out.Graph.Layout()
	}
	for _, l := range r.asked {
		if s := r.state[l]; s != nil && l.engine.Name() == m.Engine {
			if err := out.On(ctx, l.Name, l.db, l.engine, s, m); err != nil {
				return nil, fmt.Errorf("%s: %w", l.Name, err)
			}
		}
	}
	return out, nil
}

// engineOf is the engine with a name, which knows a server for proofs where the project has one.
func (r *reviewing) engineOf(name string) (engine.Engine, error) {
	for _, e := range r.p.Engines() {
		if e.Name() == name {
			return e, nil
		}
	}
	return r.engines.ByName(name)
}

// write prints the review, or writes it into a file.
func (r *reviewing) write(path string) error {
	if r.json {
		if path == "" {
			return r.document(r.made.Document())
		}
	}
	text := r.made.Markdown()
	if strings.EqualFold(filepath.Ext(path), ".html") {
		text = r.made.HTML()
	}
	if path == "" {
		r.out.raw(strings.TrimSuffix(text, "\n"))
		return nil
	}
	sign, err := writeOwn(path, text, "erbario review", review.Ours)
	if err != nil {
		return err
	}
	if r.json {
		doc := r.made.Document()
		doc["file"], doc["change"] = path, sign
		return r.document(doc)
	}
	r.tellFile(path, sign, plural(len(r.made.Migrations), "migration", "migrations"))
	return nil
}
