// Package proof runs a migration forward, back and forward again on a scratch
// database that cannot reach any other, with rows, and says what differed.
package proof

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// Scratch makes a scratch database that holds what s does, without rows, and tells what
// of it cannot be created there. Erbario's own tables are not meant.
func Scratch(ctx context.Context, e engine.Engine, s *schema.Schema) (engine.Database, []engine.LeftOut, error) {
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("no scratch database: %w", err)
	}
	own := &schema.Schema{Views: s.Views, Others: s.Others, Elsewhere: s.Elsewhere}
	for _, t := range s.Tables {
		if !schema.Own(t.Name) {
			own.Tables = append(own.Tables, t)
		}
	}
	left, err := engine.Fill(ctx, db, e.DDL().CreateAll(own))
	if err != nil {
		db.Close()
		return nil, nil, fmt.Errorf("the live database cannot be copied to scratch: %w", err)
	}
	return db, left, nil
}

// Replay runs migrations on an empty scratch database, without rows. It has the tables
// that wanted declares as outside and the migrations do not create; nil: none.
func Replay(ctx context.Context, e engine.Engine, list []*migration.Migration, wanted *schema.Schema) (engine.Database, error) {
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, err
	}
	if err := MakeOutside(ctx, db, e, wanted, list); err != nil {
		db.Close()
		return nil, err
	}
	for _, m := range list {
		if err := Run(ctx, db, e, m, false); err != nil {
			db.Close()
			return nil, fmt.Errorf("the migrations cannot be run on an empty database: %w", err)
		}
	}
	return db, nil
}

// ReferenceRows gives a proof the reference rows that a line of migrations has made in a
// database where nothing else has rows, as Input.Live does: those that come may refer to
// them. s is what is there.
func ReferenceRows(ctx context.Context, db engine.Database, e engine.Engine, s *schema.Schema, line []*migration.Migration) func(table string, limit int) (engine.Rows, error) {
	made := migration.RowsOf(line, e)
	return func(table string, _ int) (engine.Rows, error) {
		t := s.Table(table)
		if t == nil || made[strings.ToLower(t.Name)] == nil {
			return engine.Rows{}, nil
		}
		return db.Sample(ctx, "SELECT "+Stored(t, e)+" FROM "+e.SQL().Quote(t.Name), referenceRows)
	}
}

// referenceRows is how many reference rows of a table a proof has at most.
const referenceRows = 1000

// Stored are the columns of a table that its rows have values for, as SQL.
func Stored(t *schema.Table, e engine.Engine) string {
	var names []string
	for _, c := range t.Columns {
		if c.Generated == nil {
			names = append(names, e.SQL().Quote(c.Name))
		}
	}
	return strings.Join(names, ", ")
}

// After is what a schema becomes by migrations, run on scratch without rows, and what the
// scratch database could not have. wanted is then in the words in which the server keeps
// what they changed; nil: it is not asked for.
func After(ctx context.Context, e engine.Engine, s *schema.Schema, wanted *schema.Schema, list []*migration.Migration, run func(db engine.Database) error) (*schema.Schema, []engine.LeftOut, error) {
	part, rest := Part(e, s, list...)
	db, left, err := Scratch(ctx, e, part)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	if err := run(db); err != nil {
		return nil, left, err
	}
	after, err := db.Inspect(ctx)
	if err != nil {
		return nil, left, err
	}
	if wanted != nil {
		err = db.Canonicalize(ctx, among(wanted, after), after)
	}
	return Join(after, rest), left, err
}

// Run runs one direction of a migration in a transaction of its own, without
// history.
func Run(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, undo bool) error {
	if !m.Atomic() && e.Caps().Journal {
		return runner.StepByStep(ctx, db, e, m, undo)
	}
	if err := db.Begin(ctx, 0); err != nil {
		return err
	}
	if err := runner.Steps(ctx, db, e, m, undo); err != nil {
		db.Rollback()
		return err
	}
	return db.Commit(ctx)
}

// Outcome is what a proof found.
type Outcome struct {
	Rows    int64
	Without []string         // tables for which no row could be made, with the reason
	Empty   []string         // tables that the migration takes only without rows
	Idle    []int            // steps by hand that are to change rows, and changed none of the proof's
	Unsure  string           // the step of which nobody can tell what it touches, where tables have no rows
	Lost    []string         // what the migration destroys and does not keep
	Differ  []string         // what was not as it should be; empty: proved
	OneWay  int              // the step, from 1, that has no undo: only the way forward was tried; 0: none
	Missing []engine.LeftOut // what the scratch database could not have of the one that it is like
	Stopped int              // the step, from 1, that could not be applied; 0: none
	After   *schema.Schema
}

// Proved tells whether the trial showed that the migration does what it says, and undoes it.
func (o *Outcome) Proved() bool {
	return len(o.Differ) == 0 && (o.Unsure == "" || len(o.Without) == 0)
}

// Sentence is the outcome as the head of a file says it.
func (o *Outcome) Sentence() string {
	if len(o.Differ) > 0 {
		return "not proved: " + o.Differ[0]
	}
	if o.Unsure != "" && len(o.Without) > 0 {
		return "not proved: it cannot be determined what " + o.Unsure + " changes, and there are no rows in " + strings.Join(o.Without, ", ")
	}
	rows := " with " + words.Rows(o.Rows)
	if o.Rows == 0 && len(o.Without)+len(o.Empty) == 0 {
		rows = "; it changes no existing table"
	}
	if len(o.Without) > 0 {
		without := migration.WithoutRows + strings.Join(o.Without, ", ")
		if o.Rows == 0 {
			rows = " " + without
		} else {
			rows += ", " + without
		}
	}
	if len(o.Empty) > 0 {
		rows += ", and none in " + strings.Join(o.Empty, ", ") + ", where none are possible"
	}
	s := "proved forward, back and forward again" + rows
	if o.OneWay > 0 {
		s = fmt.Sprintf("proved "+migration.ForwardOnly+"%s"+migration.StepDoubt+"%d has no undo", rows, o.OneWay)
	}
	if len(o.Missing) > 0 {
		s += "; the scratch database lacks " + engine.LeftNames(o.Missing)
	}
	for _, n := range o.Idle {
		s += fmt.Sprintf(migration.StepDoubt+"%d changed none of them", n)
	}
	if len(o.Lost) > 0 {
		s += "; what " + strings.Join(o.Lost, ", ") + " is not restored"
	}
	return s
}

// Input is what a proof starts from.
type Input struct {
	Engine    engine.Engine
	Start     *schema.Schema // what is there before the migration
	Wanted    *schema.Schema // what is to be there after it; nil: not asked
	Ignore    []diff.Change  // differences from Wanted that are to stay
	More      bool           // steps by hand may make what Wanted has not
	Migration *migration.Migration
	Drafted   bool // each step was drafted just now
	// Live gives rows to try, as literals by table; nil: none may be taken.
	Live func(table string, limit int) (engine.Rows, error)

	rest *schema.Schema // what is there too, and the migration cannot reach
}

// Prove runs the round trip. The error is for what kept it from being tried;
// what the trial showed is in the outcome. Rows that stand against a
// requirement in the middle of the migration cannot be told beforehand: they are left out
// then, or their table, and it is run once more.
func Prove(ctx context.Context, in Input) (*Outcome, error) {
	left := &leftOut{rows: map[string][]string{}, tables: map[string]string{}}
	in.Start, in.rest = Part(in.Engine, in.Start, in.Migration)
	for {
		out, way, err := prove(ctx, in, left)
		if err != nil || way == nil || left.all != "" {
			return out, err
		}
		left.add(in, way)
	}
}

// leftOut are rows that stand against a requirement in the middle of a migration.
type leftOut struct {
	rows   map[string][]string // conditions, by table
	tables map[string]string   // whole tables, with the reason
	all    string              // every table, with the reason
	tries  int
}

// add leaves out the rows that blocked it; where they cannot be told, their table,
// and at last all.
func (l *leftOut) add(in Input, way *runner.InTheWay) {
	l.tries++
	reason := "a requirement: " + way.Sentence
	renames := in.Migration.Renames(in.Engine)
	for _, name := range sqltext.Touches(in.Engine.SQL().Lex(way.Query), nil).Tables {
		t := in.Start.Table(name)
		if t == nil {
			old, _ := migration.Before(renames, name, "")
			t = in.Start.Table(old)
		}
		if t == nil || l.tables[t.Name] != "" {
			continue
		}
		key, rows := t.Key(), way.Sample.Values
		if len(way.Ungiven) > 0 && len(rows) > 1 {
			rows = rows[1:] // one value is told for all: it fits one row
		}
		for _, row := range rows {
			var where []string
			for _, k := range key {
				if i := slices.Index(way.Sample.Columns, k); i >= 0 {
					where = append(where, in.Engine.SQL().Quote(k)+" = "+row[i])
				}
			}
			if len(where) > 0 && len(where) == len(key) && l.tries <= 2*rowsPerTable {
				l.rows[t.Name] = append(l.rows[t.Name], strings.Join(where, " AND "))
			} else {
				l.tables[t.Name] = reason
			}
		}
		return
	}
	l.all = reason
}

func prove(ctx context.Context, in Input, left *leftOut) (*Outcome, *runner.InTheWay, error) {
	db, missing, err := Scratch(ctx, in.Engine, in.Start)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	if len(missing) > 0 {
		if in.Start, err = db.Inspect(ctx); err != nil {
			return nil, nil, err
		}
	}
	file := in.Migration
	in.Migration = file.Bound(in.Engine, nil, nil)
	if len(in.Migration.Found) > 0 { // it starts from where that is there
		if err := db.Begin(ctx, 0); err != nil {
			return nil, nil, err
		}
		err := runner.MakeFound(ctx, db, in.Migration)
		if err == nil {
			err = db.Commit(ctx)
		}
		if err != nil {
			return &Outcome{Differ: []string{"it cannot be applied: " + err.Error()}}, nil, nil
		}
		if in.Start, err = db.Inspect(ctx); err != nil {
			return nil, nil, err
		}
	}
	p := &prover{Input: in, file: file, out: &Outcome{Missing: missing}, left: left, hand: newByHand(in, file)}
	p.db = p.hand.watch(db)
	if left.all != "" {
		p.out.Without = []string{"any table (" + left.all + ")"}
	}
	renames := in.Migration.Renames(in.Engine)
	for _, s := range in.Migration.Steps {
		if !s.Kept {
			for _, name := range s.Loses { // by the names of the start
				table, column, _ := strings.Cut(name, ".")
				table, column = migration.Before(renames, table, column)
				p.out.Lost = append(p.out.Lost, strings.TrimSuffix(table+"."+column, "."))
			}
		}
	}
	if err := p.run(ctx); err != nil {
		return nil, nil, err
	}
	p.out.Idle = p.hand.idle()
	return p.out, p.way, nil
}

// Gently has the engine find out how gently it can make the changes of a migration, and
// writes that into its statements: they are run on scratch, forward and back, with rows,
// since a table without any takes more in silence. What cannot be run so is left as it
// is; the proof tells what is wrong with it.
func Gently(ctx context.Context, in Input) error {
	whole, err := gently(ctx, in, true)
	if err == nil && !whole {
		_, err = gently(ctx, in, false)
	}
	return err
}

func gently(ctx context.Context, in Input, rows bool) (whole bool, err error) {
	in.Start, in.rest = Part(in.Engine, in.Start, in.Migration)
	db, missing, err := Scratch(ctx, in.Engine, in.Start)
	if err != nil {
		return false, err
	}
	defer db.Close()
	if len(missing) > 0 {
		if in.Start, err = db.Inspect(ctx); err != nil {
			return false, err
		}
	}
	m := in.Migration
	in.Migration = m.Bound(in.Engine, nil, nil)
	for _, sql := range in.Engine.OwnTables().History {
		if err := db.Exec(ctx, sql); err != nil {
			return false, err
		}
	}
	if err := runner.MakeFound(ctx, db, m); err != nil {
		return false, nil
	}
	p := &prover{Input: in, db: db, out: &Outcome{}, left: &leftOut{}, hand: newByHand(in, m)}
	if rows {
		if err := p.fill(ctx); err != nil {
			return false, err
		}
	}
	whole = true
	run := func(list, bound []migration.Statement) {
		for i := range list {
			if rows && !whole {
				return // what a statement finds that others did not come before says nothing
			}
			sql := in.Engine.SQL().Bind(bound[i].SQL, map[string]string{engine.Batch: "true"})
			with, err := db.(engine.OnlineDDL).LeastLocking(ctx, sql)
			switch {
			case err != nil:
				whole = false
			case with != sql:
				list[i].SQL = with
			}
		}
	}
	for i := range m.Steps {
		run(m.Steps[i].Apply, in.Migration.Steps[i].Apply)
	}
	for i := range slices.Backward(m.Steps) {
		run(m.Steps[i].Undo, in.Migration.Steps[i].Undo)
	}
	return whole, ctx.Err()
}

type prover struct {
	Input
	file *migration.Migration // with its parameters
	db   engine.Database
	out  *Outcome
	left *leftOut
	hand *byHand
	// unasked lets rows in that stand against a requirement, until others have come.
	unasked bool
	way     *runner.InTheWay // what rows stood against in the middle
}

func (p *prover) differ(format string, args ...any) {
	p.out.Differ = append(p.out.Differ, fmt.Sprintf(format, args...))
}

func (p *prover) run(ctx context.Context) error {
	if p.left.all == "" {
		if err := p.fill(ctx); err != nil {
			return err
		}
	}
	before, err := p.look(ctx)
	if err != nil {
		return err
	}
	if err := Run(ctx, p.db, p.Engine, p.Migration, false); err != nil {
		var way *runner.InTheWay
		if errors.As(err, &way) && p.left.all == "" {
			p.way = way
		}
		var step *runner.StepError
		if errors.As(err, &step) {
			p.out.Stopped = step.Step
		}
		if len(p.out.Missing) > 0 {
			err = fmt.Errorf("%w; the scratch database lacks %s (%v)", err, engine.LeftNames(p.out.Missing), p.out.Missing[0].Err)
		}
		p.differ("it cannot be applied: %v", err)
		return nil
	}
	after, err := p.look(ctx)
	if err != nil {
		return err
	}
	whole := Join(after.schema, p.rest)
	p.out.After = whole
	for _, b := range after.broken {
		if !slices.Contains(before.broken, b) {
			p.differ("after it, this no longer works: %s; change or drop it first", b)
		}
	}
	if p.Wanted != nil {
		if err := p.db.Canonicalize(ctx, among(p.Wanted, after.schema), after.schema); err != nil {
			return err
		}
		for _, c := range diff.Schemas(whole, p.Wanted) {
			if p.More && c.Kind.Sign() == "-" {
				continue
			}
			if !slices.ContainsFunc(p.Ignore, func(o diff.Change) bool { return o.Kind == c.Kind && o.Target() == c.Target() }) {
				p.differ("after it, this still differs from the models: %s %s %s", c.Kind, c.Target(), c.What)
			}
		}
	}
	if len(p.out.Differ) > 0 {
		return nil
	}
	if p.out.OneWay = p.Migration.OneWay(); p.out.OneWay > 0 {
		return nil
	}
	if err := p.undo(ctx); err != nil {
		var way *runner.InTheWay
		if errors.As(err, &way) && len(way.Ungiven) > 0 && p.left.all == "" {
			p.way = way
		}
		p.differ("it cannot be undone: %v", err)
		return nil
	}
	again, err := p.look(ctx)
	if err != nil {
		return err
	}
	p.compare("after the undo", before, again, true)
	if len(p.out.Differ) > 0 {
		return nil
	}
	if err := Run(ctx, p.db, p.Engine, p.Migration, false); err != nil {
		p.differ("it cannot be applied again: %v", err)
		return nil
	}
	third, err := p.look(ctx)
	if err != nil {
		return err
	}
	// The values may differ: now and random ones are given anew.
	p.compare("applied again", after, third, false)
	return nil
}

// among are the tables and views of a schema that another has too, and all else of it.
func among(s, other *schema.Schema) *schema.Schema {
	out := *s
	out.Tables, out.Views = nil, nil
	for _, v := range s.Views {
		if other.View(v.Name) != nil {
			out.Views = append(out.Views, v)
		}
	}
	for _, t := range s.Tables {
		if other.Table(t.Name) != nil {
			out.Tables = append(out.Tables, t)
		}
	}
	return &out
}

// undo runs the way back. For what a person lets go permanently it needs values, which the
// undo of a database is told: the first that it takes are put in.
func (p *prover) undo(ctx context.Context) error {
	renames := p.file.Renames(p.Engine)
	candidates, most := map[string][]string{}, 0
	for _, x := range p.file.Parameters {
		now, name, _ := strings.Cut(x.For, ".")
		table, column := migration.Before(renames, now, name)
		if !slices.Contains(p.out.Lost, table+"."+column) { // it lost its name to another, and the value is told by it
			table, _ = migration.Before(renames, now, "")
			column = name
		}
		t := p.Start.Table(table)
		if !x.Undo || t == nil || t.Column(column) == nil || !slices.Contains(p.out.Lost, table+"."+column) {
			continue
		}
		candidates[x.For] = p.Engine.SQL().Candidates(t, t.Column(column))
		most = max(most, len(candidates[x.For]))
	}
	for n := 0; ; n++ {
		values := map[string]string{}
		for name, list := range candidates {
			if len(list) > 0 {
				values[name] = list[n%len(list)]
			}
		}
		err := Run(ctx, p.db, p.Engine, p.file.Bound(p.Engine, nil, values), true)
		var way *runner.InTheWay
		if !errors.As(err, &way) {
			return err
		}
		if n+1 >= most {
			way.Ungiven = slices.Sorted(maps.Keys(values))
			return err
		}
	}
}

// state is all that a scratch database holds at one moment.
type state struct {
	schema *schema.Schema
	rows   map[string][]string // every row of each table, in order
	broken []string
}

func (p *prover) look(ctx context.Context) (*state, error) {
	s, err := p.db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	out := &state{schema: s, rows: map[string][]string{}}
	if out.broken, err = engine.InvalidObjects(ctx, p.db); err != nil {
		return nil, err
	}
	for _, t := range s.Tables {
		if schema.Own(t.Name) || t.Options.Virtual != "" || slices.Contains(p.out.Lost, t.Name) {
			continue
		}
		query := "SELECT " + p.columns(t) + " FROM " + p.Engine.SQL().Quote(t.Name)
		if t.SoftDelete != "" && slices.Contains(p.out.Lost, engine.DeletedRows(t.Name)) {
			query += " WHERE " + p.Engine.SQL().Quote(t.SoftDelete) + " IS NULL" // the others go for good
		}
		rows, err := p.db.Sample(ctx, query, 0)
		if err != nil {
			return nil, err
		}
		list := make([]string, len(rows.Values))
		for i, r := range rows.Values {
			list[i] = strings.Join(r, ", ")
		}
		slices.Sort(list)
		out.rows[t.Name] = list
	}
	return out, nil
}

// columns names every column but those whose values are lost for good, in an
// order that does not depend on the table's.
func (p *prover) columns(t *schema.Table) string {
	var names []string
	for _, c := range t.Columns {
		if !slices.Contains(p.out.Lost, t.Name+"."+c.Name) {
			names = append(names, p.Engine.SQL().Quote(c.Name))
		}
	}
	if len(names) == 0 {
		return "1"
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

func (p *prover) compare(when string, want, got *state, values bool) {
	for _, c := range append(diff.Schemas(got.schema, want.schema), onlyDrops(diff.Schemas(want.schema, got.schema))...) {
		p.differ("%s the schema differs: %s %s %s", when, c.Kind, c.Target(), c.What)
	}
	for table, rows := range want.rows {
		now := got.rows[table]
		if len(rows) != len(now) {
			p.differ("%s %s has %d rows, not %d", when, table, len(now), len(rows))
			continue
		}
		for i := range rows {
			if values && rows[i] != now[i] {
				p.differ("%s a row of %s differs: %s, not %s", when, table, now[i], rows[i])
				break
			}
		}
	}
}

func onlyDrops(list []diff.Change) []diff.Change {
	return slices.DeleteFunc(list, func(c diff.Change) bool { return c.Kind.Sign() != "-" })
}

const (
	rowsPerTable = 6
	triesPerRow  = 40
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
	for _, t := range schema.ParentsFirst(p.Start) {
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
func (p *prover) empty(t *schema.Table) bool {
	return slices.ContainsFunc(p.Migration.BeforeApply, func(r engine.Requirement) bool {
		list := p.Engine.SQL().Lex(r.Query)
		n := len(list)
		return n > 2 && list[n-2].Word() == "WHERE" && list[n-1].Word() == "TRUE" &&
			slices.ContainsFunc(sqltext.Touches(list, nil).Tables, func(name string) bool { return strings.EqualFold(name, t.Name) })
	})
}

// fillWithChildren makes rows of a table together with rows that refer to them, where a
// requirement asks for both.
func (p *prover) fillWithChildren(ctx context.Context, t *schema.Table, need map[string]bool, random *rand.Rand) (int, error) {
	var children []*schema.Table
	for _, o := range p.Start.Tables {
		if need[o.Name] && o != t && slices.ContainsFunc(o.ForeignKeys, func(k *schema.ForeignKey) bool { return strings.EqualFold(k.Table, t.Name) }) {
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
func (p *prover) fillTable(ctx context.Context, t *schema.Table, random *rand.Rand) (int, reason, error) {
	if why := p.left.tables[t.Name]; why != "" {
		return 0, reason{text: why}, nil
	}
	return p.fillRows(ctx, t, random, rowsPerTable)
}

// fillRows puts a number of rows into a table, and those at hand.
func (p *prover) fillRows(ctx context.Context, t *schema.Table, random *rand.Rand, count int) (int, reason, error) {
	var columns []*schema.Column
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
	itself := slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool { return strings.EqualFold(k.Table, t.Name) })
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
				i := slices.IndexFunc(columns, func(c *schema.Column) bool { return strings.EqualFold(c.Name, col) })
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
func (p *prover) parents(ctx context.Context, t *schema.Table) (map[*schema.ForeignKey][][]string, error) {
	out := map[*schema.ForeignKey][][]string{}
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
		rows, err := p.db.Sample(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+p.Engine.SQL().Quote(parent.Name), 20)
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
