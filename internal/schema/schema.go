// Package schema is what the models of a project declare, as plain values, the same for
// every engine but where a line is kept to some:
//
//	model Specimen
//	  label   text(40) unique
//	  weight  decimal(8,2) optional
//
// is a Table "specimens" with three Columns (its id too), a key and an Index. What a database
// keeps for it is the business of the engines, and has types of its own (sqlschema).
//
// SQL in it has the names of columns in braces, such as {weight} > 0.
package schema

import (
	"slices"
	"strings"
)

// Schema is everything that the models declare.
type Schema struct{ Tables []*Table }

// Table is the table of one model.
type Table struct {
	Name        string // with its schema before it, where that is another than the project's
	Model       string
	Outside     bool // there already, or declared in SQL: referred to, never changed as a model says
	InSQL       bool // declared in SQL
	Columns     []*Column
	Key         []string // the columns of the primary key; nil: none
	KeyParts    []Part   // the same, where one is more than a column; nil: all are columns
	ForeignKeys []*ForeignKey
	Checks      []*Check
	Indexes     []*Index // unique ones too
	Comment     string
	SoftDelete  string // the column that marks a row as deleted; empty: none does
	LiveView    string // the view of the rows that are not deleted; empty: none
	Children    bool   // the soft-deletable rows that refer to a row go and come back with it
	Guard       bool   // no row goes permanently that is not marked as deleted first
	GuardRole   string // then: only members of this role let marks and rows go; empty: everybody
	Rows        *Rows  // the reference rows; nil: none are declared
	// How the table is kept, where that is said.
	KeyName   string // of the primary key; empty: by the rule
	KeyRule   string // the name of the primary key by the project's rule; empty: by the engine's
	KeyStored Stored // of the primary key
	Schema    string // in which it is; empty: the project's own
	Unchecked bool   // no check holds values to their types
	Collation string // of its texts; empty: the engine's, or the project's
	Options   string // of the table, in the engine's words
}

// Stored says how a key, an index, a reference or a check is kept, where a model says that.
type Stored struct {
	Named      bool     // it has a name that the model gives it, and not the rule
	Unnamed    bool     // the engine names it
	Form       Form     // of a uniqueness
	Deferrable string   // DEFERRABLE, DEFERRABLE INITIALLY DEFERRED; empty: it is not
	Conflict   string   // of a key or a uniqueness: what becomes of a row in conflict, in SQL's words
	Match      string   // of a reference: FULL; empty: SIMPLE
	NotValid   bool     // rows that existed before it were not looked at
	NoInherit  bool     // of a check: tables that inherit from this one have it not
	Include    []string // of an index: columns that it has next to its own
	Invisible  bool     // of an index: nothing uses it
	Options    string   // of an index, in the engine's words
	Comment    string
	Said       bool // something of the form, the options or the comment of an index
}

// Form is what a uniqueness is kept as: a constraint of the table, or an index.
type Form string

// The forms. Without one it is the engine's choice.
const (
	AsConstraint Form = "constraint"
	AsIndex      Form = "index"
)

// Column is the column of one field.
type Column struct {
	Name      string
	Field     string
	Type      Type
	NotNull   bool
	Value     *Value // the default; nil: none
	Generated *Generated
	Identity  bool // numbered by the database
	Numbers   Numbers
	Collation string // empty: that of the table
	UpdateNow bool   // every update sets it to the time, unless that gives it a value
	Invisible bool   // SELECT * leaves it out
	Storage   string // how its long values are kept, in the engine's words; empty: not said
	// Statistics is how many of its values the engine's statistics list at most; nil: not said.
	Statistics *int
	Comment    string
	Nonblank   bool
	Immutable  bool // it is not changed once it is set
	Stamped    bool // it is set to the time with every change of the row
	Range      *Range
	Fake       *Fake
}

// Numbers say how the database numbers a column.
type Numbers struct {
	Serial   bool   // by a sequence that belongs to it, and as a default
	Sequence string // the name of that; empty: by the rule of the server
	Always   bool   // numbers that the application gives are refused
	Start    int64  // the first; 0: 1
	Rowid    bool   // by the number of the row, which may be given again
	NoKey    bool   // though it is not the key
}

// Fake tells seeds how to fill a column: a generator's name, and the words
// behind it.
type Fake struct {
	Generator string
	Args      []string
}

// Generated is the expression of a column whose value the database works out.
type Generated struct {
	SQL    string
	Stored bool
}

// ForeignKey is a reference from columns of its table to columns of another.
type ForeignKey struct {
	Name       string
	Columns    []string
	Table      string // the table referred to
	References []string
	OnDelete   Action
	OnUpdate   Action
	Stored     Stored
}

// Action is what a foreign key does when the row referred to goes or changes.
type Action string

// The actions, in SQL's words. NoAction is what SQL means by saying nothing.
const (
	NoAction   Action = "NO ACTION"
	Restrict   Action = "RESTRICT"
	Cascade    Action = "CASCADE"
	SetNull    Action = "SET NULL"
	SetDefault Action = "SET DEFAULT"
)

// Check is a condition that every row fulfils.
type Check struct {
	Name    string
	SQL     string
	Column  string // the column it was declared with; empty for one of the table
	Purpose Purpose
	Stored  Stored
}

// Index is an index or a uniqueness.
type Index struct {
	Name       string
	Unique     bool
	Parts      []Part
	Where      string // the condition of its rows; empty: all
	Live       bool   // Where says that they are not deleted, and nothing else
	Using      string // the method; empty: the engine's own choice
	NullsEqual bool
	Column     string // the one field whose clause declared it
	Stored     Stored
}

// Part is one column or expression of an index.
type Part struct {
	Column       string
	SQL          string // instead of Column
	Desc         bool
	IgnoringCase bool
	Length       int    // so many characters of the value; 0: all of them
	Collation    string // empty: that of the column
	Class        string // the operator class; empty: that of the type
	Nulls        string // FIRST or LAST; empty: as the direction says
}

// Bare is the name of the table without its schema.
func (t *Table) Bare() string {
	if t.Schema == "" && !strings.HasPrefix(t.Name, `"`) {
		return t.Name
	}
	_, own := SplitName(t.Name)
	return own
}

// Beside is the name of something that lies in the schema of the table, such as an index of it.
func (t *Table) Beside(name string) string {
	if t.Schema == "" {
		return name
	}
	return InSchema(t.Schema, name)
}

// PartsOfKey are the parts of the primary key.
func (t *Table) PartsOfKey() []Part {
	if t.KeyParts != nil {
		return t.KeyParts
	}
	return Parts(t.Key)
}

// Plain tells whether a part is a column, and nothing is said of it.
func (p Part) Plain() bool { return p == Part{Column: p.Column} }

// Parts are columns as parts of an index or a key.
func Parts(columns []string) []Part {
	var out []Part
	for _, c := range columns {
		out = append(out, Part{Column: c})
	}
	return out
}

// Names are the columns of parts, leaving expressions out.
func Names(parts []Part) []string {
	var names []string
	for _, p := range parts {
		if p.SQL == "" {
			names = append(names, p.Column)
		}
	}
	return names
}

// Table returns the table with that name, compared without case, or nil.
func (s *Schema) Table(name string) *Table {
	for _, t := range s.Tables { // most are found so, and quickly
		if t.Name == name {
			return t
		}
	}
	for _, t := range s.Tables {
		if strings.EqualFold(t.Name, name) {
			return t
		}
	}
	return nil
}

// Column returns the column with that name, compared without case, or nil.
func (t *Table) Column(name string) *Column {
	for _, c := range t.Columns {
		if strings.EqualFold(c.Name, name) {
			return c
		}
	}
	return nil
}

// Sort puts tables in order of name, so that output does not depend on the order of files.
func (s *Schema) Sort() {
	slices.SortFunc(s.Tables, func(a, b *Table) int { return strings.Compare(a.Name, b.Name) })
}

// Clone is a copy that shares nothing that its holder may change: tables, columns, and
// slices.
func (s *Schema) Clone() *Schema {
	out := &Schema{}
	for _, t := range s.Tables {
		c := *t
		c.Columns, c.ForeignKeys = clones(t.Columns), clones(t.ForeignKeys)
		c.Checks, c.Indexes = clones(t.Checks), clones(t.Indexes)
		out.Tables = append(out.Tables, &c)
	}
	return out
}

func clones[T any](in []*T) []*T {
	out := make([]*T, len(in))
	for i, v := range in {
		c := *v
		out[i] = &c
	}
	return out
}
