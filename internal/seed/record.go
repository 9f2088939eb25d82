package seed

// This file records which rows a seed made.

import (
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// record is rows of a line that were made.
type record struct {
	line  *Line
	first int64
	rows  int64
	keys  string
}

// recordName is how a line is called in the record: the same from run to run.
func (l *Line) recordName() string {
	return fmt.Sprintf("%s %016x", cmp.Or(l.recorded, l.Name), l.hash)
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
		for _, c := range l.Table.Key {
			key = append(key, row[c])
		}
		if text := fmt.Sprint(key...); slices.ContainsFunc(s.keys,
			func(k []any) bool { return fmt.Sprint(k...) == text }) {
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
			if n := len(r.pending); n > 0 && r.pending[n-1].line == l && r.pending[n-1].rows > 0 &&
				r.pending[n-1].first+r.pending[n-1].rows == first {
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
		r.pending = append(r.pending,
			record{line: l, first: b.First + made[start], rows: int64(end - start), keys: string(text)})
		start = end
	}
}

// keyColumns are the columns that tell the rows of a line's table apart: those of
// its key, or all, where it has none.
func (l *Line) keyColumns() []string {
	if key := l.Table.Key; len(key) > 0 &&
		!slices.ContainsFunc(key, func(c string) bool { _, ok := l.plan.place[c]; return !ok }) {
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
		err := r.db.Exec(
			r.ctx,
			"INSERT INTO erbario_seed_rows (run, line, table_name, first_row, row_count, "+r.engine.SQL().
				Quote("keys")+
				") VALUES (?, ?, ?, ?, ?, ?)",
			r.id,
			p.line.recordName(),
			p.line.Table.Name,
			p.first,
			p.rows,
			keys,
		)
		if err != nil {
			return err
		}
	}
	r.pending = nil
	return nil
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
func recordedLines(ctx context.Context, db Database, seed string) (map[string][]segment, error) {
	rows, err := db.Select(ctx,
		"SELECT r.line, r.table_name, r.first_row, r.row_count, r.keys, CASE WHEN u.ended_at IS NULL THEN 1 ELSE 0 END FROM erbario_seed_rows r JOIN erbario_seed_runs u ON u.id = r.run WHERE u.seed = ? ORDER BY u.id DESC, r.first_row",
		seed)
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
