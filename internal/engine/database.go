package engine

// This file is a connection to one database, by roles: whoever takes one says which of them
// it needs.

import (
	"context"
	"errors"
	"time"

	"erbario/internal/sqlschema"
)

// Mode is what a database is opened for.
type Mode int

// The modes of Open.
const (
	ReadOnly  Mode = iota // nothing is written, nothing made
	ReadWrite             // the database must be there
	Make                  // a database that does not exist is made
)

// ErrNoSession is wrapped by Hold's error where no session is ours, as behind a pooler.
var ErrNoSession = errors.New("the connection goes through a pooler, which gives no session of its own")

// ErrMissing is wrapped by Open's error when the database itself does not exist.
var ErrMissing = errors.New("does not exist")

// ErrLost is wrapped by an error when the connection is gone: nobody knows here what
// the server has made of the last statement.
var ErrLost = errors.New("the connection was lost")

// ErrDenied is wrapped by an error when the user has no right to do what was asked.
var ErrDenied = errors.New("has no right to do this")

// ErrBusy is wrapped by Begin's error when somebody else holds the lock.
var ErrBusy = errors.New("is locked by another session")

// Queries asks a database for its rows.
type Queries interface {
	// Count is the number of rows of a query that anyone wrote.
	Count(ctx context.Context, query string) (int64, error)
	// Sample returns the first rows of a query that anyone wrote, as literals.
	Sample(ctx context.Context, query string, limit int) (Rows, error)
}

// Conn runs statements and queries, in transactions.
type Conn interface {
	Queries
	// Exec runs one statement; args fill its ? marks.
	Exec(ctx context.Context, sql string, args ...any) error
	// Select runs a query of our own and returns its values as text, NULL as "".
	Select(ctx context.Context, sql string, args ...any) ([][]string, error)
	// Begin begins the transaction of a migration, under the lock that lets only
	// one run at a time; it waits up to wait for it.
	Begin(ctx context.Context, wait time.Duration) error
	Commit(ctx context.Context) error
	Rollback() error
	Close() error
}

// Inspector reads what a database holds beside its rows.
type Inspector interface {
	// Inspect reads everything that the database holds.
	Inspect(ctx context.Context) (*sqlschema.Schema, error)
	// Kept are the names of the tables that begin with prefix.
	Kept(ctx context.Context, prefix string) ([]string, error)
	// TableSize is the room that a table takes, in bytes, as near as the engine tells.
	TableSize(ctx context.Context, table string) (int64, error)
	// HasHistory tells whether the table of history is there.
	HasHistory(ctx context.Context) (bool, error)
}

// StepRunner runs the steps of migrations.
type StepRunner interface {
	// Step runs one statement of a migration.
	Step(ctx context.Context, sql string) error
	// TrackIntegrity notes, before the first step, how what the statements touch holds together,
	// and the tables into which rows come otherwise, where the engine does not see to that
	// by itself.
	TrackIntegrity(ctx context.Context, statements, tables []string) error
	// CheckIntegrity checks, before Commit, that it is no worse.
	CheckIntegrity(ctx context.Context) error
	// Lock takes the lock of Begin for more than one transaction, until Release.
	Lock(ctx context.Context, wait time.Duration) error
	Unlock(ctx context.Context) error
	// EnforceReferences makes the engine refuse rows whose reference points at
	// nothing, or lets them in, for the statements that follow.
	EnforceReferences(ctx context.Context, hold bool) error
}

// Loader puts rows into tables, finds and changes them.
type Loader interface {
	// Load puts rows into a table, as fast as the engine takes them. References are
	// not held: the rows of a seed are right by the way they are made.
	Load(ctx context.Context, r TableRows) error
	// Find looks for rows by some of their values, and returns for each row asked
	// for the columns Take of the one that is there, or nil: texts, and nil for NULL.
	Find(ctx context.Context, f Finding) ([][]any, error)
	// Change sets columns of rows that are told by others, and nothing else: what
	// the database does by itself when a row changes is not done, if quiet.
	Change(ctx context.Context, r TableRows, by []string, quiet bool) (changed int64, err error)
	// DeleteEqual deletes one row for each of those given that is equal to it in all
	// its columns, null or not, and tells how many it found.
	DeleteEqual(ctx context.Context, r TableRows) (deleted int64, err error)
	// NextNumber is the number that the next row of a table gets.
	NextNumber(ctx context.Context, t *sqlschema.Table) (int64, error)
	// Reserve sees to it that nobody gets a number up to last.
	Reserve(ctx context.Context, t *sqlschema.Table, last int64) error
}

// Database is one connection to one database, held until Close, in all its roles. Its
// methods must not be called at the same time.
type Database interface {
	Conn
	Inspector
	StepRunner
	Loader
}

// Some databases can do more; As tells whether one is among them.

// Canonicalizer is a Database that keeps SQL in words of its own.
type Canonicalizer interface {
	// Canonicalize puts the SQL of a wanted schema into the words in which the server
	// keeps it, where it has others for it than live has. Nothing is left behind.
	Canonicalize(ctx context.Context, wanted, live *sqlschema.Schema) error
}

// Verbatim is a database that says how all that it holds is created, with what Inspect has no
// use for, in the words of its server.
type Verbatim interface {
	// Verbatim gives what creates all of a part of what Inspect read.
	Verbatim(ctx context.Context, s *sqlschema.Schema) ([]Creation, error)
	// Objects gives what of it is neither a table, nor a part of one, nor made for a model.
	Objects(ctx context.Context, s *sqlschema.Schema) ([]Creation, error)
}

// ManySchemas is a database that has other schemas besides the one that is read.
type ManySchemas interface {
	// OtherSchemas gives those that are no part of the server or of an extension.
	OtherSchemas(ctx context.Context) ([]OtherSchema, error)
}

// OtherSchema is a schema that is not read, with what creates all that it holds.
type OtherSchema struct {
	Name   string
	Tables int
	Taken  bool // it is that of a project of its own
	Holds  []*sqlschema.Other
}

// ChecksAtOnce is a database some of whose constraints wait for the end of a transaction.
type ChecksAtOnce interface {
	// CheckAtOnce has all of them checked with each statement, until the transaction ends.
	CheckAtOnce(ctx context.Context) error
}

// Canonicalize does what a Canonicalizer does, where the database is one; another keeps SQL as
// it was written.
func Canonicalize(ctx context.Context, db Database, wanted, live *sqlschema.Schema) error {
	if c, ok := As[Canonicalizer](db); ok {
		return c.Canonicalize(ctx, wanted, live)
	}
	return nil
}

// Reporter is a Database that tells how far a step is that copies many rows.
type Reporter interface {
	OnProgress(report func(Progress))
}

// Waiter is a Database that tells for whom a statement of a migration waits, where it is
// kept waiting.
type Waiter interface {
	OnWait(report func(who string))
}

// Sequencer is a Database that has sequences of their own.
type Sequencer interface {
	// NextOf is the value that a sequence gives next.
	NextOf(ctx context.Context, sequence string) (int64, error)
	// StartAt has a sequence give this value next.
	StartAt(ctx context.Context, sequence string, next int64) error
}

// Prober is a Database that names the views and triggers that do not work as they stand.
type Prober interface {
	InvalidObjects(ctx context.Context) ([]string, error)
}

// BodyChecker is a Database that takes routines whose bodies do not work, and names them when asked.
type BodyChecker interface {
	InvalidBodies(ctx context.Context) ([]string, error)
}

// InvalidBodies names the routines whose bodies do not work, where a database takes such.
func InvalidBodies(ctx context.Context, db Database) ([]string, error) {
	if p, ok := As[BodyChecker](db); ok {
		return p.InvalidBodies(ctx)
	}
	return nil, nil
}

// InvalidObjects names the views and triggers that do not work as they stand, where a database can
// have such.
func InvalidObjects(ctx context.Context, db Database) ([]string, error) {
	if p, ok := As[Prober](db); ok {
		return p.InvalidObjects(ctx)
	}
	return nil, nil
}

// Encoder is a Database for which rows can be given the form in which Load sends them,
// beside any other method, so that the server need not wait for it; nil where that form is
// not known by now.
type Encoder interface {
	Encode(r TableRows) []byte
}

// Resumer is a Database in which a migration can stop between two steps, and go on from
// there: see Caps.Journal.
type Resumer interface {
	// StatementsDone tells how many of the statements are done where they may have been cut
	// off, from what Checkpointer.Checkpoint noted, if it is one; what is half there is taken
	// away, so that it can be run again.
	StatementsDone(ctx context.Context, statements []string, before string) (int, error)
	// Session names this connection to others.
	Session() string
	// SessionEnded tells whether a session that had a name is no longer there, so that nothing of it
	// still runs.
	SessionEnded(ctx context.Context, session string) (bool, error)
	// BlockedBy tells for whom the session of a name waits; "" for nobody.
	BlockedBy(ctx context.Context, session string) (who string, err error)
}

// Autocommitter is a Database that runs statements which cannot be in a transaction.
type Autocommitter interface {
	ExecAutocommit(ctx context.Context, sql string) error
}

// Checkpointer is a Resumer that notes what statements outside of any transaction are about to
// change, so that StatementsDone can tell.
type Checkpointer interface {
	Checkpoint(ctx context.Context, statements []string) (string, error)
}

// TableLocker is a Database whose tables are locked by statements of their own.
type TableLocker interface {
	// LockTables lets nobody else at tables, nor at those that statements lock, until
	// UnlockTables.
	LockTables(ctx context.Context, tables, statements []string) error
	UnlockTables(ctx context.Context) error
}

// OnlineDDL is a Database that tells with how little locking it can make a change of a table:
// LeastLocking runs the statement, and returns it with the words for that. Where the table has no rows
// it promises only what it can do with them. CanRunOnline tells whether a statement is
// such a change.
type OnlineDDL interface {
	CanRunOnline(statement string) bool
	LeastLocking(ctx context.Context, statement string) (string, error)
}

// PermissionChecker is a Database that tells beforehand what its user has no right to do: each as a
// sentence that says how to get it.
type PermissionChecker interface {
	MissingPermissions(ctx context.Context, statements []string) ([]string, error)
}

// As is what a database can do beside the rest, whatever it is wrapped in.
func As[T any](db Database) (T, bool) {
	for {
		if t, ok := db.(T); ok {
			return t, true
		}
		w, ok := db.(interface{ Unwrap() Database })
		if !ok {
			var none T
			return none, false
		}
		db = w.Unwrap()
	}
}

// TableRows are rows of a table. A value is nil, an int64, float64, bool, []byte,
// or a string: of a text, a decimal with all its digits, a day 2006-01-02, a time
// 15:04:05, a moment 2006-01-02 15:04:05.
type TableRows struct {
	Table   *sqlschema.Table
	Columns []string
	Cells   []any    // row by row
	Encoded [][]byte // parts of the rows, by Encode, instead of Cells
}

// Rows is the number of rows.
func (r TableRows) Rows() int { return len(r.Cells) / len(r.Columns) }

// Finding asks for rows of a table by the values of some columns.
type Finding struct {
	TableRows          // Columns are those to find them by
	Fold      []string // those of which case does not count
	Live      bool     // only rows that are not deleted
	Take      []string // what is wanted of a row
}

// Progress is how many rows of a table a step has copied or gone over, or a seed has
// made.
type Progress struct {
	Table       string
	Done, Total int64
}

// Rows are a few rows of a query, every value as a literal of the engine.
type Rows struct {
	Columns []string
	Values  [][]string
}
