// Package lang is the model language: scanner, parser, tree, formatter, diagnostics, and edits
// that leave everything else in a file as it was. It knows what a line says and where it
// stands; what the names in it refer to is the business of package declare.
//
//	f, mistakes := lang.Parse("models/box.erbario", "model Box\n    label txt(40)\n")
//	mistakes[0].Message // no type txt
//	mistakes[0].Hint    // did you mean text?
//
// grammar.txt has the whole grammar.
package lang

// This file is the tree. A file is a list of blocks and a block a list of
// lines, as in the text; a line keeps the words it was read from, so that the
// formatter prints what stood there and the parser need not be undone.

import (
	"erbario/internal/schema"
)

// Pos is a place in a file. Line and Col count from 1, Col in characters;
// Off and End are the offsets in bytes of the thing's start and end.
type Pos struct {
	Path      string
	Line, Col int
	Off, End  int
}

// File is one file of models.
type File struct {
	Path   string
	Src    string
	Blocks []*Block
	tail   []comment // the comments after the last block
}

// BlockKind is the word that begins a block.
type BlockKind string

// The blocks of the language.
const (
	ModelBlock  BlockKind = "model"
	ChoiceBlock BlockKind = "choice"
	ShapeBlock  BlockKind = "shape"
	SeedBlock   BlockKind = "seed"
	RowsBlock   BlockKind = "rows"
)

// Block is a line at the margin with the indented lines under it.
type Block struct {
	Kind       BlockKind
	Pos        Pos
	Name       Ident   // of rows: the model
	Outside    bool    // model: the table is there and never changed
	InSQL      bool    // model: the table is declared in a file of SQL
	Values     []Ident // choice: its words
	Enum       bool    // choice: kept as a type of the database, where it has such types
	EnumName   *Value  // choice: the name of that type; nil: by the rule
	EnumSchema *Value  // choice: the schema in which that type lies; nil: the project's own
	By         []Ident // rows: the fields that tell one row from another
	InsertOnly bool    // rows
	From       *Value  // rows: a file of them
	FromLines  []*Line // rows: what that file holds, once it was read
	Lines      []*Line
	head       layout
	tail       []comment // the comments behind its last line
	end        int       // the offset behind its last line
}

// Ident is a name as it was written.
type Ident struct {
	Name   string
	Quoted bool
	Pos    Pos
}

// Line is one line of a block, with those that continue it. Exactly one of the
// pointers is set.
type Line struct {
	Pos Pos
	On  []Ident // the engines it is kept to; none: all

	Field      *Field
	Table      *Value // table "exact_name"
	Schema     *Value // schema "exact_name"
	Comment    *Value
	Key        *KeyLine
	Constraint *Constraint
	ForeignKey *ForeignKey
	Timestamps bool
	Untimed    bool // no timestamps
	SoftDelete *SoftDelete
	Include    *Ident
	Unchecked  bool   // no type checks
	Collation  *Value // collation "NAME"
	Options    *Value // options "…"
	Make       *Make  // seed: MODEL COUNT
	Set        *Set   // seed: field VALUE
	Cells      []Cell // rows: the header or one row

	Lines  []*Line // seed: what stands under it
	layout layout
	end    int
}

// Field is a line `name type clauses`.
type Field struct {
	Name    Ident
	Type    Type
	Clauses []*Clause
}

// Clause returns the first clause that begins with the word, or nil.
func (f *Field) Clause(word string) *Clause {
	for _, c := range f.Clauses {
		if c.Word == word {
			return c
		}
	}
	return nil
}

// Type is the type of a field as it was written.
type Type struct {
	Pos     Pos
	Ref     *Reference  // set: the field is a reference
	Choice  *Ident      // set: a named choice
	Builtin schema.Type // else
}

// Reference is the type of a field that points at another model.
type Reference struct {
	Model  Ident
	By     *Ident
	Stored Stored
}

// Stored says how what a clause or a line creates is kept in the database, as far as it says
// that.
type Stored struct {
	Name       *Value // named "…"
	Unnamed    bool
	Form       string // of a uniqueness: constraint or index
	Deferrable string // in SQL's words
	Conflict   string // on conflict WORD: of a key or a uniqueness
	Full       bool   // match full
	NotValid   bool
	NoInherit  bool // of a check
	Include    []Ident
	Invisible  bool
	Options    *Value
	Comment    *Value
	Pos        Pos // of its first word
}

// said tells whether anything is said.
func (s Stored) said() bool {
	return s.Name != nil || s.Unnamed || s.Form != "" || s.Deferrable != "" || s.Conflict != "" || s.Full ||
		s.NotValid || s.NoInherit || len(s.Include) > 0 || s.Invisible || s.Options != nil || s.Comment != nil
}

// Clause is one clause of a field: its first word, and what stood behind it.
type Clause struct {
	// Word is its first word; "no index", "update now" and "not valid" are whole, and of an
	// action it is delete or update.
	Word  string
	Pos   Pos
	On    []Ident
	Value *Value   // default, column, comment, as, collation
	From  *Value   // range
	To    *Value   // range
	SQL   *SQLText // check, generated
	Name  Ident    // fake: the generator
	Args  []*Value // fake
	Do    schema.Action

	IgnoringCase     bool // unique
	IncludingDeleted bool // unique
	Kept             bool // generated: stored
	Enum             bool // as enum
	Always           bool // identity
	Start            int  // identity: the first number; 0: not said
	Number           int  // statistics: how many values
	Stored           Stored
}

// Value is a literal with its place.
type Value struct {
	schema.Value
	Word bool // a bare word: a choice's value
	Raw  bool // a cell of a file of rows: a text that has yet to be read
	// Quoted tells of such a cell that it is in quotes: an empty one is an empty text,
	// where one without is null.
	Quoted bool
	Pos    Pos
}

// SQLText is SQL of the engine's own, to the end of its line, with the names of
// fields that are in it in braces.
type SQLText struct {
	Text   string // as written, line breaks and all
	Fields []Ident
	Pos    Pos
}

// KeyLine is `primary key a, b` or `no key`.
type KeyLine struct {
	None   bool
	Fields []Ident
	Parts  []IndexPart // the same, with how each is held
	Stored Stored
}

// Constraint is a model's line of unique, index or check.
type Constraint struct {
	Word             string // unique, index, check
	Name             *Ident
	Parts            []IndexPart
	Using            *Ident
	Where            *SQLText
	SQL              *SQLText // check
	NullsEqual       bool
	IgnoringCase     bool
	IncludingDeleted bool
	Stored           Stored
}

// IndexPart is a field or an expression in a unique or an index, or a field in a primary key.
type IndexPart struct {
	Field Ident
	SQL   *SQLText
	Desc  bool

	Length    int // name(20): so many characters; 0: all of them
	Collation *Value
	Class     *Value
	Nulls     string // first or last
}

// whole tells whether a part is a field, and nothing is said of it.
func (p IndexPart) whole() bool {
	return p.SQL == nil && !p.Desc && p.Length == 0 && p.Collation == nil && p.Class == nil && p.Nulls == ""
}

// ForeignKey is a line `foreign key a, b references MODEL by c, d`.
type ForeignKey struct {
	Name     *Ident
	Fields   []Ident
	Model    Ident
	By       []Ident
	OnDelete schema.Action // empty: not said
	OnUpdate schema.Action
	NoIndex  bool
	Stored   Stored
}

// SoftDelete is a line `soft delete`.
type SoftDelete struct {
	Column   *Value
	View     bool
	Children bool
	Guard    bool
	By       *Value // the role of those who may pass the guard
}

// Make is a seed's line `MODEL COUNT`.
type Make struct {
	Model    Ident
	From, To int
	Via      *Ident
	Depth    int // the levels of a tree; 0: it is none
	DepthPos Pos
}

// Set is a seed's line `field VALUE-or-GENERATOR`. It has a share alone, or at
// most one of picks, a range and a sum.
type Set struct {
	Field Ident
	Empty *Share   // the rows that are left without a value
	Share *Share   // such as deleted 5%
	Picks []Pick   // one: every row's value; several: one of them
	Args  []*Value // behind a single word: the arguments of a generator
	To    *Value   // the end of a range that begins with the only pick
	Sum   *Sum
}

// Share is a part of rows, in percent.
type Share struct {
	Percent float64
	Pos     Pos
}

// Pick is a value of a list, and how often it is picked; nil: as often as what
// the others leave allows.
type Pick struct {
	Value *Value
	Share *Share
}

// Sum is a value worked out from another field of the row, `{lent_on} + 14..60`.
type Sum struct {
	Pos   Pos
	Field Ident
	Terms []Term
}

// Term is one step of a sum.
type Term struct {
	Op       byte // + - *
	Field    *Ident
	From, To *Value // instead of Field; To is nil where it is no range
	Unit     string // days, hours, minutes, seconds, or none
}

// Cell is one cell of reference rows.
type Cell struct {
	Name  Ident  // in the header
	Value *Value // below it
}

// comment is a line of its own that holds a comment, or an empty line ("").
type comment string

// layout is what a line looked like: its words, and the comments about it.
type layout struct {
	above  []comment
	words  []word
	behind string // the comment at its end
}

// word is a piece of a line as it will be printed.
type word struct {
	text    string
	off     int  // its offset in the source
	glued   bool // no space before it
	broken  bool // it began a line of its own
	segment int  // 0 the name, 1 the type, 2 the clauses
	above   []comment
}
