package cli

// This file is the command redraft: for people who change their minds while the
// change has gone nowhere beyond their own databases. All of it happens in one
// transaction of each database: it is as it was until the new migration stands. Where
// changes of tables commit by themselves, each migration is taken back and applied step
// by step, and what was done is taken back where the new one does not come to stand.

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
	"erbario/internal/project"
	"erbario/internal/runner"
	"erbario/internal/schema"
)

func (a *app) redraftCommand() *cli.Command {
	f := answerFlags{engines: a.engines}
	var title string
	var noCarry bool
	return &cli.Command{
		Name: "redraft", ArgsUsage: "[ID]", Usage: "draft the same change again, from the current models",
		Description: "If the migration is applied here, it is undone first. It is drafted again after all\nother migrations, proved, and applied again. It keeps its title, its answers and\nits hand-written steps, and the rows keep their values. Without ID, the newest.\nMigrations that build on it are merged into it.\n\n  erbario declare Specimen 'shelf text(10) optional' && erbario redraft",
		Flags: append(f.flags(),
			&cli.StringFlag{Name: "title", Usage: "change its title", Destination: &title},
			&cli.BoolFlag{Name: "no-carry", Usage: "drop hand-written steps", Destination: &noCarry},
		),
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.projectFor(c, 1)
			if err != nil {
				return err
			}
			r := &remaking{app: a, p: p, f: &f, title: title, noCarry: noCarry, id: c.Args().First()}
			return r.redraft(ctx)
		},
	}
}

// remaking is one run of redraft, or of a draft of what was applied directly.
type remaking struct {
	*app
	p       *project.Project
	f       *answerFlags
	title   string
	noCarry bool
	id      string

	e     engine.Engine
	files []*migration.Migration // all of the project
	old   []*migration.Migration // what is drafted again, oldest first
	rest  []*migration.Migration // the files without the old ones
	lines []string               // to tell once it stands
	// oldElsewhere are the old ones as they are for other engines.
	oldElsewhere []*migration.Migration
}

// former are the reference rows that what is drafted again inserted, and that the
// models declare no more.
func (r *remaking) former() []engine.StepRows {
	wanted, err := r.wanted(r.p, r.e)
	if err != nil {
		return nil // it has been drafted from them just now
	}
	var out []engine.StepRows
	was := migration.RowsOf(r.old, r.e)
	for _, t := range wanted.Tables {
		at := was[strings.ToLower(t.Name)]
		if at == nil {
			continue
		}
		x := engine.StepRows{Table: t.Name, By: at.By}
		for _, key := range at.Keys {
			if t.Rows == nil || !slices.Equal(t.Rows.KeyParts(), at.By) || !t.Rows.Declares(key) {
				x.Keys = append(x.Keys, key)
			}
		}
		if len(x.Keys) > 0 {
			out = append(out, x)
		}
	}
	return out
}

func (r *remaking) redraft(ctx context.Context) error {
	each := r.eachName(r.p)
	d, err := r.p.Database(r.database)
	if err != nil {
		return err
	}
	if r.e, err = d.Engine(); err != nil {
		return err
	}
	if r.files, err = r.p.Migrations(r.e); err != nil {
		return err
	}
	if err := r.choose(ctx, d.Name); err != nil {
		return err
	}
	if err := r.elsewhere(); err != nil {
		return err
	}
	if err := r.noPair(); err != nil {
		return err
	}
	var others []string
	if len(each) > 1 {
		others = slices.DeleteFunc(slices.Clone(each), func(n string) bool { return n == d.Name })
	}
	if err := r.gone(ctx, append([]string{d.Name}, others...)); err != nil {
		return err
	}
	return r.remake(ctx, d.Name, others)
}

// elsewhere finds the files that what is drafted again has for other engines.
func (r *remaking) elsewhere() error {
	for _, e := range r.p.Others(r.e) {
		files, err := r.p.Migrations(e)
		if err != nil {
			return err
		}
		for _, m := range files {
			if slices.ContainsFunc(r.old, func(o *migration.Migration) bool { return o.ID == m.ID }) {
				r.oldElsewhere = append(r.oldElsewhere, m)
			}
		}
	}
	return nil
}

// noPair refuses the halves of a staged pair: one migration cannot take the place of
// both.
func (r *remaking) noPair() error {
	for _, m := range append(slices.Clone(r.old), r.oldElsewhere...) {
		if slices.ContainsFunc(m.BeforeApply, func(q engine.Requirement) bool { return q.Wait }) {
			return fmt.Errorf("%s is the second of a staged pair, and cannot be drafted again by itself. Undo what is applied of the two, delete their files, and draft with --staged again", m.ID)
		}
	}
	return nil
}

// choose finds what is to be drafted again: the migration that was named or the
// newest, and what was drafted upon it.
func (r *remaking) choose(ctx context.Context, name string) error {
	if len(r.files) == 0 {
		return fmt.Errorf("there is no migration to draft again: write one with erbario draft TITLE")
	}
	m := r.files[len(r.files)-1]
	if r.id != "" {
		var err error
		if m, err = migration.Find(r.files, r.id); err != nil {
			return err
		}
	} else if l, err := r.open(ctx, r.p, name, engine.ReadOnly, false); err == nil {
		// Of two that were made side by side, the one that was made here.
		applied, err := runner.History(ctx, l.db)
		l.Close()
		if err != nil {
			return err
		}
		if forks := runner.StatusOf(r.files, applied, r.e).Forks; len(forks) > 0 {
			m = forks[0].Second
		}
	}
	r.old = []*migration.Migration{m}
	for _, o := range r.files {
		if slices.ContainsFunc(r.old, func(x *migration.Migration) bool { return x.ID == o.Follows }) {
			r.old = append(r.old, o)
		}
	}
	r.rest = slices.DeleteFunc(slices.Clone(r.files), func(o *migration.Migration) bool { return slices.Contains(r.old, o) })
	return nil
}

// gone refuses where another database has the migration already: a protected one
// for good, any other until it is taken back there.
func (r *remaking) gone(ctx context.Context, here []string) error {
	for _, name := range r.p.Names() {
		d, err := r.p.Database(name)
		if err != nil || slices.Contains(here, name) && !d.Protected {
			continue
		}
		if e, err := d.Engine(); err != nil || e != r.e && !slices.ContainsFunc(r.oldElsewhere, func(m *migration.Migration) bool { return m.Engine == e.Name() }) {
			continue
		}
		l, err := r.open(ctx, r.p, name, engine.ReadOnly, false)
		if err != nil {
			if d.Protected {
				r.warn("%s cannot be reached, so it is unknown whether it has the migration already", name)
			}
			continue
		}
		applied, err := runner.History(ctx, l.db)
		l.Close()
		if err != nil {
			return err
		}
		for _, m := range r.old {
			if !slices.ContainsFunc(applied, func(a runner.Applied) bool { return a.ID == m.ID }) {
				continue
			}
			if d.Protected {
				return fmt.Errorf("%s has %s already and is protected, so it is not changed; write the change as a new migration with erbario draft TITLE", name, m.ID)
			}
			return fmt.Errorf("%s has %s too: undo it there first with erbario undo --database %s, or list both in together = [...] in erbario.toml", name, m.ID, name)
		}
	}
	return nil
}

// carried gives the answers of old migrations, with those given now before them.
func (r *remaking) carried(old []*migration.Migration) answerFlags {
	out := *r.f
	// What is answered, and the engine that the answer is for; "": all of them.
	key := func(s string) (name, engine string) {
		name, value, _ := strings.Cut(s, "=")
		engine, _, _ = forEngine(value)
		return name, engine
	}
	for _, m := range old {
		for _, said := range m.Answers {
			name, value, ok := strings.Cut(strings.TrimPrefix(said, "--"), " ")
			to := map[string]*[]string{"rename": &out.rename, "fill": &out.fill, "drop": &out.drop, "deleted": &out.deleted}[name]
			if !ok || to == nil {
				continue
			}
			about, engine := key(value)
			if slices.ContainsFunc(*to, func(o string) bool {
				name, on := key(o)
				return name == about && (on == engine || on == "" && slices.Contains(r.f.fill, o))
			}) {
				continue
			}
			*to = append(slices.Clone(*to), value)
		}
	}
	// A value for a column is one for it under its new name.
	for i, v := range out.fill {
		for _, n := range r.f.rename {
			old, to, _ := strings.Cut(n, "=")
			if name, value, _ := strings.Cut(v, "="); name == old && strings.Count(old, ".") == 1 {
				table, _, _ := strings.Cut(old, ".")
				out.fill = slices.Clone(out.fill)
				out.fill[i] = table + "." + to + "=" + value
			}
		}
	}
	return out
}

// readable are the carried answers without those that cannot be read any more.
func (f answerFlags) readable(s *draft.State) answerFlags {
	f.fill = slices.DeleteFunc(slices.Clone(f.fill), func(v string) bool {
		name, value, _ := strings.Cut(v, "=")
		if _, _, ok := forEngine(value); ok {
			return false
		}
		_, err := literalFor(s, name, value)
		return err != nil
	})
	return f
}

// remake takes the old ones back, drafts, proves, and applies again. Whatever
// stops it, the databases and the files are as they were.
func (r *remaking) remake(ctx context.Context, name string, others []string) error {
	if err := r.f.load(); err != nil {
		return err
	}
	// A database that is not there yet is not made: nothing is applied to it.
	l, err := r.open(ctx, r.p, name, engine.ReadOnly, false)
	if err == nil && !l.absent {
		l.Close()
		l, err = r.openWaiting(ctx, r.p, name, engine.ReadWrite, false, time.Minute)
	}
	if err != nil {
		return err
	}
	defer l.Close()
	watching := r.watch(l)
	defer watching.end()
	for {
		flags, err := r.try(ctx, l, others)
		if len(flags) == 0 || err != nil {
			return err
		}
		for _, flag := range flags {
			r.f.add(flag)
		}
	}
}

// look reads how the database stands without the old migrations, with the models
// as the answers change them.
func (r *remaking) look(ctx context.Context, l *live) (*draft.State, error) {
	read := func() (*draft.State, error) {
		return look(ctx, l, func() (*schema.Schema, []*migration.Migration, error) {
			w, err := r.wanted(r.p, l.engine)
			return w, r.rest, err
		})
	}
	s, err := read()
	if err == nil && len(r.f.defaults)+len(r.f.optional) > 0 {
		if err = r.edits(r.p, s.Wanted, r.f); err == nil {
			s, err = read()
		}
	}
	if err != nil {
		return nil, err
	}
	s.InUse = r.p.Online()
	return s, s.Status.Problem()
}

// draft drafts the change again, with the answers that were given then and now.
// One that was given now and answers nothing is a mistake.
func (r *remaking) draft(ctx context.Context, s *draft.State, l *live) (*draft.Draft, *draft.Handover, error) {
	// What is about a column of another engine alone is answered there. Renames and drops
	// may be about what rows had in the old ones: those that are not turn out unused.
	mine, all := *r.f, r.carried(r.old)
	var unknown []string
	if len(r.p.Others(s.Engine)) > 0 {
		var here answerFlags
		here, unknown = r.f.known(s.Wanted, s.Upcoming)
		mine.fill = here.fill
		here, _ = all.known(s.Wanted, s.Upcoming)
		all.fill = here.fill
	}
	r.f.unknown = slices.DeleteFunc(slices.Clone(unknown), func(flag string) bool { return !strings.HasPrefix(flag, "--fill ") })
	_, now, err := mine.answers(s)
	if err != nil {
		return nil, nil, err
	}
	answers, said, err := all.readable(s).answers(s)
	if err != nil {
		return nil, nil, err
	}
	id := s.IDAgain(r.old[0], time.Now())
	if r.title != "" {
		stamp, _, _ := strings.Cut(id, "-")
		id = stamp + "-" + migration.Slug(r.title)
	}
	if r.old[0].Direct {
		id = s.NextID(time.Now(), r.title)
	}
	d, to, err := s.Redraft(ctx, draft.Again{Old: r.old, NoCarry: r.noCarry, Now: now}, draft.Request{ID: id, Answers: answers, Said: said, NoKeep: r.f.noKeep, Plain: r.f.plain, Now: time.Now(), Rows: !l.Protected})
	if err != nil || len(d.Plan.Questions) > 0 {
		return d, to, err
	}
	for _, u := range d.Plan.Unused {
		if i := slices.IndexFunc(now, func(f string) bool { return f == u || strings.HasPrefix(f, u+"=") }); i >= 0 {
			if slices.Contains(unknown, now[i]) {
				r.f.unknown = append(r.f.unknown, now[i])
				continue
			}
			return nil, to, fmt.Errorf("%s matches no question: see erbario diff", now[i])
		}
	}
	return d, to, nil
}

// unfit says of rows that do not come back into their table what to do about them.
func unfit(err error) error {
	var rows *runner.RestoreError
	if errors.As(err, &rows) {
		return fmt.Errorf("the rows of %s do not fit what the models declare now (%w): nothing was changed. Change those rows, or the models, and redraft again", rows.Table, rows.Err)
	}
	return err
}

// turn is the run on one database, until the new migration stands.
type turn struct {
	*remaking
	l        *live
	apart    bool                          // it is not one transaction
	gone     []*migration.Migration        // taken back, newest first
	come     []*migration.Migration        // others that were applied
	returned []draft.Returned              // values that another migration's columns have now
	handed   []func(context.Context) error // take back what was changed of kept tables
	now      *migration.Migration          // which they were handed to
}

func (r *remaking) turnOn(ctx context.Context, l *live) (*turn, error) {
	t := &turn{remaking: r, l: l, apart: l.engine.Caps().CommitsChanges}
	if t.apart {
		return t, l.db.Lock(ctx, time.Minute)
	}
	return t, l.db.Begin(ctx, time.Minute)
}

// end lets the new migration stand.
func (t *turn) end(ctx context.Context) error {
	if t.apart {
		t.gone, t.come, t.handed, t.returned, t.now = nil, nil, nil, nil, nil
		return t.l.db.Unlock(ctx)
	}
	return t.l.db.Commit(ctx)
}

// back makes the database as it was, unless the new migration stands.
func (t *turn) back(ctx context.Context) error {
	if !t.apart {
		return t.l.db.Rollback()
	}
	ctx = context.WithoutCancel(ctx)
	db, e, o := t.l.db, t.l.engine, runner.Options{Home: true, Revive: true, Wait: time.Minute}
	var err error
	if t.now != nil {
		err = runner.Unseal(ctx, db, e, t.now)
	}
	for _, back := range slices.Backward(t.handed) {
		err = errors.Join(err, back(ctx))
	}
	for _, r := range t.returned {
		err = errors.Join(err, r.Again(ctx, db, e))
	}
	for _, m := range slices.Backward(t.come) {
		if err == nil {
			_, err = runner.Away(ctx, db, e, m, o)
		}
	}
	for _, m := range slices.Backward(t.gone) {
		if err == nil {
			_, err = runner.Into(ctx, db, e, m, time.Now(), o)
		}
	}
	t.gone, t.come, t.handed, t.returned, t.now = nil, nil, nil, nil, nil
	if err != nil {
		err = fmt.Errorf("and what was undone could not be applied again (see erbario status): %w", err)
	}
	return errors.Join(err, db.Unlock(ctx))
}

// try makes the whole run. Flags are what a person answered: then everything has been
// taken back, and it is to be tried again.
func (r *remaking) try(ctx context.Context, l *live, others []string) (flags []string, err error) {
	t, err := r.turnOn(ctx, l)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(unfit(err), t.back(ctx)) }()
	began := time.Now()
	r.lines = nil
	t.gone, err = draft.TakeBack(ctx, l.db, r.e, r.old)
	was := len(t.gone) > 0
	var held *runner.InTheWay
	if errors.As(err, &held) && !r.json {
		r.inTheWay(held)
		for _, f := range migration.Forks(r.files, r.e) { // of two that forked, the other may do
			if other := map[string]string{f.First.ID: f.Second.ID, f.Second.ID: f.First.ID}[held.Migration]; other != "" {
				return nil, fmt.Errorf("%s cannot be undone with the existing rows, and nothing was changed. Change them, or let the other of the two follow it: erbario redraft %s. If that is applied, undo it first; the next apply restores its values", held.Migration, other)
			}
		}
		return nil, fmt.Errorf("%s cannot be undone with the existing rows, and nothing was changed. Change them, or write the change as a new migration with erbario draft TITLE", held.Migration)
	}
	if err != nil {
		return nil, r.runFailed(l, err, 0)
	}
	if was {
		if err := t.others(ctx); err != nil {
			return nil, err
		}
	}
	s, err := r.look(ctx, l)
	if err != nil {
		return nil, err
	}
	done := r.slow("proving on a scratch copy…")
	d, to, err := r.draft(ctx, s, l)
	done()
	if err != nil {
		return nil, err
	}
	if len(d.Plan.Questions) > 0 && r.interactive() {
		if err := t.back(ctx); err != nil {
			return nil, err
		}
		return r.ask(ctx, s, d.Plan.Questions)
	}
	if !r.json {
		r.outerNames(d.Plan.Outer)
	}
	if err := r.refused(ctx, l, d, "redraft"); err != nil {
		return nil, err
	}
	more, err := r.draftOthers(ctx, r.p, change{home: s, draft: d, f: r.f, title: r.title, again: r})
	if err != nil {
		return nil, err
	}
	written := slices.Sorted(maps.Keys(r.p.Edited))
	files := r.swap(append(migrationsOf(d), more...))
	if err := files.write(); err != nil {
		return nil, errors.Join(err, files.back())
	}
	var run runner.Run
	if !l.absent { // also what was undone before has rows that are kept
		if err := t.hand(ctx, d.Migration, to); err != nil {
			return nil, errors.Join(err, files.back())
		}
		if was && d.Migration != nil {
			back, err := runner.Into(ctx, l.db, r.e, d.Migration, began, runner.Options{Home: true, Declared: true, Former: r.former(), Wait: time.Minute})
			if err != nil {
				err = r.runFailed(l, err, 0)
				if !d.Migration.Atomic() && !t.apart {
					err = fmt.Errorf("%w; if one transaction cannot hold it, run erbario undo, delete its file, and draft it again", err)
				}
				return nil, errors.Join(err, files.back())
			}
			run = runner.Run{Migration: d.Migration, Took: time.Since(began), Restored: back}
		}
	}
	if err := t.end(ctx); err != nil {
		return nil, errors.Join(err, files.back())
	}
	if err := errors.Join(files.remove(), r.p.Save()); err != nil {
		return nil, err
	}
	for _, line := range r.lines {
		r.tell(line)
	}
	for _, path := range written {
		r.tell(r.out.sign("~", path))
	}
	r.outcome(l, d, more, was, run)
	var also []string
	for _, name := range others {
		if err := r.follow(ctx, name, d.Migration, to); err != nil {
			return nil, fmt.Errorf("%s has the new migration, and %s does not yet: %w", l.Name, name, err)
		}
		also = append(also, name)
	}
	return nil, r.outcomeDocument(l, d, more, was, run, also)
}

// others applies what waits of the other migrations, such as those that came with
// a merge, so that the new draft is made of what will be there.
func (t *turn) others(ctx context.Context) error {
	r, l := t.remaking, t.l
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return err
	}
	for _, m := range runner.StatusOf(r.rest, applied, r.e).Pending {
		began := time.Now()
		back, err := runner.Into(ctx, l.db, r.e, m, began, runner.Options{Answers: nil, Home: l.Throwaway, Wait: time.Minute})
		if err != nil {
			return r.runFailed(l, err, 0)
		}
		t.come = append(t.come, m)
		r.lines = append(r.lines, r.out.sign("+", m.ID)+"  "+plural(len(m.Steps), "step", "steps")+", "+spent(time.Since(began)))
		for _, b := range back {
			r.lines = append(r.lines, fmt.Sprintf("    %s of %s %s restored from what was kept", rows(b.Rows), b.Table, oneMany(int(b.Rows), "is", "are")))
		}
	}
	return nil
}

// follow brings another database that goes together with the first to the same
// place.
func (r *remaking) follow(ctx context.Context, name string, m *migration.Migration, to *draft.Handover) (err error) {
	l, err := r.openWaiting(ctx, r.p, name, engine.ReadWrite, false, time.Minute)
	if err != nil {
		return err
	}
	defer l.Close()
	t, err := r.turnOn(ctx, l)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(unfit(err), t.back(ctx)) }()
	began := time.Now()
	r.lines = nil
	t.gone, err = draft.TakeBack(ctx, l.db, r.e, r.old)
	if err != nil || len(t.gone) == 0 {
		return err
	}
	if err := t.others(ctx); err != nil {
		return err
	}
	var run runner.Run
	if err := t.hand(ctx, m, to); err != nil {
		return err
	}
	if m != nil {
		back, err := runner.Into(ctx, l.db, r.e, m, began, runner.Options{Home: l.Throwaway, Declared: true, Former: r.former(), Wait: time.Minute})
		if err != nil {
			return r.runFailed(l, err, 0)
		}
		run = runner.Run{Migration: m, Restored: back}
	}
	if err := t.end(ctx); err != nil {
		return err
	}
	for _, line := range r.lines {
		r.tell(line)
	}
	r.tell(fmt.Sprintf("%s: the same, %s", name, spent(time.Since(began))))
	if m != nil {
		r.tellRestored(run)
	}
	return nil
}

// hand moves what the undo put aside to where the new migration looks for it; if
// there is none, to where nothing does.
func (t *turn) hand(ctx context.Context, m *migration.Migration, to *draft.Handover) error {
	db := t.l.db
	err := draft.Return(ctx, db, t.e, t.old, func(r draft.Returned) {
		t.returned = append(t.returned, r)
		if n := r.Rows; n > 0 {
			t.lines = append(t.lines, fmt.Sprintf("    %s of %s %s restored from what was kept", rows(n), r.Table.Name, oneMany(int(n), "is", "are")))
		}
	})
	if err != nil {
		return err
	}
	if t.now = m; m != nil {
		return draft.Hand(ctx, db, t.e, t.old, m, to, func(back func(context.Context) error) { t.handed = append(t.handed, back) })
	}
	for _, o := range t.old {
		if err := runner.Retire(ctx, db, t.e, o); err != nil {
			return err
		}
	}
	return nil
}

func (r *remaking) tell(line string) {
	if !r.json {
		r.out.line(line)
	}
}

func (r *remaking) tellRestored(run runner.Run) {
	if !r.json {
		r.restored(run)
	}
}

// outcome tells the outcome on the first database.
func (r *remaking) outcome(l *live, d *draft.Draft, more []*migration.Migration, was bool, run runner.Run) {
	if r.json {
		return
	}
	now := append(migrationsOf(d), more...)
	for _, m := range append(slices.Clone(r.old), r.oldElsewhere...) {
		if !m.Direct && !slices.ContainsFunc(now, func(o *migration.Migration) bool { return o.FileName() == m.FileName() }) {
			r.out.line(r.out.sign("-", fileOf(m)))
		}
	}
	for _, m := range now {
		r.showDraft(m)
	}
	if d.Migration == nil {
		r.out.printf("nothing is left to draft: %s matches the models without it", l.Name)
		return
	}
	if !was {
		r.next("erbario apply")
		return
	}
	r.out.printf("%s: undone and applied again, %s", l.Name, spent(run.Took))
	r.restored(run)
}

func (r *remaking) outcomeDocument(l *live, d *draft.Draft, more []*migration.Migration, was bool, run runner.Run, also []string) error {
	if !r.json {
		return nil
	}
	replaced := []string{}
	for _, m := range r.old {
		replaced = append(replaced, m.ID)
	}
	doc := map[string]any{"database": l.Name, "replaced": replaced, "migration": nil, "applied": was && d.Migration != nil, "together": append([]string{}, also...)}
	if m := d.Migration; m != nil {
		doc["migration"], doc["file"], doc["changes"], doc["steps"], doc["proof"] = m.ID, fileOf(m), jsonChanges(d.Plan.Changes, d.Plan.Effects), len(m.Steps), m.Proof
		doc["restored"] = jsonRunOf(runner.Run{Migration: m, Restored: run.Restored}).Restored
	}
	if len(more) > 0 {
		doc["other_engines"] = jsonFiles(more)
	}
	return r.document(doc)
}

// swapped are the files of old and new migrations, by path, while the ones take the
// place of the others.
type swapped struct{ now, old map[string]string }

func (r *remaking) swap(list []*migration.Migration) *swapped {
	out := &swapped{now: map[string]string{}, old: map[string]string{}}
	for _, m := range list {
		out.now[filepath.Join(r.p.MigrationsDir(), m.FileName())] = m.Text
	}
	for _, o := range append(slices.Clone(r.old), r.oldElsewhere...) {
		if !o.Direct {
			out.old[o.Path] = o.Text
		}
	}
	return out
}

func (s *swapped) write() error {
	for path, text := range s.now {
		if err := project.WriteFile(path, text); err != nil {
			return err
		}
	}
	return nil
}

// back makes the files as they were.
func (s *swapped) back() error {
	var all error
	for path := range s.now {
		if text, ok := s.old[path]; ok {
			all = errors.Join(all, project.WriteFile(path, text))
		} else if err := os.Remove(path); !errors.Is(err, os.ErrNotExist) {
			all = errors.Join(all, err)
		}
	}
	return all
}

// remove takes the old files away.
func (s *swapped) remove() error {
	var all error
	for path := range s.old {
		if _, again := s.now[path]; !again {
			all = errors.Join(all, os.Remove(path))
		}
	}
	return all
}
