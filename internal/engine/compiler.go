package engine

// This file is how declarations and changes are put into an engine's own words.

import (
	"time"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Compiler puts declarations and changes into the words of one engine.
type Compiler interface {
	// Lower gives what this engine is to hold for what is declared, and tells where that is
	// not exactly the same, or where it cannot be.
	Lower(declared *schema.Schema) (*sqlschema.Schema, []Notice)
	// Raise says what would be declared for a stored table: a proposal, which is lowered again
	// and compared. With plain, checks are written as they are, and no word stands for one.
	Raise(t *sqlschema.Table, plain bool) *schema.Table
	// CreateAll gives what makes an empty database hold the same as s, from the
	// statements that s was read from where there are any; Fill runs it.
	CreateAll(s *sqlschema.Schema) []Creation
	// DropAll gives the statements that drop everything that s holds.
	DropAll(s *sqlschema.Schema) []string
	// Create and Drop give the steps for a whole table.
	Create(t *sqlschema.Table) Step
	Drop(d TableDrop) Change
	// Alter gives the steps that make one table another.
	Alter(a Alteration) Change
	// DeleteRows gives the step that takes rows out of a table.
	DeleteRows(r RowDeletion) Step
	// UpsertRows gives the step that makes reference rows as they are declared.
	UpsertRows(r RowUpsert) Step
	// Archive gives the statements that make the table kept, and those that put values
	// of t aside into it, before t or some of its columns are dropped; no columns: all of
	// it.
	Archive(t *sqlschema.Table, columns []string, kept string) (makes, fills []string)
	// Restore gives the statements that bring values back into the table once it is there
	// again; what finds no row stays in kept. With stay, kept rows are not taken away, since
	// they hold more.
	Restore(t, kept *sqlschema.Table, stay bool) []string
	// Rename gives the steps that give a table or a column of s another name,
	// followed by everything that refers to it, and s after them. Without s it is a
	// table that nothing refers to.
	Rename(s *sqlschema.Schema, table, column, to string) ([]Step, *sqlschema.Schema)
	// Convert tells how a value of one column becomes one of another type; ok is
	// false where there is no one obvious way.
	Convert(from, to *sqlschema.Column) (c Conversion, ok bool)
	// Trigger gives the statements that make a trigger, and those that drop it.
	Trigger(t *sqlschema.Table, g *sqlschema.Trigger) (create, drop []string)
}

// Online is a Compiler for servers, whose tables others use while they are changed.
type Online interface {
	// Locks tells what a statement locks of the tables that are there, and whether it
	// reads or writes their rows; nothing where the whole database is one lock.
	Locks(statement string) []Lock
	// ReferenceInUse gives the steps that make a reference while its tables are used.
	ReferenceInUse(t *sqlschema.Table, k *sqlschema.ForeignKey) []Step
	// AddReference and DropReference give the statements for one alone.
	AddReference(t *sqlschema.Table, k *sqlschema.ForeignKey) []string
	DropReference(t *sqlschema.Table, k *sqlschema.ForeignKey) []string
}

// SchemaCreator is a Compiler of an engine whose databases have several schemas.
type SchemaCreator interface {
	// CreateSchema gives the statements that create a schema where there is none of that name, and
	// those that drop it again where nothing is in it.
	CreateSchema(name string) (apply, undo []string)
}

// ReferenceRenamer is a compiler that gives references other names.
type ReferenceRenamer interface {
	RenameReference(t *sqlschema.Table, from, to string) []string
}

// OnlineOf is the engine's Online; ok is false where the whole database is one lock.
func OnlineOf(e interface{ DDL() Compiler }) (o Online, ok bool) {
	o, ok = e.DDL().(Online)
	return o, ok
}

// Schedule gives the steps of a plan the form in which the engine runs them, where it has
// another than a transaction for all of them.
func Schedule(c Compiler, steps []Step) []Step {
	if s, ok := c.(interface{ Schedule(steps []Step) []Step }); ok {
		return s.Schedule(steps)
	}
	return steps
}

// Transactional is a statement of a step outside of any transaction as it can be in one, where
// nobody else is at work.
func Transactional(e interface{ DDL() Compiler }, statement string) string {
	if c, ok := e.DDL().(interface{ Transactional(statement string) string }); ok {
		return c.Transactional(statement)
	}
	return statement
}

// EnumsOf are the words for enum types; nil where the engine has none, as Caps tells.
func EnumsOf(e interface{ DDL() Compiler }) Enums {
	if c, ok := e.DDL().(interface{ Enums() Enums }); ok {
		return c.Enums()
	}
	return nil
}

// StagesOf are the words for staged pairs of migrations; nil where the engine has none, as
// Caps tells.
func StagesOf(e interface{ DDL() Compiler }) Stages {
	if c, ok := e.DDL().(interface{ Stages() Stages }); ok {
		return c.Stages()
	}
	return nil
}

// Enums puts changes of enum types into an engine's words. A type's values can come and
// be renamed; where one goes, or their order is another, the type is set apart and made
// again.
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
	// TypeIn reads in statements of migrations which type they give a column last, and
	// whether they make an enum type of that name; "" where they give it none.
	TypeIn(statements []string, table, column string) (name string, made bool)
}

// Stages puts into an engine's words what stands between the two migrations of a
// staged pair, while an application that knows of a change and one that does not both
// write.
type Stages interface {
	// SyncTriggers gives the triggers that complete what either application writes, and note
	// who writes as before.
	SyncTriggers(t *sqlschema.Table, spans []Span) []*sqlschema.Trigger
	// FollowTriggers gives the triggers that take the place of a bridge in the moment in which its
	// columns change their names: until the old ones are dropped, and again while an undo
	// brings them back, those have what is written to the new ones. nil where all of it is
	// one transaction.
	FollowTriggers(t *sqlschema.Table, list []Following) []*sqlschema.Trigger
	// LiveView is the view of the rows that are not deleted, as a table now is.
	LiveView(name string, t *sqlschema.Table, without ...string) *sqlschema.View
	// Begin gives the statements that begin to note who writes as before: the change
	// itself counts as such, where there are rows. End forgets it.
	Begin(table string) []string
	End(table string) []string
	// Resync gives the statements by which the column that stood for another has what
	// that one has now, where that was written while no bridge was there.
	Resync(table string, s Span) []string
	// NoOldWriters is what must hold before the second migration: for so long nobody has
	// written as before.
	NoOldWriters(table string, wait time.Duration) Requirement
	// Guarded is the converted value of a column, null where the value does not fit. The
	// conversion's own SQL sees to that by itself.
	Guarded(c Conversion, column, sqlType string) string
	// Differ is the condition that two expressions do not give the same, or one of them
	// null.
	Differ(a, b string) string
	// Random tells whether a default is another one each time it is asked for.
	Random(c *sqlschema.Column) bool
}

// Following is a column that is about to be dropped and follows another until then.
type Following struct {
	Column *sqlschema.Column // that follows
	Value  string            // over the row
}

// Span is one column that a bridge gives its value.
type Span struct {
	Column *sqlschema.Column
	Fill   string            // the value where none was written, over the row; "" with Old
	Old    *sqlschema.Column // the column that stood for it, with another name; nil: none
	// There and Back turn a value of Old into one of Column, and back.
	There, Back Conversion
	Hidden      bool // no application knows Column yet
}
