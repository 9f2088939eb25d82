// Package proof runs a migration forward, back and forward again on a scratch database that
// cannot reach any other, with rows, and says what differed.
//
//	o, err := proof.Prove(ctx, proof.Input{Engine: e, Start: live, Wanted: wanted, Migration: m})
//	fmt.Println(o.Sentence()) // proved forward, back and forward again with 6 rows
package proof

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// referenceRows is how many reference rows of a table a proof has at most.
const referenceRows = 1000

// Outcome is what a proof found.
type Outcome struct {
	Rows    int64
	Without []string         // tables for which no row could be made, with the reason
	Empty   []string         // tables that the migration takes only without rows
	Idle    []int            // steps by hand that are to change rows, and changed none of the proof's
	Unsure  string           // the step of which nobody can tell what it touches, where tables have no rows
	Lost    []engine.Loss    // what the migration destroys and does not keep
	Differ  []string         // what was not as it should be; empty: proved
	OneWay  int              // the step, from 1, that has no undo: only the way forward was tried; 0: none
	Missing []engine.LeftOut // what the scratch database could not have of the one that it is like
	Stopped int              // the step, from 1, that could not be applied; 0: none
	After   *sqlschema.Schema
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
		return "not proved: it cannot be determined what " + o.Unsure + " changes, and there are no rows in " + strings.Join(
			o.Without,
			", ",
		)
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
		s += "; the undo does not restore what was in " + words.Join(o.Lost)
	}
	return s
}

// Input is what a proof starts from.
type Input struct {
	Engine    runner.Engine
	Start     *sqlschema.Schema // what is there before the migration
	Wanted    *sqlschema.Schema // what is to be there after it; nil: not asked
	Ignore    []diff.Change     // differences from Wanted that are to stay
	More      bool              // steps by hand may make what Wanted has not
	Migration *migration.Migration
	Drafted   bool // each step was drafted just now
	// Objects are the changes of what is declared in SQL, and Attached the statements that give
	// objects on scratch what they have in the database.
	Objects  []objects.Change
	Declared []*objects.Object // all that is declared in SQL
	Attached []string
	// Live gives rows to try, as literals by table; nil: none may be taken.
	Live func(table string, limit int) (engine.Rows, error)

	rest *sqlschema.Schema // what is there too, and the migration cannot reach
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
			old, _ := migration.NamesBefore(renames, name, "")
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
	for _, sql := range in.Attached {
		_ = db.Exec(ctx, sql) // what cannot be there is missed by nobody but the comparison
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
			for _, l := range s.Loses { // by the names of the start
				l.Table, l.Column = migration.NamesBefore(renames, l.Table, l.Column)
				p.out.Lost = append(p.out.Lost, l)
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
		p.notApplied(err)
		return nil
	}
	after, err := p.look(ctx)
	if err != nil {
		return err
	}
	if err := p.agrees(ctx, before, after); err != nil {
		return err
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
	p.objectsAgain(before.objects, again.objects)
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
	// The values may differ: now and random ones are given again.
	p.compare("applied again", after, third, false)
	return nil
}

// notApplied notes why the migration cannot be applied.
func (p *prover) notApplied(err error) {
	var way *runner.InTheWay
	if errors.As(err, &way) && p.left.all == "" {
		p.way = way
	}
	var step *runner.StepError
	if errors.As(err, &step) {
		p.out.Stopped = step.Step
	}
	if len(p.out.Missing) > 0 {
		err = fmt.Errorf("%w; the scratch database lacks %s (%v)", err, engine.LeftNames(p.out.Missing),
			p.out.Missing[0].Err)
	}
	p.differ("it cannot be applied: %v", err)
}

// agrees compares what the migration made with what is wanted, and what works with what
// worked before it.
func (p *prover) agrees(ctx context.Context, before, after *state) error {
	whole := Join(after.schema, p.rest)
	p.out.After = whole
	p.objectsAgree(after.objects)
	for _, b := range after.broken {
		if !slices.Contains(before.broken, b) {
			p.differ("after it, this no longer works: %s; change or drop it first", b)
		}
	}
	if p.Wanted != nil {
		if err := engine.Canonicalize(ctx, p.db, among(p.Wanted, after.schema), after.schema); err != nil {
			return err
		}
		ignored := map[string]bool{}
		for _, c := range p.Ignore {
			ignored[string(c.Kind)+" "+c.Target()] = true
		}
		for _, c := range diff.Schemas(whole, p.Wanted) {
			if p.More && c.Kind.Sign() == "-" || objects.Drops(c, p.Declared) {
				continue
			}
			if !ignored[string(c.Kind)+" "+c.Target()] {
				p.differ("after it, this still differs from the models: %s %s %s", c.Kind, c.Target(), c.What)
			}
		}
	}
	return nil
}

// undo runs the way back. For what a person lets go permanently it needs values, which the
// undo of a database is told: the first that it takes are put in.
func (p *prover) undo(ctx context.Context) error {
	renames := p.file.Renames(p.Engine)
	candidates, most := map[string][]string{}, 0
	for _, x := range p.file.Parameters {
		now, name, _ := sqlschema.CutTable(x.For, p.Start, p.Wanted)
		table, column := migration.NamesBefore(renames, now, name)
		if !engine.Loses(p.out.Lost, table, column) { // it lost its name to another, and the value is told by it
			table, _ = migration.NamesBefore(renames, now, "")
			column = name
		}
		t := p.Start.Table(table)
		if !x.Undo || t == nil || t.Column(column) == nil || !engine.Loses(p.out.Lost, table, column) {
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

const (
	rowsPerTable = 6
	triesPerRow  = 40
)
