package adopt

// These tests find names and settings for databases that follow other rules.

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"erbario/internal/declare"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

func TestModelNames(t *testing.T) {
	n := &naming{taken: map[string]bool{}, models: map[string]string{}}
	for _, c := range [][2]string{
		{"sheets", "Sheet"}, {"sheet", "Sheet2"}, {"LOAN_ITEMS", "LoanItem"}, {"card index", "CardIndex"}, {"2nd", "T2nd"},
		{"---", "T"}, {"標本", "標本"}, {"series", "Series"}, {"tbl_people", "TblPerson"}, {"herbarium-boxes", "HerbariumBox"},
	} {
		assert.Equal(t, c[1], n.model(&schema.Table{Name: c[0]}), c[0])
	}
	for name, want := range map[string]string{"size": "size", "unique": `"unique"`, "a b": `"a b"`, "1st": `"1st"`, "größe": "größe"} {
		assert.Equal(t, want, fieldName(name))
	}
	taken := map[string]bool{}
	assert.Equal(t, "loan_item", fileName("LoanItem", taken))
	assert.Equal(t, "loan_item2", fileName("Loan_Item", taken))
}

// The settings are what most tables say.
func TestChoose(t *testing.T) {
	column := func(name string) *sqlschema.Column { return &sqlschema.Column{Name: name} }
	live := &sqlschema.Schema{Tables: []*sqlschema.Table{
		{Name: "sheet", Columns: []*sqlschema.Column{column("id"), column("boxId")}, ForeignKeys: []*sqlschema.ForeignKey{
			{Columns: []string{"boxId"}, Table: "box", References: []string{"id"}, OnDelete: schema.NoAction, OnUpdate: schema.Restrict},
			{Columns: []string{"roomId"}, Table: "rooms", References: []string{"id"}, OnDelete: schema.NoAction, OnUpdate: schema.Restrict},
			{Columns: []string{"shelf_id"}, Table: "shelf", References: []string{"id"}, OnDelete: schema.Restrict, OnUpdate: schema.Cascade},
		}},
		{Name: "box", Columns: []*sqlschema.Column{column("id")}},
		{Name: "rooms", Columns: []*sqlschema.Column{column("id")}},
		{Name: "erbario_history", Columns: []*sqlschema.Column{column("id")}},
		{Name: "erbario_runs", Columns: []*sqlschema.Column{column("id")}},
	}}
	rules, settings := Choose(live, "mariadb", declare.Rules{})
	assert.Equal(t, declare.Rules{Tables: "singular", Unchecked: true, Reference: "{field}Id", OnDelete: schema.NoAction}, rules)
	assert.Equal(t, []Setting{
		{"naming", "tables", "singular"}, {"naming", "type_checks", "false"}, {"naming", "reference", "{field}Id"},
		{"models", "on_delete", "no action"},
	}, settings)
}
