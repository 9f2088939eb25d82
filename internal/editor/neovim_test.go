package editor_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/editors"
)

// Neovim is told of the server as the setup text says, and uses it; the draft behind a rename asks nothing.
func TestNeovim(t *testing.T) {
	if os.Getenv("ERBARIO_NEOVIM") == "" {
		t.Skip("in make matrix")
	}
	dir := t.TempDir()
	program := filepath.Join(dir, "bin", "erbario")
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/erbario").CombinedOutput()
	require.NoError(t, err, "%s", out)
	setup, _ := editors.Setup("neovim")
	var config strings.Builder
	for line := range strings.Lines(setup) {
		if strings.HasPrefix(line, "    ") {
			config.WriteString(line)
		}
	}
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	write("init.lua", config.String())
	write("p/erbario.toml", "language = 1\n[database.dev]\nurl = \"sqlite:a.db\"\nthrowaway = true\n")
	write("p/models/sheet.erbario", "model Sheet\n    label text(40) unique\n\nmodel Box\n    sheet references Sheet by label\n")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	run := func(name string, args ...string) string {
		cmd := exec.CommandContext(ctx, name, args...)
		cmd.Dir = filepath.Join(dir, "p")
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "HOME="+dir, "XDG_CONFIG_HOME="+dir+"/c")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run(program, "draft", "first", "--apply")
	write("p/models/sheet.erbario", "model Sheet\n    label txt(40) unique\n\nmodel Box\n    sheet references Sheet by label\n")
	here, err := filepath.Abs("testdata/drive.lua")
	require.NoError(t, err)
	run("nvim", "--headless", "-u", filepath.Join(dir, "init.lua"), "models/sheet.erbario", "-c", "luafile "+here)
	text, err := os.ReadFile(filepath.Join(dir, "p/models/sheet.erbario"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "    title text(40) unique\n    other references Box optional\n")
	assert.Contains(t, string(text), "references Sheet by title")
	assert.Contains(t, run(program, "draft", "second"), "--rename sheets.label=title  (renames.toml)")
}
