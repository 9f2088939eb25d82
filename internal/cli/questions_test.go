package cli

// One table of cases: every question that a draft asks, and every refusal that names its
// way on. Each answer that is offered is taken to the end on every engine: drafted,
// applied, undone with every row as it was, and applied again. docs/questions.md is
// written from it (UPDATE_QUESTIONS=1).

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/engines"
	"erbario/internal/testserver"
)

// questionCase is one question: the models before and after the change that brings it up,
// and what is said where an answer leaves something to say.
type questionCase struct {
	about         string
	before, after string
	rows          string            // SQL
	hand          string            // SQL by hand, before the change
	change        []string          // the command, if not draft change
	last          string            // the models of a second migration, which the command drafts again
	lastRows      string            // SQL, once that is applied
	lost          bool              // an answer gives values up
	servers       bool              // it is asked on servers alone
	value         string            // for VALUE
	expression    string            // for EXPRESSION
	on            map[string]string // the expression on one engine instead
	then          []string          // answers to what is asked after the first answer
}

var questionCases = []questionCase{
	{
		about:      "a new required field",
		before:     "model Bell\n  tone text(9)\n",
		after:      "model Bell\n  tone text(9)\n  weight integer\n",
		rows:       "INSERT INTO bells (tone) VALUES ('a'), ('b')",
		value:      "7",
		expression: "length({tone}) + 1",
	},
	{
		about:      "a new required field, and one like it is dropped",
		before:     "model Bell\n  tone text(9)\n  cast_by text(9)\n",
		after:      "model Bell\n  tone text(9)\n  maker text(9)\n",
		rows:       "INSERT INTO bells (tone, cast_by) VALUES ('a', 'x')",
		value:      "Ada",
		expression: "upper({tone})",
		then:       []string{"--drop", "bells.cast_by"},
	},
	{
		about:      "a field that becomes required",
		before:     "model Bell\n  tone text(9) optional\n",
		after:      "model Bell\n  tone text(9)\n",
		rows:       "INSERT INTO bells (tone) VALUES ('a'), (NULL)",
		value:      "none",
		expression: "'b'",
	},
	{
		about:  "a field that is dropped",
		before: "model Bell\n  tone text(9)\n  built text(9)\n  weight integer optional\n",
		after:  "model Bell\n  tone text(9)\n  weight integer optional\n",
		rows:   "INSERT INTO bells (tone, built, weight) VALUES ('a', 'x', 1), ('b', 'y', 2)",
	},
	{
		about:  "a field that is dropped, and another that is added",
		before: "model Bell\n  tone text(9)\n  v integer optional\n  n integer optional\n",
		after:  "model Bell\n  tone text(9)\n  vv integer optional\n  v integer optional\n",
		rows:   "INSERT INTO bells (tone, v, n) VALUES ('a', 1, 2)",
	},
	{
		about:  "a model that is dropped, and another that is added",
		before: "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n",
		after:  "model Bell\n  tone text(9)\n\nmodel Tower\n  name text(9)\n",
		rows:   "INSERT INTO gates (name) VALUES ('north')",
	},
	{
		about:  "two models that are declared as the other was",
		before: "model Bell\n  tone text(9)\n\nmodel Gate\n  tone text(9)\n  wide integer optional\n",
		after:  "model Gate\n  tone text(9)\n\nmodel Bell\n  tone text(9)\n  wide integer optional\n",
		rows:   "INSERT INTO bells (tone) VALUES ('a'); INSERT INTO gates (tone, wide) VALUES ('g', 3)",
	},
	{
		about:      "a type without one way to convert it",
		before:     "model Bell\n  tone text(9)\n  cast_by integer optional\n",
		after:      "model Bell\n  tone text(9)\n  cast_by date optional\n",
		rows:       "INSERT INTO bells (tone, cast_by) VALUES ('a', 20)",
		expression: "date('2026-01-01')",
		on: map[string]string{
			"postgres": "date '2026-01-01' + {cast_by}",
			"mariadb":  "date '2026-01-01' + interval {cast_by} day",
		},
	},
	{about: "a text that is too long", before: "model Bell\n  tone text(9)\n", after: "model Bell\n  tone text(3)\n",
		rows: "INSERT INTO bells (tone) VALUES ('a'), ('abcd')", value: "x"},
	{
		about:  "a decimal with too many digits",
		before: "model Bell\n  weight decimal(8,3)\n",
		after:  "model Bell\n  weight decimal(8,1)\n",
		rows:   "INSERT INTO bells (weight) VALUES (1.5), (1.125)",
		value:  "1",
	},
	{about: "values that do not convert", before: "model Bell\n  tone text(9)\n", after: "model Bell\n  tone integer\n",
		rows: "INSERT INTO bells (tone) VALUES ('12'), ('a')", value: "1", expression: "length({tone})"},
	{
		about:      "a value of a choice that is dropped",
		before:     "model Bell\n  state choice(dry, wet, lost)\n",
		after:      "model Bell\n  state choice(dry, wet, found)\n",
		rows:       "INSERT INTO bells (state) VALUES ('dry'), ('lost')",
		expression: "'wet'",
	},
	{
		about:      "a reference to another model",
		before:     "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n\nmodel Rope\n  at references Bell column \"at_id\" optional\n",
		after:      "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n\nmodel Rope\n  at references Gate column \"at_id\" optional\n",
		rows:       "INSERT INTO bells (tone) VALUES ('a'); INSERT INTO gates (name) VALUES ('north'); INSERT INTO ropes (at_id) VALUES (1)",
		expression: "(SELECT min(id) FROM gates)",
	},
	{
		about:  "soft delete that is removed",
		before: "model Bell\n  tone text(9)\n  soft delete\n",
		after:  "model Bell\n  tone text(9)\n",
		rows:   "INSERT INTO bells (tone, deleted_at) VALUES ('a', NULL), ('b', '2026-01-31 10:00:00')",
	},
	{
		about:  "a field that becomes generated",
		before: "model Bell\n  n integer\n  twice integer\n",
		after:  "model Bell\n  n integer\n  twice integer generated stored as {n} * 2\n",
		rows:   "INSERT INTO bells (n, twice) VALUES (1, 5)",
	},
	{
		about:      "a value of a choice that is dropped, with an enum type where the engine has them",
		before:     "choice State as enum: dry, wet, lost\n\nmodel Bell\n  state State\n",
		after:      "choice State as enum: dry, wet, found\n\nmodel Bell\n  state State\n",
		rows:       "INSERT INTO bells (state) VALUES ('dry'), ('lost')",
		expression: "'wet'",
	},
	{
		about:  "the primary key that is dropped",
		before: "model Bell\n  word text(9) unique\n",
		after:  "model Bell\n  word text(9) key\n",
		rows:   "INSERT INTO bells (word) VALUES ('a'), ('b')",
	},
	{
		about:  "a field that is dropped, in a table without a primary key",
		before: "model Bell\n  tone text(9)\n  built text(9) optional\n  no key\n",
		after:  "model Bell\n  tone text(9)\n  no key\n",
		rows:   "INSERT INTO bells (tone, built) VALUES ('a', 'x')",
		lost:   true,
	},
	{
		about:      "a field that becomes required, in a table without a primary key",
		before:     "model Bell\n  tone text(9)\n  built text(9) optional\n  no key\n",
		after:      "model Bell\n  tone text(9)\n  built text(9)\n  no key\n",
		rows:       "INSERT INTO bells (tone, built) VALUES ('a', 'x'), ('b', NULL)",
		value:      "y",
		expression: "tone",
		lost:       true,
	},
	{
		about:  "a table that is dropped, with a column not created by a migration",
		before: "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n",
		after:  "model Bell\n  tone text(9)\n",
		rows:   "INSERT INTO gates (name) VALUES ('north')",
		hand:   "ALTER TABLE gates ADD COLUMN byhand integer; UPDATE gates SET byhand = 3",
	},
	{
		about:  "a table that is copied, with a column not created by a migration",
		before: "model Bell\n  tone text(9)\n",
		after:  "model Bell\n  tone text(3)\n",
		rows:   "INSERT INTO bells (tone) VALUES ('a')",
		hand:   "ALTER TABLE bells ADD COLUMN byhand integer; UPDATE bells SET byhand = 3",
	},
	{
		about:      "a required field in two steps",
		servers:    true,
		change:     []string{"draft", "change", "--staged"},
		before:     "model Bell\n  tone text(9)\n",
		after:      "model Bell\n  tone text(9)\n  weight integer\n",
		rows:       "INSERT INTO bells (tone) VALUES ('a'), ('b')",
		value:      "7",
		expression: "length({tone}) + 1",
	},
	{
		about:    "a renamed table of the redrafted migration",
		change:   []string{"redraft"},
		before:   "model Bell\n  tone text(9)\n",
		last:     "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n",
		after:    "model Bell\n  tone text(9)\n\nmodel Tower\n  name text(9)\n",
		rows:     "INSERT INTO bells (tone) VALUES ('a')",
		lastRows: "INSERT INTO gates (name) VALUES ('north')",
	},
	{
		about:    "a renamed field of the redrafted migration",
		change:   []string{"redraft"},
		before:   "model Bell\n  tone text(9)\n",
		last:     "model Bell\n  tone text(9)\n  weight integer optional\n",
		after:    "model Bell\n  tone text(9)\n  mass integer optional\n",
		rows:     "INSERT INTO bells (tone) VALUES ('a')",
		lastRows: "UPDATE bells SET weight = 4",
	},
	{
		about:      "a field of the redrafted migration, with another type",
		change:     []string{"redraft"},
		before:     "model Bell\n  tone text(9)\n",
		last:       "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n",
		after:      "model Bell\n  tone text(9)\n\nmodel Gate\n  name integer\n",
		rows:       "INSERT INTO bells (tone) VALUES ('a')",
		lastRows:   "INSERT INTO gates (name) VALUES ('north')",
		expression: "length(name)",
	},
	{
		about:      "a choice of the redrafted migration, which has fewer values",
		change:     []string{"redraft"},
		before:     "model Bell\n  tone text(9)\n",
		last:       "model Bell\n  tone text(9)\n\nmodel Gate\n  state choice(open, shut, lost)\n",
		after:      "model Bell\n  tone text(9)\n\nmodel Gate\n  state choice(open, shut)\n",
		rows:       "INSERT INTO bells (tone) VALUES ('a')",
		lastRows:   "INSERT INTO gates (state) VALUES ('lost'), ('open')",
		value:      "shut",
		expression: "'open'",
	},
	{
		about:      "a required field of the redrafted migration",
		change:     []string{"redraft"},
		before:     "model Bell\n  tone text(9)\n",
		last:       "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n",
		after:      "model Bell\n  tone text(9)\n\nmodel Gate\n  name text(9)\n  wide integer\n",
		rows:       "INSERT INTO bells (tone) VALUES ('a')",
		lastRows:   "INSERT INTO gates (name) VALUES ('north')",
		value:      "4",
		expression: "length(name)",
	},
}

// command is what brings the question up, with flags behind it.
func (c questionCase) command(flags ...string) []string {
	if c.change == nil {
		return append([]string{"draft", "change"}, flags...)
	}
	return append(slices.Clone(c.change), flags...)
}

// asked are the answers that a draft offers to its first question, or to what is in
// its way; none where it drafts.
func (c questionCase) asked(p *evolving, flags []string) (text string, answers []string, words []string) {
	var out bytes.Buffer
	code := Main(engines.All(), append([]string{"erbario", "-C", p.dir, "--format", "json"}, c.command(flags...)...),
		strings.NewReader(""), &out, &bytes.Buffer{})
	if code == exitDone {
		return "", nil, nil
	}
	var doc struct {
		Questions []jsonQuestion `json:"questions"`
		InTheWay  []jsonWay      `json:"blocking"`
	}
	require.NoError(p.t, json.Unmarshal(out.Bytes(), &doc), out.String())
	said, _ := p.erbario(c.command(flags...)...)
	switch {
	case len(doc.Questions) > 0:
		text, answers = doc.Questions[0].Text, doc.Questions[0].Flags
	case len(doc.InTheWay) > 0:
		text, answers = doc.InTheWay[0].Sentence, doc.InTheWay[0].Flags
	}
	require.NotEmpty(p.t, answers, "a way on: %s", said)
	for _, a := range answers {
		for line := range strings.Lines(said) {
			if rest, ok := strings.CutPrefix(strings.TrimSpace(line), a+" "); ok {
				words = append(words, strings.TrimSpace(rest))
				break
			}
		}
	}
	require.Len(p.t, words, len(answers), said)
	return text, answers, words
}

// begin is a project with the models before, the rows, and the models after.
func (c questionCase) begin(t *testing.T, place testserver.Place) *evolving {
	p := evolve(t, place)
	p.write("models/m.erbario", c.before)
	p.must("draft", "first", "--apply")
	p.exec(c.rows + ";")
	if c.hand != "" {
		p.exec(c.hand + ";")
	}
	if c.last != "" {
		p.write("models/m.erbario", c.last)
		p.must("draft", "last", "--apply")
		p.exec(c.lastRows + ";")
	}
	p.write("models/m.erbario", c.after)
	return p
}

// flags are an answer with what it leaves to say.
func (c questionCase) flags(answer, engine string) []string {
	var out []string
	for _, flag := range strings.Split(strings.TrimPrefix(answer, "--"), " --") {
		name, value, _ := strings.Cut(flag, " ")
		value = strings.ReplaceAll(strings.Trim(value, "'"), "EXPRESSION", cmp.Or(c.on[engine], c.expression))
		out = append(out, "--"+name, strings.ReplaceAll(value, "=VALUE", "="+c.value))
	}
	return out
}

// end takes one answer to its end; whole: all is proved again, too. It returns what was
// asked after the answer, as the page has it.
func (c questionCase) end(t *testing.T, place testserver.Place, answer string, whole bool) (later string) {
	p := c.begin(t, place)
	before := p.rows()
	if c.last != "" { // what it was before the migration that is drafted again
		p.write("models/m.erbario", c.before)
		p.must("undo")
		before = p.rows()
		p.must("apply")
		p.write("models/m.erbario", c.after)
	}
	flags := c.flags(answer, place.Name)
	for n := 0; ; n++ {
		text, more, words := c.asked(p, flags)
		if more == nil {
			break
		}
		later += section("Then: ", text, more, words)
		require.Less(t, n, 4, "%v is answered: %v", flags, more)
		next := c.flags(more[0], place.Name)
		if c.then != nil && n == 0 {
			next = c.then
		}
		flags = append(flags, next...)
	}
	p.must("apply")
	if c.servers {
		p.must("apply", "--at-once") // the second of two steps
	}
	require.Contains(t, p.must("diff"), "matches the models")
	if list, _ := filepath.Glob(filepath.Join(p.dir, "migrations", "*-change.*")); len(list) == 0 && c.last == "" {
		require.Equal(t, before, p.rows())
		return later // the models are as they were, and nothing is to be drafted
	}
	after := p.rows()
	if whole {
		p.must("prove", "--all")
	}
	if c.lost || strings.Contains(answer, "purge") {
		return later // permanently, as it says
	}
	p.must("undo", "--to", "first")
	require.Equal(t, before, p.rows(), "every row is as it was after the undo of %v", flags)
	p.must("apply")
	if c.servers {
		p.must("apply", "--at-once")
	}
	require.Equal(t, after, p.rows(), "and forward again")
	return later
}

// section is a question on the page.
func section(head, text string, answers, words []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s*%s*\n\n| answer | |\n|---|---|\n", head, text)
	for n, answer := range answers {
		fmt.Fprintf(&b, "| `%s` | %s |\n", answer, words[n])
	}
	return b.String() + "\n"
}

func TestQuestions(t *testing.T) {
	pages := make([]string, len(questionCases))
	testserver.Each(t, func(t *testing.T, place testserver.Place) {
		t.Run("answers", func(t *testing.T) {
			for i, c := range questionCases {
				if c.servers && place.Name == "sqlite" {
					continue
				}
				t.Run(c.about, func(t *testing.T) {
					t.Parallel()
					text, answers, words := c.asked(c.begin(t, place), nil)
					require.False(t, answers == nil && place.Name == "sqlite", "it is asked")
					if answers == nil {
						return
					}
					page := "\n## " + upperFirst(c.about) + "\n" + section("", text, answers, words)
					for n, answer := range answers {
						if n > 0 && !c.servers && !place.Turn(i) {
							break // the others on the other server, and all of them where the whole is asked for
						}
						if later := c.end(t, place, answer, n == 0 || place.Name == "sqlite"); !strings.Contains(page,
							later) {
							page += later
						}
					}
					if place.Name == "sqlite" || c.servers && place.Name == "postgres" {
						pages[i] = strings.TrimSuffix(page, "\n")
					}
				})
			}
		})
	})
	if !t.Failed() && !slices.Contains(pages, "") { // on all engines
		page := "# Every question, and its answers\n\nEvery question that a draft can ask, with the flags that answer it. Written by `TestQuestions` from its table of cases. Each answer is taken to its end on SQLite, PostgreSQL and MariaDB: drafted, applied, undone with every row as it was (unless rows are purged), and applied again. The words are those of SQLite. Without a terminal, a draft ends with 4 at a question and with 1 if rows block it, writes nothing, and names these flags; at a terminal it asks.\n\n" + exampleOf(
			t,
			filepath.Join("..", "..", "docs", "questions.md"),
		) + strings.TrimPrefix(strings.Join(pages, ""), "\n")
		path := filepath.Join("..", "..", "docs", "questions.md")
		if os.Getenv("UPDATE_QUESTIONS") != "" {
			require.NoError(t, os.WriteFile(path, []byte(page), 0o644))
		}
		have, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, string(have), page,
			"docs/questions.md is as the cases turn out: UPDATE_QUESTIONS=1 writes it again, and read what changed")
	}
}
