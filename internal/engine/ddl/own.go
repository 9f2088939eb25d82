package ddl

// This file holds Erbario's own tables as schema values: the history of migrations, the
// journal of one under way, what seeds made. An engine gives its types for them, and creates
// them as it creates any other.

import (
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// OwnTypes are an engine's types for the columns of Erbario's own tables, and what stands
// behind their columns.
type OwnTypes struct {
	ID      string // of a migration, a run, a kept table
	Word    string // a few words, such as the state of a step
	Time    string
	Who     string // a person, a session
	Name    string // of a seed, or a line of one
	Table   string // the name of a table
	Long    string // texts of any length
	Small   string // the number of a step
	Number  string
	Sorting string // the collation of ids; empty: the database's own
	Behind  string
}

// own makes a table; a column is "name type", with " null" behind one that can be empty.
func (o OwnTypes) own(name string, key []string, columns ...string) *sqlschema.Table {
	t := &sqlschema.Table{Name: name, Options: sqlschema.Options{Behind: o.Behind}}
	types := map[string]string{
		"id": o.ID, "word": o.Word, "time": o.Time, "who": o.Who, "name": o.Name, "table": o.Table, "long": o.Long,
		"small": o.Small, "number": o.Number,
	}
	for _, c := range columns {
		list := strings.Fields(c)
		t.Columns = append(t.Columns, &sqlschema.Column{Name: list[0], SQLType: types[list[1]],
			NotNull: len(list) == 2})
	}
	if len(key) > 0 {
		t.PrimaryKey = &sqlschema.PrimaryKey{}
	}
	for _, k := range key {
		t.PrimaryKey.Columns = append(t.PrimaryKey.Columns, sqlschema.Part{Column: k})
	}
	if len(key) == 1 {
		t.Column(key[0]).Collation = o.Sorting
	}
	return t
}

// Tables are the statements that create Erbario's own tables where they are not there yet.
func (o OwnTypes) Tables(create func(t *sqlschema.Table) string) engine.OwnTables {
	made := func(t *sqlschema.Table) string {
		return strings.Replace(create(t), "CREATE TABLE ", "CREATE TABLE IF NOT EXISTS ", 1)
	}
	rows := o.own("erbario_seed_rows", nil,
		"run id", "line name", "table_name table", "first_row number", "row_count number", "keys long")
	return engine.OwnTables{
		History: []string{
			made(o.own("erbario_history", []string{"id"}, "id id", "checksum id", "applied_at time", "applied_by who",
				"took_ms number", "text long", "answers long null")),
			// since when values are kept that an undo put aside, and which number the next row of
			// a table was to get that it dropped
			made(o.own("erbario_since", []string{"name"}, "name id", "at time", "next_number number null")),
		},
		Journal: made(o.own("erbario_journal", []string{"migration", "step"}, "migration id", "step small",
			"state word", "at time", "session who", "text long null", "answers long null")),
		Seeds: []string{
			made(o.own("erbario_seed_runs", []string{"id"}, "id id", "seed name", "random word", "begun_at time",
				"ended_at time null")),
			made(rows),
		},
	}
}
