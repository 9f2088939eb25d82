package diff_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/engines"
	"erbario/internal/lang"
	"erbario/internal/sqlschema"
)

func wanted(t *testing.T, src string) *sqlschema.Schema {
	f, diags := lang.Parse("m", src)
	require.Empty(t, diags)
	d, diags := declare.Resolve([]*lang.File{f}, declare.Rules{}, "sqlite")
	require.Empty(t, diags, src)
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	s, _ := e.DDL().Lower(d.Schema)
	return s
}

const base = `
model Taxon
    name text(40)
model Specimen
    code text(20) unique
    label text(40) optional
    count integer default 1
    rarity choice(common, scarce) default common
    taxon references Taxon optional
    index label
    check few: {count} < 100
`

// Each change of the models is named once, in these words, and nothing beside
// it.
func TestWords(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"label text(40) optional", "label text(40) optional\n    note text",
			"add column specimens.note: TEXT, required"},
		{"    index label\n", "", "drop index specimens.specimens_label_idx: index label"},
		{"label text(40) optional", "label text(80) optional",
			"change type specimens.label: VARCHAR(40) -> VARCHAR(80)"},
		{"label text(40) optional", "label text(40)", "make required specimens.label: optional -> required"},
		{"code text(20) unique", "code text(20) optional unique", "make optional specimens.code: required -> optional"},
		{"default 1", "default 2", "change default specimens.count: default 1 -> 2"},
		{"count integer default 1", "count integer", "change default specimens.count: default 1 -> none"},
		{"code text(20) unique", "code text(20)", "drop unique specimens.specimens_code_key: unique code"},
		{"code text(20) unique", "code text(20) unique ignoring case",
			"change unique specimens.specimens_code_key: unique code -> unique code ignoring case"},
		{"index label", "index label desc",
			"change index specimens.specimens_label_idx: index label -> index label desc"},
		{"index label", "index label where {count} > 1",
			"change index specimens.specimens_label_idx: index label -> index label where count > 1"},
		{"index label", "index by_label: label", "change index specimens.by_label: specimens_label_idx -> by_label"},
		{"{count} < 100", "{count} < 200", "change check specimens.few: check count < 100 -> check count < 200"},
		{"check few", "check some", "change check specimens.some: check few -> some"},
		{"    check few: {count} < 100\n", "", "drop check specimens.few: check count < 100"},
		{"choice(common, scarce)", "choice(common, scarce, gone)",
			"change check specimens.specimens_rarity_choice: choices + gone"},
		{"choice(common, scarce)", "choice(common)",
			"change check specimens.specimens_rarity_choice: choices - scarce"},
		{"taxon references Taxon optional", "taxon references Taxon optional on delete cascade",
			"change reference specimens.taxon_id: reference on delete restrict -> cascade"},
		{"code text(20) unique", "code text(20) unique immutable",
			"add trigger specimens.specimens_code_immutable: code immutable"},
		{"code text(20) unique", "code text(20) unique nonblank",
			"add check specimens.specimens_code_nonblank: code nonblank"},
		{"count integer default 1", "count integer default 1 range 0..9",
			"add check specimens.specimens_count_range: count range 0..9"},
		{"model Taxon\n    name text(40)", "model Taxon\n    name text(40)\nmodel Sheet\n    n integer",
			"add table sheets: 2 columns"},
		{"taxon references Taxon optional", "taxon references Taxon optional\n    second references Taxon optional on delete set null", "add column specimens.second_id: BIGINT, references taxons (id), on delete set null; add index specimens.specimens_second_id_idx: index second_id"},
		{"name text(40)", "name text(40) key", "drop column taxons.id"},
	} {
		require.Contains(t, base, c.old)
		var got []string
		for _, x := range diff.Schemas(wanted(t, base), wanted(t, strings.Replace(base, c.old, c.new, 1))) {
			if x.What != "" {
				got = append(got, string(x.Kind)+" "+x.Target()+": "+x.What)
			}
		}
		if c.want == "drop column taxons.id" { // the reference changes with it
			assert.NotEmpty(t, got)
			continue
		}
		assert.Equal(t, c.want, strings.Join(got, "; "), c.new)
	}
}

// A schema does not differ from itself, and what differs one way differs the
// other way too.
func TestBothWays(t *testing.T) {
	a, b := wanted(t, base), wanted(t, "model Taxon\n    name text(80)\nmodel Sheet\n    n integer\n")
	assert.Empty(t, diff.Schemas(a, a))
	assert.Empty(t, diff.Schemas(a, a.Clone()))
	assert.NotEmpty(t, diff.Schemas(a, b))
	assert.NotEmpty(t, diff.Schemas(b, a))
	assert.NotEqual(t, sqlschema.Fingerprint(a), sqlschema.Fingerprint(b))
}

// Erbario's own tables and models declared as outside are in no diff.
func TestLeftOut(t *testing.T) {
	live := &sqlschema.Schema{Tables: []*sqlschema.Table{{Name: "erbario_history"}, {Name: "ERBARIO_kept_x"}}}
	assert.Empty(t, diff.Schemas(live, wanted(t, "model Ledger outside\n    code text key\n")))
}

// The fingerprint does not depend on the order of anything.
func TestFingerprintOrder(t *testing.T) {
	a := wanted(t, base)
	b := a.Clone()
	for i, j := 0, len(b.Tables)-1; i < j; i, j = i+1, j-1 {
		b.Tables[i], b.Tables[j] = b.Tables[j], b.Tables[i]
	}
	for _, table := range b.Tables {
		c := table.Columns
		c[0], c[len(c)-1] = c[len(c)-1], c[0]
	}
	assert.Equal(t, sqlschema.Fingerprint(a), sqlschema.Fingerprint(b))
	b.Tables[0].Columns[0].NotNull = !b.Tables[0].Columns[0].NotNull
	assert.NotEqual(t, sqlschema.Fingerprint(a), sqlschema.Fingerprint(b))
	assert.Len(t, sqlschema.Fingerprint(a), 12)
}
