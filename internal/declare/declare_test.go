package declare

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/lang"
	"erbario/internal/lang/langtest"
	"erbario/internal/schema"
)

func resolve(t *testing.T, src string, rules Rules) (*schema.Schema, []lang.Diagnostic) {
	f, diags := lang.Parse("models/test.erbario", src)
	require.Empty(t, diags, src)
	rules.Engines = []string{"sqlite", "postgres", "mariadb"}
	d, diags := Resolve([]*lang.File{f}, rules, "sqlite")
	return d.Schema, diags
}

// Each file of testdata holds models that parse and make no sense; the message
// that is expected stands behind "#>" on the line it is about. All of them are
// reported in one run, and nothing else is.
func TestMistakes(t *testing.T) {
	langtest.Mistakes(t, "testdata/*.erbario", func(path, src string) []lang.Diagnostic {
		_, diags := resolve(t, src, Rules{})
		return diags
	})
}

// What a model's lines become, by the naming rules.
func TestResolved(t *testing.T) {
	s, diags := resolve(t, `
choice Rarity: common, "on hold"
shape Dated
    seen_on date default today
    index seen_on
model Taxon
    table "taxa"
    name text(120) unique nonblank
    parent references Taxon optional
model Specimen
    include Dated
    accession text(20) key
    taxon references Taxon on delete cascade
    named references Taxon by name no index
    rarity Rarity default common
    grams decimal(8,3) range 0..
    note text column "remark" check {note} <> {accession}
    timestamps
    unique taxon, seen_on where {grams} > 1
    check {grams} < 100
    check {grams} <> 5
    on postgres: index note
model Loan
    specimen references Specimen
    lent_on date
    primary key specimen, lent_on
model Return
    specimen_accession text(20)
    lent_on date
    foreign key specimen_accession, lent_on references Loan on delete cascade
`, Rules{})
	require.Empty(t, diags)
	taxa := s.Table("taxa")
	require.NotNil(t, taxa)
	assert.Equal(t, []string{"id"}, taxa.Key)
	assert.Equal(t, schema.Bigint, taxa.Column("id").Type.Kind)
	assert.True(t, taxa.Column("id").Identity)
	assert.Equal(t, "taxa_name_key", taxa.Indexes[0].Name)
	assert.False(t, taxa.Column("parent_id").NotNull)

	sp := s.Table("specimens")
	var names []string
	for _, c := range sp.Columns {
		names = append(names, c.Name)
	}
	assert.Equal(
		t,
		[]string{
			"seen_on", "accession", "taxon_id", "named_name", "rarity", "grams", "remark", "created_at", "updated_at",
		},
		names,
	)
	assert.Equal(t, []string{"accession"}, sp.Key)
	assert.Equal(t, schema.Type{Kind: schema.Text, Length: 120}, sp.Column("named_name").Type, "of the target's type")
	assert.Equal(t, []string{"common", "on hold"}, sp.Column("rarity").Type.Choices)
	assert.True(t, sp.Column("updated_at").Stamped)
	assert.Equal(t, schema.NowValue, sp.Column("created_at").Value.Kind)
	var indexes []string
	for _, x := range sp.Indexes {
		indexes = append(indexes, x.Name)
	}
	assert.Equal(t, []string{"specimens_seen_on_idx", "specimens_taxon_id_seen_on_key", "specimens_taxon_id_idx"},
		indexes, "no index for postgres, none where it was not wanted, and a partial one is none for a reference")
	var checks []string
	for _, k := range sp.Checks {
		checks = append(checks, k.Name+": "+k.SQL)
	}
	assert.Equal(
		t,
		[]string{
			"specimens_remark_check: {remark} <> {accession}",
			"specimens_check: {grams} < 100",
			"specimens_check1: {grams} <> 5",
		},
		checks,
	)
	require.Len(t, sp.ForeignKeys, 2)
	assert.Equal(t, schema.Cascade, sp.ForeignKeys[0].OnDelete)
	assert.Equal(t, schema.Restrict, sp.ForeignKeys[1].OnDelete)
	assert.Equal(t, []string{"name"}, sp.ForeignKeys[1].References)

	loans := s.Table("loans")
	assert.Equal(t, []string{"specimen_accession", "lent_on"}, loans.Key)
	assert.Empty(t, loans.Indexes, "the key begins with the reference")
	returns := s.Table("returns")
	require.Len(t, returns.ForeignKeys, 1)
	assert.Equal(t, []string{"specimen_accession", "lent_on"}, returns.ForeignKeys[0].References)
}

func TestUUIDKeys(t *testing.T) {
	s, diags := resolve(t, "model Taxon\n    name text\n", Rules{Key: "uuid", Tables: "singular"})
	require.Empty(t, diags)
	assert.Equal(t, schema.UUID, s.Table("taxon").Column("id").Type.Kind)
	assert.Equal(t, schema.UUIDValue, s.Table("taxon").Column("id").Value.Kind)
}

// The order of files and of models in them makes no difference.
func TestOrderOfFiles(t *testing.T) {
	a, _ := lang.Parse("a", "model Taxon\n    name text\n    parent references Taxon optional\n")
	b, _ := lang.Parse("b",
		"model Specimen\n    taxon references Taxon\nmodel Loan\n    specimen references Specimen\n")
	one, d1 := Resolve([]*lang.File{a, b}, Rules{}, "sqlite")
	two, d2 := Resolve([]*lang.File{b, a}, Rules{}, "sqlite")
	require.Empty(t, d1)
	require.Empty(t, d2)
	assert.Equal(t, one.Schema, two.Schema)
}

// Indexes whose made-up names would be the same in the database are told apart.
func TestCollidingNames(t *testing.T) {
	s, diags := resolve(t, `
model AB
    table "a_b"
    c text unique
model A
    table "a"
    b_c text unique
`, Rules{})
	require.Empty(t, diags)
	one, two := s.Table("a").Indexes[0].Name, s.Table("a_b").Indexes[0].Name
	assert.NotEqual(t, one, two)
	assert.True(t, strings.HasPrefix(one, "a_b_c_key_"), one)
}

// The table of a model that names a schema has it before its name, and names of its own as without.
func TestInSchema(t *testing.T) {
	src := `
model Box
    on postgres: schema "billing"
    label text(20) unique
    note text optional check {note} <> 'x'
    soft delete with view
model Item
    box references Box
`
	f, diags := lang.Parse("models/test.erbario", src)
	require.Empty(t, diags)
	rules := Rules{Schemas: map[string]bool{"postgres": true}}
	d, diags := Resolve([]*lang.File{f}, rules, "postgres")
	require.Empty(t, diags)
	box := d.Schema.Table("billing.boxes")
	require.NotNil(t, box)
	assert.Equal(t, "billing", box.Schema)
	assert.Equal(t, "boxes", box.Bare())
	assert.Equal(t, "billing.live_boxes", box.LiveView)
	assert.Equal(t, "boxes_label_key", box.Indexes[0].Name)
	assert.Equal(t, "boxes_note_check", box.Checks[0].Name)
	key := d.Schema.Table("items").ForeignKeys[0]
	assert.Equal(t, "billing.boxes", key.Table)
	assert.Equal(t, "items_box_id_fkey", key.Name)
	d, diags = Resolve([]*lang.File{f}, rules, "sqlite")
	require.Empty(t, diags)
	assert.NotNil(t, d.Schema.Table("boxes"))

	f, _ = lang.Parse("models/test.erbario", strings.ReplaceAll(src, "on postgres: ", ""))
	_, diags = Resolve([]*lang.File{f}, rules, "mariadb")
	require.Len(t, diags, 1)
	assert.Equal(t, "a database of this engine (mariadb) has no schemas", diags[0].Message)
	assert.Equal(t, "write on postgres: before the line, or leave it out", diags[0].Hint)
}
