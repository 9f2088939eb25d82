package mariadb

// This file is the statements that make and drop tables, triggers and references.

import (
	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Create gives the step for a new table.
func (Engine) Create(t *sqlschema.Table) engine.Step {
	s := engine.Step{
		Title:     "create " + t.Name,
		Apply:     []string{createTable(t, t.Name)},
		Undo:      []string{"DROP TABLE " + quote(t.Name)},
		UndoLoses: []engine.Loss{{Table: t.Name}},
	}
	for _, g := range t.Triggers { // each goes by itself, too: the way back may be turned between two steps
		s.Apply, s.Undo = append(s.Apply, g.SQL.Text), append([]string{"DROP TRIGGER " + quote(g.Name)}, s.Undo...)
	}
	return s
}

// Trigger gives the statements that make a trigger, and those that drop it.
func (Engine) Trigger(_ *sqlschema.Table, g *sqlschema.Trigger) (create, drop []string) {
	return []string{g.SQL.Text}, []string{"DROP TRIGGER " + quote(g.Name)}
}

// AddReference gives the statement that makes a reference, with its index where no other
// serves it.
func (Engine) AddReference(t *sqlschema.Table, k *sqlschema.ForeignKey) []string {
	s := "ALTER TABLE " + quote(t.Name)
	if k.OwnIndex || !covered(t, k) {
		s += " ADD " + indexDefinition(ownIndex(k)) + ","
	}
	return []string{s + " ADD " + named(k.Name) + foreignKey(k)}
}

// DropReference gives the statement that drops a reference, with its own index.
func (Engine) DropReference(t *sqlschema.Table, k *sqlschema.ForeignKey) []string {
	s := "ALTER TABLE " + quote(t.Name) + " DROP FOREIGN KEY " + quote(k.Name)
	if k.OwnIndex || !covered(t, k) {
		s += ", DROP INDEX " + quote(k.Name)
	}
	return []string{s}
}
