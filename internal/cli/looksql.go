package cli

// This file shows objects as a file of SQL declares them.

import (
	"context"
	"fmt"
	"strings"

	"erbario/internal/objects"
	"erbario/internal/sqlschema"
)

// lookSQL shows the statements of the objects of a name, or of all.
func (a *app) lookSQL(ctx context.Context, l *live, s *sqlschema.Schema, name string) error {
	all, err := objects.Read(ctx, l.db, s)
	if err != nil {
		return err
	}
	list := all
	if name != "" {
		if list = objects.Named(all, name); len(list) == 0 {
			return a.noObject(l, s, all, name)
		}
	}
	if a.json {
		type jsonObject struct {
			Kind string `json:"kind"`
			Name string `json:"name"`
			Of   string `json:"of,omitempty"`
			SQL  string `json:"sql"`
		}
		out := []jsonObject{}
		for _, o := range list {
			out = append(out, jsonObject{o.Kind, o.Name, o.Of, objects.Text(l.engine.Scripts(), []*objects.Object{o})})
		}
		return a.document(map[string]any{"database": l.Name, "objects": out})
	}
	if len(list) == 0 {
		a.err.printf("%s holds nothing but tables", l.Name)
		return nil
	}
	a.out.raw(strings.TrimRight(clean(objects.Text(l.engine.Scripts(), list)), "\n"))
	return nil
}

// noObject says that nothing but a table has a name, or nothing at all.
func (a *app) noObject(l *live, s *sqlschema.Schema, all []*objects.Object, name string) error {
	if s.Table(name) != nil {
		return fmt.Errorf("%s is a table, which a model declares: erbario look %[1]s shows it, erbario adopt %[1]s writes a model", name)
	}
	var known []string
	for _, o := range all {
		known = append(known, objects.ShortName(o))
	}
	return fmt.Errorf("%s has no view, function or other object %q%s", l.Name, name, meant(name, known))
}
