package adopt

// This file writes into models what somebody changed outside of them: only the lines and clauses
// that it is about, in place.

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/plan"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Follow gives the files of models that have to change so that they declare what was changed
// outside of Erbario. made is what the migrations make, changes lead from it to what is there; wanted
// is what the models declare by now. What they say already is not written again.
func (in Input) Follow(ctx context.Context, made, wanted *sqlschema.Schema, changes []diff.Change) ([]File, error) {
	f := &following{Input: in, made: made, wanted: wanted, changed: map[string]string{}}
	var tables []string
	for _, c := range changes {
		if !slices.Contains(tables, c.Table) {
			tables = append(tables, c.Table)
		}
	}
	for _, table := range tables {
		mine := slices.DeleteFunc(slices.Clone(changes), func(c diff.Change) bool { return c.Table != table })
		if err := f.table(ctx, table, mine); err != nil {
			return nil, err
		}
	}
	var out []File
	for _, file := range in.Files {
		if text, ok := f.changed[file.Path]; ok {
			out = append(out, File{file.Path, text})
		}
	}
	return out, nil
}

type following struct {
	Input
	made, wanted *sqlschema.Schema
	changed      map[string]string // files by path, as they are to be
}

// table writes the changes of one table.
func (f *following) table(ctx context.Context, table string, changes []diff.Change) error {
	there, was, declared := f.Live.Table(table), f.made.Table(table), f.declaredTable(table)
	if there == nil || was == nil || declared == nil || f.wanted.Table(table) == nil {
		return fmt.Errorf("%s is not in the database, the migrations and the models: nothing was written", table)
	}
	differs := diff.Tables(there, f.wanted.Table(table))
	changes = slices.DeleteFunc(changes, func(c diff.Change) bool { return !among(differs, c) })
	if len(changes) == 0 {
		return nil
	}
	var why error
	for _, as := range wordings {
		text, path, err := f.edited(declared, was, plan.Drifted(was, there, changes), as)
		if err != nil {
			return err
		}
		if text == "" {
			continue
		}
		wrong, err := f.check(ctx, path, text, table, changes, differs)
		if err != nil {
			return err
		}
		if wrong == "" {
			f.changed[path] = text
			return nil
		}
		why = cmp.Or(why, fmt.Errorf("%s: %s", path, wrong))
	}
	const hint = "write it there yourself, and adopt again; nothing was written"
	if why == nil {
		return fmt.Errorf("model %s does not say the change of %s in lines of its own: %s", declared.Model, table, hint)
	}
	return fmt.Errorf("the change of %s cannot be written into %w: %s", table, why, hint)
}

// wording is a way to say what is stored: with checks as they are instead of words for them, with
// the exact type where no check holds a column to its type, and with that of a reference.
type wording struct{ plain, exact, reference bool }

// wordings are the ways, in the order in which they are tried.
var wordings = []wording{
	{}, {reference: true}, {exact: true}, {exact: true, reference: true},
	{plain: true}, {plain: true, reference: true}, {plain: true, exact: true}, {true, true, true},
}

// among tells whether one of some differences is about the same thing as a change.
func among(list []diff.Change, c diff.Change) bool {
	return slices.ContainsFunc(list, func(o diff.Change) bool { return subject(o) == subject(c) })
}

// subject is what a change is about, whichever way it goes.
func subject(c diff.Change) string {
	thing := c.Kind.Thing()
	if thing == "optional" {
		thing = "required"
	}
	return thing + " " + strings.ToLower(c.Name)
}

func (f *following) declaredTable(name string) *schema.Table {
	if f.Declared == nil {
		return nil
	}
	return f.Declared.Schema.Table(name)
}

// source is the file that declares a model, as it is by now.
func (f *following) source(model string) (path, text string) {
	for _, file := range f.Files {
		if file.HasModel(model) {
			return file.Path, cmp.Or(f.changed[file.Path], file.Src)
		}
	}
	return "", ""
}

// edited is the file of a table's model after a change from one form of the table to another; empty:
// the model says what changes in another way.
func (f *following) edited(declared *schema.Table, was, now *sqlschema.Table,
	as wording) (text, path string, err error) {
	path, src := f.source(declared.Model)
	if path == "" {
		return "", "", fmt.Errorf("no file declares %s", declared.Model)
	}
	var lines [2]string
	for i, t := range []*sqlschema.Table{was, now} {
		file, wrong := lang.Parse("", f.write(declared, t, as))
		if len(wrong) > 0 {
			return "", path, nil
		}
		lines[i] = lang.Format(file)
	}
	text, left, wrong := lang.Merge(path, src, declared.Model, lines[0], lines[1])
	if len(left) > 0 || len(wrong) > 0 || text == src {
		return "", path, nil
	}
	return text, path, nil
}

// write is the model of a table as it would be adopted, with the names that are declared.
func (f *following) write(declared *schema.Table, t *sqlschema.Table, as wording) string {
	n := &naming{rules: f.Rules, taken: map[string]bool{}, models: map[string]string{},
		fields: map[string]map[string]string{}, choices: map[string]string{}}
	for _, file := range f.Files {
		for _, b := range file.Blocks {
			if b.Kind != lang.ChoiceBlock || !b.Enum {
				continue
			}
			n.choices[declare.TypeName(b, f.Rules.Schemas[f.Engine.Name()])] = b.Name.Name
		}
	}
	w := &writer{naming: n, all: map[string]*schema.Table{}, types: map[string]string{},
		plain: cmp.Or(f.Rules.Collation[f.Engine.Name()], f.Engine.Caps().PlainCollation)}
	for _, d := range f.Declared.Schema.Tables {
		n.models[d.Name] = d.Model
		w.all[strings.ToLower(d.Name)] = d
	}
	for _, o := range append(slices.Clone(f.Live.Tables), t) {
		for _, c := range o.Columns {
			if as.reference {
				w.types[key(o.Name, c.Name)] = c.SQLType
			}
		}
	}
	raised := f.Engine.DDL().Raise(t, as.plain)
	for i, c := range raised.Columns {
		if as.exact && !t.HoldsType(c.Name) && c.Type.Kind != schema.Native {
			c.Type.As = t.Columns[i].SQLType
		}
	}
	if mark := f.wanted.Table(t.Name).SoftDelete; mark != "" {
		for _, x := range raised.Indexes { // unique among the rows that are not deleted, which is implied
			if n := len(x.Parts); x.Unique && n > 1 && schema.Own(x.Parts[n-1].Column) {
				x.Parts = x.Parts[:n-1] // by a hidden column
			}
			bare := strings.NewReplacer("{", "", "}", "", "(", "", ")", "", `"`, "", "`", "").Replace(x.Where)
			if x.Unique && strings.EqualFold(strings.TrimSpace(bare), mark+" IS NULL") {
				x.Where = ""
			}
		}
	}
	w.all[strings.ToLower(t.Name)] = raised
	n.fields[t.Name] = (&taking{Input: f.Input, naming: n}).fieldNames(w, raised)
	for _, c := range declared.Columns {
		if c.Field != "" {
			n.fields[t.Name][c.Name] = c.Field
		}
	}
	w.t = raised
	return w.model()
}

// check reads the models with a file as it is to be. wrong is why that is not what is there: with the
// change, nothing may differ that did not differ before.
func (f *following) check(ctx context.Context, path, text, table string, changes,
	differs []diff.Change) (wrong string, err error) {
	var files []*lang.File
	for _, file := range f.Files {
		src, edited := f.changed[file.Path]
		if file.Path == path {
			src, edited = text, true
		}
		if edited {
			again, diags := lang.Parse(file.Path, src)
			if len(diags) > 0 {
				return diags[0].Message, nil
			}
			file = again
		}
		files = append(files, file)
	}
	d, diags := declare.Resolve(files, f.Rules, f.Engine.Name())
	for _, x := range diags {
		if !x.Warning {
			return x.Message, nil
		}
	}
	wanted, notices := f.Engine.DDL().Lower(d.Schema)
	for _, n := range notices {
		if n.Mistake {
			return n.Text, nil
		}
	}
	if err := engine.Canonicalize(ctx, f.DB, wanted, f.Live); err != nil {
		return "", err
	}
	if wanted.Table(table) == nil {
		return table + " would not be declared", nil
	}
	for _, c := range diff.Tables(f.Live.Table(table), wanted.Table(table)) {
		if among(changes, c) || !among(differs, c) {
			return strings.TrimSpace(c.Name + " " + c.What), nil
		}
	}
	return "", nil
}
