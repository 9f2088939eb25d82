// Package adopt takes over a database that exists: it says what its tables hold in models, proves
// that this is the same, and begins the history with a migration that creates all of it from
// nothing. It changes nothing in the database but Erbario's own tables.
//
//	o, err := adopt.Look(ctx, adopt.Input{Engine: e, DB: db, Live: live, Rules: rules})
//	for _, f := range o.Files {
//		fmt.Println(f.Path) // models/crane_part.erbario
//	}
package adopt

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/objects"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Input is what an adoption depends on.
type Input struct {
	Engine   runner.Engine
	DB       engine.Database
	Live     *sqlschema.Schema
	Declared *declare.Declared // by the models that exist; nil: there are none
	Files    []*lang.File      // of those models
	Rules    declare.Rules
	Choose   func(table string) bool // which tables; nil: all that are not declared
	Schemas  []engine.OtherSchema    // whose tables are created with the first migration, and not declared
	Scratch  *Scratch                // where it is created; nil: Beginning makes one
	Outside  bool                    // they are declared as outside
	SQL      []*sqlschema.Object     // what is declared in SQL
	Folder   string                  // of the models
	Progress func(done, all int)     // told how much is created on scratch; nil: nobody is
}

// File is a file of models to be written.
type File struct{ Path, Text string }

// Table is what became of one table.
type Table struct {
	Name    string
	Model   string
	Outside bool     // it is declared as there already, since neither models nor SQL say it
	InSQL   bool     // it is declared in SQL, since the language does not say it exactly
	Why     []string // then: what the language does not say
	Native  []string // fields of a type that only the engine has

	make []engine.Creation // the statements that declare it in SQL
}

// Outcome is what an adoption writes.
type Outcome struct {
	Files  []File
	Tables []Table
	Left   []Left // what is declared nowhere, and is left as it is
	// Objects is how many things are declared in SQL.
	Objects int
	Rows    []Rows // that are declared, by table
	// Beyond is what names another database, and so could not be tried on scratch.
	Beyond []engine.LeftOut

	wanted  *sqlschema.Schema // what the models declare
	said    *declare.Declared
	choices map[string]string // the choices that say the enum types, by these
	inserts []engine.Creation // of the rows
	rows    []engine.StepRows
}

// Rows is how many rows of a table are declared.
type Rows struct {
	Table string
	Count int
}

// Left is something that a database holds and no model declares.
type Left struct {
	Kind, Name string
	Why        string // no model can declare it; empty: none declares such a thing
}

// how says how a table is declared: with the words of the language, with its checks and types as
// they are, or as outside.
type how int

const (
	inWords how = iota
	asStored
	outside
	inSQL
)

// taking is a run.
type taking struct {
	Input
	*naming
	tables []*sqlschema.Table // that are adopted
	how    map[string]how
	why    map[string][]string
	left   []Left                       // tables that no model can declare
	make   map[string][]engine.Creation // the statements of those that are declared in SQL
	odd    []*sqlschema.Table           // those of them that no model can even name
	wanted *sqlschema.Schema
	said   *declare.Declared // by the models that are written
}

// anothers is the kind of what is left of tables whose rows are not their own.
const anothers = "table that belongs to another"

// Look says what would be written for the tables of a database. Each model is read again, put
// into the words of the engine and compared with the table: what is not the same is declared as
// outside.
func Look(ctx context.Context, in Input) (*Outcome, error) {
	t := &taking{Input: in, how: map[string]how{}, why: map[string][]string{}, make: map[string][]engine.Creation{}}
	for _, table := range in.Live.Tables {
		switch {
		case schema.Own(table.Name), t.declared(table.Name) != nil, in.Choose != nil && !in.Choose(table.Name):
		case objects.TableNamed(in.SQL, table.Name) != nil:
		case table.Undeclarable():
			if !table.Options.Foreign && !table.Alike && !table.NoModule {
				t.odd = append(t.odd, table)
			}
		default:
			t.tables = append(t.tables, table)
			if in.Outside {
				t.how[table.Name] = outside
			}
		}
	}
	for {
		files, err := t.write()
		if err != nil {
			return nil, err
		}
		worse, err := t.compare(ctx, files)
		if err != nil {
			return nil, err
		}
		if !worse {
			if worse, err = t.toSQL(ctx); err != nil {
				return nil, err
			}
		}
		if !worse {
			return t.outcome(files), nil
		}
	}
}

// declared is the table of a model that exists, or nil.
func (t *taking) declared(table string) *schema.Table {
	if t.Input.Declared == nil {
		return nil
	}
	return t.Input.Declared.Schema.Table(table)
}

// written is a file with the tables that it declares.
type written struct {
	File
	table string
}

// write writes the models as things stand.
func (t *taking) write() ([]written, error) {
	t.naming = &naming{
		rules: t.Rules, taken: map[string]bool{}, models: map[string]string{},
		fields: map[string]map[string]string{}, choices: map[string]string{},
	}
	w := &writer{naming: t.naming, all: map[string]*schema.Table{}, types: map[string]string{},
		plain: cmp.Or(t.Rules.Collation[t.Engine.Name()], t.Engine.Caps().PlainCollation)}
	paths := map[string]bool{}
	for _, f := range t.Files {
		for _, b := range f.Blocks {
			t.taken[strings.ToLower(b.Name.Name)] = true
		}
		paths[strings.TrimSuffix(path.Base(strings.ToLower(f.Path)), ".erbario")] = true
	}
	if t.Input.Declared != nil {
		for _, d := range t.Input.Declared.Schema.Tables {
			t.models[d.Name] = d.Model
			w.all[strings.ToLower(d.Name)] = d
		}
	}
	raised := map[string]*schema.Table{}
	for _, table := range t.tables {
		r := t.Engine.DDL().Raise(table, t.how[table.Name] != inWords)
		raised[table.Name] = r
		w.all[strings.ToLower(table.Name)] = r
		t.model(r)
		for _, c := range table.Columns {
			w.types[key(table.Name, c.Name)] = c.SQLType
		}
	}
	var out []written
	if f := t.enums(raised, paths); f != nil {
		out = append(out, *f)
	}
	for _, table := range t.tables {
		t.naming.fields[table.Name] = t.fieldNames(w, raised[table.Name])
	}
	for _, table := range t.tables {
		w.t, w.lines, w.keyed = raised[table.Name], nil, false
		text := ""
		switch t.how[table.Name] {
		case outside:
			text = w.outside("outside", t.referred(table))
		case inSQL:
			text = w.outside("in sql", t.referred(table))
		default:
			text = w.model()
		}
		file := fileName(t.models[table.Name], paths)
		file = path.Join(t.Folder, folderName(w.t.Schema), file+".erbario")
		out = append(out, written{File{file, text}, table.Name})
	}
	return out, nil
}

func key(table, column string) string { return strings.ToLower(table + "." + column) }

func sameForm(a, b string) bool { return sqlschema.SameForm(a, b) }

// enums writes the choices that are kept as types of the database.
func (t *taking) enums(raised map[string]*schema.Table, paths map[string]bool) *written {
	var lines []string
	for _, table := range t.tables {
		for _, c := range raised[table.Name].Columns {
			name := c.Type.Enum
			if name == "" || t.choices[name] != "" || t.how[table.Name] >= outside {
				continue
			}
			in, own := t.place(name)
			choice := modelName(own)
			for i := 2; t.taken[strings.ToLower(choice)]; i++ {
				choice = fmt.Sprintf("%s%d", modelName(name), i)
			}
			t.taken[strings.ToLower(choice)] = true
			t.choices[name] = choice
			exact := ""
			if declare.SnakeCase(choice) != own {
				exact = " " + text(own)
			}
			if in != "" {
				exact += " schema " + text(in)
			}
			values := make([]string, len(c.Type.Choices))
			for i, v := range c.Type.Choices {
				if values[i] = v; !lang.IsName(v) {
					values[i] = text(v)
				}
			}
			lines = append(lines, fmt.Sprintf("choice %s as enum%s: %s\n", choice, exact, strings.Join(values, ", ")))
		}
	}
	if lines == nil {
		return nil
	}
	return &written{File: File{path.Join(t.Folder, fileName("choices", paths)+".erbario"), strings.Join(lines, "")}}
}

// fieldNames are the names of a table's fields, by column: that of a reference is the column
// without the name of what it refers to.
func (t *taking) fieldNames(w *writer, r *schema.Table) map[string]string {
	out, taken := map[string]string{}, map[string]bool{}
	for _, c := range r.Columns {
		taken[c.Name] = true
	}
	w.t = r
	for _, c := range r.Columns {
		name := c.Name
		if k, _ := w.reference(c.Name); k != nil {
			for _, try := range []string{
				t.rules.ReferenceField(c.Name, k.References[0]),
				strings.TrimSuffix(c.Name, "_"+k.References[0]), strings.TrimSuffix(c.Name, "_id"),
				strings.TrimSuffix(c.Name, "Id"), strings.TrimSuffix(c.Name, "ID"), strings.TrimSuffix(c.Name, "id"),
			} {
				if try = strings.TrimRight(try, "_"); try != "" && try != c.Name && !taken[try] {
					name = try
					break
				}
			}
		}
		taken[name] = true
		out[c.Name] = name
	}
	return out
}

// referred are the columns of a table to which others refer.
func (t *taking) referred(table *sqlschema.Table) []string {
	var out []string
	for _, o := range t.Live.Tables {
		for _, k := range o.ForeignKeys {
			if !strings.EqualFold(k.Table, table.Name) {
				continue
			}
			for _, c := range k.References {
				if !slices.Contains(out, c) {
					out = append(out, c)
				}
			}
		}
	}
	return out
}

// compare reads the models again, and compares what they declare with what is there. It tells
// whether some of the tables have to be written in another way.
func (t *taking) compare(ctx context.Context, files []written) (worse bool, err error) {
	all := slices.Clone(t.Files)
	of := map[string]string{} // the table that a file is for
	for i := range files {
		f, wrong := lang.Parse(files[i].Path, files[i].Text)
		of[files[i].Path] = files[i].table
		if len(wrong) > 0 {
			if !t.less(files[i].table, wrong[0].Message) {
				t.leave(files[i].table, wrong[0].Message)
			}
			worse = true
			continue
		}
		files[i].Text = lang.Format(f)
		f, _ = lang.Parse(files[i].Path, files[i].Text)
		all = append(all, f)
	}
	if worse {
		return true, nil
	}
	d, diags := declare.Resolve(all, t.Rules, t.Engine.Name())
	once := map[string]bool{} // each table is written with fewer words once, whatever is wrong with it
	for _, x := range diags {
		table, mine := of[x.Pos.Path]
		if x.Warning || !mine {
			continue
		}
		if table == "" {
			return false, fmt.Errorf("%s: %s", x.Pos.Path, x.Message)
		}
		if !once[table] && !t.less(table, x.Message) { // not even as outside
			t.leave(table, x.Message)
		}
		once[table], worse = true, true
	}
	if worse {
		return true, nil
	}
	wanted, notices := t.Engine.DDL().Lower(d.Schema)
	for _, n := range notices {
		if n.Mistake && t.mine(n.Table) && t.how[n.Table] < outside {
			if !once[n.Table] {
				t.less(n.Table, n.Text)
			}
			once[n.Table], worse = true, true
		}
	}
	if worse {
		return true, nil
	}
	t.wanted, t.said = wanted, d
	if err := engine.Canonicalize(ctx, t.DB, wanted, t.Live); err != nil {
		return false, err
	}
	for _, table := range t.tables {
		w := wanted.Table(table.Name)
		if t.how[table.Name] >= outside || w == nil {
			continue
		}
		var told []string
		for _, c := range diff.Tables(table, w) {
			if c.Kind == diff.DropTrigger { // of others: it is no part of the table
				continue
			}
			told = append(told, strings.TrimSpace(c.Name+" "+c.What))
		}
		if told != nil {
			t.less(table.Name, told...)
			worse = true
		}
	}
	return worse, nil
}

func (t *taking) mine(table string) bool {
	return slices.ContainsFunc(t.tables, func(o *sqlschema.Table) bool { return o.Name == table })
}

// less has a table written with fewer words of the language; false: there is no way left.
func (t *taking) less(table string, why ...string) bool {
	if t.how[table] >= outside {
		return false
	}
	t.how[table]++
	if t.how[table] == outside {
		t.why[table] = why
	}
	return true
}

// leave leaves a table as it is, which no model can declare.
func (t *taking) leave(table, why string) {
	t.tables = slices.DeleteFunc(t.tables, func(o *sqlschema.Table) bool { return o.Name == table })
	t.left = append(t.left, Left{Kind: "table", Name: table, Why: why})
}

func (t *taking) outcome(files []written) *Outcome {
	o := &Outcome{Left: t.left, wanted: t.wanted, said: t.said, choices: t.choices}
	for _, f := range files {
		o.Files = append(o.Files, f.File)
	}
	for _, table := range t.tables {
		one := Table{Name: table.Name, Model: t.models[table.Name], Outside: t.how[table.Name] == outside,
			InSQL: t.how[table.Name] == inSQL, Why: t.why[table.Name], make: t.make[table.Name]}
		if !one.Outside && !one.InSQL {
			for _, c := range t.Engine.DDL().Raise(table, false).Columns {
				if c.Type.Kind == schema.Native && c.Type.Of == nil {
					one.Native = append(one.Native, c.Name)
				}
			}
		}
		o.Tables = append(o.Tables, one)
		for _, g := range table.Triggers {
			if g.Purpose == "" {
				o.Left = append(o.Left, Left{Kind: "trigger", Name: g.Name})
			}
		}
		for _, k := range table.Others {
			o.Left = append(o.Left, Left{Kind: engine.Exclusion, Name: k.Name})
		}
	}
	for _, v := range t.Live.Views {
		if v.LiveOf == "" {
			o.Left = append(o.Left, Left{Kind: "view", Name: v.Name})
		}
	}
	for _, x := range t.Live.Others {
		said := x.Kind == sqlschema.EnumType && t.choices[x.Name] != ""
		if !said && !slices.Contains([]string{"", "extension", sqlschema.InDatabase}, x.Kind) {
			kind := x.Kind
			if kind == sqlschema.OtherView {
				kind = "view"
			}
			o.Left = append(o.Left, Left{Kind: kind, Name: x.Name})
		}
	}
	for _, table := range t.odd {
		if list := t.make[table.Name]; list != nil {
			o.Tables = append(o.Tables, Table{Name: table.Name, InSQL: true, make: list})
		}
	}
	for _, table := range t.Live.Tables {
		switch {
		case t.make[table.Name] != nil:
		case table.Options.Virtual != "":
			o.Left = append(o.Left, Left{Kind: "virtual table", Name: table.Name})
		case table.Alike:
			o.Left = append(o.Left, Left{Kind: "table", Name: table.Name,
				Why: "Erbario does not distinguish names that differ only in upper and lower case"})
		case table.Options.Foreign:
			o.Left = append(o.Left, Left{Kind: anothers, Name: table.Name})
		case len(table.Columns) > 0 && table.Undeclarable():
			o.Left = append(o.Left, Left{Kind: "table with a long name", Name: table.Name})
		case table.Undeclarable():
			o.Left = append(o.Left, Left{Kind: "table without columns", Name: table.Name})
		}
	}
	return o
}
