package proof

// This file fills the tables of a proof with rows that hurt.

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// fill puts rows into every table that the migration touches, parents first. A
// row must be taken by the engine and stand against no requirement.
func (p *prover) fill(ctx context.Context) error {
	touched := p.touched()
	random := rand.New(rand.NewPCG(1, 2))
	need := map[string]bool{}
	var want func(name string)
	want = func(name string) {
		t := p.Start.Table(name)
		if t == nil || need[t.Name] || t.Options.Virtual != "" {
			return
		}
		need[t.Name] = true
		for _, k := range t.ForeignKeys {
			want(k.Table)
		}
	}
	for _, t := range p.Start.Tables {
		if touched[strings.ToLower(t.Name)] && !schema.Own(t.Name) {
			want(t.Name)
		}
	}
	if err := p.db.EnforceReferences(ctx, true); err != nil {
		return err
	}
	if err := p.db.Begin(ctx, 0); err != nil {
		return err
	}
	var without []string
	reasons := map[string]reason{}
	for _, t := range sqlschema.ParentsFirst(p.Start) {
		if !need[t.Name] {
			continue
		}
		if p.empty(t) {
			p.out.Empty = append(p.out.Empty, t.Name)
			continue
		}
		n, reason, err := p.fillTable(ctx, t, random)
		if err != nil {
			return err
		}
		p.out.Rows += int64(n)
		if key := t.Key(); len(key) == 1 && t.Column(key[0]) != nil && t.Column(key[0]).Identity && n > 0 {
			// Live rows brought their numbers along: what comes goes on behind them.
			next, err := p.db.NextNumber(ctx, t)
			if err == nil {
				err = p.db.Reserve(ctx, t, next-1)
			}
			if err != nil {
				return err
			}
		}
		if n == 0 && touched[strings.ToLower(t.Name)] {
			without = append(without, t.Name)
			reasons[t.Name] = reason
		}
	}
	asks := func(name string) bool { // for rows that refer to it
		return reasons[name].required
	}
	slices.SortStableFunc(without, func(a, b string) int { // those first: others may have come with them
		switch {
		case asks(a) == asks(b):
			return 0
		case asks(a):
			return -1
		}
		return 1
	})
	for _, name := range without {
		t := p.Start.Table(name)
		n, err := p.db.Count(ctx, "SELECT 1 FROM "+p.Engine.SQL().Quote(name))
		rows := int(n)
		if err == nil && n == 0 && asks(name) {
			rows, err = p.fillWithChildren(ctx, t, need, random)
			p.out.Rows += int64(rows)
		} else if err == nil && n == 0 {
			rows, reasons[name], err = p.fillTable(ctx, t, random)
			p.out.Rows += int64(rows)
		}
		if err != nil {
			return err
		}
		if rows == 0 {
			p.out.Without = append(p.out.Without, name+" ("+reasons[name].text+")")
		}
	}
	for table, list := range p.left.rows {
		for _, where := range list {
			if err := p.db.Exec(ctx, "SAVEPOINT erbario_row"); err != nil {
				return err
			}
			if err := p.db.Exec(ctx, "DELETE FROM "+p.Engine.SQL().Quote(table)+" WHERE "+where); err != nil {
				p.left.tables[table] = "its rows do not meet a requirement of a later step"
				if err := p.db.Exec(ctx, "ROLLBACK TO erbario_row"); err != nil {
					return err
				}
			} else {
				p.out.Rows--
			}
			if err := p.db.Exec(ctx, "RELEASE SAVEPOINT erbario_row"); err != nil {
				return err
			}
		}
	}
	if err := p.db.Commit(ctx); err != nil {
		return err
	}
	return p.db.EnforceReferences(ctx, false)
}

// empty tells whether the migration takes a table only without rows: a requirement asks for
// any row of it.
func (p *prover) empty(t *sqlschema.Table) bool {
	return slices.ContainsFunc(p.Migration.BeforeApply, func(r engine.Requirement) bool {
		list := p.Engine.SQL().Lex(r.Query)
		n := len(list)
		return n > 2 && list[n-2].Word() == "WHERE" && list[n-1].Word() == "TRUE" &&
			slices.ContainsFunc(sqltext.Touches(list, nil).Tables,
				func(name string) bool { return strings.EqualFold(name, t.Name) })
	})
}

// fillWithChildren makes rows of a table together with rows that refer to them, where a
// requirement asks for both.
func (p *prover) fillWithChildren(ctx context.Context, t *sqlschema.Table, need map[string]bool,
	random *rand.Rand) (int, error) {
	var children []*sqlschema.Table
	for _, o := range p.Start.Tables {
		if need[o.Name] && o != t && slices.ContainsFunc(o.ForeignKeys,
			func(k *sqlschema.ForeignKey) bool { return strings.EqualFold(k.Table, t.Name) }) {
			children = append(children, o)
		}
	}
	if len(children) == 0 {
		return 0, nil
	}
	done := 0
	for range 2 * rowsPerTable {
		if done == rowsPerTable {
			break
		}
		if err := p.db.Exec(ctx, "SAVEPOINT erbario_rows"); err != nil {
			return 0, err
		}
		p.unasked = true
		n, _, err := p.fillRows(ctx, t, random, 1)
		rows := n
		for _, c := range children {
			if err != nil || n == 0 {
				break
			}
			var m int
			m, _, err = p.fillRows(ctx, c, random, 2)
			rows += m
		}
		p.unasked = false
		if err != nil {
			return 0, err
		}
		why := "no row"
		if n > 0 {
			if why, err = p.stands(ctx); err != nil {
				return 0, err
			}
		}
		end := "RELEASE SAVEPOINT erbario_rows"
		if why != "" {
			if err := p.db.Exec(ctx, "ROLLBACK TO erbario_rows"); err != nil {
				return 0, err
			}
		} else {
			done += rows
		}
		if err := p.db.Exec(ctx, end); err != nil {
			return 0, err
		}
	}
	return done, nil
}

// reason is why a table got no row.
type reason struct {
	text     string
	required bool // each row was made, and stood against a requirement
}

// fillTable puts rows into a table, as many as a proof has of each.
func (p *prover) fillTable(ctx context.Context, t *sqlschema.Table, random *rand.Rand) (int, reason, error) {
	if why := p.left.tables[t.Name]; why != "" {
		return 0, reason{text: why}, nil
	}
	return p.fillRows(ctx, t, random, rowsPerTable)
}

// fillRows puts a number of rows into a table, and those at hand.
func (p *prover) fillRows(ctx context.Context, t *sqlschema.Table, random *rand.Rand, count int) (int, reason, error) {
	var columns []*sqlschema.Column
	for _, c := range t.Columns {
		if c.Generated == nil && !c.Identity {
			columns = append(columns, c)
		}
	}
	done, why, required := 0, "no row could be created", ""
	try := func(names, values []string) error {
		sql := "INSERT INTO " + p.Engine.SQL().Quote(t.Name)
		if len(names) == 0 {
			sql += p.Engine.Caps().EmptyRow
		} else {
			sql += " (" + strings.Join(names, ", ") + ") VALUES (" + strings.Join(values, ", ") + ")"
		}
		if err := p.db.Exec(ctx, "SAVEPOINT erbario_row"); err != nil {
			return err
		}
		if err := p.db.Exec(ctx, sql); err != nil {
			why = err.Error()
		} else if r, err := p.standsRow(ctx); err != nil {
			return err
		} else if r != "" {
			required = r
		} else {
			done++
			return p.db.Exec(ctx, "RELEASE SAVEPOINT erbario_row")
		}
		if err := p.db.Exec(ctx, "ROLLBACK TO erbario_row"); err != nil {
			return err
		}
		return p.db.Exec(ctx, "RELEASE SAVEPOINT erbario_row")
	}
	if p.Live != nil && count == rowsPerTable {
		rows, err := p.Live(t.Name, 3)
		if err != nil {
			return 0, reason{}, err
		}
		var names []string
		for _, n := range rows.Columns {
			names = append(names, p.Engine.SQL().Quote(n))
		}
		for _, r := range rows.Values {
			if err := try(names, r); err != nil {
				return 0, reason{}, err
			}
		}
	}
	hints := p.hand.hints(t.Name)
	choices := make([][]string, len(columns))
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = p.Engine.SQL().Quote(c.Name)
		choices[i] = p.Engine.SQL().Candidates(t, c)
	}
	parents, err := p.parents(ctx, t)
	if err != nil {
		return 0, reason{}, err
	}
	goal := done + count
	offset := 0
	if count < rowsPerTable { // others than the rows before
		offset = random.IntN(1000)
	}
	itself := slices.ContainsFunc(t.ForeignKeys,
		func(k *sqlschema.ForeignKey) bool { return strings.EqualFold(k.Table, t.Name) })
	for n := offset; n < offset+rowsPerTable*triesPerRow && done < goal; n++ {
		values := make([]string, len(columns))
		for i := range columns {
			// By turns, so that every kind of value has its row; then at random,
			// where checks let only some of them stand together.
			if list := hints[strings.ToLower(columns[i].Name)]; len(list) > 0 && (n%3 != 2) {
				values[i] = list[n%len(list)]
			} else if n < 2*rowsPerTable {
				values[i] = choices[i][(n+i)%len(choices[i])]
			} else {
				values[i] = choices[i][random.IntN(len(choices[i]))]
			}
		}
		for _, k := range t.ForeignKeys {
			rows := parents[k]
			for j, col := range k.Columns {
				i := slices.IndexFunc(columns, func(c *sqlschema.Column) bool { return strings.EqualFold(c.Name, col) })
				switch {
				case i < 0 || j >= len(k.References):
				case len(rows) > 0:
					if columns[i].NotNull || n%3 != 0 { // now and then none
						values[i] = rows[n%len(rows)][j]
					} else {
						values[i] = "NULL"
					}
				case !columns[i].NotNull:
					values[i] = "NULL"
				}
			}
		}
		before := done
		if err := try(names, values); err != nil {
			return 0, reason{}, err
		}
		if done > before && itself {
			if parents, err = p.parents(ctx, t); err != nil { // the row can be referred to
				return 0, reason{}, err
			}
		}
	}
	if required != "" { // it says more than what the engine refused on the way
		return done, reason{required, true}, nil
	}
	return done, reason{text: why}, nil
}

// parents reads the keys that the table's references can point at.
func (p *prover) parents(ctx context.Context, t *sqlschema.Table) (map[*sqlschema.ForeignKey][][]string, error) {
	out := map[*sqlschema.ForeignKey][][]string{}
	for _, k := range t.ForeignKeys {
		parent := p.Start.Table(k.Table)
		if parent == nil || len(k.References) == 0 {
			continue
		}
		var names []string
		for _, r := range k.References {
			if parent.Column(r) == nil {
				names = nil
				break
			}
			names = append(names, p.Engine.SQL().Quote(r))
		}
		if names == nil {
			continue
		}
		rows, err := p.db.Sample(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+p.Engine.SQL().Quote(parent.Name),
			20)
		if err != nil {
			return nil, err
		}
		out[k] = rows.Values
	}
	return out, nil
}

// standsRow asks the requirements of the rows so far, unless that comes later.
func (p *prover) standsRow(ctx context.Context) (string, error) {
	if p.unasked {
		return "", nil
	}
	return p.stands(ctx)
}

// stands asks the migration's requirements of the rows so far; it returns the
// first that does not hold.
func (p *prover) stands(ctx context.Context) (string, error) {
	var all []string
	for _, r := range p.Migration.BeforeApply {
		if !r.Wait { // nobody works there
			all = append(all, "SELECT 1 FROM ("+r.Query+"\n) AS q")
		}
	}
	if len(all) == 0 {
		return "", nil
	}
	// Many at once, since most rows fit; SQLite takes 500 at most.
	found := false
	for some := range slices.Chunk(all, 200) {
		n, err := p.db.Count(ctx, strings.Join(some, " UNION ALL "))
		if err != nil {
			return "", fmt.Errorf("the query of a requirement failed on scratch: %w", err)
		}
		found = found || n > 0
	}
	if !found {
		return "", nil
	}
	for _, r := range p.Migration.BeforeApply {
		if r.Wait {
			continue
		}
		n, err := p.db.Count(ctx, r.Query)
		if err != nil {
			return "", fmt.Errorf("the query of a requirement failed on scratch: %w", err)
		}
		if n > 0 {
			return "a requirement: " + runner.Sentence(r.Sentence, n), nil
		}
	}
	return "", nil
}
