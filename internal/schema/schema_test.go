package schema

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestBraces(t *testing.T) {
	up := func(s string) string { return "<" + s + ">" }
	for in, want := range map[string]string{
		"{a} > 0": "<a> > 0", "lower({ a })": "lower(<a>)", "'{a}' || {b}": "'{a}' || <b>", `"{a}"`: `"{a}"`,
		`{"odd name"} = 1`: "<odd name> = 1", "{a": "{a", "": "", "'it''s {a}' {b}": "'it''s {a}' <b>",
	} {
		assert.Equal(t, want, Braces(in, up), in)
	}
}

func TestTypeWords(t *testing.T) {
	for want, typ := range map[string]Type{
		"text": {Kind: Text}, "text(8)": {Kind: Text, Length: 8}, "decimal(8,2)": {Kind: Decimal, Precision: 8,
			Scale: 2}, "choice(a, b)": {Kind: Choice, Choices: []string{"a", "b"}},
		"Rarity":         {Kind: Choice, Name: "Rarity", Choices: []string{"a"}},
		`sql "tsvector"`: {Kind: Native, Name: "tsvector"},
	} {
		assert.Equal(t, want, typ.String())
	}
	assert.Equal(t, `"a \"b\" \\ c"`, Value{Kind: TextValue, Text: `a "b" \ c`}.String())
}

func TestOwn(t *testing.T) {
	assert.True(t, Own("erbario_history"))
	assert.True(t, Own("Erbario_x"))
	assert.False(t, Own("erbario"))
	assert.False(t, Own("specimens"))
}

// A name says its schema, and is taken apart again, whatever the two are called.
func TestNamesInSchemas(t *testing.T) {
	assert.Equal(t, "billing.accounts", InSchema("billing", "accounts"))
	assert.Equal(t, `billing."old.cards"`, InSchema("billing", "old.cards"))
	assert.Equal(t, `"old.cards"`, InSchema("", "old.cards"))
	assert.Equal(t, "erbario_kept_1_billing.accounts", InSchema("billing", "erbario_kept_1_billing.accounts"))
	own := (&Table{Name: `billing."old.cards"`, Schema: "billing"})
	assert.Equal(t, "old.cards", own.Bare())
	assert.Equal(t, "billing.by_number", own.Beside("by_number"))
	assert.Equal(t, "old.cards", (&Table{Name: "old.cards"}).Bare()) // of an engine without schemas
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringOfN(rapid.SampledFrom([]rune(`ab."_ é`)), 1, 6, -1)
		in, own := rapid.Just("").Draw(t, "none"), name.Draw(t, "own")
		if rapid.Bool().Draw(t, "in another") {
			in = name.Draw(t, "in")
		}
		gotIn, gotOwn := SplitName(InSchema(in, own))
		assert.Equal(t, []string{in, own}, []string{gotIn, gotOwn}, InSchema(in, own))
	})
}

// What answers name is cut behind the table, whose schema may stand before it.
func TestCutTable(t *testing.T) {
	tables := map[string]bool{"billing.accounts": true, "billing": true, "boxes": true, `"old.cards"`: true, "stock.a": true}
	for in, want := range map[string][2]string{
		"boxes.label": {"boxes", "label"}, "billing.accounts.name": {"billing.accounts", "name"},
		"billing.accounts": {"billing", "accounts"}, `"old.cards".id`: {`"old.cards"`, "id"}, "boxes": {"boxes", ""},
		"stock.a": {"stock.a", ""}, "unknown.field.value": {"unknown", "field.value"},
		"billing.accounts.kind.open": {"billing.accounts", "kind.open"},
	} {
		table, rest, _ := CutTable(in, func(name string) bool { return tables[name] })
		assert.Equal(t, want, [2]string{table, rest}, in)
	}
}
