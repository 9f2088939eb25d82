package mariadb

// This file changes tables that are in use so that nobody waits for more than a moment.
// Rows are given values in batches; what is written meanwhile is given its values by
// triggers, which are there until the table itself holds what is declared. A reference
// begins to hold for what comes, and then the rows that are there are asked.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// inBatches is how rows are given their values in batches.
type inBatches struct {
	fills  []engine.Step
	during *engine.Step     // what comes in the meantime is given its values; nil: a bridge does it
	behind *engine.Step     // no more
	held   *sqlschema.Table // what is declared, with the columns that go; nil: none is asked for values
}

// fillTrigger names the triggers that give values to what comes meanwhile.
func fillTrigger(table, event string) string {
	return schema.Cut("erbario_fill_" + table + "_" + strings.ToLower(event))
}

// batched gives the steps by which the rows are given their values in batches; nil where
// the change has no such form: values that turn into others, tables without a key.
func (c *change) batched() *inBatches {
	from, to := c.From, c.Alteration.To
	key := from.Key()
	if !c.InUse || len(key) == 0 || len(c.replaced) > 0 || from.Unkeyed() ||
		!sqlschema.SameKey(from.PrimaryKey, to.PrimaryKey) {
		return nil
	}
	table := quote(from.Name)
	batches := &engine.Batches{Table: from.Name, Key: key}
	var backFills []engine.Step
	for _, o := range from.Columns {
		s, ok := c.Back[o.Name]
		_, kept := c.kept[o.Name]
		if ok && !kept && o.Generated == nil && to.Column(o.Name) == nil && s.SQL != "" && s.NullsIn == "" {
			backFills = append(backFills, engine.Step{
				Title:   fmt.Sprintf("%s.%s for existing rows, in the undo", from.Name, o.Name),
				Kind:    engine.InBatches,
				Batches: batches,
				Undo:    quietly([]string{update(table, []string{quote(o.Name) + " = " + s.SQL}, ":"+engine.Batch)}),
			})
			continue
		}
		if c.backNone(o) {
			continue
		}
		if ok && !kept && o.Generated == nil && (s.SQL != "" || s.NullsIn == "" || c.Keep == "") {
			return nil
		}
	}
	out := &inBatches{}
	var fills []*sqlschema.Column
	values := map[string]string{}
	for _, n := range to.Columns {
		s, ok := c.Forward[n.Name]
		old := from.Column(n.Name)
		switch {
		case !ok || s.SQL == "" || n.Generated != nil || old == nil && s.Literal:
			continue
		case old == nil:
			values[n.Name] = s.SQL
		case s.Fill == "" || s.Converts || c.touched(n.Name):
			return nil
		default:
			values[n.Name] = s.Fill
		}
		fills = append(fills, n)
	}
	for _, n := range fills {
		value := values[n.Name]
		if slices.ContainsFunc(from.Columns,
			func(o *sqlschema.Column) bool { return o.Generated != nil && mentions(value, o.Name) }) {
			return nil // not there yet for a trigger
		}
		out.fills = append(out.fills, c.fillStep(n, value, batches))
	}
	for _, o := range from.Columns {
		if value := orElse(o, c.Back[o.Name]); (c.kept[o.Name] != "" || c.backNone(o)) && o.NotNull && value != "" &&
			o.Generated == nil {
			x := quote(o.Name)
			out.fills = append(out.fills, engine.Step{
				Title:   fmt.Sprintf("%s.%s of rows added in the meantime, in the undo", from.Name, o.Name),
				Kind:    engine.InBatches,
				Batches: batches,
				Undo: quietly(
					[]string{update(table, []string{x + " = " + value}, table+"."+x+" IS NULL AND :"+engine.Batch)},
				),
			})
		}
	}
	if out.fills = append(out.fills, backFills...); len(out.fills) == 0 {
		return nil
	}
	c.during(out, fills, values)
	return out
}

// fillStep fills a column in batches, and notes which rows had no value, if they were there.
func (c *change) fillStep(n *sqlschema.Column, value string, batches *engine.Batches) engine.Step {
	from, table, x := c.From, quote(c.From.Name), quote(n.Name)
	s := engine.Step{
		Title:   fmt.Sprintf("fill %s.%s", from.Name, n.Name),
		Kind:    engine.InBatches,
		Work:    engine.Rewrites,
		Batches: batches,
	}
	if from.Column(n.Name) != nil && c.Keep != "" {
		noted := quote(c.Keep) + " AS kept" + keptByKey
		s.Apply = append(s.Apply, noteEmpty(c.Alteration, []string{n.Name})+" AND :"+engine.Batch)
		s.Undo = []string{
			c.unfill(from.Column(n.Name), c.Back[n.Name], n.Name) + " AND :" + engine.Batch,
			fmt.Sprintf("DELETE kept FROM %s JOIN %s ON %s WHERE kept.%s IS NOT NULL AND :%s", noted, table,
				keptMatch(c.Back[n.Name].Match, "kept", table), quote("filled_"+n.Name), engine.Batch),
		}
	}
	s.Apply = quietly(
		append(s.Apply, update(table, []string{x + " = " + value}, table+"."+x+" IS NULL AND :"+engine.Batch)),
	)
	s.Undo = quietly(s.Undo)
	return s
}

// during gives what is written meanwhile its values, too. Of a column that is new, nobody
// takes a value away: rows that are changed are left to the batches.
func (c *change) during(b *inBatches, fills []*sqlschema.Column, values map[string]string) {
	set := map[string][]string{}
	for _, n := range fills {
		if slices.ContainsFunc(c.bridges(), func(g *sqlschema.Trigger) bool { return mentions(g.SQL.Text, n.Name) }) {
			continue
		}
		x := quote(n.Name)
		given := fmt.Sprintf("NEW.%s = IF(NEW.%s IS NULL AND %s IS NULL, %s, NEW.%s)", x, x, quiet,
			overNew(c.mid, values[n.Name]), x)
		set["INSERT"] = append(set["INSERT"], given)
		if c.From.Column(n.Name) != nil {
			set["UPDATE"] = append(set["UPDATE"], given)
		}
		for _, o := range c.From.Columns {
			if c.Alteration.To.Column(o.Name) == nil && c.kept[o.Name] != "" && mentions(values[n.Name], o.Name) {
				b.held = c.to
			}
		}
	}
	if len(set) == 0 {
		return
	}
	var create, drop []string // back there are none: what was null is null again
	for _, event := range []string{"INSERT", "UPDATE"} {
		if set[event] == nil {
			continue
		}
		name := quote(fillTrigger(c.From.Name, event))
		create = append(
			create,
			fmt.Sprintf("CREATE TRIGGER %s BEFORE %s ON %s FOR EACH ROW SET %s", name, event, quote(c.From.Name),
				strings.Join(set[event], ", ")),
		)
		drop = append(drop, "DROP TRIGGER IF EXISTS "+name)
	}
	b.during = &engine.Step{
		Title: "fill new rows of " + c.From.Name,
		Work:  engine.Keeps,
		Apply: underLock(c.From.Name, "", create...),
		Undo:  underLock(c.From.Name, "", drop...),
	}
	b.behind = &engine.Step{
		Title: "stop filling new rows of " + c.From.Name,
		Work:  engine.Keeps,
		Apply: underLock(c.From.Name, "", drop...),
	}
	if b.held != nil { // the columns that go keep their names until no trigger asks them
		b.held = c.to.Clone()
		for name, keep := range c.kept {
			if o := b.held.Column(keep); o != nil {
				o.Name, o.Invisible = name, false
			}
		}
	}
}

// bridges are the triggers that come with the change and complete what is written to the
// table: they are there before anything is filled.
func (c *change) bridges() []*sqlschema.Trigger {
	return slices.DeleteFunc(slices.Clone(c.Alteration.To.Triggers), func(g *sqlschema.Trigger) bool {
		return g.Purpose != schema.ForBridge ||
			slices.ContainsFunc(c.From.Triggers, func(o *sqlschema.Trigger) bool { return o.Name == g.Name })
	})
}

// overNew is an expression over a row in a trigger, before the row is written.
func overNew(t *sqlschema.Table, sql string) string {
	var row []string
	for _, c := range t.Columns {
		if mentions(sql, c.Name) {
			row = append(row, "NEW."+quote(c.Name)+" AS "+quote(c.Name))
		}
	}
	if len(row) == 0 {
		return "(" + sql + ")"
	}
	return "(SELECT " + sql + " FROM (SELECT " + strings.Join(row, ", ") + ") AS " + quote(t.Name) + ")"
}

// The server makes a reference without a look at the rows while it does not hold any.
const (
	holdNoReferences = "SET @@foreign_key_checks = 0"
	holdReferences   = "SET @@foreign_key_checks = 1"
)

// ReferenceInUse gives the steps that make a reference while its tables are used: as soon
// as it is there, nothing comes that it refuses; a row that was there before and refers to
// nothing stops the migration, as everywhere.
func (Engine) ReferenceInUse(t *sqlschema.Table, k *sqlschema.ForeignKey) []engine.Step {
	title := fmt.Sprintf("%s (%s) references %s", t.Name, strings.Join(k.Columns, ", "), k.Table)
	alter := "ALTER TABLE " + quote(t.Name)
	var out []engine.Step
	if k.OwnIndex || !covered(t, k) {
		x := ownIndex(k)
		out = append(out, engine.Step{
			Title: "index for: " + title,
			Work:  engine.Reads,
			Apply: []string{alter + " ADD " + indexDefinition(x)},
			Undo:  []string{alter + " DROP INDEX " + quote(x.Name)},
		})
	}
	lock := "LOCK TABLES " + quote(t.Name) + " WRITE"
	if !strings.EqualFold(k.Table, t.Name) {
		lock += ", " + quote(k.Table) + " READ"
	}
	var names, given, same []string
	for _, c := range append(slices.Clone(t.Key()), k.Columns...) {
		if name := "child." + quote(c); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for i, c := range k.Columns {
		given = append(given, "child."+quote(c)+" IS NOT NULL")
		same = append(same, "parent."+quote(k.References[i])+" = child."+quote(c))
	}
	return append(
		out,
		engine.Step{
			Title: title + ", for new rows",
			Work:  engine.Keeps,
			Apply: []string{
				lock,
				holdNoReferences,
				alter + " ADD " + named(k.Name) + foreignKey(k),
				holdReferences,
				"UNLOCK TABLES",
			},
			Undo: []string{alter + " DROP FOREIGN KEY " + quote(k.Name)},
		},
		engine.Step{
			Title: title + ", for existing rows",
			Kind:  engine.OwnTransaction,
			Work:  engine.Reads,
			Here: []engine.Requirement{{
				Sentence: fmt.Sprintf("{n} rows of %s refer to no row of %s", t.Name, k.Table),
				Query: fmt.Sprintf(
					"SELECT %s FROM %s AS child WHERE %s AND NOT EXISTS (SELECT 1 FROM %s AS parent WHERE %s)",
					strings.Join(names, ", "), quote(t.Name), strings.Join(given, " AND "), quote(k.Table),
					strings.Join(same, " AND ")),
			}},
		},
	)
}

// CompareKey compares a key with a place in its order: of a row of several the server would
// look at every row of the table.
func (Engine) CompareKey(keys []string, op, place string) string {
	if len(keys) == 1 {
		return sqltext.CompareKey(keys, op, place)
	}
	var values []string
	depth, start := 0, 1
	for _, t := range tokens(place) {
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		}
		if depth == 1 && t.Is(",") || depth == 0 {
			values = append(values, strings.TrimSpace(place[start:t.Start]))
			start = t.End
		}
	}
	var terms []string
	same := ""
	for i, k := range keys[:min(len(keys), len(values))] {
		o := op[:1]
		if i == len(keys)-1 {
			o = op
		}
		terms = append(terms, same+k+" "+o+" "+values[i])
		same += k + " = " + values[i] + " AND "
	}
	return "(" + strings.Join(terms, " OR ") + ")"
}
