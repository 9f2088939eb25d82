package project

// This file reads the files of SQL that stand beside the models.

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/objects"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"

	"erbario/internal/engine"
)

// SQLSuffix ends the names of files of SQL; before it can stand the name of the engine that alone
// takes it, as in loans.postgres.sql.
const SQLSuffix = ".sql"

// Objects reads what is declared in SQL for an engine, and what is wrong in it. declared is what the
// models declare.
func (p *Project) Objects(e engine.Engine, declared *schema.Schema) ([]*sqlschema.Object, []lang.Diagnostic) {
	paths, err := p.files(SQLSuffix)
	if err != nil {
		return nil, []lang.Diagnostic{{Message: err.Error()}}
	}
	var out []*sqlschema.Object
	var diags []lang.Diagnostic
	for _, rel := range paths {
		if of := EngineOf(rel, p.engines); of != "" && of != e.Name() {
			continue
		}
		text, err := p.sqlText(rel)
		if err != nil {
			diags = append(diags, lang.Diagnostic{Pos: lang.Pos{Path: rel, Line: 1, Col: 1},
				Message: fmt.Sprintf("it cannot be read: %v", err)})
			continue
		}
		list, wrong := objects.Parse(e.SQL(), rel, text, declared)
		out, diags = append(out, list...), append(diags, wrong...)
	}
	return out, append(diags, objects.Twice(out)...)
}

// sqlText is a file of SQL as it is, or is to be.
func (p *Project) sqlText(rel string) (string, error) {
	if edited, ok := p.Edited[rel]; ok {
		return edited, nil
	}
	return ReadFile(filepath.Join(p.Dir, rel))
}

// Rewrite gives files of SQL the new names of what is renamed, where it is beyond doubt; live is what
// has the old names. It tells whether a file changes. Nothing is written before Save.
func (p *Project) Rewrite(e interface {
	Name() string
	SQL() engine.Dialect
}, live *sqlschema.Schema, list []objects.Renamed) (bool, error) {
	paths, err := p.files(SQLSuffix)
	if err != nil {
		return false, err
	}
	changes := false
	for _, rel := range paths {
		if of := EngineOf(rel, p.engines); of != "" && of != e.Name() {
			continue
		}
		text, err := p.sqlText(rel)
		if err != nil {
			return false, err
		}
		now := objects.Rewrite(e.SQL(), live, text, list)
		if now == text {
			continue
		}
		if p.Edited == nil {
			p.Edited = map[string]string{}
		}
		p.Edited[rel], changes = now, true
	}
	return changes, nil
}

// EngineOf is the engine that alone takes a file of SQL; empty: each does.
func EngineOf(file string, all engine.Registry) string {
	parts := strings.Split(strings.TrimSuffix(path.Base(file), SQLSuffix), ".")
	if last := parts[len(parts)-1]; len(parts) > 1 && slices.Contains(all.Names(), last) {
		return last
	}
	return ""
}
