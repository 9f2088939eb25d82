package objects

// This file reads files of SQL: which statements they have, and what each declares.

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Parse reads the statements of a file. declared is what the models declare: {Model.field} stands for
// the column, and {Model} for the table.
func Parse(d engine.Dialect, path, text string, declared *schema.Schema) ([]*sqlschema.Object, []lang.Diagnostic) {
	p := &parser{d: d, path: path, declared: declared, text: oneDelimiter(text)}
	for _, piece := range d.Split(p.text) {
		if piece.Comment {
			continue
		}
		p.at += max(strings.Index(p.text[p.at:], piece.Text), 0)
		if piece.Bad != "" {
			p.fail(0, "", "%s", piece.Bad)
			continue
		}
		sql := p.columns(piece.Text)
		p.at += len(piece.Text)
		if err := d.Validate(sql); err != nil {
			p.fail(-len(piece.Text), "", "%v", err)
			continue
		}
		o := &sqlschema.Object{SQL: strings.TrimSpace(sql), Path: path, Line: piece.Line, Off: p.at - len(piece.Text)}
		if hint, why := p.identify(o, d.Lex(sql)); why != "" {
			p.fail(-len(piece.Text), hint, "%s", why)
			continue
		}
		p.out = append(p.out, o)
	}
	return p.out, p.diags
}

// Twice reports what is declared by two statements.
func Twice(list []*sqlschema.Object) []lang.Diagnostic {
	var out []lang.Diagnostic
	seen := map[string]*sqlschema.Object{}
	for _, o := range list {
		if o.Name == "" || strings.HasSuffix(o.Kind, "function") ||
			slices.Contains([]string{"procedure", "aggregate", "operator"}, o.Kind) {
			continue // one name can be that of several, with other types
		}
		key := strings.ToLower(o.Kind + " " + o.Name + " " + o.On)
		if old := seen[key]; old != nil {
			out = append(out, lang.Diagnostic{
				Pos:     lang.Pos{Path: o.Path, Line: o.Line, Col: 1, Off: o.Off},
				Message: fmt.Sprintf("the %s %s is declared twice, also at %s:%d", o.Kind, o.Name, old.Path, old.Line),
			})
			continue
		}
		seen[key] = o
	}
	return out
}

type parser struct {
	d        engine.Dialect
	path     string
	text     string
	at       int // where in it
	declared *schema.Schema
	out      []*sqlschema.Object
	diags    []lang.Diagnostic
}

// fail reports an error so many bytes from where the parser is.
func (p *parser) fail(off int, hint, format string, args ...any) {
	before := p.text[:p.at+off]
	pos := lang.Pos{
		Path: p.path, Off: len(before), Line: 1 + strings.Count(before, "\n"),
		Col: 1 + utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:]),
	}
	p.diags = append(p.diags, lang.Diagnostic{Pos: pos, Hint: hint, Message: fmt.Sprintf(format, args...)})
}

var delimiterLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^\s*DELIMITER\s+(\S+)\s*$`)
})

// oneDelimiter is a text whose statements end with ; alone, with each character in its place.
func oneDelimiter(text string) string {
	if !strings.Contains(strings.ToUpper(text), "DELIMITER") {
		return text
	}
	delimiter := ";"
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if m := delimiterLine().FindStringSubmatch(l); m != nil {
			lines[i], delimiter = strings.Repeat(" ", len(l)), m[1]
			continue
		}
		if line := strings.TrimRight(l, " \t\r"); delimiter != ";" && strings.HasSuffix(line, delimiter) {
			line = strings.TrimSuffix(strings.TrimRight(strings.TrimSuffix(line, delimiter), " \t"), ";") + ";"
			lines[i] = line + strings.Repeat(" ", len(l)-len(line))
		}
	}
	return strings.Join(lines, "\n")
}

var braces = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{([A-Z]\w*)(?:\.(\w+))?\}`) })

// columns puts tables and columns in the place of models and fields in braces.
func (p *parser) columns(sql string) string {
	if p.declared == nil || !strings.Contains(sql, "{") {
		return sql
	}
	from := 0
	return braces().ReplaceAllStringFunc(sql, func(in string) string {
		off := from + strings.Index(sql[from:], in)
		from = off + len(in)
		m := braces().FindStringSubmatch(in)
		i := slices.IndexFunc(p.declared.Tables, func(t *schema.Table) bool { return t.Model == m[1] })
		if i < 0 {
			return in
		}
		t := p.declared.Tables[i]
		if m[2] == "" {
			return p.d.QuoteTable(t.Name)
		}
		var fields []string
		for _, c := range t.Columns {
			if c.Field == m[2] {
				return p.d.Quote(c.Name)
			}
			fields = append(fields, c.Field)
		}
		p.fail(off, lang.DidYouMean(m[2], fields), "%s has no field %s", m[1], m[2])
		return in
	})
}

// kinds are the words of CREATE for what can be declared.
var kinds = map[string]string{
	"VIEW": "view", "MATERIALIZED VIEW": "materialised view", "FUNCTION": "function", "AGGREGATE FUNCTION": "function",
	"PROCEDURE": "procedure",
	"AGGREGATE": "aggregate", "TRIGGER": "trigger", "RULE": "rule", "SEQUENCE": "sequence", "DOMAIN": "domain",
	"TYPE": "type", "COLLATION": "collation", "OPERATOR": "operator", "CAST": "cast",
	"TEXT SEARCH CONFIGURATION": "text search configuration", "TEXT SEARCH DICTIONARY": "text search dictionary",
	"EVENT": "event", "EVENT TRIGGER": "event trigger", "EXTENSION": "extension", "POLICY": "policy",
	"PUBLICATION": "publication", "STATISTICS": "statistics", "INDEX": "index",
	"TABLE": kindTable, "VIRTUAL TABLE": kindTable, "SCHEMA": sqlschema.InDatabase,
}

// kindTable is the kind of a table that is declared in SQL.
const kindTable = "table"

// byThemselves are words of CREATE that are not of a kind.
var byThemselves = map[string]bool{
	"OR": true, "REPLACE": true, "RECURSIVE": true, "CONSTRAINT": true, "UNIQUE": true, "ALGORITHM": true,
	"UNDEFINED": true, "MERGE": true, "TEMPTABLE": true, "DEFINER": true, "SQL": true, "SECURITY": true,
	"INVOKER": true, "CURRENT_USER": true, "IF": true, "NOT": true, "EXISTS": true, "TRUSTED": true, "UNLOGGED": true,
}

// kindAt is the kind of which tokens begin with the words, and how many these are.
func kindAt(list []sqltok.Token) (kind string, n int) {
	for n = min(3, len(list)); n > 0; n-- {
		words := make([]string, n)
		for i, t := range list[:n] {
			words[i] = t.Word()
		}
		if kind = kinds[strings.Join(words, " ")]; kind != "" {
			return kind, n
		}
	}
	return "", 0
}

// identify notes what a statement declares. why is what keeps it from being declared.
func (p *parser) identify(o *sqlschema.Object, list []sqltok.Token) (hint, why string) {
	if len(list) == 0 {
		return "", "an empty statement"
	}
	switch list[0].Word() {
	case "CREATE":
		return p.create(o, list)
	case "SET":
		for i, t := range list {
			if t.Is("FOR") && i+1 < len(list) && len(list) > 1 && list[1].Is("STATEMENT") {
				return p.identify(o, list[i+1:])
			}
		}
	case "GRANT", "REVOKE", "COMMENT":
		o.Kind = map[string]string{"COMMENT": "comment"}[list[0].Word()]
		if o.Kind == "" {
			o.Kind = "rights"
		}
		if o.On = p.behind(list, "ON"); len(list) > 2 && list[2].Is("COLUMN") {
			o.On = tableOf(list[3:])
		}
		return "", ""
	case "ALTER":
		return p.alter(o, list)
	}
	return "write CREATE, COMMENT, GRANT and the like; what changes rows is a migration: erbario draft --by-hand",
		fmt.Sprintf("%s declares nothing", firstWords(list, 2))
}

// behind is the name that stands behind a word, without what is before its last point; empty: there is none.
func (p *parser) behind(list []sqltok.Token, word string) string {
	for i, t := range list {
		if !t.Is(word) {
			continue
		}
		for i++; i < len(list) && kinds[list[i].Word()] != "" || i < len(list) && list[i].Is("TABLE"); i++ {
		}
		return lastName(list[min(i, len(list)):])
	}
	return ""
}

// lastName is the last part of the name with which tokens begin.
func lastName(list []sqltok.Token) string {
	i := 0
	for i+2 < len(list) && list[i+1].Is(".") {
		i += 2
	}
	if i < len(list) && (list[i].Named() || list[i].Kind == sqltok.Text) {
		if list[i].Named() {
			return list[i].Name()
		}
		return list[i].Val
	}
	return ""
}

// tableOf is the table in the name of a column with which tokens begin.
func tableOf(list []sqltok.Token) string {
	i := 0
	for i+4 < len(list) && list[i+1].Is(".") && list[i+3].Is(".") {
		i += 2
	}
	return lastName(list[min(i, len(list)):min(i+1, len(list))])
}

func (p *parser) create(o *sqlschema.Object, list []sqltok.Token) (hint, why string) {
	i, n := 1, 0
	for ; i < len(list); i++ {
		if o.Kind, n = kindAt(list[i:]); n > 0 {
			break
		}
		word := list[i].Word()
		user := list[i-1].Is("=") || list[i-1].Is("@") || i+1 < len(list) && list[i+1].Is("@") // of DEFINER
		if !byThemselves[word] && word != "" && !user {
			return p.refuse(list[i:], word)
		}
	}
	if o.Kind == "" {
		return "", fmt.Sprintf("%s is not whole", firstWords(list, 2))
	}
	for i += n; i < len(list) && slices.Contains([]string{"IF", "NOT", "EXISTS", "CONCURRENTLY"}, list[i].Word()); i++ {
	}
	if named := list[min(i, len(list)):]; len(named) > 0 && !named[0].Is("ON") { // the server may name an index
		o.Name = lastName(named)
	}
	if o.Kind == "operator" || o.Kind == "cast" { // what is before, or in, its brackets
		o.Name = ""
		for _, t := range list[min(i, len(list)):] {
			if t.Is("(") && o.Kind == "operator" || t.Is(")") {
				break
			}
			o.Name += t.Text
		}
	}
	switch o.Kind {
	case "trigger", "rule", "policy", "index":
		if o.On = p.behind(list[i:], "ON"); o.Kind == "rule" {
			o.On = p.behind(list[i:], "TO")
		}
	}
	if o.Kind == "index" && p.ofModel(o.On) != nil {
		return "write index … in its model", fmt.Sprintf("%s is a table of a model, which declares its indexes", o.On)
	}
	switch o.Kind {
	case kindTable:
		if hint, why := p.table(o, list); why != "" {
			return hint, why
		}
	case sqlschema.InDatabase:
		if hint, why := p.schema(o, list[i:]); why != "" {
			return hint, why
		}
	}
	if schema.Own(o.Name) {
		return "give it another name",
			fmt.Sprintf("%s cannot be called %s: names that begin so are reserved", o.Kind, o.Name)
	}
	return "", ""
}

// ofModel is the table of that name if a model declares it, or nil.
func (p *parser) ofModel(name string) *schema.Table {
	if p.declared == nil {
		return nil
	}
	if t := p.declared.Table(name); t != nil && !t.InSQL {
		return t
	}
	return nil
}

// table says why a statement cannot declare a table.
func (p *parser) table(o *sqlschema.Object, list []sqltok.Token) (hint, why string) {
	if t := p.ofModel(o.Name); t != nil {
		hint = "remove one of the two, or write model " + t.Model + " in sql, with its key and what others refer to"
		if t.Outside {
			hint = "write model " + t.Model + " in sql"
		}
		return hint, fmt.Sprintf("%s is the table of the model %s", o.Name, t.Model)
	}
	for i, t := range sqltok.Outside(list) {
		next := list[min(i+1, len(list)-1)]
		switch {
		case t.Is("REPLACE") && list[max(i-1, 0)].Is("OR"):
			return "write CREATE TABLE: what changes is planned", "OR REPLACE would drop the rows of the table"
		case t.Is("SELECT") || t.Is("AS") && (next.Is("WITH") || next.Is("TABLE") || next.Is("VALUES") || next.Is("(")):
			return "write its columns", "a table that a query fills has rows, and cannot be declared"
		case t.Is("INHERITS") && list[max(i-1, 0)].Is(")") && next.Is("("), t.Is("PARTITION") && next.Is("OF"):
			o.Kind, o.On = engine.Part, lastName(list[min(i+2, len(list)):])
		}
	}
	return "", ""
}

// schema says why a statement cannot declare a schema; behind are its tokens from the name on.
func (p *parser) schema(o *sqlschema.Object, behind []sqltok.Token) (hint, why string) {
	words, ok := p.d.(engine.SchemaCreator)
	switch {
	case !ok:
		return byHandHint, "schema cannot be declared in SQL"
	case len(behind) > 1:
		return "write CREATE SCHEMA " + behind[0].Text, "a schema is declared with its name alone"
	}
	create, _ := words.CreateSchema(o.Name)
	o.SQL = create[0]
	return "", ""
}

const byHandHint = "create it with erbario draft --by-hand"

// refuse says why something that CREATE creates cannot be declared.
func (p *parser) refuse(list []sqltok.Token, word string) (hint, why string) {
	switch word {
	case "TEMPORARY", "TEMP":
		return "", "what is temporary belongs to a session, and cannot be declared"
	}
	return byHandHint, fmt.Sprintf("%s cannot be declared in SQL", strings.ToLower(firstWords(list, 1)))
}

// alter notes what ALTER says of something.
func (p *parser) alter(o *sqlschema.Object, list []sqltok.Token) (hint, why string) {
	has := func(words ...string) bool {
		for i := range list {
			if i+len(words) <= len(list) && slices.EqualFunc(list[i:i+len(words)], words,
				func(t sqltok.Token, w string) bool { return t.Is(w) }) {
				return true
			}
		}
		return false
	}
	name := func(at int) string {
		for at < len(list) && (list[at].Is("ONLY") || list[at].Is("IF") || list[at].Is("EXISTS")) {
			at++
		}
		return lastName(list[min(at, len(list)):])
	}
	turned := func(what string) bool {
		return has("ENABLE", what) || has("DISABLE", what) || has("ALWAYS", what) || has("REPLICA", what)
	}
	switch {
	case len(list) < 3:
		return "", fmt.Sprintf("%s is not whole", firstWords(list, 2))
	case has("DEFAULT", "PRIVILEGES") && !has("IN", "SCHEMA"):
		return "write ALTER DEFAULT PRIVILEGES IN SCHEMA …", "rights by default in all schemas concern the whole database"
	case has("DEFAULT", "PRIVILEGES"):
		o.Kind = "rights"
	case has("ROW", "LEVEL", "SECURITY"):
		o.Kind, o.On = "row security", name(2)
	case has("OWNER", "TO"):
		o.Kind = "owner"
	case list[1].Is("TABLE") && (turned("TRIGGER") || turned("RULE")):
		o.Kind, o.On = "state", name(2)
	case list[1].Is("VIEW"), list[1].Is("SEQUENCE"), list[1].Is("FUNCTION"), list[1].Is("DOMAIN"), list[1].Is("TYPE"),
		list[1].Is("EVENT") && list[2].Is("TRIGGER"):
		o.Kind = "more"
	case list[1].Is("TABLE") && has("EXCLUDE") && has("ADD", "CONSTRAINT"):
		at := slices.IndexFunc(list, func(t sqltok.Token) bool { return t.Is("CONSTRAINT") })
		o.Kind, o.On, o.Name = engine.Exclusion, name(2), lastName(list[at+1:])
	case list[1].Is("TABLE") && has("EXCLUDE"):
		return "write ADD CONSTRAINT NAME EXCLUDE …", "a constraint needs a name"
	case list[1].Is("TABLE") && p.ofModel(name(2)) == nil:
		o.Kind, o.On = "more", name(2)
	case has("ATTACH", "PARTITION"):
		return "write CREATE TABLE … PARTITION OF …", "ATTACH PARTITION declares nothing"
	default:
		return "change its model", fmt.Sprintf("%s declares nothing: a table is what its model says", firstWords(list, 2))
	}
	return "", ""
}

// firstWords are the first words of a statement.
func firstWords(list []sqltok.Token, n int) string {
	var out []string
	for _, t := range list[:min(n, len(list))] {
		out = append(out, strings.ToUpper(t.Text))
	}
	return strings.Join(out, " ")
}
