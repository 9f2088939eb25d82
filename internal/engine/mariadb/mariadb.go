// Package mariadb is the engine of MariaDB and MySQL servers, where every change of a
// table commits by itself: a migration there is a row of steps, each of which is done or
// not, and noted. See words.go for its SQL, lower.go for what it keeps of a declaration,
// canonicalize.go for how expressions are compared, inspect.go for reading what is there,
// alter.go and archive.go for changing it, schedule.go for the form of its steps, database.go
// for the connection, and lease.go for who may use it.
package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// Engine is MariaDB, and MySQL, on the server of a URL where there is one.
type Engine struct {
	url     string
	scratch string // the URL of a database for scratch; empty: one is made on the server of url
}

var _ engine.Engine = Engine{}

// Name is the word for the engine in file names and in the language.
func (Engine) Name() string { return "mariadb" }

// Schemes are the schemes of its URLs.
func (Engine) Schemes() []string { return []string{"mariadb", "mysql"} }

// At is the engine with a server on which scratch databases are made.
func (Engine) At(url string) engine.Engine { return Engine{url: url} }

// ProveIn is the engine with a database that is there for scratch.
func (e Engine) ProveIn(url string) engine.Engine { return Engine{url: e.url, scratch: url} }

// Quote is a name as SQL.
func (Engine) Quote(name string) string { return quote(name) }

// QuoteTable is the name of a table as SQL: no schema stands before it.
func (Engine) QuoteTable(name string) string { return quote(name) }

// Text is a text as a literal.
func (Engine) Text(s string) string { return literal(s) }

// Cast gives a literal as it is: the server tells types from where a value stands.
func (Engine) Cast(sql, _ string) string { return sql }

// ownBehind stands behind the columns of Erbario's own tables, whose texts are compared
// byte by byte. Both servers have this collation.
const ownBehind = " ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin"

// DropAll gives the statements that drop everything.
func (Engine) DropAll(s *sqlschema.Schema) []string {
	out := []string{"SET SESSION foreign_key_checks = 0"}
	for _, v := range s.Views {
		out = append(out, "DROP VIEW IF EXISTS "+quote(v.Name))
	}
	for _, t := range s.Tables {
		if t.Name != leaseName { // under which it is emptied
			out = append(out, "DROP TABLE IF EXISTS "+quote(t.Name))
		}
	}
	for _, o := range s.Others {
		switch o.Kind {
		case "function", "procedure", "sequence", "event":
			out = append(out, "DROP "+strings.ToUpper(o.Kind)+" IF EXISTS "+quote(o.Name))
		case sqlschema.OtherView:
			out = append(out, "DROP VIEW IF EXISTS "+quote(o.Name))
		}
	}
	return append(out, "SET SESSION foreign_key_checks = 1")
}

// Split cuts SQL into statements and the comments between them. The body of a trigger
// or a routine, up to the END of what it begins with, belongs to its statement.
func (Engine) Split(src string) []engine.Piece {
	return sqltext.Split(rules, src, func() func(sqltok.Token) bool {
		words, routine, last := 0, false, ""
		var open []string // what has an END to come
		return func(t sqltok.Token) bool {
			word := strings.ToUpper(t.Text)
			if labelled := strings.TrimPrefix(word, ":"); labelled != word && begun[labelled] { // again:LOOP
				word, last = labelled, ":"
			}
			if word == "FOR" && !routine { // SET STATEMENT … FOR
				words = 0
			}
			if words++; words < 12 &&
				(word == "TRIGGER" || word == "PROCEDURE" || word == "FUNCTION" || word == "EVENT") {
				routine = true
			}
			switch {
			case !routine || last == "END": // END IF and the like close one thing
			case word == "BEGIN", word == "CASE", word == "LOOP", word == "WHILE":
				open = append(open, word)
			case (word == "IF" || word == "REPEAT") && begins[last]: // elsewhere it is a function
				open = append(open, word)
			case word == "(" && last == "IF" && len(open) > 1 && open[len(open)-2] == "CASE": // so it is a value of a CASE
				open = open[:len(open)-1]
			case word == "END" && len(open) > 0:
				open = open[:len(open)-1]
			}
			if last == "PRECEDES" || last == "FOLLOWS" { // the name of another trigger: the body comes
				word = "ROW"
			}
			last = word
			return len(open) > 0
		}
	})
}

// begun are the words that a label can be in front of.
var begun = map[string]bool{"BEGIN": true, "LOOP": true, "WHILE": true, "REPEAT": true}

// begins are the words behind which a statement of a routine begins.
var begins = map[string]bool{
	";": true, "BEGIN": true, "THEN": true, "ELSE": true, "DO": true, "LOOP": true, "REPEAT": true, "ROW": true,
	")": true, ":": true,
}

// Bind puts values in the place of parameters.
func (Engine) Bind(sql string, values map[string]string) string {
	return sqltext.Bind(rules, sql, values)
}

// refused are the statements that would reach beyond a step: its transaction, its
// database, or the settings of its session.
var refused = map[string]string{
	"BEGIN": "the runner begins the transaction", "START": "the runner begins the transaction",
	"COMMIT": "the runner ends the transaction", "ROLLBACK": "the runner ends the transaction",
	"SAVEPOINT": "the runner keeps the transaction", "RELEASE": "the runner keeps the transaction", "XA": "the runner keeps the transaction", "PREPARE": "the runner keeps the session", "EXECUTE": "write what is to be run",
	"USE": "a migration works on one database alone", "GRANT": "a migration does not change rights", "REVOKE": "a migration does not change rights", "FLUSH": "it is about the whole server", "RESET": "it is about the whole server",
	"SHUTDOWN": "it is about the whole server", "KILL": "it is about the whole server", "INSTALL": "it is about the whole server", "UNINSTALL": "it is about the whole server", "LOAD": "a step works on the database alone, and reads no file",
	"HANDLER": "the runner keeps the session", "CHANGE": "it is about the whole server", "PURGE": "it is about the whole server", "OPTIMIZE": "it can be run at any time, and cannot be undone", "REPAIR": "it is about the files of the server",
}

// refusedPairs are statements that two words tell.
var refusedPairs = map[string]string{
	"CREATE DATABASE": "a migration works on one database alone", "DROP DATABASE": "a migration works on one database alone", "ALTER DATABASE": "a migration works on one database alone",
	"CREATE SCHEMA": "a migration works on one database alone", "DROP SCHEMA": "a migration works on one database alone", "ALTER SCHEMA": "a migration works on one database alone",
	"CREATE USER": "it is about the whole server", "DROP USER": "it is about the whole server", "ALTER USER": "it is about the whole server", "CREATE ROLE": "it is about the whole server", "DROP ROLE": "it is about the whole server",
	"SET GLOBAL": "it is about the whole server", "SET PASSWORD": "it is about the whole server", "SET SESSION": "the runner keeps the session", "SET TRANSACTION": "the runner keeps the transaction", "SET NAMES": "the runner keeps the session",
	"SET AUTOCOMMIT": "the runner keeps the transaction", "SET SQL_MODE": "the runner keeps the session: under other modes values are cut", "SET FOREIGN_KEY_CHECKS": "the runner keeps the session: references would not be held", "SET TIME_ZONE": "the runner keeps the session",
}

// Validate says why a statement cannot be in a step.
func (Engine) Validate(statement string) error {
	list := leading(statement, 2)
	if len(list) == 0 || statement == holdNoReferences || statement == holdReferences {
		return nil
	}
	if list[0] == "SET" && len(tokens(statement)) > 1 &&
		strings.HasPrefix(statement[tokens(statement)[1].Start:], "@@") {
		return &engine.RefusedError{Word: "SET @@", Why: "the runner keeps the session"}
	}
	if why, ok := refused[list[0]]; ok {
		return &engine.RefusedError{Word: list[0], Why: why}
	}
	if len(list) > 1 {
		if why, ok := refusedPairs[list[0]+" "+list[1]]; ok {
			return &engine.RefusedError{Word: list[0] + " " + list[1], Why: why}
		}
	}
	return nil
}

// leading are the first words of a statement, in capitals.
func leading(statement string, n int) []string {
	var out []string
	for off := 0; len(out) < n; {
		t := rules.Next(statement, off)
		if t.Start >= len(statement) || t.Kind != sqltok.Word && t.Kind != sqltok.Comment {
			break
		}
		if off = t.End; t.Kind == sqltok.Word {
			out = append(out, strings.ToUpper(t.Text))
		}
	}
	return out
}

// ScriptStatement is a statement as a plain script needs it: the client ends a statement
// at the first semicolon, so that one with several has another end.
func (Engine) ScriptStatement(statement string) []string {
	if !slices.ContainsFunc(tokens(statement), func(t sqltok.Token) bool { return t.Is(";") }) {
		return []string{statement + ";"}
	}
	mark := "//"
	for strings.Contains(statement, mark) {
		mark += "/"
	}
	return []string{"DELIMITER " + mark, statement + mark, "DELIMITER ;"}
}

// ScriptRequire stops a script where the query has rows: a query of more than one row
// cannot be one value.
func (Engine) ScriptRequire(r engine.Requirement) []string {
	sentence := literal("rows block this change: " + strings.ReplaceAll(r.Sentence, "{n} ", ""))
	return []string{
		fmt.Sprintf("SET @erbario_rows = (SELECT count(*) FROM (\n%s\n) AS q);", r.Query),
		"DELIMITER //",
		fmt.Sprintf(
			"BEGIN NOT ATOMIC IF @erbario_rows > 0 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = %s; END IF; END//",
			sentence,
		),
		"DELIMITER ;",
	}
}

// ScriptAround gives what a plain script needs around its steps.
func (Engine) ScriptAround() (before, begin, commit, after []string) {
	before = []string{"SET NAMES utf8mb4;"}
	for _, s := range sessionSettings {
		before = append(before, "SET SESSION "+s+";")
	}
	return before, []string{"START TRANSACTION;"}, []string{"COMMIT;"}, nil
}
