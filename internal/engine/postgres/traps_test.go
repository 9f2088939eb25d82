package postgres_test

// What PostgreSQL does that loses data, blocks others, or seems to differ and does
// not: each test holds one such trap, on a real server.

import (
	"context"
	"fmt"
	"maps"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/postgres"
	"erbario/internal/engines"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

var ctx = context.Background()

func TestMain(m *testing.M) { testserver.Main(m) }

func open(t testing.TB, url string) (engine.Engine, engine.Database) {
	e, err := engines.All().ForURL(url)
	require.NoError(t, err)
	db, err := e.Open(ctx, url, engine.Make)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return e, db
}

func exec1(t testing.TB, db engine.Database, sql ...string) {
	t.Helper()
	for _, s := range sql {
		require.NoError(t, db.Exec(ctx, s), s)
	}
}

func one(t testing.TB, db engine.Database, sql string) string {
	t.Helper()
	rows, err := db.Select(ctx, sql)
	require.NoError(t, err, sql)
	require.Len(t, rows, 1, sql)
	return strings.Join(rows[0], "|")
}

// A step on scratch cannot reach a table of the live database, however it names it.
func TestScratchReachesNothing(t *testing.T) {
	e, live := open(t, testserver.Postgres(t))
	exec1(t, live, "CREATE TABLE real (id integer, name text)")
	scratch, err := e.Scratch(ctx)
	require.NoError(t, err)
	defer scratch.Close()
	require.NotEqual(t, one(t, live, "SELECT current_database()"), one(t, scratch, "SELECT current_database()"))
	require.NoError(t, scratch.Begin(ctx, 0))
	assert.ErrorContains(t, scratch.Step(ctx, "ALTER TABLE public.real DROP COLUMN id"), "does not exist")
	require.NoError(t, scratch.Rollback())
	assert.Equal(
		t,
		"2",
		one(t, live,
			"SELECT count(*) FROM pg_attribute WHERE attrelid = 'real'::regclass AND attnum > 0 AND NOT attisdropped"),
	)
}

// Scratch is empty each time, also where the last use made schemas, settings and locks.
func TestScratchIsEmpty(t *testing.T) {
	e, _ := open(t, testserver.Postgres(t))
	first, err := e.Scratch(ctx)
	require.NoError(t, err)
	exec1(t, first, "CREATE SCHEMA north", "CREATE TABLE north.t (id integer)", "CREATE TABLE t (id integer)",
		"CREATE TYPE mood AS ENUM ('a')", "SET statement_timeout = 54321", "CREATE TEMPORARY TABLE x (id integer)")
	require.NoError(t, first.Close())
	second, err := e.Scratch(ctx)
	require.NoError(t, err)
	defer second.Close()
	s, err := second.Inspect(ctx)
	require.NoError(t, err)
	assert.Empty(t, s.Tables)
	assert.Empty(t, s.Others)
	assert.Equal(t, "0", one(t, second, "SELECT current_setting('statement_timeout')"))
	assert.Equal(t, "0", one(t, second, "SELECT count(*) FROM pg_namespace WHERE nspname = 'north'"))
}

// Without the right to make a database the message says which right it is, and what
// else could be done.
func TestNoRightForScratch(t *testing.T) {
	url := testserver.Postgres(t)
	_, db := open(t, url)
	exec1(t, db, "DROP ROLE IF EXISTS plain_reader", "CREATE ROLE plain_reader LOGIN")
	t.Cleanup(func() { _ = db.Exec(ctx, "DROP OWNED BY plain_reader; DROP ROLE plain_reader") })
	e, err := engines.All().ForURL(strings.Replace(url, "postgres@", "plain_reader@", 1))
	require.NoError(t, err)
	_, err = e.Scratch(ctx)
	assert.ErrorContains(t, err, "the user plain_reader has no right to create a scratch database")
	assert.ErrorContains(t, err, "CREATEDB")
}

// What is destroyed is locked before anything is asked or kept: no row comes between.
func TestNoRowBetween(t *testing.T) {
	url := testserver.Postgres(t)
	_, db := open(t, url)
	_, writer := open(t, url)
	exec1(t, db, "CREATE TABLE sheets (id integer, note text)", "CREATE TABLE other (id integer)")
	exec1(t, writer, "SET lock_timeout = '100ms'")
	for _, sql := range []string{"ALTER TABLE sheets DROP COLUMN note", "DROP TABLE sheets", "DELETE FROM sheets WHERE id = 1", "INSERT INTO erbario_kept_x (id)\nSELECT id FROM sheets", "ALTER TABLE sheets ALTER COLUMN note TYPE integer USING NULL"} {
		require.NoError(t, db.Begin(ctx, 0))
		require.NoError(t, db.TrackIntegrity(ctx, []string{sql}, nil))
		assert.ErrorIs(t, writer.Exec(ctx, "INSERT INTO sheets VALUES (1, 'x')"), engine.ErrBusy, sql)
		assert.NoError(t, writer.Exec(ctx, "INSERT INTO other VALUES (1)"), sql)
		require.NoError(t, db.Rollback())
	}
	require.NoError(t, db.Begin(ctx, 0))
	require.NoError(t,
		db.TrackIntegrity(ctx, []string{"ALTER TABLE sheets ADD COLUMN more text", "CREATE INDEX ON sheets (id)"}, nil))
	assert.NoError(t, writer.Exec(ctx, "INSERT INTO sheets VALUES (1, 'x')"),
		"what destroys nothing locks nothing early")
	require.NoError(t, db.Rollback())
}

// Whatever the server's and the database's settings are, values come and go the same.
func TestSettingsPinned(t *testing.T) {
	url := testserver.Postgres(t)
	_, db := open(t, url)
	name := one(t, db, "SELECT current_database()")
	for _, s := range []string{"timezone = 'America/Lima'", "datestyle = 'German, DMY'", "bytea_output = 'escape'", "standard_conforming_strings = off", "intervalstyle = 'iso_8601'", "extra_float_digits = 0", "default_transaction_isolation = 'serializable'"} {
		exec1(t, db, "ALTER DATABASE "+name+" SET "+s)
	}
	_, again := open(t, url)
	rows, err := again.Sample(ctx,
		`SELECT timestamptz '2026-01-31 08:30:00+00', date '2026-01-31', '\x00ff'::bytea, 'a\b', 0.1::double precision, interval '90 minutes'`,
		1)
	require.NoError(t, err)
	assert.Equal(t, []string{"'2026-01-31 08:30:00+00'", "'2026-01-31'", `'\x00ff'`, `'a\b'`, "0.1", "'01:30:00'"},
		rows.Values[0])
}

// What would end the transaction of a step, or reach beyond it, is refused; what does so
// in a roundabout way is noticed.
func TestStepsStayInTheirTransaction(t *testing.T) {
	e, db := open(t, testserver.Postgres(t))
	for _, sql := range []string{"COMMIT", "begin", "ROLLBACK TO x", "SAVEPOINT a", "/* x */ END", "START TRANSACTION", "ABORT", "PREPARE TRANSACTION 'x'", "VACUUM", "CREATE DATABASE x", "DROP DATABASE x", "SET search_path = other",
		"SET LOCAL search_path = other", "SET SESSION AUTHORIZATION x", "RESET ALL", "ALTER SYSTEM SET x = 1",
		"COPY t FROM '/etc/passwd'", "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE", "DISCARD ALL"} {
		assert.Error(t, e.SQL().Validate(sql), sql)
	}
	for _, sql := range []string{"SET LOCAL erbario.quiet = 'on'", "SELECT 'commit'", "CREATE TABLE begin_end (id integer)", "DO $$ BEGIN PERFORM 1; END $$", "CREATE FUNCTION f() RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT 1; END"} {
		assert.NoError(t, e.SQL().Validate(sql), sql)
	}
	exec1(t, db, "CREATE TABLE t (id integer)",
		"CREATE PROCEDURE ends() LANGUAGE plpgsql AS $$ BEGIN INSERT INTO t VALUES (1); COMMIT; END $$")
	require.NoError(t, db.Begin(ctx, 0))
	assert.Error(t, db.Step(ctx, "CALL ends()"), "in a transaction block it cannot")
	require.NoError(t, db.Rollback())
	assert.Equal(t, "0", one(t, db, "SELECT count(*) FROM t"))
}

// Statements are cut where the server would cut them.
func TestSplit(t *testing.T) {
	src := "SELECT 1; -- one;\nSELECT ';', $$;$$, $a$ $$ ; $a$, \"a;b\", E'\\';' /* ; /* ; */ */;\nCREATE FUNCTION f() RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT CASE WHEN true THEN 1 END; SELECT 2; END;\nCREATE RULE r AS ON INSERT TO t DO (SELECT 1; SELECT 2);\nSELECT x::text, :name, a[1:2]"
	var got []string
	for _, p := range (postgres.Engine{}).Split(src) {
		if !p.Comment {
			got = append(got, p.Text)
		}
	}
	require.Len(t, got, 5)
	assert.Equal(t, "SELECT 1", got[0])
	assert.True(t, strings.HasSuffix(got[2], "SELECT 2; END"))
	assert.True(t, strings.HasSuffix(got[3], "SELECT 2)"))
	assert.Equal(t, "SELECT x::text, 5, a[1:2]",
		postgres.Engine{}.Bind(got[4], map[string]string{"name": "5", "text": "no"}))
	for _, bad := range []string{"SELECT 'x", "SELECT $$x", "/* /* */", `SELECT "x`} {
		pieces := postgres.Engine{}.Split(bad)
		assert.NotEmpty(t, pieces[len(pieces)-1].Bad, bad)
	}
}

// Expressions that the server spells otherwise are the same, after one storing and
// after two: its words are put in again and come out in others.
func TestExpressionsAreTheSame(t *testing.T) {
	e, db := open(t, testserver.Postgres(t))
	checks := []string{
		"code IN ('a', 'b')", "code IN ('a')", "code NOT IN ('a', 'b')", "n BETWEEN -5 AND 7",
		"n > -3 AND (w < 0.5 OR n IS NULL)", "w >= 1", "code ~ '^x'", "n = 1 OR n = 2 AND w > 3",
		"(n = 1 OR n = 2) AND w > 3", "code <> ''", "on_day >= '2026-01-01'", "at > '2026-01-01 00:00:00+00'",
		"lower(code) = code", "coalesce(n, 0) >= 0", "data ->> 'kind' = 'sheet'", "length(code) <= 5", "n % 2 = 0",
		"- n < 4", "code LIKE 'a%'", "CASE WHEN n > 0 THEN w > 0 ELSE true END", "n IN (1, 2, 3)", "f <> 13",
		"f BETWEEN 3 AND 4", "s <= -7",
	}
	build := func(expr func(i int) string) *sqlschema.Schema {
		scratch, err := e.Scratch(ctx)
		require.NoError(t, err)
		defer scratch.Close()
		exec1(t, scratch,
			"CREATE TABLE t (code varchar(20), n integer, w numeric(8,3), on_day date, at timestamptz, data jsonb, f double precision, s smallint)")
		for i := range checks {
			exec1(t, scratch, fmt.Sprintf("ALTER TABLE t ADD CONSTRAINT c%02d CHECK (%s)", i, expr(i)))
		}
		s, err := scratch.Inspect(ctx)
		require.NoError(t, err)
		return s
	}
	first := build(func(i int) string { return checks[i] })
	sort := func(s *sqlschema.Schema) []*sqlschema.Check {
		slices.SortFunc(s.Table("t").Checks, func(a, b *sqlschema.Check) int { return strings.Compare(a.Name, b.Name) })
		return s.Table("t").Checks
	}
	stored := sort(first)
	second := sort(build(func(i int) string { return stored[i].SQL.Text }))
	wanted := first.Clone()
	for i, k := range sort(wanted) {
		k.SQL.Text = checks[i]
		assert.True(t, stored[i].SQL.Same(second[i].SQL), "%s\n%s", stored[i].SQL.Text, second[i].SQL.Text)
	}
	exec1(t, db,
		"CREATE TABLE t (code varchar(20), n integer, w numeric(8,3), on_day date, at timestamptz, data jsonb, f double precision, s smallint)")
	require.NoError(t, engine.Canonicalize(ctx, db, wanted, first))
	for i, k := range wanted.Table("t").Checks {
		assert.True(t, k.SQL.Same(stored[i].SQL), "%s\n%s", k.SQL.Text, stored[i].SQL.Text)
		for j, o := range stored {
			if i != j {
				assert.False(t, k.SQL.Same(o.SQL), "%s is not %s", k.SQL.Text, o.SQL.Text)
			}
		}
	}
}

// Comparing leaves nothing behind, and needs no right but that to temporary tables; for
// plain types not even that.
func TestRestateLeavesNothing(t *testing.T) {
	url := testserver.Postgres(t)
	_, db := open(t, url)
	name := one(t, db, "SELECT current_database()")
	exec1(t, db, "CREATE TABLE t (id integer, code varchar(9) DEFAULT 'a', CONSTRAINT c CHECK (code LIKE 'a%'))",
		"DROP ROLE IF EXISTS plain_writer", "CREATE ROLE plain_writer LOGIN", "GRANT SELECT ON t TO plain_writer",
		"REVOKE CREATE ON SCHEMA public FROM PUBLIC")
	t.Cleanup(func() { _ = db.Exec(ctx, "DROP OWNED BY plain_writer; DROP ROLE plain_writer") })
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	other := strings.Replace(url, "postgres@", "plain_writer@", 1)
	count := "SELECT (SELECT count(*) FROM pg_class), (SELECT count(*) FROM pg_constraint), (SELECT count(*) FROM pg_attrdef), (SELECT count(*) FROM pg_type)"
	wanted := live.Clone()
	wanted.Table("t").Checks[0].SQL.Text = "code like 'a' || '%'"
	_, plain := open(t, other)
	exec1(t, plain, "SELECT 1")
	before := one(t, db, count)
	require.NoError(t, engine.Canonicalize(ctx, plain, wanted, live))
	assert.Equal(t, before, one(t, db, count))
	changes := diff.Schemas(live, wanted)
	require.Len(t, changes, 1)
	assert.Equal(t, diff.ChangeCheck, changes[0].Kind)
	exec1(t, db, "REVOKE TEMPORARY ON DATABASE "+name+" FROM PUBLIC")
	require.NoError(t, engine.Canonicalize(ctx, plain, live.Clone(), live), "nothing is asked where nothing differs")
	assert.ErrorContains(t, engine.Canonicalize(ctx, plain, wanted, live), "without temporary tables")
}

// oddities is a schema with one of everything.
var oddities = []string{
	"CREATE TYPE mood AS ENUM ('fresh', 'it''s dry')", "CREATE DOMAIN short AS varchar(9) DEFAULT 'x' NOT NULL CONSTRAINT lower_case CHECK (VALUE = lower(VALUE))", "CREATE TYPE place AS (lat double precision, lon double precision)",
	"CREATE TYPE span AS RANGE (SUBTYPE = time)", "CREATE SEQUENCE odd_numbers INCREMENT BY 2 START WITH 7 CACHE 3",
	"CREATE FUNCTION shout(s text) RETURNS text LANGUAGE sql IMMUTABLE AS $$ SELECT upper(s) $$", "CREATE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NEW; END $$",
	`CREATE TABLE odd (id bigint GENERATED ALWAYS AS IDENTITY, old serial, n integer DEFAULT nextval('odd_numbers'), tags text[] DEFAULT '{}', feel mood DEFAULT 'fresh', nick short, at place, during span, ip inet, bits bit(5), doc tsvector,
		sum numeric, exact numeric(12,0), precise timestamptz(3), zone time with time zone, "Mixed Case" text COLLATE "C", "it's" text, fixed char(4), area box, twice integer GENERATED ALWAYS AS (n * 2) STORED, big interval, x xml,
		PRIMARY KEY (id), CONSTRAINT odd_n_key UNIQUE (n) DEFERRABLE INITIALLY DEFERRED, CONSTRAINT odd_pair UNIQUE NULLS NOT DISTINCT (old, n), CONSTRAINT no_overlap EXCLUDE USING gist (area WITH &&), CONSTRAINT positive CHECK (n > 0) NO INHERIT)`,
	"ALTER TABLE odd ADD CONSTRAINT small CHECK (n < 1000) NOT VALID",
	"CREATE TABLE child (a bigint, b integer, c integer, d integer, CONSTRAINT full_match FOREIGN KEY (b, c) REFERENCES odd (old, n) MATCH FULL ON DELETE SET NULL (b) DEFERRABLE, CONSTRAINT named FOREIGN KEY (a) REFERENCES odd ON UPDATE CASCADE ON DELETE SET DEFAULT)",
	"ALTER TABLE child ADD CONSTRAINT later FOREIGN KEY (d) REFERENCES odd (id) NOT VALID",
	"CREATE INDEX odd_gin ON odd USING gin (tags)", "CREATE INDEX odd_pattern ON odd (\"it's\" text_pattern_ops DESC NULLS LAST, n NULLS FIRST) INCLUDE (sum) WITH (fillfactor = 70) WHERE n > 3", "CREATE UNIQUE INDEX odd_shout ON odd (shout(\"it's\"), (n + 1))",
	`CREATE INDEX odd_collated ON odd ("Mixed Case" COLLATE "POSIX")`,
	"CREATE INDEX odd_brin ON odd USING brin (precise)",
	"CREATE UNLOGGED TABLE fleeting (id integer) WITH (fillfactor = 50)", "CREATE TABLE parted (id integer, day date) PARTITION BY RANGE (day)", "CREATE TABLE parted_26 PARTITION OF parted FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')",
	"CREATE TABLE heir (more text) INHERITS (fleeting)",
	"CREATE VIEW plain AS SELECT id, shout(\"it's\") AS loud FROM odd WHERE n > 1", "CREATE VIEW upon AS SELECT loud FROM plain", "CREATE MATERIALIZED VIEW stored AS SELECT count(*) AS n FROM odd",
	"CREATE TRIGGER touched BEFORE UPDATE OF n ON odd FOR EACH ROW WHEN (new.n > 5) EXECUTE FUNCTION touch()", "COMMENT ON TABLE odd IS 'it''s odd'", "COMMENT ON COLUMN odd.n IS 'a number'",
	"ALTER TABLE odd ENABLE ROW LEVEL SECURITY", "CREATE POLICY mine ON odd FOR SELECT USING (n > 0)",
	"CREATE SCHEMA elsewhere", "CREATE TABLE elsewhere.odd (id text)",
}

// A schema with one of everything differs in nothing from itself, read and made again on
// scratch, and the server's own dump of the two is the same.
func TestOneOfEverything(t *testing.T) {
	url := testserver.Postgres(t)
	e, db := open(t, url)
	exec1(t, db, oddities...)
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	assert.Nil(t, live.Table("elsewhere"), "other schemas are not read")
	copyURL := testserver.Postgres(t)
	_, again := open(t, copyURL)
	exec1(t, again, slices.Collect(maps.Values(e.OwnTables().Functions))...)
	require.NoError(t, engine.FillWhole(ctx, again, e.DDL().CreateAll(live)))
	made, err := again.Inspect(ctx)
	require.NoError(t, err)
	assert.Empty(t, diff.Schemas(live, made))
	assert.Empty(t, diff.Schemas(made, live))
	dump := func(url string) []string {
		c := exec.Command("pg_dump", "--schema-only", "--no-owner", "--schema=public", url)
		c.Stderr = os.Stderr
		out, err := c.Output()
		require.NoError(t, err)
		var lines []string
		for l := range strings.Lines(string(out)) {
			l = strings.TrimRight(strings.TrimSpace(l), ",")
			if l != "" && !strings.HasPrefix(l, "--") && !strings.Contains(l, "restrict") &&
				!strings.Contains(l, "parted_26") && !strings.Contains(l, "erbario_") {
				lines = append(lines, l)
			}
		}
		slices.Sort(lines)
		return lines
	}
	one, two := dump(url), dump(copyURL)
	for _, l := range two {
		if i := slices.Index(one, l); i >= 0 {
			one = slices.Delete(one, i, i+1)
		}
	}
	// The body of our own functions has lines of its own; everything of the original is there.
	assert.Empty(t, one, "lost on the way")
}

// Names are names, whatever is in them.
func TestNames(t *testing.T) {
	e, db := open(t, testserver.Postgres(t))
	for _, name := range []string{"plain", "Mixed", "select", "with space", "new\nline", `qu"ote`, "it's",
		"semi;colon", "-- : undo", "é", "$1", ":name", "?", strings.Repeat("x", 63)} {
		exec1(t, db,
			"CREATE TABLE "+e.SQL().Quote(name)+" ("+e.SQL().Quote(name)+" text DEFAULT "+e.SQL().Text(name)+")",
			"INSERT INTO "+e.SQL().Quote(name)+" DEFAULT VALUES")
		s, err := db.Inspect(ctx)
		require.NoError(t, err)
		table := s.Table(name)
		require.NotNil(t, table, name)
		assert.Equal(t, name, table.Columns[0].Name)
		assert.Equal(t, e.SQL().Text(name), table.Columns[0].Default.Text)
		rows, err := db.Find(ctx, engine.Finding{
			TableRows: engine.TableRows{Table: table, Columns: []string{name}, Cells: []any{name}},
			Take:      []string{name},
		})
		require.NoError(t, err)
		assert.Equal(t, []any{name}, rows[0])
		_, err = db.TableSize(ctx, name)
		require.NoError(t, err)
	}
}

// The lock of a run is asked for again and again: waiting for it in the server's queue
// would hold up an index that is built meanwhile, and that would wait for the waiter.
func TestLockHoldsUpNobody(t *testing.T) {
	url := testserver.Postgres(t)
	_, holder := open(t, url)
	_, waiter := open(t, url)
	exec1(t, holder, "CREATE TABLE t (id integer)", "INSERT INTO t SELECT generate_series(1, 1000)")
	require.NoError(t, holder.Lock(ctx, 0))
	waited := make(chan error, 1)
	go func() { waited <- waiter.Begin(ctx, 20*time.Second) }()
	time.Sleep(50 * time.Millisecond)
	within, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	require.NoError(t,
		holder.(engine.Autocommitter).ExecAutocommit(within, "CREATE INDEX CONCURRENTLY t_idx ON t (id)"))
	require.NoError(t, holder.Unlock(ctx))
	require.NoError(t, <-waited)
	require.NoError(t, waiter.Rollback())
	require.NoError(t, holder.Begin(ctx, 0))
	err := waiter.Begin(ctx, 0)
	assert.ErrorIs(t, err, engine.ErrBusy)
	require.NoError(t, holder.Rollback())
}

// An index that was left half built is no index: IF NOT EXISTS would take it for one.
func TestHalfBuiltIndex(t *testing.T) {
	_, db := open(t, testserver.Postgres(t))
	exec1(t, db, "CREATE TABLE t (id integer)", "INSERT INTO t VALUES (1), (1)")
	const make = "CREATE UNIQUE INDEX CONCURRENTLY t_key ON t (id)"
	require.Error(t, db.(engine.Autocommitter).ExecAutocommit(ctx, make))
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	require.Len(t, s.Tables[0].Indexes, 1)
	assert.True(t, s.Tables[0].Indexes[0].Invalid)
	whole := *s.Tables[0].Indexes[0]
	whole.Invalid = false
	assert.False(t, sqlschema.SameIndex(&whole, s.Tables[0].Indexes[0]))
	done, err := db.(engine.Resumer).StatementsDone(ctx, []string{make}, "")
	require.NoError(t, err)
	assert.Zero(t, done)
	assert.Equal(t, "", one(t, db, "SELECT to_regclass('t_key')"), "what was left is gone")
	exec1(t, db, "DELETE FROM t WHERE ctid = (SELECT min(ctid) FROM t)")
	require.NoError(t, db.(engine.Autocommitter).ExecAutocommit(ctx, make))
	done, err = db.(engine.Resumer).StatementsDone(ctx, []string{make}, "")
	require.NoError(t, err)
	assert.Equal(t, 1, done)
	_, err = db.(engine.Resumer).StatementsDone(ctx, []string{"REINDEX INDEX CONCURRENTLY t_key"}, "")
	assert.Error(t, err, "nobody can tell from outside")
}

// A value that cannot be changed stays, also where another trigger changes it; those
// changes that Erbario itself makes pass.
func TestImmutable(t *testing.T) {
	e, db := open(t, testserver.Postgres(t))
	exec1(t, db, e.OwnTables().Before("erbario_immutable erbario_stamped")...)
	table := &schema.Table{Name: "t", Columns: []*schema.Column{
		{
			Name:     "id",
			Type:     schema.Type{Kind: schema.Bigint},
			Identity: true,
		}, {Name: "code", Type: schema.Type{Kind: schema.Text, Length: 9}, Immutable: true},
		{
			Name: "other",
			Type: schema.Type{Kind: schema.Text},
		}, {Name: "at", Type: schema.Type{Kind: schema.Timestamp}, Stamped: true}}}
	s, _ := e.DDL().Lower(&schema.Schema{Tables: []*schema.Table{table}})
	exec1(t, db, e.DDL().Create(s.Tables[0]).Apply...)
	exec1(t, db,
		"INSERT INTO t (code, other, at) VALUES ('a', 'x', '2020-01-01 00:00:00+00'), (NULL, 'x', '2020-01-01 00:00:00+00')",
		"UPDATE t SET code = 'late' WHERE code IS NULL",
		"CREATE FUNCTION meddle() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.code := 'b'; RETURN NEW; END $$",
		"CREATE TRIGGER meddling BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION meddle()")
	assert.ErrorContains(t, db.Exec(ctx, "UPDATE t SET other = 'y'"), "t.code cannot be changed once it is set")
	exec1(t, db, "DROP TRIGGER meddling ON t", "UPDATE t SET other = 'y' WHERE code = 'a'")
	assert.Equal(t, "t", one(t, db, "SELECT at > '2026-01-01' FROM t WHERE code = 'a'"))
	require.NoError(t, db.Begin(ctx, 0))
	exec1(t, db, "SET LOCAL erbario.quiet = 'on'",
		"UPDATE t SET code = 'c', at = '2021-01-01 00:00:00+00' WHERE code = 'a'")
	require.NoError(t, db.Commit(ctx))
	assert.Equal(t, "2021-01-01 00:00:00+00", one(t, db, "SELECT at FROM t WHERE code = 'c'"))
	assert.Error(t, db.Exec(ctx, "UPDATE t SET code = 'd'"), "the quiet is over with the transaction")
}

// What each statement is said to lock is what the server locks.
func TestLocks(t *testing.T) {
	url := testserver.Postgres(t)
	e, db := open(t, url)
	exec1(t, db, "CREATE TABLE parents (id integer PRIMARY KEY)",
		"CREATE TABLE sheets (id integer PRIMARY KEY, parent integer, note varchar(20), n integer, CONSTRAINT low CHECK (n < 100) NOT VALID, CONSTRAINT refers FOREIGN KEY (parent) REFERENCES parents)",
		"CREATE UNIQUE INDEX ready ON sheets (n)", "INSERT INTO parents VALUES (1)",
		"INSERT INTO sheets SELECT i, 1, 'x', i FROM generate_series(1, 9) i")
	c, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer c.Close(ctx)
	for _, sql := range []string{
		"ALTER TABLE sheets ADD COLUMN more text", "ALTER TABLE sheets ADD COLUMN at timestamptz DEFAULT now()", "ALTER TABLE sheets ADD COLUMN key uuid DEFAULT gen_random_uuid()", "ALTER TABLE sheets DROP COLUMN note", "ALTER TABLE sheets ALTER COLUMN n TYPE bigint",
		"ALTER TABLE sheets ALTER COLUMN n SET NOT NULL", "ALTER TABLE sheets ADD CONSTRAINT c CHECK (n > 0)",
		"ALTER TABLE sheets ADD CONSTRAINT c CHECK (n > 0) NOT VALID", "ALTER TABLE sheets VALIDATE CONSTRAINT low",
		"ALTER TABLE sheets ADD CONSTRAINT f FOREIGN KEY (n) REFERENCES parents NOT VALID", "ALTER TABLE sheets ADD CONSTRAINT u UNIQUE (n)", "ALTER TABLE sheets ADD CONSTRAINT u UNIQUE USING INDEX ready", "ALTER TABLE sheets ALTER COLUMN n SET DEFAULT 5",
		"CREATE INDEX ON sheets (n)", "CREATE TABLE children (id integer REFERENCES sheets)", "CREATE TRIGGER g BEFORE UPDATE ON sheets FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger()", "COMMENT ON TABLE sheets IS 'x'", "COMMENT ON COLUMN sheets.n IS 'x'",
		"DROP TABLE sheets", "UPDATE sheets SET n = n + 20", "DELETE FROM sheets WHERE id = 1",
		"INSERT INTO sheets (id) VALUES (77)", "DROP INDEX ready",
	} {
		tx, err := c.Begin(ctx)
		require.NoError(t, err)
		_, err = tx.Exec(ctx, sql)
		require.NoError(t, err, sql)
		said := map[string]string{}
		for _, l := range e.DDL().(engine.Online).Locks(sql) {
			said[l.Table] = strings.ReplaceAll(l.Mode, " ", "")
		}
		rows, err := tx.Query(ctx,
			"SELECT c.relname, upper(replace(l.mode, 'Lock', '')) FROM pg_locks l JOIN pg_class c ON c.oid = l.relation WHERE l.pid = pg_backend_pid() AND c.relname IN ('sheets', 'parents') AND c.relkind = 'r' AND l.mode NOT IN ('AccessShareLock', 'RowShareLock')")
		require.NoError(t, err)
		held := map[string]string{}
		strength := []string{
			"ROWEXCLUSIVE", "SHAREUPDATEEXCLUSIVE", "SHARE", "SHAREROWEXCLUSIVE", "EXCLUSIVE", "ACCESSEXCLUSIVE",
		}
		for rows.Next() {
			var table, mode string
			require.NoError(t, rows.Scan(&table, &mode))
			if slices.Index(strength, mode) > slices.Index(strength, held[table]) {
				held[table] = mode
			}
		}
		rows.Close()
		require.NoError(t, tx.Rollback(ctx))
		if strings.HasPrefix(sql, "DROP TABLE") { // whose name is gone with it
			held["sheets"] = "ACCESSEXCLUSIVE"
		}
		for table, mode := range said {
			assert.Equal(t, held[table], mode, "%s on %s", sql, table)
		}
		if held["sheets"] != "" && !strings.HasPrefix(sql, "DROP INDEX") {
			assert.Contains(t, said, "sheets", sql)
		}
	}
}

// Rows in the binary form of COPY are the rows that the same values make as texts.
func TestCopy(t *testing.T) {
	_, db := open(t, testserver.Postgres(t))
	exec1(t, db,
		"CREATE TABLE t (a smallint, b integer, c bigint, d numeric(30,10), e real, f double precision, g boolean, h date, i time, j timestamptz, k timestamp, l uuid, m jsonb, n bytea, o text, p varchar(40), q numeric)",
		"CREATE TABLE u (LIKE t)")
	cells := []any{
		int64(
			-32768,
		), int64(2147483647), int64(-9223372036854775808), "12345678901234567890.0123456789", 1.5, 0.1, true, "2026-01-31", "08:30:00", "2026-01-31 08:30:00", "1999-12-31 23:59:59.999999", "0190b6c4-5a3e-7c11-9d2f-3b8a6e4c7d01", `{"a": [1, "é"]}`, []byte{0, 255}, "tab\tline\n\\é", "x", "-0.00010",
		int64(
			0,
		), int64(-1), int64(7), "-1", -2.25, 1e300, false, "0001-01-01", "23:59:59.000001", "2000-01-01 00:00:00",
		"2000-01-01 00:00:00.1", "ffffffff-ffff-ffff-ffff-ffffffffffff", "null", []byte{}, "", "it's", "10000",
		nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil,
		int64(
			1,
		), int64(2), int64(3), "0", 0.0, 0.0, true, "1970-01-01", "00:00:00", "1970-01-01 00:00:00",
		"9999-12-31 00:00:00", "00000000-0000-0000-0000-000000000000", "[]", []byte("x"), "a", "b", "99999999.5",
	}
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	r := engine.TableRows{
		Table:   s.Table("t"),
		Columns: strings.Split("a b c d e f g h i j k l m n o p q", " "),
		Cells:   cells,
	}
	require.NoError(t, db.Load(ctx, r))
	r.Table = s.Table("u")
	for _, p := range (postgres.Engine{}).Split(postgres.Engine{}.Insert(r)) {
		exec1(t, db, p.Text)
	}
	differ, err := db.Select(ctx, "SELECT to_jsonb(x)::text FROM (SELECT * FROM t EXCEPT SELECT * FROM u) x")
	require.NoError(t, err)
	assert.Empty(t, differ)
	assert.Equal(
		t,
		"0|4",
		one(t, db,
			"SELECT (SELECT count(*) FROM (SELECT * FROM t EXCEPT SELECT * FROM u) x), (SELECT count(*) FROM t)"),
	)
	// A type that only its own text form tells goes as text.
	exec1(t, db, "CREATE TYPE mood AS ENUM ('fresh', 'dry')", "CREATE TABLE v (feel mood, tags text[], n integer)")
	require.NoError(t, db.Load(ctx, engine.TableRows{
		Table:   &sqlschema.Table{Name: "v"},
		Columns: []string{"feel", "tags", "n"},
		Cells:   []any{"dry", "{a,b}", int64(3), nil, nil, nil},
	}))
	assert.Equal(t, "dry|{a,b}|3", one(t, db, "SELECT * FROM v WHERE n = 3"))
}

// Numbers go on where they were when a table comes back: a number that was given is
// never given again to another row.
func TestNumbersGoOn(t *testing.T) {
	e, db := open(t, testserver.Postgres(t))
	exec1(t, db, "CREATE TABLE t (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, note text)",
		"INSERT INTO t (note) SELECT 'x' FROM generate_series(1, 9)", "DELETE FROM t WHERE id > 5")
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	step := e.DDL().Drop(engine.TableDrop{Table: s.Table("t"), Keep: "erbario_kept_x_t"}).Steps[0]
	require.NoError(t, db.Begin(ctx, 0))
	for _, sql := range append(slices.Clone(step.Apply), step.Undo...) {
		require.NoError(t, db.Step(ctx, sql), sql)
	}
	require.NoError(t, db.Commit(ctx))
	assert.Equal(t, "10", one(t, db, "INSERT INTO t (note) VALUES ('y') RETURNING id"))
	assert.Equal(t, "6", one(t, db, "SELECT count(*) FROM t"))
}

// A standby says that it is one; where a URL names several hosts, scratch is made on the one
// that takes writes, whichever comes first.
func TestStandby(t *testing.T) {
	main, err := testserver.StartPostgres("-c", "fsync=off")
	require.NoError(t, err)
	defer main.Stop()
	standby, err := testserver.StartStandby(main)
	require.NoError(t, err)
	defer standby.Stop()
	e, db := open(t, standby.URL)
	assert.ErrorContains(t, db.Exec(ctx, "CREATE TABLE sheets (id integer)"),
		"is a standby, which is read only: name the primary in the URL")
	_, err = engine.At(e, standby.URL).Scratch(ctx)
	assert.ErrorContains(t, err, "is read only, as a standby is")
	m, err := url.Parse(main.URL)
	require.NoError(t, err)
	b, err := url.Parse(standby.URL)
	require.NoError(t, err)
	both := strings.Replace(standby.URL, b.Host, b.Host+","+m.Host, 1)
	scratch, err := engine.At(e, both).Scratch(ctx)
	require.NoError(t, err)
	defer scratch.Close()
	assert.NoError(t, scratch.Exec(ctx, "CREATE TABLE sheets (id integer)"))
}
