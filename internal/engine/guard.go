package engine

// This file is what the guards of soft deletion say on every engine.

import "fmt"

// GuardWords say that a row is not marked as deleted and so cannot go.
func GuardWords(table string) string {
	return fmt.Sprintf("a row of %s can be deleted permanently only after it is marked as deleted", table)
}

// GuardRoleWords say who may delete rows permanently.
func GuardRoleWords(table, role string) string {
	return fmt.Sprintf("only members of %s may delete rows of %s permanently", role, table)
}

// GuardMarkWords say who may take the mark as deleted away.
func GuardMarkWords(table, role string) string {
	return fmt.Sprintf("only members of %s may restore deleted rows of %s", role, table)
}
