package cli

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWrapped(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"error: this one is short", "error: this one is short"},
		{"error: the table is in use by another session", "error: the table is in\n  use by another session"},
		{"  step 1  change sheets: add label and shelf", "  step 1  change sheets:\n          add label and\n          shelf"},
		{"see --where \"{label} IN ('a', 'b')\" there", "see --where\n  \"{label} IN ('a', 'b')\"\n  there"},
		{"draft --fill 'sheets.label=sql:upper(a, b)' it", "draft --fill\n  'sheets.label=sql:upper(a, b)'\n  it"},
		{"the model's name, and the table's name too", "the model's name, and\n  the table's name too"},
		{"averyveryverylongnamewithoutanyspaces", "averyveryverylongnamewithoutanyspaces"},
		{"\x1b[1mwarning:\x1b[m it is coloured here too", "\x1b[1mwarning:\x1b[m it is coloured\n  here too"},
	} {
		assert.Equal(t, c.want, wrapped(c.text, 24), c.text)
	}
}

// No line is wider than it may be but for a word that is, no word is lost or torn, and what
// fits is left as it is.
func TestWrappedLines(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		words := rapid.SliceOfN(rapid.StringMatching(`[a-zà-ü]{1,9}'?[a-zà-ü]{0,3}`), 1, 30).Draw(rt, "words")
		text := strings.Repeat(" ", rapid.IntRange(0, 8).Draw(rt, "indent"))
		for i, w := range words {
			if i > 0 {
				text += rapid.SampledFrom([]string{" ", "  "}).Draw(rt, "gap")
			}
			text += w
		}
		width := rapid.IntRange(30, 120).Draw(rt, "width")
		got := wrapped(text, width)
		require.Equal(rt, strings.Fields(text), strings.Fields(got))
		if ansi.StringWidth(text) <= width {
			require.Equal(rt, text, got)
		}
		for line := range strings.Lines(got) {
			line = strings.TrimRight(line, "\n")
			if ansi.StringWidth(line) > width {
				require.Len(rt, strings.Fields(line), 1, "%q", line)
			}
		}
	})
}
