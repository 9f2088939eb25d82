// Package check reads what the files of a project declare, for one engine, with everything that is wrong in
// them: in the language, in files of SQL, and for the engine.
//
//	files, _, mistakes, err := p.Parse()
//	declared, stored, more := check.Resolve(p, files, e)
package check

import (
	"slices"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/objects"
	"erbario/internal/project"
	"erbario/internal/schema"
	"erbario/internal/seed"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// Resolve is what files declare for an engine, the same in its words, the mistakes in it,
// and what the engine cannot do. Where there are mistakes there is nothing in its words.
func Resolve(p *project.Project, files []*lang.File,
	e engine.Engine) (*declare.Declared, *sqlschema.Schema, []lang.Diagnostic) {
	d, diags := declare.Resolve(files, p.Rules(), e.Name())
	if lang.Errors(diags) {
		return d, nil, diags
	}
	s, notices := e.DDL().Lower(d.Schema)
	inSQL, more := p.Objects(e, d.Schema)
	s.Objects = inSQL
	alone := objects.Alone(inSQL, d.Schema, func(t *schema.Table) lang.Pos { return Place(files, d, t.Name, "") })
	return d, s, slices.Concat(diags, warnings(files, d, notices), more, alone)
}

// warnings places what an engine cannot do; where the same is to be said of many
// fields, the first few are named and the others counted.
func warnings(files []*lang.File, d *declare.Declared, notices []engine.Notice) []lang.Diagnostic {
	const named = 3
	count := map[string]int{}
	last := map[string]int{}
	var out []lang.Diagnostic
	for _, n := range notices {
		key := n.Kind
		if n.Mistake {
			key += n.Text
		}
		if count[key]++; count[key] > named {
			continue
		}
		last[key] = len(out)
		out = append(out,
			lang.Diagnostic{Pos: Place(files, d, n.Table, n.Column), Message: n.Text, Warning: !n.Mistake})
	}
	for key, i := range last {
		if more := count[key] - named; more > 0 {
			out[i].Hint = "and " + words.Count(int64(more), "more field", "more fields") + " like it"
		}
	}
	return out
}

// Place finds the line that declares a table's column.
func Place(files []*lang.File, d *declare.Declared, table, column string) lang.Pos {
	t := d.Schema.Table(table)
	if t == nil {
		return lang.Pos{}
	}
	field := column
	if c := t.Column(column); c != nil && c.Field != "" {
		field = c.Field
	}
	for _, f := range files {
		for _, b := range f.Blocks {
			if b.Kind != lang.ModelBlock || b.Name.Name != t.Model {
				continue
			}
			for _, l := range b.Lines {
				if l.Field != nil && l.Field.Name.Name == field {
					return l.Field.Name.Pos
				}
			}
			return b.Name.Pos
		}
	}
	return lang.Pos{}
}

// Seeds reports what is wrong with seeds as wholes.
func Seeds(d *declare.Declared) []lang.Diagnostic {
	var out []lang.Diagnostic
	for _, s := range d.Seeds {
		plan, mistakes := seed.New(d, s, seed.Options{Random: 1, Existing: &seed.Existing{Unknown: true}})
		if out = append(out, mistakes...); plan != nil {
			out = append(out, plan.Doubts()...)
		}
	}
	return out
}
