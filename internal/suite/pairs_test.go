// Package suite holds the tests that run the whole way from models to a
// database and back, the same for every engine.
package suite

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// TestMain lets the checks of a change try the same cases each time; campaigns look
// further.
func TestMain(m *testing.M) {
	if os.Getenv("CI") != "" {
		if err := flagSet("rapid.seed", "1"); err != nil {
			panic(err)
		}
	}
	testserver.Main(m)
}

func wanted(t require.TestingT, e engine.Engine, src string) *sqlschema.Schema {
	src, inSQL, _ := strings.Cut(src, sqlPart)
	f, diags := lang.Parse("models/test.erbario", src)
	require.Empty(t, diags, src)
	d, diags := declare.Resolve([]*lang.File{f}, rules(e), e.Name())
	require.False(t, lang.Errors(diags), "%v\n%s", diags, src)
	s, _ := e.DDL().Lower(d.Schema)
	list, diags := objects.Parse(e.SQL(), "models/test.sql", inSQL, d.Schema)
	require.Empty(t, diags, inSQL)
	s.Objects = list
	return s
}

// sqlPart stands between models and what is declared in SQL.
const sqlPart = "\n-- SQL\n"

// answered drafts, and answers every question: a loss may go, and a value is worked
// out that the column takes.
func answered(t require.TestingT, ctx context.Context, s *draft.State, r *rand.Rand) *draft.Draft {
	d, err := answering(t, ctx, s, r)
	if c, ok := t.(interface{ Skip(args ...any) }); ok && err != nil &&
		(strings.Contains(err.Error(), "Draft it in two migrations") ||
			strings.Contains(err.Error(), "write that name in the expression")) {
		c.Skip("what the fills read is taken away by the others, which no order could do, or gets another name")
	}
	require.NoError(t, err)
	return d
}

func answering(t require.TestingT, ctx context.Context, s *draft.State, r *rand.Rand) (*draft.Draft, error) {
	d, stuck, err := answeringBy(t, ctx, s, r, true)
	if stuck { // names that went together could not be answered with those that are left
		d, _, err = answeringBy(t, ctx, s, r, false)
	}
	return d, err
}

// answeringBy gives one of its answers to each question; without renames, none that gives
// a column or a table another name.
func answeringBy(t require.TestingT, ctx context.Context, s *draft.State, r *rand.Rand,
	renames bool) (d *draft.Draft, stuck bool, err error) {
	out := plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{}, Deleted: map[string]plan.DeletedRows{}}
	for tries := 0; ; tries++ {
		d, err := s.Make(ctx, draft.Request{Title: "change", Answers: out, Now: time.Now(), Rows: true})
		if err != nil && renames && strings.Contains(err.Error(), "matches no") { // since another answer came
			return nil, true, nil
		}
		if err != nil || len(d.Plan.Questions) == 0 || tries == 12 {
			return d, false, err
		}
		for _, q := range d.Plan.Questions {
			choices := slices.DeleteFunc(slices.Clone(q.Choices), func(c plan.Choice) bool {
				names := slices.DeleteFunc(slices.Clone(c.Flags), func(flag string) bool {
					key, is := strings.CutPrefix(flag, "--rename ")
					return !is || read(key).Value != ""
				})
				return strings.HasPrefix(c.Flags[0], "--default") || strings.HasPrefix(c.Flags[0], "--optional") ||
					renamed(out, c) || len(names) > 0 && !renames || slices.ContainsFunc(names,
					func(flag string) bool { return !likely(s, read(strings.TrimPrefix(flag, "--rename "))) })
			})
			if len(choices) == 0 {
				return d, true, nil
			}
			for _, flag := range choices[r.IntN(len(choices))].Flags {
				name, key, _ := strings.Cut(strings.TrimPrefix(flag, "--"), " ")
				switch name {
				case "drop":
					out.Drop[key] = true
				case "fill":
					table, column := cutTable(q.About)
					w := s.Wanted.Table(table)
					out.Fill[q.About] = fill(t, s, w, w.Column(column), r, out)
				case "rename":
					out.Rename = append(out.Rename, read(key))
				case "deleted":
					out.Deleted[q.About] = []plan.DeletedRows{plan.Keep, plan.Restore}[r.IntN(2)]
				}
			}
		}
	}
}

// likely tells whether a column is of the same kind under its new name.
func likely(s *draft.State, r plan.Rename) bool {
	was, now := s.Upcoming.Table(r.Table), s.Wanted.Table(r.Table)
	if r.Column == "" || was == nil || now == nil {
		return r.Column == ""
	}
	reference := func(t *sqlschema.Table, column string) string {
		for _, k := range t.ForeignKeys {
			if slices.Contains(k.Columns, column) {
				return k.Table
			}
		}
		return ""
	}
	c, o := was.Column(r.Column), now.Column(r.To)
	return c != nil && o != nil && c.SQLType == o.SQLType && c.Type.Kind == o.Type.Kind && c.Generated == nil &&
		o.Generated == nil && reference(was, c.Name) == reference(now, o.Name)
}

// read is a rename as its flag says it.
func read(key string) plan.Rename {
	names, to, _ := strings.Cut(key, "=")
	table, rest := cutTable(names)
	column, value, _ := strings.Cut(rest, ".")
	return plan.Rename{Table: table, Column: column, Value: value, To: to}
}

// renamed tells whether an answer to another question has one of the names of a choice.
func renamed(out plan.Answers, c plan.Choice) bool {
	return slices.ContainsFunc(c.Flags, func(flag string) bool {
		if key, is := strings.CutPrefix(flag, "--drop "); is {
			return slices.ContainsFunc(out.Rename,
				func(o plan.Rename) bool { return o.Value == "" && strings.Trim(o.Table+"."+o.Column, ".") == key })
		}
		key, is := strings.CutPrefix(flag, "--rename ")
		n := read(key)
		if is && n.Value == "" && out.Drop[strings.Trim(n.Table+"."+n.Column, ".")] {
			return true
		}
		return is && slices.ContainsFunc(out.Rename, func(o plan.Rename) bool {
			return o.Table == n.Table && o.Column == n.Column &&
				(o.Value == n.Value || n.Value != "" && o.To == n.To) ||
				o.To == n.To && (o.Table == n.Table || n.Column == "") && n.Value == ""
		})
	})
}

// fill is a value that the column takes.
func fill(t require.TestingT, s *draft.State, table *sqlschema.Table, c *sqlschema.Column, r *rand.Rand,
	said plan.Answers) plan.Fill {
	e := s.Engine
	for _, k := range table.ForeignKeys {
		if k.Columns[0] == c.Name {
			if s.Upcoming.Table(k.Table) == nil {
				return plan.Fill{SQL: "NULL"} // no row to refer to: it cannot be done
			}
			return plan.Fill{
				SQL: fmt.Sprintf("(SELECT min(%s) FROM %s)", e.SQL().Quote(k.References[0]), e.SQL().QuoteTable(k.Table)),
			}
		}
	}
	text := map[schema.Kind]string{
		schema.Text: "new", schema.Smallint: "4", schema.Integer: "5", schema.Bigint: "6", schema.Decimal: "1.5",
		schema.Real: "0.5", schema.Double: "2.5", schema.Boolean: "true",
		schema.Date: "2026-02-03", schema.Time: "10:00:00", schema.Timestamp: "2026-02-03 10:00:00",
		schema.Datetime: "2026-02-03 10:00:00",
		schema.UUID:     "0190b6c4-5a3e-7c11-9d2f-3b8a6e4c7d01", schema.JSON: "[]",
	}[c.Type.Kind]
	v := schema.Value{Kind: schema.TextValue, Text: text}
	switch {
	case c.Type.Kind == schema.Choice:
		v.Text = c.Type.Choices[r.IntN(len(c.Type.Choices))]
	case c.Type.Kind == schema.Bytes:
		return plan.Fill{SQL: e.SQL().Candidates(&sqlschema.Table{}, c)[0], Literal: true}
	case c.Type.Kind.Number():
		v.Kind = schema.NumberValue
	case c.Type.Kind == schema.Boolean:
		v.Kind = schema.BooleanValue
	}
	sql, err := e.SQL().Literal(v, c.Type)
	require.NoError(t, err)
	if from := moved(s, table, c, said); from != "" && r.IntN(2) == 0 {
		return plan.Fill{SQL: "coalesce(" + from + ", " + sql + ")"}
	}
	return plan.Fill{SQL: sql, Literal: true}
}

// moved is a value for c that is read from a column which goes from another table, or "".
func moved(s *draft.State, table *sqlschema.Table, c *sqlschema.Column, said plan.Answers) string {
	if !c.Type.Kind.Number() && c.Type.Kind != schema.Date && c.Type.Kind != schema.Text {
		return ""
	}
	for _, o := range s.Upcoming.Tables {
		if o.Name == table.Name || schema.Own(o.Name) {
			continue
		}
		stays := s.Wanted.Table(o.Name)
		for _, goes := range o.Columns {
			if (stays == nil || stays.Column(goes.Name) == nil) && goes.NotNull && goes.SQLType == c.SQLType &&
				!slices.ContainsFunc(o.ForeignKeys,
					func(k *sqlschema.ForeignKey) bool { return k.Columns[0] == goes.Name }) {
				now, column := said.After(o.Name, goes.Name)
				return fmt.Sprintf("(SELECT min(%s) FROM %s)", s.Engine.SQL().Quote(column),
					s.Engine.SQL().QuoteTable(now))
			}
		}
	}
	return ""
}

// insert puts a few rows into every table; what the engine refuses is left out.
func insert(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database, s *sqlschema.Schema,
	r *rand.Rand, n int) {
	require.NoError(t, db.EnforceReferences(ctx, true))
	for range 3 { // references find more parents each time
		for _, table := range s.Tables {
			if schema.Own(table.Name) {
				continue
			}
			parents := map[string][]string{} // by column: the values that it can refer to
			for _, k := range table.ForeignKeys {
				rows, err := db.Sample(ctx,
					fmt.Sprintf("SELECT %s FROM %s", e.SQL().Quote(k.References[0]), e.SQL().QuoteTable(k.Table)), 50)
				require.NoError(t, err)
				for _, row := range rows.Values {
					parents[k.Columns[0]] = append(parents[k.Columns[0]], row[0])
				}
			}
			for range n {
				var names, values []string
				for _, c := range table.Columns {
					if c.Generated != nil || c.Identity {
						continue
					}
					v := "NULL"
					fk := slices.IndexFunc(table.ForeignKeys,
						func(k *sqlschema.ForeignKey) bool { return k.Columns[0] == c.Name })
					if fk >= 0 {
						if there := parents[c.Name]; len(there) > 0 {
							v = there[r.IntN(len(there))]
						}
					} else {
						list := e.SQL().Candidates(table, c)
						v = list[r.IntN(len(list))]
					}
					names, values = append(names, e.SQL().Quote(c.Name)), append(values, v)
				}
				db.Exec(
					ctx,
					fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", e.SQL().QuoteTable(table.Name), strings.Join(names, ", "),
						strings.Join(values, ", ")),
				)
			}
		}
	}
	require.NoError(t, db.EnforceReferences(ctx, false))
}

// dump is every row of every table but the tool's own.
func dump(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database) map[string][]string {
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	out := map[string][]string{}
	for _, table := range s.Tables {
		if schema.Own(table.Name) {
			continue
		}
		var names []string
		for _, c := range table.Columns {
			names = append(names, e.SQL().Quote(c.Name))
		}
		slices.Sort(names)
		rows, err := db.Sample(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+e.SQL().QuoteTable(table.Name), 0)
		require.NoError(t, err)
		list := []string{}
		for _, row := range rows.Values {
			list = append(list, strings.Join(rows.Columns, ", ")+": "+strings.Join(row, ", "))
		}
		slices.Sort(list)
		out[table.Name] = list
	}
	return out
}

// drafted is what is drafted for the way to the models.
func drafted(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database, src string,
	files []*migration.Migration, r *rand.Rand) *draft.Draft {
	s, err := draft.Look(ctx, e, db,
		func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, src), files, nil })
	require.NoError(t, err)
	s.InUse = e.Caps().Journal && r.IntN(2) == 0 // half of the changes are made for tables that are in use
	d := answered(t, ctx, s, r)
	if slices.ContainsFunc(d.Plan.Questions,
		func(q plan.Question) bool { return strings.HasPrefix(q.Text, "the value ") }) {
		return d // two values go where one comes
	}
	for _, q := range d.Plan.Questions {
		require.Empty(t, q.Choices, "a question that was answered: %s", q.Text)
	}
	if d.Migration == nil {
		return d
	}
	if slices.ContainsFunc(d.Outcome.Differ, func(said string) bool { return unfilled(d.Migration, said) }) {
		d.InTheWay = append(d.InTheWay, plan.InTheWay{})
		return d
	}
	require.Empty(t, d.Outcome.Differ, "the proof of\n%s", d.Migration.Text)
	return d
}

// unfilled tells whether a fill that reads a table whose deleted rows are put aside found
// none left: seen by the proof, or at its step, and nothing is changed.
func unfilled(m *migration.Migration, said string) bool {
	aside := slices.ContainsFunc(m.Steps, func(s migration.Step) bool {
		return slices.ContainsFunc(s.Loses, func(l engine.Loss) bool { return l.Deleted })
	})
	return aside &&
		(strings.Contains(said, "NOT NULL constraint failed") || strings.Contains(said, "contains null values") ||
			strings.Contains(said, "_there\"") || strings.Contains(said, "references would point to no row"))
}

// step drafts and applies the way to the models; it returns what was drafted.
func step(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database, src string,
	files []*migration.Migration, r *rand.Rand) (*draft.Draft, []*migration.Migration) {
	d := drafted(t, ctx, e, db, src, files, r)
	if d.Migration == nil || len(d.Plan.Questions) > 0 || len(d.InTheWay) > 0 {
		return d, files
	}
	files = append(files, d.Migration)
	_, err := runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
	var here *runner.InTheWay // what of a renamed table is only asked at its step
	if errors.As(err, &here) && strings.HasPrefix(d.Migration.Steps[0].Title, "rename ") {
		d.InTheWay = append(d.InTheWay, plan.InTheWay{})
		return d, files[:len(files)-1]
	}
	if err != nil && unfilled(d.Migration, err.Error()) {
		d.InTheWay = append(d.InTheWay, plan.InTheWay{})
		return d, files[:len(files)-1]
	}
	require.NoError(t, err, "applying\n%s", d.Migration.Text)
	return d, files
}

// untouched are, by table, the columns that are the same in a, live and as it was
// declared, and in b: no change of anything else may touch their values.
func untouched(a, declared, b *sqlschema.Schema) map[string][]string {
	out := map[string][]string{}
	for _, x := range a.Tables {
		y := b.Table(x.Name)
		if y == nil || schema.Own(x.Name) {
			continue
		}
		reference := func(t *sqlschema.Table, column string) string {
			for _, k := range t.ForeignKeys {
				if k.Columns[0] == column {
					return k.Table
				}
			}
			return ""
		}
		for _, c := range x.Columns {
			if o := y.Column(c.Name); o != nil && o.SQLType == c.SQLType &&
				slices.Equal(o.Type.Choices, declared.Table(x.Name).Column(c.Name).Type.Choices) &&
				o.NotNull == c.NotNull && c.Generated == nil && o.Generated == nil &&
				reference(x, c.Name) == reference(y, c.Name) {
				out[x.Name] = append(out[x.Name], c.Name)
			}
		}
	}
	return out
}

func selected(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database,
	columns map[string][]string) map[string][][]string {
	out := map[string][][]string{}
	for table, list := range columns {
		var names []string
		for _, c := range list {
			names = append(names, e.SQL().Quote(c))
		}
		rows, err := db.Sample(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+e.SQL().QuoteTable(table)+" ORDER BY 1", 0)
		require.NoError(t, err)
		out[table] = rows.Values
	}
	return out
}

// differences are those between what is there and what is declared, in the server's
// own words.
func differences(t require.TestingT, ctx context.Context, db engine.Database,
	live, wanted *sqlschema.Schema) []diff.Change {
	require.NoError(t, engine.Canonicalize(ctx, db, wanted, live))
	return diff.Schemas(live, wanted)
}

// pair takes a database from A to B, back, and forward again, with rows.
func pair(t *rapid.T, p testserver.Place) {
	ctx := context.Background()
	a := derived(t, drawSchema(t))
	b := derived(t, evolve(t, a))
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
	e := p.Engine
	db := p.Open(t)
	defer db.Close()

	_, files := step(t, ctx, e, db, text(a), nil, r)
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, db, live, wanted(t, e, text(a))), "right after an apply the diff is empty")
	insert(t, ctx, e, db, live, r, rapid.IntRange(0, 3).Draw(t, "rows"))
	before := dump(t, ctx, e, db)

	same := untouched(live, wanted(t, e, text(a)), wanted(t, e, text(b)))
	values := selected(t, ctx, e, db, same)
	d, files := step(t, ctx, e, db, text(b), files, r)
	if d.Migration == nil || len(d.InTheWay) > 0 {
		require.Equal(t, before, dump(t, ctx, e, db), "a refused draft changes nothing")
		return
	}
	live, err = db.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, db, live, wanted(t, e, text(b))), "the live schema is B after\n%s",
		d.Migration.Text)
	after := dump(t, ctx, e, db)
	for _, sql := range d.Migration.SQL(false) { // what has another name now is of another's
		if r, ok := migration.ReadRename(e, sql); ok {
			for _, table := range []string{r.Table, r.To} {
				delete(same, table)
				delete(values, table)
			}
		}
	}
	for _, s := range d.Migration.Steps {
		for _, l := range s.Loses {
			if l.Deleted { // they are put aside
				delete(same, l.Table)
				delete(values, l.Table)
			}
		}
	}
	require.Equal(t, values, selected(t, ctx, e, db, same), "what did not change is as it was after\n%s",
		d.Migration.Text)

	_, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "undoing\n%s", d.Migration.Text)
	live, err = db.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, db, live, wanted(t, e, text(a))),
		"the live schema is A again after the undo of\n%s", d.Migration.Text)
	require.Equal(t, before, dump(t, ctx, e, db), "every row is as it was after the undo of\n%s", d.Migration.Text)

	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "applying again\n%s", d.Migration.Text)
	require.Equal(t, after, dump(t, ctx, e, db), "every row is as it was when applied first\n%s", d.Migration.Text)
	if rapid.IntRange(0, 2).Draw(t, "a third") == 0 {
		third(t, p, db, b, files, r)
	}
}

// third takes a database on from B to C, and back to nothing and forward again; and an
// empty one the whole way.
func third(t *rapid.T, p testserver.Place, db engine.Database, b []model, files []*migration.Migration, r *rand.Rand) {
	ctx, e := context.Background(), p.Engine
	c := derived(t, evolve(t, b))
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	insert(t, ctx, e, db, live, r, 1)
	before := dump(t, ctx, e, db)
	d, files := step(t, ctx, e, db, text(c), files, r)
	if len(d.InTheWay) > 0 || len(d.Plan.Questions) > 0 {
		require.Equal(t, before, dump(t, ctx, e, db), "a refused draft changes nothing")
		return
	}
	same := func(db engine.Database, when string) {
		live, err := db.Inspect(ctx)
		require.NoError(t, err)
		require.Empty(t, differences(t, ctx, db, live, wanted(t, e, text(c))), "the live schema is C %s", when)
	}
	same(db, "after the third migration")
	after := dump(t, ctx, e, db)
	var texts []string
	for _, m := range files {
		texts = append(texts, m.Text)
	}
	all := strings.Join(texts, "\n")
	for i := range files {
		_, err := runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second})
		var way *runner.InTheWay
		var needs *runner.NeedsAnswers
		if (i > 0 || d.Migration == nil) &&
			(errors.As(err, &way) || errors.As(err, &needs)) { // a row of now does not fit what was there before
			break
		}
		require.NoError(t, err, "undoing\n%s", all)
		if i == 0 && d.Migration != nil {
			require.Equal(t, before, dump(t, ctx, e, db), "every row is as it was after the undo of\n%s",
				d.Migration.Text)
		}
	}
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
	var way *runner.InTheWay
	drafted := []string{
		"would have no ",
		"in a single way",
		"in more than one row",
	} // when there was no row to give a value, to turn, or to tell from another
	if errors.As(err, &way) &&
		slices.ContainsFunc(drafted, func(s string) bool { return strings.Contains(way.Sentence, s) }) {
		return
	}
	require.NoError(t, err, "applying again\n%s", all)
	same(db, "after everything was undone and applied again")
	require.Equal(t, after, dump(t, ctx, e, db), "every row is as it was before everything was undone\n%s", all)

	empty := p.Open(t)
	defer empty.Close()
	_, err = runner.Apply(ctx, empty, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "from nothing\n%s", all)
	same(empty, "from nothing")
}

// Random pairs of schemas with rows: forward the schema is B, back it is A and
// every row is as it was, and forward again what B alone held is there again.
func TestPairs(t *testing.T) {
	pairs := 100
	if s := os.Getenv("ERBARIO_PAIRS"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		pairs = n
	}
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		n := pairs
		if p.Engine.Caps().Journal && os.Getenv("ERBARIO_PAIRS") == "" { // a server: each step is several round trips
			n /= 2
		}
		if p.Engine.Caps().CommitsChanges && os.Getenv("ERBARIO_PAIRS") == "" {
			n /= 2
		}
		// In two halves beside each other, since each waits for its server half of the time.
		require.NoError(t, flagSet("rapid.checks", strconv.Itoa((n+1)/2)))
		for _, half := range []string{"one half", "the other"} {
			t.Run(half, func(t *testing.T) {
				t.Parallel()
				rapid.Check(t, func(rt *rapid.T) {
					if half != "one half" {
						rapid.Uint64().Draw(rt, "what follows is another case")
					}
					pair(rt, p)
				})
			})
		}
	})
}
