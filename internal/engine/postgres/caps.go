package postgres

// This file says what PostgreSQL can do, and gives its roles.

import (
	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

// Caps tells how PostgreSQL differs from others.
func (Engine) Caps() engine.Caps {
	return engine.Caps{
		PlainCollation: plainCollation, Schemas: true,
		Journal: true, ImmediateReferences: true, Enums: true, Stages: true, EmptyRow: " DEFAULT VALUES",
		Depends: true, ViewsFollow: true,
		Rates:   engine.Rates{Reads: 1_000_000, Rewrites: 250_000},
		Waiting: "each is held until its transaction ends; a lock not obtained within 150 ms is retried with the whole transaction. So no queue builds up after it",
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
	ID: "text", Word: "text", Time: "text", Who: "text", Name: "text", Table: "text", Long: "text",
	Small: "integer", Number: "bigint", Sorting: `"C"`,
}

// OwnTables are the statements that create Erbario's own tables, and the functions of its
// triggers.
func (Engine) OwnTables() engine.OwnTables {
	out := ownTypes.Tables(func(t *sqlschema.Table) string { return createTable(t, t.Name) })
	out.Functions = ownFunctions
	return out
}

// plainCollation is what the server calls the collation of the database.
const plainCollation = "default"
