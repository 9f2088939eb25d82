// Package engine says what every database can do for Erbario: be opened and
// read, run statements, and put declarations and changes into its own words.
// Each engine is a folder of its own below this one and knows no other; nothing
// outside asks which engine it is.
package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/schema"
)

// Engine is one kind of database. All its methods but Open and Scratch are
// functions of their arguments.
type Engine interface {
	// Name is the word for the engine in file names and in the language.
	Name() string
	// Schemes are the schemes of its URLs.
	Schemes() []string

	// Realize fills the stored layer of a declared schema: what this engine
	// keeps for it. The notices tell where it cannot do what was declared.
	Realize(declared *schema.Schema) (*schema.Schema, []Notice)
	// Recreate gives what makes an empty database hold the same as s, from the
	// statements that s was read from where there are any; Fill runs it.
	Recreate(s *schema.Schema) []Creation
	// Empty gives the statements that drop everything that s holds.
	Empty(s *schema.Schema) []string
	// Create and Drop give the steps for a whole table.
	Create(t *schema.Table) Step
	Drop(d Dropping) Change
	// Alter gives the steps that make one table another.
	Alter(a Alteration) Change
	// Remove gives the step that takes rows out of a table.
	Remove(r Removal) Step
	// SetRows gives the step that makes reference rows as they are declared.
	SetRows(r RowSetting) Step
	// KeepAside gives the statements that make the table kept, and those that put values
	// of t aside into it, before t or some of its columns are dropped; no columns: all of
	// it. PutBack gives those that bring them back into the table once it is there
	// again; what finds no row stays in kept.
	KeepAside(t *schema.Table, columns []string, kept string) (makes, fills []string)
	// With stay, kept rows are not taken away, since they hold more.
	PutBack(t, kept *schema.Table, stay bool) []string
	// Rename gives the steps that give a table or a column of s another name,
	// followed by everything that refers to it, and s after them. Without s it is a
	// table that nothing refers to.
	Rename(s *schema.Schema, table, column, to string) ([]Step, *schema.Schema)
	// Separate gives steps, as they would stand in one transaction, the form in which
	// the engine runs them.
	Separate(steps []Step) []Step
	// CommitsChanges tells whether a change of a table commits by itself, so that a
	// migration cannot be one transaction.
	CommitsChanges() bool
	// OrdersColumns tells whether the order of columns is compared, and can be mended.
	OrdersColumns() bool
	// ChecksAll tells that a change in place fails where any view or trigger of the database
	// does not work.
	ChecksAll() bool
	// EmptyRow is what stands behind INSERT INTO and a table's name for a row of
	// defaults alone.
	EmptyRow() string
	// Convert tells how a value of one column becomes one of another type; ok is
	// false where there is no one obvious way.
	Convert(from, to *schema.Column) (c Conversion, ok bool)
	// Literal is a declared value as SQL of the column's type.
	Literal(v schema.Value, t schema.Type) (string, error)
	// SameValue is the condition that two values of a column are the same to an index of
	// which it is a part.
	SameValue(p schema.Part, c *schema.Column, a, b string) string
	// Quote is a name as SQL, Text a text as a literal.
	Quote(name string) string
	Text(s string) string
	// Foundation are the statements that make the table of history where it is not
	// there yet, and what else Erbario needs in a database.
	Foundation() []string
	// Journal is the statement that makes the table in which the steps of a migration
	// are noted that is not one transaction; empty where every one is.
	Journal() string
	// At is the engine with the server of a URL, on which Scratch makes databases.
	At(url string) Engine
	// ProveIn is the engine with the URL of an empty database in whose place Scratch
	// makes none.
	ProveIn(url string) Engine
	// HoldsReferences tells whether references are held at every statement, so that
	// what is referred to has to be there first; else they are held at the end.
	HoldsReferences() bool
	// Locks tells what a statement locks of the tables that are there, and whether it
	// reads or writes their rows; nothing where the whole database is one lock.
	Locks(statement string) []Lock
	// Locking says in a sentence how long a migration keeps others waiting.
	Locking() string
	// ReferenceInUse gives the steps that make a reference while its tables are used.
	ReferenceInUse(t *schema.Table, k *schema.ForeignKey) []Step
	// AddReference and DropReference give the statements for one alone, on engines
	// that hold them.
	AddReference(t *schema.Table, k *schema.ForeignKey) []string
	DropReference(t *schema.Table, k *schema.ForeignKey) []string
	// Trigger gives the statements that make a trigger, and those that drop it.
	Trigger(t *schema.Table, g *schema.Trigger) (create, drop []string)
	// Cast gives a literal the type of a column, where nothing else would tell it.
	Cast(sql, sqlType string) string
	// DeleteTogether gives the statements that delete rows of several tables, which
	// may refer to each other; where is by table.
	DeleteTogether(tables, where []string) []string

	// Enums are the words for enum types; nil where the engine has none.
	Enums() Enums
	// Stages are the words for staged pairs of migrations; nil where the engine has
	// none, since nobody writes while it migrates.
	Stages() Stages

	// SeedTables are the statements that make the tables in which runs of seeds
	// are recorded where they are not there yet.
	SeedTables() []string
	// Insert is the statement, for a script, that puts rows into a table, and
	// ScriptChange those that do what Database.Change does.
	Insert(r TableRows) string
	ScriptChange(r TableRows, by []string, quiet bool) []string

	// Split cuts SQL into statements and the comments between them.
	Split(src string) []Piece
	// Bind puts values, as SQL by name, in the place of the words :name.
	Bind(sql string, values map[string]string) string
	// Refuse says why a statement cannot stand in a step, or nil.
	Refuse(statement string) error
	// Misplaced says why statements cannot stand together in a step of a kind, or nil.
	Misplaced(kind StepKind, statements []string) error
	// OnlyLocks tells whether a statement does nothing but to lock tables.
	OnlyLocks(statement string) bool
	// CompareKey is the condition that rows lie behind (op ">") a place in the order of keys,
	// or up to it ("<="), in a form for which the engine looks at no other rows. Keys are
	// SQL, and a place is (VALUE, …), as literals.
	CompareKey(keys []string, op, place string) string
	// Tokens cuts SQL into its tokens, comments left out.
	Tokens(sql string) []Token
	// Inside is a statement of a step outside of any transaction as it can stand in one,
	// where nobody else is at work.
	Inside(statement string) string
	// ScriptStatement is a statement of a step as a plain script needs it, and
	// ScriptRequire what stops a script where the requirement's query has rows.
	ScriptStatement(statement string) []string
	ScriptRequire(r Requirement) []string
	// ScriptAround gives what a plain script of a migration needs before and
	// behind its transaction, and how that begins and ends.
	ScriptAround() (before, begin, commit, after []string)
	// Unguarded gives statements that delete rows of a table past the guard of its soft
	// deletion.
	Unguarded(t *schema.Table, sql ...string) []string
	// Candidates are SQL literals to try as values of the column in a proof.
	Candidates(t *schema.Table, c *schema.Column) []string

	// Open connects to the database of a URL.
	Open(ctx context.Context, url string, mode Mode) (Database, error)
	// Scratch opens a new empty database that cannot reach any other.
	Scratch(ctx context.Context) (Database, error)
}

// Enums puts changes of enum types into an engine's words. A type's values can come and
// be renamed; where one goes, or their order is another, the type is set apart and made
// anew.
type Enums interface {
	// Make and Drop give the statements that make a type and drop it.
	Make(name string, values []string) []string
	Drop(name string) []string
	// Rename gives a type another name, RenameValue one of its values.
	Rename(name, to string) []string
	RenameValue(name, value, to string) []string
	// Add gives the statements that add what wanted has beside values, whose order
	// stays.
	Add(name string, values, wanted []string) []string
	// Text gives a value of a type as text, Value a text as value of a type in SQL.
	Text(sql string) string
	Value(sql, sqlType string) string
}

// Stages puts into an engine's words what stands between the two migrations of a
// staged pair, while an application that knows of a change and one that does not both
// write.
type Stages interface {
	// Bridge gives the triggers that complete what either application writes, and note
	// who writes as before.
	Bridge(t *schema.Table, spans []Span) []*schema.Trigger
	// Follow gives the triggers that take the place of a bridge in the moment in which its
	// columns change their names: until the old ones are dropped, and again while an undo
	// brings them back, those have what is written to the new ones. nil where all of it is
	// one transaction.
	Follow(t *schema.Table, list []Following) []*schema.Trigger
	// LiveView is the view of the rows that are not deleted, as a table now is.
	LiveView(t *schema.Table, without ...string) *schema.View
	// Begin gives the statements that begin to note who writes as before: the change
	// itself counts as such, where there are rows. End forgets it.
	Begin(table string) []string
	End(table string) []string
	// CatchUp gives the statements by which the column that stood for another has what
	// that one has now, where that was written while no bridge was there.
	CatchUp(table string, s Span) []string
	// Settled is what must hold before the second migration: for so long nobody has
	// written as before.
	Settled(table string, wait time.Duration) Requirement
	// Guarded is the converted value of a column, null where the value does not fit. The
	// conversion's own SQL sees to that by itself.
	Guarded(c Conversion, column, sqlType string) string
	// Differ is the condition that two expressions do not give the same, or one of them
	// null.
	Differ(a, b string) string
	// Random tells whether a default is another one each time it is asked for.
	Random(c *schema.Column) bool
}

// Following is a column that is about to be dropped and follows another until then.
type Following struct {
	Column *schema.Column // that follows
	Value  string         // over the row
}

// Span is one column that a bridge gives its value.
type Span struct {
	Column *schema.Column
	Fill   string         // the value where none was written, over the row; "" with Old
	Old    *schema.Column // the column that stood for it, under another name; nil: none
	// There and Back turn a value of Old into one of Column, and back.
	There, Back Conversion
	Hidden      bool // no application knows Column yet
}

// Gentle is a Database that tells how gently it can make a change of a table: Gentlest
// runs the statement, and returns it with the words for that. Where the table has no rows
// it promises no more than what it can do with them. Softens tells whether a statement is
// such a change.
type Gentle interface {
	Softens(statement string) bool
	Gentlest(ctx context.Context, statement string) (string, error)
}

// Entitled is a Database that tells beforehand what its user has no right to do: each as a
// sentence that says how to get it.
type Entitled interface {
	Barred(ctx context.Context, statements []string) ([]string, error)
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

// Mode is what a database is opened for.
type Mode int

// The modes of Open.
const (
	ReadOnly  Mode = iota // nothing is written, nothing made
	ReadWrite             // the database must be there
	Make                  // a database that is not there is made
)

// ErrNoSession is wrapped by Hold's error where no session is ours, as behind a pooler.
var ErrNoSession = errors.New("the connection goes through a pooler, which gives no session of its own")

// ErrMissing is wrapped by Open's error when the database itself is not there.
var ErrMissing = errors.New("does not exist")

// ErrLost is wrapped by an error when the connection is gone: nobody knows here what
// the server has made of the last statement.
var ErrLost = errors.New("the connection was lost")

// ErrDenied is wrapped by an error when the user has no right to do what was asked.
var ErrDenied = errors.New("has no right to do this")

// ErrBusy is wrapped by Begin's error when somebody else holds the lock.
var ErrBusy = errors.New("is locked by another session")

// Database is one connection to one database, held until Close. Its methods
// must not be called at the same time.
type Database interface {
	// Inspect reads everything that the database holds.
	Inspect(ctx context.Context) (*schema.Schema, error)
	// Restate puts the SQL of a wanted schema into the words in which the server
	// keeps it, where it has others for it than live has. Nothing is left behind.
	Restate(ctx context.Context, wanted, live *schema.Schema) error
	// Exec runs one statement; args fill its ? marks.
	Exec(ctx context.Context, sql string, args ...any) error
	// Select runs a query of our own and returns its values as text, NULL as "".
	Select(ctx context.Context, sql string, args ...any) ([][]string, error)
	// Count is the number of rows of a query that anyone wrote.
	Count(ctx context.Context, query string) (int64, error)
	// Sample returns the first rows of a query that anyone wrote, as literals.
	Sample(ctx context.Context, query string, limit int) (Rows, error)
	// Begin begins the transaction of a migration, under the lock that lets only
	// one run at a time; it waits up to wait for it.
	Begin(ctx context.Context, wait time.Duration) error
	// Tell sets what is told how far a step is that copies many rows.
	Tell(report func(Progress))
	// Waits sets what is told for whom a statement of a migration waits, where it is kept
	// waiting and the engine can tell.
	Waits(report func(who string))
	// Step runs one statement of a migration.
	Step(ctx context.Context, sql string) error
	// Watch notes, before the first step, how what the statements touch holds
	// together, and the tables into which rows come otherwise, where the engine
	// does not see to that by itself; Settle checks, before Commit, that it is no
	// worse.
	Watch(ctx context.Context, statements, tables []string) error
	Settle(ctx context.Context) error
	Commit(ctx context.Context) error
	Rollback() error
	// Hold takes the lock of Begin for more than one transaction, until Release.
	Hold(ctx context.Context, wait time.Duration) error
	Release(ctx context.Context) error
	// Outside runs a statement that cannot stand in a transaction. Before notes what
	// such statements are about to change, and Reached tells, from that, how many of
	// them are done where they may have been cut off; what is half there is taken away,
	// so that it can be run again.
	Outside(ctx context.Context, sql string) error
	Before(ctx context.Context, statements []string) (string, error)
	Reached(ctx context.Context, statements []string, before string) (int, error)
	// LockTables lets nobody else at tables, nor at those that statements lock, until
	// UnlockTables, where the engine does not do so by itself.
	LockTables(ctx context.Context, tables, statements []string) error
	UnlockTables(ctx context.Context) error
	// Session names this connection to others, and Gone tells whether one that had a
	// name is there no more, so that nothing of it still runs.
	Session() string
	Gone(ctx context.Context, session string) (bool, error)
	// HeldUp tells for whom the session of a name waits; "" for nobody.
	HeldUp(ctx context.Context, session string) (who string, err error)
	Close() error
	// Broken names the views and triggers that do not work as they stand.
	Broken(ctx context.Context) ([]string, error)
	// HoldReferences makes the engine refuse rows whose reference points at
	// nothing, or lets them in, for the statements that follow.
	HoldReferences(ctx context.Context, hold bool) error
	// Load puts rows into a table, as fast as the engine takes them. References are
	// not held: the rows of a seed are right by the way they are made.
	Load(ctx context.Context, r TableRows) error
	// Encode gives rows the form in which Load sends them, or nil where that is not known
	// by now: it may be called beside any other method, so that the server need not wait
	// for it.
	Encode(r TableRows) []byte
	// Find looks for rows by some of their values, and returns for each row asked
	// for the columns Take of the one that is there, or nil: texts, and nil for NULL.
	Find(ctx context.Context, f Finding) ([][]any, error)
	// Change sets columns of rows that are told by others, and nothing else: what
	// the database does by itself when a row changes is not done, if quiet.
	Change(ctx context.Context, r TableRows, by []string, quiet bool) (changed int64, err error)
	// DeleteEqual deletes one row for each of those given that is equal to it in all
	// its columns, null or not, and tells how many it found.
	DeleteEqual(ctx context.Context, r TableRows) (deleted int64, err error)
	// NextNumber is the number that the next row of a table gets; Reserve sees to
	// it that nobody gets one up to last.
	NextNumber(ctx context.Context, t *schema.Table) (int64, error)
	Reserve(ctx context.Context, t *schema.Table, last int64) error
	// Kept are the names of the tables that begin with prefix.
	Kept(ctx context.Context, prefix string) ([]string, error)
	// Size is the room that a table takes, in bytes, as near as the engine tells.
	Size(ctx context.Context, table string) (int64, error)
	// HasHistory tells whether the table of history is there.
	HasHistory(ctx context.Context) (bool, error)
}

// TableRows are rows of a table. A value is nil, an int64, float64, bool, []byte,
// or a string: of a text, a decimal with all its digits, a day 2006-01-02, a time
// 15:04:05, a moment 2006-01-02 15:04:05.
type TableRows struct {
	Table   *schema.Table
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

// Notice tells where an engine does not do exactly what was declared, or cannot do it.
type Notice struct {
	Mistake       bool   // it cannot
	Kind          string // the same for all notices of one kind
	Table, Column string
	Text          string
}

// Piece is a statement, or a comment between statements.
type Piece struct {
	Comment bool
	Text    string // without the ";" that ends a statement
	Line    int    // from 1
	Bad     string // why it is not whole, if it is not
}

// StepKind tells in which transaction a step runs.
type StepKind string

// The kinds of step: in the migration's one transaction, in one of its own, in many, of
// some rows each, and in none. A migration with one of the last three can stop between
// two steps.
const (
	InTransaction      StepKind = ""
	OwnTransaction     StepKind = "own transaction"
	InBatches          StepKind = "in batches"
	OutsideTransaction StepKind = "outside transaction"
)

// Kinds are those that a step's line tells.
var Kinds = []StepKind{OwnTransaction, InBatches, OutsideTransaction}

// Batch is the word in a statement for the rows of one batch: a condition takes its
// place.
const Batch = "batch"

// Batches are the rows over which a step goes in batches: those of a table, in the
// order of its key.
type Batches struct {
	Table string
	Key   []string
	// Where, if not "", is the condition of the few rows that the step is about: they are
	// looked for, and the others passed over.
	Where string
}

// Step is one piece of a migration with its way back.
type Step struct {
	Title string
	Kind  StepKind
	Work  Work   // what it does with rows
	Note  string // what else is to be said of it; the locks that it takes
	Apply []string
	Undo  []string
	Loses []string // what it destroys, such as specimens.label
	Kept  bool     // what it destroys is kept
	// UndoLoses is what its undo destroys; the runner keeps it, and puts it back
	// when the step is applied again.
	UndoLoses []string
	Here      []Requirement // asked just before it is applied
	HereUndo  []Requirement // asked just before it is taken back
	Batches   *Batches      // of a step in batches
	Rows      []StepRows
}

// AsksHere tells whether a requirement is asked just before the step is applied.
func (s *Step) AsksHere(r Requirement) bool {
	return slices.ContainsFunc(s.Here, func(o Requirement) bool { return o.Query == r.Query })
}

// StepRows are reference rows that belong to the line of migrations from a step
// on, or no more.
type StepRows struct {
	Table   string
	By      []schema.KeyPart // what tells the rows apart
	Columns []string         // that have declared values, beside By
	Gone    bool
	Keys    []string // as schema.JoinKey writes them
}

// Lock is what a statement holds of a table while it runs.
type Lock struct {
	Table  string
	Mode   string // in the engine's words
	Level  int    // a stronger lock has a higher one
	Alone  bool   // nobody else even reads meanwhile
	Work   Work
	Around bool // it is held around other statements, whose own modes are told beside it
}

// Work is what a statement or a step does with the rows of a table.
type Work int

// The kinds of work, each graver than the one before it.
const (
	NoWork Work = iota // it has to do with no rows, or nothing is known of it
	Keeps
	Reads
	Rewrites
	Copies
)

// String is the work in words, as a migration has it beside a step; empty for NoWork.
func (w Work) String() string {
	return [...]string{"", "keeps every row", "reads every row", "rewrites every row", "copies every row"}[w]
}

// Requirement is a query whose rows stand in the way, and the sentence that
// says so, with {n} for their number.
type Requirement struct {
	Sentence string
	Query    string
	// While it is planned, and not in a file: the table and the column it is about, where it
	// is about one, and whether a row that blocks it would lose a value and not be refused
	// by the database.
	Table  string
	About  string
	Guards bool
	Lacks  bool // it is about rows that have no value in that column
	// Repeats are the columns of Among whose values stand in more than one row, where it is
	// about such; Folded, whether case does not count. They are not in a file.
	Among   string
	Repeats []string
	Folded  bool
	// Shape tells that it asks which columns a table has, and not for its rows: it can be
	// asked only when the table is as the step expects it.
	Shape bool
	// Wait: time may fix it, so the migration is not refused but waits.
	Wait bool
	// Revives: its rows are deleted ones, which an undo would bring back.
	Revives bool
	// Ungiven are the columns, as table.column, whose value for an undo it reads, where
	// nobody gave one. It is not in a file.
	Ungiven []string
}

// DeletedRows is how the rows of a table that are marked as deleted are called
// among what a step loses.
func DeletedRows(table string) string { return "deleted rows of " + table }

// InTheWay gives the number of rows of a query, and the first five. One with few
// rows is run once; one with many is left early, and then counted.
func InTheWay(ctx context.Context, db Database, query string) (int64, Rows, error) {
	const shown, few = 5, 500
	rows, err := db.Sample(ctx, query, few+1)
	n := int64(len(rows.Values))
	if err == nil && n > few {
		n, err = db.Count(ctx, query)
	}
	rows.Values = rows.Values[:min(len(rows.Values), shown)]
	return n, rows, err
}

// Conversion is how a value becomes one of another type. A row whose value does
// not come back the same is in the way.
type Conversion struct {
	SQL  string // over the old row; empty: the value stays as it is
	How  string // in words; empty: nobody would ask
	Fits string // the condition that a value can be converted; empty: every one can
	// Exact tells that each value that fits comes back the same.
	Exact bool
}

// Removal is rows of a table that go, and the table in which they are kept;
// none: they are deleted for good.
type Removal struct {
	Table *schema.Table
	Where string
	Keep  string
	What  string // the rows in words, such as "deleted rows of specimens"
	// Known are the tables whose references to the rows are seen to; none of any other
	// may take rows along, or loosen them.
	Known []string
	// By are the columns that tell the rows apart, and Order their values as SQL, those first
	// that others of the same table refer to: for engines that hold references row by row.
	By    []string
	Order [][]string
}

// RowSetting is reference rows of a table that are to be as they are declared,
// and the table in which the values are kept that they had.
type RowSetting struct {
	Table *schema.Table // with its triggers
	By    []string
	Rows  []RowValues
	Keep  string
	Fresh bool // the table comes with the migration: no row can be there
	Title string
	Note  string
}

// RowValues is one reference row, as SQL.
type RowValues struct {
	Key     []string // by the columns that tell the rows apart
	Columns []string
	Values  []string // by Columns
	Add     bool     // it is inserted where it is missing, and the undo takes it away
	Change  []string // the columns that are set where it is there
}

// Change is the steps of one table, and what must hold before them.
type Change struct {
	Steps       []Step
	BeforeApply []Requirement
	BeforeUndo  []Requirement
	Copies      bool // every row is written anew
	CopiesBack  bool // every row is written anew by the undo
}

// Source tells where a column's value comes from when a table is altered: from
// an expression over the old columns, from what was kept, or (both empty) from
// the column's default.
type Source struct {
	SQL      string
	Converts bool     // SQL is this engine's own conversion of the column's old value
	Blocks   bool     // the column's old value cannot be turned into the new type: any stands in the way
	Fill     string   // SQL gives this value to rows that had none; they are noted in the kept table
	Kept     string   // the kept table that holds the value
	Literal  bool     // SQL is the same constant for every row
	Constant bool     // Fill is the same constant for every row
	Unfill   string   // the kept table that tells which rows had no value
	Else     string   // SQL for rows that Kept has nothing for
	Match    []string // of Kept and Unfill: the columns that tell whose value it is
}

// Alteration is one table before and after, and how each gets its values from
// the other. Columns of the same name get their values from each other unless
// Forward or Back says otherwise; all others get their default.
type Alteration struct {
	From, To *schema.Table
	Forward  map[string]Source                     // by column of To
	Back     map[string]Source                     // by column of From
	Lost     []string                              // the columns of From whose values are lost
	Keep     string                                // the table to keep them in; empty: they are not kept
	Aside    string                                // begins the names of columns that are kept in place
	Parent   func(table string, after bool) Parent // what of a table that is referred to is there before the migration, or after it
	Summary  string                                // the changes in words
	// SummaryRest is the title of the last step, where those before it did a part of the changes.
	SummaryRest string
	Only        string // the condition of the rows that stay, where a step before it takes others out
	NoKeep      bool   // Lost is not kept; Keep is for fills alone
	InUse       bool   // others work on the table in the meantime
	NoDrop      bool   // columns cannot be dropped in place in this database
	Copy        bool   // the table is copied, for the order of its columns
}

// Dropping is a table to be dropped, and where its rows are kept.
type Dropping struct {
	Table *schema.Table
	Keep  string
}

// Parent tells whether the rows that a reference points at can be asked about.
type Parent int

// What of a parent is there.
const (
	ParentUnknown Parent = iota // under another name, or not yet
	ParentThere
	ParentNew // it comes with the migration, and is empty
)

// Match are the columns, there before and after, by which a kept value finds
// its row again: the key, and the time of creation, since a key may be given
// anew. None: there is no such key.
func (a Alteration) Match() []string {
	keys := a.From.Key()
	if slices.ContainsFunc(keys, func(k string) bool { return a.To.Column(k) == nil }) {
		if keys = a.otherKey(); keys == nil {
			return nil
		}
	}
	const created = "created_at"
	if _, given := a.Forward[created]; len(keys) > 0 && !given && !slices.Contains(keys, created) && !slices.Contains(a.Lost, created) && a.From.Column(created) != nil && a.To.Column(created) != nil {
		keys = append(slices.Clone(keys), created)
	}
	return keys
}

// otherKey are columns that tell rows apart before and after: those of the key that comes,
// or of a uniqueness that stays as it is and leaves no row out; nil: there are none.
func (a Alteration) otherKey() []string {
	stays := func(column string) bool {
		old, now := a.From.Column(column), a.To.Column(column)
		return old != nil && now != nil && old.NotNull && old.SQLType == now.SQLType && old.Generated == nil && !slices.Contains(a.Lost, column)
	}
	if keys := a.To.Key(); len(keys) > 0 && !slices.ContainsFunc(keys, func(k string) bool { return !stays(k) }) {
		return keys
	}
	for _, x := range a.From.Indexes {
		if x.Unique && !x.Invalid && x.Where == nil && !slices.ContainsFunc(x.Parts, func(p schema.Part) bool {
			return p.Expr != nil || p.Collation != "" || p.Length > 0 || !stays(p.Column)
		}) {
			return schema.Names(x.Parts)
		}
	}
	return nil
}

var atExit []func()

// AtExit has f called when the program ends.
func AtExit(f func()) { atExit = append(atExit, f) }

// Exit takes away what engines made for the time of the program, such as scratch
// databases.
func Exit() {
	for _, f := range atExit {
		f()
	}
	atExit = nil
}

var engines []Engine

// Register adds an engine; each engine's package does it once.
func Register(e Engine) { engines = append(engines, e) }

// ByName returns the engine with that name.
func ByName(name string) (Engine, error) {
	for _, e := range engines {
		if e.Name() == name {
			return e, nil
		}
	}
	return nil, fmt.Errorf("there is no engine %q (%s)", name, strings.Join(Names(), ", "))
}

// ForURL returns the engine of a URL by its scheme.
func ForURL(url string) (Engine, error) {
	scheme, _, ok := strings.Cut(url, ":")
	var known []string
	for _, e := range engines {
		if ok && slices.Contains(e.Schemes(), scheme) {
			return e.At(url), nil
		}
		known = append(known, e.Schemes()...)
	}
	if !ok || strings.ContainsAny(scheme, "/\\.@ ") {
		return nil, &SchemeError{Known: known}
	}
	return nil, &SchemeError{Scheme: scheme, Known: known}
}

// SchemeError says that a URL begins with no engine's scheme.
type SchemeError struct {
	Scheme string
	Known  []string
}

func (e *SchemeError) Error() string {
	if e.Scheme == "" {
		return fmt.Sprintf("the URL has no scheme: it begins with one of %s, such as sqlite:herbarium.db", strings.Join(e.Known, ", "))
	}
	return fmt.Sprintf("no engine of this version takes URLs with the scheme %q; it takes %s", e.Scheme, strings.Join(e.Known, ", "))
}

// Names are the names of all engines.
func Names() []string {
	var names []string
	for _, e := range engines {
		names = append(names, e.Name())
	}
	return names
}

// RefusedError says why a statement cannot stand in a step of a migration.
type RefusedError struct{ Word, Why string }

func (e *RefusedError) Error() string {
	return fmt.Sprintf("%s is not allowed in a step: %s", e.Word, e.Why)
}
