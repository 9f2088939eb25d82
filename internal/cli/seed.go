package cli

// This file is the command seed: it fills a database, writes the script that
// would, shows the first rows, or takes out what it made.

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/project"
	"erbario/internal/script"
	"erbario/internal/seed"
)

type seedFlags struct {
	random   uint64
	today    bool
	conflict string
	sql      bool
	engine   string
	// generators lists them, and runs no seed.
	generators bool
	preview    int64
	remove     bool
	wait       time.Duration
	locale     string // of the project
}

func (a *app) seedCommand() *cli.Command {
	f := &seedFlags{}
	return &cli.Command{
		Name: "seed", ArgsUsage: "[NAME]", Usage: "fill a database from a seed; without a name, list the seeds",
		Description: "The same seed, models and --random give the same rows, on every engine. Seeding again\ncreates only what is missing. Every run is recorded, so that --remove deletes exactly\nthe rows that it created.\n\n  erbario seed demo --preview 5\n  erbario seed demo --database test",
		Flags:       f.flags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			if f.generators {
				if err := atMost(c, 0); err != nil {
					return err
				}
				a.listGenerators()
				return nil
			}
			p, err := a.projectFor(c, 1)
			if err != nil {
				return err
			}
			return a.seed(ctx, p, c.Args().First(), f)
		},
	}
}

// flags are those of the command.
func (f *seedFlags) flags() []cli.Flag {
	return []cli.Flag{
		&cli.Uint64Flag{
			Name:        "random",
			Usage:       "random seed: another number gives other rows: `N`",
			Destination: &f.random,
			Value:       1,
		},
		&cli.BoolFlag{
			Name:        "today",
			Usage:       "base dates on today instead of " + seed.FixedDay,
			Destination: &f.today,
		},
		&cli.StringFlag{
			Name:        "on-conflict",
			Usage:       "what to do with existing rows: skip, replace or fail",
			Destination: &f.conflict,
			Value:       "skip",
		},
		&cli.Int64Flag{
			Name:        "preview",
			Usage:       "show the first `N` rows of each model; no database needed",
			Destination: &f.preview,
		},
		&cli.BoolFlag{Name: "sql", Usage: "write the script for the database's own client", Destination: &f.sql},
		&cli.StringFlag{
			Name:        "engine",
			Usage:       "with --sql: for this `ENGINE`, and an empty database",
			Destination: &f.engine,
		},
		&cli.BoolFlag{
			Name:        "generators",
			Usage:       "list the generators, and the field names that are recognised",
			Destination: &f.generators,
		},
		&cli.BoolFlag{
			Name:        "remove",
			Usage:       "delete the rows that the runs of this seed created",
			Destination: &f.remove,
		},
		&cli.DurationFlag{
			Name:        "wait",
			Usage:       "how long to wait for the database: `TIME`",
			Destination: &f.wait,
			Value:       time.Minute,
		},
	}
}

// seed does with a seed what the flags say; name "": it lists the seeds.
func (a *app) seed(ctx context.Context, p *project.Project, name string, f *seedFlags) error {
	f.locale = p.Settings.Seed.Locale
	if !slices.Contains([]string{"skip", "replace", "fail"}, f.conflict) {
		return wrongUse("--on-conflict is skip, replace or fail, not %q", f.conflict)
	}
	ways := 0
	for _, on := range []bool{f.sql, f.remove, f.preview != 0} {
		if on {
			ways++
		}
	}
	switch {
	case ways > 1:
		return wrongUse("--sql, --preview and --remove cannot be used together")
	case f.preview < 0:
		return wrongUse("--preview takes a number of rows, such as 5")
	case f.engine != "" && !f.sql:
		return wrongUse("--engine needs --sql")
	}
	if name == "" {
		if ways > 0 {
			return wrongUse("erbario seed: give the name of a seed")
		}
		return a.listSeeds(p)
	}
	switch {
	case f.preview > 0:
		return a.previewSeed(ctx, p, name, f)
	case f.sql:
		return a.scriptSeed(ctx, p, name, f)
	case f.remove:
		return a.removeSeed(ctx, p, name, f)
	}
	return a.runSeed(ctx, p, name, f)
}

// seeds reads the models and gives one seed of them.
func (a *app) seeds(p *project.Project, e engine.Engine, name string) (*declare.Declared, *declare.Seed, error) {
	d, err := a.models(p, e)
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for _, s := range d.Seeds {
		if s.Name == name {
			return d, s, nil
		}
		names = append(names, s.Name)
	}
	switch {
	case len(names) == 0:
		return nil, nil, fmt.Errorf(
			"the models have no seed: a block such as seed %s, with lines such as Specimen 500 under it, declares one",
			name,
		)
	case lang.DidYouMean(name, names) != "":
		return nil, nil, fmt.Errorf("there is no seed %s; %s", name, lang.DidYouMean(name, names))
	}
	return nil, nil, fmt.Errorf("there is no seed %s; there is %s", name, strings.Join(names, ", "))
}

func (f *seedFlags) options(ground *seed.Existing) seed.Options {
	o := seed.Options{Random: f.random, Existing: ground, Locale: f.locale}
	if f.today {
		o.Today = time.Now()
	}
	return o
}

// anyEngine is the engine of the database that the run works on, or of any of the
// project where that cannot be told: rows are the same for all.
func (a *app) anyEngine(p *project.Project) (engine.Engine, error) {
	d, err := p.Database(a.database)
	if err == nil {
		if e, err := d.Engine(); err == nil || d.Unset == "" {
			return e, err
		}
	} else if a.database != "" {
		return nil, err
	}
	if list := append(p.Engines(), p.EnginesOfFiles()...); len(list) > 0 {
		return list[0], nil
	}
	return a.engines[0], nil
}

// mistaken shows the mistakes of a seed, and gives the error that they were told.
func (a *app) mistaken(p *project.Project, list []lang.Diagnostic, what string) error {
	_, src, _, err := p.Parse()
	if err != nil {
		return err
	}
	if a.json {
		a.document(map[string]any{"diagnostics": jsonDiagnostics(list)})
	}
	a.diagnostics(list, src)
	return errors.New(what)
}

func (a *app) scriptSeed(ctx context.Context, p *project.Project, name string, f *seedFlags) error {
	if a.json {
		return wrongUse("--sql writes a script, and cannot be used with --format json")
	}
	e, err := a.anyEngine(p)
	if err != nil {
		return err
	}
	other := f.engine != ""
	if other {
		if e, err = a.engines.ByName(f.engine); err != nil {
			return wrongUse("--engine: %v", err)
		}
		// One of the project's knows the server for proofs, where the empty database can be.
		for _, o := range p.Engines() {
			if o.Name() == f.engine {
				e = o
			}
		}
	}
	d, s, err := a.seeds(p, e, name)
	if err != nil {
		return err
	}
	wanted, _ := e.DDL().Lower(d.Schema)
	var db engine.Database
	if !other {
		l, err := a.open(ctx, p, a.database, engine.ReadOnly, false)
		if err != nil {
			return err
		}
		defer l.Close()
		if !l.absent {
			db = l.db
		}
	}
	if db == nil { // an empty one with the tables stands for it
		if db, err = e.Scratch(ctx); err != nil {
			return err
		}
		defer db.Close()
		if err := engine.FillWhole(ctx, db, e.DDL().CreateAll(wanted)); err != nil {
			return err
		}
	}
	return a.seedFailed(p, name, seed.Script(ctx, script.New(a.out.w, db, e), e, d, s, f.run()))
}

func (f *seedFlags) run() seed.RunOptions {
	return seed.RunOptions{Options: f.options(nil), Conflict: seed.Conflict(f.conflict), Wait: f.wait, Now: time.Now()}
}

// seedFailed shows why a seed came to no end.
func (a *app) seedFailed(p *project.Project, name string, err error) error {
	var plan *seed.PlanError
	var half *seed.HalfwayError
	halfway := errors.As(err, &half)
	if errors.As(err, &plan) {
		told := a.mistaken(p, plan.Mistakes, fmt.Sprintf("the seed %s was not run: nothing was changed", name))
		if !halfway {
			return told
		}
	}
	if halfway {
		why := half.Err
		if errors.Is(why, context.Canceled) {
			why = errors.New("stopped")
		}
		return &exitError{
			code: exitHalfway,
			err: fmt.Errorf(
				"%w\n%s of %s rows are stored: erbario seed %s resumes from them, erbario seed %s --remove deletes them",
				why, thousands(half.Done), thousands(half.Total), name, name),
		}
	}
	return err
}

func (a *app) runSeed(ctx context.Context, p *project.Project, name string, f *seedFlags) error {
	target, err := p.Database(a.database)
	if err != nil {
		return err
	}
	if err := a.confirmOn(target, "seeding"); err != nil {
		return err
	}
	l, err := a.openWaiting(ctx, p, a.database, engine.ReadWrite, false, f.wait)
	if err != nil {
		return err
	}
	defer l.Close()
	d, s, err := a.seeds(p, l.engine, name)
	if err != nil {
		return err
	}
	out, err := a.fill(ctx, p, l, d, s, f)
	if err != nil {
		return err
	}
	if a.json {
		return a.document(seedDocument(l.Name, name, f.random, out))
	}
	a.seeded(l.Name, name, out)
	return nil
}

// seedMemory is what a run may take before it collects more often, in bytes: rows are
// short-lived, and collecting them less often is a fifth of the time.
const seedMemory = 100 << 20

// fill loads a seed into an open database, with its progress.
func (a *app) fill(ctx context.Context, p *project.Project, l *live, d *declare.Declared, s *declare.Seed,
	f *seedFlags) (*seed.Outcome, error) {
	// A run may be long, and most of what it makes is gone at once.
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(seedMemory))
	defer debug.SetGCPercent(debug.SetGCPercent(1000))
	o := f.run()
	bars := a.watchSeed()
	o.Report = bars.report
	out, err := seed.Run(ctx, l.db, l.engine, d, s, o)
	bars.end()
	return out, a.seedFailed(p, s.Name, err)
}

func seedDocument(database, name string, random uint64, out *seed.Outcome) map[string]any {
	tables := []map[string]any{}
	for _, t := range out.Tables {
		tables = append(tables, map[string]any{
			"model": t.Table.Model, "table": t.Table.Name, "created": t.Made, "found": t.Found, "replaced": t.Replaced,
			"shared": t.Shared,
		})
	}
	return map[string]any{"database": database, "seed": name, "random": random, "tables": tables}
}

// seeded shows what a run did.
func (a *app) seeded(database, name string, out *seed.Outcome) {
	table := [][]string{{"model", "created", "found", "replaced"}}
	var made, touched, shared int64
	for _, t := range out.Tables {
		shared += t.Shared
		made += t.Made
		touched += t.Made + t.Replaced
		table = append(table, []string{t.Table.Model, thousands(t.Made), thousands(t.Found), thousands(t.Replaced)})
	}
	a.numbers(table)
	if shared > 0 {
		a.out.printf("%s of the rows found %s created by a run with another --random: both have the same unique values",
			thousands(shared), oneMany(int(shared), "was", "were"))
	}
	if touched == 0 {
		a.out.printf("seed %[2]s: %[1]s has every row already, nothing was added", database, name)
		return
	}
	a.out.printf("seed %[4]s: %[2]s added to %[1]s in %[3]s", database, rows(made), spent(out.Took), name)
	on := ""
	if a.database != "" {
		on = " --database " + a.database
	}
	a.next(
		fmt.Sprintf("erbario look %s%s, or erbario seed %s --remove%s to delete them",
			out.Tables[len(out.Tables)-1].Table.Name, on, name, on),
	)
}

// numbers shows a table of names and numbers, which stand to the right.
func (a *app) numbers(table [][]string) {
	for j := 1; j < len(table[0]); j++ {
		w := 0
		for _, r := range table {
			w = max(w, len(r[j]))
		}
		for _, r := range table {
			r[j] = strings.Repeat(" ", w-len(r[j])) + r[j]
		}
	}
	for i, line := range columns(table) {
		if i == 0 {
			line = a.out.paint(styleDim, line)
		}
		a.out.line(line)
	}
}

func (a *app) removeSeed(ctx context.Context, p *project.Project, name string, f *seedFlags) error {
	target, err := p.Database(a.database)
	if err != nil {
		return err
	}
	if err := a.confirmOn(target, "deleting the rows of a seed"); err != nil {
		return err
	}
	l, err := a.openWaiting(ctx, p, a.database, engine.ReadWrite, false, f.wait)
	if err != nil {
		return err
	}
	defer l.Close()
	out, err := seed.Remove(ctx, l.db, l.engine, name, f.wait)
	if err != nil {
		return err
	}
	left := int64(0)
	if a.json {
		tables := []map[string]any{}
		for _, r := range out {
			tables = append(tables, map[string]any{
				"table":   r.Table,
				"removed": r.Gone,
				"left":    r.Left,
				"because": append([]string{}, r.Because...),
			})
		}
		return a.document(map[string]any{"database": l.Name, "seed": name, "tables": tables})
	}
	table := [][]string{{"table", "removed", "left"}}
	for _, r := range out {
		table = append(table, []string{r.Table, thousands(r.Gone), thousands(r.Left)})
		left += r.Left
	}
	a.numbers(table)
	for _, r := range out {
		if r.Left > 0 {
			a.warn("%s of %s had to be left: rows of %s that this seed did not create refer to them", rows(r.Left),
				r.Table, strings.Join(r.Because, " and "))
		}
	}
	if left == 0 {
		a.out.printf("%s no longer has a row of the seed %s", l.Name, name)
	}
	return nil
}
