package proof

// This file makes scratch databases, and runs migrations there.

import (
	"context"
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Scratch makes a scratch database that holds what s does, without rows, and tells what
// of it cannot be created there. Erbario's own tables are not meant.
func Scratch(ctx context.Context, e runner.Engine, s *sqlschema.Schema) (engine.Database, []engine.LeftOut, error) {
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("no scratch database: %w", err)
	}
	own := &sqlschema.Schema{Views: s.Views, Others: s.Others, Elsewhere: s.Elsewhere, Collation: s.Collation}
	for _, t := range s.Tables {
		if !schema.Own(t.Name) {
			own.Tables = append(own.Tables, t)
		}
	}
	left, err := engine.Fill(ctx, db, e.DDL().CreateAll(own))
	if err != nil {
		db.Close()
		return nil, nil, fmt.Errorf("the live database cannot be copied to scratch: %w", err)
	}
	return db, left, nil
}

// Replay runs migrations on an empty scratch database, without rows. It has the tables
// that wanted declares as outside and the migrations do not create; nil: none.
func Replay(ctx context.Context, e runner.Engine, list []*migration.Migration,
	wanted *sqlschema.Schema) (engine.Database, error) {
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, err
	}
	if err := MakeOutside(ctx, db, e, wanted, list); err != nil {
		db.Close()
		return nil, err
	}
	for _, m := range list {
		if err := Run(ctx, db, e, m, false); err != nil {
			db.Close()
			return nil, fmt.Errorf("the migrations cannot be run on an empty database: %w", err)
		}
	}
	return db, nil
}

// ReferenceRows gives a proof the reference rows that a line of migrations has made in a
// database where nothing else has rows, as Input.Live does: those that come may refer to
// them. s is what is there.
func ReferenceRows(ctx context.Context, db engine.Database, e runner.Engine, s *sqlschema.Schema,
	line []*migration.Migration) func(table string, limit int) (engine.Rows, error) {
	made := migration.RowsOf(line, e)
	return func(table string, _ int) (engine.Rows, error) {
		t := s.Table(table)
		if t == nil || made[strings.ToLower(t.Name)] == nil {
			return engine.Rows{}, nil
		}
		return db.Sample(ctx, "SELECT "+Stored(t, e)+" FROM "+e.SQL().QuoteTable(t.Name), referenceRows)
	}
}

// Stored are the columns of a table that its rows have values for, as SQL.
func Stored(t *sqlschema.Table, e runner.Engine) string {
	var names []string
	for _, c := range t.Columns {
		if c.Generated == nil {
			names = append(names, e.SQL().Quote(c.Name))
		}
	}
	return strings.Join(names, ", ")
}

// After is what a schema becomes by migrations, run on scratch without rows, and what the
// scratch database could not have. wanted is then in the words in which the server keeps
// what they changed; nil: it is not asked for.
func After(ctx context.Context, e runner.Engine, s *sqlschema.Schema, wanted *sqlschema.Schema,
	list []*migration.Migration,
	run func(db engine.Database) error) (*sqlschema.Schema, []engine.LeftOut, error) {
	part, rest := Part(e, s, list...)
	db, left, err := Scratch(ctx, e, part)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	if err := run(db); err != nil {
		return nil, left, err
	}
	after, err := db.Inspect(ctx)
	if err != nil {
		return nil, left, err
	}
	if wanted != nil {
		err = engine.Canonicalize(ctx, db, among(wanted, after), after)
	}
	return Join(after, rest), left, err
}

// Run runs one direction of a migration in a transaction of its own, without
// history.
func Run(ctx context.Context, db engine.Database, e runner.Engine, m *migration.Migration, undo bool) error {
	if !m.Atomic() && e.Caps().Journal {
		return runner.StepByStep(ctx, db, e, m, undo)
	}
	if err := db.Begin(ctx, 0); err != nil {
		return err
	}
	if err := runner.Steps(ctx, db, e, m, undo); err != nil {
		db.Rollback()
		return err
	}
	return db.Commit(ctx)
}
