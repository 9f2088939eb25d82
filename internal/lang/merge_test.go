package lang

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMerge(t *testing.T) {
	const src = `# what the garden has
model Reader
    # who
    name               text(60)                fake name  # as on the card
    since              text                    as "DATE" optional
    town               text                    optional default "Quell"
    timestamps
    index by_name: name desc

model Other
    name               text(60)
`
	cases := []struct{ about, was, now, want string }{
		{"a type", "name text(60)", "name text(90) optional", `# what the garden has
model Reader
    # who
    name               text(90)                optional fake name  # as on the card
    since              text                    as "DATE" optional
    town               text                    optional default "Quell"
    timestamps
    index by_name: name desc
`},
		{"clauses come and go", "town text optional\nsince text as \"DATE\" optional\nindex by_name: name desc",
			"town text unique named \"u x\" check unnamed: {town} > ''\nsince text optional as \"NUM\"\nindex of_town: town", `# what the garden has
model Reader
    # who
    name               text(60)                fake name  # as on the card
    since              text                    as "NUM" optional
    town               text                    default "Quell" unique named "u x" check unnamed: {town} > ''
    timestamps
    index of_town: town
`},
		{"a field goes, one comes", "since text as \"DATE\" optional", "note text optional", `# what the garden has
model Reader
    # who
    name               text(60)                fake name  # as on the card
    town               text                    optional default "Quell"
    note               text                    optional
    timestamps
    index by_name: name desc
`},
	}
	for _, c := range cases {
		t.Run(c.about, func(t *testing.T) {
			out, left, diags := Merge("m.erbario", src, "Reader", model(c.was), model(c.now))
			require.Empty(t, diags)
			assert.Empty(t, left)
			assert.Equal(t, c.want+"\nmodel Other\n    name               text(60)\n", out)
		})
	}
	out, left, diags := Merge("m.erbario", src, "Reader", model("created_at timestamp\nindex x: name"), model(""))
	require.Empty(t, diags)
	assert.Equal(t, []string{"created_at timestamp", "index x: name"}, left)
	assert.Equal(t, src, out)
}

func model(lines string) string {
	out := "model Reader\n"
	for _, l := range strings.Split(lines, "\n") {
		out += "    " + l + "\n"
	}
	return out
}
