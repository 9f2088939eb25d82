package cli

// This file shows objects as a file of SQL declares them.

import (
	"context"
	"fmt"
	"strings"

	"erbario/internal/adopt"
	"erbario/internal/engine"
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
		if list, err = named(ctx, l, s, all, name); err != nil {
			return err
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

// named are the objects of a name, a table among them.
func named(ctx context.Context, l *live, s *sqlschema.Schema, all []*objects.Object,
	name string) ([]*objects.Object, error) {
	list := objects.Named(all, name)
	if t := s.Find(name); t != nil {
		made, err := adopt.TableSQL(ctx, l.engine, l.db, s, []*sqlschema.Table{t})
		if err != nil {
			return nil, err
		}
		if made[t.Name] != nil {
			key := engine.ObjectKey{Kind: "table", Name: t.Name}
			list = append([]*objects.Object{{ObjectKey: key, Make: made[t.Name]}}, list...)
		}
		if len(list) == 0 {
			return nil, fmt.Errorf("%s is a table that SQL cannot declare here: erbario look %[1]s shows it, "+
				"erbario adopt %[1]s writes a model", t.Name)
		}
	}
	if len(list) > 0 {
		return list, nil
	}
	var known []string
	for _, o := range all {
		known = append(known, objects.ShortName(o))
	}
	return nil, fmt.Errorf("%s has no view, function or other object %q%s", l.Name, name, meant(name, known))
}
