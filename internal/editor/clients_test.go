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

// A session by keystrokes with the protocol's own library; the draft after its rename asks nothing.
func TestKeys(t *testing.T) {
	if os.Getenv("ERBARIO_BROWSER") == "" {
		t.Skip("in make matrix")
	}
	dir, program := t.TempDir(), built(t)
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	write("erbario.toml", "language = 1\n[database.dev]\nurl = \"sqlite:a.db\"\nthrowaway = true\n")
	write("models/sheet.erbario", "model Sheet\n    code text(9) unique\n    title text(40)\n")
	write("models/box.erbario", "model Box\n    sheet references Sheet by code\n    check length({sheet}) > 1\n")
	run := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run(program, "-C", dir, "draft", "first", "--apply")
	run("node", "testdata/keys.mjs", program, dir)
	said := run(program, "-C", dir, "draft", "second")
	assert.Contains(t, said, "--rename sheets.code=number  (renames.toml)")
	assert.Contains(t, said, "--rename boxes.sheet_code=sheet_number  (renames.toml)")
}

// built is the program.
func built(t *testing.T) string {
	program := filepath.Join(t.TempDir(), "bin", "erbario")
	out, err := exec.Command("go", "build", "-o", program, "../../cmd/erbario").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return program
}

// Neovim uses the server as its set-up text says; the draft after a rename asks nothing.
func TestNeovim(t *testing.T) {
	if os.Getenv("ERBARIO_NEOVIM") == "" {
		t.Skip("in make matrix")
	}
	dir, program := t.TempDir(), built(t)
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
