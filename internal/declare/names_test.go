package declare

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"erbario/internal/schema"
)

func TestTableNames(t *testing.T) {
	for model, want := range map[string]string{
		"Taxon": "taxons", "LoanItem": "loan_items", "Specimen": "specimens", "Locality": "localities", "Day": "days", "Box": "boxes", "Branch": "branches", "HTTPHost": "http_hosts",
		"Person": "people", "Status": "statuses", "Species": "species", "Sheet2": "sheet2s", "Wood_Box": "wood_boxes", "Größe": "größes", "loan": "loans",
	} {
		assert.Equal(t, want, Rules{}.tableName(model), model)
	}
	assert.Equal(t, "loan_item", Rules{Tables: "singular"}.tableName("LoanItem"))
}

// Names are cut to the limit and never become the same.
func TestLongNames(t *testing.T) {
	long := strings.Repeat("specimen", 30)
	a, b := schema.ConstraintName(long, []string{"a"}, "key"), schema.ConstraintName(long, []string{"b"}, "key")
	assert.LessOrEqual(t, len(a), schema.NameLimit)
	assert.NotEqual(t, a, b)
	assert.LessOrEqual(t, len(schema.Cut(strings.Repeat("ö", 100))), schema.NameLimit)
	assert.Equal(t, "short", schema.Cut("short"))
}

// The singular of a plural is the word again, as far as the plural tells it.
func TestSingular(t *testing.T) {
	for plural, one := range map[string]string{
		"sheets": "sheet", "boxes": "box", "uses": "use", "statuses": "status", "classes": "class", "localities": "locality",
		"people": "person", "Children": "Child", "series": "series", "tax": "tax", "s": "s", "branches": "branch",
	} {
		assert.Equal(t, one, Singular(plural))
	}
}

// Patterns for the names of constraints and indexes, and those that could not keep names apart.
func TestNamePatterns(t *testing.T) {
	n := Names{ForeignKey: "fk_{table}_{columns}_{target}", Unique: "uq_{table}_{columns}", Index: "{columns}",
		PrimaryKey: "pk_{table}"}
	kind, _, _ := n.Problem()
	assert.Empty(t, kind)
	assert.Equal(t, "fk_loans_box_id_boxes", n.ForeignKeyName("loans", []string{"box_id"}, "boxes"))
	assert.Equal(t, "uq_loans_a_b", n.IndexName("loans", []string{"a", "b"}, true))
	assert.Equal(t, "a_b", n.IndexName("loans", []string{"a", "b"}, false))
	assert.Equal(t, "pk_loans", n.PrimaryKeyName("loans"))
	assert.Len(t, n.IndexName(strings.Repeat("n", 80), []string{"a"}, true), schema.NameLimit)
	assert.Equal(t, "loans_box_id_fkey", Names{}.ForeignKeyName("loans", []string{"box_id"}, "boxes"))
	for _, bad := range []Names{{ForeignKey: "fk_{columns}"}, {ForeignKey: "fk_{table}"}, {Unique: "u"},
		{Index: "{table}"}, {PrimaryKey: "pk"}, {Check: "c"}} {
		kind, _, needs := bad.Problem()
		assert.NotEmpty(t, kind, "%v", bad)
		assert.NotEmpty(t, needs)
	}
}
