package seed

// This file loads a seed into a database: it looks what is there, makes the plan,
// and makes rows on one core while the database takes them on another. Where
// tables have rows already, each batch is held against them first. What was made
// is recorded in the same transaction.

import (
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/schema"
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
	db       engine.Database
	engine   engine.Engine
	plan     *Plan
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

// record is rows of a line that were made.
type record struct {
	line  *Line
	first int64
	rows  int64
	keys  string
}

// Run loads a seed.
func Run(ctx context.Context, db engine.Database, e engine.Engine, d *declare.Declared, s *declare.Seed, o RunOptions) (*Outcome, error) {
	start := time.Now()
	r := &loader{ctx: ctx, db: db, engine: e, o: o, outcome: &Outcome{}, id: o.Now.UTC().Format("20060102T150405.000000"), reserved: map[string]bool{}, known: map[string]bool{}, told: map[string]int64{}}
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

func (r *loader) run(d *declare.Declared, s *declare.Seed) error {
	ground, err := Look(r.ctx, r.db, r.engine, d, s)
	if err != nil {
		return err
	}
	r.o.Ground = ground
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
		open, err := r.db.Select(r.ctx, "SELECT 1 FROM erbario_seed_runs WHERE seed = ? AND random = ? AND ended_at IS NULL", r.plan.Seed.Name, fmt.Sprint(r.plan.Random))
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
	return r.db.Exec(r.ctx, "INSERT INTO erbario_seed_runs (id, seed, random, begun_at) VALUES (?, ?, ?, ?)", r.id, r.plan.Seed.Name, fmt.Sprint(r.plan.Random), r.o.Now.UTC().Format(time.DateTime))
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
				b.encoded = e.Encode(engine.TableRows{Table: b.Line.Table, Columns: b.Line.Columns, Cells: b.Cells})
			}
			batches <- b
		}
	}()
	go func() {
		defer close(made)
		for _, l := range lines {
			err := r.plan.Make(ctx, l, 0, func(b *Batch) error {
				r.plan.Settle(b)
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
	rows := engine.TableRows{Table: l.Table, Columns: l.Columns, Cells: list[0].Cells}
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
	return r.db.Reserve(r.ctx, l.Table, last.first+last.Total-1)
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

// recordName is how a line is called in the record: the same from run to run.
func (l *Line) recordName() string {
	return fmt.Sprintf("%s %016x", cmp.Or(l.recorded, l.Name), l.hash)
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
			if ok && l.level == 0 && !strings.Contains(rest, "/") && !taken[record] && r.recorded[record][0].table == l.Table.Name &&
				suffix(rest) == suffix(l.Name) && record == fmt.Sprintf("%s %016x", name, hash) {
				l.recorded, l.hash = name, hash
				taken[record] = true
				break
			}
		}
	}
}

// apart notes what runs with other random numbers made.
func (r *loader) apart() {
	own := map[string]bool{}
	for _, l := range r.plan.Lines {
		own[l.recordName()] = true
	}
	r.others = map[string][]segment{}
	for name, list := range r.recorded {
		if !own[name] {
			for _, s := range list {
				r.others[s.table] = append(r.others[s.table], s)
			}
		}
	}
}

// isOther tells whether a row that was found is one that a run with another random number
// made.
func (r *loader) isOther(l *Line, row map[string]any) bool {
	for _, s := range r.others[l.Table.Name] {
		if s.keys == nil {
			if n, ok := row[l.plan.identity].(int64); ok && n >= s.number && n < s.number+s.rows {
				return true
			}
			continue
		}
		var key []any
		for _, c := range l.Table.Key() {
			key = append(key, row[c])
		}
		if text := fmt.Sprint(key...); slices.ContainsFunc(s.keys, func(k []any) bool { return fmt.Sprint(k...) == text }) {
			return true
		}
	}
	return false
}

// suffix is what tells a line from others of its model: its number, and its level in a tree.
func suffix(name string) string {
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		name = name[i:]
	}
	if i := strings.IndexAny(name, "#^"); i >= 0 {
		return name[i:]
	}
	return ""
}

// note keeps the keys of rows that were made, to be recorded with them.
func (r *loader) note(b *Batch, made []int64) {
	l := b.Line
	if l.plan.identity != "" {
		for start := 0; start < len(made); {
			end := start + 1
			for end < len(made) && made[end] == made[end-1]+1 {
				end++
			}
			first := b.First + made[start]
			if n := len(r.pending); n > 0 && r.pending[n-1].line == l && r.pending[n-1].rows > 0 && r.pending[n-1].first+r.pending[n-1].rows == first {
				r.pending[n-1].rows += int64(end - start)
			} else {
				r.pending = append(r.pending, record{line: l, first: first, rows: int64(end - start)})
			}
			start = end
		}
		return
	}
	columns := l.keyColumns()
	keys := make([][]any, 0, len(made))
	for _, i := range made {
		row := b.Row(int(i))
		key := make([]any, len(columns))
		for j, c := range columns {
			key[j] = row[l.plan.place[c]]
			if b, ok := key[j].([]byte); ok { // JSON has none
				key[j] = map[string]string{"hex": hex.EncodeToString(b)}
			}
		}
		keys = append(keys, key)
	}
	for start := 0; start < len(made); {
		end := start + 1
		for end < len(made) && made[end] == made[end-1]+1 {
			end++
		}
		text, _ := json.Marshal(keys[start:end]) // plain values always can be
		r.pending = append(r.pending, record{line: l, first: b.First + made[start], rows: int64(end - start), keys: string(text)})
		start = end
	}
}

// keyColumns are the columns that tell the rows of a line's table apart: those of
// its key, or all, where it has none.
func (l *Line) keyColumns() []string {
	if key := l.Table.Key(); len(key) > 0 && !slices.ContainsFunc(key, func(c string) bool { _, ok := l.plan.place[c]; return !ok }) {
		return key
	}
	return l.Columns
}

// flush writes what was noted into the record.
func (r *loader) flush() error {
	for _, p := range r.pending {
		keys := p.keys
		if keys == "" {
			keys = strconv.FormatInt(p.line.first+p.first, 10)
		}
		err := r.db.Exec(r.ctx, "INSERT INTO erbario_seed_rows (run, line, table_name, first_row, row_count, "+r.engine.SQL().Quote("keys")+") VALUES (?, ?, ?, ?, ?, ?)",
			r.id, p.line.recordName(), p.line.Table.Name, p.first, p.rows, keys)
		if err != nil {
			return err
		}
	}
	r.pending = nil
	return nil
}

// find tells which rows of a batch are there already: those that an earlier run
// of the same seed made, and those with a value in a uniqueness that is taken.
func (r *loader) find(b *Batch) ([]bool, error) {
	l := b.Line
	there := make([]bool, b.Rows())
	if err := r.findRecorded(b, there); err != nil {
		return nil, err
	}
	own := func(columns []string) bool {
		return slices.ContainsFunc(columns, func(c string) bool {
			at, ok := l.plan.place[c]
			return ok && l.columns[at].pick != nil && l.columns[at].pick.own
		})
	}
	all := uniquesOf(l)
	for _, f := range all {
		if !own(f.Columns) {
			if err := r.findBy(b, f, there); err != nil {
				return nil, err
			}
		}
	}
	r.plan.Settle(b)
	for _, f := range all {
		if own(f.Columns) {
			if err := r.findBy(b, f, there); err != nil {
				return nil, err
			}
		}
	}
	return there, r.replace(b, there)
}

// uniquesOf are the ways to find a row of a line's table by what no two have the
// same.
func uniquesOf(l *Line) []engine.Finding {
	var out []engine.Finding
	add := func(parts []schema.Part, live bool) {
		f := engine.Finding{Live: live}
		f.Table = l.Table
		for _, p := range parts {
			if _, ok := l.plan.place[p.Column]; !ok || p.Expr != nil || p.Column == l.plan.identity {
				return
			}
			f.Columns = append(f.Columns, p.Column)
			if p.Collation != "" {
				f.Fold = append(f.Fold, p.Column)
			}
		}
		out = append(out, f)
	}
	if l.Table.PrimaryKey != nil {
		add(l.Table.PrimaryKey.Columns, false)
	}
	for _, x := range l.Table.Indexes {
		if x.Unique && (x.Where == nil || l.Table.Among(x)) {
			add(x.Parts, x.Where != nil)
		}
	}
	return out
}

// take are the columns that are wanted of a row that is there.
func (l *Line) take() []string {
	out := slices.Clone(l.plan.keep)
	for _, c := range append(slices.Clone(l.Table.Key()), l.plan.identity) {
		if c != "" && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		out = l.Columns[:1]
	}
	return out
}

func (r *loader) findBy(b *Batch, f engine.Finding, there []bool) error {
	l := b.Line
	f.Take = l.take()
	var asked []int
	for i := range b.Rows() {
		if there[i] {
			continue
		}
		row, cells := b.Row(i), []any(nil)
		for _, c := range f.Columns {
			v := row[l.plan.place[c]]
			if v == nil {
				break
			}
			cells = append(cells, v)
		}
		marked := f.Live && row[l.plan.place[l.Table.SoftDelete]] != nil
		if len(cells) == len(f.Columns) && !marked {
			asked = append(asked, i)
			f.Cells = append(f.Cells, cells...)
		}
	}
	if len(asked) == 0 {
		return nil
	}
	found, err := r.db.Find(r.ctx, f)
	if err != nil {
		return err
	}
	for j, values := range found {
		if values != nil {
			if err := r.isThere(b, asked[j], f.Take, values, f.Columns); err != nil {
				return err
			}
			there[asked[j]] = true
		}
	}
	return nil
}

// isThere notes the values of a row that was there, for those that refer to it.
func (r *loader) isThere(b *Batch, i int, columns []string, values []any, by []string) error {
	l := b.Line
	if r.o.Conflict == Fail {
		var what []string
		for _, c := range by {
			what = append(what, fmt.Sprintf("%s %v", c, b.Row(i)[l.plan.place[c]]))
		}
		if len(what) == 0 {
			return fmt.Errorf("rows of %s created by an earlier run of this seed exist already: --on-conflict skip leaves them, replace changes them", l.Table.Name)
		}
		return fmt.Errorf("%s has a row with %s already: --on-conflict skip leaves such rows, replace changes them", l.Table.Name, strings.Join(what, ", "))
	}
	row := map[string]any{}
	for j, c := range columns {
		row[c] = nil
		if s, ok := values[j].(string); ok {
			row[c] = readBack(s, l.Table.Column(c).Type)
		}
	}
	l.found[b.First+int64(i)] = row
	r.outcomeOf(l).Found++
	if len(r.others) > 0 && r.isOther(l, row) {
		r.outcomeOf(l).Shared++
	}
	return nil
}

// readBack is a value that a database gave as text.
func readBack(s string, t schema.Type) any {
	switch {
	case t.Kind.Whole():
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return n
		}
	case t.Kind == schema.Real || t.Kind == schema.Double:
		if f, err := strconv.ParseFloat(s, 64); err == nil {
			return f
		}
	case t.Kind == schema.Decimal:
		return decimal(s, t.Scale)
	case t.Kind == schema.Boolean:
		return s == "1" || s == "true" || s == "t"
	}
	return s
}

// findRecorded finds the rows that an earlier run made in the same places, by the keys
// that are recorded.
func (r *loader) findRecorded(b *Batch, there []bool) error {
	l := b.Line
	var ids []any
	var asked []int
	key := engine.Finding{Take: l.take()}
	key.Table, key.Columns = l.Table, l.keyColumns()
	var byKey []int
	for _, s := range r.recorded[l.recordName()] {
		for i := range b.Rows() {
			n := b.First + int64(i)
			if there[i] || n < s.first || n >= s.first+s.rows {
				continue
			}
			switch at := n - s.first; {
			case s.keys != nil && !l.Table.Unkeyed() && at < int64(len(s.keys)) && len(s.keys[at]) == len(key.Columns):
				key.Cells = append(key.Cells, plainKey(s.keys[at])...)
				byKey = append(byKey, i)
			case l.plan.identity != "":
				ids = append(ids, s.number+n-s.first)
				asked = append(asked, i)
			case l.Table.Unkeyed():
				if err := r.isThere(b, i, nil, nil, nil); err != nil {
					return err
				}
				there[i] = true
			}
		}
	}
	find := func(f engine.Finding, places []int) error {
		found, err := r.db.Find(r.ctx, f)
		if err != nil {
			return err
		}
		for j, values := range found {
			if i := places[j]; values != nil && !there[i] {
				if err := r.isThere(b, i, f.Take, values, nil); err != nil {
					return err
				}
				there[i] = true
			}
		}
		return nil
	}
	if len(byKey) > 0 {
		if err := find(key, byKey); err != nil {
			return err
		}
	}
	if len(ids) == 0 {
		return nil
	}
	f := engine.Finding{Take: l.take()}
	f.Table, f.Columns, f.Cells = l.Table, []string{l.plan.identity}, ids
	return find(f, asked)
}

// replace changes rows that are there into those of the seed: all but their keys,
// what may not change, and what the database stamps.
func (r *loader) replace(b *Batch, there []bool) error {
	l := b.Line
	key := l.Table.Key()
	if r.o.Conflict != Replace || len(key) == 0 {
		return nil
	}
	columns := slices.Clone(key)
	for _, c := range l.plan.columns {
		if !slices.Contains(key, c.Name) && !c.Immutable && !c.Stamped && !c.Identity && c.Name != l.Table.SoftDelete && (c.Value == nil || c.Value.Constant() || l.source.Supplies[c.Name] != nil) &&
			!slices.ContainsFunc(l.Deferred, func(d *Deferred) bool { return slices.Contains(d.Key.Columns, c.Name) }) {
			columns = append(columns, c.Name)
		}
	}
	rows := engine.TableRows{Table: l.Table, Columns: columns}
	for i := range b.Rows() {
		if !there[i] {
			continue
		}
		row, found := b.Row(i), l.found[b.First+int64(i)]
		for _, c := range columns {
			if v, ok := found[c]; ok && slices.Contains(key, c) {
				rows.Cells = append(rows.Cells, v)
			} else {
				rows.Cells = append(rows.Cells, row[l.plan.place[c]])
			}
		}
	}
	if len(rows.Cells) == 0 {
		return nil
	}
	n, err := r.db.Change(r.ctx, rows, key, false)
	out := r.outcomeOf(l)
	out.Replaced += n
	out.Found -= n
	r.open += n
	return err
}

// closeCircles fills the references that had to wait until all rows were there.
func (r *loader) closeCircles() error {
	for _, l := range r.plan.Lines {
		for _, d := range l.Deferred {
			key := l.Table.Key()
			rows := engine.TableRows{Table: l.Table, Columns: append(slices.Clone(key), d.Key.Columns...)}
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

// Look reads what a seed has to know of a database.
func Look(ctx context.Context, db engine.Database, e engine.Engine, d *declare.Declared, s *declare.Seed) (*Ground, error) {
	live, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	g := &Ground{Tables: map[string]*There{}}
	var lines func(list []*declare.SeedLine) error
	lines = func(list []*declare.SeedLine) error {
		for _, l := range list {
			if err := lookTable(ctx, db, e, d, s, g, live, l.Table); err != nil {
				return err
			}
			if err := lines(l.Lines); err != nil {
				return err
			}
		}
		return nil
	}
	return g, lines(s.Lines)
}

func lookTable(ctx context.Context, db engine.Database, e engine.Engine, d *declare.Declared, s *declare.Seed, g *Ground, live *schema.Schema, t *schema.Table) error {
	if g.Tables[t.Name] != nil && g.Tables[t.Name].Next > 0 {
		return nil
	}
	there := live.Table(t.Name)
	if there == nil {
		return fmt.Errorf("the table %s does not exist in the database: apply the migrations first", t.Name)
	}
	for _, c := range t.Columns {
		if there.Column(c.Name) == nil {
			return fmt.Errorf("the table %s has no column %s in the database: apply the migrations first", t.Name, c.Name)
		}
	}
	out := &There{Next: 1}
	g.Tables[t.Name] = out
	rows, err := db.Select(ctx, "SELECT 1 FROM "+e.SQL().Quote(t.Name)+" LIMIT 1")
	if err != nil {
		return err
	}
	out.Rows = len(rows) > 0
	for _, c := range t.Columns {
		if c.Identity {
			if out.Next, err = db.NextNumber(ctx, t); err != nil {
				return err
			}
		}
	}
	for _, k := range t.ForeignKeys {
		if s.Makes(k.Table) {
			continue
		}
		target := d.Schema.Table(k.Table)
		if target == nil || live.Table(k.Table) == nil {
			return fmt.Errorf("the table %s does not exist in the database: apply the migrations first", k.Table)
		}
		to := g.Tables[k.Table]
		if to == nil {
			to = &There{Keys: map[string][][]any{}}
			g.Tables[k.Table] = to
		}
		beside := besides(d.Schema, t, k)
		name := keyName(k.References, beside)
		if to.Keys[name] != nil {
			continue
		}
		if to.Keys[name], err = lookKeys(ctx, db, e, target, live.Table(k.Table), k.References, beside); err != nil {
			return err
		}
	}
	return nil
}

// keysLooked is how many rows references pick among, where the seed makes none.
const keysLooked = 100_000

func lookKeys(ctx context.Context, db engine.Database, e engine.Engine, t, there *schema.Table, columns, beside []string) ([][]any, error) {
	var names, where []string
	for _, c := range columns {
		names = append(names, e.SQL().Quote(c))
		where = append(where, e.SQL().Quote(c)+" IS NOT NULL")
	}
	if t.SoftDelete != "" {
		where = append(where, e.SQL().Quote(t.SoftDelete)+" IS NULL")
	}
	order, list := strings.Join(names, ", "), names
	for _, c := range beside {
		if there.Column(c) == nil { // it has yet to come
			list = append(list, "NULL")
			continue
		}
		list = append(list, e.SQL().Quote(c))
	}
	rows, err := db.Select(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s LIMIT %d", strings.Join(list, ", "), e.SQL().Quote(t.Name), strings.Join(where, " AND "), order, keysLooked))
	if err != nil {
		return nil, err
	}
	out := make([][]any, len(rows))
	for i, row := range rows {
		for j, c := range slices.Concat(columns, beside) {
			out[i] = append(out[i], readBack(row[j], t.Column(c).Type))
		}
	}
	return out, nil
}

// segment is rows of a line that a run recorded.
type segment struct {
	table  string
	first  int64
	rows   int64
	number int64   // of the first, in an identity
	keys   [][]any // else
	open   bool    // its run came to no end
}

// recordedLines reads what the runs of a seed made, the newest first.
func recordedLines(ctx context.Context, db engine.Database, seed string) (map[string][]segment, error) {
	rows, err := db.Select(ctx, "SELECT r.line, r.table_name, r.first_row, r.row_count, r.keys, CASE WHEN u.ended_at IS NULL THEN 1 ELSE 0 END FROM erbario_seed_rows r JOIN erbario_seed_runs u ON u.id = r.run WHERE u.seed = ? ORDER BY u.id DESC, r.first_row", seed)
	if err != nil {
		return nil, err
	}
	out := map[string][]segment{}
	for _, row := range rows {
		s := segment{table: row[1], open: row[5] == "1"}
		var err1, err2, err3 error
		s.first, err1 = strconv.ParseInt(row[2], 10, 64)
		s.rows, err2 = strconv.ParseInt(row[3], 10, 64)
		if strings.HasPrefix(row[4], "[") {
			d := json.NewDecoder(strings.NewReader(row[4]))
			d.UseNumber()
			err3 = d.Decode(&s.keys)
		} else {
			s.number, err3 = strconv.ParseInt(row[4], 10, 64)
		}
		if err := cmp.Or(err1, err2, err3); err != nil {
			return nil, fmt.Errorf("the record of the seed %s cannot be read: %w", seed, err)
		}
		out[row[0]] = append(out[row[0]], s)
	}
	return out, nil
}
