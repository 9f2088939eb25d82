package cli

// One table of cases: every kind of change, and what Erbario says and does where
// the table has no rows, where its rows fit, and where rows block it; and
// what it does on another database whose rows block it, with a migration
// that was drafted where there were none. docs/changes.md is written from it
// (UPDATE_CHANGES=1), and every cell of it is a test.

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/testserver"
)

// change is one kind of change of a model Specimen. fit and way are rows that
// fit, and rows that block it, in the columns of the table before.
type changeCase struct {
	kind          string
	before, after string // lines of Specimen
	fit, way      string // VALUES of the columns of before, behind the id; "": the same as fit
	flags         []string
	on            map[string][]string // flags on one engine instead
	needs         bool                // flags are needed where there are rows
	afterBase     string              // the other models after the change; empty: as before
}

const changesBase = `model Taxon
    name text(40)

model Region
    name text(40)

`

var changeCases = []changeCase{
	{kind: "a new optional field", before: "code text(9)", after: "code text(9)\n    note text optional", fit: "('a')"},
	{
		kind:   "a new field with a default",
		before: "code text(9)",
		after:  "code text(9)\n    mounted boolean default false",
		fit:    "('a')",
	},
	{
		kind:   "a new required field without a default",
		before: "code text(9)",
		after:  "code text(9)\n    label text(20)",
		way:    "('a'), ('b')",
		flags:  []string{"--fill", "specimens.label=none"},
	},
	{
		kind:   "the same, unique, filled with one value",
		before: "code text(9)",
		after:  "code text(9)\n    label text(20) unique",
		fit:    "('a')",
		way:    "('a'), ('b')",
		flags:  []string{"--fill", "specimens.label=none"},
		needs:  true,
	},
	{
		kind:   "optional becomes required",
		before: "label text(20) optional",
		after:  "label text(20)",
		fit:    "('a')",
		way:    "('a'), (NULL)",
		flags:  []string{"--fill", "specimens.label=none"},
	},
	{kind: "required becomes optional", before: "label text(20)", after: "label text(20) optional", fit: "('a')"},
	{
		kind:   "unique",
		before: "code text(9)",
		after:  "code text(9) unique",
		fit:    "('a'), ('b')",
		way:    "('a'), ('b'), ('a')",
	},
	{
		kind:   "unique of several fields",
		before: "code text(9)\n    n integer",
		after:  "code text(9)\n    n integer\n    unique code, n",
		fit:    "('a', 1), ('a', 2)",
		way:    "('a', 1), ('a', 1)",
	},
	{
		kind:   "unique among some rows",
		before: "code text(9)\n    n integer",
		after:  "code text(9)\n    n integer\n    unique code where {n} > 0",
		fit:    "('a', 1), ('a', 0)",
		way:    "('a', 1), ('a', 2)",
	},
	{
		kind:   "unique ignoring case",
		before: "code text(9)",
		after:  "code text(9) unique ignoring case",
		fit:    "('a'), ('b')",
		way:    "('a'), ('A')",
	},
	{
		kind:   "a shorter text",
		before: "label text(20)",
		after:  "label text(3)",
		fit:    "('abc')",
		way:    "('abc'), ('abcd')",
	},
	{kind: "a longer text", before: "label text(3)", after: "label text(20)", fit: "('abc')"},
	{kind: "a smaller number", before: "n integer", after: "n smallint", fit: "(32767)", way: "(1), (32768)"},
	{
		kind:   "a decimal with fewer digits",
		before: "weight decimal(8,3)",
		after:  "weight decimal(8,1)",
		fit:    "(1.5)",
		way:    "(1.5), (1.25)",
	},
	{
		kind:   "a choice with fewer values",
		before: "state choice(dry, wet, lost)",
		after:  "state choice(dry, wet)",
		fit:    "('dry')",
		way:    "('dry'), ('lost')",
		flags:  []string{"--fill", "specimens.state=dry"},
	},
	{kind: "a choice with more values", before: "state choice(dry)", after: "state choice(dry, wet)", fit: "('dry')"},
	{
		kind:   "a check",
		before: "n integer",
		after:  "n integer\n    check whole: {n} % 2 = 0",
		fit:    "(2)",
		way:    "(2), (3)",
	},
	{kind: "a range", before: "n integer", after: "n integer range 1..5", fit: "(5)", way: "(5), (6)"},
	{kind: "nonblank", before: "label text(20)", after: "label text(20) nonblank", fit: "('a')", way: "('a'), ('  ')"},
	{kind: "immutable", before: "code text(9)", after: "code text(9) immutable", fit: "('a')"},
	{kind: "a default", before: "code text(9)", after: "code text(9) default \"x\"", fit: "('a')"},
	{
		kind:   "a reference",
		before: "taxon bigint column \"taxon_id\"",
		after:  "taxon references Taxon",
		fit:    "(1)",
		way:    "(1), (99)",
	},
	{
		kind:   "a reference to another model",
		before: "taxon references Taxon column \"at_id\" optional",
		after:  "taxon references Region column \"at_id\" optional",
		fit:    "(NULL)",
		way:    "(NULL), (1)",
		flags:  []string{"--fill", "specimens.at_id=sql:NULL"},
	},
	{kind: "text becomes integer", before: "v text", after: "v integer", fit: "('12')", way: "('12'), ('012'), ('a')"},
	{kind: "integer becomes text", before: "v integer", after: "v text", fit: "(12)"},
	{
		kind:   "text becomes date",
		before: "v text",
		after:  "v date",
		fit:    "('2026-01-31')",
		way:    "('2026-01-31'), ('31.1.2026')",
	},
	{kind: "date becomes timestamp", before: "v date", after: "v timestamp", fit: "('2026-01-31')"},
	{
		kind:   "timestamp becomes date",
		before: "v timestamp",
		after:  "v date",
		fit:    "('2026-01-31 00:00:00')",
		way:    "('2026-01-31 00:00:00'), ('2026-01-31 10:30:00')",
	},
	{
		kind:   "seconds since 1970 become timestamp",
		before: "v bigint",
		after:  "v timestamp",
		fit:    "(1769853600)",
		way:    "(0), (1769853600000)",
	},
	{
		kind:   "timestamp becomes seconds since 1970",
		before: "v timestamp",
		after:  "v bigint",
		fit:    "('2026-01-31 10:00:00')",
		way:    "('2026-01-31 10:00:00'), ('2026-01-31 10:00:00.500')",
	},
	{kind: "boolean becomes integer", before: "v boolean", after: "v integer", fit: "(true)"},
	{kind: "integer becomes boolean", before: "v integer", after: "v boolean", fit: "(1), (0)", way: "(1), (2)"},
	{kind: "boolean becomes text", before: "v boolean", after: "v text(5)", fit: "(true), (false)"},
	{
		kind:   "text becomes boolean",
		before: "v text",
		after:  "v boolean",
		fit:    "('true'), ('false')",
		way:    "('true'), ('yes')",
	},
	{kind: "text becomes json", before: "v text", after: "v json", fit: "('[1]')", way: "('[1]'), ('[1')"},
	{kind: "json becomes text", before: "v json", after: "v text", fit: "('[1]')"},
	{
		kind:   "integer becomes date",
		before: "v integer optional",
		after:  "v date optional",
		fit:    "(NULL)",
		way:    "(NULL), (7)",
		flags:  []string{"--fill", "specimens.v=sql:date('2026-01-01', v || ' days')"},
		on: map[string][]string{
			"postgres": {"--fill", "specimens.v=sql:date '2026-01-01' + v"},
			"mariadb":  {"--fill", "specimens.v=sql:date '2026-01-01' + interval v day"},
		},
	},
	{
		kind:   "a field is dropped",
		before: "code text(9)\n    note text optional",
		after:  "code text(9)",
		way:    "('a', 'x')",
		flags:  []string{"--drop", "specimens.note"},
	},
	{
		kind:   "a field is renamed",
		before: "code text(9)\n    note text optional",
		after:  "code text(9)\n    remark text optional",
		way:    "('a', 'x')",
		flags:  []string{"--rename", "specimens.note=remark"},
	},
	{
		kind:   "the primary key changes",
		before: "code text(9)",
		after:  "code text(9) key",
		fit:    "('a')",
		way:    "('a'), ('a')",
		flags:  []string{"--drop", "specimens.id"},
	},
	{
		kind:      "a model is dropped",
		before:    "code text(9)",
		after:     "code text(9)",
		afterBase: "model Taxon\n    name text(40)\n\n",
		way:       "('a')",
		flags:     []string{"--drop", "regions"},
	},
	{
		kind:      "a model is renamed",
		before:    "code text(9)",
		after:     "code text(9)",
		afterBase: "model Taxon\n    name text(40)\n\nmodel Area\n    name text(40)\n\n",
		way:       "('a')",
		flags:     []string{"--rename", "regions=areas"},
	},
	{
		kind:   "soft delete is added",
		before: "code text(9) unique",
		after:  "code text(9) unique\n    soft delete with view",
		fit:    "('a')",
	},
	{
		kind:   "soft delete is removed, deleted rows kept aside",
		before: "code text(9) unique\n    soft delete",
		after:  "code text(9) unique",
		fit:    "('a', NULL)",
		way:    "('a', NULL), ('a', '2026-01-31 10:00:00')",
		flags:  []string{"--deleted", "specimens=keep"},
	},
	{
		kind:   "soft delete is removed, deleted rows restored",
		before: "code text(9) unique\n    soft delete",
		after:  "code text(9) unique",
		fit:    "('a', NULL)",
		way:    "('a', NULL), ('a', '2026-01-31 10:00:00')",
		flags:  []string{"--deleted", "specimens=restore"},
	},
	{
		kind:   "a reference row is added, and its primary key is taken",
		before: "code text(9) unique\n    note text optional",
		after:  "code text(9) unique\n    note text optional\n\nrows Specimen by code\n    code  note\n    a     \"dry\"",
		fit:    "('b', 'wet')",
		way:    "('a', 'wet')",
	},
}

// columnsOf are the columns of the lines before, behind the id.
func (c changeCase) columnsOf() string {
	var out []string
	for line := range strings.Lines(c.before) {
		words := strings.Fields(line)
		switch {
		case words[0] == "soft":
			out = append(out, "deleted_at")
		case words[0] == "unique" || words[0] == "check":
		case strings.Contains(line, `column "`):
			_, rest, _ := strings.Cut(line, `column "`)
			name, _, _ := strings.Cut(rest, `"`)
			out = append(out, name)
		default:
			out = append(out, words[0])
		}
	}
	return strings.Join(out, ", ")
}

// begin is a project with the models before the change, and the rows.
func (c changeCase) begin(t *testing.T, place testserver.Place, rows string) *evolving {
	p := evolve(t, place)
	p.write("models/m.erbario", changesBase+"model Specimen\n    "+c.before+"\n")
	p.must("draft", "first")
	p.must("apply")
	if rows != "" {
		p.exec("INSERT INTO taxons (name) VALUES ('Rosa'); INSERT INTO regions (name) VALUES ('North');")
		p.exec("INSERT INTO specimens (" + c.columnsOf() + ") VALUES " + rows + ";")
	}
	p.write("models/m.erbario", cmp.Or(c.afterBase, changesBase)+"model Specimen\n    "+c.after+"\n")
	return p
}

// flagText is flags as one would type them.
func flagText(flags []string) string {
	var out []string
	for i := 0; i+1 < len(flags); i += 2 {
		out = append(out, shellFlag(flags[i]+" "+flags[i+1]))
	}
	return strings.Join(out, " ")
}

var (
	questionText = regexp.MustCompile(`(?m)^question 1: (.*)$`)
	inTheWayText = regexp.MustCompile(`(?m)^blocked: (.*)$`)
	proofText    = regexp.MustCompile(`(?m)^  (not proved.*|it cannot be applied.*)$`)
)

// cell drafts, and tells in a few words what came of it; where it can be drafted,
// or can with the flags, it is applied, undone and applied again.
func (c changeCase) cell(t *testing.T, place testserver.Place, rows string) string {
	p := c.begin(t, place, rows)
	before := p.rows()
	args := []string{"draft", "change"}
	if c.needs && rows != "" {
		args = append(args, c.flags...)
	}
	out, code := p.erbario(args...)
	said := ""
	switch code {
	case exitDone:
		c.roundTrip(p, before)
		return "drafted"
	case exitQuestion:
		said = "asked: " + questionText.FindStringSubmatch(out)[1]
	case exitFailed:
		m := inTheWayText.FindStringSubmatch(out)
		if m == nil {
			m = proofText.FindStringSubmatch(out)
		}
		require.NotNil(t, m, out)
		said = "refused: " + m[1]
	default:
		t.Fatalf("exit %d: %s", code, out)
	}
	require.Equal(t, before, p.rows(), "nothing has changed")
	files, err := filepath.Glob(filepath.Join(p.dir, "migrations", "*-change.*"))
	require.NoError(t, err)
	require.Empty(t, files, "nothing was written")
	if code == exitQuestion && len(c.flags) > 0 {
		if out, code := p.erbario(append([]string{"draft", "change"}, c.flags...)...); code == exitDone {
			said += "; with " + flagText(c.flags) + ": drafted"
			c.roundTrip(p, before)
		} else {
			m := inTheWayText.FindStringSubmatch(out)
			require.NotNil(t, m, out)
			said += "; with " + flagText(c.flags) + ": refused: " + m[1]
		}
	}
	return said
}

// roundTrip applies, undoes and applies again.
func (c changeCase) roundTrip(p *evolving, before string) {
	p.must("apply")
	after := p.rows()
	require.Contains(p.t, p.must("diff"), "matches the models")
	p.must("undo")
	require.Equal(p.t, before, p.rows(), "every row is as it was after the undo")
	p.must("apply")
	require.Equal(p.t, after, p.rows())
}

// elsewhere drafts where there are no rows, and applies where rows are in the
// way.
func (c changeCase) elsewhere(t *testing.T, place testserver.Place) string {
	rows := c.way
	if rows == "" {
		rows = c.fit
	}
	p := c.begin(t, place, "")
	settings, err := os.ReadFile(filepath.Join(p.dir, "erbario.toml"))
	require.NoError(t, err)
	here := *p
	here.url = place.URL(t)
	p.write("erbario.toml", fmt.Sprintf("%s\n[database.other]\nurl = %q\n", settings, here.url))
	p.must("--database", "other", "apply", "--create")
	args := []string{"draft", "change"}
	if c.needs || strings.HasPrefix(strings.Join(c.flags, " "), "--rename") {
		args = append(args, c.flags...)
	}
	if _, code := p.erbario(args...); code != exitDone {
		return "asked even without rows"
	}
	here.exec(
		"INSERT INTO taxons (name) VALUES ('Rosa'); INSERT INTO regions (name) VALUES ('North'); INSERT INTO specimens (" + c.columnsOf() + ") VALUES " + rows + ";",
	)
	before := here.rows()
	out, code := p.erbario("--database", "other", "apply")
	if code == exitDone {
		p.must("--database", "other", "undo")
		require.Equal(t, before, here.rows())
		return "applied"
	}
	require.Equal(t, exitFailed, code, out)
	require.Equal(t, before, here.rows(), "nothing has changed")
	m := inTheWayText.FindStringSubmatch(out)
	require.NotNil(t, m, out)
	return "refused: " + m[1]
}

func TestChanges(t *testing.T) {
	testserver.Each(t, func(t *testing.T, place testserver.Place) {
		page := "changes.md"
		if place.Name != "sqlite" {
			page = "changes-" + place.Name + ".md"
		}
		changesPage(t, place, page)
	})
}

func changesPage(t *testing.T, place testserver.Place, page string) {
	var b strings.Builder
	b.WriteString("# What every change does to rows")
	if place.Name != "sqlite" {
		b.WriteString(" (" + place.Name + ")")
	}
	b.WriteString(
		"\n\nWhat happens to existing rows when a model changes. Written by `TestChanges` from its table of cases; every cell is a test. *Drafted* means: proved, applied, undone with every row as it was, and applied again. *Asked*: exit 4, nothing written. *Refused*: exit 1, with the rows, nothing written.\n\n" + exampleOf(
			t,
			filepath.Join("..", "..", "docs", page),
		) + "The last column is the migration that was drafted without rows, on another database whose rows block it. *Cannot occur*: no rows can be of that kind.\n\n",
	)
	b.WriteString(
		"| change | no rows | rows that fit | rows that block it | applied elsewhere, with rows that block it |\n|---|---|---|---|---|\n",
	)
	type result struct{ cells [4]string }
	results := make([]result, len(changeCases))
	update := os.Getenv("UPDATE_CHANGES") != ""
	t.Run("cells", func(t *testing.T) {
		for i, c := range changeCases {
			if !place.Turn(i) && !update {
				continue
			}
			if own, ok := c.on[place.Name]; ok {
				c.flags = own
			}
			run := func(n int, name string, f func(t *testing.T) string) {
				t.Run(c.kind+"/"+name, func(t *testing.T) {
					t.Parallel()
					results[i].cells[n] = f(t)
				})
			}
			run(0, "no rows", func(t *testing.T) string { return c.cell(t, place, "") })
			if c.fit != "" {
				run(1, "rows that fit", func(t *testing.T) string { return c.cell(t, place, c.fit) })
			}
			if c.way != "" {
				run(2, "rows that block it", func(t *testing.T) string { return c.cell(t, place, c.way) })
			}
			run(3, "elsewhere", func(t *testing.T) string { return c.elsewhere(t, place) })
		}
	})
	path := filepath.Join("..", "..", "docs", page)
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	for i, c := range changeCases {
		if !place.Turn(i) && !update { // the row that the page has
			_, row, _ := strings.Cut(string(have), "\n| "+c.kind+" |")
			row, _, _ = strings.Cut(row, "\n")
			fmt.Fprintf(&b, "| %s |%s\n", c.kind, row)
			continue
		}
		cells := results[i].cells
		if c.fit == "" {
			cells[1] = "cannot occur"
		}
		if c.way == "" {
			cells[2] = "cannot occur"
		}
		fmt.Fprintf(&b, "| %s | %s |\n", c.kind, strings.Join(cells[:], " | "))
	}
	if update {
		require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o644))
		return
	}
	require.Equal(t, string(have), b.String(),
		"docs/%s is as the cells turn out: UPDATE_CHANGES=1 writes it again, and read what changed", page)
}
