package adopt

// This file declares in SQL what models cannot say: each object in the server's own words, as far
// as the server makes the same of them again.

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// sqlFile is a file of SQL under way.
type sqlFile struct {
	path string
	list []*objects.Object
}

// declareObjects adds to the outcome the files that declare what part holds beside its tables: the
// part of those that exist. ran finds what statements made already, on scratch.
func (in Input) declareObjects(ctx context.Context, o *Outcome, part *sqlschema.Schema, there []*objects.Object,
	ran func([]*sqlschema.Object) ([]*objects.Object, error)) error {
	mine := slices.DeleteFunc(slices.Clone(there), func(x *objects.Object) bool {
		return x.Kind == "owner of" || !within(part, x) || objects.Source(in.SQL, x) != nil
	})
	return in.writeObjects(ctx, o, slices.Concat(o.enumObjects(part.Others), o.tableObjects()), mine, ran)
}

// Undeclared declares in SQL the objects that neither a file of SQL nor a migration of the line has, beside
// tables that are declared. It writes no migration: the next draft finds them in the database.
func (in Input) Undeclared(ctx context.Context, line []*migration.Migration) (*Outcome, error) {
	there, err := objects.Read(ctx, in.DB, in.Live)
	if err != nil {
		return nil, err
	}
	o := &Outcome{choices: map[string]string{}}
	if in.Declared != nil {
		for _, t := range in.Declared.Schema.Tables {
			for _, c := range t.Columns {
				o.choices[c.Type.Enum] = t.Model
			}
		}
	}
	asked := func(x *objects.Object) bool {
		return objects.Source(in.SQL, x) == nil && (in.Choose == nil || in.Choose(named(x.Name)))
	}
	var mine []*objects.Object
	belongs := migration.ObjectsOf(line, in.Engine)
	for _, x := range there {
		table := x.OfKind == "" && x.Of != ""
		says := x.Kind == "comment" || x.Kind == "owner of" || strings.HasPrefix(x.Kind, "rights") && table
		if !says && !belongs[x.ObjectKey] && asked(x) && (!table || in.has(x.Of)) {
			mine = append(mine, x)
		}
	}
	for _, x := range there { // what is said of them
		about := func(m *objects.Object) bool { return objects.About(x, m) }
		if x.Kind == "comment" && slices.ContainsFunc(mine, about) {
			mine = append(mine, x)
		}
	}
	enums := slices.DeleteFunc(o.enumObjects(in.Live.Others), func(x *objects.Object) bool { return !asked(x) })
	none := func([]*sqlschema.Object) ([]*objects.Object, error) { return nil, nil }
	return o, in.writeObjects(ctx, o, enums, mine, none)
}

// has tells whether a table is declared, by a model or in SQL.
func (in Input) has(table string) bool {
	return in.Declared != nil && in.Declared.Schema.Table(table) != nil || objects.TableNamed(in.SQL, table) != nil
}

// writeObjects adds to the outcome the files that declare tables and enum types, which were compared already, and
// those of mine of which the server makes the same again.
func (in Input) writeObjects(ctx context.Context, o *Outcome, tables, mine []*objects.Object,
	ran func([]*sqlschema.Object) ([]*objects.Object, error)) error {
	mine = slices.Concat(in.schemasOf(o, mine), tables, mine)
	for len(mine) > 0 {
		files := o.sqlFiles(in, mine)
		wanted := *cmp.Or(o.wanted, &sqlschema.Schema{})
		wanted.Objects = slices.Clone(in.SQL)
		bad := map[*objects.Object]bool{}
		var written []File
		for _, f := range files {
			text := objects.Text(in.Engine.Scripts(), f.list)
			list, diags := objects.Parse(in.Engine.SQL(), f.path, text, nil)
			if len(diags) > 0 {
				in.unread(f, bad)
				continue
			}
			wanted.Objects = append(wanted.Objects, list...)
			written = append(written, File{f.path, text})
		}
		made, err := ran(wanted.Objects[len(in.SQL):])
		if err == nil && made == nil {
			var again *objects.Made
			if again, err = objects.Make(ctx, in.Engine, &wanted, in.Live); err == nil {
				made = again.Objects
			}
		}
		if err != nil {
			return err
		}
		for _, x := range mine {
			if slices.Contains(tables, x) || x.Kind == sqlschema.InDatabase || isLeft(o.Beyond, x.Kind, x.Name) {
				continue
			}
			if again := objects.Find(made, x.ObjectKey); again == nil || !objects.Same(x, again) {
				bad[x] = true
			}
		}
		if len(bad) == 0 {
			o.Files = append(o.Files, written...)
			o.declared(slices.DeleteFunc(mine, func(x *objects.Object) bool { return x.Kind == "table" }))
			return nil
		}
		mine = slices.DeleteFunc(mine, func(x *objects.Object) bool { return bad[x] })
	}
	return nil
}

// schemasOf are the schemas in which objects lie that are declared in SQL, and no table of a model: nothing else says
// that they belong to the project.
func (in Input) schemasOf(o *Outcome, list []*objects.Object) []*objects.Object {
	words, ok := in.Engine.DDL().(engine.SchemaCreator)
	if !ok {
		return nil
	}
	var seen []string
	for _, t := range o.Tables {
		if name, _ := schema.SplitName(t.Name); t.Model != "" && !t.InSQL {
			seen = append(seen, name)
		}
	}
	if in.Declared != nil {
		for _, t := range in.Declared.Schema.Tables {
			seen = append(seen, t.Schema)
		}
	}
	var out []*objects.Object
	for _, x := range list {
		of := cmp.Or(x.Of, x.Name)
		if x.Kind == engine.Part {
			of = x.Name
		}
		name, _ := schema.SplitName(of)
		if name == "" || slices.Contains(seen, name) || !in.Live.HasSchema(name) {
			continue
		}
		seen = append(seen, name)
		create, _ := words.CreateSchema(name)
		key := engine.ObjectKey{Kind: sqlschema.InDatabase, Name: name}
		out = append(out, &objects.Object{ObjectKey: key,
			Make: []engine.Creation{{Kind: key.Kind, Name: name, SQL: create[0]}}})
	}
	return out
}

// unread notes which objects of a file cannot be read again.
func (in Input) unread(f *sqlFile, bad map[*objects.Object]bool) {
	for _, x := range f.list {
		text := objects.Text(in.Engine.Scripts(), []*objects.Object{x})
		if _, diags := objects.Parse(in.Engine.SQL(), f.path, text, nil); len(diags) > 0 {
			bad[x] = true
		}
	}
}

// within tells whether an object is in a part of a database.
func within(part *sqlschema.Schema, x *objects.Object) bool {
	kind, name := x.Kind, x.Name
	if x.OfKind == engine.Part {
		return part.Table(x.Of) != nil
	} else if x.OfKind != "" {
		kind, name = x.OfKind, x.Of
	} else if x.Of != "" {
		return part.Table(x.Of) != nil
	}
	return kind == "rights" || kind == "publication" || kind == "view" && part.View(name) != nil ||
		slices.ContainsFunc(part.Others, func(o *sqlschema.Other) bool { return o.Name == name })
}

// sqlFiles divides objects into files: one for each of them, and one for all that belongs to a table.
func (o *Outcome) sqlFiles(in Input, list []*objects.Object) []*sqlFile {
	taken := map[string]bool{}
	for _, f := range in.SQL {
		taken[strings.ToLower(f.Path)] = true
	}
	of := map[string]*sqlFile{}
	parts := map[string]string{} // by their names, the tables of which they are
	for _, x := range list {
		if x.Kind == engine.Part {
			parts[x.Name] = x.Of
		}
	}
	var out []*sqlFile
	for _, x := range list {
		name := x.Name
		if x.OfKind != "" {
			name = x.Of
		}
		name = strings.Split(name, "(")[0]
		folder, own := in.place(name)
		key, base := "object "+name, declare.SnakeCase(modelName(own))
		table := x.Of
		if x.Kind == "table" {
			table = x.Name
		}
		for parts[table] != "" && parts[table] != table {
			table = parts[table]
		}
		switch {
		case (x.OfKind == "" || x.OfKind == engine.Part) && table != "":
			folder, own = in.place(table)
			key, base = "table "+table, declare.SnakeCase(modelName(own))
			if i := slices.IndexFunc(o.Tables, func(t Table) bool { return t.Name == table && t.Model != "" }); i >= 0 {
				base = declare.SnakeCase(o.Tables[i].Model)
			}
		case x.Kind == "rights":
			key, base = "rights", "rights"
		}
		f := of[key]
		if f == nil {
			file := path.Join(in.Folder, folder, base+".sql")
			for i := 2; taken[strings.ToLower(file)]; i++ {
				file = path.Join(in.Folder, folder, base+"_"+string(rune('0'+i%10))+".sql")
			}
			taken[strings.ToLower(file)] = true
			f = &sqlFile{path: file}
			of[key] = f
			out = append(out, f)
		}
		f.list = append(f.list, x)
	}
	return out
}

// place is the folder for what lies in a schema, "" for the project's own, and its name there.
func (in Input) place(name string) (folder, own string) {
	if !in.Engine.Caps().Schemas {
		return "", name
	}
	folder, own = schema.SplitName(name)
	return folderName(folder), own
}

// declared takes what is declared in SQL out of what is left.
func (o *Outcome) declared(list []*objects.Object) {
	o.Objects = len(list)
	o.Left = slices.DeleteFunc(o.Left, func(l Left) bool {
		return slices.ContainsFunc(list, func(x *objects.Object) bool {
			kind := x.Kind
			if kind == engine.Part {
				kind = anothers
			}
			return kind == l.Kind && x.Name == l.Name
		})
	})
}

// Names are the names of what a database holds that can be adopted.
func Names(live *sqlschema.Schema) []string {
	var out []string
	for _, t := range live.Tables {
		out = append(out, t.Name)
		for _, g := range t.Triggers {
			out = append(out, g.Name)
		}
		for _, k := range t.Others {
			out = append(out, k.Name)
		}
	}
	for _, v := range live.Views {
		out = append(out, v.Name)
		for _, g := range v.Triggers {
			out = append(out, g.Name)
		}
	}
	for _, x := range live.Others {
		out = append(out, named(x.Name))
	}
	return out
}

// named is the name alone of an object, without the types that it takes and the table that it belongs to.
func named(name string) string {
	name, _, _ = strings.Cut(name, "(")
	name, _, _ = strings.Cut(name, " of ")
	return strings.Trim(name, `"`)
}
