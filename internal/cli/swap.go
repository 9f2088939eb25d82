package cli

// This file puts new migration files in the place of old ones, and back.

import (
	"errors"
	"os"
	"path/filepath"
	"slices"

	"erbario/internal/migration"
	"erbario/internal/project"
)

// swapped are the files of old and new migrations, by path, while the ones take the
// place of the others.
type swapped struct{ now, old map[string]string }

func (r *remaking) swap(list []*migration.Migration) *swapped {
	out := &swapped{now: map[string]string{}, old: map[string]string{}}
	for _, m := range list {
		out.now[filepath.Join(r.p.MigrationsDir(), m.FileName())] = m.Text
	}
	for _, o := range append(slices.Clone(r.old), r.oldElsewhere...) {
		if !o.Direct {
			out.old[o.Path] = o.Text
		}
	}
	return out
}

func (s *swapped) write() error {
	for path, text := range s.now {
		if err := project.WriteFile(path, text); err != nil {
			return err
		}
	}
	return nil
}

// back makes the files as they were.
func (s *swapped) back() error {
	var all error
	for path := range s.now {
		if text, ok := s.old[path]; ok {
			all = errors.Join(all, project.WriteFile(path, text))
		} else if err := os.Remove(path); !errors.Is(err, os.ErrNotExist) {
			all = errors.Join(all, err)
		}
	}
	return all
}

// remove takes the old files away.
func (s *swapped) remove() error {
	var all error
	for path := range s.old {
		if _, again := s.now[path]; !again {
			all = errors.Join(all, os.Remove(path))
		}
	}
	return all
}
