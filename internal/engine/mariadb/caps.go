package mariadb

// This file says what MariaDB can do, and gives its roles.

import "erbario/internal/engine"

// Caps tells how MariaDB differs from others.
func (Engine) Caps() engine.Caps {
	return engine.Caps{
		Journal: true, CommitsChanges: true, OrderedColumns: true, ImmediateReferences: true, Stages: true,
		EmptyRow: " () VALUES ()",
		Waiting:  "each change of a table waits at most a second for its lock, then retries, so that no queue builds up after it",
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
			"CREATE TABLE IF NOT EXISTS erbario_history (\n    id varchar(190) NOT NULL PRIMARY KEY,\n    checksum varchar(190) NOT NULL,\n    applied_at varchar(32) NOT NULL,\n    applied_by varchar(255) NOT NULL,\n    took_ms bigint NOT NULL,\n    text longtext NOT NULL,\n    answers longtext\n)" + ownBehind,
			leaseTable,
			"CREATE TABLE IF NOT EXISTS erbario_since (\n    name varchar(190) NOT NULL PRIMARY KEY,\n    at varchar(32) NOT NULL,\n    next_number bigint\n)" + ownBehind,
		},
		Journal: "CREATE TABLE IF NOT EXISTS erbario_journal (\n    migration varchar(190) NOT NULL,\n    step integer NOT NULL,\n    state varchar(64) NOT NULL,\n    at varchar(32) NOT NULL,\n    session varchar(255) NOT NULL,\n    text longtext,\n    answers longtext,\n    PRIMARY KEY (migration, step)\n)" + ownBehind,
		Seeds: []string{
			"CREATE TABLE IF NOT EXISTS erbario_seed_runs (\n    id varchar(190) NOT NULL PRIMARY KEY,\n    seed varchar(255) NOT NULL,\n    random varchar(64) NOT NULL,\n    begun_at varchar(32) NOT NULL,\n    ended_at varchar(32)\n)" + ownBehind,
			"CREATE TABLE IF NOT EXISTS erbario_seed_rows (\n    run varchar(190) NOT NULL,\n    line varchar(255) NOT NULL,\n    table_name varchar(64) NOT NULL,\n    first_row bigint NOT NULL,\n    row_count bigint NOT NULL,\n    `keys` longtext NOT NULL,\n    KEY erbario_seed_rows_run (run)\n)" + ownBehind,
		},
	}
}
