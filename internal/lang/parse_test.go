package lang_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/lang"
	"erbario/internal/lang/langtest"
)

// Each file of testdata/mistakes holds lines that are wrong, with the message
// that is expected behind "#>" on the same line. All of them are reported in
// one run, and nothing else is.
func TestMistakes(t *testing.T) {
	langtest.Mistakes(t, "testdata/mistakes/*.erbario", func(path, src string) []lang.Diagnostic {
		_, diags := lang.Parse(path, src)
		return diags
	})
}

// Every way in which language.md writes a thing parses, alone in a model.
func TestEveryForm(t *testing.T) {
	fields := []string{
		"a text", "a text(80)", "a smallint", "a integer", "a bigint", "a decimal(8,3)", "a real", "a double", "a boolean", "a date", "a time", "a timestamp", "a datetime", "a uuid", "a json", "a bytes", "a bytes(16)",
		"a choice(low, \"on hold\")", "a Rarity", `a sql "tsvector"`, "a references B", "a references B by code", `"unique" text`, `"order by" integer`, "größe integer", "comment text", "table text", "timestamps text", "on text",
	}
	clauses := []string{
		"", "optional", "default 1", "default -1.5", `default "a \"b\" \\ c"`, "default 2026-01-31", "default true", "default null", "default now", "default today", "default new uuid", "default {}", `default {"a": [1, "}"]}`, "default []", "default (upper('x'))", "default common",
		"unique", "unique ignoring case", "unique including deleted", "unique ignoring case including deleted", "index", "no index", "immutable", "nonblank", "range 1..10", "range 1..", "range ..10", "range -1.5..2.5", "range 2026-01-01..2026-12-31",
		"key", "key identity", `column "exact_name"`, `comment "it"`, "stamped", "fake email", "fake sentence 8", `fake code "HB-{0000}"`, "on delete restrict", "on delete cascade on update set null", "on delete set default", "on delete no action",
		"check {a} > 0 and note <> '# not a comment'", "generated as lower({a})", "generated stored as {a} || 'x'", "on postgres: default (gen())", "on sqlite, mariadb: check {a} > 1", "optional default 1 unique index check {a} > 0",
	}
	lines := []string{
		`table "exact_name"`, `comment "One, or part of one"`, "primary key a, b", "no key", "unique a, b", "unique a, b nulls equal", "unique a where {b} is null", "unique pair: a, b ignoring case", "index a, b desc", "index (lower(a)), b", "index a using hash",
		"index recently: a desc where {b}", "check {a} > 0", "check order: {a} >= {b}", "check not_cast: a::text <> ''", "timestamps", "soft delete", `soft delete column "removed_at"`, "soft delete with view", "soft delete with view with children", "include Dated", "foreign key a, b references B by c, d on delete cascade", "foreign key pair: a references B no index",
		"on postgres: index a using gin", "on sqlite: check {a} > 0",
	}
	try := func(line string) {
		f, diags := lang.Parse("m", "model M\n    "+line+"\n")
		assert.Empty(t, diags, line)
		out := lang.Format(f)
		again, diags := lang.Parse("m", out)
		assert.Empty(t, diags, out)
		assert.Equal(t, out, lang.Format(again), line)
		assert.Len(t, again.Blocks[0].Lines, 1, line)
	}
	for _, f := range fields {
		try(f)
		for _, c := range clauses {
			try(f + " " + c)
		}
	}
	for _, l := range lines {
		try(l)
	}
	for _, b := range []string{"choice Rarity: common, scarce, \"on hold\"\n", "shape Dated\n    seen_on            date\n", "model M outside\n    a                  text                    key\n", "model M in sql\n    a                  text                    key\n", "seed demo\n    Taxon 12\n    Collector 20\n        Specimen 3..8 via owner\n            mounted true\n            notes empty 40%\n", "rows Habitat by code insert only\n    code  name\n    a     \"b\"\n", "choice Rarity as enum: common, scarce\n", "choice Rarity as enum \"of_rarity\" schema \"billing\": common, scarce\n", "choice Rarity as enum schema \"billing\": common\n", "rows Habitat by code from \"habitats.csv\"\n"} {
		f, diags := lang.Parse("m", b)
		assert.Empty(t, diags, b)
		assert.Equal(t, b, lang.Format(f))
	}
}

// Every comment of a file is still there after formatting, in the same order.
func TestCommentsStay(t *testing.T) {
	src := `# one

# two
choice A: b,   # three
    # four
    c   # five
# six
model M   # seven
    # eight

    a text   # nine
        optional   # ten
        # eleven
        unique
    # twelve
    index a

    # thirteen

# fourteen
`
	f, diags := lang.Parse("m", src)
	require.Empty(t, diags)
	out := lang.Format(f)
	assert.Equal(t, commentsOf(src), commentsOf(out), out)
	again, diags := lang.Parse("m", out)
	require.Empty(t, diags, out)
	assert.Equal(t, out, lang.Format(again))
}

func commentsOf(src string) []string {
	var out []string
	for line := range strings.Lines(src) {
		if i := strings.IndexByte(line, '#'); i >= 0 {
			out = append(out, strings.TrimSpace(line[i:]))
		}
	}
	return out
}

func TestExcerpt(t *testing.T) {
	_, diags := lang.Parse("m", "model M\n\tgröße varchar(3)\n")
	require.Len(t, diags, 1)
	line, mark := diags[0].Excerpt("model M\n\tgröße varchar(3)\n")
	assert.Equal(t, "\tgröße varchar(3)", line)
	assert.Equal(t, "\t      ^^^^^^^", mark)
	assert.Equal(t, "m:2:8: no type varchar; write text(n)", diags[0].Error())
}

func TestNearest(t *testing.T) {
	known := []string{"text", "timestamp", "optional", "references"}
	for unknown, want := range map[string]string{"txet": "text", "tekst": "text", "opional": "optional", "Optional": "optional", "reference": "references", "qqq": "", "x": "", "banana": ""} {
		assert.Equal(t, want, lang.Nearest(unknown, known), unknown)
	}
}

// No input makes the parser crash or hang, and what it takes without a mistake
// is formatted to something that it takes as well.
func FuzzParse(f *testing.F) {
	seeds(f)
	f.Fuzz(func(t *testing.T, src string) {
		_, diags := lang.Parse("m", src)
		for _, d := range diags {
			d.Excerpt(src)
		}
	})
}

// Formatting changes nothing when it is done twice, and keeps every comment.
func FuzzFormat(f *testing.F) {
	seeds(f)
	f.Fuzz(func(t *testing.T, src string) {
		file, diags := lang.Parse("m", src)
		if len(diags) > 0 {
			return
		}
		out := lang.Format(file)
		again, diags := lang.Parse("m", out)
		if len(diags) > 0 {
			t.Fatalf("the formatted file has a mistake: %v\n%s", diags[0], out)
		}
		if twice := lang.Format(again); twice != out {
			t.Fatalf("formatting twice differs:\n%s\n---\n%s", out, twice)
		}
		if strings.Count(out, "#") < strings.Count(src, "#") {
			t.Fatalf("a comment is gone:\n%s\n---\n%s", src, out)
		}
	})
}

func seeds(f *testing.F) {
	for _, pattern := range []string{"testdata/*.erbario", "testdata/mistakes/*.erbario"} {
		files, _ := filepath.Glob(pattern)
		for _, path := range files {
			if src, err := os.ReadFile(path); err == nil {
				f.Add(string(src))
			}
		}
	}
	for _, s := range []string{"model A\n a text # b\n  # c\n  optional", "choice A: b,\n # c\n d", "rows A by b\n b c\n 1 \"#\"", "\t\nmodel A\n\t\ta text", "seed a\n    A 1\n            B 2\n        C 3"} {
		f.Add(s)
	}
}
