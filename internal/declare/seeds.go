package declare

// This file checks seeds and reference rows against the models: that every
// name in them is a model's or a field's, and every literal a value of its
// field's type.

import (
	"slices"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

func (r *resolver) seeds() {
	names := map[string]bool{}
	for _, b := range r.out.Seeds {
		if names[b.Name.Name] {
			r.errorf(b.Name.Pos, "", "the seed %s is declared twice", b.Name.Name)
		}
		names[b.Name.Name] = true
		r.out.Later = append(r.out.Later, Later{Pos: b.Pos, What: "seed " + b.Name.Name})
		r.seedLines(b.Lines, nil)
	}
}

func (r *resolver) seedLines(lines []*lang.Line, under *model) {
	for _, l := range lines {
		switch {
		case l.Make != nil:
			m := r.lookupModel(l.Make.Model)
			if m == nil {
				continue
			}
			if under != nil {
				r.seedParent(l.Make, m, under)
			}
			r.seedLines(l.Lines, m)
		case l.Set != nil && under == nil:
			r.errorf(l.Pos, "write MODEL COUNT first, and the field under it", "a field stands outside of any model")
		case l.Set != nil:
			f := under.fields[l.Set.Field.Name]
			if f == nil {
				if l.Set.Field.Name == "deleted" && under.soft != nil {
					continue
				}
				r.lookup(under, l.Set.Field)
				continue
			}
			if v := l.Set.Values; len(v) == 1 && !v[0].Word && f.target == nil && v[0].Kind != schema.TextValue {
				r.value(v[0], f.column.Type, l.Set.Field.Name)
			}
		}
	}
}

// seedParent finds the one reference that joins rows to those above them.
func (r *resolver) seedParent(made *lang.Make, m, under *model) {
	var refs []string
	for _, f := range m.order {
		if f.target != nil && f.target.model == under {
			refs = append(refs, f.decl.Name.Name)
		}
	}
	switch {
	case made.Via != nil:
		if f := r.lookup(m, *made.Via); f != nil && !slices.Contains(refs, made.Via.Name) {
			r.errorf(made.Via.Pos, lang.DidYouMean(made.Via.Name, refs), "%s.%s does not refer to %s", m.table.Model, made.Via.Name, under.table.Model)
		}
	case len(refs) == 0:
		r.errorf(made.Model.Pos, "put the line at the margin of the seed", "%s has no reference to %s", m.table.Model, under.table.Model)
	case len(refs) > 1:
		r.errorf(made.Model.Pos, "write via "+refs[0]+", or another", "%s refers to %s by %d fields", m.table.Model, under.table.Model, len(refs))
	}
}

func (r *resolver) rowBlocks() {
	for _, b := range r.out.Rows {
		r.out.Later = append(r.out.Later, Later{Pos: b.Pos, What: "rows of " + b.Name.Name})
		m := r.lookupModel(b.Name)
		if m == nil {
			continue
		}
		by := r.lookup(m, b.By)
		var fields []*field
		place, seen := -1, map[string]bool{}
		for i, l := range b.Lines {
			for j, cell := range l.Cells {
				if i == 0 {
					f := r.lookup(m, cell.Name)
					if f != nil && f == by {
						place = j
					}
					fields = append(fields, f)
					continue
				}
				if j < len(fields) && fields[j] != nil && fields[j].target == nil {
					v := *cell.Value
					v.Word = v.Word && fields[j].column.Type.Kind == schema.Choice
					r.value(&v, fields[j].column.Type, fields[j].decl.Name.Name)
				}
				if j == place {
					if seen[cell.Value.Text] {
						r.errorf(cell.Value.Pos, "", "two rows have the same %s, %s", b.By.Name, cell.Value.Value)
					}
					seen[cell.Value.Text] = true
				}
			}
		}
		if by != nil && place < 0 && len(b.Lines) > 0 {
			r.errorf(b.By.Pos, "", "the rows have no %s, which tells one from another", b.By.Name)
		}
	}
}
