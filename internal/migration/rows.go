package migration

// This file is the lines of a step that say which reference rows belong to the
// line of migrations from there on: only these are ever deleted, whatever else a
// table holds.

import (
	"net/url"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

func rowsWord(r engine.StepRows) string {
	if r.Gone {
		return "rows gone"
	}
	return "rows"
}

// readRows reads what stands behind the marker.
func readRows(words string) (engine.StepRows, bool) {
	rest := strings.TrimPrefix(words, "rows ")
	var r engine.StepRows
	if s, ok := strings.CutPrefix(rest, "gone "); ok && !strings.HasPrefix(s, ",") {
		rest, r.Gone = s, true
	}
	at := -1 // the colon behind the names
	quoted := false
	for i := range len(rest) {
		switch {
		case rest[i] == '"' && (i == 0 || rest[i-1] != '\\'):
			quoted = !quoted
		case rest[i] == ':' && !quoted && at < 0:
			at = i
		}
	}
	if at < 0 {
		return r, false
	}
	names := readNames(rest[:at])
	if len(names) < 2 {
		return r, false
	}
	r.Table, r.By, r.Columns = names[0], readKeyNames(names[1]), names[2:]
	r.Keys = readNames(strings.TrimSpace(rest[at+1:]))
	return r, len(r.Keys) > 0
}

// keyNames writes what tells rows apart as one name: the columns with "+" between them, and
// behind "=" what the values of a reference name.
func keyNames(by []schema.KeyPart) string {
	if len(by) == 1 && by[0].Table == "" {
		return by[0].Column
	}
	name := func(s string) string { return strings.ReplaceAll(url.QueryEscape(s), ".", "%2E") }
	var out []string
	for _, k := range by {
		part := name(k.Column)
		if k.Table != "" {
			part += "=" + name(k.Table) + "." + name(k.Field)
		}
		out = append(out, part)
	}
	return strings.Join(out, "+")
}

// readKeyNames is the inverse of keyNames.
func readKeyNames(s string) []schema.KeyPart {
	if !strings.ContainsAny(s, "+=") {
		return []schema.KeyPart{{Column: s}}
	}
	name := func(s string) string {
		if out, err := url.QueryUnescape(s); err == nil {
			return out
		}
		return s
	}
	var out []schema.KeyPart
	for part := range strings.SplitSeq(s, "+") {
		column, to, _ := strings.Cut(part, "=")
		table, field, _ := strings.Cut(to, ".")
		out = append(out, schema.KeyPart{Column: name(column), Table: name(table), Field: name(field)})
	}
	return out
}

// LineRows is which reference rows of a table belong to a line of migrations.
type LineRows struct {
	By   []schema.KeyPart
	Keys []string
}

// Rename is a statement that gives a table, or a column of one, another name.
type Rename struct{ Table, Column, To string }

// renames tells whether a statement has the word rename in it, in any case.
func renames(sql string) bool {
	const word, move = "rename", "set schema"
	for i := 0; i+len(word) <= len(sql); i++ {
		switch c := sql[i] | 0x20; {
		case c == 'r' && strings.EqualFold(sql[i:i+len(word)], word),
			c == 's' && i+len(move) <= len(sql) && strings.EqualFold(sql[i:i+len(move)], move):
			return true
		}
	}
	return strings.Contains(sql, schema.MoveFunction)
}

// ReadRename reads a statement that renames a table or a column.
func ReadRename(e Engine, sql string) (Rename, bool) {
	if !renames(sql) { // most do not, and cutting them up takes long
		return Rename{}, false
	}
	list := e.SQL().Lex(sql)
	word := func(i int) string {
		if i >= len(list) {
			return ""
		}
		return list[i].Word()
	}
	switch {
	case len(list) == 5 && word(0) == "RENAME" && word(1) == "TABLE" && word(3) == "TO":
		return Rename{Table: list[2].Name(), To: list[4].Name()}, true
	case len(list) == 6 && word(0) == "ALTER" && word(1) == "TABLE" && word(3) == "RENAME" && word(4) == "TO":
		return Rename{Table: list[2].Name(), To: beside(list[2], list[5])}, true
	case len(list) == 6 && word(0) == "ALTER" && word(1) == "TABLE" && word(3) == "SET" && word(4) == "SCHEMA":
		return Rename{Table: list[2].Name(), To: moved(list[2], list[5].Name())}, true
	case len(list) == 7 && list[1].Name() == schema.MoveFunction:
		return Rename{Table: list[3].Name(), To: moved(list[3], list[5].Val)}, true
	case len(list) >= 8 && word(0) == "ALTER" && word(1) == "TABLE" && word(3) == "RENAME" && word(4) == "COLUMN" && word(6) == "TO" && (len(list) == 8 || list[8].Text == ","): // how gently it is done
		return Rename{Table: list[2].Name(), Column: list[5].Name(), To: list[7].Name()}, true
	}
	return Rename{}, false
}

// beside is the name that the table of a token gets in its schema.
func beside(table, to sqltok.Token) string {
	if table.In == "" {
		return to.Name()
	}
	return schema.InSchema(table.In, to.Name())
}

// moved is the name of the table of a token in another schema; "": the project's own.
func moved(table sqltok.Token, to string) string {
	_, own := schema.SplitName(table.Name())
	return schema.InSchema(to, own)
}

// Renames are those of the migration's way forward, in order, without what a copy of a
// table needs.
func (m *Migration) Renames(e Engine) []Rename {
	var out []Rename
	for _, sql := range m.SQL(false) {
		if r, ok := ReadRename(e, sql); ok && !schema.Own(r.Table) && !schema.Own(r.To) {
			out = append(out, r)
		}
	}
	return out
}

// NamesBefore are the names that a table and a column of it, or "", had before renames.
func NamesBefore(renames []Rename, table, column string) (string, string) {
	for _, r := range slices.Backward(renames) {
		switch {
		case r.Column == "" && strings.EqualFold(r.To, table):
			table = r.Table
		case r.Column != "" && strings.EqualFold(r.Table, table) && strings.EqualFold(r.To, column):
			column = r.Column
		}
	}
	return table, column
}

// Creates are the tables that a line of migrations creates, in lower case, under the names
// that they have in it from first to last.
func Creates(line []*Migration, e Engine) map[string]bool {
	out := FoundTables(line)
	for _, m := range line {
		for _, sql := range m.SQL(false) {
			if created := createdTable(e, sql); created != "" {
				out[created] = true
			} else if r, ok := ReadRename(e, sql); ok && r.Column == "" {
				out[strings.ToLower(r.To)] = true
			}
		}
	}
	return out
}

// FoundTables are the tables, in lower case, that existed before a line of migrations.
func FoundTables(line []*Migration) map[string]bool {
	out := map[string]bool{}
	for _, m := range line {
		for _, f := range m.Found {
			if f.Column+f.Beside+f.Kind == "" {
				out[strings.ToLower(f.Table)] = true
			}
		}
	}
	return out
}

// FoundTriggers are the names, in lower case, of the triggers that existed before a line of
// migrations, which creates them only where they are missing.
func FoundTriggers(line []*Migration, e Engine) map[string]bool {
	out := map[string]bool{}
	for _, m := range line {
		for _, f := range m.Found {
			for _, st := range f.Make {
				if name := createdTrigger(e, st.SQL); name != "" {
					out[name] = true
				}
			}
		}
	}
	return out
}

// createdTrigger is the name, in lower case, of the trigger that a statement creates; "": it
// creates none.
func createdTrigger(e Engine, sql string) string {
	const begins, words = 600, 9 // the user whose rights it has may come first
	list := e.SQL().Lex(sql[:min(len(sql), begins)])
	if len(list) == 0 || !list[0].Is("CREATE") {
		return ""
	}
	for i, t := range list[:min(len(list), words)] {
		if t.Is("TRIGGER") && i+1 < len(list) {
			return strings.ToLower(list[i+1].Name())
		}
	}
	return ""
}

// createdTable is the name, in lower case, of the table that a statement creates; "": it
// creates none. Only its beginning is read.
func createdTable(e Engine, sql string) string {
	const begins = 300 // names have 64 characters at most, of four bytes, in quotes
	head := strings.TrimLeft(sql, " \t\r\n")
	if len(head) < 6 || !strings.EqualFold(head[:6], "CREATE") {
		return ""
	}
	t := e.SQL().Lex(head[:min(len(head), begins)])[1:]
	for len(t) > 0 && slices.Contains([]string{"UNLOGGED", "VIRTUAL", "FOREIGN"}, t[0].Word()) {
		t = t[1:]
	}
	if len(t) < 2 || !t[0].Is("TABLE") {
		return ""
	}
	if t = t[1:]; len(t) > 3 && t[0].Is("IF") && t[1].Is("NOT") && t[2].Is("EXISTS") {
		t = t[3:]
	}
	return strings.ToLower(t[0].Name())
}

// Names are the names, in lower case, that the statements of migrations have in them.
func Names(line []*Migration, e Engine) map[string]bool {
	out := map[string]bool{}
	for _, m := range line {
		for _, sql := range m.SQL(false) {
			for _, t := range e.SQL().Lex(sql) {
				if t.Named() {
					out[strings.ToLower(t.Name())] = true
				}
			}
		}
	}
	return out
}

// RowsOf folds the rows of a line of migrations, by table in lower case; they follow its
// renames. Where the rows of a table came to be told by another field, those before are
// no longer known.
func RowsOf(line []*Migration, e Engine) map[string]*LineRows {
	out := map[string]*LineRows{}
	move := func(from, to string) { // a table, and what names its rows
		for _, at := range out {
			for i := range at.By {
				if strings.EqualFold(at.By[i].Table, from) {
					at.By[i].Table = to
				}
			}
		}
		if at := out[strings.ToLower(from)]; at != nil {
			delete(out, strings.ToLower(from))
			out[strings.ToLower(to)] = at
		}
	}
	for _, m := range line {
		aside := map[string]string{} // by the name of a table, in lower case: what it was set aside as, to be written again
		for _, s := range m.Steps {
			for _, st := range s.Apply {
				r, ok := ReadRename(e, st.SQL)
				switch {
				case !ok:
					if created := createdTable(e, st.SQL); aside[created] != "" {
						move(aside[created], created)
						delete(aside, created)
					}
				case r.Column == "":
					if schema.Own(r.To) {
						aside[strings.ToLower(r.Table)] = r.To
					}
					move(r.Table, r.To)
				default:
					for name, at := range out {
						for i := range at.By {
							k := &at.By[i]
							if strings.EqualFold(name, r.Table) && k.Column == r.Column {
								k.Column = r.To
							}
							if strings.EqualFold(k.Table, r.Table) && k.Field == r.Column {
								k.Field = r.To
							}
						}
					}
				}
			}
			for _, r := range s.Rows {
				name := strings.ToLower(r.Table)
				at := out[name]
				if at == nil || !slices.Equal(at.By, r.By) {
					at = &LineRows{By: slices.Clone(r.By)}
					out[name] = at
				}
				for _, key := range r.Keys {
					at.Keys = slices.DeleteFunc(at.Keys, func(k string) bool { return k == key })
					if !r.Gone {
						at.Keys = append(at.Keys, key)
					}
				}
			}
		}
	}
	return out
}
