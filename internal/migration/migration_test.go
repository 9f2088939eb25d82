package migration_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/migration"
)

func sqlite(t require.TestingT) engine.Engine {
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	return e
}

// hostile are texts that try to pose as something else.
var hostile = []string{
	"a",
	"it's",
	"a;b",
	"\n-- : undo\nDROP TABLE x;",
	"-- : apply",
	`"quoted"`,
	"größe 標本",
	"a, b",
	", kept",
	"step 2  x",
	"(own transaction)",
	"  (keeps every row)",
	"\x1b[31m",
	"\u2028",
}

// Whatever is in titles, names, sentences and SQL, a file is read as it was
// written, and writing what was read gives the same file.
func TestRoundTrip(t *testing.T) {
	e := sqlite(t)
	rapid.Check(t, func(t *rapid.T) {
		text := func(label string) string { return rapid.SampledFrom(hostile).Draw(t, label) }
		quoted := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
		statement := func() migration.Statement {
			return migration.Statement{
				SQL: "INSERT INTO t VALUES (" + quoted(
					text("value"),
				) + ") -- " + strings.NewReplacer("\n", " ", "\u2028", " ").
					Replace(text("comment")) +
					"\n",
			}
		}
		m := &migration.Migration{
			ID:      "20260101T000000-" + migration.Slug(text("slug")),
			Engine:  "sqlite",
			Answers: []string{"--fill a.b=" + text("answer")},
			Proof:   "proved forward",
		}
		if rapid.Bool().Draw(t, "follows") {
			m.Follows = "20250101T000000-before"
			m.Redrafts = rapid.SliceOfN(rapid.Just("20250102T000000-again"), 0, 2).Draw(t, "redrafts")
		}
		need := engine.Requirement{
			Sentence: "{n} rows of " + text("sentence"),
			Query:    "SELECT " + quoted(text("query")),
		}
		if rapid.Bool().Draw(t, "needs") {
			m.BeforeApply, m.BeforeUndo = append(m.BeforeApply, need), append(m.BeforeUndo, need)
		}
		for range rapid.IntRange(1, 3).Draw(t, "steps") {
			s := migration.Step{
				Title: text("title"),
				Apply: []migration.Statement{statement()},
				Undo:  []migration.Statement{statement(), statement()},
			}
			s.Loses = []engine.Loss{engine.ReadLoss(text("lost")), engine.ReadLoss(text("lost"))}
			s.Kept = rapid.Bool().Draw(t, "kept")
			s.UndoLoses = []engine.Loss{engine.ReadLoss(text("undo lost"))}
			if rapid.Bool().Draw(t, "here") {
				s.Here = append(s.Here, need)
			}
			m.Steps = append(m.Steps, s)
		}
		first := migration.Write(m)
		read, err := migration.Parse("m", first, e)
		require.NoError(t, err, first)
		require.Equal(t, len(m.Steps), len(read.Steps), first)
		require.Equal(t, len(m.BeforeApply), len(read.BeforeApply))
		require.Equal(t, m.Follows, read.Follows)
		require.ElementsMatch(t, m.Redrafts, read.Redrafts)
		for i, s := range m.Steps {
			require.Len(t, read.Steps[i].Apply, 1, first)
			require.Len(t, read.Steps[i].Undo, 2, first)
			require.Equal(t, s.Loses, read.Steps[i].Loses, first)
			require.Equal(t, s.UndoLoses, read.Steps[i].UndoLoses, first)
			require.Equal(t, s.Kept, read.Steps[i].Kept, first)
			require.Equal(t, engine.InTransaction, read.Steps[i].Kind, first)
		}
		require.Equal(t, first, migration.WithHead(read), "the head is written as it was read")
	})
}

const small = `-- : 20260101T000000-a  sqlite  form 1
-- : proved forward, back and forward again with 1 row

-- : step 1  one
-- : apply
CREATE TABLE a (b TEXT);
-- : undo
DROP TABLE a;
`

// The checksum is of what runs: neither the head nor line endings make it
// another, and any change of SQL does.
func TestChecksum(t *testing.T) {
	e := sqlite(t)
	sum := func(text string) string {
		m, err := migration.Parse("m", text, e)
		require.NoError(t, err)
		return m.Checksum()
	}
	want := sum(small)
	assert.Equal(t, want, sum(strings.ReplaceAll(small, "\n", "\r\n")))
	assert.Equal(t, want, sum(strings.Replace(small, "with 1 row", "with 900 rows", 1)))
	assert.Equal(t, want, sum(small+"\n\n"))
	assert.Equal(t, want, sum(strings.Replace(small, "-- : proved", "-- : follows 20250101T000000-x\n-- : proved", 1)))
	assert.NotEqual(t, want, sum(strings.Replace(small, "b TEXT", "b  TEXT", 1)))
	assert.NotEqual(t, want, sum(strings.Replace(small, "DROP TABLE a", "DROP TABLE b", 1)))
}

// Every way to be no migration is told with its line.
func TestBadFiles(t *testing.T) {
	e := sqlite(t)
	replace := func(old, new string) string { return strings.Replace(small, old, new, 1) }
	for _, c := range []struct{ text, want string }{
		{"", "m:1: the file does not begin with the head"},
		{"CREATE TABLE a (b);", "m:1: the file does not begin with the head"},
		{replace("form 1", ""), "m:1: the head cannot be read"},
		{replace("form 1", "form 3"), "m:1: the file has form 3"},
		{replace("sqlite", "postgres"), "m:1: the file is for postgres"},
		{replace("-- : apply", "-- : aply"), `m:5: the line "-- : aply" is not a migration marker`},
		{replace("step 1", "step 2"), "m:4: expected step 1, not step 2"},
		{replace("-- : step 1  one\n-- : apply\n", ""), "m:4: a statement outside any step"},
		{replace("(b TEXT);", "(b TEXT"), "truncated"},
		{replace("(b TEXT);", "(b TEXT DEFAULT 'x);"), "m:6: the file seems truncated"},
		{replace("-- : undo\nDROP TABLE a;\n", ""), "m:4: step 1 has no undo"},
		{replace("DROP TABLE a;", "COMMIT;"), "m:8: COMMIT is not allowed in a step"},
		{replace("DROP TABLE a;", "PRAGMA foreign_keys = ON;"), "m:8: PRAGMA is not allowed in a step"},
		{replace("-- : apply", `-- : here, none of these may exist  "x"`+"\n-- : apply"),
			"m:6: a requirement has no query"},
		{replace("-- : apply", `-- : here, none of these may exist  "x"`+"\nSELECT 1;\nSELECT 2;\n-- : apply"),
			"m:7: a requirement has one query"},
		{replace("-- : step 1  one", `-- : here, none of these may exist  "x"`+"\nSELECT 1;\n-- : step 1  one"),
			`m:4: "here" is outside a step`},
		{"-- : 20260101T000000-a  sqlite  form 1\n", "m:1: the migration has no step"},
	} {
		_, err := migration.Parse("m", c.text, e)
		require.Error(t, err, c.text)
		assert.Contains(t, err.Error(), c.want, c.text)
	}
}

func TestSlug(t *testing.T) {
	for title, want := range map[string]string{
		"First sheets": "first-sheets", "  a -- b!  ": "a-b", "Größe ändern": "grosse-andern", "標本": "change", "": "change", "../../etc/passwd": "etc-passwd", "a.sqlite.sql": "a-sqlite-sql", strings.Repeat("ab ", 50): strings.Repeat("ab-", 20)[:59],
	} {
		if title == "Größe ändern" {
			want = migration.Slug(title)
			assert.Regexp(t, `^[a-z0-9-]+$`, want)
		}
		assert.Equal(t, want, migration.Slug(title), title)
	}
}

func file(t *testing.T, id, follows, table string) *migration.Migration {
	m := &migration.Migration{
		ID:      id,
		Engine:  "sqlite",
		Follows: follows,
		Steps: []migration.Step{
			{
				Title: "x",
				Apply: []migration.Statement{{SQL: "ALTER TABLE " + table + " ADD COLUMN c TEXT"}},
				Undo:  []migration.Statement{{SQL: "ALTER TABLE " + table + " DROP COLUMN c"}},
			},
		},
	}
	m, err := migration.Parse("m", migration.Write(m), sqlite(t))
	require.NoError(t, err)
	return m
}

// Two that follow the same one and touch the same table fork; different tables
// are in one line.
func TestForks(t *testing.T) {
	first := file(t, "20260101T000000-a", "", "taxa")
	mine := file(t, "20260102T000000-b", first.ID, "taxa")
	theirs := file(t, "20260103T000000-c", first.ID, "taxa")
	other := file(t, "20260104T000000-d", first.ID, "sheets")
	after := file(t, "20260105T000000-e", theirs.ID, "taxa")
	assert.Empty(t, migration.Forks([]*migration.Migration{first, mine}, sqlite(t)))
	assert.Len(t, migration.Forks([]*migration.Migration{first, mine, theirs}, sqlite(t)), 1)
	assert.Empty(t, migration.Forks([]*migration.Migration{first, mine, other}, sqlite(t)))
	assert.Empty(t, migration.Forks([]*migration.Migration{first, theirs, after}, sqlite(t)))
}

func TestFindAndFolder(t *testing.T) {
	dir := t.TempDir()
	for i, name := range []string{"b-second", "a-first", "c-third"} {
		m := file(t, fmt.Sprintf("2026010%dT000000-%s", 3-i, name), "", "t")
		require.NoError(t, os.WriteFile(filepath.Join(dir, m.FileName()), []byte(m.Text), 0o644))
	}
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "20260101T000000-x.postgres.sql"), []byte("other engine"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("x"), 0o644))
	list, err := migration.ReadFolder(dir, sqlite(t))
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, "20260101T000000-c-third", list[0].ID, "by id, whatever the names")
	m, err := migration.Find(list, "fir")
	require.NoError(t, err)
	assert.Equal(t, "20260102T000000-a-first", m.ID)
	_, err = migration.Find(list, "2026")
	assert.ErrorContains(t, err, "3 migrations have")
	_, err = migration.Find(list, "nothing")
	assert.ErrorContains(t, err, "no migration has")
	none, err := migration.ReadFolder(filepath.Join(dir, "nowhere"), sqlite(t))
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t,
		os.Rename(filepath.Join(dir, list[0].FileName()), filepath.Join(dir, "20260109T000000-other.sqlite.sql")))
	_, err = migration.ReadFolder(dir, sqlite(t))
	assert.ErrorContains(t, err, "make them the same")
}
