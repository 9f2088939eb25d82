package draft

// This file makes room for what a migration adds where somebody added the same by hand:
// its values are put where the undo of the migration would put them, and it goes, so that
// the migration adds its own and the values come back into it.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

// TakeOver makes room for what a migration adds: tables, and columns as table.column, which
// were added by hand. Within a transaction nothing is done where it fails.
func TakeOver(ctx context.Context, db engine.Database, e runner.Engine, m *migration.Migration, names []string) error {
	live, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	there := runner.AlreadyThere(m, e, live)
	wanted := live.Clone()
	drop := map[string]bool{}
	for _, name := range names {
		if !slices.Contains(there, name) {
			return fmt.Errorf("--take-over %s matches nothing: %s adds nothing of that name that exists here", name,
				m.ID)
		}
		table, column, _ := sqlschema.CutTable(name, wanted)
		t := wanted.Table(table)
		drop[name] = true
		if column == "" {
			wanted.Tables = slices.DeleteFunc(wanted.Tables, func(o *sqlschema.Table) bool { return o == t })
			continue
		}
		if t.Unkeyed() {
			return fmt.Errorf("--take-over %s: %s has no primary key by which to match the values with their rows",
				name, table)
		}
		t.Columns = slices.DeleteFunc(t.Columns, func(c *sqlschema.Column) bool { return c.Name == column })
		reads := func(x *sqlschema.SQL) bool {
			return x != nil && slices.ContainsFunc(e.SQL().Lex(x.Text),
				func(t sqltok.Token) bool { return t.Named() && strings.EqualFold(t.Name(), column) })
		}
		t.Checks = slices.DeleteFunc(t.Checks,
			func(k *sqlschema.Check) bool { return k.Column == column || reads(&k.SQL) })
		t.Triggers = slices.DeleteFunc(t.Triggers, func(g *sqlschema.Trigger) bool { return g.Column == column })
		t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys,
			func(k *sqlschema.ForeignKey) bool { return slices.Contains(k.Columns, column) })
		t.Indexes = slices.DeleteFunc(t.Indexes, func(x *sqlschema.Index) bool {
			return reads(x.Where) ||
				slices.ContainsFunc(x.Parts, func(p sqlschema.Part) bool { return p.Column == column || reads(p.Expr) })
		})
		t.Text = ""
	}
	if slices.ContainsFunc(there, func(n string) bool { return !drop[n] }) { // it could not be applied all the same
		return &runner.AlreadyThereError{Migration: m.ID, Names: there}
	}
	if err := runner.KeepFor(ctx, db, e, m, names); err != nil {
		return err
	}
	in := plan.Input{
		Engine:  e,
		Kept:    m.Kept(),
		Live:    live,
		Wanted:  wanted,
		Made:    live,
		Answers: plan.Answers{Drop: drop},
		NoKeep:  true,
		Count:   func(q string) (int64, error) { return db.Count(ctx, q) },
		Look:    func(q string) (int64, engine.Rows, error) { return engine.InTheWay(ctx, db, q) },
		Size:    func(table string) (int64, error) { return db.TableSize(ctx, table) },
	}
	p, err := plan.Make(in)
	if err != nil {
		return err
	}
	if len(p.Questions) > 0 {
		return fmt.Errorf("%s cannot be taken over: %s", strings.Join(names, ", "), p.Questions[0].Text)
	}
	away := planned(m.ID, m.Form, e, p)
	if e.Caps().CommitsChanges {
		return runner.StepByStep(ctx, db, e, away, false)
	}
	return runner.Steps(ctx, db, e, away, false)
}
