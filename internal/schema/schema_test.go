package schema

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
