package sqlite

// This file says what SQLite can do, and gives its roles.

import "erbario/internal/engine"

// Caps tells how SQLite differs from others.
func (Engine) Caps() engine.Caps {
	return engine.Caps{
		ChecksAll: true, EmptyRow: " DEFAULT VALUES",
		Waiting: "one writer at a time, for the whole database, while each migration runs; readers continue in WAL mode",
	}
}

// SQL, DDL and Scripts are the engine itself: all of them are functions of their arguments.
func (e Engine) SQL() engine.Dialect { return e }

// DDL puts changes into its words.
func (e Engine) DDL() engine.Compiler { return e }

// Scripts are for its own client.
func (e Engine) Scripts() engine.Scripter { return e }

// OwnTables are the statements that make Erbario's own tables.
func (Engine) OwnTables() engine.OwnTables {
	return engine.OwnTables{
		History: []string{
			historyTable,
			"CREATE TABLE IF NOT EXISTS erbario_since (\n    name TEXT NOT NULL PRIMARY KEY,\n    at TEXT NOT NULL,\n    next_number INTEGER\n)",
		},
		Seeds: []string{
			"CREATE TABLE IF NOT EXISTS erbario_seed_runs (\n    id TEXT NOT NULL PRIMARY KEY,\n    seed TEXT NOT NULL,\n    random TEXT NOT NULL,\n    begun_at TEXT NOT NULL,\n    ended_at TEXT\n)",
			"CREATE TABLE IF NOT EXISTS erbario_seed_rows (\n    run TEXT NOT NULL,\n    line TEXT NOT NULL,\n    table_name TEXT NOT NULL,\n    first_row INTEGER NOT NULL,\n    row_count INTEGER NOT NULL,\n    keys TEXT NOT NULL\n)",
		},
	}
}
