package engine

// This file is the vocabulary between a diff, a plan, the engines and the runner: steps,
// requirements, and what a table is and becomes.

import (
	"context"
	"slices"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

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
	Loses []Loss // what it destroys
	Kept  bool   // what it destroys is kept
	// UndoLoses is what its undo destroys; the runner keeps it, and puts it back
	// when the step is applied again.
	UndoLoses []Loss
	Here      []Requirement // asked just before it is applied
	HereUndo  []Requirement // asked just before it is undone
	Batches   *Batches      // of a step in batches
	Rows      []StepRows
	Objects   []StepObject
	Early     bool // of a step with an undo alone: it comes before names change, for the names that it needs
	First     bool // it creates a schema, in which the others create things
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

// Requirement is a query whose rows block a migration, and the sentence that
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
	// Repeats are the columns of Among whose values are in more than one row, where it is
	// about such; Folded, whether case does not count. They are not in a file.
	Among   string
	Repeats []string
	Folded  bool
	// Shape tells that it asks which columns a table has, and not for its rows: it can be
	// asked only when the table is as the step expects it.
	Shape bool
	// Attached: it is about what depends on columns that go, each with the column, its kind and
	// its name. It is not in a file.
	Attached bool
	// Wait: time may fix it, so the migration is not refused but waits.
	Wait bool
	// Revives: its rows are deleted ones, which an undo would bring back.
	Revives bool
	// Ungiven are the columns, as table.column, whose value for an undo it reads, where
	// nobody gave one. It is not in a file.
	Ungiven []string
}

// InTheWay gives the number of rows of a query, and the first five. One with few
// rows is run once; one with many is left early, and then counted.
func InTheWay(ctx context.Context, db Queries, query string) (int64, Rows, error) {
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

// RowDeletion is rows of a table that go, and the table in which they are kept;
// none: they are deleted for good.
type RowDeletion struct {
	Table *sqlschema.Table
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

// RowUpsert is reference rows of a table that are to be as they are declared,
// and the table in which the values are kept that they had.
type RowUpsert struct {
	Table *sqlschema.Table // with its triggers
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
	Copies      bool // every row is written again
	CopiesBack  bool // every row is written again by the undo
}

// Source tells where a column's value comes from when a table is altered: from
// an expression over the old columns, from what was kept, or (both empty) from
// the column's default.
type Source struct {
	SQL           string
	Converts      bool     // SQL is this engine's own conversion of the column's old value
	Unconvertible bool     // the column's old value cannot be turned into the new type: any one blocks
	Fill          string   // SQL gives this value to rows that had none; they are noted in the kept table
	Kept          string   // the kept table that holds the value
	Literal       bool     // SQL is the same constant for every row
	Constant      bool     // Fill is the same constant for every row
	NullsIn       string   // the kept table that tells which rows had no value
	Else          string   // SQL for rows that Kept has nothing for
	Match         []string // of Kept and NullsIn: the columns that tell whose value it is
}

// Alteration is one table before and after, and how each gets its values from
// the other. Columns of the same name get their values from each other unless
// Forward or Back says otherwise; all others get their default.
type Alteration struct {
	From, To *sqlschema.Table
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
	// Handled are the triggers that others see to, before the columns change.
	Handled []string
}

// TableDrop is a table to be dropped, and where its rows are kept.
type TableDrop struct {
	Table *sqlschema.Table
	Keep  string
}

// Parent tells whether the rows that a reference points at can be asked about.
type Parent int

// What of a parent is there.
const (
	ParentUnknown Parent = iota // with another name, or not yet
	ParentThere
	ParentNew // it comes with the migration, and is empty
)

// Match are the columns, there before and after, by which a kept value finds
// its row again: the key, and the time of creation, since a key may be given
// again. None: there is no such key.
func (a Alteration) Match() []string {
	keys := a.From.Key()
	if slices.ContainsFunc(keys, func(k string) bool { return a.To.Column(k) == nil }) {
		if keys = a.otherKey(); keys == nil {
			return nil
		}
	}
	const created = "created_at"
	if _, given := a.Forward[created]; len(keys) > 0 && !given && !slices.Contains(keys, created) &&
		!slices.Contains(a.Lost, created) && a.From.Column(created) != nil && a.To.Column(created) != nil {
		keys = append(slices.Clone(keys), created)
	}
	return keys
}

// Matched are the sources of the way back, with the columns by which kept values find their
// rows.
func (a Alteration) Matched() map[string]Source {
	out := map[string]Source{}
	for column, s := range a.Back {
		s.Match = a.Match()
		out[column] = s
	}
	return out
}

// otherKey are columns that tell rows apart before and after: those of the key that comes,
// or of a uniqueness that stays as it is and leaves no row out; nil: there are none.
func (a Alteration) otherKey() []string {
	stays := func(column string) bool {
		old, now := a.From.Column(column), a.To.Column(column)
		return old != nil && now != nil && old.NotNull && old.SQLType == now.SQLType && old.Generated == nil &&
			!slices.Contains(a.Lost, column)
	}
	if keys := a.To.Key(); len(keys) > 0 && !slices.ContainsFunc(keys, func(k string) bool { return !stays(k) }) {
		return keys
	}
	for _, x := range a.From.Indexes {
		if x.Unique && !x.Invalid && x.Where == nil && !slices.ContainsFunc(x.Parts, func(p sqlschema.Part) bool {
			return p.Expr != nil || p.Collation != "" || p.Length > 0 || !stays(p.Column)
		}) {
			return sqlschema.Names(x.Parts)
		}
	}
	return nil
}
