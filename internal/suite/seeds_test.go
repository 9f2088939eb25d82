package suite

// This file seeds random models with random seeds: whatever is made is taken by
// the engine, in the numbers declared, the same each time and by script, and can
// be taken out again to the last row.

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/script"
	"erbario/internal/seed"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// drawConstraints adds to a model what makes values depend on each other.
func drawConstraints(t *rapid.T, m *model) {
	of := func(types ...string) []field {
		var out []field
		for _, f := range m.fields {
			if slices.Contains(types, f.typ) {
				out = append(out, f)
			}
		}
		return out
	}
	numbers := of("smallint", "integer", "bigint", "decimal(8,2)", "double")
	times := of("date", "timestamp", "datetime")
	add := func(line string) {
		if !slices.Contains(m.lines, line) {
			m.lines = append(m.lines, line)
		}
	}
	for _, kind := range rapid.SliceOfNDistinct(rapid.IntRange(0, 7), 0, 3, rapid.ID[int]).Draw(t, "constraints") { // one of each: two could contradict each other
		switch kind {
		case 0:
			if len(numbers) > 1 {
				add(
					fmt.Sprintf("check {%s} %s {%s}", numbers[0].name,
						rapid.SampledFrom([]string{"<", "<=", ">", ">=", "<>"}).Draw(t, "op"), numbers[1].name),
				)
			}
		case 1:
			if len(numbers) > 0 {
				add(fmt.Sprintf("check {%s} between 3 and %d", numbers[0].name, rapid.IntRange(4, 5000).Draw(t, "to")))
			}
		case 2:
			if len(times) > 1 && times[0].typ == times[1].typ {
				add(fmt.Sprintf("check {%s} is null or {%s} >= {%s}", times[0].name, times[0].name, times[1].name))
			}
		case 3:
			if len(m.fields) > 1 {
				a, b := m.fields[0], m.fields[1]
				if !strings.HasPrefix(a.typ, "json") && !strings.HasPrefix(b.typ, "json") {
					add(fmt.Sprintf("unique %s, %s", a.name, b.name))
				}
			}
		case 4:
			if texts := of("text", "text(20)", "text(8)"); len(texts) > 0 {
				add(fmt.Sprintf("check {%s} in ('one', 'two', 'three', 'four')", texts[0].name))
			}
		case 5:
			if len(numbers) > 0 {
				add(fmt.Sprintf("check not ({%s} > 400 or {%s} < -400)", numbers[0].name, numbers[0].name))
			}
		case 6:
			for i, f := range m.fields {
				if f.typ == "text(20)" || f.typ == "text(8)" || f.typ == "uuid" {
					m.fields[i].clauses = []string{"key"}
					m.lines = slices.DeleteFunc(m.lines,
						func(l string) bool { return strings.Contains(l, "unique "+f.name) })
					return
				}
			}
		case 7: // uniquenesses that share a field, and one of its own
			if len(m.fields) > 2 &&
				!slices.ContainsFunc(m.fields[:3], func(f field) bool { return strings.HasPrefix(f.typ, "json") }) {
				add(fmt.Sprintf("unique %s, %s", m.fields[0].name, m.fields[2].name))
				add(fmt.Sprintf("unique %s, %s", m.fields[1].name, m.fields[2].name))
			}
		}
	}
}

// claim is what a line of a seed says of a field, which has to be true for existing rows.
type claim struct{ model, field, condition string }

// refersTo are the fields of a model that refer to another.
func refersTo(m model, to string) []string {
	var out []string
	for _, f := range m.fields {
		if f.typ == "references "+to {
			out = append(out, f.name)
		}
	}
	return out
}

// drawSeed writes a random seed: lines at the margin and under each other, trees,
// counts, values, ranges, shares. What is said of models that have one line is given too.
func drawSeed(t *rapid.T, name string, models []model) (string, []claim) {
	var b strings.Builder
	var claims []claim
	lines := map[string]int{}
	b.WriteString("seed " + name + "\n")
	var line func(m model, via string, depth int)
	line = func(m model, via string, depth int) {
		indent := strings.Repeat("    ", depth)
		from := rapid.IntRange(0, 6).Draw(t, "from")
		count := strconv.Itoa(from)
		if rapid.Bool().Draw(t, "range") {
			count += fmt.Sprintf("..%d", from+rapid.IntRange(0, 5).Draw(t, "to"))
		}
		if via != "" {
			count += " via " + via
		} else if own := refersTo(m, m.name); len(own) > 0 && depth == 1 && rapid.Bool().Draw(t, "tree") {
			for _, f := range m.fields {
				if f.name == own[0] && !f.required() {
					count += fmt.Sprintf(" via %s depth %d", own[0], rapid.IntRange(1, 3).Draw(t, "depth"))
				}
			}
		}
		fmt.Fprintf(&b, "%s%s %s\n", indent, m.name, count)
		lines[m.name]++
		free := func(f field) bool { // nothing but its type says what it may be
			return !f.generated() && !slices.ContainsFunc(f.clauses, func(c string) bool { return c != "optional" }) &&
				!slices.ContainsFunc(m.lines, func(l string) bool {
					return strings.Contains(l, "{"+f.name+"}") ||
						strings.Contains(l, "unique") && strings.Contains(l, f.name)
				})
		}
		for _, f := range m.fields {
			if f.name == via || strings.Contains(count, "via "+f.name) || strings.HasPrefix(f.typ, "references") ||
				rapid.IntRange(0, 3).Draw(t, "said") > 0 {
				continue
			}
			if !f.required() && rapid.Bool().Draw(t, "empty") {
				fmt.Fprintf(&b, "%s    %s empty %d%%\n", indent, f.name,
					rapid.SampledFrom([]int{0, 40, 100}).Draw(t, "share"))
			} else if slices.Contains([]string{"smallint", "integer", "bigint", "decimal(8,2)", "double"}, f.typ) &&
				free(f) {
				low := rapid.IntRange(-300, 300).Draw(t, "low")
				high := low + rapid.IntRange(0, 300).Draw(t, "span")
				fmt.Fprintf(&b, "%s    %s %d..%d\n", indent, f.name, low, high)
				claims = append(claims, claim{m.name, f.name, fmt.Sprintf("BETWEEN %d AND %d", low, high)})
			} else if f.typ == "text(20)" && free(f) {
				fmt.Fprintf(&b, "%s    %s \"one\" 30%%, \"two\" 10%%, \"three\"\n", indent, f.name)
				claims = append(claims, claim{m.name, f.name, "IN ('one', 'two', 'three')"})
			} else if f.typ == "text" && !slices.ContainsFunc(m.lines,
				func(l string) bool { return strings.Contains(l, "{"+f.name+"}") }) {
				fmt.Fprintf(&b, "%s    %s %s\n", indent, f.name, rapid.SampledFrom(
					[]string{`"N-{000}"`, "name", "email", "sentence 4", `random 3`, "latin"}).Draw(t, "supply"))
			}
		}
		if slices.ContainsFunc(m.lines, func(l string) bool { return strings.HasPrefix(l, "soft delete") }) &&
			rapid.Bool().Draw(t, "deleted") {
			fmt.Fprintf(&b, "%s    deleted 40%%\n", indent)
		}
		if depth < 3 {
			for _, o := range models {
				if fields := refersTo(o, m.name); len(fields) > 0 && rapid.IntRange(0, 2).Draw(t, "under") == 0 {
					line(o, fields[0], depth+1)
				}
			}
		}
	}
	for _, m := range models {
		if rapid.IntRange(0, 4).Draw(t, "made") > 0 {
			line(m, "", 1)
		}
	}
	return b.String(), slices.DeleteFunc(claims, func(c claim) bool { return lines[c.model] > 1 })
}

// odd are models with keys and references that the random ones have not: of
// several fields, by another field than the key, without a key, joining others.
const odd = `
model Genus
    code text(6) unique
    label text(20) unique ignoring case

model Species
    genus references Genus by code
    epithet text(20)
    rank smallint range 1..9
    unique genus, rank

model Grid
    north integer
    east integer
    primary key north, east

model Find
    north integer
    east integer
    species references Species optional
    seen_at datetime
    found_at datetime optional check {found_at} >= {seen_at}
    foreign key north, east references Grid

model Log
    no key
    line text
    size double optional
    on_day date optional
    raw bytes(4) optional

model Mark
    word text(8) unique including deleted
    soft delete

model SpeciesMark
    species references Species on delete cascade
    mark references Mark
    primary key species, mark
`

// drawOdd are lines of a seed for them.
func drawOdd(t *rapid.T) string {
	n := func(most int, what string) int { return rapid.IntRange(0, most).Draw(t, what) }
	return fmt.Sprintf(
		"    Genus %d\n        code random 3 \"abcd\"\n        Species %d..9\n            SpeciesMark %d..4\n    Mark 3\n        deleted 30%%\n    Grid %d\n        north 1..3\n        east 1..4\n    Find %d\n    Log %d\n        line \"one\", \"two\"\n        size empty 50%%\n        on_day empty 80%%\n",
		n(6, "genera"), n(9, "species"), n(3, "marks"), n(11, "grids")+1, n(9, "finds"), n(9, "logs"))
}

// contents are every row of every table of the models, as text.
func contents(t require.TestingT, ctx context.Context, db engine.Database, e engine.Engine,
	s *sqlschema.Schema) map[string][]string {
	out := map[string][]string{}
	for _, table := range s.Tables {
		rows, err := db.Sample(ctx, "SELECT * FROM "+e.SQL().QuoteTable(table.Name), 0)
		require.NoError(t, err)
		for _, r := range rows.Values {
			out[table.Name] = append(out[table.Name], strings.Join(r, " | "))
		}
		slices.Sort(out[table.Name])
	}
	return out
}

func TestSeeds(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		cases(t, p, os.Getenv("ERBARIO_SEEDS"))
		carried, tried := 0, 0
		rapid.Check(t, func(t *rapid.T) {
			tried++
			if seedCase(t, p.Engine) {
				carried++
			}
		})
		require.Greater(t, carried*2, tried, "most random seeds can be carried out")
	})
}

// cannot are the reasons for which a random seed cannot be carried out.
var cannot = []string{
	"values are available", "first in a circle", "there is none", "to refer to", "does not pass the check",
}

func seedCase(t *rapid.T, e engine.Engine) bool {
	models := drawSchema(t)
	for i := range models {
		drawConstraints(t, &models[i])
	}
	src := text(models)
	first, claims := drawSeed(t, "first", models)
	second, _ := drawSeed(t, "second", models)
	if rapid.Bool().Draw(t, "odd") {
		src += odd + "\n"
		first += drawOdd(t)
		second += drawOdd(t)
	}
	src += first + "\n" + second
	ctx := context.Background()
	f, diags := lang.Parse("models/test.erbario", src)
	require.Empty(t, diags, src)
	d, diags := declare.Resolve([]*lang.File{f}, rules(e), e.Name())
	if lang.Errors(diags) {
		t.Skip("the models make no sense") // a key of the seed's constraints, referred to by another type
	}
	wanted, _ := e.DDL().Lower(d.Schema)
	db := empty(t, ctx, e, wanted)
	defer db.Close()
	o := seed.RunOptions{
		Options:  seed.Options{Random: rapid.Uint64Range(0, 3).Draw(t, "random")},
		Conflict: seed.Skip,
		Now:      time.Now(),
	}
	var why error
	run := func(db engine.Database, s *declare.Seed) (*seed.Outcome, bool) {
		o.Now = o.Now.Add(time.Second)
		out, err := seed.Run(ctx, db, e, d, s, o)
		if err != nil {
			require.True(t,
				slices.ContainsFunc(cannot, func(c string) bool { return strings.Contains(err.Error(), c) }), "%v\n%s",
				err, src)
			require.NotContains(t, err.Error(), "does not pass the check", src)
		}
		why = err
		return out, err == nil
	}
	whole := func() {
		require.NoError(t, db.EnforceReferences(ctx, false))
		for _, table := range wanted.Tables {
			for _, c := range table.Columns {
				if table.SoftDelete == "" || table.Column("created_at") == nil || c.Name != "created_at" {
					continue
				}
				n, err := db.Count(
					ctx,
					fmt.Sprintf("SELECT 1 FROM %s WHERE created_at > updated_at OR updated_at > %s",
						e.SQL().QuoteTable(table.Name), e.SQL().Quote(table.SoftDelete)),
				)
				require.NoError(t, err)
				require.Zero(t, n, "times out of order\n%s", src)
			}
		}
		orphans(t, ctx, db, e.SQL(), src)
	}
	if _, ok := run(db, d.Seeds[0]); !ok {
		return false
	}
	whole()
	for _, c := range claims {
		i := slices.IndexFunc(wanted.Tables, func(t *sqlschema.Table) bool { return t.Model() == c.model })
		column := wanted.Tables[i].Columns[slices.IndexFunc(wanted.Tables[i].Columns,
			func(x *sqlschema.Column) bool { return x.Field() == c.field })]
		n, err := db.Count(
			ctx,
			fmt.Sprintf("SELECT 1 FROM %s WHERE NOT (%s %s)", e.SQL().QuoteTable(wanted.Tables[i].Name),
				e.SQL().Quote(column.Name), c.condition),
		)
		require.NoError(t, err, src)
		require.Zero(t, n, "%s.%s is not always %s\n%s", c.model, c.field, c.condition, src)
	}
	made := contents(t, ctx, db, e, wanted)
	for _, table := range wanted.Tables { // within the declared counts
		if lines := counted(d.Seeds[0].Lines, table.Name, 1, 1); lines != [2]int{} {
			require.GreaterOrEqual(t, len(made[table.Name]), lines[0], src)
			require.LessOrEqual(t, len(made[table.Name]), lines[1], src)
		}
	}
	// By script, and on another database, the rows are the same.
	other := empty(t, ctx, e, wanted)
	defer other.Close()
	var text strings.Builder
	blank := empty(t, ctx, e, wanted)
	defer blank.Close()
	require.NoError(t, seed.Script(ctx, script.New(&text, blank, e), e, d, d.Seeds[0], o), src)
	var plain []string
	for _, l := range strings.Split(text.String(), "\n") {
		if !strings.HasPrefix(l, ".") && !strings.HasPrefix(l, `\`) { // the client's own words
			plain = append(plain, l)
		}
	}
	for _, piece := range e.SQL().Split(strings.Join(plain, "\n")) {
		if !piece.Comment {
			require.NoError(t, other.Exec(ctx, piece.Text), "%s\n%s", piece.Text, src)
		}
	}
	require.Equal(t, made, contents(t, ctx, other, e, wanted), src)
	// Again, nothing is made.
	again, ok := run(db, d.Seeds[0])
	require.True(t, ok, "%v\n%s", why, src)
	for _, table := range again.Tables {
		require.Zero(t, table.Made, "%s is made again\n%s", table.Table.Name, src)
	}
	require.Equal(t, made, contents(t, ctx, db, e, wanted), src)
	// Another seed comes and goes, and leaves what was there.
	if _, ok := run(db, d.Seeds[1]); ok {
		whole()
		removed, err := seed.Remove(ctx, db, e, "second", 0)
		if err != nil {
			require.ErrorIs(t, err, seed.ErrNothing, src)
		}
		for _, r := range removed {
			require.Zero(t, r.Left, src)
		}
		require.Equal(t, made, contents(t, ctx, db, e, wanted), src)
	}
	if _, err := seed.Remove(ctx, db, e, "first", 0); err != nil {
		require.ErrorIs(t, err, seed.ErrNothing, src)
	}
	for table, rows := range contents(t, ctx, db, e, wanted) {
		require.Empty(t, rows, "%s\n%s", table, src)
	}
	return true
}

// counted is how many rows of a table the lines make at least and at most.
func counted(lines []*declare.SeedLine, table string, low, high int) (out [2]int) {
	for _, l := range lines {
		a, b := low*l.From, high*l.To
		levelA, levelB := a, b
		for range max(l.Depth, 1) - 1 {
			levelA, levelB = levelA*l.From, levelB*l.To
			a, b = a+levelA, b+levelB
		}
		if l.Table.Name == table {
			out[0], out[1] = out[0]+a, out[1]+b
		}
		under := counted(l.Lines, table, a, b)
		out[0], out[1] = out[0]+under[0], out[1]+under[1]
	}
	return out
}

func empty(t require.TestingT, ctx context.Context, e engine.Engine, s *sqlschema.Schema) engine.Database {
	db, err := e.Scratch(ctx)
	require.NoError(t, err)
	require.NoError(t, engine.FillWhole(ctx, db, e.DDL().CreateAll(s)))
	return db
}

// orphans fails where a reference points at no row.
func orphans(t require.TestingT, ctx context.Context, db engine.Database, d engine.Dialect, src string) {
	q, of := d.Quote, d.QuoteTable
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	for _, table := range s.Tables {
		for _, k := range table.ForeignKeys {
			var on, set []string
			for i, c := range k.Columns {
				on = append(on, fmt.Sprintf("p.%s = c.%s", q(k.References[i]), q(c)))
				set = append(set, fmt.Sprintf("c.%s IS NOT NULL", q(c)))
			}
			n, err := db.Count(
				ctx,
				fmt.Sprintf("SELECT 1 FROM %s c WHERE %s AND NOT EXISTS (SELECT 1 FROM %s p WHERE %s)", of(table.Name),
					strings.Join(set, " AND "), of(k.Table), strings.Join(on, " AND ")),
			)
			require.NoError(t, err)
			require.Zero(t, n, "%s.%v points at nothing\n%s", table.Name, k.Columns, src)
		}
	}
}

// A seed that is stopped has left a whole number of batches; going on gives the
// rows that it would have made at once, numbers and all.
func TestSeedStopped(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		ctx, e := context.Background(), p.Engine
		f, diags := lang.Parse("models/test.erbario",
			"model Tray\n    label text(20)\n\nmodel Sheet\n    tray references Tray\n    folds smallint\n\nmodel Mark\n    sheet references Sheet\n\nseed demo\n    Tray 5\n        Sheet 64000\n    Mark 3\n")
		require.Empty(t, diags)
		d, _ := declare.Resolve([]*lang.File{f}, rules(e), e.Name())
		wanted, _ := e.DDL().Lower(d.Schema)
		sum := func(db engine.Database) [][]string {
			rows, err := db.Select(ctx,
				"SELECT count(*), min(id), max(id), sum(id * folds), sum(tray_id * folds), (SELECT count(*) FROM trays), (SELECT min(id) FROM marks), (SELECT sum(sheet_id) FROM marks) FROM sheets")
			require.NoError(t, err)
			return rows
		}
		whole := empty(t, ctx, e, wanted)
		defer whole.Close()
		o := seed.RunOptions{Options: seed.Options{Random: 4}, Conflict: seed.Skip, Now: time.Now()}
		_, err := seed.Run(ctx, whole, e, d, d.Seeds[0], o)
		require.NoError(t, err)

		db := empty(t, ctx, e, wanted)
		defer db.Close()
		stopped, stop := context.WithCancel(ctx)
		o.Report = func(at engine.Progress) {
			if at.Table == "sheets" && at.Done > 280_000 {
				stop()
			}
		}
		_, err = seed.Run(stopped, db, e, d, d.Seeds[0], o)
		var half *seed.HalfwayError
		require.ErrorAs(t, err, &half)
		require.Equal(t, int64(320_008), half.Total)
		n, err := db.Count(ctx, "SELECT 1 FROM sheets")
		require.NoError(t, err)
		require.Equal(t, half.Done, n+5, "what it says is there is there")
		o.Report, o.Now = nil, o.Now.Add(time.Second)
		out, err := seed.Run(ctx, db, e, d, d.Seeds[0], o)
		require.NoError(t, err)
		require.Equal(t, n, out.Tables[1].Found)
		require.Equal(t, sum(whole), sum(db))
		_, err = seed.Remove(ctx, db, e, "demo", 0)
		require.NoError(t, err)
		require.Equal(t, "0", sum(db)[0][0])

		// A small one is undone whole.
		small := *d.Seeds[0]
		line := *small.Lines[0]
		line.To, line.From = 1, 1
		small.Lines = []*declare.SeedLine{&line}
		for range 10 { // a server under load may still be at work on what was removed
			stopped, stop = context.WithCancel(ctx)
			o.Report = func(at engine.Progress) {
				if at.Table == "sheets" && at.Done > 10_000 {
					stop()
				}
			}
			if _, err = seed.Run(stopped, db, e, d, &small, o); !errors.Is(err, engine.ErrBusy) {
				break
			}
			require.Equal(t, "0", sum(db)[0][0])
		}
		require.ErrorIs(t, err, context.Canceled)
		require.NotErrorAs(t, err, &half)
		require.Equal(t, "0", sum(db)[0][0])
	})
}

// A reference that the seed itself gives a value is looked at in every part of a
// long run: none is committed that points at nothing.
func TestSeedPointsAtNothing(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		ctx, e := context.Background(), p.Engine
		f, diags := lang.Parse("models/test.erbario",
			"model Tray\n    label text(20)\n\nmodel Sheet\n    tray references Tray\n\nseed demo\n    Tray 2\n    Sheet 120000\n        tray 1\n    Sheet 120000\n        tray 9\n")
		require.Empty(t, diags)
		d, _ := declare.Resolve([]*lang.File{f}, rules(e), e.Name())
		wanted, _ := e.DDL().Lower(d.Schema)
		db := empty(t, ctx, e, wanted)
		defer db.Close()
		_, err := seed.Run(ctx, db, e, d, d.Seeds[0], seed.RunOptions{Conflict: seed.Skip, Now: time.Now()})
		require.ErrorContains(t, err, "point to no row")
		n, err := db.Count(ctx, "SELECT 1 FROM sheets WHERE tray_id = 9")
		require.NoError(t, err)
		require.Zero(t, n)
	})
}

// The same seed gives the same rows on every engine, whatever the types, and however its rows
// agree with each other.
func TestSeedSameEverywhere(t *testing.T) {
	const src = `choice Progress: pending, paid, shipped, delivered, cancelled

model Country
    name text(60) unique
    code text(2) unique

model Visitor
    country references Country
    city text(60)
    postcode text(12)
    full_name text(80)
    email text(120) unique ignoring case
    gender choice(female, male)
    birth_date date
    wakes time
    lat double
    balance decimal(10,2)
    points bigint
    is_active boolean
    token uuid unique
    photo bytes(8)
    settings json
    tags json
    timestamps
    soft delete with children

model Request
    visitor references Visitor
    status Progress
    ordered_at timestamp
    paid_at timestamp optional
    delivered_on date optional
    seen_at datetime optional
    unit_price decimal(8,2)
    quantity smallint
    total decimal(12,2)
    note text(200) optional
    review text
    timestamps
    soft delete

seed demo
    Country 20
    Visitor 150
        deleted 5%
        Request 1..4
`
	var first map[string][]string
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		ctx, e := context.Background(), p.Engine
		f, diags := lang.Parse("models/test.erbario", src)
		require.Empty(t, diags)
		d, diags := declare.Resolve([]*lang.File{f}, rules(e), e.Name())
		require.False(t, lang.Errors(diags), "%v", diags)
		wanted, _ := e.DDL().Lower(d.Schema)
		db := empty(t, ctx, e, wanted)
		defer db.Close()
		_, err := seed.Run(ctx, db, e, d, d.Seeds[0],
			seed.RunOptions{Options: seed.Options{Random: 5}, Conflict: seed.Skip, Now: time.Now()})
		require.NoError(t, err)
		rows := map[string][]string{}
		for _, table := range d.Schema.Tables {
			var columns []string
			for _, c := range table.Columns {
				columns = append(columns, e.SQL().Quote(c.Name))
			}
			list, err := db.Select(ctx,
				"SELECT "+strings.Join(columns, ", ")+" FROM "+e.SQL().QuoteTable(table.Name)+" ORDER BY id")
			require.NoError(t, err)
			for _, row := range list {
				for i, c := range table.Columns {
					row[i] = c.Name + " " + plainly(row[i], c.Type)
				}
				rows[table.Name] = append(rows[table.Name], strings.Join(row, " | "))
			}
		}
		require.Len(t, rows["visitors"], 150)
		if first == nil {
			first = rows
		}
		require.Equal(t, first, rows)
	})
}

// plainly is a value as text, without what engines write differently.
func plainly(v string, t schema.Type) string {
	switch t.Kind {
	case schema.Decimal, schema.Real, schema.Double:
		if f, err := strconv.ParseFloat(v, 64); err == nil {
			return strconv.FormatFloat(f, 'g', 12, 64)
		}
	case schema.Boolean:
		return map[string]string{"1": "true", "t": "true", "true": "true", "0": "false", "f": "false",
			"false": "false"}[v]
	case schema.Timestamp, schema.Datetime:
		return strings.ReplaceAll(v[:min(len(v), 19)], "T", " ")
	case schema.Date:
		return v[:min(len(v), 10)]
	case schema.Time:
		return v[:min(len(v), 8)]
	case schema.Bytes:
		return "" // each client writes them in its own way
	}
	return v
}
