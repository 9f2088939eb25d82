package postgres

// This file says what PostgreSQL can do, and gives its roles.

import "erbario/internal/engine"

// Caps tells how PostgreSQL differs from others.
func (Engine) Caps() engine.Caps {
	return engine.Caps{
		Journal: true, ImmediateReferences: true, Enums: true, Stages: true, EmptyRow: " DEFAULT VALUES",
		Waiting: "each is held until its transaction ends; a lock not obtained within 150 ms is retried with the whole transaction. So no queue builds up after it",
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
		History: append([]string{historyTable, sinceTable}, ownFunctions...),
		Journal: `CREATE TABLE IF NOT EXISTS erbario_journal (
    migration text NOT NULL,
    step integer NOT NULL,
    state text NOT NULL,
    at text NOT NULL,
    session text NOT NULL,
    text text,
    answers text,
    PRIMARY KEY (migration, step)
)`,
		Seeds: []string{
			"CREATE TABLE IF NOT EXISTS erbario_seed_runs (\n    id text NOT NULL PRIMARY KEY,\n    seed text NOT NULL,\n    random text NOT NULL,\n    begun_at text NOT NULL,\n    ended_at text\n)",
			"CREATE TABLE IF NOT EXISTS erbario_seed_rows (\n    run text NOT NULL,\n    line text NOT NULL,\n    table_name text NOT NULL,\n    first_row bigint NOT NULL,\n    row_count bigint NOT NULL,\n    keys text NOT NULL\n)",
		},
	}
}
