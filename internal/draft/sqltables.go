package draft

// This file declares the tables of files of SQL: what the server made of them takes the place of what
// models say.

import (
	"context"
	"fmt"
	"slices"

	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/sqlschema"
)

// ReadTables has the tables that files of SQL declare among what is wanted: answers may be about them.
func (s *State) ReadTables(ctx context.Context) error {
	if !slices.ContainsFunc(s.Wanted.Objects, objects.IsTable) {
		return nil
	}
	return s.readSQL(ctx)
}

// putTables declares the tables that files of SQL declare. One that scratch cannot have, for want of a
// module, stays as it is if its file says just this.
func (s *State) putTables() error {
	made := *s.sql.made
	for _, f := range s.sql.made.Failed {
		if !objects.IsTable(f.Object) {
			continue
		}
		there := s.Upcoming.Table(f.Object.Name)
		if made.Has(f.Object.Name) || there == nil || there.Text == "" ||
			objects.WordsOf(s.Engine.SQL(), there.Text) != objects.WordsOf(s.Engine.SQL(), f.Object.SQL) {
			return f
		}
		made.Tables = append(slices.Clone(made.Tables), there)
		if err := s.lacks([]engine.LeftOut{{Kind: "table", Name: there.Name, Err: f.Err}}); err != nil {
			return err
		}
	}
	for _, t := range made.Tables {
		if err := s.changeable(t); err != nil {
			return err
		}
		if w := s.Wanted.Table(t.Name); w != nil && w.Declared != nil {
			for _, c := range w.Columns {
				if t.Column(c.Name) == nil && t.Options.Virtual == "" {
					return fmt.Errorf("the model %s has a field %s, and %s has no column %s: "+
						"write it into the file of SQL that declares it", w.Model(), c.Field(), t.Name, c.Name)
				}
			}
		}
	}
	s.Wanted = made.With(s.Wanted)
	return nil
}

// changeable says why a table cannot become what a file of SQL declares without losing rows.
func (s *State) changeable(t *sqlschema.Table) error {
	there := s.Upcoming.Table(t.Name)
	if there == nil || there.Options.Virtual == t.Options.Virtual {
		return nil
	}
	at := ""
	if o := objects.TableNamed(s.Wanted.Objects, t.Name); o != nil {
		at = fmt.Sprintf("%s:%d: ", o.Path, o.Line)
	}
	switch {
	case (there.Options.Virtual == "") != (t.Options.Virtual == ""):
		return fmt.Errorf("%s%s is an ordinary table on one side and a virtual one on the other: "+
			"give the new one another name", at, t.Name)
	case there.Sealed || t.Sealed:
		return fmt.Errorf("%snobody can read what %s holds, and so it cannot be created again: "+
			"give the new one another name", at, t.Name)
	case !slices.Equal(there.Held, t.Held) && (!there.Searched() || !t.Searched() || len(there.Held)*len(t.Held) == 0):
		return fmt.Errorf("%s%s holds rows, and its columns cannot change: give the new one another name, "+
			"and fill it by a step of your own", at, t.Name)
	}
	return nil
}
