package plan

// This file plans reference rows: which are inserted, changed and taken out, with
// the old values kept. Tables that others refer to come first; a row that others
// refer to is not taken out.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/rows"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// TableRows are the reference rows of a table, as the database and the line of
// migrations have them.
type TableRows struct {
	Table string
	By    []schema.KeyPart
	Here  []rows.Row // in the database that the plan is made on
	Line  []rows.Row // after all migrations from nothing, by the same order
}

const (
	rowsPrefix = "rows_"
	goneRows   = "gone_"
)

// rowSteps plans the reference rows of all tables.
func (p *planner) rowSteps() {
	list := slices.Clone(p.Rows)
	done := map[string]bool{}
	var order []TableRows
	waits := func(r TableRows, to string) bool {
		return to != r.Table && !done[to] && slices.ContainsFunc(list, func(o TableRows) bool { return o.Table == to })
	}
	names := func(r TableRows) bool { // rows that have yet to come
		t := p.Wanted.Table(r.Table)
		return t.Rows() != nil && slices.ContainsFunc(t.Rows().Points, func(to string) bool { return waits(r, to) })
	}
	refers := func(r TableRows) bool {
		return slices.ContainsFunc(p.Wanted.Table(r.Table).ForeignKeys,
			func(k *sqlschema.ForeignKey) bool { return waits(r, k.Table) })
	}
	for len(list) > 0 { // what is named by others, or referred to, comes first
		next := slices.IndexFunc(list, func(r TableRows) bool { return !names(r) && !refers(r) })
		if next < 0 {
			next = max(slices.IndexFunc(list, func(r TableRows) bool { return !names(r) }), 0)
		}
		done[list[next].Table] = true
		order = append(order, list[next])
		list = slices.Delete(list, next, next+1)
	}
	for i, r := range order {
		p.setRows(r, i)
	}
	for i, r := range slices.Backward(order) {
		p.takeRows(r, i)
	}
}

// atLine finds a row of the line of migrations.
func (r TableRows) atLine(key string) *rows.Row {
	i := slices.IndexFunc(r.Line, func(o rows.Row) bool { return o.Key == key })
	if i < 0 {
		return nil
	}
	return &r.Line[i]
}

// setRows inserts and changes the declared rows of a table.
func (p *planner) setRows(r TableRows, rank int) {
	t := p.Wanted.Table(r.Table)
	if t.Rows() == nil {
		return
	}
	set := &rowsSet{planner: p, rows: r, table: t}
	set.By, set.Table, set.Keep = t.Rows().By, t, schema.Cut(p.Kept+rowsPrefix+t.Name)
	// A table that comes with the migration has no rows but those that an undo kept.
	set.Fresh = slices.ContainsFunc(p.plan.Changes,
		func(c diff.Change) bool { return c.Kind == diff.AddTable && c.Table == t.Name })
	order, _ := t.Rows().ParentsFirst(t.Name)
	for _, n := range order {
		if err := set.row(n); err != nil {
			p.fail("%v", err)
			return
		}
	}
	if len(set.RowUpsert.Rows) == 0 {
		return
	}
	p.units = append(p.units, unit{rank: rankRows + rank, name: t.Name, change: set.change()})
}

// rowsSet is the reference rows of one table that are to be as they are declared.
type rowsSet struct {
	*planner
	engine.RowUpsert
	rows    TableRows
	table   *sqlschema.Table
	keys    []string // of rows that are added
	changed int
}

// row adds the n-th declared row, if the database does not have it as declared.
func (s *rowsSet) row(n int) error {
	t, declared := s.table, s.table.Rows()
	here := s.rows.Here[n] // declared rows stand first, in the order of the block
	line := s.rows.atLine(here.Key)
	inLine := line != nil && line.There && (here.There || declared.InsertOnly) // or somebody deleted it
	key, err := rows.DeclaredKey(s.Engine.SQL(), t, n)
	if err != nil {
		return fmt.Errorf("%s: %v", t.Name, err)
	}
	one := engine.RowValues{Key: key}
	var list []diff.Change
	for i, cell := range here.Cells {
		sql, err := rows.Literal(s.Engine.SQL(), t, n, i, true)
		if err != nil {
			return fmt.Errorf("%s.%s: %v", t.Name, cell.Column, err)
		}
		one.Columns, one.Values = append(one.Columns, cell.Column), append(one.Values, sql)
		if slices.Contains(declared.By, cell.Column) {
			continue
		}
		differs := here.There && !cell.Same || inLine && !line.Cells[i].Same
		if !inLine || differs {
			one.Change = append(one.Change, cell.Column)
		}
		if !differs {
			continue
		}
		now := cell.Now
		if now == "" && inLine {
			now = line.Cells[i].Now
		}
		value := declared.Values[n][i].String()
		list = append(list, diff.Change{
			Kind:   diff.ChangeRow,
			Table:  t.Name,
			Name:   here.Key,
			From:   now,
			To:     value,
			Object: t.Column(cell.Column),
			What:   fmt.Sprintf("%s: %s -> %s", cell.Column, plainValue(now), value),
		})
	}
	if declared.InsertOnly {
		one.Change, list = nil, nil
	}
	switch {
	case !inLine:
		one.Add = true
		if s.Fresh {
			one.Change = nil
		}
		s.keys = append(s.keys, here.Key)
		s.plan.Changes = append(s.plan.Changes,
			diff.Change{Kind: diff.AddRow, Table: t.Name, Name: here.Key, What: s.rowWords(t, n)})
	case len(list) > 0:
		s.changed++
		s.plan.Changes = append(s.plan.Changes, list...)
	default:
		return nil
	}
	s.RowUpsert.Rows = append(s.RowUpsert.Rows, one)
	return nil
}

// change is the step that sets the rows.
func (s *rowsSet) change() engine.Change {
	t, added := s.table, len(s.keys)
	var what []string
	if added > 0 {
		what = append(what,
			fmt.Sprintf("insert %s of %s", words.Count(int64(added), "reference row", "reference rows"), t.Name))
	}
	if s.changed > 0 {
		s.Note = "the old values are kept"
		what = append(what,
			fmt.Sprintf("change %s of %s", words.Count(int64(s.changed), "reference row", "reference rows"), t.Name))
	}
	s.Title = strings.Join(what, ", ")
	step := s.Engine.DDL().UpsertRows(s.RowUpsert)
	var change engine.Change
	if added > 0 {
		declared := t.Rows()
		columns := slices.DeleteFunc(slices.Clone(declared.Columns),
			func(c string) bool { return slices.Contains(declared.By, c) || declared.InsertOnly })
		step.Rows = []engine.StepRows{{Table: t.Name, By: declared.KeyParts(), Columns: columns, Keys: s.keys}}
		change.BeforeUndo = s.pointedAt(t, s.RowUpsert)
	}
	change.Steps = []engine.Step{step}
	s.effect(t.Name, added, "added")
	s.effect(t.Name, s.changed, "changed")
	return change
}

// pointedAt guards the undo of an insert: rows that refer to what would go.
func (p *planner) pointedAt(t *sqlschema.Table, set engine.RowUpsert) []engine.Requirement {
	q, table := p.Engine.SQL().Quote, p.Engine.SQL().QuoteTable
	at, from := engine.Aliased(q, "t"), engine.Aliased(q, "c")
	var keys [][]string
	for _, row := range set.Rows {
		if row.Add {
			keys = append(keys, row.Key)
		}
	}
	where := engine.IsAny(at, set.By, keys)
	if t.SoftDelete != "" {
		where += " AND t." + q(t.SoftDelete) + " IS NULL"
	}
	if !set.Fresh {
		where += " AND " + engine.IsAmong(at, set.By, true,
			fmt.Sprintf("SELECT %s FROM %s AS k", engine.KeyList(engine.Aliased(q, "k"), set.By), table(set.Keep)))
	}
	var out []engine.Requirement
	for _, x := range sqlschema.Pointers(p.Wanted, t) {
		also := where
		if x.Table == t {
			also += fmt.Sprintf(" AND NOT (%s)", engine.IsAny(from, set.By, keys))
		} else if i := slices.IndexFunc(p.Rows, func(r TableRows) bool { return r.Table == x.Table.Name }); i >= 0 {
			if keys := p.pointedKeys(p.Rows[i], x.Key.Columns[0]); len(keys) > 0 { // they are undone before it
				also += fmt.Sprintf(" AND NOT (%s)", engine.IsAny(from, rows.Names(p.Rows[i].By), keys))
			}
		}
		var show []string
		for _, k := range x.Table.Key() {
			show = append(show, "c."+q(k))
		}
		show = append(show, engine.KeyList(at, set.By))
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} rows of %s refer to reference rows of %s that would be deleted", x.Table.Name,
				t.Name),
			Query: fmt.Sprintf("SELECT %s FROM %s AS c JOIN %s AS t ON %s WHERE %s", strings.Join(show, ", "),
				table(x.Table.Name), table(t.Name), rows.On(p.Engine.SQL(), x, "c", "t"), also),
		})
	}
	return out
}

// pointedKeys are the keys of the rows of a table, as SQL, that the plan inserts, or
// of which it sets the column.
func (p *planner) pointedKeys(r TableRows, column string) [][]string {
	t := p.Wanted.Table(r.Table)
	if t == nil || t.Rows() == nil {
		return nil
	}
	var out [][]string
	at := t.Rows().Place(column)
	for n, here := range r.Here {
		if !here.Declared {
			continue
		}
		line := r.atLine(here.Key)
		sets := line == nil || !line.There || !here.There
		if at >= 0 && !sets {
			sets = here.There && !here.Cells[at].Same || !line.Cells[at].Same
		}
		if !sets {
			continue
		}
		if sql, err := rows.DeclaredKey(p.Engine.SQL(), t, n); err == nil {
			out = append(out, sql)
		}
	}
	return out
}

// takeRows takes out rows that were declared once and are no more, where nothing
// refers to them.
func (p *planner) takeRows(r TableRows, rank int) {
	t := p.Wanted.Table(r.Table)
	if t.Rows() != nil && t.Rows().InsertOnly {
		return
	}
	by := rows.Names(r.By)
	var keys []string
	var literals [][]string
	for _, line := range r.Line {
		if line.Declared || !line.There {
			continue
		}
		sql, err := rows.KeyLiteral(p.Engine.SQL(), p.Wanted, t, r.By, line.Key)
		if err != nil {
			p.fail("%s: %v", t.Name, err)
			return
		}
		keys, literals = append(keys, line.Key), append(literals, sql)
		c := diff.Change{Kind: diff.DropRow, Table: t.Name, Name: line.Key, What: "is deleted; it is kept"}
		if i := slices.IndexFunc(r.Here, func(o rows.Row) bool { return o.Key == line.Key }); i >= 0 {
			var by []string
			for _, x := range r.Here[i].Pointing {
				by = append(by, words.Rows(x.Rows)+" of "+x.Table)
			}
			if len(by) > 0 {
				c.What, c.Note = "is no longer declared", "it is not deleted, since "+strings.Join(by,
					" and ")+" refer to it"
			}
		}
		p.plan.Changes = append(p.plan.Changes, c)
	}
	if len(keys) == 0 {
		return
	}
	where, known := p.unreferred(t, by, literals)
	what := fmt.Sprintf("reference row %s of %s", keys[0], t.Name)
	if len(keys) > 1 {
		what = words.Count(int64(len(keys)), "", "reference rows") + " of " + t.Name
	}
	step := p.Engine.DDL().
		DeleteRows(engine.RowDeletion{
			Table: t, Where: where, Keep: schema.Cut(p.Kept + goneRows + t.Name), What: what, Known: known,
			By: by, Order: literals,
		})
	step.Rows = []engine.StepRows{{Table: t.Name, By: r.By, Gone: true, Keys: keys}}
	p.effect(t.Name, len(keys), "deleted")
	p.units = append(p.units,
		unit{rank: rankRows + len(p.Rows)*2 - rank, name: t.Name, change: engine.Change{Steps: []engine.Step{step}}})
}

// unreferred is the condition of those of some rows that nothing refers to, and the tables
// that could. What a row refers to that stays, stays with it.
func (p *planner) unreferred(t *sqlschema.Table, by []string, literals [][]string) (where string, known []string) {
	q, table := p.Engine.SQL().Quote, p.Engine.SQL().QuoteTable
	here := engine.Aliased(q, "")
	where = engine.IsAny(here, by, literals)
	live := ""
	if t.SoftDelete != "" {
		live = " AND " + q(t.SoftDelete) + " IS NULL"
	}
	where += live
	var held, further []string
	for _, x := range sqlschema.Pointers(p.Wanted, t) {
		known = append(known, x.Table.Name)
		also := ""
		if x.Table == t {
			also = fmt.Sprintf(" AND NOT (%s)", engine.IsAny(engine.Aliased(q, "c"), by, literals))
			further = append(further, rows.On(p.Engine.SQL(), x, "c", "p"))
		}
		held = append(
			held,
			fmt.Sprintf("EXISTS (SELECT 1 FROM %s AS c WHERE %s%s)",
				table(x.Table.Name), rows.On(p.Engine.SQL(), x, "c", "p"),
				also),
		)
		where += fmt.Sprintf(" AND NOT EXISTS (SELECT 1 FROM %s AS c WHERE %s%s)", table(x.Table.Name),
			rows.On(p.Engine.SQL(), x, "c", table(t.Name)), also)
	}
	if len(further) == 0 {
		return where, known
	}
	of := engine.Aliased(q, "p")
	var named, names []string // the columns of the key, as the query calls them
	called := map[string]string{}
	for i, c := range by {
		called[c] = "name"
		if len(by) > 1 {
			called[c] = fmt.Sprintf("name%d", i+1)
		}
		named, names = append(named, of(c)+" AS "+called[c]), append(names, called[c])
	}
	inHeld := func(c string) string { return "held." + called[c] }
	where = engine.IsAny(here, by, literals) + " AND " + engine.IsAmong(
		here,
		by,
		true,
		fmt.Sprintf(
			"\n    WITH RECURSIVE held AS (\n        SELECT %[1]s FROM %[2]s AS p WHERE %[3]s AND (%[4]s)\n        UNION\n        SELECT %[5]s FROM %[2]s AS p JOIN %[2]s AS c ON %[6]s JOIN held ON %[7]s WHERE %[3]s\n    )\n    SELECT %[8]s FROM held",
			strings.Join(named, ", "), table(t.Name), engine.IsAny(of, by, literals), strings.Join(held, " OR "),
			engine.KeyList(of, by), "("+strings.Join(further, " OR ")+")",
			engine.Same(inHeld, engine.Aliased(q, "c"), by), strings.Join(names, ", ")),
	)
	return where + live, known
}

// effect says how many reference rows of a table are added, changed or deleted.
func (p *planner) effect(table string, n int, done string) {
	if n == 0 {
		return
	}
	old := p.plan.Effects[table]
	switch {
	case p.rowsTold[table]:
		old += ", " + words.Thousands(int64(n)) + " " + done
	case n == 1:
		old = strings.TrimPrefix(old+", 1 reference row is "+done, ", ")
	default:
		old = strings.TrimPrefix(old+", "+words.Thousands(int64(n))+" reference rows are "+done, ", ")
	}
	p.rowsTold[table] = true
	p.plan.Effects[table] = old
}

// rowWords are the values of a declared row.
func (p *planner) rowWords(t *sqlschema.Table, n int) string {
	var out []string
	for i, c := range t.Rows().Columns {
		if v := t.Rows().Values[n][i]; !slices.Contains(t.Rows().By, c) && v.Kind != schema.NullValue {
			out = append(out, c+" "+v.String())
		}
	}
	return strings.Join(out, ", ")
}

// plainValue is a literal of an engine as a model would write it.
func plainValue(sql string) string {
	if s, ok := strings.CutPrefix(sql, "'"); ok {
		return `"` + strings.ReplaceAll(strings.TrimSuffix(s, "'"), "''", "'") + `"`
	}
	if sql == "" || sql == "NULL" {
		return "null"
	}
	return sql
}
