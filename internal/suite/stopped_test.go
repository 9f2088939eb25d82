package suite

// Migrations of steps that each commit, cut off at every statement that they send: before
// the server gets it, and while it is at work on it. Afterwards the database is where a
// migration begins or ends, or the next run brings it there, in either direction; no row
// is lost, and the server's own dump is the same as if nothing had happened.

import (
	"bytes"
	"context"
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

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
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
`

// serverDump is what the server's own client says of a database, without the tool's own
// tables, and without the numbers that rows get.
func serverDump(t *testing.T, db engine.Database, raw string) string {
	u, err := url.Parse(raw)
	require.NoError(t, err)
	name := strings.TrimPrefix(u.Path, "/")
	args := []string{"--no-defaults", "--no-data", "--skip-comments", "--protocol=tcp", "-h", u.Hostname(), "-P", u.Port(), "-u", u.User.Username(), name}
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
		require.NoError(t, db.Exec(ctx, "UPDATE specimens SET created_at = '2026-01-01 08:00:00', updated_at = '2026-01-02 08:00:00'"))
		s, err := draft.Look(ctx, place.Engine, db, func() (*schema.Schema, []*migration.Migration, error) {
			return wanted(t, place.Engine, stoppedAfter), files, nil
		})
		require.NoError(t, err)
		return db, s, files
	}
	first := place.URL(t)
	db, s, files := begin(first, nil)
	before, rowsBefore := serverDump(t, db, first), dump(t, ctx, place.Engine, db)
	d, err := s.Make(ctx, draft.Request{Title: "change", Now: time.Now(), Rows: true, Answers: plan.Answers{
		Rename: []plan.Rename{{Table: "specimens", Column: "accession", To: "number"}}, Fill: map[string]plan.Fill{"specimens.label": {SQL: "'none'", Literal: true}}, Drop: map[string]bool{"specimens.note": true, "loans": true},
	}})
	require.NoError(t, err)
	require.Empty(t, d.Plan.Questions)
	require.NotNil(t, d.Migration)
	require.Empty(t, d.Outcome.Differ, d.Migration.Text)
	require.GreaterOrEqual(t, len(d.Migration.Steps), 12, d.Migration.Text)
	all := append(slices.Clone(files), d.Migration)
	o := runner.Options{Wait: 30 * time.Second}
	counted, sent := testserver.Interrupted(t, first, 1<<40, false)
	through := open(counted)
	_, err = runner.Apply(ctx, through, place.Engine, all, o)
	require.NoError(t, err)
	total := sent.Load()
	require.NoError(t, through.Close())
	after, rowsAfter := serverDump(t, db, first), dump(t, ctx, place.Engine, db)
	counted, sent = testserver.Interrupted(t, first, 1<<40, false)
	through = open(counted)
	_, err = runner.Undo(ctx, through, place.Engine, all, o)
	require.NoError(t, err)
	totalBack := sent.Load()
	require.NoError(t, through.Close())
	require.Equal(t, before, serverDump(t, db, first), "the undo leaves what was there")
	require.Equal(t, rowsBefore, dump(t, ctx, place.Engine, db))
	require.NoError(t, db.Close())
	t.Logf("%d steps, %d statements forward and %d back", len(d.Migration.Steps), total, totalBack)

	cuts := 16
	if n, err := strconv.Atoi(os.Getenv("ERBARIO_STOPS")); err == nil {
		cuts = n
	}
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	halves := 0
	for i := range cuts {
		back, within, turn := r.IntN(2) == 0, r.IntN(2) == 0, r.IntN(2) == 0
		n := total
		if back {
			n = totalBack
		}
		at := 4 + r.Int64N(n-4)
		what := func() string {
			return strings.Join([]string{"seed", strconv.FormatUint(seed, 10), "case", strconv.Itoa(i), "cut at", strconv.FormatInt(at, 10), "back", strconv.FormatBool(back), "within", strconv.FormatBool(within), "turn", strconv.FormatBool(turn)}, " ")
		}
		raw := place.URL(t)
		db, _, _ := begin(raw, files)
		if back {
			_, err := runner.Apply(ctx, db, place.Engine, all, o)
			require.NoError(t, err)
		}
		cut, _ := testserver.Interrupted(t, raw, at, within)
		gone := open(cut)
		if back {
			_, err = runner.Undo(ctx, gone, place.Engine, all, o)
		} else {
			_, err = runner.Apply(ctx, gone, place.Engine, all, o)
		}
		require.Error(t, err, what())
		_ = gone.Close()
		half, err := runner.Halfway(ctx, db)
		require.NoError(t, err)
		if half != nil {
			halves++
		}
		forward := back == turn
		if forward {
			_, err = runner.Apply(ctx, db, place.Engine, all, o)
		} else {
			_, err = runner.Undo(ctx, db, place.Engine, all, runner.Options{Wait: o.Wait, To: files[0].ID})
		}
		require.NoError(t, err, what())
		if forward {
			require.Equal(t, after, serverDump(t, db, raw), what())
			require.Equal(t, rowsAfter, dump(t, ctx, place.Engine, db), what())
		} else {
			require.Equal(t, before, serverDump(t, db, raw), what())
			require.Equal(t, rowsBefore, dump(t, ctx, place.Engine, db), what())
		}
		require.NoError(t, db.Close())
	}
	t.Logf("%d of %d were stopped within the migration", halves, cuts)
}
