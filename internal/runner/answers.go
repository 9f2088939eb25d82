package runner

// This file asks for what a migration leaves to each database: the values of its
// parameters, and those that an undo needs for rows that it has nothing kept for.

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
)

// Need is a parameter that rows of a database need a value for.
type Need struct {
	For  string // table.column
	Type string
	Home string // what it was where the migration was drafted, as SQL
	Rows int64
}

// NeedsAnswers says that a migration cannot be applied before values are given.
type NeedsAnswers struct {
	Migration string
	Needs     []Need
}

func (e *NeedsAnswers) Error() string {
	var names []string
	for _, n := range e.Needs {
		names = append(names, n.For)
	}
	return fmt.Sprintf("%s asks each database for %s, and no answer was given here: nothing was changed", e.Migration,
		strings.Join(names, ", "))
}

// answered gives the values of a migration's parameters as SQL, and what was
// said, for the history. Nobody is asked about rows that do not exist.
func answered(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	o Options) (values map[string]string, said []string, err error) {
	values = map[string]string{}
	var open []Need
	for _, x := range m.Parameters {
		if x.Undo {
			continue
		}
		raw, ok := o.Answers[x.For]
		if ok {
			if values[x.For], err = literal(e, x, raw); err != nil {
				return nil, nil, err
			}
			said = append(said, x.For+" = "+raw)
		}
		if o.Home && !ok || ok && o.Answered == nil {
			continue
		}
		n, err := db.Count(ctx, x.Query)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: the query of the parameter %s failed: %w", m.ID, x.Name, err)
		}
		if ok {
			o.Answered(x.For, n)
		} else if n > 0 {
			open = append(open, Need{For: x.For, Type: x.Type, Home: x.Home, Rows: n})
		}
	}
	if len(open) > 0 {
		return nil, nil, &NeedsAnswers{Migration: m.ID, Needs: open}
	}
	return values, said, nil
}

func literal(e Engine, x engine.Parameter, raw string) (string, error) {
	typ := schema.ParseType(x.Type)
	v, err := schema.ReadValue(raw, typ)
	if err != nil {
		return "", fmt.Errorf("the value for %s: %w", x.For, err)
	}
	return e.SQL().Literal(v, typ)
}

// ForUndo is a migration with the values that its undo was given, by table.column as
// people type them.
func ForUndo(e Engine, m *migration.Migration, given map[string]string) (*migration.Migration, error) {
	values, err := undoValues(e, m, given)
	if err != nil {
		return nil, err
	}
	return m.Bound(e, nil, values), nil
}

// undoValues are the values that an undo was given for rows it has nothing kept
// for.
func undoValues(e Engine, m *migration.Migration, given map[string]string) (map[string]string, error) {
	out := map[string]string{}
	for _, x := range m.Parameters {
		raw, ok := given[x.For]
		if !x.Undo || !ok {
			continue
		}
		if sql, ok := strings.CutPrefix(raw, "sql:"); ok {
			out[x.For] = "(" + sql + ")"
			continue
		}
		var err error
		if out[x.For], err = literal(e, x, raw); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// UnusedFills is an error for a value for a column that no undo brings back.
func UnusedFills(list []*migration.Migration, given map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(given)) {
		used := slices.ContainsFunc(list, func(m *migration.Migration) bool {
			return slices.ContainsFunc(m.Parameters,
				func(x engine.Parameter) bool { return x.Undo && x.For == name })
		})
		if !used {
			return fmt.Errorf("--fill %s matches nothing: no undo here restores a required column %s", name, name)
		}
	}
	return nil
}
