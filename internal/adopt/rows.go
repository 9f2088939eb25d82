package adopt

// This file writes the rows of small tables as reference rows: rows that every database must have.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/lang"
	"erbario/internal/rows"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// rowsAtMost is how many rows of a table can be declared.
const rowsAtMost = 1000

// AddRows adds to the models of an outcome the rows of tables, by name or pattern, as reference rows,
// and has the migration insert them where it creates the table.
func (in Input) AddRows(ctx context.Context, o *Outcome, names []string) error {
	a := &rowsAdded{Input: in, o: o, by: map[string][]string{}}
	var list []*schema.Table
	for _, n := range names {
		hit := false
		for _, t := range o.Tables {
			if !Matches([]string{n}, t.Name) {
				continue
			}
			hit = true
			table := o.said.Schema.Table(t.Name)
			if t.Outside || t.InSQL || table == nil {
				return fmt.Errorf("%s is not declared by a model, and no migration inserts its rows: leave it out of "+
					"--rows", t.Name)
			}
			if !slices.Contains(list, table) {
				list = append(list, table)
			}
		}
		if !hit {
			return fmt.Errorf("--rows %s matches no table that is adopted", n)
		}
	}
	for _, t := range list {
		if a.by[t.Name] = a.key(t); a.by[t.Name] == nil {
			return fmt.Errorf("--rows %s: nothing identifies its rows that is the same in every database: it needs a "+
				"key or a uniqueness of fields that are required and not numbered", t.Name)
		}
	}
	for _, t := range list {
		if err := a.write(ctx, t); err != nil {
			return err
		}
	}
	return a.check(ctx, list)
}

// rowsAdded is a run of AddRows.
type rowsAdded struct {
	Input
	o  *Outcome
	by map[string][]string // by table: the columns that identify its rows
}

// key are the columns that identify the rows of a table; nil: there are none.
func (a *rowsAdded) key(t *schema.Table) []string {
	fits := func(columns []string) bool {
		return len(columns) > 0 && !slices.ContainsFunc(columns, func(name string) bool {
			c := t.Column(name)
			return c == nil || c.Identity || c.Generated != nil || !c.NotNull && !slices.Contains(t.Key, name)
		})
	}
	if fits(t.Key) {
		return t.Key
	}
	for _, x := range t.Indexes {
		if x.Unique && x.Where == "" && plainParts(x) && fits(schema.Names(x.Parts)) {
			return schema.Names(x.Parts)
		}
	}
	return nil
}

// write adds the block of a table to the file of its model.
func (a *rowsAdded) write(ctx context.Context, t *schema.Table) error {
	q, of := a.Engine.SQL().Quote, a.Engine.SQL().QuoteTable
	n, err := a.DB.Count(ctx, "SELECT 1 FROM "+of(t.Name))
	if err != nil {
		return err
	}
	if n > rowsAtMost {
		return fmt.Errorf("--rows %s: it has %s, and reference rows are for small tables, of at most %s", t.Name,
			words.Rows(n), words.Thousands(rowsAtMost))
	}
	if n == 0 {
		return fmt.Errorf("--rows %s: it has no rows", t.Name)
	}
	if err := a.referred(ctx, t); err != nil {
		return err
	}
	var types []schema.Type
	var take, names, by []string
	for _, c := range t.Columns {
		if c.Generated != nil || c.Identity {
			continue
		}
		now, of := a.now(t, c)
		types, names, take = append(types, of), append(names, fieldName(c.Field)), append(take, now)
	}
	for _, c := range a.by[t.Name] {
		by = append(by, fieldName(t.Column(c).Field))
	}
	order := make([]string, len(a.by[t.Name]))
	for i, c := range a.by[t.Name] {
		order[i] = "t." + q(c)
	}
	found, err := a.DB.Sample(ctx, fmt.Sprintf("SELECT %s FROM %s AS t ORDER BY %s", strings.Join(take, ", "),
		of(t.Name), strings.Join(order, ", ")), rowsAtMost)
	if err != nil {
		return err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "\nrows %s by %s\n    %s\n", t.Model, strings.Join(by, ", "), strings.Join(names, "  "))
	for _, row := range found.Values {
		cells := make([]string, len(row))
		for i, literal := range row {
			if cells[i], err = a.cell(literal, types[i]); err != nil {
				return fmt.Errorf("--rows %s: %s: %w", t.Name, names[i], err)
			}
		}
		b.WriteString("    " + strings.Join(cells, "  ") + "\n")
	}
	i := slices.IndexFunc(a.o.Files, func(f File) bool {
		file, wrong := lang.Parse(f.Path, f.Text)
		return strings.HasSuffix(f.Path, ".erbario") && len(wrong) == 0 && file.HasModel(t.Model)
	})
	if i < 0 {
		return fmt.Errorf("--rows %s: no file declares it", t.Name)
	}
	file, wrong := lang.Parse(a.o.Files[i].Path, a.o.Files[i].Text+b.String())
	if len(wrong) > 0 {
		return fmt.Errorf("--rows %s: its rows cannot be written: %s", t.Name, wrong[0].Message)
	}
	a.o.Files[i].Text = lang.Format(file)
	return nil
}

// referred refuses rows that refer to rows of a table whose rows are not declared.
func (a *rowsAdded) referred(ctx context.Context, t *schema.Table) error {
	q, of := a.Engine.SQL().Quote, a.Engine.SQL().QuoteTable
	for _, k := range t.ForeignKeys {
		if a.by[k.Table] != nil {
			continue
		}
		var full []string
		for _, c := range k.Columns {
			full = append(full, q(c)+" IS NOT NULL")
		}
		n, err := a.DB.Count(ctx, "SELECT 1 FROM "+of(t.Name)+" WHERE "+strings.Join(full, " AND "))
		if err != nil {
			return err
		}
		if n > 0 {
			return fmt.Errorf("--rows %[1]s: %[2]s of it refer to rows of %[3]s, which a new database would not have: "+
				"add --rows %[3]s, or leave %[1]s out", t.Name, words.Rows(n), k.Table)
		}
	}
	return nil
}

// now is the value of a column, in the terms of a block, and its type: a reference names a row by what
// identifies it.
func (a *rowsAdded) now(t *schema.Table, c *schema.Column) (string, schema.Type) {
	q, of := a.Engine.SQL().Quote, a.Engine.SQL().QuoteTable
	name := "t." + q(c.Name)
	for _, k := range t.ForeignKeys {
		if len(k.Columns) != 1 || k.Columns[0] != c.Name {
			continue
		}
		if by := a.by[k.Table]; len(by) == 1 && by[0] != k.References[0] {
			return fmt.Sprintf("(SELECT l.%s FROM %s AS l WHERE l.%s = %s)", q(by[0]), of(k.Table), q(k.References[0]),
				name), a.o.said.Schema.Table(k.Table).Column(by[0]).Type
		}
	}
	return name, c.Type
}

// cell is a value as a block of rows has it.
func (a *rowsAdded) cell(literal string, t schema.Type) (string, error) {
	list := a.Engine.SQL().Lex(literal)
	switch {
	case strings.EqualFold(literal, "null"):
		return "null", nil
	case t.Kind == schema.Boolean && (literal == "1" || literal == "0"):
		return map[string]string{"1": "true", "0": "false"}[literal], nil
	case t.Kind == schema.Boolean && (literal == "true" || literal == "false"):
		return literal, nil
	case len(list) == 1 && list[0].Kind == sqltok.Text && t.Kind == schema.Choice:
		return text(list[0].Val), nil
	case len(list) == 1 && list[0].Kind == sqltok.Text && !t.Kind.Number() && t.Kind != schema.Boolean &&
		t.Kind != schema.Bytes && t.Kind != schema.Native:
		val := list[0].Val
		if t.Kind == schema.Timestamp { // in UTC, as all of them are read
			val = strings.TrimSuffix(val, "+00")
		}
		if t.Kind == schema.JSON && strings.ContainsAny(val[:min(1, len(val))], "{[") && !strings.Contains(val, "\n") {
			return val, nil
		}
		return text(val), nil
	case t.Kind.Number() && !strings.ContainsAny(literal, "'eE"):
		return literal, nil
	}
	return "", fmt.Errorf("the value %s cannot be written in a block of rows", literal)
}

// check reads the models again, compares the rows with the database, and has the migration insert
// them.
func (a *rowsAdded) check(ctx context.Context, list []*schema.Table) error {
	all := slices.Clone(a.Files)
	for _, f := range a.o.Files {
		if strings.HasSuffix(f.Path, ".erbario") {
			file, _ := lang.Parse(f.Path, f.Text)
			all = append(all, file)
		}
	}
	d, diags := declare.Resolve(all, a.Rules, a.Engine.Name())
	for _, x := range diags {
		if !x.Warning {
			return fmt.Errorf("the rows cannot be declared: %s: %s; nothing was written", x.Pos.Path, x.Message)
		}
	}
	wanted, _ := a.Engine.DDL().Lower(d.Schema)
	known := map[string]rows.Known{}
	for _, t := range list {
		known[t.Name] = rows.Known{By: wanted.Table(t.Name).Rows().KeyParts()}
	}
	waits := func(t *schema.Table) bool {
		return slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
			return k.Table != t.Name &&
				slices.ContainsFunc(list, func(o *schema.Table) bool { return o.Name == k.Table })
		})
	}
	for len(list) > 0 { // those to whose rows others refer come first
		i := max(slices.IndexFunc(list, func(t *schema.Table) bool { return !waits(t) }), 0)
		name := list[i].Name
		list = slices.Delete(list, i, i+1)
		there, err := (rows.In{DB: a.DB, Schema: a.Live}).Compare(ctx, a.Engine.SQL(), wanted, name, known)
		if err != nil {
			return err
		}
		for _, r := range there {
			for _, c := range r.Cells {
				if !r.There || !c.Same {
					return fmt.Errorf("--rows %s: %s of the row %s cannot be declared as it is (%s): leave the table "+
						"out", name, c.Column, r.Key, c.Now)
				}
			}
		}
		if err := a.insert(wanted.Table(name)); err != nil {
			return err
		}
	}
	return nil
}

// insert adds the statements that insert the declared rows of a table.
func (a *rowsAdded) insert(t *sqlschema.Table) error {
	r := t.Rows()
	up := engine.RowUpsert{Table: t, By: r.By, Fresh: true}
	of := engine.StepRows{Table: t.Name, By: r.KeyParts()}
	for _, c := range r.Columns {
		if !slices.Contains(r.By, c) {
			of.Columns = append(of.Columns, c)
		}
	}
	order, _ := r.ParentsFirst(t.Name)
	for _, n := range order {
		key, err := rows.DeclaredKey(a.Engine.SQL(), t, n)
		if err != nil {
			return err
		}
		one := engine.RowValues{Key: key, Columns: r.Columns, Add: true}
		for i := range r.Columns {
			sql, err := rows.Literal(a.Engine.SQL(), t, n, i, true)
			if err != nil {
				return err
			}
			one.Values = append(one.Values, sql)
		}
		up.Rows, of.Keys = append(up.Rows, one), append(of.Keys, r.Key(n))
	}
	for _, sql := range a.Engine.DDL().UpsertRows(up).Apply {
		a.o.inserts = append(a.o.inserts, engine.Creation{Kind: "rows", Name: t.Name, Of: t.Name, SQL: sql})
	}
	a.o.rows = append(a.o.rows, of)
	a.o.Rows = append(a.o.Rows, Rows{t.Name, len(of.Keys)})
	return nil
}
