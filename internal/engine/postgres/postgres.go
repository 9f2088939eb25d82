// Package postgres is the engine of PostgreSQL servers. See words.go for its SQL,
// lower.go for what it keeps of a declaration, canon.go and canonicalize.go for how
// expressions are compared, inspect.go for reading what is there, alter.go for
// changing it, and database.go for the connection.
package postgres

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Engine is PostgreSQL, on the server of a URL where there is one.
type Engine struct {
	url     string
	scratch string // the URL of a database for scratch; empty: one is made on the server of url
	main    string // the schema that the URL names; empty: none
	schemas string // that are read next to the one of a URL, with a NUL between them
}

// Name is the word for PostgreSQL in file names and in the language.
func (Engine) Name() string { return "postgres" }

// Schemes are the schemes of PostgreSQL's URLs.
func (Engine) Schemes() []string { return []string{"postgres", "postgresql"} }

// At is the engine with a server on which scratch databases are made.
func (e Engine) At(url string) engine.Engine {
	e.url, e.scratch, e.main = url, "", ""
	if _, path, err := config(url); err == nil && path != "" {
		e.main = tokens(path)[0].Name()
	}
	return e
}

// ProveIn is the engine with a database that is there for scratch.
func (e Engine) ProveIn(url string) engine.Engine {
	e.scratch = url
	return e
}

// WithSchemas is the engine whose databases are read with those schemas, too.
func (e Engine) WithSchemas(names []string) engine.Engine {
	e.schemas = strings.Join(names, "\x00")
	return e
}

// read are the names of those schemas.
func (e Engine) read() []string {
	if e.schemas == "" {
		return nil
	}
	return strings.Split(e.schemas, "\x00")
}

// Quote is a name as SQL.
func (Engine) Quote(name string) string { return quote(name) }

// QuoteTable is the name of a table, or of what else lies in a schema, as SQL.
func (Engine) QuoteTable(name string) string { return quoteTable(name) }

// Text is a text as a literal.
func (Engine) Text(s string) string { return literal(s) }

// Cast gives a literal the type of a column, where nothing else tells it.
func (Engine) Cast(sql, sqlType string) string { return "CAST(" + sql + " AS " + sqlType + ")" }

// CompareKey compares a row of keys.
func (Engine) CompareKey(keys []string, op, place string) string {
	return sqltext.CompareKey(keys, op, place)
}

// ownFunctions make what the triggers of ours call.
var ownFunctions = map[string]string{
	"erbario_immutable": `CREATE OR REPLACE FUNCTION erbario_immutable() RETURNS trigger LANGUAGE plpgsql AS $erbario$
BEGIN
    IF ` + quietly + ` THEN
        RETURN NEW;
    END IF;
    RAISE EXCEPTION '%.% cannot be changed once it is set', TG_TABLE_NAME, TG_ARGV[0] USING ERRCODE = 'check_violation';
END
$erbario$`,
	"erbario_stamped": `CREATE OR REPLACE FUNCTION erbario_stamped() RETURNS trigger LANGUAGE plpgsql AS $erbario$
BEGIN
    IF ` + quietly + ` THEN
        RETURN NEW;
    END IF;
    RETURN jsonb_populate_record(NEW, jsonb_build_object(TG_ARGV[0], clock_timestamp()));
END
$erbario$`,
	// A sequence of the table whose name is taken there has another until the name is free.
	moveFunction: `CREATE OR REPLACE FUNCTION ` + moveFunction + `(what regclass, place name) RETURNS void LANGUAGE plpgsql AS $erbario$
DECLARE
    into_schema name := coalesce(place, current_schema());
    moved text := '_moved_' || what::oid;
    r record;
BEGIN
    FOR r IN ` + ownSequences + `
    LOOP
        IF to_regclass(format('%I.%I', into_schema, r.relname)) IS NOT NULL THEN
            EXECUTE format('ALTER SEQUENCE %s RENAME TO %I', r.this, left(r.relname, 40) || moved);
        END IF;
    END LOOP;
    EXECUTE format('ALTER TABLE %s SET SCHEMA %I', what, into_schema);
    FOR r IN ` + ownSequences + `
    LOOP
        IF r.relname LIKE '%' || moved
            AND to_regclass(format('%I.%I', into_schema, replace(r.relname, moved, ''))) IS NULL THEN
            EXECUTE format('ALTER SEQUENCE %s RENAME TO %I', r.this, replace(r.relname, moved, ''));
        END IF;
    END LOOP;
END
$erbario$`,
}

// ownSequences are the sequences that number the columns of the table that is moved.
const ownSequences = `SELECT c.oid::regclass AS this, c.relname FROM pg_catalog.pg_depend d JOIN pg_catalog.pg_class c ON c.oid = d.objid
        WHERE d.refobjid = what::oid AND d.refclassid = 'pg_catalog.pg_class'::regclass::oid
            AND d.classid = 'pg_catalog.pg_class'::regclass::oid AND d.deptype IN ('a', 'i') AND c.relkind = 'S'`

// moveFunction moves a table, with all that belongs to it, into another schema; into that of the project, where
// none is named.
const moveFunction = schema.MoveFunction

// rareKinds are what few databases have.
var rareKinds = []string{
	"aggregate", "operator", "cast", "collation", "text search configuration", "text search dictionary",
}

// DropAll gives the statements that drop everything, but for extensions.
func (Engine) DropAll(s *sqlschema.Schema) []string {
	var out []string
	for _, v := range s.Views {
		out = append(out, "DROP VIEW IF EXISTS "+quoteTable(v.Name)+" CASCADE")
	}
	for _, t := range s.Tables {
		out = append(out, "DROP TABLE IF EXISTS "+quoteTable(t.Name)+" CASCADE")
		for _, g := range t.Triggers {
			if g.WithFunction() {
				_, drop := Engine{}.Trigger(t, g)
				out = append(out, drop[1:]...)
			}
		}
	}
	for _, o := range s.Others {
		kinds := map[string]string{
			"materialised view": "MATERIALIZED VIEW",
			"enum type":         "TYPE",
			"domain":            "DOMAIN",
			"composite type":    "TYPE",
			"range type":        "TYPE",
			"sequence":          "SEQUENCE",
		}
		switch kind := kinds[o.Kind]; {
		case kind != "":
			out = append(out, "DROP "+kind+" IF EXISTS "+quoteTable(o.Name)+" CASCADE")
		case o.Kind == "function", o.Kind == "procedure":
			name, args, _ := strings.Cut(o.Name, "(")
			out = append(out, "DROP ROUTINE IF EXISTS "+quoteTable(name)+"("+args+" CASCADE")
		case slices.Contains(rareKinds, o.Kind):
			words := "DROP " + strings.ToUpper(o.Kind)
			for _, sql := range (Engine{}).DropObject(engine.Creation{Kind: o.Kind, Name: o.Name, SQL: o.Make[0]}) {
				out = append(out, words+" IF EXISTS"+strings.TrimPrefix(sql, words)+" CASCADE")
			}
		}
	}
	return out
}

// Split cuts SQL into statements and the comments between them. A body that is
// written as SQL, between BEGIN ATOMIC and END, belongs to its statement.
func (Engine) Split(src string) []engine.Piece {
	return sqltext.Split(rules, src, func() func(sqltok.Token) bool {
		brackets, depth, last := 0, 0, ""
		return func(t sqltok.Token) bool {
			word := strings.ToUpper(t.Text)
			switch {
			case word == "(":
				brackets++
			case word == ")":
				brackets--
			case word == "ATOMIC" && last == "BEGIN":
				depth++
			case depth > 0 && word == "CASE":
				depth++
			case depth > 0 && word == "END":
				depth--
			}
			last = word
			return depth > 0 || brackets > 0
		}
	})
}

// Bind puts values in the place of parameters.
func (Engine) Bind(sql string, values map[string]string) string {
	return sqltext.Bind(rules, sql, values)
}

// refused are the statements that would reach beyond a step: its transaction, its
// database, or the settings of its session.
var refused = map[string]string{
	"BEGIN": "the runner begins the transaction", "START": "the runner begins the transaction",
	"COMMIT": "the runner ends the transaction", "END": "the runner ends the transaction",
	"ROLLBACK": "the runner ends the transaction", "ABORT": "the runner ends the transaction",
	"SAVEPOINT": "the runner keeps the transaction", "RELEASE": "the runner keeps the transaction",
	"PREPARE": "the runner keeps the transaction", "VACUUM": "it cannot run in a transaction",
	"DISCARD": "the runner keeps the session", "RESET": "the runner keeps the session",
	"CHECKPOINT": "it is about the whole server", "COPY": "a step works on the database alone, and reads no file", "LOAD": "a step works on the database alone", "LISTEN": "nothing would receive it", "CLUSTER": "write what is to change",
}

// refusedPairs are statements that two words tell.
var refusedPairs = map[string]string{
	"CREATE DATABASE": "a migration works on one database alone", "DROP DATABASE": "a migration works on one database alone", "ALTER DATABASE": "a migration works on one database alone",
	"ALTER SYSTEM": "it is about the whole server", "CREATE TABLESPACE": "it is about the whole server",
	"DROP TABLESPACE": "it is about the whole server",
	"SET TRANSACTION": "the runner keeps the transaction", "SET SESSION": "the runner keeps the session: write SET LOCAL", "SET ROLE": "the runner keeps the session", "SET SEARCH_PATH": "the runner says where names are looked up",
}

// Validate says why a statement cannot be in a step.
func (Engine) Validate(statement string) error {
	var list []string
	for _, t := range tokens(statement) {
		if t.Kind != sqltok.Word {
			break
		}
		if list = append(list, strings.ToUpper(t.Text)); len(list) == 3 {
			break
		}
	}
	if len(list) == 0 {
		return nil
	}
	if why, ok := refused[list[0]]; ok {
		return &engine.RefusedError{Word: list[0], Why: why}
	}
	if len(list) > 1 {
		pair := list[0] + " " + list[1]
		if pair == "SET LOCAL" && len(list) > 2 && list[2] == "SEARCH_PATH" {
			return &engine.RefusedError{Word: "SET LOCAL search_path", Why: refusedPairs["SET SEARCH_PATH"]}
		}
		if why, ok := refusedPairs[pair]; ok {
			return &engine.RefusedError{Word: pair, Why: why}
		}
	}
	return nil
}

// ScriptStatement is a statement as a plain script needs it.
func (Engine) ScriptStatement(statement string) []string { return []string{statement + ";"} }

// ScriptRequire stops a script where the query has rows.
func (Engine) ScriptRequire(r engine.Requirement) []string {
	tag := "$erbario$"
	for i := 0; strings.Contains(r.Query+r.Sentence, tag); i++ {
		tag = fmt.Sprintf("$erbario%d$", i)
	}
	return []string{
		fmt.Sprintf(
			"DO %s\nBEGIN\n    IF EXISTS (\n%s\n    ) THEN\n        RAISE EXCEPTION USING MESSAGE = %s;\n    END IF;\nEND\n%s;",
			tag, r.Query, literal("rows block this change: "+strings.ReplaceAll(r.Sentence, "{n} ", "")), tag),
	}
}

// ScriptAround gives what a plain script needs around its steps.
func (e Engine) ScriptAround() (before, begin, commit, after []string) {
	before = []string{`\set ON_ERROR_STOP on`, "SET client_min_messages = warning;", "SET TIME ZONE 'UTC';",
		"SET check_function_bodies = off;"}
	if e.url != "" {
		if _, path, err := config(e.url); err == nil && path != "" { // whoever runs it has another
			before = append(before, "SET search_path = "+path+";")
		}
	}
	return before, []string{"BEGIN;"}, []string{"COMMIT;"}, nil
}

var _ engine.Engine = Engine{}
