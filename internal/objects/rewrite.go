package objects

// This file gives files of SQL the new name of a table or a column, where it is beyond doubt that
// a word means that.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// Renamed is a table, or a column of one, that gets another name.
type Renamed struct{ Table, Column, To string }

// Rewrite gives the statements of a file the new names of what is renamed, all at once: names may
// swap. live is what has the old names. A statement in which a word could mean something else stays
// as it is, and so does the body of a routine in another language than SQL.
func Rewrite(d engine.Dialect, live *sqlschema.Schema, text string, list []Renamed) string {
	var out strings.Builder
	at := 0
	for _, piece := range d.Split(oneDelimiter(text)) {
		if piece.Comment || piece.Bad != "" {
			continue
		}
		i := strings.Index(text[at:], piece.Text)
		if i < 0 { // a delimiter of its own is in it
			continue
		}
		out.WriteString(text[at : at+i])
		at += i + len(piece.Text)
		w := &rewriting{d: d, live: live, sql: piece.Text, list: d.Lex(piece.Text)}
		out.WriteString(w.statement(list))
	}
	return out.String() + text[at:]
}

// rewritten are the kinds whose every word is SQL that the server reads at once.
var rewritten = []string{
	"view", "materialised view", "trigger", "rule", "policy", "index", "statistics", "publication",
}

// Resolved tells whether all names in an object are looked up when it is created, and not when it
// runs.
func Resolved(o *Object) bool { return slices.Contains(rewritten, o.Kind) && o.Kind != "trigger" }

type rewriting struct {
	d    engine.Dialect
	live *sqlschema.Schema
	sql  string
	list []sqltok.Token
}

// statement is the statement with the new names, or as it is where there is a doubt.
func (w *rewriting) statement(renames []Renamed) string {
	kind := ""
	for i := 1; i < len(w.list) && i < 8 && kind == ""; i++ {
		kind, _ = kindAt(w.list[i:])
	}
	switch {
	case len(w.list) == 0 || !w.list[0].Is("CREATE"):
		return w.sql
	case slices.Contains(routines, kind):
		return w.routine(renames)
	case !slices.Contains(rewritten, kind) && !w.ofPart():
		return w.sql
	}
	now, _ := w.renamed(renames)
	return now
}

// renamed is the statement with the new names; false: there is a doubt, and it is as it was.
func (w *rewriting) renamed(renames []Renamed) (string, bool) {
	now := map[int]string{} // the new words, by the place of the token
	for _, r := range renames {
		if w.concerns(r) && !w.rename(r, now) {
			return w.sql, false
		}
	}
	var out strings.Builder
	last := 0
	for i, t := range w.list {
		if word, ok := now[i]; ok {
			out.WriteString(w.sql[last:t.Start] + word)
			last = t.End
		}
	}
	return out.String() + w.sql[last:], true
}

// routines are the kinds that run statements.
var routines = []string{"function", "procedure", "event"}

// routine is a routine with the new names in its body, where that is SQL and no variable of it has one of them.
func (w *rewriting) routine(renames []Renamed) string {
	in := map[string]bool{} // the names of its parameters and variables
	for i, t := range w.list {
		open := i+1 < len(w.list) && w.list[i+1].Text == "("
		before := w.token(i - 1)
		created := before.Is("FUNCTION") || before.Is("PROCEDURE") || t.Is("TABLE") && before.Is("RETURNS")
		if t.Is("DECLARE") || open && created {
			for _, o := range w.list[i+1:] {
				if o.Text == ";" || o.Text == ")" && !t.Is("DECLARE") {
					break
				}
				in[strings.ToLower(o.Name())] = in[strings.ToLower(o.Name())] || o.Named()
			}
		}
	}
	for _, r := range renames {
		if in[strings.ToLower(r.Column)] || in[strings.ToLower(r.Table)] {
			return w.sql
		}
	}
	body := slices.IndexFunc(w.list, func(t sqltok.Token) bool {
		return t.Kind == sqltok.Text && strings.HasPrefix(w.sql[t.Start:], "$")
	})
	if body < 0 { // its words are those of the statement
		now, _ := w.renamed(renames)
		return now
	}
	language := slices.IndexFunc(w.list, func(t sqltok.Token) bool { return t.Is("LANGUAGE") })
	if !strings.EqualFold(w.token(language+1).Text, "sql") || language < 0 {
		return w.sql
	}
	t := w.list[body]
	tag := w.sql[t.Start : t.Start+1+strings.Index(w.sql[t.Start+1:], "$")+1]
	inner := strings.TrimSuffix(strings.TrimPrefix(w.sql[t.Start:t.End], tag), tag)
	of := &rewriting{d: w.d, live: w.live, sql: inner, list: w.d.Lex(inner)}
	now, ok := of.renamed(renames)
	if !ok {
		return w.sql
	}
	return w.sql[:t.Start] + tag + now + tag + w.sql[t.End:]
}

// ofPart tells whether the statement creates a part of a table.
func (w *rewriting) ofPart() bool {
	for i := range w.list {
		if w.list[i].Is("PARTITION") && w.token(i+1).Is("OF") || w.list[i].Is("INHERITS") && w.token(i+1).Text == "(" {
			return true
		}
	}
	return false
}

// isOf tells whether the rows of a table are in another: it is that, or a part of it.
func (w *rewriting) isOf(name, table string) bool {
	for range w.live.Tables {
		if name == "" || strings.EqualFold(name, table) {
			break
		}
		t := w.live.Table(name)
		if t == nil {
			return false
		}
		name = t.PartOf
	}
	return strings.EqualFold(name, table)
}

// rename notes the new words of one name; false: there is a doubt.
func (w *rewriting) rename(r Renamed, now map[int]string) bool {
	named := r.Table
	if r.Column != "" {
		named = r.Column
	}
	item := w.items()
	for i, t := range w.list {
		if t.Kind == sqltok.Text && strings.Contains(strings.ToLower(t.Val), strings.ToLower(named)) {
			return false
		}
		if !t.Named() || !strings.EqualFold(t.Name(), named) || w.braced(i) {
			continue
		}
		_, twice := now[i]
		if twice || r.Column == "" && !w.isTable(i) || r.Column != "" && !w.isColumn(i, r) {
			return false
		}
		now[i] = w.d.Quote(r.To)
		if r.Column != "" && item[i] { // the view keeps the name of its column
			now[i] += " AS " + t.Text
		}
	}
	return true
}

// concerns tells whether the statement is about the table, and about nothing else that could have
// a column of the name.
func (w *rewriting) concerns(r Renamed) bool {
	names := map[string]bool{}
	for i, t := range w.list {
		if t.Named() && !w.braced(i) {
			names[strings.ToLower(t.Name())] = true
		}
	}
	if r.Column == "" {
		return names[strings.ToLower(r.Table)]
	}
	about := names[strings.ToLower(r.Table)]
	for _, t := range w.live.Tables {
		about = about || names[strings.ToLower(t.Name)] && w.isOf(t.Name, r.Table)
	}
	if !about {
		return false
	}
	for _, v := range w.live.Views {
		if names[strings.ToLower(v.Name)] && !strings.EqualFold(v.Name, w.created()) {
			return false
		}
	}
	for _, t := range w.live.Tables {
		if names[strings.ToLower(t.Name)] && !w.isOf(t.Name, r.Table) && t.Column(r.Column) != nil {
			return false
		}
	}
	return true
}

// created is the name of what the statement creates.
func (w *rewriting) created() string {
	for i := range w.list {
		if _, n := kindAt(w.list[i:]); n > 0 {
			return lastName(w.list[min(i+n, len(w.list)):])
		}
	}
	return ""
}

// braced tells whether a token is a part of {Model.field}, which follows by itself.
func (w *rewriting) braced(i int) bool {
	for ; i >= 0 && (w.list[i].Named() || w.list[i].Text == "."); i-- {
	}
	return i >= 0 && w.list[i].Text == "{"
}

func (w *rewriting) token(i int) sqltok.Token {
	if i < 0 || i >= len(w.list) {
		return sqltok.Token{}
	}
	return w.list[i]
}

// isTable tells whether a word is the table beyond doubt.
func (w *rewriting) isTable(i int) bool {
	before, after := w.token(i-1), w.token(i+1)
	if after.Text == "." {
		return before.Text != "."
	}
	if before.Is("OF") && w.token(i-2).Is("PARTITION") || before.Text == "(" && w.token(i-2).Is("INHERITS") {
		return true
	}
	return slices.Contains([]string{"FROM", "JOIN", "UPDATE", "INTO", "ON", "TABLE", "ONLY", "TO"}, before.Word()) ||
		before.Text == "," || before.Text == "(" && !w.token(i-2).Named()
}

// isColumn tells whether a word is the column beyond doubt.
func (w *rewriting) isColumn(i int, r Renamed) bool {
	before, after := w.token(i-1), w.token(i+1)
	if before.Is("AS") || before.Text == "@" || after.Text == "(" || after.Text == "." {
		return false
	}
	of := w.token(i - 2)
	return before.Text != "." || w.live.Table(of.Name()) == nil || w.isOf(of.Name(), r.Table)
}

// items tells which words are a whole item of the list of a SELECT, and so the name of a column of
// its result.
func (w *rewriting) items() map[int]bool {
	out := map[int]bool{}
	in := []bool{false}
	for i, t := range w.list {
		switch {
		case t.Text == "(":
			in = append(in, false)
		case t.Text == ")" && len(in) > 1:
			in = in[:len(in)-1]
		case t.Is("SELECT"):
			in[len(in)-1] = true
		case t.Is("FROM") || t.Is("WHERE") || t.Is("GROUP") || t.Is("ORDER") || t.Is("HAVING") || t.Is("UNION"):
			in[len(in)-1] = false
		case t.Named() && in[len(in)-1]:
			begin := i
			for w.token(begin-1).Text == "." {
				begin -= 2
			}
			before, after := w.token(begin-1), w.token(i+1)
			out[i] = (before.Text == "," || before.Is("SELECT") || before.Is("DISTINCT")) &&
				(after.Text == "," || after.Is("FROM") || i+1 == len(w.list))
		}
	}
	return out
}
