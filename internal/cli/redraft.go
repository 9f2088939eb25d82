package cli

// This file is the command redraft: for people who change their minds while the
// change has gone nowhere beyond their own databases. All of it happens in one
// transaction of each database: it is as it was until the new migration stands. Where
// changes of tables commit by themselves, each migration is undone and applied step
// by step, and what was done is undone where the new one does not come to stand.

import (
	"context"
	"errors"
	"fmt"
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
	"erbario/internal/sqlschema"
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
			if t.Rows() == nil || !slices.Equal(t.Rows().KeyParts(), at.By) || !t.Rows().Declares(key) {
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
	for _, e := range r.p.Others(r.e.Name()) {
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
			return fmt.Errorf(
				"%s is the second of a staged pair, and cannot be drafted again by itself. Undo what is applied of the two, delete their files, and draft with --staged again",
				m.ID,
			)
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
	for _, o := range r.old {
		if o.Adopted() {
			return fmt.Errorf(
				"%s says what existed before it, and cannot be drafted again: write what has changed since as a new migration with erbario draft TITLE",
				o.ID)
		}
	}
	r.rest = slices.DeleteFunc(slices.Clone(r.files),
		func(o *migration.Migration) bool { return slices.Contains(r.old, o) })
	return nil
}

// gone refuses where another database has the migration already: a protected one
// for good, any other until it is undone there.
func (r *remaking) gone(ctx context.Context, here []string) error {
	for _, name := range r.p.Names() {
		d, err := r.p.Database(name)
		if err != nil || slices.Contains(here, name) && !d.Protected {
			continue
		}
		if e, err := d.Engine(); err != nil || e != r.e &&
			!slices.ContainsFunc(r.oldElsewhere,
				func(m *migration.Migration) bool { return m.Engine == e.Name() }) {
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
				return fmt.Errorf(
					"%s has %s already and is protected, so it is not changed; write the change as a new migration with erbario draft TITLE",
					name, m.ID)
			}
			return fmt.Errorf(
				"%s has %s too: undo it there first with erbario undo --database %s, or list both in together = [...] in erbario.toml",
				name, m.ID, name)
		}
	}
	return nil
}

// elsewhereTable tells whether a name is that of a table in another schema than the project's.
func (r *remaking) elsewhereTable(name string) bool {
	in, _ := schema.SplitName(name)
	return in != "" && slices.Contains(r.p.Schemas(), in)
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
			to := map[string]*[]string{"rename": &out.rename, "fill": &out.fill, "drop": &out.drop,
				"deleted": &out.deleted}[name]
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
			table, column, dotted := schema.CutTable(old, r.elsewhereTable)
			if name, value, _ := strings.Cut(v, "="); name == old && dotted && !strings.Contains(column, ".") {
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
	// A database that does not exist yet is not made: nothing is applied to it.
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
		return look(ctx, l, func() (*sqlschema.Schema, []*migration.Migration, error) {
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
	if err == nil {
		err = s.ReadTables(ctx)
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
	if len(r.p.Others(s.Engine.Name())) > 0 {
		var here answerFlags
		here, unknown = r.f.known(s.Wanted, s.Upcoming)
		mine.fill = here.fill
		here, _ = all.known(s.Wanted, s.Upcoming)
		all.fill = here.fill
	}
	r.f.unknown = slices.DeleteFunc(slices.Clone(unknown),
		func(flag string) bool { return !strings.HasPrefix(flag, "--fill ") })
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
	d, to, err := s.Redraft(ctx, draft.Again{Old: r.old, NoCarry: r.noCarry, Now: now}, draft.Request{
		ID:          id,
		Answers:     answers,
		Said:        said,
		NoKeep:      r.f.noKeep,
		LeaveBroken: r.f.leaveBroken,
		Plain:       r.f.plain,
		Now:         time.Now(),
		Rows:        !l.Protected,
	})
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
		return fmt.Errorf(
			"the rows of %s do not fit what the models declare now (%w): nothing was changed. Change those rows, or the models, and redraft again",
			rows.Table, rows.Err)
	}
	return err
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

// outcome is what became of a redraft.
type outcome struct {
	live   *live
	draft  *draft.Draft
	more   []*migration.Migration // of other engines
	undone bool                   // the old migrations were applied
	run    runner.Run             // of the new one
	also   []string               // other databases that followed
}

// outcome tells the outcome on the first database.
func (r *remaking) outcome(o *outcome) {
	if r.json {
		return
	}
	now := append(migrationsOf(o.draft), o.more...)
	for _, m := range append(slices.Clone(r.old), r.oldElsewhere...) {
		if !m.Direct &&
			!slices.ContainsFunc(now, func(x *migration.Migration) bool { return x.FileName() == m.FileName() }) {
			r.out.line(r.out.sign("-", fileOf(m)))
		}
	}
	for _, m := range now {
		r.showDraft(m)
	}
	if o.draft.Migration == nil {
		r.out.printf("nothing is left to draft: %s matches the models without it", o.live.Name)
		return
	}
	if !o.undone {
		r.next("erbario apply")
		return
	}
	r.out.printf("%s: undone and applied again, %s", o.live.Name, spent(o.run.Took))
	r.restored(o.run)
}

func (r *remaking) outcomeDocument(o *outcome) error {
	if !r.json {
		return nil
	}
	replaced := []string{}
	for _, m := range r.old {
		replaced = append(replaced, m.ID)
	}
	doc := map[string]any{
		"database":  o.live.Name,
		"replaced":  replaced,
		"migration": nil,
		"applied":   o.undone && o.draft.Migration != nil,
		"together":  append([]string{}, o.also...),
	}
	if m := o.draft.Migration; m != nil {
		doc["migration"], doc["file"], doc["changes"], doc["steps"], doc["proof"] = m.ID, fileOf(m), jsonChanges(
			o.draft.Plan.Changes,
			o.draft.Plan.Effects,
		), len(m.Steps), m.Proof
		doc["restored"] = jsonRunOf(runner.Run{Migration: m, Restored: o.run.Restored}).Restored
	}
	if len(o.more) > 0 {
		doc["other_engines"] = jsonFiles(o.more)
	}
	return r.document(doc)
}
