package postgres

// This file gives changes of tables that are in use the form in which nobody has to
// wait: what has to look at every row does so under a lock that lets others work, in a
// transaction of its own, and only the moment in which it begins to hold needs the
// strong one. The way back has the same form.

import (
	"fmt"
	"slices"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// inUse gives the steps for one change and its way back.
func inUse(table string, o, back op) []engine.Step {
	if !o.comes && (o.check != nil || o.index != nil || o.column != nil) {
		steps := inUse(table, back, o)
		slices.Reverse(steps)
		for i := range steps {
			s := &steps[i]
			s.Apply, s.Undo = s.Undo, s.Apply
			s.Title = goingTitle(table, o, i, len(steps))
		}
		return steps
	}
	own := func(title string, apply, undo []string) engine.Step {
		return engine.Step{Title: title, Kind: engine.OwnTransaction, Note: noteKeeps, Apply: apply, Undo: undo}
	}
	reads := func(title, apply string) engine.Step {
		return engine.Step{Title: title, Kind: engine.OwnTransaction, Apply: []string{apply}}
	}
	alter := alterTable(table)
	switch {
	case o.check != nil:
		k := *o.check
		k.NotValid = true
		name := quote(k.Name)
		return []engine.Step{
			own("check "+k.Name+" of what comes", []string{alter + "ADD " + named(k.Name) + checkDefinition(&k)}, []string{alter + "DROP CONSTRAINT " + name}),
			reads("check "+k.Name+" of every row", alter+"VALIDATE CONSTRAINT "+name),
		}
	case o.column != nil:
		// The server takes a check that holds for a proof, and does not look again.
		name := schema.Cut("erbario_" + table + "_" + o.column.Name + "_there")
		x := quote(o.column.Name)
		add := alter + "ADD " + named(name) + "CHECK (" + x + " IS NOT NULL) NOT VALID"
		drop := alter + "DROP CONSTRAINT " + quote(name)
		return []engine.Step{
			own(fmt.Sprintf("%s.%s is there in what comes", table, o.column.Name), []string{add}, []string{drop}),
			reads(fmt.Sprintf("%s.%s is there in every row", table, o.column.Name), alter+"VALIDATE CONSTRAINT "+quote(name)),
			own(o.title, []string{alter + "ALTER COLUMN " + x + " SET NOT NULL", drop}, []string{add, alter + "ALTER COLUMN " + x + " DROP NOT NULL"}),
		}
	case o.index != nil:
		x := *o.index
		x.Constraint = false
		options := x.Options
		if o.index.Constraint {
			x.Options = ""
		}
		build := engine.Step{Title: "build " + indexTitle(&schema.Table{Name: table}, &x), Kind: engine.OutsideTransaction,
			Apply: []string{indexStatement(table, &x, "CONCURRENTLY ")}, Undo: []string{"DROP INDEX CONCURRENTLY IF EXISTS " + quote(x.Name)}}
		if !o.index.Constraint {
			return []engine.Step{build}
		}
		return []engine.Step{build, own(o.title, []string{alter + "ADD " + named(x.Name) + "UNIQUE USING INDEX " + quote(x.Name) + options}, []string{alter + "DROP CONSTRAINT " + quote(x.Name)})}
	}
	return []engine.Step{{Title: o.title, Kind: engine.OwnTransaction, Note: o.note, Apply: o.sql, Undo: back.sql, UndoLoses: engine.Qualify(table, o.adds)}}
}

// goingTitle says what the steps of a change do that takes something away. Most have
// nothing to do but on the way back.
func goingTitle(table string, o op, i, n int) string {
	what := ""
	switch {
	case o.check != nil:
		what = "check " + o.check.Name
	case o.index != nil:
		what = indexTitle(&schema.Table{Name: table}, o.index)
	default:
		what = fmt.Sprintf("%s.%s", table, o.column.Name)
	}
	switch {
	case o.column != nil && i == 0:
		return what + " is optional"
	case o.column == nil && (o.index != nil && i == 0 || o.check != nil && i == n-1):
		return "drop " + what
	}
	return what + ", on the way back"
}

// ReferenceInUse gives the steps that make a reference while its tables are used.
func (Engine) ReferenceInUse(t *schema.Table, k *schema.ForeignKey) []engine.Step {
	c := *k
	c.NotValid = true
	title := fmt.Sprintf("%s references %s", t.Name, k.Table)
	alter := alterTable(t.Name)
	return []engine.Step{
		{Title: title + ", of what comes", Kind: engine.OwnTransaction, Note: noteKeeps, Apply: []string{alter + "ADD " + named(k.Name) + foreignKey(&c)}, Undo: []string{alter + "DROP CONSTRAINT " + quote(k.Name)}},
		{Title: title + ", of every row", Kind: engine.OwnTransaction, Apply: []string{alter + "VALIDATE CONSTRAINT " + quote(k.Name)}},
	}
}
