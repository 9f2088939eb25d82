package cli

// This file is the command apply, and what it shares with undo: a run on each of several databases,
// and what a run has done.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/declare"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

type applyOptions struct {
	to             string
	dryRun, create bool
	atOnce         bool // what a migration would wait for is not asked
	stoodAt        string
	wait           time.Duration
	onFailure      string
	answers        map[string]string // of parameters, by table.column
	takeOver       []string          // what was added by hand and gives its values to what a migration adds
}

// onFailure is the flag that says what becomes of finished steps when one fails.
func onFailure(to *string) cli.Flag {
	return &cli.StringFlag{
		Name:        "on-failure",
		Usage:       "if a migration that is not one transaction fails: undo its finished steps, or stop: `back|stop`",
		Value:       "back",
		Destination: to,
		Validator: func(s string) error {
			if s != "back" && s != "stop" {
				return fmt.Errorf("write back or stop, not %q", s)
			}
			return nil
		},
	}
}

func (a *app) applyCommand() *cli.Command {
	var o applyOptions
	f := answerFlags{engines: a.engines}
	var direct, all bool
	return &cli.Command{
		Name: "apply", Usage: "apply the pending migrations",
		Description: "Values that differ per database are read from --answers FILE, or asked at the\nterminal.\n\n--direct changes a throwaway database to match the models without writing a\nmigration; it asks what a draft would ask, and takes the same answers.\n\n  erbario apply --dry-run\n  erbario apply --to first-sheets",
		Flags: append([]cli.Flag{
			&cli.StringFlag{
				Name:        "to",
				Usage:       "stop after this migration (any unique part of its `ID`)",
				Destination: &o.to,
			},
			&cli.BoolFlag{
				Name:        "dry-run",
				Usage:       "show each step and check every requirement; read only",
				Destination: &o.dryRun,
			},
			&cli.BoolFlag{Name: "create", Usage: "create the database if it does not exist", Destination: &o.create},
			&cli.DurationFlag{
				Name:        "wait",
				Usage:       "how long to wait for others",
				Value:       10 * time.Minute,
				Destination: &o.wait,
			},
			onFailure(&o.onFailure),
			&cli.BoolFlag{
				Name:        "at-once",
				Usage:       "apply the second of a staged pair without waiting for old writers",
				Destination: &o.atOnce,
			},
			&cli.StringSliceFlag{
				Name:        "take-over",
				Usage:       "a table, or TABLE.COLUMN, that exists here already and that a migration adds: keep its values: `NAME`",
				Destination: &o.takeOver,
			},
			&cli.BoolFlag{Name: "all", Usage: "all databases of the project that are not protected", Destination: &all},
			&cli.BoolFlag{
				Name:        "direct",
				Usage:       "without a migration: change a throwaway database to match the models",
				Destination: &direct,
			},
		}, f.flags()...),
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.projectFor(c, 0)
			if err != nil {
				return err
			}
			if all && (direct || len(a.databases) > 0) {
				return wrongUse("--all works on every database that is not protected: leave out --%s",
					map[bool]string{true: "direct", false: "database"}[direct])
			}
			if direct && len(a.databases) > 1 {
				return wrongUse("--direct works on one database")
			}
			if direct {
				return a.direct(ctx, p, &f, o)
			}
			if o.answers, err = f.values(); err != nil {
				return err
			}
			names := a.eachName(p)
			if all {
				if names, err = unprotected(p); err != nil {
					return err
				}
			}
			return a.onEach(ctx, p, names, func(name string) error { return a.apply(ctx, p, name, o) })
		},
	}
}

// unprotected are the names of all databases that are not protected.
func unprotected(p *project.Project) ([]string, error) {
	var out []string
	for _, name := range p.Names() {
		if d, err := p.Database(name); err != nil {
			return nil, err
		} else if !d.Protected {
			out = append(out, name)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("--all: every database of the project is protected")
	}
	return out, nil
}

// onEach works on the database that was named, or on all that go together; it
// stops at the first that fails. In JSON several are one document, which has all of them:
// also the one that failed, and those that were not reached.
func (a *app) onEach(ctx context.Context, p *project.Project, names []string, f func(name string) error) error {
	if len(names) == 1 {
		return f(names[0])
	}
	var list []map[string]any
	var failed error
	for _, name := range names {
		one := map[string]any{"database": name}
		if failed != nil {
			one["reached"] = false
			if !a.json {
				a.err.printf("%s was not reached", name)
			}
		} else {
			a.doc = nil
			if failed = f(name); failed != nil {
				code, message, _ := ended(ctx, failed)
				maps.Copy(one, failure(code, message))
			}
			maps.Copy(one, a.doc)
		}
		list = append(list, one)
	}
	a.doc = map[string]any{"databases": list}
	return failed
}

// eachName are the databases that a run works on: those that were named, or all
// that go together.
func (a *app) eachName(p *project.Project) []string {
	if len(a.databases) > 1 {
		var out []string
		for _, name := range a.databases {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
		return out
	}
	if _, set := p.Getenv("ERBARIO_DATABASE"); a.database == "" && !set && len(p.Settings.Project.Together) > 1 {
		return p.Settings.Project.Together
	}
	return []string{a.database}
}

type jsonRun struct {
	Migration string         `json:"migration"`
	Took      int64          `json:"took_ms"`
	Restored  []jsonRestored `json:"restored,omitempty"`
	Stayed    []jsonStayed   `json:"still_kept,omitempty"`
	Kept      []jsonAside    `json:"kept,omitempty"`
}

// jsonAside are rows whose values an undo keeps: of a table, or of a column.
type jsonAside struct {
	Of   string `json:"of"`
	Rows int64  `json:"rows"`
}

type jsonRestored struct {
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
	Left  int64  `json:"remaining,omitempty"`
	In    string `json:"remaining_in,omitempty"`
}

func jsonRunOf(r runner.Run) jsonRun {
	out := jsonRun{Migration: r.ID, Took: r.Took.Milliseconds()}
	for _, b := range r.Restored {
		j := jsonRestored{Table: b.Table, Rows: b.Rows, Left: b.Left}
		if b.Left > 0 {
			j.In = b.In
		}
		out.Restored = append(out.Restored, j)
	}
	return out
}

// jsonStayed are reference rows that could not go.
type jsonStayed struct {
	Table string   `json:"table"`
	Keys  []string `json:"keys"`
}

func oneMany(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// restored tells what came back from what was kept.
func (a *app) restored(r runner.Run) {
	for _, b := range r.Restored {
		if b.Rows > 0 {
			a.out.printf("    %s of %s %s restored from what was kept", rows(b.Rows), b.Table,
				oneMany(int(b.Rows), "is", "are"))
		}
		if b.Whole {
			a.out.printf("    values of %s that have no column any longer remain in %s", b.Table, b.In)
		} else if b.Left > 0 {
			a.out.printf("    %s kept from %s match no row any longer; they remain in %s",
				plural(int(b.Left), "value", "values"), b.Table, b.In)
		}
	}
}

func (a *app) apply(ctx context.Context, p *project.Project, name string, o applyOptions) error {
	mode := engine.ReadWrite
	if o.dryRun {
		mode = engine.ReadOnly
	}
	d, err := p.Database(name)
	if err != nil {
		return err
	}
	e, err := d.Engine()
	if err != nil {
		return err
	}
	files, err := p.Migrations(e) // read before the database is made
	if err != nil {
		return err
	}
	if err := asksFor(files, o.answers); err != nil {
		return err
	}
	l, err := a.openWaiting(ctx, p, name, mode, o.create, o.wait)
	if err != nil {
		return err
	}
	defer l.Close()
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return err
	}
	status := runner.StatusOf(files, applied, e)
	o.stoodAt = status.At()
	a.tellNewer(l.Name, status.Newer)
	if o.dryRun {
		if half, err := a.half(ctx, l); err != nil || half != nil {
			return errors.Join(err, a.dryHalf(ctx, l, half, false))
		}
		return a.dryRun(ctx, l, status, o.to)
	}
	waiting, err := upTo(status.Pending, files, o.to)
	if err == nil {
		err = a.outsideThere(ctx, p, l, waiting)
	}
	if err == nil {
		err = a.doubtful(l, waiting)
	}
	if err != nil {
		return err
	}
	r := &applying{app: a, p: p, l: l, o: o, files: files, status: status, runs: []jsonRun{}, given: newGiven(o.answers)}
	if err := r.run(ctx, waiting); err != nil {
		return err
	}
	r.unused()
	return r.tell(ctx)
}

// asksFor refuses an answer to what no migration asks each database for.
func asksFor(files []*migration.Migration, answers map[string]string) error {
	for _, column := range slices.Sorted(maps.Keys(answers)) {
		if !slices.ContainsFunc(files, func(m *migration.Migration) bool {
			return slices.ContainsFunc(m.Parameters,
				func(x engine.Parameter) bool { return x.For == column && !x.Undo })
		}) {
			return fmt.Errorf("--fill %s matches no question: no migration asks each database for %s", column, column)
		}
	}
	return nil
}

// applying is one run of apply on one database.
type applying struct {
	*app
	p      *project.Project
	l      *live
	o      applyOptions
	files  []*migration.Migration
	status *runner.LineStatus
	given  *given
	done   []*migration.Migration
	runs   []jsonRun
	stayed []jsonStayed     // of the migration that runs
	waits  *runner.InTheWay // all is done that can be: the next one waits
}

// applied tells of a migration that was applied.
func (r *applying) applied(run runner.Run) {
	out := jsonRunOf(run)
	out.Stayed = r.stayed
	r.given.done(run)
	r.runs = append(r.runs, out)
	if !r.json {
		r.out.line(r.out.sign("+", run.ID) + "  " + plural(len(run.Steps), "step", "steps") + ", " + spent(run.Took))
		r.restored(run)
		for _, x := range r.stayed {
			r.out.printf("    %s of %s %s, since others refer to %s: %s",
				plural(len(x.Keys), "reference row", "reference rows"), x.Table,
				oneMany(len(x.Keys), "stays", "stay"), oneMany(len(x.Keys), "it", "them"),
				cell(strings.Join(x.Keys, ", ")))
		}
	}
	r.stayed = nil
}

// run applies the migrations, and asks what each database is to say where there is somebody
// to ask.
func (r *applying) run(ctx context.Context, waiting []*migration.Migration) error {
	options := runner.Options{
		Stayed:   func(table string, keys []string) { r.stayed = append(r.stayed, jsonStayed{table, keys}) },
		Answered: r.given.rows,
		To:       r.o.to,
		Wait:     r.o.wait,
		Stop:     r.o.onFailure == "stop",
		Resumed:  r.resumed,
		Proved:   r.l.Protected,
		Answers:  r.o.answers,
		Home:     r.l.Throwaway,
		Waits:    !r.o.atOnce,
		Done:     r.applied,
	}
	if len(r.o.takeOver) > 0 {
		options.Room = r.room(ctx, r.l, waiting, r.o.takeOver)
		if options.Room == nil {
			return fmt.Errorf("--take-over %s matches nothing: no pending migration adds it",
				strings.Join(r.o.takeOver, ", "))
		}
	}
	watching := r.watch(r.l)
	options.Progress = watching.show
	var err error
	r.done, err = runner.Apply(ctx, r.l.db, r.l.engine, r.files, options)
	var open *runner.NeedsAnswers
	for errors.As(err, &open) && r.interactive() {
		if options.Answers, err = r.askNeeds(ctx, open, options.Answers); err != nil {
			return err
		}
		var more []*migration.Migration
		more, err = runner.Apply(ctx, r.l.db, r.l.engine, r.files, options)
		r.done = append(r.done, more...)
	}
	watching.end()
	var waits *runner.InTheWay
	if errors.As(err, &waits) && waits.Wait && r.o.to == "" && newest(r.files, waits.Migration) {
		r.waits, err = waits, nil // a deployment goes on, and this with a later one
	}
	if more, seen := r.afterLoss(ctx, err); seen != nil {
		for _, m := range more {
			r.runs = append(r.runs, jsonRun{Migration: m.ID})
		}
		r.done, err = append(r.done, more...), seen.err
	}
	if err != nil {
		return r.runFailed(r.l, err, len(r.done))
	}
	return nil
}

// unused warns of answers that nothing took.
func (r *applying) unused() {
	unused := r.given.unused()
	if r.json && len(unused) > 0 {
		r.document(map[string]any{"unused_answers": unused})
	}
	for _, u := range unused {
		r.warn("--fill %s was not used: %s", u.For, u.Why)
	}
}

// tell tells where the database is now.
func (r *applying) tell(ctx context.Context) error {
	undrafted := ""
	if len(r.done) == 0 && r.waits == nil {
		n, mistakes := r.undrafted(ctx, r.p, r.l)
		switch {
		case mistakes:
			undrafted = "; the models have errors: erbario check lists them"
		case n > 0:
			undrafted = fmt.Sprintf("; the models have %s not drafted", plural(n, "change that is", "changes that are"))
		}
		if r.json && n > 0 {
			r.document(map[string]any{"undrafted": n})
		}
	}
	at := r.status.At()
	if r.json {
		doc := map[string]any{"database": r.l.Name, "applied": r.runs, "current": lastOr(r.done, at)}
		if r.waits != nil {
			doc["waits"] = jsonWaitsOf(r.waits)
		}
		return r.document(doc)
	}
	if r.waits != nil {
		r.waiting(r.out, r.waits)
	}
	switch {
	case len(r.done) > 0:
		r.out.printf("%s is at %s", r.l.Name, r.done[len(r.done)-1].ID)
	case r.waits != nil:
		r.out.printf("%s is at %s", r.l.Name, cmp.Or(at, "the start"))
	default:
		r.out.printf("%s: up to date (nothing pending)%s", r.l.Name, undrafted)
		if undrafted != "" {
			r.next("erbario diff")
		}
	}
	return nil
}

// undrafted counts the changes that the models have and no migration. 0 where it
// cannot be known.
func (a *app) undrafted(ctx context.Context, p *project.Project, l *live) (n int, mistakes bool) {
	wanted, mistakes := declaredQuietly(p, l.engine)
	if wanted == nil || ctx.Err() != nil {
		return 0, mistakes
	}
	s, err := look(ctx, l, func() (*sqlschema.Schema, []*migration.Migration, error) {
		files, err := p.Migrations(l.engine)
		return wanted, files, err
	})
	if err != nil {
		return 0, false
	}
	list, err := s.Undrafted(ctx)
	if err != nil {
		return 0, false
	}
	return len(list), false
}

// declaredQuietly is what the models declare; nil where they have mistakes, or cannot be
// read: for what has another purpose than to tell them.
func declaredQuietly(p *project.Project, e engine.Engine) (wanted *sqlschema.Schema, mistakes bool) {
	models, mistakes := modelsQuietly(p, e)
	if models != nil {
		wanted, _ = e.DDL().Lower(models)
	}
	return wanted, mistakes
}

// modelsQuietly is the same, before the engine has put it into its words.
func modelsQuietly(p *project.Project, e engine.Engine) (models *schema.Schema, mistakes bool) {
	files, _, diags, err := p.Parse()
	if err != nil {
		return nil, false
	}
	d, more := declare.Resolve(files, p.Rules(), e.Name())
	if lang.Errors(diags) || lang.Errors(more) {
		return nil, true
	}
	return d.Schema, false
}

// room gives what makes room for the migrations that add what was added by hand; nil: not
// all of it is added by any.
func (a *app) room(ctx context.Context, l *live, waiting []*migration.Migration,
	names []string) func(*migration.Migration) error {
	of := map[string][]string{}
	for _, name := range names {
		i := slices.IndexFunc(waiting, func(m *migration.Migration) bool {
			return slices.ContainsFunc(m.Steps,
				func(s migration.Step) bool { return slices.Contains(s.UndoLoses, engine.ReadLoss(name)) })
		})
		if i < 0 {
			return nil
		}
		of[waiting[i].ID] = append(of[waiting[i].ID], name)
	}
	return func(m *migration.Migration) error {
		if of[m.ID] == nil {
			return nil
		}
		return draft.TakeOver(ctx, l.db, l.engine, m, of[m.ID])
	}
}
