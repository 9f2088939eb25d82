package postgres

// This file is the statements that make and drop whole objects, and give them other names.

import (
	"fmt"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Create gives the step for a new table.
func (Engine) Create(t *sqlschema.Table) engine.Step {
	return engine.Step{
		Title:     "create " + t.Name,
		Apply:     tableStatements(t),
		Undo:      []string{"DROP TABLE " + quote(t.Name)},
		UndoLoses: []engine.Loss{{Table: t.Name}},
	}
}

// AddReference gives the statement that makes a reference.
func (Engine) AddReference(t *sqlschema.Table, k *sqlschema.ForeignKey) []string {
	return []string{alterTable(t.Name) + "ADD " + named(k.Name) + foreignKey(k)}
}

// DropReference gives the statement that drops a reference.
func (Engine) DropReference(t *sqlschema.Table, k *sqlschema.ForeignKey) []string {
	return []string{alterTable(t.Name) + "DROP CONSTRAINT " + quote(k.Name)}
}

// RenameReference gives the statement that gives a reference another name.
func (Engine) RenameReference(t *sqlschema.Table, from, to string) []string {
	return []string{renameConstraint(t.Name, from, to)}
}

// Rename gives the step that renames a table, or a column of one; the server's own
// references follow.
func (Engine) Rename(s *sqlschema.Schema, table, column, to string) ([]engine.Step, *sqlschema.Schema) {
	title, start := fmt.Sprintf("rename %s to %s", table,
		to), func(name string) string { return alterTable(name) + "RENAME " }
	apply, undo := start(table)+"TO "+quote(to), start(to)+"TO "+quote(table)
	if column != "" {
		title = fmt.Sprintf("rename %s.%s to %s", table, column, to)
		apply, undo = start(table)+"COLUMN "+quote(column)+" TO "+quote(to), start(
			table,
		)+"COLUMN "+quote(to)+" TO "+quote(column)
	}
	return []engine.Step{{Title: title, Work: engine.Keeps, Apply: []string{apply}, Undo: []string{undo}}}, s
}
