package cli

// This file writes the files that commands make over their own earlier ones, and over nobody else's.

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"erbario/internal/project"
)

// writeOwn writes a file, unless it exists and a command has not written it; sign says what became of it.
func writeOwn(path, text, command string, ours func(string) bool) (sign string, err error) {
	old, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		sign = "+"
	case err != nil:
		return "", err
	case string(old) == text:
		return "", nil
	case !ours(string(old)):
		return "", fmt.Errorf("%s was not written by %s: move it away, or name another file", path, command)
	default:
		sign = "~"
	}
	return sign, project.WriteFile(path, text)
}

// tellFile reports a file that was written.
func (a *app) tellFile(path, sign, what string) {
	if sign == "" {
		a.out.line(path + "  unchanged")
		return
	}
	a.out.line(a.out.sign(sign, path) + "  " + what)
}
