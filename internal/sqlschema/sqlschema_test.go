package sqlschema

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A clone shares nothing that a later stage changes.
func TestClone(t *testing.T) {
	a := &Schema{
		Tables: []*Table{
			{
				Name:        "a",
				Columns:     []*Column{{Name: "x"}},
				PrimaryKey:  &PrimaryKey{Name: "k"},
				Checks:      []*Check{{Name: "c"}},
				Indexes:     []*Index{{Name: "i"}},
				Triggers:    []*Trigger{{Name: "t"}},
				ForeignKeys: []*ForeignKey{{Name: "f"}},
			},
		},
	}
	b := a.Clone()
	b.Tables[0].Columns[0].Name, b.Tables[0].PrimaryKey.Name, b.Tables[0].Checks[0].Name = "y", "y", "y"
	b.Tables[0].Indexes[0].Name, b.Tables[0].Triggers[0].Name, b.Tables[0].ForeignKeys[0].Name = "y", "y", "y"
	assert.Equal(t, "x", a.Tables[0].Columns[0].Name)
	assert.Equal(t, "k", a.Tables[0].PrimaryKey.Name)
	assert.Equal(t, "c", a.Tables[0].Checks[0].Name)
	assert.Equal(t, "i", a.Tables[0].Indexes[0].Name)
	assert.Equal(t, "t", a.Tables[0].Triggers[0].Name)
	assert.Equal(t, "f", a.Tables[0].ForeignKeys[0].Name)
}
