package adopt

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// The pattern by which a name was made, where the parts of it stand apart.
func TestPatternOf(t *testing.T) {
	for _, c := range []struct {
		name, table string
		columns     []string
		target, is  string
	}{
		{"fk_loan_box_id", "loan", []string{"box_id"}, "box", "fk_{table}_{columns}"},
		{"loan_box_id_fkey", "loan", []string{"box_id"}, "box", "{table}_{columns}_fkey"},
		{"fk_loan_box_id_box", "loan", []string{"box_id"}, "box", "fk_{table}_{columns}_{target}"},
		{"ix_x_a_b", "x", []string{"a", "b"}, "", "ix_{table}_{columns}"},
		{"idx_x_c", "x", []string{"c"}, "", "idx_{table}_{columns}"},
		{"box_id", "loan", []string{"box_id"}, "", "{columns}"},
		{"loan_ibfk_1", "loan", []string{"box_id"}, "box", ""},
		{"odd", "loan", []string{"z"}, "", ""},
		{"fk_loans_a", "loan", []string{"a"}, "", "fk_loans_{columns}"},
		{"pk_loan", "loan", nil, "", "pk_{table}"},
		{"odd{table}", "loan", []string{"a"}, "", ""},
	} {
		assert.Equal(t, c.is, patternOf(c.name, c.table, c.columns, c.target), c.name)
	}
}
