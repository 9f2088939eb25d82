// Package insert puts single rows into a table, with the values as people type them: each is
// checked against its column before the database sees it, and a reference may be told by any
// unique value of the row that it points at.
//
//	t := insert.Table{DB: db, Engine: e, Live: live, Models: d.Schema, Table: live.Table("boxes")}
//	row, err := t.Read(ctx, []insert.Given{{Field: "label", Value: "north 3"}, {Field: "shelf", Value: "A1"}})
//	stored, err := t.Insert(ctx, []insert.Row{row}, time.Minute)
package insert

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Database is what is needed of a connection here: statements, and references that are held
// or not.
type Database interface {
	engine.Conn
	EnforceReferences(ctx context.Context, enforce bool) error
}

// Table is a table of a database, with what the models declare of it.
type Table struct {
	DB     Database
	Engine engine.Engine
	Live   *sqlschema.Schema
	Models *schema.Schema // as declared, before an engine has put them into its words; nil: nothing is known
	*sqlschema.Table
}

// Given is a value for a field, or for a column, as people type it.
type Given struct{ Field, Value string }

// Row is a row to be inserted: literals by column.
type Row struct {
	Columns []string
	Values  []string
}

// FieldError says which field of a row is wrong, and why.
type FieldError struct {
	Field string
	Err   error
}

func (e *FieldError) Error() string { return fmt.Sprintf("%s: %v", e.Field, e.Err) }

func (e *FieldError) Unwrap() error { return e.Err }

// RuleError says which rule of the table a row breaks. Rule is a *schema.Check, Index,
// ForeignKey or Trigger; nil: the database named none of the table's.
type RuleError struct {
	Table *sqlschema.Table
	Name  string
	Rule  any
	Err   error
}

func (e *RuleError) Error() string { return e.Err.Error() }

func (e *RuleError) Unwrap() error { return e.Err }

// UnknownError says that the table has no such field; Known are those that it has.
type UnknownError struct {
	Field string
	Known []string
}

func (e *UnknownError) Error() string { return fmt.Sprintf("there is no field %q", e.Field) }

// declared is what the models say of the table; nil: nothing.
func (t Table) declared(table string) *schema.Table {
	if t.Models == nil {
		return nil
	}
	return t.Models.Table(table)
}

// column finds a live column by its field or its name, with all that is declared of it; one
// that nobody declared as a model would declare it.
func (t Table) column(name string) (*schema.Column, error) {
	w := t.declared(t.Name)
	var known []string
	for _, c := range t.Columns {
		var d *schema.Column
		if w != nil {
			d = w.Column(c.Name)
		}
		if d != nil && d.Field == name || c.Name == name {
			if d != nil {
				return d, nil
			}
			out := &schema.Column{Name: c.Name, Type: c.Type, NotNull: c.NotNull}
			if c.Generated != nil {
				out.Generated = &schema.Generated{SQL: c.Generated.SQL.Text, Stored: c.Generated.Stored}
			}
			return out, nil
		}
		if d != nil && d.Field != "" {
			known = append(known, d.Field)
		} else if !schema.Own(c.Name) {
			known = append(known, c.Name)
		}
	}
	if w != nil &&
		slices.ContainsFunc(w.Columns, func(c *schema.Column) bool { return c.Field == name || c.Name == name }) {
		return nil, fmt.Errorf(
			"it is declared, but not in the database yet: erbario draft writes the migration, erbario apply adds it",
		)
	}
	return nil, &UnknownError{name, known}
}

// Read makes a row of what was given. What is not given is left to its default.
func (t Table) Read(ctx context.Context, given []Given) (Row, error) {
	var row Row
	for _, g := range given {
		c, err := t.column(g.Field)
		if err == nil && c.Generated != nil {
			err = fmt.Errorf("the database calculates it from the other columns: omit it")
		}
		if err == nil && slices.Contains(row.Columns, c.Name) {
			err = fmt.Errorf("it is given twice")
		}
		if err != nil {
			return row, &FieldError{g.Field, err}
		}
		value, err := t.value(ctx, c, g.Value)
		if err != nil {
			return row, &FieldError{g.Field, err}
		}
		row.Columns, row.Values = append(row.Columns, c.Name), append(row.Values, value)
	}
	for _, live := range t.Columns {
		c, err := t.column(live.Name)
		if err != nil || slices.Contains(row.Columns, live.Name) {
			continue
		}
		if live.NotNull && live.Default == nil && live.Generated == nil && !live.Identity && !t.numbered(live.Name) {
			name := c.Name
			if c.Field != "" {
				name = c.Field
			}
			return row, &FieldError{name, fmt.Errorf("it is required and has no default: add %s=VALUE", name)}
		}
	}
	return row, nil
}

// numbered tells whether the database gives a column its numbers without saying so: on
// SQLite, a whole number that is the key alone.
func (t Table) numbered(column string) bool {
	key := t.Key()
	return len(key) == 1 && strings.EqualFold(key[0], column) &&
		(t.PrimaryKey.Autoincrement || strings.EqualFold(t.Column(column).SQLType, "INTEGER")) &&
		!t.Engine.Caps().Journal
}

// value reads a value for a column, as a literal.
func (t Table) value(ctx context.Context, c *schema.Column, raw string) (string, error) {
	if raw == "null" {
		if c.NotNull {
			return "", fmt.Errorf("it is required")
		}
		return "NULL", nil
	}
	if k := t.reference(c.Name); k != nil {
		return t.pointing(ctx, k, raw)
	}
	return t.literal(c, raw)
}

// literal reads a value as one of the column's type.
func (t Table) literal(c *schema.Column, raw string) (string, error) {
	if c.Type.Kind == schema.Bytes {
		pieces := t.Engine.SQL().Split(raw + ";")
		if !strings.HasPrefix(raw, "(") || !strings.HasSuffix(raw, ")") || len(pieces) != 1 || pieces[0].Bad != "" ||
			pieces[0].Comment {
			return "", fmt.Errorf("bytes are written as (SQL), in the engine's syntax")
		}
		return raw, nil
	}
	v, err := read(raw, c.Type)
	if err == nil {
		err = c.Refuses(v)
	}
	if err != nil {
		return "", err
	}
	return t.Engine.SQL().Literal(v, c.Type)
}

// moments are the forms in which people write a time.
var moments = []string{
	"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05.999999", "2006-01-02T15:04", "2006-01-02T15:04:05.999999",
	time.RFC3339Nano,
}

// read reads a value in the language's words; a text may be in double quotes.
func read(raw string, typ schema.Type) (schema.Value, error) {
	switch k := typ.Kind; {
	case k == schema.UUID && raw == "new uuid":
		return schema.Value{Kind: schema.UUIDValue}, nil
	case k == schema.Timestamp || k == schema.Datetime:
		for _, form := range moments {
			if at, err := time.Parse(form, raw); err == nil {
				form := "2006-01-02 15:04:05"
				switch at.Nanosecond() / 1000 {
				case 0:
				case at.Nanosecond() / 1000000 * 1000: // the form in which SQLite keeps times
					form += ".000"
				default:
					form += ".000000"
				}
				return schema.Value{Kind: schema.TextValue, Text: at.UTC().Format(form)}, nil
			}
		}
	case k == schema.Time && len(raw) == len("15:04"):
		raw += ":00"
	case (k == schema.Text || k == schema.Choice) && len(raw) > 1 && raw[0] == '"' && raw[len(raw)-1] == '"':
		raw = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(raw[1 : len(raw)-1])
	}
	return schema.ReadValue(raw, typ)
}

// reference is the foreign key of one column alone; nil: it has none.
func (t Table) reference(column string) *sqlschema.ForeignKey {
	for _, k := range t.ForeignKeys {
		if len(k.Columns) == 1 && strings.EqualFold(k.Columns[0], column) && len(k.References) == 1 {
			return k
		}
	}
	return nil
}

// pointing finds the row that a reference points at, by its key, or else by any value that
// is unique among its rows; rows that are marked as deleted do not count.
func (t Table) pointing(ctx context.Context, k *sqlschema.ForeignKey, raw string) (string, error) {
	to := t.Live.Table(k.Table)
	if to == nil {
		return "", fmt.Errorf("%s, to which it refers, does not exist", k.Table)
	}
	parent := Table{DB: t.DB, Engine: t.Engine, Live: t.Live, Models: t.Models, Table: to}
	q := t.Engine.SQL().Quote
	key, err := parent.column(k.References[0])
	if err != nil {
		return "", err
	}
	find := func(condition string) ([]string, error) {
		if to.SoftDelete != "" {
			condition = "(" + condition + ") AND " + q(to.SoftDelete) + " IS NULL"
		}
		found, err := t.DB.Sample(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s", q(key.Name),
			t.Engine.SQL().QuoteTable(to.Name), condition), 2)
		var out []string
		for _, row := range found.Values {
			out = append(out, row[0])
		}
		return out, err
	}
	if value, err := parent.literal(key, raw); err == nil {
		if found, err := find(q(key.Name) + " = " + value); err != nil {
			return "", err
		} else if len(found) > 0 {
			return found[0], nil
		}
	}
	names := []string{key.Name}
	var found []string
	for _, u := range parent.uniques() {
		if u.column.Name == key.Name {
			continue
		}
		names = append(names, u.column.Name)
		value, err := parent.literal(u.column, raw)
		if err != nil {
			continue
		}
		condition := q(u.column.Name) + " = " + value
		if u.folded {
			condition = "lower(" + q(u.column.Name) + ") = lower(" + value + ")"
		}
		more, err := find(condition)
		if err != nil {
			return "", err
		}
		for _, one := range more {
			if !slices.Contains(found, one) {
				found = append(found, one)
			}
		}
	}
	switch len(found) {
	case 0:
		return "", fmt.Errorf("no row of %s has %q as its %s", to.Name, raw, strings.Join(names, " or "))
	case 1:
		return found[0], nil
	}
	return "", fmt.Errorf("several rows of %s have %q as their %s: name one by its %s", to.Name, raw,
		strings.Join(names, " or "), key.Name)
}

// unique is a column whose value tells a row from all others.
type unique struct {
	column *schema.Column
	folded bool // whatever its case
}

// uniques are the columns that are unique each by itself.
func (t Table) uniques() []unique {
	var out []unique
	add := func(column string, folded bool) {
		if c, err := t.column(column); err == nil && c.Generated == nil && t.Table.Column(column) != nil {
			out = append(out, unique{c, folded})
		}
	}
	if w := t.declared(t.Name); w != nil {
		for _, x := range w.Indexes {
			if x.Unique && len(x.Parts) == 1 && x.Parts[0].SQL == "" {
				add(x.Parts[0].Column, x.Parts[0].IgnoringCase)
			}
		}
		return out
	}
	for _, x := range t.Indexes {
		if x.Unique && len(x.Parts) == 1 && x.Parts[0].Expr == nil {
			collation := x.Parts[0].Collation
			add(x.Parts[0].Column, collation != "" && !strings.EqualFold(collation, "binary"))
		}
	}
	return out
}

// Insert inserts rows, all of them or none, and returns them as they are stored, with the
// names of their columns; of a table without a key none is returned.
func (t Table) Insert(ctx context.Context, list []Row, wait time.Duration) (stored engine.Rows, err error) {
	var keys [][]string
	if err := t.DB.EnforceReferences(ctx, true); err != nil {
		return stored, err
	}
	defer t.DB.EnforceReferences(context.WithoutCancel(ctx), false)
	if err := t.DB.Begin(ctx, wait); err != nil {
		return stored, err
	}
	for _, row := range list {
		key, err := t.insert(ctx, row)
		if err != nil {
			t.DB.Rollback()
			return stored, t.broken(err)
		}
		keys = append(keys, key)
	}
	if err := t.DB.Commit(ctx); err != nil {
		return stored, t.broken(err)
	}
	if len(t.Key()) == 0 {
		return stored, nil
	}
	var names []string
	for _, c := range t.Columns {
		if !schema.Own(c.Name) {
			names = append(names, t.Engine.SQL().Quote(c.Name))
		}
	}
	for _, key := range keys {
		var is []string
		for i, k := range t.Key() {
			is = append(is, t.Engine.SQL().Quote(k)+" = "+key[i])
		}
		one, err := t.DB.Sample(
			ctx,
			fmt.Sprintf("SELECT %s FROM %s WHERE %s", strings.Join(names, ", "), t.Engine.SQL().QuoteTable(t.Name),
				strings.Join(is, " AND ")),
			1,
		)
		if err != nil {
			return stored, err
		}
		stored.Columns, stored.Values = one.Columns, append(stored.Values, one.Values...)
	}
	return stored, nil
}

// insert inserts one row and returns its key, as literals.
func (t Table) insert(ctx context.Context, row Row) (key []string, err error) {
	q := t.Engine.SQL().Quote
	sql := "INSERT INTO " + t.Engine.SQL().QuoteTable(t.Name)
	if len(row.Columns) == 0 {
		sql += t.Engine.Caps().EmptyRow
	} else {
		var names []string
		for _, c := range row.Columns {
			names = append(names, q(c))
		}
		sql += " (" + strings.Join(names, ", ") + ") VALUES (" + strings.Join(row.Values, ", ") + ")"
	}
	if len(t.Key()) == 0 {
		return nil, t.DB.Exec(ctx, sql)
	}
	var names []string
	for _, k := range t.Key() {
		names = append(names, q(k))
	}
	got, err := t.DB.Select(ctx, sql+" RETURNING "+strings.Join(names, ", "))
	if err != nil {
		return nil, err
	}
	if len(got) != 1 {
		return nil, fmt.Errorf("the database stored no row: most likely a trigger suppresses it")
	}
	for i, k := range t.Key() {
		v, err := schema.ReadValue(got[0][i], t.Column(k).Type)
		if err != nil {
			v = schema.Value{Kind: schema.TextValue, Text: got[0][i]}
		}
		literal, err := t.Engine.SQL().Literal(v, t.Column(k).Type)
		if err != nil {
			return nil, err
		}
		key = append(key, literal)
	}
	return key, nil
}

// broken finds the rule that an error of the database is about, by its name.
func (t Table) broken(err error) error {
	text := strings.ToLower(err.Error())
	out := &RuleError{Table: t.Table, Err: err}
	is := func(name string, rule any) {
		if name != "" && len(name) > len(out.Name) && strings.Contains(text, strings.ToLower(name)) {
			out.Name, out.Rule = name, rule
		}
	}
	for _, k := range t.Checks {
		is(k.Name, k)
	}
	for _, x := range t.Indexes {
		is(x.Name, x)
	}
	for _, k := range t.ForeignKeys {
		is(k.Name, k)
	}
	for _, g := range t.Triggers {
		is(g.Name, g)
	}
	return out
}
