package cli

// The conversation at a terminal, on a real one: a pseudo-terminal whose other
// side is the test.

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"erbario/internal/engines"
	"erbario/internal/testserver"
)

// terminal is a pseudo-terminal, and all that was drawn on it.
type terminal struct {
	t           *testing.T
	master, tty *os.File
	lock        sync.Mutex
	drawn       bytes.Buffer
	seen        int
}

func newTerminal(t *testing.T) *terminal {
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0))
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	require.NoError(t, err)
	tty, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetWinsize(int(tty.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: 120}))
	term := &terminal{t: t, master: master, tty: tty}
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := master.Read(buf)
			if err != nil {
				return
			}
			term.lock.Lock()
			term.drawn.Write(buf[:n])
			term.lock.Unlock()
		}
	}()
	t.Cleanup(func() { tty.Close(); master.Close() })
	return term
}

// wait waits until text is drawn behind what was waited for before.
func (p *terminal) wait(text string) {
	for range 1000 {
		p.lock.Lock()
		i := strings.Index(p.drawn.String()[p.seen:], text)
		if i >= 0 {
			p.seen += i + len(text)
		}
		p.lock.Unlock()
		if i >= 0 {
			time.Sleep(100 * time.Millisecond) // the rest of the frame
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	p.lock.Lock()
	defer p.lock.Unlock()
	p.t.Fatalf("%q was not drawn behind\n%q\nin\n%q", text, p.drawn.String()[p.seen:], p.drawn.String())
}

// send presses keys for which nothing is drawn.
func (p *terminal) send(keys ...string) {
	for _, k := range keys {
		time.Sleep(20 * time.Millisecond)
		_, err := p.master.WriteString(k)
		require.NoError(p.t, err)
	}
	time.Sleep(100 * time.Millisecond)
}

// press presses keys one after the other, as fingers do: each until something is
// drawn for it, since what is pressed before a form listens is lost.
func (p *terminal) press(keys ...string) {
	drawn := func() int {
		p.lock.Lock()
		defer p.lock.Unlock()
		return p.drawn.Len()
	}
	for _, k := range keys {
		before := drawn()
		for try := 0; drawn() == before; try++ {
			require.Less(p.t, try, 10, "nothing is drawn for the key %q", k)
			_, err := p.master.WriteString(k)
			require.NoError(p.t, err)
			for wait := 0; drawn() == before && wait < 100; wait++ {
				time.Sleep(10 * time.Millisecond)
			}
		}
		time.Sleep(30 * time.Millisecond) // the rest of what is drawn
	}
}

const (
	enter = "\r"
	down  = "\x1b[B"
	erase = "\x7f"
)

func TestConversation(t *testing.T) {
	p := evolve(t, testserver.At(t, "sqlite"))
	p.write("models/m.erbario", "model Specimen\n    code text(9)\n    label text(20) optional\n")
	p.must("draft", "first")
	p.must("apply")
	p.exec("INSERT INTO specimens (code, label) VALUES ('a', 'x'), ('a', 'y');")
	p.write("models/m.erbario",
		"model Specimen\n    code text(9)\n    title text(20) optional\n    shelf integer\n    wing text(9)\n")
	term := newTerminal(t)
	code := make(chan int)
	run := func(args ...string) {
		go func() {
			code <- Main(engines.All(), append([]string{"erbario", "-C", p.dir}, args...), term.tty, &bytes.Buffer{}, term.tty)
		}()
	}

	// Stopped, nothing is written.
	run("draft", "sheets")
	term.wait("specimens.shelf is required")
	term.wait("make it optional")
	term.press("\x03")
	require.Equal(t, exitQuestion, <-code)

	// A value that is none is told, and asked for again; a default and a rename. Letters are
	// no answer, and Enter behind them is none either.
	run("draft", "sheets")
	term.wait("question 1 of 3:")
	term.wait("specimens.shelf is required")
	term.wait("make it optional")
	term.send("w", "e", "s", "t", enter)
	term.press(down, "\x1b[A", enter)
	term.wait("value for shelf, integer:")
	term.press("m", "a", "n", "y", enter)
	term.wait("not a number")
	term.press(erase, erase, erase, erase, "7", enter)
	term.wait("--fill specimens.shelf=7")
	term.wait("question 2 of 3:")
	term.wait("specimens.wing is required")
	term.wait("make it optional")
	term.press(down, down, down, enter)
	term.wait("value for wing, text(9):")
	term.press("m", "u", "c", "h", " ", "t", "o", "o", " ", "l", "o", "n", "g", enter)
	term.wait("this text has 13 characters and wing holds 9")
	term.press(slices.Repeat([]string{erase}, 13)...)
	term.press("w", "e", "s", "t", enter)
	term.wait("--default specimens.wing=west")
	term.wait("specimens.label is no longer declared")
	term.wait("renamed to title")
	term.press(enter)
	term.wait("--rename specimens.label=title")
	require.Equal(t, exitDone, <-code)
	text, err := os.ReadFile(p.dir + "/models/m.erbario")
	require.NoError(t, err)
	require.Contains(t, string(text), `default "west"`)
	p.must("apply")
	require.Contains(t, p.rows(), "1, 'a', 'x', 7, 'west'")

	// Yes or no.
	p.write("models/m.erbario", strings.Replace(string(text), "    shelf integer\n", "", 1))
	p.must("draft", "no shelves", "--drop", "specimens.shelf", "--apply")
	run("kept", "drop")
	term.wait("permanently?")
	term.press("n")
	require.Equal(t, exitFailed, <-code)
	run("kept", "drop")
	term.wait("permanently?")
	term.press("y")
	require.Equal(t, exitDone, <-code)
	require.Contains(t, p.must("kept", "list"), "nothing is kept")
}
