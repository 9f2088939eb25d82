package seed

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"erbario/internal/declare"
	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// plan resolves the only seed of models and makes it ready.
func plan(t *testing.T, o Options, files ...string) (*Plan, []lang.Diagnostic) {
	t.Helper()
	var parsed []*lang.File
	for i, src := range files {
		f, diags := lang.Parse(fmt.Sprintf("models/%d.erbario", i), src)
		require.Empty(t, diags, src)
		parsed = append(parsed, f)
	}
	d, diags := declare.Resolve(parsed, declare.Rules{}, "sqlite")
	require.False(t, lang.Errors(diags), "%v", diags)
	require.Len(t, d.Seeds, 1)
	return New(d, d.Seeds[0], o)
}

// made is every row of a seed by table, each as a map of its columns.
func made(t *testing.T, o Options, files ...string) map[string][]map[string]any {
	t.Helper()
	p, mistakes := plan(t, o, files...)
	require.Empty(t, mistakes)
	out := map[string][]map[string]any{}
	for _, l := range p.Lines {
		require.NoError(t, p.Make(context.Background(), l, 0, func(b *Batch) error {
			p.FillFromExisting(b)
			for i := range b.Rows() {
				row := map[string]any{}
				for j, c := range l.Columns {
					row[c] = b.Row(i)[j]
				}
				out[l.Table.Name] = append(out[l.Table.Name], row)
			}
			return nil
		}))
	}
	return out
}

func values(rows []map[string]any, column string) []string {
	var out []string
	for _, r := range rows {
		out = append(out, fmt.Sprint(r[column]))
	}
	return out
}

const garden = `model Taxon
    name text(60) unique fake latin
    parent references Taxon optional

model Collector
    name text(40) nonblank
    email text(60) unique ignoring case
    timestamps
    soft delete with children

model Specimen
    accession text(12) unique
    taxon references Taxon
    collector references Collector
    weight_g decimal(8,3) optional
    taken_on date
    timestamps
    soft delete

model Tag
    word text(20) unique

model SpecimenTag
    specimen references Specimen
    tag references Tag
    primary key specimen, tag
`

func TestCounts(t *testing.T) {
	rows := made(t, Options{Random: 1}, garden, `seed demo
    Taxon 2 depth 3
    Tag 4
    Collector 5
        Specimen 3..8
            accession "HB-{0000}"
            SpecimenTag 1..9
`)
	require.Len(t, rows["taxons"], 2+4+8)
	roots := 0
	for _, r := range rows["taxons"] {
		if r["parent_id"] == nil {
			roots++
		}
	}
	require.Equal(t, 2, roots)
	under := map[any]int{}
	for _, r := range rows["specimens"] {
		under[r["collector_id"]]++
	}
	require.Len(t, under, 5)
	for _, n := range under {
		require.True(t, n >= 3 && n <= 8, n)
	}
	require.Equal(t, "HB-0001", rows["specimens"][0]["accession"])
	pairs, tags := map[string]bool{}, map[any]int{}
	for _, r := range rows["specimen_tags"] {
		pair := fmt.Sprint(r["specimen_id"], r["tag_id"])
		require.False(t, pairs[pair], "the pair %s is there twice", pair)
		pairs[pair] = true
		tags[r["specimen_id"]]++
	}
	for _, n := range tags {
		require.True(t, n >= 1 && n <= 4, "more pairs than there are tags")
	}
}

// A tree under the rows of another line keeps to its own of these, also where only
// the first rows are made.
func TestTreesUnderRows(t *testing.T) {
	const models = "model House\n    name text(20)\n\nmodel Room\n    house references House\n    inside references Room optional\n    name text(20)\n"
	const seed = "seed demo\n    House 3\n        Room 0..2 via house depth 3\n"
	rows := made(t, Options{Random: 5}, models, seed)
	house := map[any]any{}
	for _, r := range rows["rooms"] {
		house[r["id"]] = r["house_id"]
		if up := r["inside_id"]; up != nil {
			require.Equal(t, house[up], r["house_id"], "a room is in the house of the room that it is in")
		}
	}
	require.NotEmpty(t, house)
	for random := range uint64(40) {
		p, mistakes := plan(t, Options{Random: random}, models, seed)
		require.Empty(t, mistakes)
		for _, l := range p.Lines {
			require.NoError(t, p.Make(context.Background(), l, 1, func(*Batch) error { return nil }))
		}
	}
}

func TestWhatCannotBe(t *testing.T) {
	for _, c := range []struct{ models, seed, want string }{
		{garden, "seed demo\n    Tag 2\n    Taxon 1\n    Collector 1\n        Specimen 1\n            SpecimenTag 3..4\n", "must be unique by tag, and only 2 values are available"},
		{"model A\n    b references B\n\nmodel B\n    a references A\n", "seed demo\n    A 2\n    B 2\n",
			"no row can be the first in a circle of required references: A.b → B.a → A"},
		{garden, "seed demo\n    Taxon 0\n    Collector 1\n        Specimen 2\n",
			"Specimen.taxon has no Taxon to refer to"},
		{garden, "seed demo\n    Collector 1\n        Specimen 2\n",
			"Specimen.taxon picks an existing Taxon, and there is none"},
		{garden, "seed demo\n    Tag 2000000000\n        SpecimenTag 2000000000\n",
			"these are more rows than can be created"},
		{"model A\n    code text(5)\n", "seed demo\n    A 2000\n        code \"HB-{00}\"\n",
			"the last number of A.code makes it 7 characters long, and it holds at most 5"},
		{"model A\n    a text\n    b text\n", "seed demo\n    A 2\n        a \"{b}\"\n        b \"{a}\"\n",
			"the fields of A are calculated from each other: a → b → a"},
		{"model A\n    shape sql \"point\"\n", "seed demo\n    A 2\n", "no value can be generated"},
	} {
		_, mistakes := plan(t, Options{}, c.models, c.seed)
		require.NotEmpty(t, mistakes, c.seed)
		require.Contains(t, mistakes[0].Message, c.want)
		require.NotEmpty(t, mistakes[0].Hint)
		require.Equal(t, "models/1.erbario", mistakes[0].Pos.Path)
	}
	p, mistakes := plan(t, Options{}, "model A\n    rank smallint unique range 1..5\n", "seed demo\n    A 6\n")
	require.Empty(t, mistakes)
	err := p.Make(context.Background(), p.Lines[0], 0, func(*Batch) error { return nil })
	require.ErrorContains(t, err, "finds no free rank: only 5 values are available")
}

// A row is the same whatever stands beside it: other blocks, other files, more
// rows, another field.
func TestSameEachTime(t *testing.T) {
	seed := "seed demo\n    Taxon 3\n    Collector 4\n        Specimen 2..5\n            accession \"HB-{000}\"\n"
	one := made(t, Options{Random: 7}, garden, seed)
	require.Equal(t, one, made(t, Options{Random: 7}, seed, garden), "the order of files")
	blocks := strings.Split(garden, "\n\n")
	slices.Reverse(blocks)
	require.Equal(t, one, made(t, Options{Random: 7}, strings.Join(blocks, "\n\n"), seed), "the order of blocks")
	require.NotEqual(t, one, made(t, Options{Random: 8}, garden, seed))
	more := made(t, Options{Random: 7}, garden, strings.Replace(seed, "Taxon 3", "Taxon 9", 1))
	require.Equal(t, one["taxons"], more["taxons"][:3], "more rows")
	wider := made(t, Options{Random: 7},
		strings.Replace(garden, "    taken_on date", "    taken_on date\n    notes text optional", 1), seed)
	require.Equal(t, values(one["specimens"], "weight_g"), values(wider["specimens"], "weight_g"), "another field")
	later := made(t, Options{Random: 7, Today: time.Date(2036, 5, 1, 0, 0, 0, 0, time.UTC)}, garden, seed)
	require.Contains(t, later["specimens"][0]["taken_on"], "203")
	require.Equal(t, values(one["collectors"], "name"), values(later["collectors"], "name"))
}

func TestTimesAndDeletion(t *testing.T) {
	rows := made(t, Options{Random: 1}, garden,
		"seed demo\n    Taxon 3\n    Collector 60\n        deleted 30%\n        created_at 2020-01-01..2024-12-31\n        Specimen 3\n            deleted 5%\n")
	gone := map[any]any{}
	for _, r := range rows["collectors"] {
		created, updated := r["created_at"].(string), r["updated_at"].(string)
		require.True(t, created <= updated && created >= "2020" && created < "2025")
		if r["deleted_at"] != nil {
			require.LessOrEqual(t, updated, r["deleted_at"])
			gone[r["id"]] = r["deleted_at"]
		}
	}
	require.InDelta(t, 18, len(gone), 9)
	own := 0
	for _, r := range rows["specimens"] {
		if when, ok := gone[r["collector_id"]]; ok {
			require.Equal(t, when, r["deleted_at"], "a child goes with its parent")
		} else if r["deleted_at"] != nil {
			own++
		}
		if r["deleted_at"] != nil {
			require.LessOrEqual(t, r["created_at"], r["updated_at"])
			require.LessOrEqual(t, r["updated_at"], r["deleted_at"])
		}
	}
	require.True(t, own > 0 && own < 25, own)
}

func TestSupplies(t *testing.T) {
	rows := made(t, Options{Random: 3}, `choice Rarity: common, scarce, threatened

model Sheet
    code text(8) unique
    kind Rarity
    colour text(10)
    lent_on date
    due_on date
    seen_at timestamp
    closed_at timestamp
    count integer
    price decimal(6,2)
    total decimal(10,2)
    label text(40)
    secret text(60)
    plain text(10) optional
    notes text optional
    width integer
    mounted boolean
    external uuid unique
    check {due_on} > {lent_on}
    check {width} between 10 and 12
    check {plain} is null or {plain} in ('a', 'b')
`, `seed demo
    Sheet 27
        code random 3 "ab1"
        kind common 90%, scarce 10%
        colour "red", "green", "blue"
        due_on {lent_on} + 14..60
        closed_at {seen_at} + 2 hours
        total {price} * {count}
        label "{code}: {colour} {{{width}}}"
        secret bcrypt "herbarium"
        notes empty 40% sentence 3
        mounted true
`)["sheets"]
	require.Len(t, rows, 27) // as many as three characters of three can be
	codes, empty, common := map[any]bool{}, 0, 0
	for _, r := range rows {
		require.Regexp(t, `^[ab1]{3}$`, r["code"])
		require.False(t, codes[r["code"]])
		codes[r["code"]] = true
		lent, _ := time.Parse(time.DateOnly, r["lent_on"].(string))
		due, _ := time.Parse(time.DateOnly, r["due_on"].(string))
		days := due.Sub(lent).Hours() / 24
		require.True(t, days >= 14 && days <= 60, days)
		seen, _ := time.Parse(time.DateTime, r["seen_at"].(string))
		closed, _ := time.Parse(time.DateTime, r["closed_at"].(string))
		require.Equal(t, 2*time.Hour, closed.Sub(seen))
		price, _ := strconv.ParseFloat(r["price"].(string), 64)
		total, _ := strconv.ParseFloat(r["total"].(string), 64)
		require.InDelta(t, price*float64(r["count"].(int64)), total, 0.006)
		require.Equal(t, fmt.Sprintf("%v: %v {%v}", r["code"], r["colour"], r["width"]), r["label"])
		require.NoError(t, bcrypt.CompareHashAndPassword([]byte(r["secret"].(string)), []byte("herbarium")))
		require.Regexp(t, `^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`, r["external"])
		require.Contains(t, []any{nil, "a", "b"}, r["plain"])
		require.Contains(t, []any{int64(10), int64(11), int64(12)}, r["width"])
		require.Equal(t, true, r["mounted"])
		require.Contains(t, []any{"common", "scarce"}, r["kind"])
		if r["kind"] == "common" {
			common++
		}
		if r["notes"] == nil {
			empty++
		}
	}
	require.True(t, empty > 2 && empty < 22, empty)
	require.Greater(t, common, 18)
}

// Beyond what is remembered of a uniqueness, rows are told apart by their numbers.
func TestManyUnique(t *testing.T) {
	if testing.Short() {
		t.Skip("makes more than a million rows")
	}
	p, mistakes := plan(t, Options{}, "model A\n    email text(60) unique fake email\n",
		fmt.Sprintf("seed demo\n    A %d\n", remembered+200_000))
	require.Empty(t, mistakes)
	seen := make(map[string]bool, remembered)
	require.NoError(t, p.Make(context.Background(), p.Lines[0], 0, func(b *Batch) error {
		for i := range b.Rows() {
			s := b.Row(i)[p.Lines[0].plan.place["email"]].(string)
			require.False(t, seen[s], s)
			require.LessOrEqual(t, len(s), 60)
			seen[s] = true
		}
		return nil
	}))
	require.Len(t, seen, remembered+200_000)
}

func TestChecks(t *testing.T) {
	columns := []string{"a", "b", "word", "flag", "price"}
	row := []any{int64(5), nil, "moss", true, "12.50"}
	place := func(name string) int { return slices.Index(columns, name) }
	number := func(i int) bool { return columns[i] == "price" }
	for _, c := range []struct {
		sql  string
		want any
	}{
		{"{a} > 3", true}, {"a>=5 and a<=5", true}, {"{a} <> 5", false}, {"{b} > 3", nil}, {"{b} IS NULL", true},
		{"{b} is not null or {a} = 5", true},
		{"{a} between 1 and 4", false}, {"{a} not between 1 and 4", true}, {"{word} in ('fern', 'moss')", true},
		{"{word} not in ('fern')", true}, {"length({word}) = 4", true},
		{"{flag}", true}, {"{flag} = 1", true}, {"not {flag}", false}, {"{price} > 12.4", true},
		{"{price} * 2 = 25", true}, {"-{a} < 0", true}, {"'it''s' = 'it''s'", true}, {"{a} + 1 > 2 * 2", true},
		{"{b} > 3 and 1 = 2", false}, {"{b} > 3 or 1 = 1", true}, {"upper({word}) = 'MOSS'", true},
		{"{word} > 'fern'", true}, {"{a} = 'five'", nil},
	} {
		e := readCheck(c.sql, place, number)
		require.NotNil(t, e, c.sql)
		require.Equal(t, c.want, e.of(row), c.sql)
		require.Equal(t, c.want != false, e.holds(row), c.sql)
	}
	for _, sql := range []string{"{word} GLOB 'm*'", "json_valid({word})", "{gone} > 1", "{a} >", "({a} > 1",
		"{a} > 1)", "'open", "{a} IN ()", "{a} || 'x' = '5x'", "CASE WHEN 1 THEN 1 END"} {
		require.Nil(t, readCheck(sql, place, number), sql)
	}
}

func TestAxis(t *testing.T) {
	for _, c := range []struct {
		typ, text string
	}{{"decimal(8,3)", "-12.050"}, {"decimal(4,0)", "7"}, {"decimal(20,18)", "0.123456789012345000"}, {"integer", "-3"}, {"date", "1969-12-31"}, {"time", "23:59:59"}, {"timestamp", "1969-12-31 23:59:58"}, {"datetime", "2026-01-31 14:30:00"}, {"double", "0.125"}} {
		x := axisOf(schema.ParseType(c.typ))
		n, ok := x.place(c.text)
		require.True(t, ok, c.typ)
		require.Equal(t, c.text, fmt.Sprint(x.value(n)), c.typ)
	}
}

// Texts are known by their whole name; what only ends like another is something else.
func TestGuesses(t *testing.T) {
	require.Greater(t, len(GuessedNames()), 150)
	for _, name := range GuessedNames() {
		words := strings.Fields(GuessOf(name))
		g := fake.Lookup(words[0])
		require.NotNil(t, g, name)
		require.LessOrEqual(t, len(words)-1, len(g.Args), name)
	}
	for name, want := range map[string]string{"mac_address": "mac", "email_address": "email", "billing_email": "email", "home_city": "city", "file_name": "file_name", "company_name": "company", "street_name": "street_name", "shelf_address": "", "Sha256": "hash 64", "bounty": "", "county": "region", "author_email": "email"} {
		require.Equal(t, want, GuessOf(name), name)
	}
	rows := made(t, Options{Random: 1}, `model Visit
    shelf_mark text(30) unique
    mark text(5)
    mac_address text(10)
    mime_type text(30)
    file_name text(40)
    birth_year smallint
    stars smallint

seed demo
    Visit 200
`)["visits"]
	marks := map[string]bool{}
	kinds := map[string]string{"pdf": "application/pdf", "jpg": "image/jpeg", "csv": "text/csv", "mp3": "audio/mpeg"}
	for _, r := range rows {
		mark := r["shelf_mark"].(string)
		require.Regexp(t, `^Shelf mark [0-9]+$`, mark)
		require.False(t, marks[mark], "%s is there twice", mark)
		marks[mark] = true
		require.Regexp(t, `^[A-Z2-9]{5}$`, r["mark"])
		require.Len(t, r["mac_address"], 10, "a cut address would be none")
		require.NotContains(t, r["mac_address"], ":")
		_, ending, _ := strings.Cut(r["file_name"].(string), ".")
		if kind := kinds[ending]; kind != "" {
			require.Equal(t, kind, r["mime_type"], r["file_name"])
		}
		require.True(t, r["birth_year"].(int64) >= 1946 && r["birth_year"].(int64) <= 2008, r["birth_year"])
		require.True(t, r["stars"].(int64) >= 1 && r["stars"].(int64) <= 5)
	}
}

// Several uniquenesses that share columns are all kept, up to what they can hold.
func TestUniquesTogether(t *testing.T) {
	rows := made(t, Options{Random: 3}, `model Slot
    shelf integer range 1..8
    place integer range 1..8
    level integer range 1..8
    name text(40) unique fake title
    slug text(40) unique
    keeper text(40) unique fake name
    unique shelf, place
    unique shelf, level

seed demo
    Slot 64
`)["slots"]
	require.Len(t, rows, 64)
	seen := map[string]bool{}
	for _, r := range rows {
		for _, of := range [][]string{{"shelf", "place"}, {"shelf", "level"}, {"name"}, {"slug"}, {"keeper"}} {
			key := fmt.Sprint(of)
			for _, c := range of {
				key += fmt.Sprint(" ", r[c])
			}
			require.False(t, seen[key], key)
			seen[key] = true
		}
	}
}

// A value that is worked out as what its field does not hold is said, not cut down.
func TestBeyond(t *testing.T) {
	p, mistakes := plan(t, Options{Random: 1}, `model Lamp
    power integer
    factor integer
    cost decimal(6,2)

seed demo
    Lamp 50
        power 1..10
        factor 1..2000
        cost {power} * {factor}
`)
	require.Nil(t, p)
	require.Len(t, mistakes, 1)
	require.Contains(t, mistakes[0].Message, "cost can become 20000, and it holds -9999.99..9999.99")
}
