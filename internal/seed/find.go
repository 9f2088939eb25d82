package seed

// This file finds the rows of a seed that are there already, and deals with them.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

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
	r.plan.FillFromExisting(b)
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
		for _, p := range parts {
			if _, ok := l.plan.place[p.Column]; !ok || p.SQL != "" || p.Column == l.plan.identity {
				return
			}
			f.Columns = append(f.Columns, p.Column)
			if p.IgnoringCase {
				f.Fold = append(f.Fold, p.Column)
			}
		}
		out = append(out, f)
	}
	if l.Table.Key != nil {
		add(schema.Parts(l.Table.Key), false)
	}
	for _, x := range l.Table.Indexes {
		if x.Unique && (x.Where == "" || x.Live) {
			add(x.Parts, x.Live)
		}
	}
	return out
}

// take are the columns that are wanted of a row that is there.
func (l *Line) take() []string {
	out := slices.Clone(l.plan.keep)
	for _, c := range append(slices.Clone(l.Table.Key), l.plan.identity) {
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
	f.Table, f.Take = r.stored(l), l.take()
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
			return fmt.Errorf(
				"rows of %s created by an earlier run of this seed exist already: --on-conflict skip leaves them, replace changes them",
				l.Table.Name,
			)
		}
		return fmt.Errorf("%s has a row with %s already: --on-conflict skip leaves such rows, replace changes them",
			l.Table.Name, strings.Join(what, ", "))
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
	key.Table, key.Columns = r.stored(l), l.keyColumns()
	var byKey []int
	for _, s := range r.recorded[l.recordName()] {
		for i := range b.Rows() {
			n := b.First + int64(i)
			if there[i] || n < s.first || n >= s.first+s.rows {
				continue
			}
			switch at := n - s.first; {
			case s.keys != nil && l.Table.Key != nil && at < int64(len(s.keys)) && len(s.keys[at]) == len(key.Columns):
				key.Cells = append(key.Cells, plainKey(s.keys[at])...)
				byKey = append(byKey, i)
			case l.plan.identity != "":
				ids = append(ids, s.number+n-s.first)
				asked = append(asked, i)
			case l.Table.Key == nil:
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
	f.Table, f.Columns, f.Cells = r.stored(l), []string{l.plan.identity}, ids
	return find(f, asked)
}

// replace changes rows that are there into those of the seed: all but their keys,
// what may not change, and what the database stamps.
func (r *loader) replace(b *Batch, there []bool) error {
	l := b.Line
	key := l.Table.Key
	if r.o.Conflict != Replace || len(key) == 0 {
		return nil
	}
	columns := slices.Clone(key)
	for _, c := range l.plan.columns {
		if !slices.Contains(key, c.Name) && !c.Immutable && !c.Stamped && !c.Identity && c.Name != l.Table.SoftDelete &&
			(c.Value == nil || c.Value.Constant() || l.source.Supplies[c.Name] != nil) &&
			!slices.ContainsFunc(l.Deferred, func(d *Deferred) bool { return slices.Contains(d.Key.Columns, c.Name) }) {
			columns = append(columns, c.Name)
		}
	}
	rows := engine.TableRows{Table: r.stored(l), Columns: columns}
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
