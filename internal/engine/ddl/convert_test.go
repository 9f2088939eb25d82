package ddl_test

// Every conversion of every engine, from each type to each: what it is made of must not
// change unseen. UPDATE_CONVERSIONS=1 writes what comes out.

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engines"
	"erbario/internal/schema"
)

func TestConversions(t *testing.T) {
	types := []schema.Type{
		{Kind: schema.Text}, {Kind: schema.Text, Length: 9}, {Kind: schema.Text, Length: 40}, {Kind: schema.Smallint},
		{Kind: schema.Integer},
		{Kind: schema.Bigint}, {Kind: schema.Decimal, Precision: 8, Scale: 2},
		{Kind: schema.Decimal, Precision: 20, Scale: 4},
		{Kind: schema.Decimal, Precision: 30, Scale: 0}, {Kind: schema.Real}, {Kind: schema.Double},
		{Kind: schema.Boolean},
		{Kind: schema.Date}, {Kind: schema.Time}, {Kind: schema.Timestamp}, {Kind: schema.Datetime},
		{Kind: schema.UUID}, {Kind: schema.JSON},
		{Kind: schema.Bytes}, {Kind: schema.Choice, Choices: []string{"fresh", "lost"}},
		{Kind: schema.Choice, Enum: "state", Choices: []string{"fresh", "lost"}},
	}
	var b strings.Builder
	for _, e := range engines.All() {
		for _, from := range types {
			for _, to := range types {
				columns := []*schema.Column{{Name: "a", Type: from}, {Name: "b", Type: to}}
				s, _ := e.DDL().Lower(&schema.Schema{Tables: []*schema.Table{{Name: "t", Columns: columns}}})
				c, ok := e.DDL().Convert(s.Tables[0].Columns[0], s.Tables[0].Columns[1])
				if ok {
					fmt.Fprintf(&b, "%s %s -> %s: %s | %s | %s | %t\n", e.Name(), word(from), word(to), c.SQL, c.How,
						c.Fits, c.Exact)
				}
			}
		}
	}
	if os.Getenv("UPDATE_CONVERSIONS") != "" {
		require.NoError(t, os.WriteFile("testdata/conversions.txt", []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile("testdata/conversions.txt")
	require.NoError(t, err)
	assert.Equal(t, strings.Split(string(want), "\n"), strings.Split(b.String(), "\n"))
}

func word(t schema.Type) string {
	s := string(t.Kind)
	switch {
	case t.Length > 0:
		s += fmt.Sprintf("(%d)", t.Length)
	case t.Precision > 0:
		s += fmt.Sprintf("(%d,%d)", t.Precision, t.Scale)
	case t.Enum != "":
		s = "enum"
	}
	return s
}
