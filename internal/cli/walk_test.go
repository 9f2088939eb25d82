package cli

// A random walk: fields are declared, changed, renamed and removed, migrations
// drafted, applied, undone, drafted again and merged, and rows are inserted,
// edited and deleted all the while. At each point the rows are as a plain model
// in Go says. ERBARIO_WALKS=50 and ERBARIO_STEPS=500 make it long.

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/testserver"
)

// walkField is a field of the model Specimen.
type walkField struct {
	number   bool // integer, else text
	required bool
}

func (f walkField) line(name string) string {
	s := name + " text"
	if f.number {
		s = name + " integer"
	}
	if !f.required {
		s += " optional"
	}
	return s
}

// null stands for no value.
const null = "NULL"

// walkOp is one thing that a migration does to the columns of specimens.
type walkOp struct {
	kind     string // add, drop, rename, require, relax, text; hand: a step that a person wrote
	name, to string
	field    walkField // add: what comes; drop: what was there
	fill     string
	values   map[int]string // drop: what is kept; add: what an undo put aside; require: who was given the value
}

// walkMigration is a migration in plain Go.
type walkMigration struct{ ops []*walkOp }

type walk struct {
	*evolving
	r      *rand.Rand
	fields map[string]walkField      // as the database has them
	wanted map[string]walkField      // match them
	rows   map[int]map[string]string // by id
	line   []*walkMigration          // applied, oldest first
	undone []*walkMigration          // undone, the next to apply last
	next   int                       // the next id
	steps  []string                  // what was done, for a failure
	named  int
}

func (w *walk) note(format string, args ...any) {
	w.steps = append(w.steps, fmt.Sprintf(format, args...))
}

func (w *walk) value(f walkField) string {
	if !f.required && w.r.IntN(4) == 0 {
		return null
	}
	return w.fillFor(f)
}

func (w *walk) fillFor(f walkField) string {
	if f.number {
		return strconv.Itoa(w.r.IntN(9))
	}
	return string(rune('a' + w.r.IntN(9)))
}

func (w *walk) fresh() string {
	w.named++
	return fmt.Sprintf("f%d", w.named)
}

func (w *walk) models() {
	var b strings.Builder
	b.WriteString("model Specimen\n    code text(9)\n")
	for _, n := range slices.Sorted(maps.Keys(w.wanted)) {
		b.WriteString("    " + w.wanted[n].line(n) + "\n")
	}
	w.write("models/m.erbario", b.String())
}

// change makes the ops of a new migration, with the flags that answer for them,
// and the models that want it.
func (w *walk) change(from map[string]walkField) ([]*walkOp, []string) {
	w.wanted = maps.Clone(from)
	var ops []*walkOp
	var flags []string
	used := map[string]bool{}
	for range 1 + w.r.IntN(3) {
		names := slices.DeleteFunc(slices.Sorted(maps.Keys(w.wanted)), func(n string) bool { return used[n] })
		kind := []string{"add", "add", "drop", "rename", "require", "relax", "text"}[w.r.IntN(7)]
		if kind == "add" || len(names) == 0 {
			f := walkField{number: w.r.IntN(2) == 0, required: w.r.IntN(2) == 0}
			op := &walkOp{kind: "add", name: w.fresh(), field: f, fill: null}
			if f.required {
				op.fill = w.fillFor(f)
			}
			w.wanted[op.name] = f
			used[op.name] = true
			ops = append(ops, op)
			continue
		}
		name := names[w.r.IntN(len(names))]
		f := w.wanted[name]
		used[name] = true
		switch {
		case kind == "drop":
			delete(w.wanted, name)
			ops = append(ops, &walkOp{kind: "drop", name: name, field: f})
		case kind == "rename":
			to := w.fresh()
			delete(w.wanted, name)
			w.wanted[to] = f
			used[to] = true
			ops = append(ops, &walkOp{kind: "rename", name: name, to: to})
		case kind == "require" && !f.required:
			f.required = true
			w.wanted[name] = f
			ops = append(ops, &walkOp{kind: "require", name: name, fill: w.fillFor(f)})
		case kind == "relax" && f.required:
			f.required = false
			w.wanted[name] = f
			ops = append(ops, &walkOp{kind: "relax", name: name})
		case kind == "text" && f.number:
			f.number = false
			w.wanted[name] = f
			ops = append(ops, &walkOp{kind: "text", name: name})
		}
	}
	for _, op := range ops {
		switch op.kind {
		case "add":
			if op.field.required { // rows may come before it is applied again
				flags = append(flags, "--fill", "specimens."+op.name+"="+op.fill)
			}
		case "drop":
			flags = append(flags, "--drop", "specimens."+op.name)
		case "rename":
			flags = append(flags, "--rename", "specimens."+op.name+"="+op.to)
		case "require":
			flags = append(flags, "--fill", "specimens."+op.name+"="+op.fill)
		}
	}
	return ops, flags
}

// forward does a migration in plain Go.
func (w *walk) forward(m *walkMigration) {
	for _, op := range m.ops {
		switch op.kind {
		case "add":
			w.fields[op.name] = op.field
			for id, row := range w.rows {
				row[op.name] = op.fill
				if v, ok := op.values[id]; ok {
					row[op.name] = v
				}
			}
			op.values = nil
		case "drop":
			delete(w.fields, op.name)
			op.values = map[int]string{}
			for id, row := range w.rows {
				op.values[id] = row[op.name]
				delete(row, op.name)
			}
		case "rename":
			w.rename(op.name, op.to)
		case "require":
			op.values = map[int]string{}
			for id, row := range w.rows {
				if row[op.name] == null {
					row[op.name], op.values[id] = op.fill, op.fill
				}
			}
			w.set(op.name, func(f *walkField) { f.required = true })
		case "relax":
			w.set(op.name, func(f *walkField) { f.required = false })
		case "text":
			w.set(op.name, func(f *walkField) { f.number = false })
		case "hand":
			w.more(op.name, 10)
		}
	}
	w.line = append(w.line, m)
}

func (w *walk) set(name string, f func(*walkField)) {
	x := w.fields[name]
	f(&x)
	w.fields[name] = x
}

// more adds to the numbers of a field.
func (w *walk) more(name string, by int) {
	for _, row := range w.rows {
		if n, err := strconv.Atoi(row[name]); err == nil {
			row[name] = strconv.Itoa(n + by)
		}
	}
}

func (w *walk) rename(from, to string) {
	w.fields[to] = w.fields[from]
	delete(w.fields, from)
	for _, row := range w.rows {
		row[to] = row[from]
		delete(row, from)
	}
}

// back takes the last migration back in plain Go; fill is the value for rows of
// which nothing is kept. ok is false where rows block it.
func (w *walk) back(fill func(op *walkOp) string) (m *walkMigration, ok bool) {
	m = w.line[len(w.line)-1]
	// What blocks it is asked before anything happens.
	for _, op := range m.ops {
		for id, row := range w.rows {
			switch op.kind {
			case "relax":
				if row[op.name] == null {
					return m, false
				}
			case "text":
				if _, err := strconv.Atoi(row[op.name]); err != nil && row[op.name] != null {
					return m, false
				}
			case "drop":
				if _, kept := op.values[id]; !kept && op.field.required && fill(op) == "" {
					return m, false
				}
			}
		}
	}
	for i := len(m.ops) - 1; i >= 0; i-- {
		op := m.ops[i]
		switch op.kind {
		case "add":
			op.values = map[int]string{}
			for id, row := range w.rows {
				op.values[id] = row[op.name]
				delete(row, op.name)
			}
			delete(w.fields, op.name)
		case "drop":
			for id, row := range w.rows {
				v, kept := op.values[id]
				switch {
				case kept:
					row[op.name] = v
				case op.field.required:
					row[op.name] = fill(op)
				default:
					row[op.name] = null
				}
			}
			w.fields[op.name] = op.field
		case "rename":
			w.rename(op.to, op.name)
		case "require":
			for id, row := range w.rows {
				if v, given := op.values[id]; given && row[op.name] == v {
					row[op.name] = null
				}
			}
			w.set(op.name, func(f *walkField) { f.required = false })
		case "relax":
			w.set(op.name, func(f *walkField) { f.required = true })
		case "text":
			w.set(op.name, func(f *walkField) { f.number = true })
		case "hand":
			w.more(op.name, -10)
		}
	}
	w.line = w.line[:len(w.line)-1]
	return m, true
}

// check compares the rows with the plain model's.
func (w *walk) check() {
	var b strings.Builder
	names := append([]string{"id"}, slices.Sorted(maps.Keys(w.fields))...)
	fmt.Fprintf(&b, "specimens (%s)\n", strings.Join(names, ", "))
	for _, id := range slices.Sorted(maps.Keys(w.rows)) {
		out := []string{strconv.Itoa(id)}
		for _, n := range names[1:] {
			v := w.rows[id][n]
			if v != null && !w.fields[n].number {
				v = "'" + v + "'"
			}
			out = append(out, v)
		}
		fmt.Fprintf(&b, "    %s\n", strings.Join(out, ", "))
	}
	db := w.db()
	defer db.Close()
	for i, n := range names {
		names[i] = w.place.Engine.SQL().Quote(n)
	}
	rows, err := db.Sample(w.t.Context(), "SELECT "+strings.Join(names, ", ")+" FROM specimens ORDER BY id", 0)
	require.NoError(w.t, err, "%s", strings.Join(w.steps, "\n"))
	var have strings.Builder
	fmt.Fprintf(&have, "specimens (%s)\n", strings.Join(rows.Columns, ", "))
	for _, r := range rows.Values {
		fmt.Fprintf(&have, "    %s\n", strings.Join(r, ", "))
	}
	require.Equal(w.t, b.String(), have.String(), "after\n%s", strings.Join(w.steps, "\n"))
}

func (w *walk) run(args ...string) (string, int) {
	out, code := w.erbario(args...)
	w.note("erbario %s  (%d)", strings.Join(args, " "), code)
	return out, code
}

func (w *walk) ok(args ...string) {
	out, code := w.run(args...)
	require.Equal(w.t, 0, code, "%s\n%s", strings.Join(w.steps, "\n"), out)
}

func (w *walk) sql(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	w.note("%s", text)
	w.exec(text + ";")
}

func sqlValue(f walkField, v string) string {
	if v != null && !f.number {
		return "'" + v + "'"
	}
	return v
}

func (w *walk) insert() {
	names, values := []string{"code"}, []string{"'c'"}
	row := map[string]string{}
	for _, n := range slices.Sorted(maps.Keys(w.fields)) {
		row[n] = w.value(w.fields[n])
		names, values = append(names, n), append(values, sqlValue(w.fields[n], row[n]))
	}
	w.next++
	w.rows[w.next] = row
	w.sql("INSERT INTO specimens (%s) VALUES (%s)", strings.Join(names, ", "), strings.Join(values, ", "))
}

func (w *walk) someRow() int {
	ids := slices.Sorted(maps.Keys(w.rows))
	if len(ids) == 0 {
		return 0
	}
	return ids[w.r.IntN(len(ids))]
}

// draft writes a new migration and applies it, unless rows are in its way.
func (w *walk) draft() {
	if len(w.undone) > 0 {
		w.reapply()
		return
	}
	ops, flags := w.change(w.fields)
	if len(ops) == 0 {
		return
	}
	w.models()
	w.ok(append([]string{"draft", "change"}, flags...)...)
	if op := w.byHand(ops); op != nil {
		ops = append(ops, op)
	}
	w.reviewed()
	w.ok("apply")
	w.forward(&walkMigration{ops})
}

// byHand adds, now and then, a step by hand to the migration that was just drafted: it
// changes a field that the migration leaves alone.
func (w *walk) byHand(ops []*walkOp) *walkOp {
	names := slices.DeleteFunc(slices.Sorted(maps.Keys(w.fields)), func(n string) bool {
		return !w.fields[n].number || slices.ContainsFunc(ops, func(o *walkOp) bool { return o.name == n })
	})
	if len(names) == 0 || w.r.IntN(2) == 0 {
		return nil
	}
	op := &walkOp{kind: "hand", name: names[w.r.IntN(len(names))]}
	files := w.files()
	text, err := os.ReadFile(files[len(files)-1])
	require.NoError(w.t, err)
	own := ""
	if w.place.Engine.Caps().CommitsChanges {
		own = "  (own transaction)"
	}
	update := fmt.Sprintf("UPDATE specimens SET %s = %s", op.name, op.name)
	w.note("a step by hand: %s + 10", update)
	w.write(
		"migrations/"+filepath.Base(files[len(files)-1]),
		fmt.Sprintf("%s\n-- : step %d  more by hand%s\n-- : apply\n%s + 10;\n-- : undo\n%s - 10;\n", text,
			strings.Count(string(text), "\n-- : step ")+1, own, update, update),
	)
	return op
}

func (w *walk) reapply() {
	if len(w.undone) == 0 {
		return
	}
	w.ok("apply", "--to", w.migrationID(len(w.line)))
	m := w.undone[len(w.undone)-1]
	w.undone = w.undone[:len(w.undone)-1]
	w.forward(m)
}

// files are the migrations' files, in order.
func (w *walk) files() []string {
	list, err := filepath.Glob(filepath.Join(w.dir, "migrations", "*.sql"))
	require.NoError(w.t, err)
	slices.Sort(list)
	return list
}

// migrationID is the id of the n-th migration of the walk; the first of all makes
// the table.
func (w *walk) migrationID(n int) string {
	return strings.TrimSuffix(filepath.Base(w.files()[n+1]), "."+w.place.Name+".sql")
}

func (w *walk) undo() {
	if len(w.line) == 0 {
		return
	}
	fills := map[string]string{}
	with := w.r.IntN(2) == 0
	args := []string{"undo"}
	for _, op := range w.line[len(w.line)-1].ops {
		if op.kind == "drop" && op.field.required && with {
			fills[op.name] = w.fillFor(op.field)
			args = append(args, "--fill", "specimens."+op.name+"="+fills[op.name])
		}
	}
	m, can := w.back(func(op *walkOp) string { return fills[op.name] })
	out, code := w.run(args...)
	if !can {
		require.Equal(w.t, exitFailed, code, "%s\n%s", strings.Join(w.steps, "\n"), out)
		return
	}
	require.Equal(w.t, 0, code, "%s\n%s", strings.Join(w.steps, "\n"), out)
	w.undone = append(w.undone, m)
}

// redraft makes the last migration again with one thing more, or with one of its
// fields with another name, or gone.
func (w *walk) redraft() {
	if len(w.line) == 0 || len(w.undone) > 0 {
		return
	}
	m := w.line[len(w.line)-1]
	w.wanted = maps.Clone(w.fields)
	var adds []*walkOp
	for _, op := range m.ops {
		if op.kind == "add" {
			adds = append(adds, op)
		}
	}
	args := []string{"redraft"}
	var edit func()
	switch kind := w.r.IntN(4); {
	case kind == 0 && len(adds) > 0: // another name
		op, to := adds[w.r.IntN(len(adds))], w.fresh()
		w.wanted[to] = w.wanted[op.name]
		delete(w.wanted, op.name)
		args = append(args, "--rename", "specimens."+op.name+"="+to)
		edit = func() { op.name = to }
	case kind == 1 && len(adds) > 0: // gone
		op := adds[w.r.IntN(len(adds))]
		delete(w.wanted, op.name)
		args = append(args, "--drop", "specimens."+op.name)
		edit = func() { m.ops = slices.DeleteFunc(m.ops, func(o *walkOp) bool { return o == op }) }
	case kind == 2: // one more
		op := &walkOp{kind: "add", name: w.fresh(), field: walkField{number: w.r.IntN(2) == 0}, fill: null}
		w.wanted[op.name] = op.field
		edit = func() { m.ops = append(m.ops, op) }
	default: // just again
		edit = func() {}
	}
	// What the rows hold tells whether it can be.
	before := w.clone()
	_, can := w.back(func(*walkOp) string { return "" })
	w.models()
	if len(w.rows) == 0 {
		args = args[:1] // nothing is held, so nothing is asked
	} else if w.r.IntN(3) == 0 && len(args) > 1 {
		args = append(args[:1], "--answers", w.answersFor(args[1:]))
	}
	out, code := w.run(args...)
	if !can {
		require.NotEqual(w.t, 0, code, "%s\n%s", strings.Join(w.steps, "\n"), out)
		*w = *before
		w.wanted = maps.Clone(w.fields)
		w.models()
		return
	}
	require.Equal(w.t, 0, code, "%s\n%s", strings.Join(w.steps, "\n"), out)
	edit()
	if len(m.ops) > 0 {
		w.forward(m)
	}
}

// answersFor writes answers to a file.
func (w *walk) answersFor(flags []string) string {
	name, value, _ := strings.Cut(flags[1], "=")
	text := fmt.Sprintf("%s.%q = %q\n", strings.TrimPrefix(flags[0], "--"), name, value)
	if flags[0] == "--drop" {
		text = fmt.Sprintf("drop.%q = true\n", name)
	}
	path := filepath.Join(w.dir, "answers.toml")
	w.write("answers.toml", text)
	return path
}

func (w *walk) clone() *walk {
	c := *w
	c.fields = maps.Clone(w.fields)
	c.rows = map[int]map[string]string{}
	for id, r := range w.rows {
		c.rows[id] = maps.Clone(r)
	}
	c.line = nil
	for _, m := range w.line {
		n := &walkMigration{}
		for _, op := range m.ops {
			o := *op
			o.values = maps.Clone(op.values)
			n.ops = append(n.ops, &o)
		}
		c.line = append(c.line, n)
	}
	return &c
}

// merge brings a colleague's migration, drafted upon the last but one, and lays
// the two in one line.
func (w *walk) merge() {
	if len(w.line) == 0 || len(w.undone) > 0 {
		return
	}
	before := w.clone()
	m, can := w.back(func(*walkOp) string { return "" })
	if !can {
		steps := w.steps
		*w = *before
		w.steps = steps
		return
	}
	there := &walk{evolving: evolve(w.t, w.place), r: w.r, fields: w.fields}
	require.NoError(w.t, os.MkdirAll(filepath.Join(there.dir, "migrations"), 0o755))
	files := w.files()
	for _, f := range files[:len(files)-1] {
		text, err := os.ReadFile(f)
		require.NoError(w.t, err)
		there.write("migrations/"+filepath.Base(f), string(text))
	}
	op := &walkOp{kind: "add", name: w.fresh(), field: walkField{}, fill: null}
	for _, mine := range m.ops { // often the colleague added the same
		if mine.kind == "add" && !mine.field.required && w.r.IntN(2) == 0 {
			same := *mine
			op = &same
			m.ops = slices.DeleteFunc(slices.Clone(m.ops), func(o *walkOp) bool { return o == mine })
			break
		}
	}
	there.wanted = maps.Clone(w.fields)
	there.wanted[op.name] = op.field
	there.models()
	there.must("apply")
	there.must("draft", "theirs "+op.name)
	theirs := there.files()[len(files)-1]
	text, err := os.ReadFile(theirs)
	require.NoError(w.t, err)
	w.write("migrations/"+filepath.Base(theirs), string(text))
	w.wanted = maps.Clone(before.fields)
	w.wanted[op.name] = op.field
	w.models()
	w.note("merge of %s", filepath.Base(theirs))
	w.ok("redraft")
	w.forward(&walkMigration{[]*walkOp{op}})
	if len(m.ops) > 0 {
		w.forward(m)
	}
}

func (w *walk) step() {
	switch w.r.IntN(12) {
	case 0, 1, 2:
		w.insert()
	case 3, 4:
		if id := w.someRow(); id > 0 && len(w.fields) > 0 {
			names := slices.Sorted(maps.Keys(w.fields))
			n := names[w.r.IntN(len(names))]
			w.rows[id][n] = w.value(w.fields[n])
			w.sql("UPDATE specimens SET %s = %s WHERE id = %d", n, sqlValue(w.fields[n], w.rows[id][n]), id)
		}
	case 5:
		if id := w.someRow(); id > 0 {
			delete(w.rows, id)
			w.sql("DELETE FROM specimens WHERE id = %d", id)
		}
	case 6, 7, 8:
		w.draft()
	case 9:
		w.undo()
	case 10:
		w.redraft()
	case 11:
		if w.r.IntN(3) == 0 {
			w.merge()
		} else {
			w.reapply()
		}
	}
	w.check()
}

func number(t *testing.T, name string, otherwise int) int {
	if s := os.Getenv(name); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		return n
	}
	return otherwise
}

func TestWalks(t *testing.T) {
	testserver.Each(t, func(t *testing.T, place testserver.Place) {
		seed := uint64(number(t, "ERBARIO_SEED", 1))
		for i := range number(t, "ERBARIO_WALKS", 3) {
			t.Run(fmt.Sprintf("seed %d", seed+uint64(i)), func(t *testing.T) {
				t.Parallel()
				w := &walk{
					evolving: evolve(t, place),
					r:        rand.New(rand.NewPCG(seed+uint64(i), 7)),
					fields:   map[string]walkField{},
					wanted:   map[string]walkField{},
					rows:     map[int]map[string]string{},
				}
				if i%2 == 0 { // as if others were at work on the tables
					text, err := os.ReadFile(filepath.Join(w.dir, "erbario.toml"))
					require.NoError(t, err)
					w.write("erbario.toml", string(text)+"\n[plan]\nonline = \"always\"\n")
				}
				w.models()
				w.must("draft", "first")
				w.must("apply")
				for range number(t, "ERBARIO_STEPS", 40) {
					w.step()
				}
			})
		}
	})
}
