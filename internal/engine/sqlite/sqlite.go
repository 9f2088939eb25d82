// Package sqlite is the engine of SQLite files. See words.go for its SQL,
// lower.go for what it keeps of a declaration, ddl.go and inspect.go for
// reading what is there, alter.go for changing it, and database.go for the
// connection.
package sqlite

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// Engine is SQLite.
type Engine struct{}

// Name is the word for SQLite in file names and in the language.
func (Engine) Name() string { return "sqlite" }

// Schemes are the schemes of SQLite's URLs.
func (Engine) Schemes() []string { return []string{"sqlite"} }

// Trigger gives the statements that make and drop a trigger.
func (Engine) Trigger(_ *sqlschema.Table, g *sqlschema.Trigger) (create, drop []string) {
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

// QuoteTable is the name of a table as SQL: no schema stands before it.
func (Engine) QuoteTable(name string) string { return quote(name) }

// Text is a text as a literal.
func (Engine) Text(s string) string { return literal(s) }

// CreateAll gives what makes an empty database hold the same as s.
func (Engine) CreateAll(s *sqlschema.Schema) []engine.Creation {
	var tables, rest []engine.Creation
	for _, t := range s.Tables {
		tables = append(tables, engine.Creation{Kind: "table", Name: t.Name, SQL: createTable(t, t.Name)})
		for _, x := range t.Indexes {
			if !x.Constraint {
				rest = append(rest, engine.Creation{Kind: "index", Name: x.Name, SQL: createIndex(t.Name, x)})
			}
		}
	}
	for _, v := range s.Views {
		rest = append(rest, engine.Creation{Kind: "view", Name: v.Name, SQL: v.SQL.Text})
	}
	trigger := func(g *sqlschema.Trigger) {
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

// DropAll gives the statements that drop everything.
func (Engine) DropAll(s *sqlschema.Schema) []string {
	var out []string
	for _, v := range s.Views {
		out = append(out, "DROP VIEW "+quote(v.Name))
	}
	for _, t := range s.Tables {
		out = append(out, "DROP TABLE "+quote(t.Name))
	}
	return out
}

// Split cuts SQL into statements and the comments between them. The body of a
// trigger belongs to its statement.
func (Engine) Split(src string) []engine.Piece {
	return sqltext.Split(rules, src, func() func(sqltok.Token) bool {
		trigger, depth, words := false, 0, 0
		return func(t sqltok.Token) bool {
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
func (Engine) Bind(sql string, values map[string]string) string {
	return sqltext.Bind(rules, sql, values)
}

// refused are the statements that would reach beyond a step: its transaction,
// its database, or the settings of its connection.
var refused = map[string]string{
	"BEGIN": "the runner begins the transaction", "COMMIT": "the runner ends the transaction",
	"END":      "the runner ends the transaction",
	"ROLLBACK": "the runner ends the transaction", "SAVEPOINT": "the runner keeps the transaction",
	"RELEASE": "the runner keeps the transaction",
	"ATTACH":  "a migration works on one database alone", "DETACH": "a migration works on one database alone",
	"VACUUM": "it cannot run in a transaction", "PRAGMA": "the runner sets what a step needs",
}

// Validate says why a statement cannot be in a step.
func (Engine) Validate(statement string) error {
	for off := 0; off < len(statement); {
		t := rules.Next(statement, off)
		off = t.End
		if t.Kind == sqltok.Comment {
			continue
		}
		if t.Kind != sqltok.Word {
			break
		}
		word := strings.ToUpper(t.Text)
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
		table := tokens(statement)[2].Name()
		byHand := engine.Requirement{
			Sentence: "indexes or triggers of " + table + " were not created by a migration and would be lost",
			Query: "SELECT 1 FROM sqlite_schema WHERE lower(tbl_name) = lower(" + literal(
				table,
			) + ") AND type IN ('index', 'trigger') AND sql IS NOT NULL",
		}
		return append((Engine{}).ScriptRequire(byHand), "PRAGMA legacy_alter_table = ON;", statement+";",
			"PRAGMA legacy_alter_table = OFF;")
	}
	if newForm(statement) {
		return []string{
			fmt.Sprintf(
				`CREATE TEMP TABLE IF NOT EXISTS erbario_client (new INTEGER CONSTRAINT "this script needs the client of SQLite 3.%d or newer" CHECK (new));`,
				newForms,
			),
			fmt.Sprintf(
				"INSERT INTO temp.erbario_client SELECT sqlite_version() NOT LIKE '3.%%' OR CAST(substr(sqlite_version(), 3) AS INTEGER) >= %d;",
				newForms,
			),
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
	if len(list) < 5 || !list[0].Is("ALTER") || !list[1].Is("TABLE") {
		return false
	}
	return (list[3].Is("ADD") || list[3].Is("DROP")) && list[4].Is("CONSTRAINT") || list[3].Is("ALTER")
}

// ScriptRequire stops a script where the query has rows: a check on a table of
// the session refuses the insert, and the client stops at its first error.
func (Engine) ScriptRequire(r engine.Requirement) []string {
	return []string{
		`CREATE TEMP TABLE IF NOT EXISTS erbario_must (what TEXT, held INTEGER CONSTRAINT "rows block this change" CHECK (held));`,
		"INSERT INTO temp.erbario_must SELECT " + literal(r.Sentence) + ", NOT EXISTS (\n" + r.Query + "\n);",
	}
}

// ScriptAround gives what a plain script needs around its steps.
func (Engine) ScriptAround() (before, begin, commit, after []string) {
	return []string{
			".bail on",
			"PRAGMA foreign_keys = OFF;",
		}, []string{
			"BEGIN IMMEDIATE;",
		}, []string{
			"COMMIT;",
		}, []string{
			"PRAGMA foreign_keys = ON;",
			"PRAGMA foreign_key_check;",
		}
}

// CompareKey compares a row of keys.
func (Engine) CompareKey(keys []string, op, place string) string {
	return sqltext.CompareKey(keys, op, place)
}

// asideName is the name by which a table goes while it is copied.
func asideName(table string) string { return "erbario_old_" + table }

// legacyRename tells whether a statement renames a table aside for a copy:
// views, triggers and references must not follow that name.
func legacyRename(statement string) bool {
	list := tokens(statement)
	n := len(list)
	return n == 6 && list[0].Is("ALTER") && list[1].Is("TABLE") && list[3].Is("RENAME") && list[4].Is("TO") &&
		strings.EqualFold(list[5].Name(), asideName(list[2].Name()))
}
