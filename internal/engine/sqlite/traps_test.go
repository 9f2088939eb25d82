package sqlite

// This file holds a test for each trap of SQLite that the code depends on: what
// loses data when it is done the obvious way.

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

var ctx = context.Background()

func selectAll(t *testing.T, db *database, query string) string {
	rows, err := db.Select(ctx, query)
	require.NoError(t, err, query)
	var out []string
	for _, r := range rows {
		out = append(out, strings.Join(r, "|"))
	}
	return strings.Join(out, "\n")
}

// change alters a table of db as a migration would, in one transaction.
func change(t *testing.T, db *database, table string, edit func(*sqlschema.Table),
	forward map[string]engine.Source) engine.Change {
	from := inspect(t, db).Table(table)
	to := from.Clone()
	edit(to)
	if forward == nil {
		forward = map[string]engine.Source{}
	}
	c := Engine{}.Alter(engine.Alteration{
		From:    from,
		To:      to,
		Forward: forward,
		Back:    map[string]engine.Source{},
		Parent:  func(string, bool) engine.Parent { return engine.ParentThere },
		Summary: "change",
	})
	run(t, db, c.Steps, false)
	return c
}

func run(t *testing.T, db *database, steps []engine.Step, undo bool) {
	require.NoError(t, db.Begin(ctx, 0))
	var all []string
	for i := range steps {
		if undo {
			all = append(all, steps[len(steps)-1-i].Undo...)
		} else {
			all = append(all, steps[i].Apply...)
		}
	}
	require.NoError(t, db.TrackIntegrity(ctx, all, nil))
	for _, s := range all {
		require.NoError(t, db.Step(ctx, s), s)
	}
	require.NoError(t, db.CheckIntegrity(ctx))
	require.NoError(t, db.Commit(ctx))
}

func retype(column, sqlType string) func(*sqlschema.Table) {
	return func(t *sqlschema.Table) { t.Column(column).SQLType = sqlType }
}

// Copying a parent does not delete the children of a cascading reference, and
// circles, self-references, views and other tables' triggers stay as they were.
func TestCopyKeepsEverythingAround(t *testing.T) {
	db := scratch(t,
		"CREATE TABLE taxa (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT, up INT REFERENCES taxa (id) ON DELETE CASCADE, type_id INT REFERENCES specimens (id) ON DELETE CASCADE)",
		"CREATE TABLE specimens (id INTEGER PRIMARY KEY, taxon INT REFERENCES taxa (id) ON DELETE CASCADE)",
		"CREATE VIEW named AS SELECT name FROM taxa",
		"CREATE TRIGGER other AFTER INSERT ON specimens BEGIN UPDATE taxa SET name = name || '!' WHERE id = NEW.taxon; END",
		"CREATE TRIGGER own AFTER DELETE ON taxa BEGIN DELETE FROM specimens; END",
		"CREATE INDEX by_name ON taxa (name)",
		"INSERT INTO taxa (id, name, up) VALUES (1, 'Bellis', NULL), (2, 'Salix', 1), (7, 'Arnica', 2)",
		"INSERT INTO specimens VALUES (1, 1), (2, 7)", "UPDATE taxa SET type_id = 1",
		"DELETE FROM specimens WHERE id = 99")
	before := selectAll(t, db, "SELECT * FROM taxa")
	others := "SELECT type, name, sql FROM sqlite_schema WHERE name NOT IN ('taxa') AND name NOT LIKE 'sqlite%' ORDER BY name"
	texts := selectAll(t, db, others)
	c := change(t, db, "taxa", retype("name", "VARCHAR(80)"), nil)
	assert.True(t, c.Copies)
	assert.Equal(t, before, selectAll(t, db, "SELECT * FROM taxa"))
	assert.Equal(t, "2", selectAll(t, db, "SELECT count(*) FROM specimens"))
	assert.Equal(t, texts, selectAll(t, db, others), "views, triggers, indexes and children are as they were")
	assert.Contains(t, selectAll(t, db, "SELECT sql FROM sqlite_schema WHERE name = 'specimens'"), "REFERENCES taxa")
	run(t, db, c.Steps, true)
	assert.Equal(t, before, selectAll(t, db, "SELECT * FROM taxa"))
}

// The next number goes on from where it was, also where the newest rows are gone.
func TestCopyKeepsTheSequence(t *testing.T) {
	db := scratch(t, "CREATE TABLE taxa (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT)",
		"INSERT INTO taxa (name) VALUES ('a'), ('b'), ('c')", "DELETE FROM taxa WHERE id = 3")
	change(t, db, "taxa", retype("name", "VARCHAR(80)"), nil)
	require.NoError(t, db.Exec(ctx, "INSERT INTO taxa (name) VALUES ('d')"))
	assert.Equal(t, "4", selectAll(t, db, "SELECT max(id) FROM taxa"))
}

// The row number of a table without an integer key stays, by whichever name no
// column hides.
func TestCopyKeepsRowNumbers(t *testing.T) {
	db := scratch(t, "CREATE TABLE sheets (rowid TEXT, code TEXT PRIMARY KEY)",
		"INSERT INTO sheets (oid, rowid, code) VALUES (5, 'x', 'a'), (9, 'y', 'b')")
	change(t, db, "sheets", retype("code", "VARCHAR(9)"), nil)
	assert.Equal(t, "5|x|a\n9|y|b", selectAll(t, db, "SELECT oid, rowid, code FROM sheets"))
	db = scratch(t, "CREATE TABLE sheets (code TEXT PRIMARY KEY, n INT) WITHOUT ROWID",
		"INSERT INTO sheets VALUES ('b', 1), ('a', 2)")
	change(t, db, "sheets", retype("n", "TEXT"), nil)
	assert.Equal(t, "a|2\nb|1", selectAll(t, db, "SELECT * FROM sheets"))
}

// Generated columns are worked out again rather than copied.
func TestCopyLeavesGeneratedColumnsOut(t *testing.T) {
	db := scratch(t, "CREATE TABLE sheets (id INTEGER PRIMARY KEY, mm INT, cm REAL AS (mm / 10.0) STORED)",
		"INSERT INTO sheets (mm) VALUES (25)")
	change(t, db, "sheets", retype("mm", "INTEGER"), nil)
	assert.Equal(t, "1|25|2.5", selectAll(t, db, "SELECT * FROM sheets"))
}

// Triggers do not fire while rows are copied, filled or put back: no other
// column changes.
func TestFillFiresNoTrigger(t *testing.T) {
	db := scratch(t,
		"CREATE TABLE sheets (id INTEGER PRIMARY KEY, code TEXT, updated_at TEXT DEFAULT 'then')",
		"CREATE TRIGGER stamp AFTER UPDATE ON sheets BEGIN UPDATE sheets SET updated_at = 'now'; END",
		"CREATE TRIGGER no BEFORE UPDATE ON sheets BEGIN SELECT RAISE(ABORT, 'no'); END",
		"CREATE TRIGGER ins AFTER INSERT ON sheets BEGIN UPDATE sheets SET updated_at = 'now'; END")
	require.NoError(t, db.Exec(ctx, "DROP TRIGGER ins"))
	require.NoError(t, db.Exec(ctx, "INSERT INTO sheets (code) VALUES (NULL), ('x')"))
	require.NoError(t,
		db.Exec(ctx, "CREATE TRIGGER ins AFTER INSERT ON sheets BEGIN UPDATE sheets SET updated_at = 'now'; END"))
	change(t, db, "sheets", func(t *sqlschema.Table) { t.Column("code").NotNull = true },
		map[string]engine.Source{"code": {SQL: "coalesce(code, 'none')"}})
	assert.Equal(t, "1|none|then\n2|x|then", selectAll(t, db, "SELECT * FROM sheets"))
	// The same for what an undo kept.
	live := inspect(t, db).Table("sheets")
	makes, fills := (Engine{}).Archive(live, []string{"code"}, "erbario_kept_x")
	for _, s := range append(makes, fills...) {
		require.NoError(t, db.Exec(ctx, s))
	}
	kept := inspect(t, db).Table("erbario_kept_x")
	for _, s := range (Engine{}).Restore(live, kept, false) {
		require.NoError(t, db.Exec(ctx, s), s)
	}
	assert.Equal(t, "1|none|then\n2|x|then", selectAll(t, db, "SELECT * FROM sheets"))
	assert.Equal(t, "3", selectAll(t, db, "SELECT count(*) FROM sqlite_schema WHERE type = 'trigger'"))
}

// A row that was given an old key again is not given the old row's value.
func TestKeptValueNeedsTheSameRow(t *testing.T) {
	db := scratch(t, "CREATE TABLE sheets (id INTEGER PRIMARY KEY, note TEXT, created_at TEXT)",
		"INSERT INTO sheets VALUES (1, 'old', 'monday'), (2, 'stays', 'monday')")
	from := inspect(t, db).Table("sheets")
	to := from.Clone()
	to.Columns = []*sqlschema.Column{to.Columns[0], to.Columns[2]}
	c := Engine{}.Alter(engine.Alteration{
		From:    from,
		To:      to,
		Forward: map[string]engine.Source{},
		Back:    map[string]engine.Source{"note": {Kept: "erbario_kept_1_sheets"}},
		Lost:    []string{"note"},
		Keep:    "erbario_kept_1_sheets",
		Parent:  func(string, bool) engine.Parent { return engine.ParentThere },
	})
	run(t, db, c.Steps, false)
	require.NoError(t, db.Exec(ctx, "DELETE FROM sheets WHERE id = 1"))
	require.NoError(t, db.Exec(ctx, "INSERT INTO sheets VALUES (1, 'tuesday')"))
	run(t, db, c.Steps, true)
	assert.Equal(t, "1||tuesday\n2|stays|monday",
		selectAll(t, db, "SELECT id, note, created_at FROM sheets ORDER BY id"))
	assert.Equal(t, "old", selectAll(t, db, "SELECT note FROM erbario_kept_1_sheets"),
		"what found no row is still there")
}

// A reference that the steps leave without a row is found; one that was so
// before is not held against them, nor one that cannot be checked at all.
func TestSettle(t *testing.T) {
	db := scratch(t, "CREATE TABLE taxa (id INTEGER PRIMARY KEY)",
		"CREATE TABLE specimens (id INTEGER PRIMARY KEY, taxon INT REFERENCES taxa (id))",
		"CREATE TABLE mismatched (a INT REFERENCES taxa (code))", "INSERT INTO taxa VALUES (1)",
		"INSERT INTO specimens VALUES (1, 1), (2, 99)", "INSERT INTO mismatched VALUES (1)")
	require.NoError(t, db.Begin(ctx, 0))
	again := func(statements ...string) error {
		require.NoError(t, db.TrackIntegrity(ctx, statements, nil))
		for _, s := range statements {
			require.NoError(t, db.Step(ctx, s))
		}
		return db.CheckIntegrity(ctx)
	}
	require.NoError(t, again("CREATE TABLE sheets (n INT)"), "what only makes something new is not looked at")
	require.Error(t, again("UPDATE specimens SET id = 3 WHERE id = 2"), "another row now")
	require.NoError(t, db.Rollback())
	require.NoError(t, db.Begin(ctx, 0))
	require.NoError(t, again("UPDATE specimens SET taxon = 1 WHERE id = 2"))
	assert.ErrorContains(t, again("DELETE FROM taxa"), "row 1 of specimens refers to no row of taxa",
		"also where only the parent is touched")
	require.NoError(t, db.Rollback())
}

// Types are named so that the affinity keeps every value as it is, and checks
// hold what SQLite does not.
func TestStoredTypes(t *testing.T) {
	table := &schema.Table{Name: "t"}
	kinds := []schema.Type{
		{
			Kind: schema.UUID,
		}, {Kind: schema.JSON}, {Kind: schema.Decimal, Precision: 20, Scale: 2}, {Kind: schema.Text},
		{Kind: schema.Text, Length: 5}, {Kind: schema.Date}, {Kind: schema.Time},
		{
			Kind: schema.Timestamp,
		}, {Kind: schema.Boolean}, {Kind: schema.Decimal, Precision: 6, Scale: 2}, {Kind: schema.Integer},
		{Kind: schema.Choice, Choices: []string{"a", "0930"}}, {Kind: schema.Bytes, Length: 2},
	}
	for i, k := range kinds {
		table.Columns = append(table.Columns, &schema.Column{Name: fmt.Sprintf("c%d", i), Type: k})
	}
	s, _ := Engine{}.Lower(&schema.Schema{Tables: []*schema.Table{table}})
	db := scratch(t, tableStatements(s.Tables[0])...)
	cases := []struct {
		column int
		good   []string
		bad    []string
	}{
		{
			0,
			[]string{"'12345678-1234-1234-1234-123456789012'"},
			[]string{"'12345678123412341234123456789012'", "'x'", "12", "'12345678-1234-1234-1234-12345678901G'"},
		},
		{1, []string{"'12.50'", "'{}'", "'\"0930\"'"}, []string{"'{'", "x'00'"}},
		{
			2,
			[]string{"'123456789012345678.10'", "'0.05'", "'-7.00'"},
			[]string{"'1'", "'1.5'", "'01.50'", "'1.234'", "'--1.00'", "'1234567890123456789.00'", "1.5"},
		},
		{
			3,
			[]string{"'0930'", "'12.50'", "'12345678901234567890123456789012'", "''"},
			[]string{"'a' || char(0) || 'b'", "x'6162'"},
		},
		{4, []string{"'ééééé'"}, []string{"'abcdef'"}},
		{
			5,
			[]string{"'2026-01-31'", "'0930-01-01'"},
			[]string{"'2026-02-30'", "'31.01.2026'", "'now'", "20260131", "'x'"},
		},
		{6, []string{"'08:30:00'", "'08:30:00.125'"}, []string{"'8:30'", "'25:00:00'", "'x'", "7"}},
		{
			7,
			[]string{"'2026-01-31 08:30:00'", "'2026-01-31 08:30:00.125'"},
			[]string{"'2026-01-31T08:30:00Z'", "'2026-01-31'", "'2026-01-31 08:30:00 +0000 UTC'", "'x'", "1769848200"},
		},
		{8, []string{"0", "1", "true"}, []string{"2", "'true'", "'x'"}},
		{9, []string{"1", "-9999.99", "0.5"}, []string{"0.125", "10000", "'x'"}},
		{10, []string{"2147483647", "-2147483648", "'7'"}, []string{"2147483648", "1.5", "'x'"}},
		{11, []string{"'0930'", "'a'"}, []string{"'b'", "930"}},
		{12, []string{"x'00ff'", "x''"}, []string{"x'00ff00'", "'ab'"}},
	}
	for _, c := range cases {
		name := fmt.Sprintf("c%d", c.column)
		for _, v := range append(c.good, "NULL") {
			require.NoError(t, db.Exec(ctx, "DELETE FROM t"))
			require.NoError(t, db.Exec(ctx, fmt.Sprintf("INSERT INTO t (%s) VALUES (%s)", name, v)), "%s takes %s",
				kinds[c.column], v)
			if v[0] == '\'' && c.column != 10 {
				assert.Equal(t, v, selectAll(t, db, "SELECT quote("+name+") FROM t"), "%s keeps %s", kinds[c.column], v)
			}
		}
		for _, v := range c.bad {
			assert.Error(t, db.Exec(ctx, fmt.Sprintf("INSERT INTO t (%s) VALUES (%s)", name, v)), "%s refuses %s",
				kinds[c.column], v)
		}
	}
}

// updated_at is set by every update, upserts and recursive triggers included,
// and an explicit value stays.
func TestStamped(t *testing.T) {
	table := &schema.Table{
		Name: "t",
		Key:  []string{"k"},
		Columns: []*schema.Column{
			{
				Name:    "k",
				Type:    schema.Type{Kind: schema.Text},
				NotNull: true,
			}, {Name: "n", Type: schema.Type{Kind: schema.Integer}},
			{Name: "updated_at", Type: schema.Type{Kind: schema.Timestamp}, Stamped: true, NotNull: true},
			{Name: "once", Type: schema.Type{Kind: schema.Text}, Immutable: true},
		},
	}
	for _, without := range []bool{false, true} {
		s, _ := Engine{}.Lower(&schema.Schema{Tables: []*schema.Table{table}})
		s.Tables[0].Options.WithoutRowid = without
		s.Tables[0].Triggers[0] = stampTrigger(s.Tables[0], s.Tables[0].Column("updated_at"))
		db := scratch(t, tableStatements(s.Tables[0])...)
		require.NoError(t, db.Exec(ctx, "PRAGMA recursive_triggers = ON"))
		old := "UPDATE t SET updated_at = '2020-01-01 00:00:00'"
		fresh := "SELECT count(*) FROM t WHERE updated_at > '2026-01-01'"
		require.NoError(t, db.Exec(ctx, "INSERT INTO t (k, n) VALUES ('a', 1), ('b', 2)"))
		assert.Equal(t, "2", selectAll(t, db, fresh))
		require.NoError(t, db.Exec(ctx, old))
		assert.Equal(t, "0", selectAll(t, db, fresh), "an explicit value stays")
		require.NoError(t, db.Exec(ctx, "UPDATE t SET n = n + 1 WHERE k = 'a'"))
		assert.Equal(t, "1", selectAll(t, db, fresh))
		require.NoError(t,
			db.Exec(ctx, "INSERT INTO t (k, n) VALUES ('b', 5) ON CONFLICT (k) DO UPDATE SET n = excluded.n"))
		assert.Equal(t, "2", selectAll(t, db, fresh))
		require.NoError(t, db.Exec(ctx, "UPDATE t SET once = 'x' WHERE k = 'a'"), "not set before")
		assert.ErrorContains(t, db.Exec(ctx, "UPDATE t SET once = 'y' WHERE k = 'a'"), "cannot be changed")
		assert.ErrorContains(
			t,
			db.Exec(ctx,
				"INSERT INTO t (k, once) VALUES ('a', 'z') ON CONFLICT (k) DO UPDATE SET once = excluded.once"),
			"cannot be changed",
		)
		require.NoError(t, db.Exec(ctx, "UPDATE t SET once = 'x'"), "the same again")
	}
}

// What ADD COLUMN refuses, with rows or without, is planned as a copy from the
// start; everything else is done in place and back.
func TestAddColumn(t *testing.T) {
	sqlOr := func(s string) *sqlschema.SQL {
		if s == "" {
			return nil
		}
		v := sqlOf(s)
		return &v
	}
	cases := []struct {
		column sqlschema.Column
		index  *sqlschema.Index
		fk     *sqlschema.ForeignKey
		copies bool
	}{
		{sqlschema.Column{Name: "c", SQLType: "TEXT"}, nil, nil, false},
		{sqlschema.Column{Name: "c", SQLType: "TEXT", NotNull: true, Default: sqlOr("'x'")}, nil, nil, false},
		{sqlschema.Column{Name: "c", SQLType: "INT", Default: sqlOr("-5")}, nil, nil, false},
		{sqlschema.Column{Name: "c", SQLType: "TEXT", NotNull: true}, nil, nil, true},
		{sqlschema.Column{Name: "c", SQLType: "TEXT", Default: sqlOr("(1+1)")}, nil, nil, true},
		{sqlschema.Column{Name: "c", SQLType: "TEXT", Default: sqlOr("CURRENT_DATE")}, nil, nil, true},
		{
			sqlschema.Column{
				Name:      "c",
				SQLType:   "TEXT",
				Generated: &sqlschema.Generated{SQL: sqlOf("a || 'x'"), Stored: true},
			},
			nil,
			nil,
			true,
		},
		{
			sqlschema.Column{Name: "c", SQLType: "TEXT", Generated: &sqlschema.Generated{SQL: sqlOf("a || 'x'")}},
			nil,
			nil,
			false,
		},
		{
			sqlschema.Column{Name: "c", SQLType: "TEXT"},
			&sqlschema.Index{Unique: true, Constraint: true, Parts: []sqlschema.Part{{Column: "c"}}},
			nil,
			true,
		},
		{
			sqlschema.Column{Name: "c", SQLType: "TEXT"},
			&sqlschema.Index{Name: "u", Unique: true, Parts: []sqlschema.Part{{Column: "c"}}},
			nil,
			false,
		},
		{
			sqlschema.Column{Name: "c", SQLType: "INT"},
			nil,
			&sqlschema.ForeignKey{Columns: []string{"c"}, Table: "t", References: []string{"id"}},
			false,
		},
		{
			sqlschema.Column{Name: "c", SQLType: "INT", Default: sqlOr("1")},
			nil,
			&sqlschema.ForeignKey{Columns: []string{"c"}, Table: "t", References: []string{"id"}},
			true,
		},
	}
	for i, c := range cases {
		for _, rows := range []bool{false, true} {
			db := scratch(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT)")
			if rows && !(c.column.NotNull && c.column.Default == nil) {
				require.NoError(t, db.Exec(ctx, "INSERT INTO t VALUES (1, 'one')"))
			}
			before := inspect(t, db)
			out := change(t, db, "t", func(t *sqlschema.Table) {
				t.Columns = append(t.Columns, &c.column)
				if c.index != nil {
					t.Indexes = append(t.Indexes, c.index)
				}
				if c.fk != nil {
					t.ForeignKeys = append(t.ForeignKeys, c.fk)
				}
			}, nil)
			assert.Equal(t, c.copies, strings.Contains(strings.Join(out.Steps[0].Apply, ";"), "erbario_old_t"),
				"case %d", i)
			run(t, db, out.Steps, true)
			after := inspect(t, db)
			assert.Equal(t, sqlschema.Fingerprint(before), sqlschema.Fingerprint(after), "case %d", i)
		}
	}
}

// While any view of the file is broken SQLite drops and renames no column at
// all; that is found out before, and the copy used.
func TestBroken(t *testing.T) {
	db := scratch(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT)", "CREATE VIEW bad AS SELECT nowhere FROM t",
		"CREATE TABLE o (x INT)", "CREATE TRIGGER worse AFTER INSERT ON o BEGIN UPDATE t SET gone = 1; END")
	assert.Error(t, db.Exec(ctx, "ALTER TABLE t DROP COLUMN a"))
	list, err := db.InvalidObjects(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Contains(t, list[0], "view bad")
	from := inspect(t, db).Table("t")
	to := from.Clone()
	to.Columns = append(to.Columns, &sqlschema.Column{Name: "b", SQLType: "TEXT"})
	c := Engine{}.Alter(engine.Alteration{
		From:    from,
		To:      to,
		Forward: map[string]engine.Source{},
		Back:    map[string]engine.Source{},
		NoDrop:  true,
		Parent:  func(string, bool) engine.Parent { return engine.ParentThere },
	})
	run(t, db, c.Steps, false)
	run(t, db, c.Steps, true)
	assert.Nil(t, inspect(t, db).Table("t").Column("b"))
}

// A rename that changes only the case takes two steps.
func TestRenameCase(t *testing.T) {
	db := scratch(t, "CREATE TABLE Taxa (id INTEGER PRIMARY KEY)", "CREATE TABLE s (t INT REFERENCES Taxa (id))")
	steps, _ := Engine{}.Rename(nil, "Taxa", "", "taxa")
	step := steps[0]
	run(t, db, []engine.Step{step}, false)
	assert.Equal(t, "taxa", inspect(t, db).Table("taxa").Name)
	assert.Contains(t, selectAll(t, db, "SELECT sql FROM sqlite_schema WHERE name = 's'"), `"taxa"`)
	run(t, db, []engine.Step{step}, true)
	assert.Equal(t, "Taxa", inspect(t, db).Table("taxa").Name)
}

// The driver gives a DATE's text back as a time and stores a time as something
// else: values are read by quote alone.
func TestDatesAreNeverScanned(t *testing.T) {
	db := scratch(t, "CREATE TABLE t (d DATE, s TIMESTAMP)",
		"INSERT INTO t VALUES ('2026-01-31', '2026-01-31 08:30:00')")
	rows, err := db.Sample(ctx, "SELECT d, s FROM t", 5)
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"'2026-01-31'", "'2026-01-31 08:30:00'"}}, rows.Values)
	// The trap itself, so that it is noticed when it goes.
	var v any
	require.NoError(t, db.conn.QueryRowContext(ctx, "SELECT d FROM t").Scan(&v))
	assert.IsType(t, time.Time{}, v)
	_, err = db.conn.ExecContext(ctx, "INSERT INTO t (d) VALUES (?)", time.Date(2026, 1, 31, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Contains(
		t,
		selectAll(t, db,
			"SELECT quote(d) FROM t WHERE d LIKE '%UTC%' OR typeof(d) = 'text' ORDER BY rowid DESC LIMIT 1"),
		"+0000 UTC",
	)
}

// Scratch cannot reach another database: the statements that could are refused.
func TestScratchReachesNothing(t *testing.T) {
	db := scratch(t)
	require.NoError(t, db.Begin(ctx, 0))
	defer db.Rollback()
	for _, s := range []string{"ATTACH 'real.db' AS real", "PRAGMA writable_schema = ON", "VACUUM INTO 'real.db'"} {
		assert.Error(t, db.Step(ctx, s))
	}
}

// A database in WAL mode, one that is read only, and one that somebody else
// holds are told apart.
func TestOpening(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a b?c#d%e.db")
	db, err := Engine{}.Open(ctx, "sqlite:"+path, engine.Make)
	require.NoError(t, err)
	require.NoError(t, db.Exec(ctx, "PRAGMA journal_mode = WAL"))
	require.NoError(t, db.Exec(ctx, "CREATE TABLE t (a)"))
	_, err = os.Stat(path)
	require.NoError(t, err, "the name of the file is the path, whatever is in it")

	cached, err := Engine{}.Open(ctx, "sqlite:"+path+"?cache=64MB", engine.ReadOnly)
	require.NoError(t, err)
	size, err := cached.Select(ctx, "PRAGMA cache_size")
	require.NoError(t, err)
	require.Equal(t, "-65536", size[0][0])
	require.NoError(t, cached.Close())
	for _, bad := range []string{"", "64", "MB", "-1MB", "9000GB", "64MB?"} {
		_, err = Engine{}.Open(ctx, "sqlite:"+path+"?cache="+bad, engine.ReadOnly)
		require.ErrorContains(t, err, "is not a cache size", bad)
	}

	other, err := Engine{}.Open(ctx, "sqlite:"+path, engine.ReadWrite)
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, db.Begin(ctx, 0))
	assert.ErrorIs(t, other.Begin(ctx, 300*time.Millisecond), engine.ErrBusy)
	require.NoError(t, db.Commit(ctx))
	require.NoError(t, other.Begin(ctx, time.Second))
	require.NoError(t, other.Rollback())

	ro, err := Engine{}.Open(ctx, "sqlite:"+path, engine.ReadOnly)
	require.NoError(t, err)
	assert.ErrorContains(t, ro.Exec(ctx, "CREATE TABLE u (a)"), "cannot be written")
	ro.Close()
	db.Close()

	_, err = Engine{}.Open(ctx, "sqlite:"+filepath.Join(dir, "none.db"), engine.ReadWrite)
	assert.ErrorIs(t, err, engine.ErrMissing)
	_, err = os.Stat(filepath.Join(dir, "none.db"))
	assert.True(t, os.IsNotExist(err), "nothing was made")
}

// The check of references can be off only outside of a transaction: it is off
// on every connection of ours from the start.
func TestForeignKeysAreOff(t *testing.T) {
	assert.Equal(t, "0", selectAll(t, scratch(t), "PRAGMA foreign_keys"))
}

// SQLite has no uuid(); ours is a version 7 one.
func TestNewUUID(t *testing.T) {
	db := scratch(t)
	assert.Equal(
		t,
		"1",
		selectAll(t, db,
			"SELECT u GLOB '????????-????-7???-[89ab]???-????????????' AND length(replace(u, '-', '')) = 32 FROM (SELECT "+uuidExpr+" AS u)"),
	)
	a := selectAll(t, db, "SELECT "+uuidExpr)
	time.Sleep(5 * time.Millisecond)
	assert.Less(t, a, selectAll(t, db, "SELECT "+uuidExpr), "they sort by time")
}

// INSERT OR REPLACE deletes and inserts, so that immutable does not hold against
// it: said in the language's page, and noticed here should it change.
func TestReplacePassesImmutable(t *testing.T) {
	table := &schema.Table{
		Name: "t",
		Key:  []string{"k"},
		Columns: []*schema.Column{
			{
				Name:    "k",
				Type:    schema.Type{Kind: schema.Text},
				NotNull: true,
			}, {Name: "once", Type: schema.Type{Kind: schema.Text}, Immutable: true}},
	}
	s, _ := Engine{}.Lower(&schema.Schema{Tables: []*schema.Table{table}})
	db := scratch(
		t,
		append(tableStatements(s.Tables[0]), "INSERT INTO t VALUES ('a', 'x')",
			"INSERT OR REPLACE INTO t VALUES ('a', 'y')")...)
	assert.Equal(t, "a|y", selectAll(t, db, "SELECT * FROM t"))
	assert.Error(t, db.Exec(ctx, "INSERT INTO t VALUES (NULL, 'x')"), "a text key admits null unless it is NOT NULL")
}

// The list of a trigger's UPDATE OF keeps a column that is dropped; the trigger
// goes on working, and the copy carries it along as it stands.
func TestUpdateOfKeepsDroppedColumns(t *testing.T) {
	db := scratch(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT, b TEXT)", "CREATE TABLE log (n TEXT)",
		"CREATE TRIGGER watch AFTER UPDATE OF a, b ON t BEGIN INSERT INTO log VALUES (NEW.a); END",
		"INSERT INTO t VALUES (1, 'x', 'y')")
	change(t, db, "t", func(t *sqlschema.Table) { t.Columns = t.Columns[:2] }, nil)
	require.NoError(t, db.Exec(ctx, "UPDATE t SET a = 'z'"))
	assert.Equal(t, "z", selectAll(t, db, "SELECT * FROM log"))
	broken, err := db.InvalidObjects(ctx)
	require.NoError(t, err)
	assert.Empty(t, broken)
}

// Checks and NOT NULL come and go in place, and an older client reads the
// result.
func TestInPlaceIsReadByOlderClients(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	opened, err := Engine{}.Open(ctx, "sqlite:"+path, engine.Make)
	require.NoError(t, err)
	db := opened.(*database)
	for _, s := range []string{"CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT, b INT CONSTRAINT few CHECK (b < 5))",
		"INSERT INTO t VALUES (1, 'x', 2)"} {
		require.NoError(t, db.Exec(ctx, s))
	}
	c := change(t, db, "t", func(t *sqlschema.Table) {
		t.Column("a").NotNull = true
		t.Checks = []*sqlschema.Check{{Name: "many", SQL: sqlOf("b > 1")}}
	}, nil)
	assert.False(t, c.Copies)
	require.NoError(t, db.Close())
	out, err := exec.Command("sqlite3", path,
		"PRAGMA integrity_check; INSERT INTO t VALUES (2, 'y', 3); SELECT count(*) FROM t;").
		CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "ok\n2\n", string(out))
	out, _ = exec.Command("sqlite3", path, "INSERT INTO t VALUES (3, 'y', 0);").CombinedOutput()
	assert.Contains(t, string(out), "CHECK constraint failed: many")
}

// In WAL mode a stopped run leaves the contents as they were.
func TestStoppedInWAL(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	opened, err := Engine{}.Open(ctx, "sqlite:"+path, engine.Make)
	require.NoError(t, err)
	defer opened.Close()
	db := opened.(*database)
	for _, s := range []string{"PRAGMA journal_mode = WAL", "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT)",
		"INSERT INTO t VALUES (1, 'x')"} {
		_, err := db.Select(ctx, s)
		require.NoError(t, err)
	}
	before := selectAll(t, db, "SELECT * FROM t") + selectAll(t, db, "SELECT sql FROM sqlite_schema")
	require.NoError(t, db.Begin(ctx, 0))
	for _, s := range []string{"UPDATE t SET a = 'y'", "ALTER TABLE t RENAME TO erbario_old_t",
		"CREATE TABLE t (id INT)"} {
		require.NoError(t, db.Step(ctx, s))
	}
	require.NoError(t, db.Rollback())
	assert.Equal(t, before, selectAll(t, db, "SELECT * FROM t")+selectAll(t, db, "SELECT sql FROM sqlite_schema"))
	require.NoError(t, db.Begin(ctx, 0), "and the next run begins")
	require.NoError(t, db.Rollback())
	assert.Equal(t, "0", selectAll(t, db, "PRAGMA legacy_alter_table"), "the setting of one statement is off again")
}

// A requirement is asked under the lock of the run: what was written after the
// draft is seen, and nothing can be written between question and step.
func TestRequirementsUnderTheLock(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	one, err := Engine{}.Open(ctx, "sqlite:"+path, engine.Make)
	require.NoError(t, err)
	defer one.Close()
	require.NoError(t, one.Exec(ctx, "CREATE TABLE t (id INTEGER PRIMARY KEY)"))
	two, err := Engine{}.Open(ctx, "sqlite:"+path, engine.ReadWrite)
	require.NoError(t, err)
	defer two.Close()
	_, err = two.Select(ctx, "PRAGMA busy_timeout = 50")
	require.NoError(t, err)
	require.NoError(t, one.Begin(ctx, 0))
	n, err := one.Count(ctx, "SELECT 1 FROM t")
	require.NoError(t, err)
	assert.Zero(t, n)
	assert.ErrorIs(t, two.Exec(ctx, "INSERT INTO t VALUES (1)"), engine.ErrBusy)
	require.NoError(t, one.Step(ctx, "DROP TABLE t"))
	require.NoError(t, one.Commit(ctx))
}

// Rows that are put aside are those that are asked for alone, also of a table
// without row numbers, and come back as they were.
func TestRemove(t *testing.T) {
	ctx := context.Background()
	for _, options := range []string{"", " WITHOUT ROWID"} {
		db, err := Engine{}.Scratch(ctx)
		require.NoError(t, err)
		defer db.Close()
		require.NoError(
			t,
			db.Exec(ctx,
				`CREATE TABLE sheets (code TEXT NOT NULL PRIMARY KEY, "a ORDER BY b" TEXT, gone TEXT)`+options),
		)
		require.NoError(t,
			db.Exec(ctx, "INSERT INTO sheets VALUES ('a', 'x', NULL), ('b', 'y', '2026-01-31 10:00:00')"))
		s, err := db.Inspect(ctx)
		require.NoError(t, err)
		step := Engine{}.DeleteRows(engine.RowDeletion{
			Table: s.Table("sheets"),
			Where: "gone IS NOT NULL",
			Keep:  "erbario_kept_sheets",
			What:  "rows",
		})
		before, err := db.Select(ctx, "SELECT * FROM sheets ORDER BY code")
		require.NoError(t, err)
		for _, sql := range step.Apply {
			require.NoError(t, db.Exec(ctx, sql), sql)
		}
		left, err := db.Select(ctx, "SELECT code FROM sheets")
		require.NoError(t, err)
		require.Equal(t, [][]string{{"a"}}, left)
		for _, sql := range step.Undo {
			require.NoError(t, db.Exec(ctx, sql), sql)
		}
		after, err := db.Select(ctx, "SELECT * FROM sheets ORDER BY code")
		require.NoError(t, err)
		require.Equal(t, before, after)
	}
}
