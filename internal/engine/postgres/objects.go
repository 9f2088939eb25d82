package postgres

// This file is the statements that make and drop whole objects, and give them other names.

import (
	"fmt"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Create gives the step for a new table.
func (Engine) Create(t *sqlschema.Table) engine.Step {
	return engine.Step{
		Title:     "create " + t.Name,
		Apply:     tableStatements(t),
		Undo:      []string{"DROP TABLE " + quoteTable(t.Name)},
		UndoLoses: []engine.Loss{{Table: t.Name}},
	}
}

// AddReference gives the statement that makes a reference.
func (Engine) AddReference(t *sqlschema.Table, k *sqlschema.ForeignKey) []string {
	return []string{alterTable(t.Name) + "ADD " + named(k.Name) + foreignKey(k)}
}

// CreateSchema gives the statements that create a schema, where there is none of that name, and drop it again, where
// nothing is in it and nobody has done anything with it.
func (Engine) CreateSchema(name string) (apply, undo []string) {
	return []string{"CREATE SCHEMA IF NOT EXISTS " + quote(name)}, []string{dropSchema(name)}
}

// dropSchema is the statement that drops a schema where nothing is in it and nobody has done anything with it.
func dropSchema(name string) string {
	return `DO $erbario$BEGIN
    IF EXISTS (SELECT FROM pg_catalog.pg_namespace WHERE nspname = ` + literal(name) + `
        AND nspowner = pg_catalog.quote_ident(current_user)::regrole::oid
        AND nspacl IS NULL AND pg_catalog.obj_description(oid, 'pg_namespace') IS NULL) THEN
        DROP SCHEMA ` + quote(name) + `;
    END IF;
EXCEPTION WHEN dependent_objects_still_exist THEN NULL;
END$erbario$`
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
	apply, undo := renameTable(table, to), renameTable(to, table)
	if in, _ := schema.SplitName(to); in != "" && column == "" {
		if from, _ := schema.SplitName(table); from != in { // it may come for that table
			undo = append(undo, dropSchema(in))
		}
	}
	if column != "" {
		title = fmt.Sprintf("rename %s.%s to %s", table, column, to)
		apply = []string{start(table) + "COLUMN " + quote(column) + " TO " + quote(to)}
		undo = []string{start(table) + "COLUMN " + quote(to) + " TO " + quote(column)}
	}
	return []engine.Step{{Title: title, Work: engine.Keeps, Apply: apply, Undo: undo}}, s
}
