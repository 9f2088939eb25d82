package cli

// The help of every command fits 80 columns, however wide the terminal is, and shows an
// example of the command.

import (
	"bytes"
	"strings"
	"testing"

	"erbario/internal/engines"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

func TestHelp(t *testing.T) {
	a := &app{out: &printer{w: &bytes.Buffer{}}, err: &printer{w: &bytes.Buffer{}}}
	root := a.root()
	require.Greater(t, len(root.Commands), 15)
	var look func(c *cli.Command, path string)
	look = func(c *cli.Command, path string) {
		if c.Hidden || c.Name == "help" || c.Name == "completion" {
			return
		}
		var out bytes.Buffer
		code := Main(engines.All(), append([]string{"erbario"}, append(strings.Fields(path), "--help")...),
			strings.NewReader(""), &out, &out)
		require.Equal(t, exitDone, code, path)
		for line := range strings.Lines(out.String()) {
			require.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), 80, "erbario %s --help: %s", path,
				line)
		}
		if len(c.Commands) == 0 && !strings.Contains(path, " ") {
			require.Regexp(t, `(?m)^  (.*&& )?erbario `+path+`( |$)`, out.String(), "an example of erbario %s", path)
		}
		for _, s := range c.Commands {
			look(s, path+" "+s.Name)
		}
	}
	for _, c := range root.Commands {
		look(c, c.Name)
	}
}
