package proof

// This file fills the tables of a proof with rows that hurt.

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// fill puts rows into every table that the migration touches, parents first. A
// row must be taken by the engine and stand against no requirement.
func (p *prover) fill(ctx context.Context) error {
	if err := p.db.EnforceReferences(ctx, true); err != nil {
		return err
	}
	if err := p.db.Begin(ctx, 0); err != nil {
		return err
	}
	if db, ok := engine.As[engine.ChecksAtOnce](p.db); ok { // else a row that is refused would end it all
		if err := db.CheckAtOnce(ctx); err != nil {
			return err
		}
	}
	f := &filling{prover: p, touched: p.touched(), random: rand.New(rand.NewPCG(1, 2)), need: map[string]bool{},
		reasons: map[string]reason{}}
	for _, t := range p.Start.Tables {
		if f.touched[strings.ToLower(t.Name)] && !schema.Own(t.Name) {
			f.want(t.Name)
		}
	}
	for _, part := range []func(context.Context) error{f.all, f.again, f.without} {
		if err := part(ctx); err != nil {
			return err
		}
	}
	if err := p.db.Commit(ctx); err != nil {
		return err
	}
	return p.db.EnforceReferences(ctx, false)
}

// filling gives rows to the tables of a proof.
type filling struct {
	*prover
	touched map[string]bool // tables that the migration touches, in lower case
	random  *rand.Rand
	need    map[string]bool // tables that get rows
	empty   []string        // tables without any so far
	reasons map[string]reason
}

// want notes that a table needs rows, and those that it refers to.
func (f *filling) want(name string) {
	t := f.Start.Table(name)
	if t == nil || f.need[t.Name] {
		return
	}
	if t.Content != "" { // its rows are those of that table
		f.want(t.Content)
		return
	}
	if of := f.Start.Table(t.PartOf); of != nil && of.Partitioned() { // its rows are put into that
		f.want(of.Name)
		return
	}
	f.need[t.Name] = true
	for _, k := range t.ForeignKeys {
		f.want(k.Table)
	}
}

// all fills the tables, those first that others refer to.
func (f *filling) all(ctx context.Context) error {
	for _, t := range sqlschema.ParentsFirst(f.Start) {
		if !f.need[t.Name] {
			continue
		}
		if f.prover.empty(t) {
			f.out.Empty = append(f.out.Empty, t.Name)
			continue
		}
		n, reason, err := f.fillTable(ctx, t, f.random)
		if err != nil {
			return err
		}
		if n == 0 && f.partless(t) { // nor is there a row of it anywhere
			continue
		}
		f.out.Rows += int64(n)
		if key := t.Key(); len(key) == 1 && t.Column(key[0]) != nil && t.Column(key[0]).Identity && n > 0 {
			// Live rows brought their numbers along: what comes goes on behind them.
			next, err := f.db.NextNumber(ctx, t)
			if err == nil {
				err = f.db.Reserve(ctx, t, next-1)
			}
			if err != nil {
				return err
			}
		}
		if n == 0 && f.touched[strings.ToLower(t.Name)] {
			f.empty = append(f.empty, t.Name)
			f.reasons[t.Name] = reason
		}
	}
	return nil
}

// again tries the tables once more that got no rows: others may have come with some, and a
// requirement may ask for rows that refer to them.
func (f *filling) again(ctx context.Context) error {
	asks := func(name string) bool { return f.reasons[name].required }
	slices.SortStableFunc(f.empty, func(a, b string) int { // those first that ask for others
		switch {
		case asks(a) == asks(b):
			return 0
		case asks(a):
			return -1
		}
		return 1
	})
	for _, name := range f.empty {
		t := f.Start.Table(name)
		n, err := f.db.Count(ctx, "SELECT 1 FROM "+f.Engine.SQL().QuoteTable(name))
		rows := int(n)
		if err == nil && n == 0 && asks(name) {
			rows, err = f.fillWithChildren(ctx, t, f.need, f.random)
			f.out.Rows += int64(rows)
		} else if err == nil && n == 0 {
			rows, f.reasons[name], err = f.fillTable(ctx, t, f.random)
			f.out.Rows += int64(rows)
		}
		if err != nil {
			return err
		}
		if rows == 0 {
			f.out.Without = append(f.out.Without, name+" ("+f.reasons[name].text+")")
		}
	}
	return nil
}

// without takes out again what a requirement does not allow.
func (f *filling) without(ctx context.Context) error {
	for table, list := range f.left.rows {
		for _, where := range list {
			if err := f.db.Exec(ctx, "SAVEPOINT erbario_row"); err != nil {
				return err
			}
			if err := f.db.Exec(ctx, "DELETE FROM "+f.Engine.SQL().QuoteTable(table)+" WHERE "+where); err != nil {
				f.left.tables[table] = "its rows do not meet a requirement of a later step"
				if err := f.db.Exec(ctx, "ROLLBACK TO erbario_row"); err != nil {
					return err
				}
			} else {
				f.out.Rows--
			}
			if err := f.db.Exec(ctx, "RELEASE SAVEPOINT erbario_row"); err != nil {
				return err
			}
		}
	}
	return nil
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
	if t.Sealed {
		return 0, reason{text: "nobody can read what it holds"}, nil
	}
	for _, g := range t.Triggers {
		if g.Reaches {
			return 0, reason{text: "the trigger " + g.Name + " may reach beyond the database"}, nil
		}
	}
	if err := p.catchAll(ctx, t); err != nil {
		return 0, reason{}, err
	}
	return p.fillRows(ctx, t, random, rowsPerTable)
}

// hints are values by column, in lower case, for rows that hand-written steps look for, or that parts of the table
// take.
func (p *prover) hints(t *sqlschema.Table) map[string][]string {
	out := p.hand.hints(t.Name)
	parts, ok := p.Engine.DDL().(engine.Parts)
	if !ok || !t.Partitioned() {
		return out
	}
	if out = maps.Clone(out); out == nil {
		out = map[string][]string{}
	}
	todo := []*sqlschema.Table{t}
	for len(todo) > 0 {
		of := todo[0]
		todo = todo[1:]
		for _, o := range p.Start.Tables {
			if o.PartOf != of.Name {
				continue
			}
			todo = append(todo, o)
			for column, value := range parts.PartValues(of, o) {
				out[strings.ToLower(column)] = append(out[strings.ToLower(column)], value)
			}
		}
	}
	return out
}

// partless tells whether the rows of a table are in parts, and it has none, or none but such.
func (p *prover) partless(t *sqlschema.Table) bool {
	_, apart := p.Engine.DDL().(engine.Parts)
	return apart && t.Partitioned() && !slices.ContainsFunc(p.Start.Tables,
		func(o *sqlschema.Table) bool { return o.PartOf == t.Name && !p.partless(o) })
}

// catchAll gives a table whose rows are in parts one for those that fit in no other, if the migration leaves its
// parts alone.
func (p *prover) catchAll(ctx context.Context, t *sqlschema.Table) error {
	parts, ok := p.Engine.DDL().(engine.Parts)
	if !ok || slices.ContainsFunc(p.Migration.SQL(false), func(sql string) bool {
		return slices.ContainsFunc(p.Engine.SQL().Lex(sql), func(k sqltok.Token) bool { return k.Is("PARTITION") })
	}) {
		return nil
	}
	sql := parts.RestPart(t, schema.Cut(schema.OwnPrefix+"rest_"+t.Name))
	if sql == "" {
		return nil
	}
	return p.ifTaken(ctx, sql)
}

// ifTaken runs a statement if the database takes it.
func (p *prover) ifTaken(ctx context.Context, sql string) error {
	if err := p.db.Exec(ctx, "SAVEPOINT erbario_row"); err != nil {
		return err
	}
	if err := p.db.Exec(ctx, sql); err != nil {
		if err := p.db.Exec(ctx, "ROLLBACK TO erbario_row"); err != nil {
			return err
		}
	}
	return p.db.Exec(ctx, "RELEASE SAVEPOINT erbario_row")
}

// fillRows puts a number of rows into a table, and those at hand.
func (p *prover) fillRows(ctx context.Context, t *sqlschema.Table, random *rand.Rand, count int) (int, reason, error) {
	r := &rowsOf{prover: p, table: t, hints: p.hints(t), why: "no row could be created"}
	for _, c := range t.Columns {
		if c.Generated == nil && !c.Identity {
			r.columns = append(r.columns, c)
			r.names = append(r.names, p.Engine.SQL().Quote(c.Name))
			r.choices = append(r.choices, p.Engine.SQL().Candidates(t, c))
		}
	}
	for _, name := range t.Held {
		r.columns = append(r.columns, &sqlschema.Column{Name: name})
		r.names = append(r.names, p.Engine.SQL().Quote(name))
		r.choices = append(r.choices, heldValues)
	}
	if p.Live != nil && count == rowsPerTable {
		if err := r.live(ctx); err != nil {
			return 0, reason{}, err
		}
	}
	var err error
	if r.parents, err = p.parents(ctx, t); err != nil {
		return 0, reason{}, err
	}
	goal := r.done + count
	offset := 0
	if count < rowsPerTable { // others than the rows before
		offset = random.IntN(1000)
	}
	itself := slices.ContainsFunc(t.ForeignKeys,
		func(k *sqlschema.ForeignKey) bool { return strings.EqualFold(k.Table, t.Name) })
	for n := offset; n < offset+rowsPerTable*triesPerRow && r.done < goal; n++ {
		before := r.done
		if err := r.try(ctx, r.names, r.values(n, random)); err != nil {
			return 0, reason{}, err
		}
		if r.done > before && itself {
			if r.parents, err = p.parents(ctx, t); err != nil { // the row can be referred to
				return 0, reason{}, err
			}
		}
	}
	if r.required != "" { // it says more than what the engine refused on the way
		return r.done, reason{r.required, true}, nil
	}
	return r.done, reason{text: r.why}, nil
}

// heldValues are for the columns of a virtual table, of which some take numbers alone.
var heldValues = []string{"1", "3", "5", "'fern'", "'of the shade'"}

// rowsOf makes the rows of one table.
type rowsOf struct {
	*prover
	table   *sqlschema.Table
	columns []*sqlschema.Column
	names   []string            // of columns, quoted
	choices [][]string          // values for each of them
	hints   map[string][]string // values that hand-written steps look for
	parents map[*sqlschema.ForeignKey][][]string
	done    int
	why     string // the last row was refused
	// required is what a requirement says of one that was refused for it; "" for none.
	required string
}

// live tries some rows of the live table.
func (r *rowsOf) live(ctx context.Context) error {
	rows, err := r.Live(r.table.Name, 3)
	if err != nil {
		return err
	}
	var names []string
	for _, n := range rows.Columns {
		names = append(names, r.Engine.SQL().Quote(n))
	}
	for _, v := range rows.Values {
		if err := r.try(ctx, names, v); err != nil {
			return err
		}
	}
	return nil
}

// try inserts a row, and takes it out again if a requirement does not allow it.
func (r *rowsOf) try(ctx context.Context, names, values []string) error {
	sql := "INSERT INTO " + r.Engine.SQL().QuoteTable(r.table.Name)
	if len(names) == 0 {
		sql += r.Engine.Caps().EmptyRow
	} else {
		sql += " (" + strings.Join(names, ", ") + ") VALUES (" + strings.Join(values, ", ") + ")"
	}
	if err := r.db.Exec(ctx, "SAVEPOINT erbario_row"); err != nil {
		return err
	}
	if err := r.db.Exec(ctx, sql); err != nil {
		r.why = err.Error()
	} else if required, err := r.standsRow(ctx); err != nil {
		return err
	} else if required != "" {
		r.required = required
	} else {
		r.done++
		return r.db.Exec(ctx, "RELEASE SAVEPOINT erbario_row")
	}
	if err := r.db.Exec(ctx, "ROLLBACK TO erbario_row"); err != nil {
		return err
	}
	return r.db.Exec(ctx, "RELEASE SAVEPOINT erbario_row")
}

// values are those of the n-th try: by turns, so that every kind of value has its row; then at
// random, where checks let only some of them stand together.
func (r *rowsOf) values(n int, random *rand.Rand) []string {
	values := make([]string, len(r.columns))
	for i, c := range r.columns {
		if list := r.hints[strings.ToLower(c.Name)]; len(list) > 0 && (n%3 != 2) {
			values[i] = list[n%len(list)]
		} else if n < 2*rowsPerTable {
			values[i] = r.choices[i][(n+i)%len(r.choices[i])]
		} else {
			values[i] = r.choices[i][random.IntN(len(r.choices[i]))]
		}
	}
	for _, k := range r.table.ForeignKeys {
		rows := r.parents[k]
		for j, col := range k.Columns {
			i := slices.IndexFunc(r.columns, func(c *sqlschema.Column) bool { return strings.EqualFold(c.Name, col) })
			switch {
			case i < 0 || j >= len(k.References):
			case len(rows) > 0:
				if r.columns[i].NotNull || n%3 != 0 { // now and then none
					values[i] = rows[n%len(rows)][j]
				} else {
					values[i] = "NULL"
				}
			case !r.columns[i].NotNull:
				values[i] = "NULL"
			}
		}
	}
	return values
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
		rows, err := p.db.Sample(ctx,
			"SELECT "+strings.Join(names, ", ")+" FROM "+p.Engine.SQL().QuoteTable(parent.Name),
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
