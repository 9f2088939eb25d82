package mariadb_test

// This file holds the traps of MariaDB that lose data or stop everybody, each as it was
// seen, against what Erbario makes of it.

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/declare"
	"erbario/internal/engine"
	. "erbario/internal/engine/mariadb"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// declared are models as the engine keeps them.
func declared(t *testing.T, src string) *sqlschema.Schema {
	f, diags := lang.Parse("models/test.erbario", src)
	require.Empty(t, diags, src)
	d, diags := declare.Resolve([]*lang.File{f}, declare.Rules{}, "mariadb")
	require.False(t, lang.Errors(diags), "%v", diags)
	s, _ := Engine{}.Lower(d.Schema)
	return s
}

// made is a database with the tables of models.
func made(t *testing.T, src string) (*Database, *sqlschema.Schema) {
	d := open(t, testserver.MariaDB(t))
	s := declared(t, src)
	require.NoError(t, engine.FillWhole(ctx, d, Engine{}.CreateAll(s)))
	return d, s
}

func one(t *testing.T, d *Database, query string) string {
	rows, err := d.Select(ctx, query)
	require.NoError(t, err, query)
	require.NotEmpty(t, rows, query)
	return strings.Join(rows[0], "|")
}

// Only one run at a time; one whose connection is gone is nobody, and one that is still
// there is somebody, though it has let the server's lock go.
func TestLease(t *testing.T) {
	raw := testserver.MariaDB(t)
	first, second := open(t, raw), open(t, raw)
	require.NoError(t, first.Lock(ctx, time.Second))
	assert.ErrorIs(t, second.Lock(ctx, 0), engine.ErrBusy)
	assert.ErrorContains(t, second.Lock(ctx, 0), "connection "+one(t, first, "SELECT connection_id()"))
	_, err := first.Select(ctx,
		"SELECT RELEASE_ALL_LOCKS()") // as after the program was killed, while its statement runs
	require.NoError(t, err)
	assert.ErrorIs(t, second.Lock(ctx, 0), engine.ErrBusy, "the connection is there")

	// Another that took it for dead: the first can note nothing more.
	third := open(t, raw)
	run(t, third, "UPDATE erbario_lease SET token = token + 1")
	err = first.Begin(ctx, 0)
	require.ErrorContains(t, err, "took over from this one")
	require.NoError(t, first.Close())
	require.NoError(t, second.Lock(ctx, 10*time.Second), "nobody is there any more")
	gone, err := third.SessionEnded(ctx, second.Session())
	require.NoError(t, err)
	assert.False(t, gone)
	session := second.Session()
	require.NoError(t, second.Unlock(ctx))
	require.NoError(t, second.Close())
	assert.Eventually(t, func() bool { gone, err := third.SessionEnded(ctx, session); return err == nil && gone },
		5*time.Second, 20*time.Millisecond)
	require.NoError(t, third.Lock(ctx, 0))
	require.NoError(t, third.Unlock(ctx))
}

// A statement that is stopped ends on the server, and the connection goes on.
func TestStopped(t *testing.T) {
	d := open(t, testserver.MariaDB(t))
	run(t, d, "CREATE TABLE t (id bigint)", "INSERT INTO t VALUES (1)")
	stopping, stop := context.WithTimeout(ctx, 100*time.Millisecond)
	defer stop()
	began := time.Now()
	assert.ErrorIs(t, d.Step(stopping, "UPDATE t SET id = benchmark(100000000000, md5('x'))"), context.DeadlineExceeded)
	assert.Less(t, time.Since(began), 10*time.Second)
	assert.Equal(t, "1", one(t, d, "SELECT 1"))
	assert.Equal(t, "0",
		one(t, d, "SELECT count(*) FROM information_schema.processlist WHERE info LIKE 'UPDATE t SET%'"))
}

// Texts are told apart by case, accents and blanks at their end; long ones to the last
// sign, of which no index holds the end.
func TestTexts(t *testing.T) {
	d, _ := made(t,
		"model Sheet\n    code text(20) unique immutable\n    label text unique\n    name text(40) unique ignoring case\n")
	long := strings.Repeat("x", 3000)
	for i, code := range []string{"a", "A", "a ", "á"} {
		run(t, d,
			fmt.Sprintf("INSERT INTO sheets (code, label, name) VALUES (%s, '%s%d', 'n%d')", Literal(code), long, i, i))
	}
	assert.Error(t, d.Exec(ctx, "INSERT INTO sheets (code, label, name) VALUES ('a', 'y', 'y')"))
	assert.Error(t, d.Exec(ctx, "INSERT INTO sheets (code, label, name) VALUES ('z', '"+long+"2', 'z')"))
	assert.Error(t, d.Exec(ctx, "INSERT INTO sheets (code, label, name) VALUES ('z', 'z', 'N1')"))
	for _, code := range []string{"A", "a ", "b"} {
		assert.ErrorContains(t, d.Exec(ctx, "UPDATE sheets SET code = "+Literal(code)+" WHERE id = 1"),
			"cannot be changed once it is set")
	}
	run(t, d, "SET @erbario_quiet = 1", "UPDATE sheets SET code = 'b' WHERE id = 1", "SET @erbario_quiet = NULL",
		"UPDATE sheets SET label = 'new' WHERE id = 1")
}

// Moments are in UTC, whatever zone a session is in: when a row comes, and when it is
// changed.
func TestMoments(t *testing.T) {
	d, _ := made(t, "model Sheet\n    code text(20)\n    timestamps\n")
	run(t, d, "SET time_zone = '+05:00'", "INSERT INTO sheets (code) VALUES ('a')")
	assert.Equal(t, "1", one(t, d, "SELECT abs(timestampdiff(SECOND, created_at, utc_timestamp())) < 60 FROM sheets"))
	run(t, d, "UPDATE sheets SET created_at = '2026-01-01', updated_at = '2026-01-01'", "UPDATE sheets SET code = 'b'")
	assert.Equal(t, "1", one(t, d, "SELECT abs(timestampdiff(SECOND, updated_at, utc_timestamp())) < 60 FROM sheets"))
	run(t, d, "INSERT INTO sheets (id, code) VALUES (1, 'c') ON DUPLICATE KEY UPDATE code = 'c'")
	assert.Equal(t, "c|1",
		one(t, d, "SELECT code, abs(timestampdiff(SECOND, updated_at, utc_timestamp())) < 60 FROM sheets"))
	run(t, d, "SET @erbario_quiet = 1", "UPDATE sheets SET updated_at = '2026-01-01'", "UPDATE sheets SET code = 'd'")
	assert.Equal(t, "2026-01-01 00:00:00.000000", one(t, d, "SELECT updated_at FROM sheets"))
}

// Uniqueness among the rows that are not deleted lets columns come at once, and writers
// go on.
func TestAmongUndeleted(t *testing.T) {
	d, _ := made(t, "model Sheet\n    code text(20) unique\n    soft delete with view\n")
	run(t, d, "INSERT INTO sheets (code) VALUES ('a')")
	assert.Error(t, d.Exec(ctx, "INSERT INTO sheets (code) VALUES ('a')"))
	run(t, d, "UPDATE sheets SET deleted_at = utc_timestamp(6)", "INSERT INTO sheets (code) VALUES ('a')",
		"UPDATE sheets SET deleted_at = utc_timestamp(6)")
	assert.Error(t, d.Exec(ctx, "UPDATE sheets SET deleted_at = NULL"), "both cannot come back")
	for _, c := range []struct{ sql, want string }{
		{"ALTER TABLE sheets ADD COLUMN note text AFTER code", "ALGORITHM=INSTANT"},
		{"ALTER TABLE sheets MODIFY COLUMN note text FIRST", "ALGORITHM=INSTANT"},
		{"ALTER TABLE sheets RENAME COLUMN note TO remark", "ALGORITHM=INSTANT"},
		{"ALTER TABLE sheets DROP COLUMN remark", "ALGORITHM=INSTANT"},
		{"ALTER TABLE sheets ADD INDEX sheets_code_idx (code)", "ALGORITHM=INPLACE, LOCK=NONE"},
		{"ALTER TABLE sheets MODIFY COLUMN code varchar(30) NOT NULL", "ALGORITHM=INSTANT"},
		{"ALTER TABLE sheets MODIFY COLUMN code varchar(10) NOT NULL", "ALGORITHM=COPY, LOCK=SHARED"},
		{"ALTER TABLE sheets ADD CONSTRAINT c CHECK (code <> '')", "ALGORITHM=COPY, LOCK=SHARED"},
		{"ALTER TABLE sheets ADD COLUMN u uuid DEFAULT (uuid())", "ALGORITHM=COPY, LOCK=SHARED"},
	} {
		got, err := d.LeastLocking(ctx, c.sql)
		require.NoError(t, err, c.sql)
		assert.Equal(t, c.sql+", "+c.want, got)
	}
	assert.NotContains(
		t,
		one(t, d,
			"SELECT group_concat(column_name) FROM information_schema.columns WHERE table_schema = database() AND table_name = 'live_sheets'"),
		"erbario_for",
	)
}

// The index that a reference needs has a name, and stays when another could serve it; so
// the way back finds what it expects.
func TestReferences(t *testing.T) {
	d, s := made(t,
		"model Room\n    name text(20)\n\nmodel Sheet\n    room references Room no index\n    shelf text(9)\n")
	sheets := s.Table("sheets")
	key := sheets.ForeignKeys[0]
	before := one(t, d, "SHOW CREATE TABLE sheets")
	assert.Contains(t, before, "KEY `"+key.Name+"` (`room_id`)")
	run(t, d, "ALTER TABLE sheets ADD INDEX both_of (room_id, shelf)", "ALTER TABLE sheets DROP INDEX both_of")
	assert.Equal(t, before, one(t, d, "SHOW CREATE TABLE sheets"))
	run(t, d, Engine{}.DropReference(sheets, key)...)
	assert.NotContains(t, one(t, d, "SHOW CREATE TABLE sheets"), key.Name)
	run(t, d, Engine{}.AddReference(sheets, key)...)
	assert.Equal(t, before, one(t, d, "SHOW CREATE TABLE sheets"))
	live, err := d.Inspect(ctx)
	require.NoError(t, err)
	assert.Empty(t, live.Table("sheets").Indexes, "it is no difference")
	assert.True(t, live.Table("sheets").ForeignKeys[0].OwnIndex)
}

// A column that triggers name gets another name while rows come and change: nobody's
// statement fails.
func TestRenamedUnderTriggers(t *testing.T) {
	raw := testserver.MariaDB(t)
	d := open(t, raw)
	s := declared(t, "model Sheet\n    code text(20) immutable\n    runs integer default 0\n    timestamps\n")
	require.NoError(t, engine.FillWhole(ctx, d, Engine{}.CreateAll(s)))
	run(t, d, "INSERT INTO sheets (code) VALUES ('a')")
	other := open(t, raw)
	run(t, other, "SET lock_wait_timeout = 30")
	stop := make(chan struct{})
	failed := make(chan error, 1)
	var n atomic.Int64
	go func() {
		defer close(failed)
		for {
			select {
			case <-stop:
				return
			default:
			}
			if err := other.Exec(ctx, "UPDATE sheets SET runs = runs + 1"); err != nil {
				failed <- err
				return
			}
			n.Add(1)
		}
	}()
	names := []string{"code", "number"}
	for i := range 20 {
		live, err := d.Inspect(ctx)
		require.NoError(t, err)
		steps, after := Engine{}.Rename(live, "sheets", names[i%2], names[1-i%2])
		require.Len(t, steps, 1)
		for _, sql := range steps[0].Apply {
			require.NoError(t, d.ExecAutocommit(ctx, sql), sql)
		}
		now, err := d.Inspect(ctx)
		require.NoError(t, err)
		assert.Equal(t, sqlschema.Fingerprint(after), sqlschema.Fingerprint(now))
		assert.ErrorContains(t, d.Exec(ctx, "UPDATE sheets SET "+names[1-i%2]+" = 'x'"), "cannot be changed")
	}
	close(stop)
	require.NoError(t, <-failed)
	assert.Equal(t, fmt.Sprint(n.Load()), one(t, d, "SELECT runs FROM sheets"))
}

// What an undo takes away is kept to the last value that was written: no row comes
// between the copy and the loss.
func TestKeptUnderWriters(t *testing.T) {
	raw := testserver.MariaDB(t)
	d := open(t, raw)
	run(t, d,
		"CREATE TABLE sheets (id bigint NOT NULL PRIMARY KEY) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
		"INSERT INTO sheets VALUES (1)")
	m, err := migration.Parse("m", `-- : 20260101T000000-runs  mariadb  form 1
-- : step 1  add sheets.runs  (outside transaction)
-- : undo loses sheets.runs, kept
-- : apply
ALTER TABLE sheets ADD COLUMN runs int NOT NULL DEFAULT 0;
-- : undo
ALTER TABLE sheets DROP COLUMN runs;
`, Engine{})
	require.NoError(t, err)
	files := []*migration.Migration{m}
	o := runner.Options{Wait: 10 * time.Second}
	other := open(t, raw)
	run(t, other, "SET lock_wait_timeout = 30")
	for range 5 {
		_, err := runner.Apply(ctx, d, Engine{}.At(raw), files, o)
		require.NoError(t, err)
		last := make(chan int64)
		go func() {
			n := int64(0)
			for {
				if err := other.Exec(ctx, fmt.Sprintf("UPDATE sheets SET runs = %d", n+1)); err != nil {
					last <- n
					return
				}
				n++
			}
		}()
		time.Sleep(20 * time.Millisecond)
		_, err = runner.Undo(ctx, d, Engine{}.At(raw), files, o)
		require.NoError(t, err)
		n := <-last
		_, err = runner.Apply(ctx, d, Engine{}.At(raw), files, o)
		require.NoError(t, err)
		require.Equal(t, fmt.Sprint(n), one(t, d, "SELECT runs FROM sheets"))
		_, err = runner.Undo(ctx, d, Engine{}.At(raw), files, o)
		require.NoError(t, err)
	}
}

// On scratch no statement reaches another database, by whatever word it names one.
func TestScratchReachesNothing(t *testing.T) {
	raw := testserver.MariaDB(t)
	d := open(t, raw)
	run(t, d, "CREATE TABLE t (id int)")
	db, err := Engine{}.At(raw).Scratch(ctx)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.Exec(ctx, "CREATE TABLE t (id int)"))
	x := Quote(d.Name())
	for _, sql := range []string{
		"ALTER TABLE " + x + ".t DROP COLUMN id", "INSERT INTO " + d.Name() + ".t VALUES (1)", "UPDATE " + x + ".t SET id = 1", "DELETE FROM " + x + ".t", "RENAME TABLE t TO " + x + ".u", "DROP TABLE " + x + ".t",
		"CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW INSERT INTO " + x + ".t VALUES (1)",
		"INSERT INTO t SELECT " + x + ".t.id FROM t",
	} {
		assert.ErrorContains(t, db.Exec(ctx, sql), "on scratch it would reach the live one", sql)
		assert.ErrorContains(t, db.(engine.Autocommitter).ExecAutocommit(ctx, sql),
			"on scratch it would reach the live one", sql)
	}
	assert.Error(t, db.Step(ctx, "USE "+x), "it is no statement of a step")
}

// Who keeps a change of a table waiting is told, and waiting ends when the run may wait
// no longer.
func TestWaits(t *testing.T) {
	raw := testserver.MariaDB(t)
	d, other := open(t, raw), open(t, raw)
	run(t, d, "CREATE TABLE t (id int)", "INSERT INTO t VALUES (1)")
	run(t, other, "START TRANSACTION")
	assert.Equal(t, "1", one(t, other, "SELECT id FROM t"))
	var told atomic.Value
	d.OnWait(func(who string) { told.Store(who) })
	require.NoError(t, d.Lock(ctx, 3*time.Second))
	err := d.ExecAutocommit(ctx, "ALTER TABLE t ADD COLUMN a int")
	require.ErrorIs(t, err, engine.ErrBusy)
	id := one(t, other, "SELECT connection_id()")
	assert.ErrorContains(t, err, "connection "+id)
	assert.Contains(t, fmt.Sprint(told.Load()), "connection "+id)
	// Where the server tells whose the lock is, nobody else is named.
	older, reader := open(t, raw), open(t, raw)
	run(t, older, "START TRANSACTION", "CREATE TEMPORARY TABLE mine (id int) ENGINE=InnoDB",
		"INSERT INTO mine VALUES (1)")
	run(t, reader, "INSTALL SONAME 'metadata_lock_info'")
	t.Cleanup(func() { _ = reader.Exec(context.Background(), "UNINSTALL SONAME 'metadata_lock_info'") })
	for _, sql := range []string{"ALTER TABLE t ADD COLUMN a int", "LOCK TABLES `t` WRITE"} {
		err = d.ExecAutocommit(ctx, sql)
		require.ErrorIs(t, err, engine.ErrBusy)
		assert.ErrorContains(t, err, "connection "+id)
		assert.NotContains(t, err.Error(), " or connection ")
	}
	run(t, other, "COMMIT")
	require.NoError(t, d.ExecAutocommit(ctx, "ALTER TABLE t ADD COLUMN a int"))
	require.NoError(t, d.Unlock(ctx))
	assert.False(t, errors.Is(d.Exec(ctx, "SELECT 1"), engine.ErrBusy))
}

// What was declared stays as it was when it is worked out what is kept for it.
func TestDeclaredStays(t *testing.T) {
	declared := &schema.Schema{Tables: []*schema.Table{{Name: "sheets", SoftDelete: "deleted_at",
		Columns: []*schema.Column{
			{Name: "label", Type: schema.Type{Kind: schema.Text}},
			{Name: "deleted_at", Type: schema.Type{Kind: schema.Timestamp}},
		},
		Indexes: []*schema.Index{
			{
				Name:   "sheets_label_key",
				Unique: true,
				Parts:  []schema.Part{{Column: "label", IgnoringCase: true}},
				Where:  "{deleted_at} IS NULL",
			},
		}}}}
	kept, _ := Engine{}.Lower(declared)
	assert.Len(t, kept.Tables[0].Indexes[0].Parts, 2)
	assert.Equal(t, []schema.Part{{Column: "label", IgnoringCase: true}}, declared.Tables[0].Indexes[0].Parts)
	assert.NotEmpty(t, declared.Tables[0].Indexes[0].Where)
	assert.Len(t, declared.Tables[0].Columns, 2)
}

// A trigger is read as it was written: the server itself tells of it with a backslash less.
func TestTriggersAreRead(t *testing.T) {
	d := open(t, testserver.MariaDB(t))
	run(t, d, "CREATE TABLE t (a varchar(20))",
		"CREATE TRIGGER o BEFORE INSERT ON t FOR EACH ROW SET NEW.a = concat(NEW.a, '-')",
		`CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW PRECEDES o SET NEW.a = IF(NEW.a REGEXP '^\\d+\\z', 'it\'s a number \\', NEW.a)`)
	s, err := d.Inspect(ctx)
	require.NoError(t, err)
	require.Len(t, s.Table("t").Triggers, 2)
	run(t, d, "DROP TRIGGER g", "DROP TRIGGER o", s.Table("t").Triggers[0].SQL.Text, s.Table("t").Triggers[1].SQL.Text,
		"INSERT INTO t VALUES ('12'), ('x12')")
	assert.Equal(t, `it's a number \-`, one(t, d, "SELECT a FROM t WHERE a NOT LIKE 'x%'"))
	assert.Equal(t, "x12-", one(t, d, "SELECT a FROM t WHERE a LIKE 'x%'"))
}

// Indexes that the server would refuse are made to fit, to the byte; a key that cannot is
// told before the server meets it.
func TestIndexLengths(t *testing.T) {
	d, s := made(t, `model Sheet
    number bigint
    exact text(766)
    over text(767)
    label text(500)
    note text(500)
    place text
    finder text
    habitat text
    remarks text
    weather text
    price decimal(20,4)

    index exact, number
    index over, number
    index place, finder, habitat, remarks, weather, price
    unique label, note
    unique remarks ignoring case
`)
	for name, parts := range map[string]string{"sheets_exact_number_idx": "exact , number ",
		"sheets_over_number_idx": "over 191, number ", "sheets_label_note_key": "erbario_for_sum_label , note "} {
		assert.Equal(
			t,
			parts,
			one(
				t,
				d,
				"SELECT group_concat(column_name, ' ', coalesce(sub_part, '') ORDER BY seq_in_index SEPARATOR ', ') FROM information_schema.statistics WHERE table_schema = database() AND index_name = "+Literal(
					name,
				),
			),
		)
	}
	assert.Len(t, s.Table("sheets").Indexes, 5)
	columns := "(number, exact, over, label, note, place, finder, habitat, remarks, weather, price)"
	row := func(label, remarks string) string {
		return "INSERT INTO sheets " + strings.ReplaceAll(columns, "over",
			"`over`") + " VALUES (1, 'x', 'x', " + Literal(
			label,
		) + ", 'n', 'x', 'x', 'x', " + Literal(remarks) + ", 'x', 1)"
	}
	long := strings.Repeat("x", 499)
	run(t, d, row(long+"a", "dry"), row(long+"b", "wet"))
	assert.Error(t, d.Exec(ctx, row(long+"a", "cold")))
	assert.Error(t, d.Exec(ctx, row("other", "DRY")))

	f, _ := lang.Parse("models/test.erbario", "model Sheet\n    code text(769) key\n")
	r, _ := declare.Resolve([]*lang.File{f}, declare.Rules{}, "mariadb")
	_, notices := Engine{}.Lower(r.Schema)
	require.Len(t, notices, 1)
	assert.True(t, notices[0].Mistake)
	assert.Contains(t, notices[0].Text, "up to text(768)")
}

// The server believes that a table which has just been filled is empty: what is put back
// from it names the index by which its rows are found, or each would be looked for in all.
func TestPutBackByKey(t *testing.T) {
	d, s := made(t, "model Sheet\n    code text(20)\n    shelf text(9) optional\n    timestamps\n")
	run(t, d, "INSERT INTO sheets (code, shelf) SELECT concat('c', seq), seq FROM seq_1_to_2000")
	makes, fills := Engine{}.Archive(s.Table("sheets"), []string{"shelf"}, "erbario_kept_sheets")
	run(t, d, append(makes, fills...)...)
	live, err := d.Inspect(ctx)
	require.NoError(t, err)
	kept := live.Table("erbario_kept_sheets")
	asked := 0
	for _, sql := range (Engine{}).Restore(live.Table("sheets"), kept, false) {
		if !strings.HasPrefix(sql, "UPDATE") {
			continue
		}
		asked++
		plan, err := d.Select(ctx, "EXPLAIN "+sql)
		require.NoError(t, err)
		for _, row := range plan {
			if row[2] == "'kept'" || row[2] == "kept" {
				assert.Contains(t, strings.Join(row, " "), "erbario_kept_key", sql)
				asked++
			}
		}
		run(t, d, sql)
	}
	assert.Greater(t, asked, 1)
	assert.Equal(t, "2000", one(t, d, "SELECT count(*) FROM sheets WHERE code = concat('c', shelf)"))
}
