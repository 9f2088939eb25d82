package seed

// This file loads a seed into a database: it looks what is there, makes the plan,
// and makes rows on one core while the database takes them on another. Where
// tables have rows already, each batch is held against them first. What was made
// is recorded in the same transaction.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Conflict is what becomes of a row that is there already.
type Conflict string

// The ways to meet a row that is there: leave it, change it, or stop.
const (
	Skip    Conflict = "skip"
	Replace Conflict = "replace"
	Fail    Conflict = "fail"
)

// RunOptions are how a seed is loaded.
type RunOptions struct {
	Options
	Conflict Conflict
	Wait     time.Duration // for others to let the database go
	Now      time.Time
	// Report is told how far a table is.
	Report func(engine.Progress)
}

// Outcome is what a run did, by table in the order of the seed.
type Outcome struct {
	Tables []TableOutcome
	Took   time.Duration
}

// TableOutcome is what a run did to one table.
type TableOutcome struct {
	Table                 *schema.Table
	Made, Found, Replaced int64
	Shared                int64 // of those found: what a run with another random number made
}

// commitRows is how many rows are one transaction: a seed with no more is taken
// back whole where it is stopped, a larger one ends behind a whole number of them.
const commitRows = 250_000

// PlanError says that a seed cannot be carried out.
type PlanError struct{ Mistakes []lang.Diagnostic }

func (e *PlanError) Error() string {
	return fmt.Sprintf("the seed cannot be run: %s", e.Mistakes[0].Message)
}

// HalfwayError says that a run stopped when some of its rows were there to stay.
type HalfwayError struct {
	Done, Total int64
	Err         error
}

func (e *HalfwayError) Error() string { return e.Err.Error() }
func (e *HalfwayError) Unwrap() error { return e.Err }

// loader is one run.
type loader struct {
	ctx      context.Context
	db       Database
	engine   Engine
	plan     *Plan
	tables   *sqlschema.Schema // what the models declare, as the engine keeps it
	o        RunOptions
	outcome  *Outcome
	id       string
	recorded map[string][]segment // of earlier runs, by line
	again    bool                 // an earlier run of it came to no end
	pending  []record
	open     int64 // rows in the transaction
	done     int64 // rows that are there to stay
	total    int64
	reserved map[string]bool
	watched  []string             // tables of which the seed itself gives references
	known    map[string]bool      // tables that had rows before
	others   map[string][]segment // by table: what runs with other random numbers made
	told     map[string]int64
}

// Run loads a seed.
func Run(ctx context.Context, db Database, e Engine, d *declare.Declared, s *declare.Seed,
	o RunOptions) (*Outcome, error) {
	start := time.Now()
	r := &loader{
		ctx:      ctx,
		db:       db,
		engine:   e,
		o:        o,
		outcome:  &Outcome{},
		id:       o.Now.UTC().Format("20060102T150405.000000"),
		reserved: map[string]bool{},
		known:    map[string]bool{},
		told:     map[string]int64{},
	}
	if err := db.Begin(ctx, o.Wait); err != nil {
		return nil, err
	}
	err := r.run(d, s)
	if err != nil {
		err = errors.Join(err, db.Rollback())
		if r.done > 0 {
			return nil, &HalfwayError{Done: r.done, Total: r.total, Err: err}
		}
		return nil, err
	}
	r.outcome.Took = time.Since(start)
	return r.outcome, nil
}

// stored is the table of a line as the engine keeps it.
func (r *loader) stored(l *Line) *sqlschema.Table { return r.tables.Table(l.Table.Name) }

func (r *loader) run(d *declare.Declared, s *declare.Seed) error {
	r.tables, _ = r.engine.DDL().Lower(d.Schema)
	ground, err := Look(r.ctx, r.db, r.engine, d, s)
	if err != nil {
		return err
	}
	r.o.Existing = ground
	var mistakes []lang.Diagnostic
	if r.plan, mistakes = New(d, s, r.o.Options); len(mistakes) > 0 {
		return &PlanError{mistakes}
	}
	var tables []TableRows
	r.total, tables = r.plan.Rows()
	for _, t := range tables {
		r.outcome.Tables = append(r.outcome.Tables, TableOutcome{Table: t.Table})
		if r.o.Report != nil { // all that will come
			r.o.Report(engine.Progress{Table: t.Table.Name, Total: t.Rows})
		}
		if ground.table(t.Table.Name).Rows {
			r.known[t.Table.Name] = true
		}
	}
	if err := r.begin(); err != nil {
		return err
	}
	if err := r.db.EnforceReferences(r.ctx, false); err != nil {
		return err
	}
	r.goOn()
	r.notePlaces()
	r.watched = r.plan.watched()
	if err := r.watch(); err != nil {
		return err
	}
	if err := r.makeAll(); err != nil {
		return r.explain(err)
	}
	if err := r.closeCircles(); err != nil {
		return r.explain(err)
	}
	if err := r.flush(); err != nil {
		return err
	}
	if !slices.ContainsFunc(r.outcome.Tables, func(t TableOutcome) bool { return t.Made > 0 }) {
		if err := r.db.Exec(r.ctx, "DELETE FROM erbario_seed_runs WHERE id = ?", r.id); err != nil { // it made nothing
			return err
		}
	}
	if err := r.db.Exec(r.ctx, "UPDATE erbario_seed_runs SET ended_at = ? WHERE seed = ? AND random = ? AND ended_at IS NULL", r.o.Now.UTC().Format(time.DateTime), s.Name, fmt.Sprint(r.plan.Random)); err != nil {
		return err
	}
	return r.commit()
}

// watch and commit begin and end a transaction with a look at the references that
// the seed itself gave values.
func (r *loader) watch() error {
	if len(r.watched) == 0 {
		return nil
	}
	return r.db.TrackIntegrity(r.ctx, nil, r.watched)
}

func (r *loader) commit() error {
	if err := r.db.CheckIntegrity(r.ctx); err != nil {
		return err
	}
	return r.db.Commit(r.ctx)
}

// watched are the tables whose references the seed itself gives values, which the
// database is asked about.
func (p *Plan) watched() []string {
	var out []string
	for _, l := range p.Lines {
		for _, k := range l.Table.ForeignKeys {
			given := k == l.up || k == l.above || k == l.source.Tree
			for _, c := range k.Columns {
				if at, ok := l.plan.place[c]; ok && l.columns[at].pick != nil && l.columns[at].pick.key == k {
					given = true
				}
			}
			given = given || slices.ContainsFunc(l.Deferred, func(d *Deferred) bool { return d.Key == k })
			if !given && !slices.Contains(out, l.Table.Name) {
				out = append(out, l.Table.Name)
			}
		}
	}
	return out
}

// begin records the run, and reads what earlier runs of the same seed made.
func (r *loader) begin() error {
	has, err := recorded(r.ctx, r.db)
	if err != nil {
		return err
	}
	for _, s := range r.engine.OwnTables().Seeds {
		if err := r.db.Exec(r.ctx, s); err != nil {
			return err
		}
	}
	for _, l := range r.plan.Lines { // before anything is written, since a server may end the transaction with it
		if id := l.plan.identity; id != "" && !r.known[l.Table.Name] && !r.reserved[l.Table.Name] {
			if err := r.reserve(l); err != nil {
				return err
			}
		}
	}
	if has {
		open, err := r.db.Select(r.ctx,
			"SELECT 1 FROM erbario_seed_runs WHERE seed = ? AND random = ? AND ended_at IS NULL", r.plan.Seed.Name,
			fmt.Sprint(r.plan.Random))
		if err != nil {
			return err
		}
		r.again = len(open) > 0
		if r.recorded, err = recordedLines(r.ctx, r.db, r.plan.Seed.Name); err != nil {
			return err
		}
		r.follow()
		r.apart()
	}
	return r.db.Exec(r.ctx, "INSERT INTO erbario_seed_runs (id, seed, random, begun_at) VALUES (?, ?, ?, ?)", r.id,
		r.plan.Seed.Name, fmt.Sprint(r.plan.Random), r.o.Now.UTC().Format(time.DateTime))
}

// notePlaces records where the numbers of each line begin, with the first part of a run that
// has several: one that goes on from there takes the same, also for tables that were not begun.
func (r *loader) notePlaces() {
	if r.total <= commitRows {
		return
	}
	for _, l := range r.plan.Lines {
		if l.plan.identity != "" {
			r.pending = append(r.pending, record{line: l})
		}
	}
}

// goOn gives the rows of a run that came to no end the numbers that it reserved.
func (r *loader) goOn() {
	if !r.again {
		return
	}
	base, differ := map[string]int64{}, map[string]bool{} // by table: the number of the first row of its first line
	for _, l := range r.plan.Lines {
		for _, s := range r.recorded[l.recordName()] {
			if s.keys != nil || !s.open {
				continue
			}
			n := s.number - s.first - l.before
			if old, ok := base[l.Table.Name]; ok && old != n {
				differ[l.Table.Name] = true // its counts are others by now
			}
			base[l.Table.Name] = n
		}
	}
	for _, l := range r.plan.Lines {
		if n, ok := base[l.Table.Name]; ok && !differ[l.Table.Name] {
			l.first = n + l.before
		}
	}
}

// makeAll makes the rows of all lines in their order. Those of tables that had no
// rows are made on one core while the database takes them on another; a batch for
// a table with rows is held against these first.
func (r *loader) makeAll() error {
	lines := r.plan.Lines
	for len(lines) > 0 {
		n := slices.IndexFunc(lines, func(l *Line) bool { return r.known[l.Table.Name] })
		if n < 0 {
			n = len(lines)
		}
		if err := r.stream(lines[:n]); err != nil {
			return err
		}
		if lines = lines[n:]; len(lines) == 0 {
			break
		}
		err := r.plan.Make(r.ctx, lines[0], 0, func(b *Batch) error {
			there, err := r.find(b)
			if err != nil {
				return err
			}
			return r.load(there, b)
		})
		if err != nil {
			return err
		}
		lines = lines[1:]
	}
	return nil
}

// loadedTogether is how many batches go to the server in one piece, where they are
// encoded: each piece costs it as much as some hundred rows.
const loadedTogether = 20

// stream makes the rows of lines whose tables were empty, so that nothing that is
// made depends on what was loaded of them.
func (r *loader) stream(lines []*Line) error {
	ctx, stop := context.WithCancel(r.ctx)
	defer stop()
	made, batches, failed := make(chan *Batch, 8), make(chan *Batch, loadedTogether), make(chan error, 1)
	go func() { // beside the making of the next and the loading of those before
		defer close(batches)
		for b := range made {
			if e, ok := r.db.(engine.Encoder); ok {
				b.encoded = e.Encode(engine.TableRows{Table: r.stored(b.Line), Columns: b.Line.Columns, Cells: b.Cells})
			}
			batches <- b
		}
	}()
	go func() {
		defer close(made)
		for _, l := range lines {
			err := r.plan.Make(ctx, l, 0, func(b *Batch) error {
				r.plan.FillFromExisting(b)
				select {
				case made <- b:
					return nil
				case <-ctx.Done():
					return ctx.Err()
				}
			})
			if err != nil {
				failed <- err
				return
			}
		}
	}()
	var together []*Batch
	load := func() error {
		if len(together) == 0 {
			return nil
		}
		err := r.load(nil, together...)
		together = together[:0]
		return err
	}
	for b := range batches {
		var err error
		if len(together) > 0 && (together[0].Line != b.Line || b.encoded == nil) {
			err = load()
		}
		if together = append(together, b); err == nil && (b.encoded == nil || len(together) == loadedTogether) {
			err = load()
		}
		if err != nil {
			stop()
			for range batches { // until it has noticed
			}
			return err
		}
	}
	if err := load(); err != nil {
		return err
	}
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

// outcomeOf is what is counted of a line's table.
func (r *loader) outcomeOf(l *Line) *TableOutcome {
	i := slices.IndexFunc(r.outcome.Tables, func(t TableOutcome) bool { return t.Table == l.Table })
	return &r.outcome.Tables[i]
}

// load puts batches of one line into the database, of a single one but the rows that are
// there.
func (r *loader) load(there []bool, list ...*Batch) error {
	l := list[0].Line
	rows := engine.TableRows{Table: r.stored(l), Columns: l.Columns, Cells: list[0].Cells}
	made := make([][]int64, len(list))
	some := slices.Contains(there, true)
	if some {
		rows.Cells = nil
	}
	var n, gone int64
	for i, b := range list {
		gone += int64(b.Rows())
		if b.encoded != nil {
			rows.Encoded, rows.Cells = append(rows.Encoded, b.encoded), nil
		}
		for j := range b.Rows() {
			if some && there[j] {
				continue
			}
			if some {
				rows.Cells = append(rows.Cells, b.Row(j)...)
			}
			made[i] = append(made[i], int64(j))
		}
		n += int64(len(made[i]))
	}
	if n > 0 {
		if id := l.plan.identity; id != "" && !r.reserved[l.Table.Name] {
			if err := r.reserve(l); err != nil {
				return err
			}
		}
		if err := r.db.Load(r.ctx, rows); err != nil {
			return err
		}
		for i, b := range list {
			r.note(b, made[i])
		}
	}
	out := r.outcomeOf(l)
	out.Made += n
	r.open += n
	r.tell(l.Table, gone)
	if r.open < commitRows {
		return nil
	}
	if err := r.flush(); err != nil {
		return err
	}
	if err := r.commit(); err != nil {
		return err
	}
	r.done += r.open
	r.open = 0
	if err := r.db.Begin(r.ctx, r.o.Wait); err != nil {
		return err
	}
	return r.watch()
}

// reserve lets nobody else get the numbers of the rows that come into a table.
func (r *loader) reserve(l *Line) error {
	last := l.plan.lines[len(l.plan.lines)-1]
	r.reserved[l.Table.Name] = true
	return r.db.Reserve(r.ctx, r.stored(l), last.first+last.Total-1)
}

// tell tells how far a table is.
func (r *loader) tell(t *schema.Table, rows int64) {
	r.told[t.Name] += rows
	if r.o.Report == nil {
		return
	}
	total := int64(0)
	for _, l := range r.plan.tables[t.Name].lines {
		total += l.Total
	}
	r.o.Report(engine.Progress{Table: t.Name, Done: r.told[t.Name], Total: total})
}

// follow finds the lines under the names that they were recorded by, where their models
// have others now: their rows stay theirs, and have the same values. The record knows their
// tables, whose names follow a rename.
func (r *loader) follow() {
	taken := map[string]bool{}
	for _, l := range r.plan.Lines {
		if r.recorded[l.recordName()] != nil {
			taken[l.recordName()] = true
		}
	}
	names := slices.Sorted(maps.Keys(r.recorded))
	written := slices.Clone(r.plan.Lines)
	slices.SortStableFunc(written, func(a, b *Line) int { return a.written - b.written }) // parents first
	for _, l := range written {
		if taken[l.recordName()] {
			continue
		}
		above := ""
		if l.parent != nil {
			above = cmp.Or(l.parent.recorded, l.parent.Name) + "/"
		}
		for _, record := range names {
			name, _, _ := strings.Cut(record, " ")
			rest, ok := strings.CutPrefix(name, above)
			hash := r.plan.hash(name)
			if ok && l.level == 0 && !strings.Contains(rest, "/") && !taken[record] &&
				r.recorded[record][0].table == l.Table.Name &&
				suffix(rest) == suffix(l.Name) && record == fmt.Sprintf("%s %016x", name, hash) {
				l.recorded, l.hash = name, hash
				taken[record] = true
				break
			}
		}
	}
}

// closeCircles fills the references that had to wait until all rows were there.
func (r *loader) closeCircles() error {
	for _, l := range r.plan.Lines {
		for _, d := range l.Deferred {
			key := l.Table.Key
			rows := engine.TableRows{Table: r.stored(l), Columns: append(slices.Clone(key), d.Key.Columns...)}
			for n := range l.Total {
				if _, old := l.found[n]; old && !r.again {
					continue
				}
				values, ok := r.plan.Refill(l, d, n)
				if !ok {
					continue
				}
				for _, c := range key {
					rows.Cells = append(rows.Cells, l.value(c, n))
				}
				rows.Cells = append(rows.Cells, values...)
			}
			if len(rows.Cells) == 0 {
				continue
			}
			if _, err := r.db.Change(r.ctx, rows, key, true); err != nil {
				return err
			}
		}
	}
	return nil
}

// explain says which check a row did not pass, and what to write.
func (r *loader) explain(err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return &PlanError{[]lang.Diagnostic{p.Diagnostic}}
	}
	if r.ctx.Err() != nil {
		return r.ctx.Err()
	}
	for _, l := range r.plan.Lines {
		for _, c := range l.Table.Checks {
			if c.Name != "" && strings.Contains(err.Error(), c.Name) {
				message, hint := checkMessage(l.Table, c)
				return &PlanError{[]lang.Diagnostic{mistake(l.source, hint, "%s", message)}}
			}
		}
	}
	return err
}

// keysLooked is how many rows references pick among, where the seed makes none.
const keysLooked = 100_000
