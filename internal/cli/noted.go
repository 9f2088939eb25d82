package cli

// This file takes the renames that an editor has noted for answers of a draft.

import (
	"slices"
	"strings"

	"erbario/internal/draft"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
)

// noteRenames adds the renames that an editor has noted to the answers, as if somebody had given their flags. What
// the database or the models no longer say is named; what a flag answers needs no note.
func (d *drafting) noteRenames(s *draft.State) error {
	list, err := d.p.Renames()
	if err != nil {
		return err
	}
	d.noted = []project.Renamed{}
	for _, r := range list {
		if slices.ContainsFunc(d.f.rename, func(flag string) bool { return strings.HasPrefix(flag, r.From+"=") }) {
			d.noted = append(d.noted, r)
			continue
		}
		rename, ok := readRename(r.Flag(), s.Upcoming, s.Wanted)
		old := s.Upcoming.Table(rename.Table)
		switch {
		case !ok || old == nil || rename.Column != "" && old.Column(rename.Column) == nil:
			d.warn("%s: %s is noted as renamed to %s, and the database has no such name: remove it there",
				project.RenamesFile, r.From, r.To)
			continue
		case !declaredAs(rename, r.From, list, s.Wanted):
			d.warn("%s: %s is noted as renamed to %s, and the models do not say so: remove it there",
				project.RenamesFile, r.From, r.To)
			continue
		}
		d.noted = append(d.noted, r)
		d.f.rename = append(d.f.rename, r.Flag())
		if !d.json {
			d.err.line(shellFlag("--rename "+r.Flag()) + "  (" + project.RenamesFile + ")")
		}
	}
	return nil
}

// declaredAs reports whether the models have the new name, and the old one no longer, unless another of the renames
// gives it away again.
func declaredAs(r plan.Rename, from string, list []project.Renamed, wanted *sqlschema.Schema) bool {
	given := func(name string) bool { // to something else of the same place
		place := strings.TrimSuffix(from, lastName(r))
		return slices.ContainsFunc(list, func(o project.Renamed) bool {
			return o.To == name && o.From != from && strings.HasPrefix(o.From, place) &&
				strings.Count(o.From, ".") == strings.Count(from, ".")
		})
	}
	now := func(from, otherwise string) string { // what a name of the database is called by the renames
		for _, o := range list {
			if o.From == from {
				return o.To
			}
		}
		return otherwise
	}
	if r.Column == "" {
		return wanted.Table(r.To) != nil && (wanted.Table(r.Table) == nil || given(r.Table))
	}
	t := wanted.Table(now(r.Table, r.Table))
	if t == nil {
		return false
	}
	if r.Value == "" {
		return t.Column(r.To) != nil && (t.Column(r.Column) == nil || given(r.Column))
	}
	c := t.Column(now(r.Table+"."+r.Column, r.Column))
	if c == nil || c.Declared == nil {
		return false
	}
	values := c.Declared.Type.Choices
	return slices.Contains(values, r.To) && (!slices.Contains(values, r.Value) || given(r.Value))
}

// lastName is the name that is renamed, without what it is in.
func lastName(r plan.Rename) string {
	switch {
	case r.Value != "":
		return r.Value
	case r.Column != "":
		return r.Column
	}
	return r.Table
}
