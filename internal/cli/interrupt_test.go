package cli

// This file stops the program as a person does who waits for it.

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"erbario/internal/testserver"
)

// lines is what a program said until now.
type lines struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.Write(p)
}

func (l *lines) has(text string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return strings.Contains(l.buf.String(), text)
}

// Behind a network that lets nothing through, Ctrl-C is answered, and a second one ends the
// program at once.
func TestSecondInterrupt(t *testing.T) {
	self, err := os.Executable()
	require.NoError(t, err)
	testserver.Each(t, func(t *testing.T, place testserver.Place) {
		sleep := map[string]string{"postgres": "SELECT pg_sleep(300)", "mariadb": "DO SLEEP(300)"}[place.Name]
		if sleep == "" {
			return // no network
		}
		raw := place.URL(t)
		through, stall := testserver.Stalled(t, raw)
		dir := t.TempDir()
		run := func(said *lines, args ...string) *exec.Cmd {
			cmd := exec.Command(self, args...)
			cmd.Args[0], cmd.Dir, cmd.Stdout, cmd.Stderr = "erbario", dir, said, said
			require.NoError(t, cmd.Start())
			return cmd
		}
		for _, args := range [][]string{{"init", "--url", through}, {"declare", "Sheet", "label text(9)"}, {"draft", "first", "--apply"}, {"draft", "slow", "--by-hand"}} {
			said := &lines{}
			require.NoError(t, run(said, args...).Wait(), said)
		}
		files, err := filepath.Glob(filepath.Join(dir, "migrations", "*slow*"))
		require.NoError(t, err)
		text := read(t, files[0])
		filled := strings.Replace(string(text), "-- : apply\n",
			"-- : apply\nUPDATE sheets SET label = 'x';\n"+sleep+";\n", 1)
		require.NoError(t, os.WriteFile(files[0], []byte(filled), 0o600))
		said := &lines{}
		cmd := run(said, "-v", "apply")
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		require.Eventually(t, func() bool { return said.has("300") }, time.Minute, 20*time.Millisecond, said)
		stall()
		interrupt := func() { _ = cmd.Process.Signal(os.Interrupt) }
		interrupt()
		require.Eventually(t, func() bool { return said.has("Ctrl-C again ends at once") || len(ended) > 0 },
			time.Minute, 20*time.Millisecond, said)
		interrupt()
		select {
		case <-ended:
		case <-time.After(time.Minute):
			_ = cmd.Process.Kill()
			require.Fail(t, "it went on", said)
		}
		// Another run finds the database usable, and nothing of the step in it.
		direct := &lines{}
		require.NoError(
			t,
			os.WriteFile(filepath.Join(dir, "erbario.toml"),
				bytes.ReplaceAll(read(t, filepath.Join(dir, "erbario.toml")), []byte(through), []byte(raw)), 0o600),
		)
		require.NoError(t, run(direct, "look", "sheets").Wait(), direct)
		require.True(t, direct.has("0 rows"), direct)
	})
}

func read(t *testing.T, path string) []byte {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return text
}
