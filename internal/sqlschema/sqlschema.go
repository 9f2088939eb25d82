// Package sqlschema is what a database holds, as plain values: tables with their columns,
// keys, checks, indexes and triggers, and views, in the words of one engine. An engine reads
// a live database into a Schema, and lowers what models declare into another; the two are
// compared:
//
//	live, err := db.Inspect(ctx)
//	wanted, notices := e.DDL().Lower(declared)
//	changes := diff.Compare(live, wanted)
//
// What a table and a column were lowered from is in Declared, which is nil where they were
// read from a database. It is never compared and never changed.
package sqlschema

import (
	"cmp"
	"slices"
	"strings"

	"erbario/internal/schema"
)

// SQL is an expression or a statement in the words of one engine.
type SQL struct {
	Text string // as it is written or was stored
	// Canon gives the canonical form of Text: two texts with the same form mean
	// the same to their engine. It is asked only where the texts differ, since
	// working the form out for every expression would cost more than all else.
	Canon func(text string) string
	// Stored is the server's own text, where Text is a shorter one that means the same; ""
	// elsewhere. What is created from it is stored as it was.
	Stored string
}

// Make is the text from which the same is created again.
func (s SQL) Make() string { return cmp.Or(s.Stored, s.Text) }

// Key is the canonical form of the SQL.
func (s SQL) Key() string {
	if s.Canon == nil {
		return s.Text
	}
	return s.Canon(s.Text)
}

// Same tells whether two pieces of SQL mean the same to their engine.
func (s SQL) Same(o SQL) bool { return s.Text == o.Text || s.Key() == o.Key() }

// Schema is everything that one database, or one set of models, holds.
type Schema struct {
	Tables []*Table
	Views  []*View
	Others []*Other // what no model can declare, in the order in which it can be made
	// Elsewhere is what other schemas of the database hold, where something here needs it:
	// it is created on scratch, and neither compared nor changed.
	Elsewhere []*Other
	Collation string    // MariaDB: what the database has for those who say none; it is not compared
	Objects   []*Object // what is declared in SQL; nil where it was read from a database
}

// Object is something that is declared in SQL, by the statement that creates it or says more of
// it.
type Object struct {
	Kind string // as the statement says, such as "view"
	Name string
	On   string // the table that it belongs to; empty: it is a thing of its own
	SQL  string
	Path string // of the file
	Line int    // from 1
	Off  int    // of its first byte in the file
}

// Other is something that a database holds and no model can declare: a type, a
// function, a sequence, a view with rows of its own.
type Other struct {
	Kind string // such as "enum type"
	Name string
	Make []string // the statements that make it
	Late bool     // it stands on tables, and is made after them
	Form string   // the statement by which it is compared; empty: those of Make
	Runs string   // what it runs whenever anything changes, such as a function; empty: nothing
	// Values are those of an enum type, the one that a choice can be kept as.
	Values []string
}

// Kinds of others.
const (
	EnumType = "enum type"
	// InDatabase is a schema of the database, next to the one of the project.
	InDatabase = "schema"
	OtherView  = "view that refers to another database" // it cannot be copied
)

// HasSchema tells whether the database has a schema of that name, next to the one of the project.
func (s *Schema) HasSchema(name string) bool {
	return slices.ContainsFunc(s.Others, func(o *Other) bool { return o.Kind == InDatabase && o.Name == name })
}

// Enum returns the enum type with that name, or nil.
func (s *Schema) Enum(name string) *Other {
	for _, o := range s.Others {
		if o.Kind == EnumType && o.Name == name {
			return o
		}
	}
	return nil
}

// Table is one table with all that belongs to it.
type Table struct {
	Name        string
	Declared    *schema.Table // what it was lowered from; nil when read from a database
	Columns     []*Column
	PrimaryKey  *PrimaryKey // nil: none
	ForeignKeys []*ForeignKey
	Checks      []*Check
	Indexes     []*Index // unique ones too
	Triggers    []*Trigger
	Comment     string
	Options     Options
	SoftDelete  string // the column that marks a row as deleted; empty: none does
	Text        string // the statement that made it, where the engine keeps one
	Others      []*Constraint
	Aside       []*Column // that were dropped, and are renamed and kept in place
	Ordered     bool      // the order of its columns can be mended, and is compared
	ServerOrder []string  // MariaDB: its checks and indexes by name, in the server's order
	InSQL       bool      // it is declared in SQL
	PartOf      string    // PostgreSQL: the table whose rows its own are, too; empty: they are nobody else's
	AsPart      string    // the statement that creates it as a part of that
	Alike       bool      // another table, or two of its columns, differ in upper and lower case alone
	// Held are the columns whose values a virtual table holds by itself; Sealed: nobody can read what it
	// holds; NoModule: the module of a virtual table is missing here, so nobody can create it either.
	Held     []string
	Sealed   bool
	NoModule bool
	// Content is the table whose rows a virtual table is an index of; empty: there is none.
	Content string
}

// Constraint is one that no model can declare, such as an exclusion.
type Constraint struct{ Name, Text string }

// Options are properties of a table that only some engines have.
type Options struct {
	Strict       bool   // SQLite: values are held to their types
	WithoutRowid bool   // SQLite: stored by its primary key
	Virtual      string // SQLite: the module of a virtual table, with its arguments
	Unlogged     bool   // PostgreSQL: not in the log, and empty after a crash
	Behind       string // what stands behind the columns, as stored, such as PARTITION BY
	Foreign      bool   // its rows are not its own: partitions, children, other servers'
}

// Column is one column of a table.
type Column struct {
	Name      string
	Declared  *schema.Column // what it was lowered from; nil when read from a database
	SQLType   string         // the type in the engine's words
	Domain    string         // PostgreSQL: of which type that is a domain; empty: it is none
	NotNull   bool
	Default   *SQL // nil: none
	Generated *Generated
	ByHand    bool // no migration made it: no statement may name it
	Identity  bool // numbered by the database
	// IdentityAlways refuses numbers that the application gives.
	IdentityAlways bool
	// Serial is the name of the sequence that belongs to the column and numbers it by its
	// default; empty: none does. Start is the first number of an identity; 0: 1.
	Serial    string
	Start     int64
	Values    []string // those that an enum type takes; nil: it is of none
	Elements  []string // those of the enum type of which it is an array; nil: it is no such array
	OwnType   bool     // PostgreSQL: its type is one of the database, which can go
	Collation string   // empty: the engine's own
	Conflict  string   // SQLite: what NOT NULL does on a conflict, as stored
	OnUpdate  string   // MariaDB: what it becomes with every update, as stored
	Invisible bool     // MariaDB: SELECT * leaves it out
	// PostgreSQL: how long values are kept, in upper case, such as EXTERNAL COMPRESSION LZ4, empty as their
	// type says; and how many values statistics list, nil as the server is set. They are compared where
	// they are declared.
	Storage    string
	Statistics *int
	Comment    string

	// What it means in the language, as far as it can be told of a live one.
	Type      schema.Type
	Value     *schema.Value // the default
	Immutable bool
	Stamped   bool
}

// Generated is the expression of a column that is worked out by the database.
type Generated struct {
	SQL    SQL
	Stored bool
}

// SameGenerated tells whether two columns are worked out the same way, or are both plain.
func SameGenerated(a, b *Generated) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Stored == b.Stored && a.SQL.Same(b.SQL)
}

// PrimaryKey is the primary key of a table.
type PrimaryKey struct {
	Name          string
	Columns       []Part
	Autoincrement bool   // SQLite: numbers are never given twice
	Conflict      string // SQLite: ON CONFLICT, as stored
	Options       string // what stands behind it, as stored
}

// IgnoringCase is the collation of a part whose case does not count, for an engine that has
// no collation of its own for that.
const IgnoringCase = "ignoring case"

// Part is one column or expression of a key or an index.
type Part struct {
	Column    string
	Expr      *SQL // instead of Column
	Desc      bool
	Collation string
	Class     string // the operator class, where it is not the type's own
	Nulls     string // FIRST or LAST, where it is not what the direction says
	Length    int    // MariaDB: so many characters of the value; 0: all of them
}

// ForeignKey is a reference from columns of its table to columns of another.
type ForeignKey struct {
	Name       string
	Columns    []string
	Table      string   // the table referred to; with its schema before it, where that is another
	References []string // its columns; empty: its primary key
	OnDelete   schema.Action
	OnUpdate   schema.Action
	Deferrable string   // as stored, such as "DEFERRABLE INITIALLY DEFERRED"
	Match      string   // as stored
	SetColumns []string // those that on delete set null sets, where it is not all
	NotValid   bool     // rows that were there before it were not looked at
	OwnIndex   bool     // MariaDB: an index under its name serves it alone
}

// DefaultWords is the default as it was declared, else its SQL; empty for none.
func (c *Column) DefaultWords() string {
	switch {
	case c.Value != nil:
		return c.Value.String()
	case c.Default != nil:
		return strings.Join(strings.Fields(c.Default.Text), " ")
	}
	return ""
}

// Check is a condition that every row fulfils.
type Check struct {
	Name      string
	SQL       SQL
	Column    string // the column it was declared with; empty for one of the table
	Purpose   schema.Purpose
	Choices   []string      // of one for a choice: its values
	Range     *schema.Range // of one for a range; nil where its SQL says something else
	Conflict  string        // SQLite: ON CONFLICT, as stored
	NoInherit bool
	NotValid  bool // rows that were there before it were not looked at
}

// Index is an index or a uniqueness, whether made as a constraint or not.
type Index struct {
	Name       string
	Unique     bool
	Constraint bool // made as a constraint of the table rather than as an index
	Form       bool // that is declared, and so compared
	Said       bool // its options are declared, and so compared
	Parts      []Part
	Where      *SQL
	Using      string // the method, where the engine has several
	Conflict   string // SQLite: ON CONFLICT of the constraint, as stored
	NullsEqual bool
	Included   string // columns that are kept beside, as stored
	Options    string // storage parameters and the like, as stored
	Invalid    bool   // it was left half built, and nothing uses it
}

// Trigger is a statement that the database runs when rows change.
type Trigger struct {
	Name    string
	Mode    string // MariaDB: the mode that its statement needs, where it is not that of the session
	SQL     SQL
	Column  string
	Purpose schema.Purpose
	Reaches bool // what it runs may reach beyond the database: files, the network, another database
}

// WithFunction tells whether the trigger has a function of its own.
func (g *Trigger) WithFunction() bool {
	return g.Purpose == schema.ForChildren || g.Purpose == schema.ForBridge || g.Purpose == schema.ForGuard ||
		g.Purpose == schema.ForGuardAll
}

// Guarded tells whether a trigger of the table refuses to let rows go.
func (t *Table) Guarded() bool {
	return slices.ContainsFunc(t.Triggers,
		func(g *Trigger) bool { return g.Purpose == schema.ForGuard || g.Purpose == schema.ForGuardChildren })
}

// View is a stored query.
type View struct {
	Name     string
	LiveOf   string // the table whose rows that are not deleted it shows; empty: it is another view
	SQL      SQL
	Triggers []*Trigger
}

// Table returns the table with that name, or one that differs from it in case alone, or nil.
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
	if strings.Contains(name, ".") { // it may be one with a point of its own
		for _, t := range s.Tables {
			if strings.HasPrefix(t.Name, `"`) && strings.EqualFold(t.Name, schema.InSchema("", name)) {
				return t
			}
		}
	}
	return nil
}

// Find returns the table with the name that a person gives it, which may leave its schema out where no other
// table has the name.
func (s *Schema) Find(name string) *Table {
	if t := s.Table(name); t != nil {
		return t
	}
	var found *Table
	for _, t := range s.Tables {
		if in, own := schema.SplitName(t.Name); in != "" && strings.EqualFold(own, name) {
			if found != nil {
				return nil
			}
			found = t
		}
	}
	return found
}

// CutTable cuts a name as answers have it, table.column, behind the name or the model of a table of one of the
// schemas, before which its own schema may stand.
func CutTable(name string, of ...*Schema) (table, rest string, found bool) {
	return schema.CutTable(name, func(table string) bool {
		in, _ := schema.SplitName(table)
		return slices.ContainsFunc(of, func(s *Schema) bool {
			return s != nil && (s.Table(table) != nil || in != "" && s.HasSchema(in) ||
				slices.ContainsFunc(s.Tables, func(t *Table) bool { return t.Model() == table && table != "" }))
		})
	})
}

// View returns the view with that name, compared without case, or nil.
func (s *Schema) View(name string) *View {
	for _, v := range s.Views {
		if strings.EqualFold(v.Name, name) {
			return v
		}
	}
	return nil
}

// Sort puts tables and views in order of name, so that output does not depend
// on the order of files or of the catalogue.
func (s *Schema) Sort() {
	s.markAlike()
	slices.SortFunc(s.Tables, func(a, b *Table) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(s.Views, func(a, b *View) int { return strings.Compare(a.Name, b.Name) })
}

// markAlike notes which tables differ from another in case alone, or have columns that do.
func (s *Schema) markAlike() {
	tables, columns := map[string]*Table{}, map[string]bool{}
	for _, t := range s.Tables {
		name := strings.ToLower(t.Name)
		if other := tables[name]; other != nil {
			t.Alike, other.Alike = true, true
		}
		tables[name] = t
		clear(columns)
		for _, c := range t.Columns {
			t.Alike = t.Alike || columns[strings.ToLower(c.Name)]
			columns[strings.ToLower(c.Name)] = true
		}
	}
}

// Column returns the column with that name, or one that differs from it in case alone, or nil.
func (t *Table) Column(name string) *Column {
	var alike *Column
	for _, c := range t.Columns {
		if c.Name == name {
			return c
		}
		if alike == nil && strings.EqualFold(c.Name, name) {
			alike = c
		}
	}
	return alike
}

// Model is the model that declares the table; empty when read from a database.
func (t *Table) Model() string {
	if t.Declared == nil {
		return ""
	}
	return t.Declared.Model
}

// Outside tells whether the table is declared as there already: referred to, never changed.
func (t *Table) Outside() bool { return t.Elsewhere() && !t.Declared.InSQL }

// Elsewhere tells whether the table is not what its model says: it is outside, or declared in SQL.
func (t *Table) Elsewhere() bool { return t.Declared != nil && t.Declared.Outside }

// Rows are the reference rows that are declared; nil: none are.
func (t *Table) Rows() *schema.Rows {
	if t.Declared == nil {
		return nil
	}
	return t.Declared.Rows
}

// Field is the model's field; empty when read from a database.
func (c *Column) Field() string {
	if c.Declared == nil {
		return ""
	}
	return c.Declared.Field
}

// Refuses says why a declared column does not take a value that people typed; nil: it takes
// it, or the database alone can tell.
func (c *Column) Refuses(v schema.Value) error {
	if c.Declared == nil {
		return nil
	}
	return c.Declared.Refuses(v)
}

// Key returns the names of the primary key's columns; nil without one.
func (t *Table) Key() []string {
	if t.PrimaryKey == nil {
		return nil
	}
	return Names(t.PrimaryKey.Columns)
}

// Names returns the columns of parts, leaving expressions out.
func Names(parts []Part) []string {
	var names []string
	for _, p := range parts {
		if p.Expr == nil {
			names = append(names, p.Column)
		}
	}
	return names
}

// Among tells whether an index holds only the rows that are not deleted.
func (t *Table) Among(x *Index) bool {
	if t.SoftDelete == "" || x.Where == nil {
		return false
	}
	w := strings.ToLower(strings.NewReplacer("{", "", "}", "", `"`, "", "`", "").Replace(x.Where.Text))
	return strings.HasSuffix(strings.TrimSpace(w), strings.ToLower(t.SoftDelete)+" is null")
}

// Unkeyed tells whether no row of the table can be told from another by a key.
func (t *Table) Unkeyed() bool { return t.PrimaryKey == nil }

// Partitioned tells whether the table's rows lie in partitions.
func (t *Table) Partitioned() bool { return strings.Contains(t.Options.Behind, "PARTITION BY") }

// Searched tells whether the table is a full-text index: a column of it can do without values.
func (t *Table) Searched() bool { return strings.HasPrefix(strings.ToLower(t.Options.Virtual), "fts") }

// Undeclarable tells whether no model can declare the table: its rows are those of others, a module
// has them, it has no columns, its name is too long, or differs from another in case alone.
func (t *Table) Undeclarable() bool {
	return t.Options.Foreign || t.Alike || t.Options.Virtual != "" || len(t.Columns) == 0 ||
		len(t.Name) > schema.NameLimit
}

// HoldsType tells whether a check holds the values of a column to its type.
func (t *Table) HoldsType(column string) bool {
	return slices.ContainsFunc(t.Checks, func(k *Check) bool {
		return k.Purpose == schema.ForType && strings.EqualFold(k.Column, column)
	})
}

// Clone returns a copy that shares nothing that stages change: the table, its
// columns, and its slices. SQL values are never changed in place and are shared.
func (t *Table) Clone() *Table {
	c := *t
	c.Columns = clones(t.Columns)
	c.ForeignKeys = clones(t.ForeignKeys)
	c.Checks = clones(t.Checks)
	c.Indexes = clones(t.Indexes)
	c.Triggers = clones(t.Triggers)
	if t.PrimaryKey != nil {
		pk := *t.PrimaryKey
		c.PrimaryKey = &pk
	}
	return &c
}

// Clone returns a copy of the whole schema, by Table.Clone.
func (s *Schema) Clone() *Schema {
	c := &Schema{Views: clones(s.Views), Others: s.Others, Elsewhere: s.Elsewhere, Collation: s.Collation,
		Objects: s.Objects}
	for _, t := range s.Tables {
		c.Tables = append(c.Tables, t.Clone())
	}
	return c
}

func clones[T any](in []*T) []*T {
	out := make([]*T, len(in))
	for i, v := range in {
		c := *v
		out[i] = &c
	}
	return out
}

// MadeFor tells by its name for which column, and what for, a declaration made a
// check or a trigger of the table; nil for one that none made.
func (t *Table) MadeFor(name string) (*Column, schema.Purpose) {
	if _, own := schema.SplitName(t.Name); own != t.Name {
		if c, p := t.madeFor(own, name); c != nil {
			return c, p
		}
	}
	return t.madeFor(t.Name, name)
}

func (t *Table) madeFor(table, name string) (*Column, schema.Purpose) {
	for _, p := range schema.Purposes {
		if middle, ok := strings.CutSuffix(name, "_"+string(p)); ok {
			if column, ok := strings.CutPrefix(middle, table+"_"); ok {
				if c := t.Column(column); c != nil {
					return c, p
				}
			}
		}
	}
	if len(name) < schema.NameLimit-4 { // not one that was cut
		return nil, ""
	}
	for _, c := range t.Columns {
		for _, p := range schema.Purposes {
			if schema.ConstraintName(table, []string{c.Name}, string(p)) == name {
				return c, p
			}
		}
	}
	return nil, ""
}
