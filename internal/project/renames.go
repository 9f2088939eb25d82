package project

// This file is renames.toml: what was renamed in an editor since the last draft, so that the next one need
// not ask. It is committed with the models.

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// RenamesFile is its name, next to the settings.
const RenamesFile = "renames.toml"

// Renamed is one rename, of a table, of a column or of a value of a choice.
type Renamed struct {
	From string `toml:"from"` // as the database has it: TABLE, TABLE.COLUMN or TABLE.COLUMN.VALUE
	To   string `toml:"to"`   // the new name of the table, of the column or of the value
}

// Flag is the value of --rename that says the same.
func (r Renamed) Flag() string { return r.From + "=" + r.To }

const renamesHead = "# What was renamed in an editor: the next draft uses it as --rename, and removes it.\n"

// Renames reads what was renamed; none where there is no such file.
func (p *Project) Renames() ([]Renamed, error) { return readRenames(filepath.Join(p.Dir, RenamesFile)) }

func readRenames(path string) ([]Renamed, error) {
	text, err := ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var doc struct {
		Rename []Renamed `toml:"rename"`
	}
	if err == nil {
		err = toml.NewDecoder(strings.NewReader(text)).DisallowUnknownFields().Decode(&doc)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w; correct it, or delete it and answer with --rename", path, err)
	}
	return doc.Rename, nil
}

// NoteRename adds a rename to a file; r is called as the models called it before. What was noted before it is continued
// from there: the name that the database has stays the first, and where it gets that back nothing stays.
func NoteRename(path string, r Renamed) error {
	list, err := readRenames(path)
	if err != nil {
		return err
	}
	parts := strings.SplitN(r.From, ".", 3)
	for n := range parts { // each name as the database has it
		within := strings.Join(parts[:n], ".")
		for _, o := range list {
			if in, last := apart(o.From); in == within && o.To == parts[n] {
				parts[n] = last
				break
			}
		}
	}
	r.From = strings.Join(parts, ".")
	list = slices.DeleteFunc(list, func(o Renamed) bool { return o.From == r.From })
	if _, last := apart(r.From); last != r.To {
		list = append(list, r)
	}
	return writeRenames(path, list)
}

// apart is what a name is in, and the name there.
func apart(from string) (in, last string) {
	parts := strings.SplitN(from, ".", 3)
	return strings.Join(parts[:len(parts)-1], "."), parts[len(parts)-1]
}

// DropRenames removes what a draft has used.
func (p *Project) DropRenames(used []Renamed) error {
	list, err := p.Renames()
	if err != nil || len(used) == 0 {
		return err
	}
	list = slices.DeleteFunc(list, func(r Renamed) bool { return slices.Contains(used, r) })
	return writeRenames(filepath.Join(p.Dir, RenamesFile), list)
}

func writeRenames(path string, list []Renamed) error {
	if len(list) == 0 {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	text, err := toml.Marshal(map[string]any{"rename": list})
	if err != nil {
		return err
	}
	return WriteFile(path, renamesHead+string(text))
}
