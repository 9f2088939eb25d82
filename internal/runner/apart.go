package runner

// This file asks a database for what only some can do: statements outside of any transaction,
// locks of tables, and what is left of them where a run was cut off.

import (
	"context"
	"errors"

	"erbario/internal/engine"
)

var errOneTransaction = errors.New("every migration is one transaction in this database")

// outside runs a statement that cannot be in a transaction.
func outside(ctx context.Context, db engine.Database, sql string) error {
	if a, ok := engine.As[engine.Autocommitter](db); ok {
		return a.ExecAutocommit(ctx, sql)
	}
	return errOneTransaction
}

// noteBefore notes what statements outside of any transaction are about to change; "" where
// the database can tell without it how far they came.
func noteBefore(ctx context.Context, db engine.Database, statements []string) (string, error) {
	if n, ok := engine.As[engine.Checkpointer](db); ok {
		return n.Checkpoint(ctx, statements)
	}
	return "", nil
}

// reached tells how many of the statements are done where they may have been cut off.
func reached(ctx context.Context, db engine.Database, statements []string, before string) (int, error) {
	if r, ok := engine.As[engine.Resumer](db); ok {
		return r.StatementsDone(ctx, statements, before)
	}
	return 0, errOneTransaction
}

// lockTables lets nobody else at tables, nor at those that statements lock, until unlock.
func lockTables(ctx context.Context, db engine.Database, tables, statements []string) (unlock func() error, err error) {
	if l, ok := engine.As[engine.TableLocker](db); ok {
		return func() error { return l.UnlockTables(ctx) }, l.LockTables(ctx, tables, statements)
	}
	return func() error { return nil }, nil
}

// sessionOf names the connection to others; "" where it has no name.
func sessionOf(db engine.Database) string {
	if r, ok := engine.As[engine.Resumer](db); ok {
		return r.Session()
	}
	return ""
}

// SessionEnded tells whether a session that had a name is no longer there.
func SessionEnded(ctx context.Context, db engine.Database, session string) (bool, error) {
	if r, ok := engine.As[engine.Resumer](db); ok {
		return r.SessionEnded(ctx, session)
	}
	return true, nil
}
