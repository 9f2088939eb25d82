package cli

// This file is the command draft.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/words"
)

func (a *app) draftCommand() *cli.Command {
	d := &drafting{app: a, f: answerFlags{engines: a.engines}}
	return &cli.Command{
		Name: "draft", ArgsUsage: "TITLE…", Usage: "write a migration for the difference, proved first",
		Description: "What only a person can decide is a question, printed with the flags that answer\nit (exit 4). The migration is applied, undone and applied again on a scratch\ndatabase before it is written.\n\n  erbario draft label specimens --fill specimens.label=unlabelled\n  erbario draft names --staged --rename specimens.number=sheet_number",
		Flags: append(
			append(
				[]cli.Flag{&cli.BoolFlag{Name: "apply", Usage: "apply it at once", Destination: &d.apply}},
				d.f.flags()...),
			&cli.BoolFlag{Name: "by-hand", Usage: "write an empty migration to fill in", Destination: &d.byHand},
			&cli.StringSliceFlag{
				Name:        "order",
				Usage:       "copy this table, so that its columns are in the declared order: `TABLE`",
				Destination: &d.order,
			},
			&cli.BoolFlag{
				Name:        "staged",
				Usage:       "write two migrations, between which the old and the new application both work",
				Destination: &d.staged,
			},
		),
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			d.title = strings.Join(c.Args().Slice(), " ")
			return d.run(ctx)
		},
	}
}

// drafting is a run of erbario draft.
type drafting struct {
	*app
	f                     answerFlags
	title                 string
	byHand, apply, staged bool
	order                 []string

	p       *project.Project
	l       *live
	s       *draft.State
	drafter drafter
	first   *draft.Draft
	second  *draft.Draft // of a staged pair
	others  []*migration.Migration
	noted   []project.Renamed // what renames.toml answers
}

func (d *drafting) run(ctx context.Context) (err error) {
	switch {
	case strings.TrimSpace(d.title) == "":
		return wrongUse("erbario draft needs a title, such as: erbario draft first sheets")
	case d.staged && d.byHand:
		return wrongUse("--staged and --by-hand cannot be used together")
	case len(d.order) > 0 && (d.staged || d.byHand):
		return wrongUse("--order cannot be used with --%s", map[bool]string{true: "staged", false: "by-hand"}[d.staged])
	}
	if d.p, err = d.project(); err != nil {
		return err
	}
	if d.drafter, err = d.app.drafter(d.p, d.staged, &d.f); err != nil {
		return err
	}
	d.p.ReadAhead()
	if d.l, err = d.open(ctx, d.p, d.database, engine.ReadOnly, false); err != nil {
		return err
	}
	defer d.l.Close()
	if d.byHand {
		s, err := d.state(ctx, d.p, d.l)
		if err != nil {
			return err
		}
		if err := s.Status.Problem(); err != nil {
			return err
		}
		return d.draftByHand(d.p, s, d.title)
	}
	if old, err := directOnes(ctx, d.l); err != nil {
		return err
	} else if len(old) > 0 {
		d.l.Close()
		if d.staged {
			return fmt.Errorf("--staged: %s has a change that was applied without a migration: draft that first",
				d.l.Name)
		}
		return d.draftDirect(ctx, d.p, d.l.Database, &d.f, d.title, old)
	}
	if err := d.make(ctx); err != nil {
		return err
	}
	if d.first.Migration == nil && len(d.others) == 0 {
		return d.nothing()
	}
	edited := slices.Sorted(maps.Keys(d.p.Edited))
	if err := d.p.Save(); err != nil {
		return err
	}
	list := append(migrationsOf(d.first, d.second), d.others...)
	for _, m := range list {
		if err := project.WriteFile(filepath.Join(d.p.MigrationsDir(), m.FileName()), m.Text); err != nil {
			return err
		}
	}
	if err := d.p.DropRenames(d.noted); err != nil {
		return err
	}
	if d.json {
		return d.done(ctx)
	}
	return d.show(ctx, edited, list)
}

// make drafts, for this engine and the others of the project.
func (d *drafting) make(ctx context.Context) (err error) {
	look := func() (*draft.State, error) {
		s, err := d.state(ctx, d.p, d.l)
		if err == nil && d.noted == nil {
			err = d.noteRenames(s)
		}
		return s, err
	}
	try := func(s *draft.State, answers plan.Answers, said []string) (first *draft.Draft, err error) {
		if err := s.Status.Problem(); err != nil {
			return nil, err
		}
		first, d.second, err = d.drafter.make(ctx, s, draft.Request{
			Title:       d.title,
			Answers:     answers,
			Said:        said,
			NoKeep:      d.f.noKeep,
			LeaveBroken: d.f.leaveBroken,
			Plain:       d.f.plain,
			Order:       d.order,
			Now:         time.Now(),
			Rows:        !d.l.Protected,
		})
		return first, err
	}
	if d.s, d.first, err = d.settle(ctx, d.p, &d.f, look, try); err != nil {
		return err
	}
	for _, half := range []*draft.Draft{d.first, d.second} {
		if half == nil {
			continue
		}
		if !d.json {
			d.outerNames(half.Plan.Outer)
			d.breaks(half.Plan.Breaks)
		}
		if err := d.refused(ctx, d.l, half, "draft TITLE"); err != nil {
			return err
		}
	}
	d.others, err = d.draftOthers(ctx, d.p, change{home: d.s, draft: d.first, f: &d.f, title: d.title, with: d.drafter})
	return err
}

// nothing tells that there is nothing to draft; a field may be optional after all.
func (d *drafting) nothing() error {
	edited := slices.Sorted(maps.Keys(d.p.Edited))
	if err := d.p.Save(); err != nil {
		return err
	}
	if d.json {
		return d.document(map[string]any{"database": d.l.Name, "migration": nil, "changes": []jsonChange{}})
	}
	for _, path := range edited {
		d.out.line(d.out.sign("~", path))
	}
	if len(d.s.Status.Pending) > 0 {
		d.out.line("nothing to draft: every difference is already in a pending migration")
		d.next("erbario apply")
	} else {
		d.out.printf("nothing to draft: %s matches the models", d.l.Name)
	}
	return nil
}

// done writes the JSON document, and applies.
func (d *drafting) done(ctx context.Context) error {
	doc := map[string]any{"database": d.l.Name, "migration": nil, "changes": []jsonChange{}, "applied": false}
	m, p := d.first.Migration, d.first.Plan
	if m != nil {
		doc = map[string]any{
			"database":     d.l.Name,
			"migration":    m.ID,
			"file":         fileOf(m),
			"changes":      jsonChanges(p.Changes, p.Effects),
			"steps":        len(m.Steps),
			"proof":        m.Proof,
			"proof_doubts": m.Doubts(),
			"applied":      false,
		}
		if len(p.Held) > 0 {
			doc["held"] = p.Held
		}
		if len(p.Last) > 0 {
			doc["columns_last"] = p.Last
		}
		if len(p.Outer) > 0 {
			doc["outer_columns"] = p.Outer
		}
		if len(p.Breaks) > 0 {
			doc["may_fail"] = p.Breaks
		}
	}
	if d.second != nil {
		doc["second"] = jsonFiles(migrationsOf(d.second))
	}
	if len(d.others) > 0 {
		doc["other_engines"] = jsonFiles(d.others)
	}
	d.document(doc)
	if !d.apply || m == nil {
		return nil
	}
	d.l.Close()
	for _, name := range d.eachName(d.p) {
		if err := d.applyQuietly(ctx, d.p, name, d.f.asked(d.s.Wanted)); err != nil {
			return err
		}
	}
	return d.document(map[string]any{"applied": true})
}

// show shows what was written, and applies.
func (d *drafting) show(ctx context.Context, edited []string, list []*migration.Migration) error {
	for _, path := range edited {
		d.out.line(d.out.sign("~", path))
	}
	for _, m := range list {
		d.showDraft(m)
	}
	for _, table := range d.first.Plan.Last {
		d.out.line("  " + lastWords(d.s.Engine.Caps(), table))
	}
	if d.first.Migration == nil {
		return nil
	}
	if d.staged && d.second == nil && d.s.Engine.Caps().Stages {
		d.warn("with these answers no second migration is needed: it is one")
	}
	if !d.staged {
		d.held(d.first.Plan.Held)
		d.barred(d.l.Name, d.first.Barred)
	}
	if !d.apply {
		d.next("erbario apply")
		return nil
	}
	d.l.Close()
	return d.onEach(ctx, d.p, d.eachName(d.p), func(name string) error {
		return d.app.apply(ctx, d.p, name, applyOptions{wait: time.Minute, answers: d.f.asked(d.s.Wanted)})
	})
}

// lastWords say that new columns of a table come behind others that stand above them in the
// model, and what brings them into order, where anything does.
func lastWords(caps engine.Caps, table string) string {
	words := "the new columns of " + table + " are added last, not where the model has them"
	if !caps.Journal {
		words += ": draft it with --order " + table + ", which copies the table, if that matters"
	}
	return words
}

// outerNames warns of names in fills that mean the row itself where most likely a column
// of another table was meant.
func (a *app) outerNames(list []plan.OuterName) {
	for _, o := range list {
		a.warn(
			"in the fill of %s, %s is read from the row of %s itself: %s has no such column. Write %s.%s if you mean that one",
			o.Fill, o.Name, o.Table, strings.Join(o.Tables, ", "), o.Table, o.Name)
	}
}

// breaks warns of what nobody declared and may fail after the change, as was said with --leave-broken.
func (a *app) breaks(list []plan.Break) {
	for _, b := range list {
		a.warn("the %s %s names %s, and may fail afterwards", b.Kind, b.Name, b.Names)
	}
}

// barred warns of what the user has no right to do on a database.
func (a *app) barred(database string, list []string) {
	for _, b := range list {
		a.warn("this cannot be applied to %s in its present state: %s", database, b)
	}
}

// held warns of tables in use that nobody can read for a while.
func (a *app) held(list []plan.Held) {
	for _, h := range list {
		a.warn(
			"step %[2]d rewrites %[1]s and blocks readers in the meantime; if that takes too long, draft with --staged (two migrations; both applications work in between)",
			h.Table, h.Step)
	}
}

// showDraft tells what a migration that was written does.
func (a *app) showDraft(m *migration.Migration) {
	a.out.line(a.out.sign("+", fileOf(m)))
	for i, st := range m.Steps {
		note := ""
		if st.Note != "" {
			note = a.out.paint(styleDim, "  ("+cell(st.Note)+")")
		}
		a.out.printf("  step %d  %s%s", i+1, cell(st.Title), note)
		if len(st.Loses) > 0 && st.Kept {
			a.out.printf("          %s: kept, and restored by the undo", cell(words.Join(st.Loses)))
		} else if len(st.Loses) > 0 {
			a.out.printf("          %s: %s", cell(words.Join(st.Loses)), a.out.paint(styleWarn, "lost permanently"))
		}
	}
	for _, x := range m.Parameters {
		if !x.Undo {
			a.out.printf("  each database with such rows is asked for %s: apply --answers FILE", cell(x.For))
		}
	}
	a.out.line("  " + m.Proof)
	if d := m.Doubts(); d != "" {
		a.warn("the proof was %s: what %s does there is not proved. A protected database takes it only with --yes-on",
			d, m.ID)
	}
}

// refused tells why a draft was not written, or nil. command is what would be
// told the answers.
func (a *app) refused(ctx context.Context, l *live, d *draft.Draft, command string) error {
	switch {
	case len(d.Plan.Questions) > 0:
		if a.json {
			a.document(map[string]any{
				"database":  l.Name,
				"migration": nil,
				"changes":   jsonChanges(d.Plan.Changes, d.Plan.Effects),
				"questions": jsonQuestions(d.Plan.Questions),
				"blocking":  jsonWays(d.InTheWay),
				"answers":   a.template(command, d.Plan.Questions),
			})
		} else {
			a.questions(d.Plan.Questions)
			a.ways(d.InTheWay)
		}
		switch {
		case a.json || a.shown || isTerminal(a.out.w):
		case a.oneLog():
			a.err.printf("erbario %s > FILE writes them as a file to fill in, for --answers", command)
		default:
			fmt.Fprint(a.out.w, a.template(command, d.Plan.Questions))
			a.err.line("the questions were also written to standard output, as a file to fill in for --answers")
		}
		return &exitError{
			code: exitQuestion,
			err: fmt.Errorf("%s to answer; nothing was written",
				plural(len(d.Plan.Questions), "question", "questions")),
		}
	case len(d.InTheWay) > 0:
		if a.json {
			a.document(map[string]any{"database": l.Name, "migration": nil, "blocking": jsonWays(d.InTheWay)})
		} else if a.interactive() {
			if err := a.askRows(ctx, l.db, d.InTheWay); err != nil {
				return err
			}
		} else {
			a.ways(d.InTheWay)
		}
		return fmt.Errorf("rows in %s block this change: change them or the models; nothing was written", l.Name)
	case d.Outcome != nil && !d.Outcome.Proved():
		if a.json {
			a.document(map[string]any{"database": l.Name, "migration": nil, "unproved": unproved(d.Outcome)})
		} else {
			for _, x := range unproved(d.Outcome) {
				a.err.line("  " + clean(x))
			}
		}
		return notProved(d)
	}
	return nil
}

// oneLog tells whether standard output and standard error go to the same log, in which
// everything would stand twice.
func (a *app) oneLog() bool {
	stat := func(w any) os.FileInfo {
		if f, ok := w.(*os.File); ok {
			info, _ := f.Stat()
			return info
		}
		return nil
	}
	x, y := stat(a.out.w), stat(a.err.w)
	if x != nil && y != nil && os.SameFile(x, y) {
		return true
	}
	return os.Getenv("CI") != "" && !(x != nil && x.Mode().IsRegular()) // a file is asked for
}

// notProved is the end of a draft that could not be proved.
func notProved(d *draft.Draft) error {
	if n := d.Outcome.Stopped; n > 0 {
		if s := &d.Migration.Steps[n-1]; d.Migration.ByPerson(s) || d.Migration.ByHand {
			return fmt.Errorf(
				"step %d (%s) was written by hand and is carried over unchanged: nothing was written. Edit it in its file, where it may use a former name, and redraft again; --no-carry leaves it out",
				n, s.Title)
		}
	}
	return errors.New("the migration could not be proved: nothing was written")
}

// unproved are the reasons for which a migration is not proved.
func unproved(o *proof.Outcome) []string {
	if len(o.Differ) == 0 {
		return []string{o.Sentence()}
	}
	return o.Differ
}

func (a *app) draftByHand(p *project.Project, s *draft.State, title string) error {
	m := s.ByHand(draft.Request{Title: title, Now: time.Now()})
	list := []*migration.Migration{m}
	for _, e := range p.Others(s.Engine.Name()) {
		files, err := p.Migrations(e)
		if err != nil {
			return err
		}
		o := &draft.State{Engine: e, Status: runner.StatusOf(files, nil, e)}
		list = append(list, o.ByHand(draft.Request{ID: m.ID, Title: title}))
	}
	for _, m := range list {
		if err := project.WriteFile(filepath.Join(p.MigrationsDir(), m.FileName()), m.Text); err != nil {
			return err
		}
	}
	if a.json {
		doc := map[string]any{"migration": m.ID, "file": fileOf(m)}
		if len(list) > 1 {
			doc["other_engines"] = jsonFiles(list[1:])
		}
		return a.document(doc)
	}
	for _, m := range list {
		a.out.line(a.out.sign("+", fileOf(m)))
	}
	a.next("fill in apply and undo, then run erbario prove")
	return nil
}
