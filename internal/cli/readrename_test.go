package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"erbario/internal/plan"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// A name and a value may have points and equals signs of their own.
func TestReadRename(t *testing.T) {
	column := func(name string, choices ...string) *sqlschema.Column {
		return &sqlschema.Column{Name: name, Type: schema.Type{Choices: choices}}
	}
	live := &sqlschema.Schema{Tables: []*sqlschema.Table{
		{Name: "sheets", Columns: []*sqlschema.Column{column("seen"), column("odd.one"), column("state")}},
		{Name: "stock.boxes", Columns: []*sqlschema.Column{column("state")}},
	}}
	wanted := &sqlschema.Schema{Tables: []*sqlschema.Table{
		{Name: "sheets", Columns: []*sqlschema.Column{column("seen", "low"), column("odd.one"), column("state", "a=b", "b")}},
		{Name: "stock.boxes", Columns: []*sqlschema.Column{column("state", "full")}},
	}}
	for said, want := range map[string]plan.Rename{
		"sheets=papers":                            {Table: "sheets", To: "papers"},
		"sheets.seen=found":                        {Table: "sheets", Column: "seen", To: "found"},
		"sheets.odd.one=even":                      {Table: "sheets", Column: "odd.one", To: "even"},
		"sheets.seen.1999-12-31T23:59:59.999Z=low": {Table: "sheets", Column: "seen", Value: "1999-12-31T23:59:59.999Z", To: "low"},
		"sheets.state.c=d=b":                       {Table: "sheets", Column: "state", Value: "c=d", To: "b"},
		"sheets.state.c=a=b":                       {Table: "sheets", Column: "state", Value: "c", To: "a=b"},
		"sheets.state.c=none":                      {Table: "sheets", Column: "state", Value: "c", To: "none"},
		"stock.boxes.state.half full. =full":       {Table: "stock.boxes", Column: "state", Value: "half full. ", To: "full"},
		"stock.boxes=stock.cases":                  {Table: "stock.boxes", To: "stock.cases"},
	} {
		got, ok := readRename(said, live, wanted)
		assert.True(t, ok, said)
		assert.Equal(t, want, got, said)
	}
	for _, said := range []string{"sheets", "sheets=", "=papers", "sheets.=x", "sheets.seen.=x", ".seen=x"} {
		_, ok := readRename(said, live, wanted)
		assert.False(t, ok, said)
	}
}
