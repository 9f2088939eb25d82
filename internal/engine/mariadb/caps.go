package mariadb

// This file says what MariaDB can do, and gives its roles.

import (
	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

// Caps tells how MariaDB differs from others.
func (Engine) Caps() engine.Caps {
	return engine.Caps{
		Journal: true, CommitsChanges: true, OrderedColumns: true, ImmediateReferences: true, Stages: true,
		IndexesPerTable: true,
		EmptyRow:        " () VALUES ()",
		Rates:           engine.Rates{Reads: 700_000, Rewrites: 200_000},
		Waiting:         "each change of a table waits at most a second for its lock, then retries, so that no queue builds up after it",
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
	ID: "varchar(190)", Word: "varchar(64)", Time: "varchar(32)", Who: "varchar(255)", Name: "varchar(255)",
	Table: "varchar(64)", Long: "longtext", Small: "integer", Number: "bigint", Behind: ownBehind,
}

// OwnTables are the statements that create Erbario's own tables, and that of the lease.
func (Engine) OwnTables() engine.OwnTables {
	out := ownTypes.Tables(func(t *sqlschema.Table) string {
		if t.Name == "erbario_seed_rows" {
			t.Indexes = []*sqlschema.Index{{Name: t.Name + "_run", Parts: []sqlschema.Part{{Column: "run"}}}}
		}
		return createTable(t, t.Name)
	})
	out.History = append(out.History, leaseTable)
	return out
}
