package proof_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/migration"
	"erbario/internal/proof"
	"erbario/internal/sqlschema"
)

// A migration reaches what it names, what that refers to and what refers to it, and what has
// views, triggers or names on the way; nothing else is made on scratch for it.
func TestPart(t *testing.T) {
	e := sqlite(t)
	db, err := e.Scratch(ctx)
	require.NoError(t, err)
	defer db.Close()
	for _, sql := range []string{
		"CREATE TABLE rooms (id INTEGER PRIMARY KEY, name TEXT)",
		"CREATE TABLE benches (id INTEGER PRIMARY KEY, room_id INTEGER REFERENCES rooms (id))",
		"CREATE TABLE lamps (id INTEGER PRIMARY KEY, bench_id INTEGER REFERENCES benches (id), name TEXT)",
		"CREATE TABLE shades (id INTEGER PRIMARY KEY, lamp_id INTEGER REFERENCES lamps (id))",
		"CREATE TABLE notes (id INTEGER PRIMARY KEY, text TEXT)",
		"CREATE TABLE others (id INTEGER PRIMARY KEY, name TEXT)",
		"CREATE INDEX recent ON others (name)",
		"CREATE VIEW bright AS SELECT lamps.id, notes.text FROM lamps, notes",
		"CREATE TABLE logs (id INTEGER PRIMARY KEY, what TEXT)",
		"CREATE TRIGGER logged AFTER INSERT ON logs BEGIN UPDATE shades SET lamp_id = NULL; END",
		"CREATE TABLE erbario_kept_x (id INTEGER)",
	} {
		require.NoError(t, db.Exec(ctx, sql), sql)
	}
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	for _, c := range []struct {
		apply string
		part  []string
	}{
		{"ALTER TABLE notes ADD COLUMN size INTEGER", []string{"benches", "lamps", "notes", "rooms", "bright"}},
		{"ALTER TABLE lamps ADD COLUMN size INTEGER",
			[]string{"benches", "lamps", "notes", "rooms", "shades", "bright"}},
		{"ALTER TABLE shades ADD COLUMN size INTEGER", []string{"benches", "lamps", "logs", "rooms", "shades"}},
		{"ALTER TABLE rooms ADD COLUMN size INTEGER", []string{"benches", "rooms"}},
		{"CREATE TABLE fresh (id INTEGER PRIMARY KEY, room_id INTEGER REFERENCES rooms (id))",
			[]string{"benches", "rooms"}},
		{"CREATE TABLE fresh (id INTEGER PRIMARY KEY)", nil},
		{"CREATE INDEX recent ON rooms (name)", []string{"benches", "others", "rooms"}},
		{"DROP VIEW bright", []string{"benches", "lamps", "notes", "rooms", "bright"}},
		{"PRAGMA writable_schema = 1", []string{"benches", "lamps", "logs", "notes", "others", "rooms", "shades",
			"bright"}},
	} {
		m := &migration.Migration{Steps: []migration.Step{{Apply: []migration.Statement{{SQL: c.apply}}}}}
		part, rest := proof.Part(e, s, m)
		assert.ElementsMatch(t, c.part, names(part), c.apply)
		assert.Len(t, append(names(part), names(rest)...), 8,
			"%s: all of it is in one of the two, but what is Erbario's own", c.apply)
		whole := proof.Join(part, rest)
		assert.Empty(t, schemasDiffer(whole, s), c.apply)
	}
}

func names(s *sqlschema.Schema) (out []string) {
	for _, t := range s.Tables {
		out = append(out, t.Name)
	}
	for _, v := range s.Views {
		out = append(out, v.Name)
	}
	return out
}

func schemasDiffer(a, b *sqlschema.Schema) string {
	if sqlschema.Fingerprint(a) != sqlschema.Fingerprint(b) {
		return "they differ"
	}
	return ""
}
