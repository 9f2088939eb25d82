package cli

// This file is adopt --at: a database that holds what the migrations create up to one of them,
// though they did not create it, is recorded as being there.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/adopt"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
)

// standing is a run of adopt --at.
type standing struct {
	*adopting
	id    string                 // of the migration
	list  []*migration.Migration // that are to be recorded
	point *adopt.Point
}

// adoptAt records the migrations up to one, if the database holds what they create.
func (o *adopting) adoptAt(ctx context.Context) (err error) {
	if len(o.names)+len(o.except) > 0 || o.outside || o.language || o.url != "" {
		return wrongUse("--at compares a whole database with migrations that exist, and takes no tables, --except, " +
			"--outside, --only-language or --url")
	}
	if o.p, err = o.project(); err != nil {
		return err
	}
	if o.l, err = o.open(ctx, o.p, o.database, engine.ReadOnly, false); err != nil {
		return err
	}
	defer func() { o.l.Close() }()
	s := &standing{adopting: o}
	if err := s.look(ctx); err != nil {
		return err
	}
	if len(s.list) == 0 {
		return s.tell(nil, false)
	}
	all := slices.Clone(s.point.Changes)
	if idle := s.point.Accept(o.accept); len(idle) > 0 {
		return fmt.Errorf("--accept %s matches no difference: nothing was recorded", idle[0])
	}
	if len(s.point.Changes) > 0 || o.dry {
		return s.tell(all, false)
	}
	if len(all) > 0 {
		if err := o.confirmOn(o.l.Database, "recording differences as accepted"); err != nil {
			return err
		}
	}
	o.l.Close()
	if o.l, err = o.open(ctx, o.p, o.database, engine.ReadWrite, false); err != nil {
		return err
	}
	if err := runner.Record(ctx, o.l.db, o.l.engine, s.list, s.point.Keeps); err != nil {
		return err
	}
	return s.tell(all, true)
}

// look finds out which migrations are to be recorded, and compares.
func (s *standing) look(ctx context.Context) error {
	e := s.l.engine
	wanted, err := s.wanted(s.p, e)
	if err != nil {
		return err
	}
	files, err := s.p.Migrations(e)
	if err != nil {
		return err
	}
	applied, err := runner.History(ctx, s.l.db)
	if err != nil {
		return err
	}
	if err := runner.RefuseInterrupted(ctx, s.l.db, e); err != nil {
		return err
	}
	status := runner.StatusOf(files, applied, e)
	if err := errors.Join(status.Problem(), status.TooEarly()); err != nil {
		return err
	}
	last, err := migration.Find(files, s.at)
	if err != nil {
		return err
	}
	s.id = last.ID
	if s.list, err = upTo(status.Pending, files, last.ID); err != nil || len(s.list) == 0 {
		return err
	}
	line, err := runner.Texts(applied, files, e)
	if err != nil {
		return err
	}
	line = append(line, s.list...)
	slices.SortStableFunc(line, func(a, b *migration.Migration) int { return strings.Compare(a.ID, b.ID) })
	s.point, err = adopt.At(ctx, e, s.l.db, line, wanted)
	return err
}

// tell tells what came of it. all are the differences, also those that were accepted.
func (s *standing) tell(all []diff.Change, recorded bool) error {
	ids := []string{}
	for _, m := range s.list {
		ids = append(ids, m.ID)
	}
	open := s.point != nil && len(s.point.Changes) > 0
	if s.json {
		s.document(map[string]any{
			"database": s.l.Name, "at": s.id, "migrations": ids, "differences": jsonChanges(all, nil),
			"accepted": s.accept, "recorded": recorded, "dry_run": s.dry,
		})
	} else {
		s.show(all, recorded)
	}
	if open {
		return &exitError{code: exitDiffers, err: fmt.Errorf(
			"%s does not hold what %s creates: nothing was recorded", s.l.Name, s.id)}
	}
	return nil
}

// show says it to people.
func (s *standing) show(all []diff.Change, recorded bool) {
	on := onDatabase(s.p, s.l.Name)
	if len(s.list) == 0 {
		s.out.printf("%s is recorded in %s already", s.id, s.l.Name)
		return
	}
	if len(all) > 0 {
		s.out.line(s.out.paint(styleWarn, s.l.Name+" differs from what "+s.id+" creates"))
		s.changes(all, nil)
	}
	if left := s.point.Changes; len(left) > 0 {
		names := []string{}
		for _, c := range left {
			if !slices.Contains(names, c.Table) {
				names = append(names, c.Table)
			}
		}
		flags := " --accept " + typed("*")
		if len(names) <= 3 {
			flags = ""
			for _, n := range names {
				flags += " --accept " + typed(n)
			}
		}
		s.err.line("")
		s.err.line("to record it with these differences, which the next draft fixes:")
		s.err.raw("  erbario " + on + "adopt --at " + s.id + flags)
		return
	}
	what := "holds what " + s.id + " creates"
	if len(all) > 0 {
		what = "is recorded with these differences"
	}
	switch {
	case s.dry:
		s.out.printf("%s %s; nothing was recorded", s.l.Name, what)
	case recorded:
		if len(all) == 0 {
			s.out.printf("%s %s", s.l.Name, what)
		}
		for _, m := range s.list {
			s.out.line(s.out.sign("+", m.ID) + "  recorded")
		}
	}
	if recorded {
		s.next("erbario " + on + "diff")
	}
}
