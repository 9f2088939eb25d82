// Package sqlite is the engine of SQLite files. See words.go for its SQL,
// realize.go for what it keeps of a declaration, ddl.go and inspect.go for
// reading what is there, alter.go for changing it, and database.go for the
// connection.
package sqlite

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/schema"
)

// Engine is SQLite.
type Engine struct{}

func init() { engine.Register(Engine{}) }

// Name is the word for SQLite in file names and in the language.
func (Engine) Name() string { return "sqlite" }

// Schemes are the schemes of SQLite's URLs.
func (Engine) Schemes() []string { return []string{"sqlite"} }

// At is the engine itself: a scratch database is in memory.
func (e Engine) At(string) engine.Engine { return e }

// Locks are none of a table: a writer holds the whole file, and readers go on.
func (Engine) Locks(string) []engine.Lock { return nil }

// Locking says how long others wait.
func (Engine) Locking() string {
	return "one writer at a time, for the whole database, while each migration runs; readers continue in WAL mode"
}

// ReferenceInUse gives nothing, as AddReference.
func (Engine) ReferenceInUse(*schema.Table, *schema.ForeignKey) []engine.Step { return nil }

// Journal is none: every migration is one transaction.
func (Engine) Journal() string { return "" }

// ProveIn is the engine itself, as At.
func (e Engine) ProveIn(string) engine.Engine { return e }

// HoldsReferences tells that references are looked at when the steps are through.
func (Engine) HoldsReferences() bool { return false }

// AddReference gives nothing: a reference stands in the statement of its table.
func (Engine) AddReference(*schema.Table, *schema.ForeignKey) []string { return nil }

// DropReference gives nothing, as AddReference.
func (Engine) DropReference(*schema.Table, *schema.ForeignKey) []string { return nil }

// Trigger gives the statements that make and drop a trigger.
func (Engine) Trigger(_ *schema.Table, g *schema.Trigger) (create, drop []string) {
	return []string{g.SQL.Text}, []string{dropTrigger(g)}
}

// Cast gives a literal as it is: it says its type.
func (Engine) Cast(sql, _ string) string { return sql }

// DeleteTogether gives a statement for each table: references are not held.
func (Engine) DeleteTogether(tables, where []string) []string {
	var out []string
	for i, t := range tables {
		out = append(out, "DELETE FROM "+quote(t)+" WHERE "+where[i])
	}
	return out
}

// Quote is a name as SQL.
func (Engine) Quote(name string) string { return quote(name) }

// Text is a text as a literal.
func (Engine) Text(s string) string { return literal(s) }

// Recreate gives what makes an empty database hold the same as s.
func (Engine) Recreate(s *schema.Schema) []engine.Creation {
	var tables, rest []engine.Creation
	for _, t := range s.Tables {
		text := t.Text
		if text == "" {
			text = createTable(t, t.Name)
		}
		tables = append(tables, engine.Creation{Kind: "table", Name: t.Name, SQL: text})
		for _, x := range t.Indexes {
			if !x.Constraint {
				rest = append(rest, engine.Creation{Kind: "index", Name: x.Name, SQL: createIndex(t.Name, x)})
			}
		}
	}
	for _, v := range s.Views {
		rest = append(rest, engine.Creation{Kind: "view", Name: v.Name, SQL: v.SQL.Text})
	}
	trigger := func(g *schema.Trigger) {
		rest = append(rest, engine.Creation{Kind: "trigger", Name: g.Name, SQL: g.SQL.Text})
	}
	for _, t := range s.Tables {
		for _, g := range t.Triggers {
			trigger(g)
		}
	}
	for _, v := range s.Views {
		for _, g := range v.Triggers {
			trigger(g)
		}
	}
	return append(tables, rest...)
}

// Empty gives the statements that drop everything.
func (Engine) Empty(s *schema.Schema) []string {
	var out []string
	for _, v := range s.Views {
		out = append(out, "DROP VIEW "+quote(v.Name))
	}
	for _, t := range s.Tables {
		out = append(out, "DROP TABLE "+quote(t.Name))
	}
	return out
}

// lexer is the tokenizer for what all engines do alike.
var lexer sqltext.Lexer = func(src string, off int) sqltext.Token {
	t := next(src, off)
	return sqltext.Token{Text: t.text, Start: t.start, End: t.end, Comment: t.kind == tokComment, Param: t.kind == tokParam && t.text[0] == ':', Bad: t.kind == tokBad}
}

// Split cuts SQL into statements and the comments between them. The body of a
// trigger belongs to its statement.
func (Engine) Split(src string) []engine.Piece {
	return lexer.Split(src, func() func(sqltext.Token) bool {
		trigger, depth, words := false, 0, 0
		return func(t sqltext.Token) bool {
			trigger = trigger || words > 0 && words < 4 && strings.EqualFold(t.Text, "TRIGGER")
			words++
			if !trigger {
				return false
			}
			switch strings.ToUpper(t.Text) {
			case "BEGIN", "CASE":
				depth++
			case "END":
				depth--
			}
			return depth > 0
		}
	})
}

// Bind puts values in the place of parameters.
func (Engine) Bind(sql string, values map[string]string) string { return lexer.Bind(sql, values) }

// refused are the statements that would reach beyond a step: its transaction,
// its database, or the settings of its connection.
var refused = map[string]string{
	"BEGIN": "the runner begins the transaction", "COMMIT": "the runner ends the transaction", "END": "the runner ends the transaction",
	"ROLLBACK": "the runner ends the transaction", "SAVEPOINT": "the runner keeps the transaction", "RELEASE": "the runner keeps the transaction",
	"ATTACH": "a migration works on one database alone", "DETACH": "a migration works on one database alone",
	"VACUUM": "it cannot run in a transaction", "PRAGMA": "the runner sets what a step needs",
}

// Refuse says why a statement cannot stand in a step.
func (Engine) Refuse(statement string) error {
	for off := 0; off < len(statement); {
		t := next(statement, off)
		off = t.end
		if t.kind == tokComment {
			continue
		}
		if t.kind != tokWord {
			break
		}
		word := strings.ToUpper(t.text)
		if why, ok := refused[word]; ok {
			return &engine.RefusedError{Word: word, Why: why}
		}
		if word != "EXPLAIN" && word != "QUERY" && word != "PLAN" {
			break
		}
	}
	return nil
}

// ScriptStatement is a statement as a plain script needs it.
func (Engine) ScriptStatement(statement string) []string {
	if legacyRename(statement) {
		table := tokens(statement)[2].name()
		byHand := engine.Requirement{Sentence: "indexes or triggers of " + table + " were not created by a migration and would be lost",
			Query: "SELECT 1 FROM sqlite_schema WHERE lower(tbl_name) = lower(" + literal(table) + ") AND type IN ('index', 'trigger') AND sql IS NOT NULL"}
		return append((Engine{}).ScriptRequire(byHand), "PRAGMA legacy_alter_table = ON;", statement+";", "PRAGMA legacy_alter_table = OFF;")
	}
	if newForm(statement) {
		return []string{
			fmt.Sprintf(`CREATE TEMP TABLE IF NOT EXISTS erbario_client (new INTEGER CONSTRAINT "this script needs the client of SQLite 3.%d or newer" CHECK (new));`, newForms),
			fmt.Sprintf("INSERT INTO temp.erbario_client SELECT sqlite_version() NOT LIKE '3.%%' OR CAST(substr(sqlite_version(), 3) AS INTEGER) >= %d;", newForms),
			statement + ";",
		}
	}
	return []string{statement + ";"}
}

// newForms is the second number of the first version that adds and drops constraints in
// place.
const newForms = 53

// newForm tells whether a statement has a form that only newer clients know.
func newForm(statement string) bool {
	list := tokens(statement)
	if len(list) < 5 || !list[0].is("ALTER") || !list[1].is("TABLE") {
		return false
	}
	return (list[3].is("ADD") || list[3].is("DROP")) && list[4].is("CONSTRAINT") || list[3].is("ALTER")
}

// ScriptRequire stops a script where the query has rows: a check on a table of
// the session refuses the insert, and the client stops at its first error.
func (Engine) ScriptRequire(r engine.Requirement) []string {
	return []string{
		`CREATE TEMP TABLE IF NOT EXISTS erbario_must (what TEXT, held INTEGER CONSTRAINT "rows block this change" CHECK (held));`,
		"INSERT INTO temp.erbario_must SELECT " + literal(r.Sentence) + ", NOT EXISTS (\n" + r.Query + "\n);",
	}
}

// Inside is the statement: none has to stand outside of a transaction.
func (Engine) Inside(statement string) string { return statement }

// ScriptAround gives what a plain script needs around its steps.
func (Engine) ScriptAround() (before, begin, commit, after []string) {
	return []string{".bail on", "PRAGMA foreign_keys = OFF;"}, []string{"BEGIN IMMEDIATE;"}, []string{"COMMIT;"}, []string{"PRAGMA foreign_keys = ON;", "PRAGMA foreign_key_check;"}
}

// Separate gives the steps as they are: all of them can stand in one transaction.
func (Engine) Separate(steps []engine.Step) []engine.Step { return steps }

// Misplaced tells nothing: what can stand in a step can stand with others.
func (Engine) Misplaced(engine.StepKind, []string) error { return nil }

// CommitsChanges tells that a change of a table is part of its transaction.
func (Engine) CommitsChanges() bool { return false }

// OrdersColumns tells that the order of columns is left alone: only a copy of the table
// could change it.
func (Engine) OrdersColumns() bool { return false }

// ChecksAll tells that a change in place fails where any view or trigger of the database
// does not work.
func (Engine) ChecksAll() bool { return true }

// EmptyRow is a row of defaults behind INSERT INTO and a table's name.
func (Engine) EmptyRow() string { return " DEFAULT VALUES" }

// CompareKey compares a row of keys.
func (Engine) CompareKey(keys []string, op, place string) string {
	return sqltext.CompareKey(keys, op, place)
}

// OnlyLocks tells that no statement does: a file is one lock.
func (Engine) OnlyLocks(string) bool { return false }

// asideName is the name by which a table goes while it is copied.
func asideName(table string) string { return "erbario_old_" + table }

// legacyRename tells whether a statement renames a table aside for a copy:
// views, triggers and references must not follow that name.
func legacyRename(statement string) bool {
	list := tokens(statement)
	n := len(list)
	return n == 6 && list[0].is("ALTER") && list[1].is("TABLE") && list[3].is("RENAME") && list[4].is("TO") &&
		strings.EqualFold(list[5].name(), asideName(list[2].name()))
}
