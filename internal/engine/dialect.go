package engine

// This file is what of an engine is pure text: names, values and statements of its SQL.

import (
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Dialect is the SQL of one engine.
type Dialect interface {
	// Quote is a name as SQL.
	Quote(name string) string
	// QuoteTable is the name of a table, or of something else that lies in a schema, as SQL.
	QuoteTable(name string) string
	// Text is a text as a literal.
	Text(s string) string
	// Literal is a declared value as SQL of the column's type.
	Literal(v schema.Value, t schema.Type) (string, error)
	// Cast gives a literal the type of a column, where nothing else would tell it.
	Cast(sql, sqlType string) string
	// SameValue is the condition that two values of a column are the same to an index of
	// which it is a part.
	SameValue(p sqlschema.Part, c *sqlschema.Column, a, b string) string
	// Split cuts SQL into statements and the comments between them.
	Split(src string) []Piece
	// Lex cuts SQL into its tokens, comments left out.
	Lex(sql string) []sqltok.Token
	// Bind puts values, as SQL by name, in the place of the words :name.
	Bind(sql string, values map[string]string) string
	// Validate says why a statement cannot be in a step, or nil.
	Validate(statement string) error
	// CompareKey is the condition that rows lie behind (op ">") a place in the order of keys,
	// or up to it ("<="), in a form for which the engine looks at no other rows. Keys are
	// SQL, and a place is (VALUE, …), as literals.
	CompareKey(keys []string, op, place string) string
	// Candidates are SQL literals to try as values of the column in a proof.
	Candidates(t *sqlschema.Table, c *sqlschema.Column) []string
}

// Scripter writes plain scripts for the engine's own client.
type Scripter interface {
	// ScriptStatement is a statement of a step as a plain script needs it, and
	// ScriptRequire what stops a script where the requirement's query has rows.
	ScriptStatement(statement string) []string
	// ScriptRequire stops a script where the requirement's query has rows.
	ScriptRequire(r Requirement) []string
	// ScriptAround gives what a plain script of a migration needs before and
	// behind its transaction, and how that begins and ends.
	ScriptAround() (before, begin, commit, after []string)
	// Insert is the statement that puts rows into a table, ScriptChange those that do what
	// Loader.Change does.
	Insert(r TableRows) string
	ScriptChange(r TableRows, by []string, quiet bool) []string
	// DeleteTogether gives the statements that delete rows of several tables, which
	// may refer to each other; where is by table.
	DeleteTogether(tables, where []string) []string
	// Unguarded gives statements that delete rows of a table past the guard of its soft
	// deletion.
	Unguarded(t *sqlschema.Table, sql ...string) []string
}

// OnlyLocks tells whether a statement does nothing but to lock tables.
func OnlyLocks(d Dialect, statement string) bool {
	list := d.Lex(statement)
	return len(list) > 0 && list[0].Is("LOCK")
}

// ValidateStep says why statements cannot stand together in a step of a kind, or nil: on most
// engines, those that can be in a step can stand with others.
func ValidateStep(d Dialect, kind StepKind, statements []string) error {
	if m, ok := d.(interface {
		ValidateStep(kind StepKind, statements []string) error
	}); ok {
		return m.ValidateStep(kind, statements)
	}
	return nil
}
