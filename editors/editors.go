// Package editors has what each editor needs to work with Erbario: texts to paste, and a grammar for colours.
//
//	text, ok := editors.Setup("neovim")
package editors

import (
	"embed"
	"slices"
	"strings"
)

//go:embed setup/*.md
var setup embed.FS

// Names are the editors.
func Names() (out []string) {
	list, _ := setup.ReadDir("setup") // of what was built in
	for _, f := range list {
		out = append(out, strings.TrimSuffix(f.Name(), ".md"))
	}
	slices.Sort(out)
	return out
}

// Setup is what goes where for one of them; ok is false for any other.
func Setup(name string) (text string, ok bool) {
	data, err := setup.ReadFile("setup/" + name + ".md")
	return string(data), err == nil
}
