package sqlite

// This file reads CREATE statements as SQLite keeps them in sqlite_schema: the
// only place that tells constraint names, checks, collations, deferrable keys
// and ON CONFLICT.

import (
	"fmt"
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// reader walks over the tokens of one statement.
type reader struct {
	src  string
	list []sqltok.Token
	i    int
}

func (r *reader) peek() sqltok.Token { return r.at(r.i) }

func (r *reader) at(i int) sqltok.Token {
	if i < len(r.list) {
		return r.list[i]
	}
	return sqltok.Token{Kind: sqltok.Mark, Start: len(r.src), End: len(r.src)}
}

func (r *reader) done() bool { return r.i >= len(r.list) }

// accept reads the words if they stand next, all or none.
func (r *reader) accept(words ...string) bool {
	for i, w := range words {
		if !r.at(r.i + i).Is(w) {
			return false
		}
	}
	r.i += len(words)
	return true
}

func (r *reader) expect(words ...string) error {
	if !r.accept(words...) {
		return fmt.Errorf("expected %s, not %q", strings.Join(words, " "), r.peek().Text)
	}
	return nil
}

func (r *reader) name() (string, error) {
	t := r.peek()
	if !t.Named() {
		return "", fmt.Errorf("expected a name, not %q", t.Text)
	}
	r.i++
	return t.Name(), nil
}

// bracketed reads "( … )" and returns the tokens between.
func (r *reader) bracketed() ([]sqltok.Token, string, error) {
	if !r.peek().Is("(") {
		return nil, "", fmt.Errorf("expected (, not %q", r.peek().Text)
	}
	end := r.i + sqltok.Closing(r.list[r.i:])
	if end == len(r.list) {
		return nil, "", fmt.Errorf("a bracket is not closed")
	}
	inner := r.list[r.i+1 : end]
	text := strings.TrimSpace(r.src[r.list[r.i].End:r.list[end].Start])
	r.i = end + 1
	return inner, text, nil
}

// parseTable reads a CREATE TABLE or CREATE VIRTUAL TABLE statement.
func parseTable(name, src string) (*sqlschema.Table, error) {
	t := &sqlschema.Table{Name: name, Text: src}
	r := &reader{src: src, list: tokens(src)}
	if err := r.table(t); err != nil {
		return nil, fmt.Errorf("the statement of table %s cannot be read: %w", name, err)
	}
	return t, nil
}

func (r *reader) table(t *sqlschema.Table) error {
	if err := r.expect("CREATE"); err != nil {
		return err
	}
	if r.accept("VIRTUAL") {
		if err := r.expect("TABLE"); err != nil {
			return err
		}
		r.accept("IF", "NOT", "EXISTS")
		if _, err := r.name(); err != nil {
			return err
		}
		if err := r.expect("USING"); err != nil {
			return err
		}
		t.Options.Virtual = moduleText(r.src[r.peek().Start:])
		return nil
	}
	if err := r.expect("TABLE"); err != nil {
		return err
	}
	r.accept("IF", "NOT", "EXISTS")
	if _, err := r.name(); err != nil {
		return err
	}
	if r.accept(".") {
		r.i++
	}
	if !r.peek().Is("(") {
		return fmt.Errorf("expected (, not %q", r.peek().Text)
	}
	end := r.i + sqltok.Closing(r.list[r.i:])
	body := &reader{src: r.src, list: r.list[:end], i: r.i + 1}
	r.i = end + 1
	for !body.done() {
		if constraintWord(body) {
			if err := body.tableConstraint(t); err != nil {
				return err
			}
		} else if err := body.column(t); err != nil {
			return err
		}
		body.accept(",") // SQLite lets it be left out between constraints
	}
	for !r.done() {
		switch {
		case r.accept("STRICT"):
			t.Options.Strict = true
		case r.accept("WITHOUT", "ROWID"):
			t.Options.WithoutRowid = true
		case r.accept(","), r.accept(";"):
		default:
			return fmt.Errorf("unexpected %q", r.peek().Text)
		}
	}
	return nil
}

// constraintWord tells whether a table constraint stands next. Its words are
// reserved, so that no column is called so without quotes.
func constraintWord(r *reader) bool {
	t := r.peek()
	if t.Kind != sqltok.Word {
		return false
	}
	switch strings.ToUpper(t.Text) {
	case "CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN":
		return true
	}
	return false
}

var columnConstraintWords = map[string]bool{
	"CONSTRAINT": true, "PRIMARY": true, "NOT": true, "NULL": true, "UNIQUE": true, "CHECK": true, "DEFAULT": true,
	"COLLATE": true, "REFERENCES": true, "GENERATED": true, "AS": true, "DEFERRABLE": true,
}

func (r *reader) column(t *sqlschema.Table) error {
	name, err := r.name()
	if err != nil {
		return err
	}
	c := &sqlschema.Column{Name: name}
	t.Columns = append(t.Columns, c)
	if c.SQLType, err = r.columnType(); err != nil {
		return err
	}
	constraint := ""
	for !r.done() && !r.peek().Is(",") {
		if r.accept("CONSTRAINT") {
			if constraint, err = r.name(); err != nil {
				return err
			}
			if constraintWordAhead(r) {
				return nil // a name of nothing, then a table constraint
			}
			continue
		}
		if ok, err := r.columnConstraint(t, c, constraint); err != nil {
			return err
		} else if !ok {
			if constraintWord(r) { // the comma before it was left out
				return nil
			}
			return fmt.Errorf("unexpected %q in column %s", r.peek().Text, name)
		}
		constraint = ""
	}
	return nil
}

// columnType reads a type: every word up to a constraint, with one pair of brackets.
func (r *reader) columnType() (string, error) {
	var words []string
	for !r.done() {
		tok := r.peek()
		if !tok.Named() || tok.Kind == sqltok.Word && columnConstraintWords[strings.ToUpper(tok.Text)] {
			break
		}
		words = append(words, tok.Name())
		r.i++
	}
	out := strings.Join(words, " ")
	if len(words) > 0 && r.peek().Is("(") {
		inner, _, err := r.bracketed()
		if err != nil {
			return "", err
		}
		out += "("
		for _, tok := range inner {
			out += tok.Text
		}
		out += ")"
	}
	return out, nil
}

// columnConstraint reads a constraint of a column, called constraint; false: there is none.
func (r *reader) columnConstraint(t *sqlschema.Table, c *sqlschema.Column, constraint string) (bool, error) {
	var err error
	switch {
	case r.accept("PRIMARY", "KEY"):
		pk := &sqlschema.PrimaryKey{Name: constraint, Columns: []sqlschema.Part{{Column: c.Name}}}
		if r.accept("DESC") {
			pk.Columns[0].Desc = true
		} else {
			r.accept("ASC")
		}
		pk.Conflict = r.conflict()
		pk.Autoincrement = r.accept("AUTOINCREMENT")
		c.Identity = pk.Autoincrement
		t.PrimaryKey = pk
	case r.accept("NOT", "NULL"):
		c.NotNull = true
		c.Conflict = r.conflict()
	case r.accept("NULL"):
		r.conflict()
	case r.accept("UNIQUE"):
		t.Indexes = append(t.Indexes, &sqlschema.Index{
			Name:       constraint,
			Unique:     true,
			Constraint: true,
			Parts:      []sqlschema.Part{{Column: c.Name}},
			Conflict:   r.conflict(),
		})
	case r.accept("CHECK"):
		var text string
		if _, text, err = r.bracketed(); err == nil {
			t.Checks = append(t.Checks,
				&sqlschema.Check{Name: constraint, SQL: sqlOf(text), Column: c.Name, Conflict: r.conflict()})
		}
	case r.accept("DEFAULT"):
		var text string
		if text, err = r.defaultValue(); err == nil {
			def := sqlOf(text)
			c.Default = &def
		}
	case r.accept("COLLATE"):
		c.Collation, err = r.name()
	case r.accept("REFERENCES"):
		fk := &sqlschema.ForeignKey{Name: constraint, Columns: []string{c.Name}}
		if err = r.references(fk); err == nil {
			t.ForeignKeys = append(t.ForeignKeys, fk)
		}
	case r.peek().Is("DEFERRABLE"), r.peek().Is("NOT"):
		n := len(t.ForeignKeys)
		if n == 0 {
			return false, fmt.Errorf("unexpected %q", r.peek().Text)
		}
		t.ForeignKeys[n-1].Deferrable = r.deferrable()
	case r.accept("GENERATED", "ALWAYS", "AS"), r.accept("AS"):
		var text string
		if _, text, err = r.bracketed(); err == nil {
			c.Generated = &sqlschema.Generated{SQL: sqlOf(text), Stored: r.accept("STORED")}
			if !c.Generated.Stored {
				r.accept("VIRTUAL")
			}
		}
	default:
		return false, nil
	}
	return true, err
}

func constraintWordAhead(r *reader) bool { return r.peek().Is("FOREIGN") }

func (r *reader) conflict() string {
	if !r.accept("ON", "CONFLICT") {
		return ""
	}
	t := r.peek()
	r.i++
	return strings.ToUpper(t.Text)
}

// defaultValue reads a literal, a signed number, a name or "( … )".
func (r *reader) defaultValue() (string, error) {
	if r.peek().Is("(") {
		_, text, err := r.bracketed()
		return "(" + text + ")", err
	}
	start := r.peek().Start
	if r.peek().Is("-") || r.peek().Is("+") {
		r.i++
	}
	if r.done() {
		return "", fmt.Errorf("expected a default")
	}
	end := r.peek().End
	r.i++
	return r.src[start:end], nil
}

func (r *reader) deferrable() string {
	out := ""
	if r.accept("NOT", "DEFERRABLE") {
		out = "NOT DEFERRABLE"
	} else if r.accept("DEFERRABLE") {
		out = "DEFERRABLE"
	} else {
		r.i++
		return ""
	}
	if r.accept("INITIALLY", "DEFERRED") {
		out += " INITIALLY DEFERRED"
	} else {
		r.accept("INITIALLY", "IMMEDIATE") // the default of both forms
	}
	if strings.HasPrefix(out, "NOT") {
		return "" // which is what saying nothing means
	}
	return out
}

func (r *reader) references(fk *sqlschema.ForeignKey) (err error) {
	fk.OnDelete, fk.OnUpdate = schema.NoAction, schema.NoAction
	if fk.Table, err = r.name(); err != nil {
		return err
	}
	if r.peek().Is("(") {
		inner, _, err := r.bracketed()
		if err != nil {
			return err
		}
		for _, t := range inner {
			if t.Named() {
				fk.References = append(fk.References, t.Name())
			}
		}
	}
	for {
		switch {
		case r.accept("ON", "DELETE"):
			fk.OnDelete = r.action()
		case r.accept("ON", "UPDATE"):
			fk.OnUpdate = r.action()
		case r.accept("MATCH"):
			if fk.Match, err = r.name(); err != nil {
				return err
			}
		case r.peek().Is("DEFERRABLE"), r.peek().Is("NOT") && r.at(r.i+1).Is("DEFERRABLE"):
			fk.Deferrable = r.deferrable()
		default:
			return nil
		}
	}
}

func (r *reader) action() schema.Action {
	for _, a := range []schema.Action{schema.NoAction, schema.Restrict, schema.Cascade, schema.SetNull,
		schema.SetDefault} {
		if r.accept(strings.Fields(string(a))...) {
			return a
		}
	}
	r.i++
	return schema.NoAction
}

func (r *reader) tableConstraint(t *sqlschema.Table) (err error) {
	name := ""
	for r.accept("CONSTRAINT") {
		if name, err = r.name(); err != nil {
			return err
		}
	}
	switch {
	case r.accept("PRIMARY", "KEY"):
		pk := &sqlschema.PrimaryKey{Name: name}
		inner, _, err := r.bracketed()
		if err != nil {
			return err
		}
		if n := len(inner); n > 0 && inner[n-1].Is("AUTOINCREMENT") {
			pk.Autoincrement = true
			inner = inner[:n-1]
		}
		pk.Columns = parts(r.src, inner)
		pk.Conflict = r.conflict()
		if pk.Autoincrement && len(pk.Columns) == 1 {
			if c := t.Column(pk.Columns[0].Column); c != nil {
				c.Identity = true
			}
		}
		t.PrimaryKey = pk
	case r.accept("UNIQUE"):
		inner, _, err := r.bracketed()
		if err != nil {
			return err
		}
		t.Indexes = append(t.Indexes, &sqlschema.Index{
			Name:       name,
			Unique:     true,
			Constraint: true,
			Parts:      parts(r.src, inner),
			Conflict:   r.conflict(),
		})
	case r.accept("CHECK"):
		_, text, err := r.bracketed()
		if err != nil {
			return err
		}
		t.Checks = append(t.Checks, &sqlschema.Check{Name: name, SQL: sqlOf(text), Conflict: r.conflict()})
	case r.accept("FOREIGN", "KEY"):
		inner, _, err := r.bracketed()
		if err != nil {
			return err
		}
		fk := &sqlschema.ForeignKey{Name: name, Columns: sqlschema.Names(parts(r.src, inner))}
		if err := r.expect("REFERENCES"); err != nil {
			return err
		}
		if err := r.references(fk); err != nil {
			return err
		}
		t.ForeignKeys = append(t.ForeignKeys, fk)
	case name != "": // a name of nothing
	default:
		return fmt.Errorf("unexpected %q", r.peek().Text)
	}
	return nil
}

// parts reads the columns and expressions of an index or a key.
func parts(src string, list []sqltok.Token) []sqlschema.Part {
	var out []sqlschema.Part
	for len(list) > 0 {
		end := len(list)
		for i, t := range sqltok.Outside(list) {
			if t.Is(",") {
				end = i
				break
			}
		}
		piece := list[:end]
		list = list[min(end+1, len(list)):]
		var p sqlschema.Part
		if n := len(piece); n > 1 && (piece[n-1].Is("DESC") || piece[n-1].Is("ASC")) {
			p.Desc = piece[n-1].Is("DESC")
			piece = piece[:n-1]
		}
		if n := len(piece); n > 2 && piece[n-2].Is("COLLATE") {
			p.Collation = piece[n-1].Name()
			piece = piece[:n-2]
		}
		switch {
		case len(piece) == 0:
			continue
		case len(piece) == 1 && piece[0].Named():
			p.Column = piece[0].Name()
		default:
			e := sqlOf(src[piece[0].Start:piece[len(piece)-1].End])
			p.Expr = &e
		}
		out = append(out, p)
	}
	return out
}

// parseIndex reads a CREATE INDEX statement.
func parseIndex(name, src string) (*sqlschema.Index, error) {
	r := &reader{src: src, list: tokens(src)}
	x := &sqlschema.Index{Name: name}
	fail := func(err error) (*sqlschema.Index, error) {
		return nil, fmt.Errorf("the statement of index %s cannot be read: %w", name, err)
	}
	if err := r.expect("CREATE"); err != nil {
		return fail(err)
	}
	x.Unique = r.accept("UNIQUE")
	if err := r.expect("INDEX"); err != nil {
		return fail(err)
	}
	r.accept("IF", "NOT", "EXISTS")
	if _, err := r.name(); err != nil {
		return fail(err)
	}
	if r.accept(".") {
		r.i++
	}
	if err := r.expect("ON"); err != nil {
		return fail(err)
	}
	if _, err := r.name(); err != nil {
		return fail(err)
	}
	inner, _, err := r.bracketed()
	if err != nil {
		return fail(err)
	}
	x.Parts = parts(src, inner)
	if r.accept("WHERE") {
		w := sqlOf(strings.TrimRight(src[r.peek().Start:], " \t\r\n;"))
		x.Where = &w
	}
	return x, nil
}

// bodyKey is the canonical form of a CREATE TRIGGER or CREATE VIEW statement
// from its name on, so that IF NOT EXISTS and the like make no difference.
func bodyKey(src string) string {
	list := tokens(src)
	for len(list) > 0 && list[len(list)-1].Is(";") {
		list = list[:len(list)-1]
	}
	for i, t := range list {
		if t.Is("TRIGGER") || t.Is("VIEW") {
			i++
			if i+2 < len(list) && list[i].Is("IF") && list[i+1].Is("NOT") && list[i+2].Is("EXISTS") {
				i += 3
			}
			if i+1 < len(list) && list[i+1].Is(".") {
				i += 2
			}
			return key(list[i:])
		}
	}
	return key(list)
}
