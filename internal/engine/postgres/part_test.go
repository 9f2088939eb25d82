package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// A partition changes in place where only its bounds and storage parameters differ.
func TestPartChanged(t *testing.T) {
	const lock = "LOCK TABLE v26 IN ACCESS SHARE MODE"
	for _, c := range []struct{ was, now, want string }{
		{"CREATE TABLE v26 PARTITION OF v FOR VALUES FROM (1) TO (2)", "CREATE TABLE v26 PARTITION OF v FOR VALUES FROM (1) TO (3)",
			"ALTER TABLE v DETACH PARTITION v26;\nALTER TABLE v ATTACH PARTITION v26 FOR VALUES FROM (1) TO (3)"},
		{"CREATE UNLOGGED TABLE v26 PARTITION OF v DEFAULT WITH (fillfactor=70, autovacuum_enabled=false)", "CREATE UNLOGGED TABLE v26 PARTITION OF v DEFAULT WITH (fillfactor=80)",
			lock + ";\nALTER TABLE v26 RESET (fillfactor, autovacuum_enabled);\nALTER TABLE v26 SET (fillfactor=80)"},
		{"CREATE TABLE v26 PARTITION OF v FOR VALUES WITH (modulus 2, remainder 0)", "CREATE TABLE v26 PARTITION OF v FOR VALUES WITH (modulus 4, remainder 0) WITH (fillfactor=80)",
			"ALTER TABLE v DETACH PARTITION v26;\nALTER TABLE v ATTACH PARTITION v26 FOR VALUES WITH (modulus 4, remainder 0);\nALTER TABLE v26 SET (fillfactor=80)"},
		{"CREATE TABLE v26 PARTITION OF v DEFAULT PARTITION BY LIST (a)", "CREATE TABLE v26 PARTITION OF v DEFAULT PARTITION BY LIST (a)", lock},
		{"CREATE TABLE v26 PARTITION OF v DEFAULT PARTITION BY LIST (a)", "CREATE TABLE v26 PARTITION OF v DEFAULT PARTITION BY LIST (b)", ""},
		{"CREATE TABLE v26 PARTITION OF v DEFAULT", "CREATE UNLOGGED TABLE v26 PARTITION OF v DEFAULT", ""},
		{"CREATE TABLE v26 (a integer) INHERITS (v)", "CREATE TABLE v26 (b integer) INHERITS (v)", ""},
	} {
		creation := func(sql string) engine.Creation {
			return engine.Creation{Kind: engine.Part, Name: "v26", Of: "v", SQL: sql}
		}
		assert.Equal(t, c.want, partChanged(creation(c.was), creation(c.now)), c.now)
	}
}

// The bounds of a part are a condition over the rows of its table, where that is beyond doubt.
func TestBounds(t *testing.T) {
	for _, c := range []struct{ by, bounds, want string }{
		{"RANGE (day)", "FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')", "(day) >= ('2026-01-01') AND (day) < ('2027-01-01')"},
		{"RANGE (day)", "FOR VALUES FROM (MINVALUE) TO (7)", "(day) < (7)"},
		{"RANGE (day)", "FOR VALUES FROM (MINVALUE) TO (MAXVALUE)", ""},
		{"RANGE (a, lower(b))", "FOR VALUES FROM (1, 'a') TO (2, 'b')", "(a, lower(b)) >= (1, 'a') AND (a, lower(b)) < (2, 'b')"},
		{"RANGE (a, b)", "FOR VALUES FROM (1, MINVALUE) TO (2, 3)", ""},
		{"LIST (room)", "FOR VALUES IN ('a', 'b,c')", "room IN ('a', 'b,c')"},
		{"LIST (room)", "FOR VALUES IN ('a', NULL)", "(room IN ('a', NULL) OR room IS NULL)"},
		{`LIST (room COLLATE "C")`, "FOR VALUES IN ('a')", ""},
		{"HASH (id)", "FOR VALUES WITH (modulus 2, remainder 0)", ""},
	} {
		of := &sqlschema.Table{Name: "v", Options: sqlschema.Options{Behind: " PARTITION BY " + c.by}}
		got, rest := Engine{}.Bounds(of, engine.Creation{SQL: "CREATE TABLE p PARTITION OF v " + c.bounds})
		assert.Equal(t, c.want, got, c.bounds)
		assert.False(t, rest)
	}
	_, rest := Engine{}.Bounds(&sqlschema.Table{}, engine.Creation{SQL: "CREATE TABLE p PARTITION OF v DEFAULT"})
	assert.True(t, rest)
}
