package sqlite

// This file is about virtual tables: what one holds, and how it is created again with that.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// moduleText is what stands behind USING, without its comments and with the same spaces always.
func moduleText(src string) string {
	var b strings.Builder
	end := 0
	for _, t := range tokens(src) {
		before := b.String()
		tight := t.Is(",") || t.Is(")") || t.Is("(") || t.Is("=") || strings.HasSuffix(before, "(") ||
			strings.HasSuffix(before, "=")
		if before != "" && !tight && (t.Start > end || strings.HasSuffix(before, ",")) {
			b.WriteByte(' ')
		}
		b.WriteString(src[t.Start:t.End])
		end = t.End
	}
	return b.String()
}

// virtualBy tells whether a virtual table is as the statement has it that made it.
func virtualBy(t *sqlschema.Table) bool {
	if t.Options.Virtual == "" || t.Text == "" || strings.Contains(t.Text, "-- :") {
		return false
	}
	list := tokens(t.Text)
	at := slices.IndexFunc(list, func(k sqltok.Token) bool { return k.Is("TABLE") })
	if at < 0 || at+1 >= len(list) || list[at+1].Name() != t.Name {
		return false
	}
	made, err := parseTable(t.Name, t.Text)
	return err == nil && made.Options.Virtual == t.Options.Virtual
}

// module is the module of a virtual table, in lower case.
func module(t *sqlschema.Table) string {
	name, _, _ := strings.Cut(strings.ToLower(t.Options.Virtual), "(")
	return strings.TrimSpace(name)
}

// contentOf is the table that holds the rows which a full-text index is about. of is false where it holds
// them itself; "" is one whose rows nobody has.
func contentOf(t *sqlschema.Table) (name string, of bool) {
	if !strings.HasPrefix(module(t), "fts") {
		return "", false
	}
	list := tokens(t.Options.Virtual)
	for i, k := range list {
		if k.Named() && strings.EqualFold(k.Name(), "content") && i+2 < len(list) && list[i+1].Is("=") &&
			i > 0 && (list[i-1].Is(",") || list[i-1].Is("(")) {
			if v := list[i+2]; v.Named() {
				return v.Name(), true
			}
			return list[i+2].Val, true
		}
	}
	return "", false
}

// held reads which columns a virtual table has, and holds by itself.
func (d *database) held(ctx context.Context, s *sqlschema.Schema, t *sqlschema.Table) error {
	rows, err := d.Select(ctx, "SELECT name FROM pragma_table_xinfo("+literal(t.Name)+") WHERE hidden = 0")
	if ctx.Err() != nil {
		return ctx.Err()
	}
	name, of := contentOf(t)
	t.NoModule = err != nil
	t.Sealed = t.NoModule || of && name == ""
	if of {
		if o := s.Table(name); o != nil {
			t.Content = o.Name
		}
		return nil
	}
	for _, r := range rows {
		t.Held = append(t.Held, r[0])
	}
	return nil
}

// indexed fills a full-text index from the table that holds its rows.
func indexed(t *sqlschema.Table) []string {
	if t.Content == "" {
		return nil
	}
	return []string{fmt.Sprintf("INSERT INTO %s (%s) VALUES ('rebuild')", quote(t.Name), quote(t.Name))}
}

// heldRows copies what a virtual table holds, or what was kept of one: with the numbers of the rows, which a
// full-text index has besides its columns.
func heldRows(from, to string, t *sqlschema.Table) string {
	list := quoteAll(t.Held)
	if strings.HasPrefix(module(t), "fts") {
		list = "rowid, " + list
	}
	return fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s ORDER BY rowid", quote(to), list, list, quote(from))
}

// archiveVirtual puts what a virtual table holds aside; nothing where another table has it. What nobody can
// read is put aside as it is, and an empty one takes its place.
func archiveVirtual(t *sqlschema.Table, kept string) (makes, fills []string) {
	switch {
	case t.Sealed:
		return []string{renameTable(t.Name, kept), createTable(t, t.Name)}, nil
	case len(t.Held) == 0:
		return nil, nil
	}
	return []string{"CREATE TABLE " + quote(kept) + " (" + quoteAll(t.Held) + ")"}, []string{heldRows(t.Name, kept, t)}
}

// restoreVirtual brings back what was put aside of a virtual table.
func restoreVirtual(t, kept *sqlschema.Table, stay bool) []string {
	if kept.Options.Virtual != "" {
		aside := asideName(t.Name)
		return []string{renameTable(t.Name, aside), renameTable(kept.Name, t.Name), "DROP TABLE " + quote(aside)}
	}
	out := []string{heldRows(kept.Name, t.Name, t)}
	if !stay {
		out = append(out, "DROP TABLE "+quote(kept.Name))
	}
	return out
}

// dropVirtual drops a virtual table. One that nobody can read is renamed, and so kept whole.
func dropVirtual(t *sqlschema.Table, keep string) []engine.Step {
	s := engine.Step{Title: "drop " + t.Name, Apply: []string{"DROP TABLE " + quote(t.Name)},
		Undo: []string{createTable(t, t.Name)}}
	if len(t.Held) == 0 && !t.Sealed {
		return append(indexedInUndo(t), s)
	}
	s.Loses = []engine.Loss{{Table: t.Name}}
	switch {
	case keep == "":
		return []engine.Step{s}
	case t.Sealed:
		s.Apply, s.Undo = []string{renameTable(t.Name, keep)}, []string{renameTable(keep, t.Name)}
	default:
		makes, fills := archiveVirtual(t, keep)
		s.Apply = slices.Concat(makes, fills, s.Apply)
		s.Undo = append(s.Undo, heldRows(keep, t.Name, t), "DROP TABLE "+quote(keep))
	}
	s.Kept, s.Note = true, "keeps its rows in "+keep
	return []engine.Step{s}
}

// indexedInUndo fills an index in the undo, when the columns have the names again that it knows.
func indexedInUndo(t *sqlschema.Table) []engine.Step {
	if t.Content == "" {
		return nil
	}
	return []engine.Step{{Title: "fill " + t.Name + " again, in the undo", Undo: indexed(t), Early: true}}
}

// rowNumber is the column of a kept table for the number of the row in a virtual one.
const rowNumber = "key_rowid"

// archiveHeld puts values of columns of a virtual table aside, by the numbers of their rows.
func archiveHeld(t *sqlschema.Table, from string, columns []string, kept string) (makes, fills []string) {
	list := quoteAll(columns)
	return []string{fmt.Sprintf("CREATE TABLE %s (%s INTEGER, %s)", quote(kept), quote(rowNumber), list)},
		[]string{fmt.Sprintf("INSERT INTO %s\nSELECT rowid, %s FROM %s ORDER BY rowid", quote(kept), list, quote(from))}
}

// restoreHeld brings such values back into the rows that there are of them.
func restoreHeld(t, kept *sqlschema.Table, stay bool) []string {
	var set []string
	from := fmt.Sprintf("FROM %s AS kept WHERE kept.%s = %s.rowid", quote(kept.Name), quote(rowNumber), quote(t.Name))
	for _, c := range kept.Columns {
		if slices.Contains(t.Held, c.Name) {
			set = append(set, fmt.Sprintf("%s = (SELECT kept.%[1]s %s)", quote(c.Name), from))
		}
	}
	var out []string
	if len(set) > 0 {
		out = append(out, fmt.Sprintf("UPDATE %s SET %s WHERE EXISTS (SELECT 1 %s)", quote(t.Name),
			strings.Join(set, ", "), from))
	}
	if !stay {
		out = append(out, fmt.Sprintf("DELETE FROM %s WHERE %s IN (SELECT rowid FROM %s)", quote(kept.Name),
			quote(rowNumber), quote(t.Name)))
	}
	return out
}

// movedHeld copies the rows of a virtual table into another, with the values that source gives to columns.
func movedHeld(from string, to *sqlschema.Table, source func(column string) string) string {
	columns, values := []string{}, []string{}
	if to.Searched() {
		columns, values = append(columns, "rowid"), append(values, "here.rowid")
	}
	for _, c := range to.Held {
		if sql := source(c); sql != "" {
			columns, values = append(columns, quote(c)), append(values, sql)
		}
	}
	return fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s AS here ORDER BY here.rowid", quote(to.Name),
		strings.Join(columns, ", "), strings.Join(values, ", "), quote(from))
}

// alterVirtual creates a virtual table again as it is to be, with the rows that it holds.
func alterVirtual(a engine.Alteration) engine.Change {
	aside, keep := asideName(a.From.Name), a.Keep
	if a.NoKeep {
		keep = ""
	}
	lost := slices.DeleteFunc(slices.Clone(a.From.Held), func(c string) bool { return slices.Contains(a.To.Held, c) })
	added := slices.DeleteFunc(slices.Clone(a.To.Held), func(c string) bool { return slices.Contains(a.From.Held, c) })
	if len(lost) == 0 {
		keep = ""
	}
	again := func(from, to *sqlschema.Table, source func(column string) string) []string {
		out := []string{renameTable(from.Name, aside), createTable(to, to.Name)}
		if len(to.Held) > 0 {
			out = append(out, movedHeld(aside, to, source))
		}
		return out
	}
	has := func(t *sqlschema.Table, sources map[string]engine.Source) func(column string) string {
		return func(c string) string {
			if s := sources[c].SQL; s != "" {
				return s
			}
			if slices.Contains(t.Held, c) {
				return "here." + quote(c)
			}
			return ""
		}
	}
	step := engine.Step{Title: a.Summary, Work: engine.Copies,
		Note: engine.Copies.String() + ": a virtual table is created again", Loses: engine.LossOf(a.From.Name, lost),
		UndoLoses: engine.LossOf(a.From.Name, added)}
	step.Apply = again(a.From, a.To, has(a.From, a.Forward))
	back := map[string]engine.Source{}
	if keep != "" {
		makes, fills := archiveHeld(a.From, aside, lost, keep)
		step.Apply = slices.Concat(step.Apply, makes, fills)
		step.Kept, step.Note = true, step.Note+", keeps what is lost in "+keep
		for _, c := range lost {
			back[c] = engine.Source{SQL: fmt.Sprintf("(SELECT kept.%s FROM %s AS kept WHERE kept.%s = here.rowid)",
				quote(c), quote(keep), quote(rowNumber))}
		}
	}
	step.Apply = slices.Concat(step.Apply, []string{"DROP TABLE " + quote(aside)}, indexed(a.To))
	step.Undo = append(again(a.To, a.From, has(a.To, back)), "DROP TABLE "+quote(aside))
	if keep != "" {
		step.Undo = append(step.Undo, "DROP TABLE "+quote(keep))
	}
	return engine.Change{Steps: append(indexedInUndo(a.From), step), Copies: true, CopiesBack: true}
}
