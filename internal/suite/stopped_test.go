package suite

// Migrations of steps that each commit, cut off at every statement that they send: before
// the server gets it, and while it is at work on it. Afterwards the database is where a
// migration begins or ends, or the next run brings it there, in either direction; no row
// is lost, and the server's own dump is the same as if nothing had happened.

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

const stoppedBefore = `model Taxon
    name text(40) unique

model Specimen
    accession text(20) unique immutable
    taxon references Taxon
    label text optional
    weight text(10) optional
    sheet integer default 1
    note text(20) optional
    timestamps
    soft delete with view

model Loan
    specimen references Specimen
    borrower text(40)
` + sqlPart + `
CREATE VIEW dry AS SELECT id, accession, note FROM specimens WHERE label = 'dry';
CREATE VIEW counted AS SELECT count(*) AS n FROM dry;
CREATE TRIGGER ` + "`marks`" + ` BEFORE INSERT ON ` + "`taxons`" + ` FOR EACH ROW SET NEW.name = trim(NEW.name);
CREATE TRIGGER ` + "`more`" + ` BEFORE INSERT ON ` + "`taxons`" + ` FOR EACH ROW BEGIN SET @erbarium = 1; END;
CREATE FUNCTION sheets(n int) RETURNS int DETERMINISTIC RETURN n + 1;
CREATE PROCEDURE tidy() BEGIN DELETE FROM loans WHERE false; END;
CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY DISABLE DO DELETE FROM loans WHERE false;
CREATE EVENT weekly ON SCHEDULE EVERY 1 WEEK DISABLE DO DELETE FROM loans WHERE false;
CREATE TRIGGER ` + "`noted`" + ` BEFORE UPDATE ON ` + "`specimens`" + ` FOR EACH ROW SET NEW.note = concat(NEW.note, '');
`

const stoppedAfter = `model Taxon
    name text(60) unique nonblank
    rank text(10) default "species"

model Specimen
    number text(20) unique immutable
    taxon references Taxon optional on delete set null
    label text
    weight integer optional
    sheet bigint default 1
    mounted boolean default false
    timestamps
    soft delete with view

    index weight desc

model Drawer
    code text(8) key

rows Drawer by code
    code
    a1
    a2
` + sqlPart + `
CREATE VIEW dry AS SELECT id, number FROM specimens WHERE label = 'dry';
CREATE VIEW counted AS SELECT count(*) AS n, sheets(1) AS s FROM dry;
CREATE TRIGGER ` + "`marks`" + ` BEFORE INSERT ON ` + "`taxons`" + ` FOR EACH ROW SET NEW.name = concat(trim(NEW.name), '');
CREATE TRIGGER ` + "`more`" + ` BEFORE INSERT ON ` + "`taxons`" + ` FOR EACH ROW BEGIN SET @erbarium = 1; END;
SET STATEMENT sql_mode = 'PIPES_AS_CONCAT,STRICT_ALL_TABLES' FOR CREATE FUNCTION sheets(n int) RETURNS int DETERMINISTIC RETURN n || 1;
CREATE PROCEDURE tidied() BEGIN DELETE FROM drawers WHERE false; END;
CREATE EVENT nightly ON SCHEDULE EVERY 2 DAY DISABLE DO DELETE FROM loans WHERE true;
`

// serverDump is what the server's own client says of a database, without the tool's own
// tables, and without the numbers that rows get. More may be asked of it by its flags.
func serverDump(t *testing.T, db engine.Database, raw string, flags ...string) string {
	u, err := url.Parse(raw)
	require.NoError(t, err)
	name := strings.TrimPrefix(u.Path, "/")
	args := []string{
		"--no-defaults",
		"--no-data",
		"--skip-comments",
		"--routines",
		"--protocol=tcp",
		"-h",
		u.Hostname(),
		"-P",
		u.Port(),
		"-u",
		u.User.Username(),
		name,
	}
	args = append(args, flags...)
	own, err := db.Kept(context.Background(), schema.OwnPrefix)
	require.NoError(t, err)
	for _, table := range own {
		args = append(args, "--ignore-table="+name+"."+table)
	}
	c := exec.Command("mariadb-dump", args...)
	c.Stderr = os.Stderr
	out, err := c.Output()
	require.NoError(t, err)
	var b strings.Builder
	for line := range bytes.Lines(out) {
		s := string(line)
		if i := strings.Index(s, " AUTO_INCREMENT="); i >= 0 {
			s = s[:i] + strings.TrimLeft(s[i+len(" AUTO_INCREMENT="):], "0123456789")
		}
		b.WriteString(s)
	}
	return b.String()
}

func TestStoppedAnywhere(t *testing.T) {
	if only := os.Getenv(testserver.EnginesVariable); only != "" && !strings.Contains(only, "mariadb") {
		t.Skip("of steps that each commit")
	}
	ctx, place := context.Background(), testserver.At(t, "mariadb")
	open := func(url string) engine.Database {
		db, err := place.Engine.Open(ctx, url, engine.Make)
		require.NoError(t, err)
		return db
	}
	begin := func(url string, files []*migration.Migration) (engine.Database, *draft.State, []*migration.Migration) {
		db := open(url)
		if files == nil {
			_, files = step(t, ctx, place.Engine, db, stoppedBefore, nil, rand.New(rand.NewPCG(1, 1)))
		} else {
			_, err := runner.Apply(ctx, db, place.Engine, files, runner.Options{Wait: time.Second})
			require.NoError(t, err)
		}
		for _, sql := range []string{
			"INSERT INTO taxons (name) VALUES ('Rosa'), ('Bellis')",
			"INSERT INTO specimens (accession, taxon_id, label, weight, sheet, note, deleted_at) VALUES ('A1', 1, 'dry', '12', 3, 'x', NULL), ('A2', 2, NULL, NULL, 4, NULL, NULL), ('A3', 2, NULL, '7', 5, 'gone', '2026-01-31 10:00:00')",
			"INSERT INTO loans (specimen_id, borrower) VALUES (1, 'Ada Verdi')",
		} {
			require.NoError(t, db.Exec(ctx, sql))
		}
		require.NoError(t,
			db.Exec(ctx, "UPDATE specimens SET created_at = '2026-01-01 08:00:00', updated_at = '2026-01-02 08:00:00'"))
		s, err := draft.Look(ctx, place.Engine, db, func() (*sqlschema.Schema, []*migration.Migration, error) {
			return wanted(t, place.Engine, stoppedAfter), files, nil
		})
		require.NoError(t, err)
		return db, s, files
	}
	first := place.URL(t)
	db, s, files := begin(first, nil)
	before, rowsBefore := serverDump(t, db, first), dump(t, ctx, place.Engine, db)
	d, err := s.Make(ctx, draft.Request{Title: "change", Now: time.Now(), Rows: true, Answers: plan.Answers{
		Rename: []plan.Rename{
			{Table: "specimens", Column: "accession", To: "number"},
		}, Fill: map[string]plan.Fill{"specimens.label": {SQL: "'none'", Literal: true}},
		Drop: map[string]bool{"specimens.note": true, "loans": true},
	}})
	require.NoError(t, err)
	require.Empty(t, d.Plan.Questions)
	require.NotNil(t, d.Migration)
	require.Empty(t, d.Outcome.Differ, d.Migration.Text)
	require.GreaterOrEqual(t, len(d.Migration.Steps), 12, d.Migration.Text)
	all := append(slices.Clone(files), d.Migration)
	o := runner.Options{Wait: 30 * time.Second}
	counted, sent := testserver.Interrupted(t, first, never, testserver.CutBefore)
	through := open(counted)
	_, err = runner.Apply(ctx, through, place.Engine, all, o)
	require.NoError(t, err)
	total := sent.Load()
	require.NoError(t, through.Close())
	after, rowsAfter := serverDump(t, db, first), dump(t, ctx, place.Engine, db)
	counted, sent = testserver.Interrupted(t, first, never, testserver.CutBefore)
	through = open(counted)
	_, err = runner.Undo(ctx, through, place.Engine, all, o)
	require.NoError(t, err)
	totalBack := sent.Load()
	require.NoError(t, through.Close())
	require.Equal(t, before, serverDump(t, db, first), "the undo leaves what was there")
	require.Equal(t, rowsBefore, dump(t, ctx, place.Engine, db))
	require.NoError(t, db.Close())
	t.Logf("%d steps, %d statements forward and %d back", len(d.Migration.Steps), total, totalBack)

	r, seed := random()
	halves := 0
	cuts := stops(16)
	for i := range cuts {
		c := drawCut(r, total, totalBack)
		what := fmt.Sprintf("seed %d, case %d, %s", seed, i, c)
		raw := place.URL(t)
		db, _, _ := begin(raw, files)
		if c.back {
			_, err := runner.Apply(ctx, db, place.Engine, all, o)
			require.NoError(t, err)
		}
		if c.run(t, t, ctx, place.Engine, db, raw, all, files[0].ID, what) {
			halves++
		}
		if c.after() {
			require.Equal(t, after, serverDump(t, db, raw), what)
			require.Equal(t, rowsAfter, dump(t, ctx, place.Engine, db), what)
		} else {
			require.Equal(t, before, serverDump(t, db, raw), what)
			require.Equal(t, rowsBefore, dump(t, ctx, place.Engine, db), what)
		}
		require.NoError(t, db.Close())
	}
	t.Logf("%d of %d were stopped within the migration", halves, cuts)
}

// never is behind all statements.
const never = 1 << 40

// stops is how many times migrations are stopped.
func stops(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("ERBARIO_STOPS")); err == nil {
		return n
	}
	return usual
}

func random() (r *rand.Rand, seed uint64) {
	seed = uint64(time.Now().UnixNano())
	return rand.New(rand.NewPCG(seed, 0)), seed
}

// cut is where a migration is stopped, and which way it goes then.
type cut struct {
	at   int64
	how  testserver.Interruption
	back bool // it is stopped on its way back
	turn bool // and goes on in the other direction
}

func (c cut) String() string {
	return fmt.Sprintf("statement %d %s, back %t, turned %t", c.at, c.how, c.back, c.turn)
}

// after tells whether the migration is applied in the end.
func (c cut) after() bool { return c.back == c.turn }

func drawCut(r *rand.Rand, total, totalBack int64) cut {
	c := cut{how: testserver.Interruption(r.IntN(3)), back: r.IntN(2) == 0, turn: r.IntN(2) == 0}
	n := total
	if c.back {
		n = totalBack
	}
	c.at = 8 + r.Int64N(n-8) // after the connection is open
	return c
}

// run stops a migration and has the next run bring it to its end; it tells whether it was
// left halfway. What is given up is undone by the run itself, if it is of the
// migration.
func (c cut) run(t require.TestingT, tb testing.TB, ctx context.Context, e engine.Engine, db engine.Database,
	raw string, all []*migration.Migration, before string, what string) bool {
	o := runner.Options{Wait: 30 * time.Second}
	through, sent := testserver.Interrupted(tb, raw, c.at, c.how)
	gone, err := e.Open(ctx, through, engine.Make)
	require.NoError(t, err, what)
	if c.back {
		_, err = runner.Undo(ctx, gone, e, all, o)
	} else {
		_, err = runner.Apply(ctx, gone, e, all, o)
	}
	if err == nil { // a lock that is let go, with all that was to be done behind it; or the server was too quick
		require.True(t, c.how == testserver.GivenUp || sent.Load() < c.at+4, "%s: nothing was noticed", what)
	}
	_ = gone.Close()
	half, err := runner.FindInterrupted(ctx, db)
	require.NoError(t, err, what)
	if c.after() {
		_, err = runner.Apply(ctx, db, e, all, o)
	} else {
		_, err = runner.Undo(ctx, db, e, all, runner.Options{Wait: o.Wait, To: before})
	}
	require.NoError(t, err, what)
	return half != nil
}

// Random migrations of up to twelve steps, stopped as above.
func TestStoppedPairs(t *testing.T) {
	if only := os.Getenv(testserver.EnginesVariable); only != "" && !strings.Contains(only, "mariadb") {
		t.Skip("of steps that each commit")
	}
	ctx, place := context.Background(), testserver.At(t, "mariadb")
	stopped, halves := 0, 0
	require.NoError(t, flagSet("rapid.checks", strconv.Itoa((stops(24)+3)/4)))
	rapid.Check(t, func(rt *rapid.T) {
		a := drawSchema(rt)
		b := evolve(rt, a)
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 3))
		raw, e := place.URL(t), place.Engine
		open := func(url string) engine.Database {
			db, err := e.Open(ctx, url, engine.Make)
			require.NoError(rt, err)
			return db
		}
		db := open(raw)
		defer db.Close()
		_, files := step(rt, ctx, e, db, text(a), nil, r)
		if len(files) == 0 {
			return
		}
		live, err := db.Inspect(ctx)
		require.NoError(rt, err)
		insert(rt, ctx, e, db, live, r, 2)
		d := drafted(rt, ctx, e, db, text(b), files, r)
		if d.Migration == nil || len(d.InTheWay) > 0 || len(d.Migration.Steps) > 12 {
			return
		}
		// One of several tables at once may be given up without a word.
		require.NotRegexp(rt, "(?m)^UPDATE [^ ]+( AS [^ ]+)?( JOIN|,)", d.Migration.Text)
		all := append(slices.Clone(files), d.Migration)
		o := runner.Options{Wait: 30 * time.Second}
		var dumps [2]string
		var rows [2]map[string][]string
		var totals [2]int64
		look := func(i int) {
			dumps[i], rows[i] = serverDump(t, db, raw), dump(rt, ctx, e, db)
		}
		look(0)
		through, sent := testserver.Interrupted(t, raw, never, testserver.CutBefore)
		other := open(through)
		_, err = runner.Apply(ctx, other, e, all, o)
		require.NoError(rt, err, "applying\n%s", d.Migration.Text)
		totals[0] = sent.Load()
		look(1)
		_, err = runner.Undo(ctx, other, e, all, o)
		require.NoError(rt, err, "undoing\n%s", d.Migration.Text)
		totals[1] = sent.Load() - totals[0]
		require.NoError(rt, other.Close())
		require.Equal(rt, dumps[0], serverDump(t, db, raw), "after the undo of\n%s", d.Migration.Text)
		for range 4 {
			c := drawCut(r, totals[0], totals[1])
			if c.back {
				_, err := runner.Apply(ctx, db, e, all, o)
				require.NoError(rt, err, "applying again\n%s", d.Migration.Text)
			}
			what := c.String() + " of\n" + d.Migration.Text
			if stopped++; c.run(rt, t, ctx, e, db, raw, all, files[len(files)-1].ID, what) {
				halves++
			}
			i := 0
			if c.after() {
				i = 1
			}
			require.Equal(rt, dumps[i], serverDump(t, db, raw), what)
			require.Equal(rt, rows[i], dump(rt, ctx, e, db), what)
			if i == 1 {
				_, err := runner.Undo(ctx, db, e, all, o)
				require.NoError(rt, err, what)
			}
		}
	})
	require.Positive(t, halves)
	t.Logf("%d of %d were stopped within the migration", halves, stopped)
}
