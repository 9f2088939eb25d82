package editor_test

// Random edits: after each the server has found what a fresh parse of the file finds, at the same places, and now
// and then what a fresh server finds in the whole project. ERBARIO_EDITS says how many.

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/lang"
)

// pieces are what is inserted: words of the language, halves of them, and signs that are two units of UTF-16.
var pieces = []string{"model", "model Box", "\n", "\r\n", "    ", " ", "text(40)", "text", "references Taxon", "Taxon", "optional", "unique",
	"default", "\"", "{", "}", "(", ")", "#", ":", "\U0001d54f", "é", "日", "range 1..", "check {number} > 0", "x", "no key", "timestamps", ",",
	"choice Rarity: a, b", "Rarity", "seed s\n    Taxon 3", "rows Taxon by name\n    name\n    \"a\"", "include numbered", "9", "-", "\t"}

func TestSoak(t *testing.T) {
	edits := 2000
	if s := os.Getenv("ERBARIO_EDITS"); s != "" {
		edits, _ = strconv.Atoi(s)
	}
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	files, names := map[string]string{}, []string{}
	for i := range 20 {
		name := fmt.Sprintf("models/m%d.erbario", i)
		names = append(names, name)
		files[name] = fmt.Sprintf("# Model %d: \U0001d54f\nmodel Model%d\n    name text(40) unique\n    number integer optional\n    other references Model%d optional\n",
			i, i, (i*7+1)%20)
		if i%5 == 0 {
			files[name] = strings.ReplaceAll(files[name], "\n", "\r\n")
		}
	}
	files["models/shape.erbario"] = "shape numbered\n    serial_no integer\n\nchoice Rarity: a, b\n\nmodel Taxon\n    name text unique\n"
	texts := map[string]string{}
	for n, text := range files {
		texts[n] = text
	}
	c := begin(t, files)
	for _, n := range names {
		c.open(n, texts[n])
	}
	for k := range edits {
		name := names[r.IntN(len(names))]
		text := texts[name]
		lines := strings.Split(text, "\n")
		line := r.IntN(len(lines))
		at := strings.TrimSuffix(lines[line], "\r")
		runes := []rune(at)
		from := r.IntN(len(runes) + 1)
		to := min(len(runes), from+[]int{0, 0, 1, 3, 40}[r.IntN(5)])
		piece := pieces[r.IntN(len(pieces))]
		if r.IntN(3) == 0 {
			piece = ""
		}
		change := map[string]any{"range": rng{pos{line, utf16(string(runes[:from]))}, pos{line, utf16(string(runes[:to]))}}, "text": piece}
		lines[line] = string(runes[:from]) + piece + string(runes[to:]) + lines[line][len(at):]
		texts[name] = strings.Join(lines, "\n")
		if r.IntN(40) == 0 || len(texts[name]) > 3000 { // all again
			texts[name] = files[name]
			change = map[string]any{"text": texts[name]}
		}
		c.change(name, change)
		if r.IntN(3) == 0 { // several before one looks
			continue
		}
		found := c.wrong(name)
		for _, want := range parsed(name, texts[name]) {
			require.Contains(t, found, want, "seed %d, edit %d, %s\n%q", seed, k, name, texts[name])
		}
		if k%100 == 99 {
			c.compare(names, texts, seed, k)
		}
	}
	c.compare(names, texts, seed, edits)
}

// parsed are the errors that a fresh parse finds, where an editor marks them.
func parsed(name, text string) (out []diag) {
	unix := strings.ReplaceAll(text, "\r\n", "\n")
	_, diags := lang.Parse(name, unix)
	for _, d := range diags {
		if d.Pos.End <= d.Pos.Off || d.Warning {
			continue
		}
		place := func(off int) pos {
			before := unix[:off]
			line := strings.Count(before, "\n")
			return pos{line, utf16(before[strings.LastIndexByte(before, '\n')+1:])}
		}
		message := d.Message
		if d.Hint != "" {
			message += "; " + d.Hint
		}
		out = append(out, diag{rng{place(d.Pos.Off), place(d.Pos.End)}, 1, "model", "erbario", message})
	}
	return out
}

// compare holds all that is published against what a server finds that sees the texts for the first time.
func (c *client) compare(names []string, texts map[string]string, seed uint64, k int) {
	c.t.Helper()
	files := map[string]string{}
	for n, text := range texts {
		files[n] = text
	}
	for _, n := range names {
		c.wrong(n)
	}
	fresh := begin(c.t, files)
	for _, n := range names {
		fresh.open(n, texts[n])
	}
	for _, n := range names {
		sorted := func(list []diag) []diag {
			list = slices.Clone(list)
			slices.SortFunc(list, func(a, b diag) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
			return list
		}
		require.Equal(c.t, sorted(fresh.settled(n)), sorted(c.settled(n)), "seed %d, edit %d, %s\n%q", seed, k, n, texts[n])
	}
}

// settled is what is wrong with a file once all that was sent is looked at: a change of another file is, too.
func (c *client) settled(name string) []diag {
	c.call("textDocument/hover", c.at(name, pos{}), new(any))
	c.quiet()
	return c.wrong(name)
}
