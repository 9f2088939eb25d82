package apptypes

// This file says which files on disk the types go into, and what of them is out of date.

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Change is what becomes of one file on disk.
type Change struct {
	Path string
	Sign string // + new, ~ changed, - no longer written; empty: as it is
	Text string
}

// Compare says what writing files to a path would change there. Of several files the path is their
// folder, and an existing file that was written for a type that no longer exists is dropped. A file that
// the program did not write is an error: nothing overwrites it.
func Compare(files []File, path string, ours bool) ([]Change, error) {
	info, err := os.Stat(path)
	folder := err == nil && info.IsDir() || strings.HasSuffix(path, "/") ||
		strings.HasSuffix(path, string(filepath.Separator))
	if len(files) > 1 && !folder && (err == nil || filepath.Ext(path) != "") {
		return nil, fmt.Errorf("%s is a file, and each type has a file of its own: name a folder", path)
	}
	var out []Change
	written := map[string]bool{}
	for _, f := range files {
		at := path
		if folder || len(files) > 1 {
			at = filepath.Join(path, f.Name)
		}
		c := Change{Path: at, Text: f.Text, Sign: "~"}
		written[filepath.Base(at)] = true
		old, err := os.ReadFile(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			c.Sign = "+"
		case err != nil:
			return nil, err
		case string(old) == f.Text:
			c.Sign = ""
		case ours && !begins(string(old)):
			return nil, fmt.Errorf("%s was not written by erbario types: move it away, or name another file", at)
		}
		out = append(out, c)
	}
	if len(files) < 2 {
		return out, nil
	}
	there, err := filepath.Glob(filepath.Join(path, "*"+filepath.Ext(files[0].Name)))
	if err != nil {
		return nil, err
	}
	slices.Sort(there)
	for _, at := range there {
		if old, err := os.ReadFile(at); err == nil && !written[filepath.Base(at)] && begins(string(old)) {
			out = append(out, Change{Path: at, Sign: "-"})
		}
	}
	return out, nil
}

// begins reports whether a text begins as the program begins its files.
func begins(text string) bool {
	for i, line := range strings.SplitN(text, "\n", 5) {
		if i < 4 && strings.Contains(line, "enerated") && strings.Contains(line, "by erbario types") {
			return true
		}
	}
	return false
}
