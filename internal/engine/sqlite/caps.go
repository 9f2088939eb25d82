package sqlite

// This file says what SQLite can do, and gives its roles.

import (
	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

// Caps tells how SQLite differs from others.
func (Engine) Caps() engine.Caps {
	return engine.Caps{
		PlainCollation: "BINARY", ViewsFollow: true,
		ChecksAll: true, EmptyRow: " DEFAULT VALUES",
		Rates:   engine.Rates{Reads: 1_000_000, Rewrites: 100_000},
		Waiting: "one writer at a time, for the whole database, while each migration runs; readers continue in WAL mode",
	}
}

// SQL, DDL and Scripts are the engine itself: all of them are functions of their arguments.
func (e Engine) SQL() engine.Dialect { return e }

// DDL puts changes into its words.
func (e Engine) DDL() engine.Compiler { return e }

// Scripts are for its own client.
func (e Engine) Scripts() engine.Scripter { return e }

// ownTypes are the types of the columns of Erbario's own tables.
var ownTypes = ddl.OwnTypes{
	ID: "TEXT", Word: "TEXT", Time: "TEXT", Who: "TEXT", Name: "TEXT", Table: "TEXT", Long: "TEXT",
	Small: "INTEGER", Number: "INTEGER",
}

// OwnTables are the statements that create Erbario's own tables. It has no journal: a
// migration is one transaction.
func (Engine) OwnTables() engine.OwnTables {
	out := ownTypes.Tables(func(t *sqlschema.Table) string { return createTable(t, t.Name) })
	out.Journal = ""
	return out
}
