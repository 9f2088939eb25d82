package editor_test

// A client for tests: it speaks to a server over pipes, and waits for what it publishes.

import (
	"context"
	"encoding/json"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/sourcegraph/jsonrpc2"
	"github.com/stretchr/testify/require"

	"erbario/internal/editor"
	"erbario/internal/engines"
)

type pos struct {
	Line      int `json:"line"`
	Character int `json:"character"`
}

type rng struct {
	Start pos `json:"start"`
	End   pos `json:"end"`
}

type edit struct {
	Range   rng    `json:"range"`
	NewText string `json:"newText"`
}

type diag struct {
	Range    rng    `json:"range"`
	Severity int    `json:"severity"`
	Code     string `json:"code"`
	Source   string `json:"source"`
	Message  string `json:"message"`
}

type client struct {
	t         *testing.T
	dir       string
	conn      *jsonrpc2.Conn
	mu        sync.Mutex
	changed   *sync.Cond
	diags     map[string][]diag
	versions  map[string]int // of what was published last
	version   map[string]int // of what was sent last
	published int
	messages  chan string
	done      chan error
}

type pipes struct {
	io.Reader
	io.Writer
}

func (pipes) Close() error { return nil }

// begin starts a server on a project with some files.
func begin(t *testing.T, files map[string]string) *client {
	dir := t.TempDir()
	if files["erbario.toml"] == "" {
		files["erbario.toml"] = "language = 1\n[database.dev]\nurl = \"sqlite:a.db\"\nthrowaway = true\n"
	}
	c := &client{t: t, dir: dir, diags: map[string][]diag{}, versions: map[string]int{}, version: map[string]int{},
		messages: make(chan string, 10)}
	c.changed = sync.NewCond(&c.mu)
	for name, text := range files {
		c.write(name, text)
	}
	fromServer, toClient, err := os.Pipe()
	require.NoError(t, err)
	fromClient, toServer, err := os.Pipe()
	require.NoError(t, err)
	c.done = make(chan error, 1)
	go func() {
		c.done <- editor.Serve(context.Background(), engines.All(), "test", fromClient, toClient)
		toClient.Close()
	}()
	c.conn = jsonrpc2.NewConn(context.Background(),
		jsonrpc2.NewBufferedStream(pipes{fromServer, toServer}, jsonrpc2.VSCodeObjectCodec{}),
		jsonrpc2.HandlerWithError(func(_ context.Context, _ *jsonrpc2.Conn, r *jsonrpc2.Request) (any, error) {
			if r.Method == "textDocument/publishDiagnostics" {
				var p struct {
					URI         string
					Version     int
					Diagnostics []diag
				}
				if err := json.Unmarshal(*r.Params, &p); err != nil {
					return nil, err
				}
				c.mu.Lock()
				c.diags[p.URI], c.versions[p.URI] = p.Diagnostics, p.Version
				c.published++
				c.mu.Unlock()
				c.changed.Broadcast()
			}
			if r.Method == "window/showMessage" {
				var p struct{ Message string }
				if err := json.Unmarshal(*r.Params, &p); err != nil {
					return nil, err
				}
				c.messages <- p.Message
			}
			return nil, nil
		}))
	var answer struct {
		Capabilities map[string]any
	}
	c.call("initialize", map[string]any{"processId": os.Getpid(), "rootUri": c.uri(""), "capabilities": map[string]any{
		"textDocument": map[string]any{"completion": map[string]any{"completionItem": map[string]any{"snippetSupport": true}}}}}, &answer)
	require.NotEmpty(t, answer.Capabilities)
	c.notify("initialized", map[string]any{})
	t.Cleanup(func() {
		c.call("shutdown", nil, nil)
		c.notify("exit", nil)
		select {
		case err := <-c.done:
			require.NoError(t, err)
		case <-time.After(10 * time.Second):
			t.Error("the server does not end")
		}
	})
	return c
}

func (c *client) write(name, text string) {
	path := filepath.Join(c.dir, filepath.FromSlash(name))
	require.NoError(c.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(c.t, os.WriteFile(path, []byte(text), 0o644))
}

func (c *client) uri(name string) string {
	return (&url.URL{Scheme: "file", Path: filepath.ToSlash(filepath.Join(c.dir, name))}).String()
}

func (c *client) call(method string, params, result any) {
	require.NoError(c.t, c.conn.Call(context.Background(), method, params, result), method)
}

func (c *client) notify(method string, params any) {
	require.NoError(c.t, c.conn.Notify(context.Background(), method, params))
}

// open opens a file with a text, and returns what is wrong with it.
func (c *client) open(name, text string) []diag {
	c.version[name]++
	c.notify("textDocument/didOpen", map[string]any{"textDocument": map[string]any{
		"uri": c.uri(name), "languageId": "erbario", "version": c.version[name], "text": text}})
	return c.wrong(name)
}

// change sends changes, and does not wait.
func (c *client) change(name string, changes ...map[string]any) {
	c.version[name]++
	c.notify("textDocument/didChange", map[string]any{
		"textDocument": map[string]any{"uri": c.uri(name), "version": c.version[name]}, "contentChanges": changes})
}

// wrong waits for what is published of the version that was sent last.
func (c *client) wrong(name string) []diag {
	c.t.Helper()
	deadline := time.AfterFunc(20*time.Second, c.changed.Broadcast)
	defer deadline.Stop()
	began := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	for c.versions[c.uri(name)] != c.version[name] {
		if time.Since(began) > 19*time.Second {
			c.t.Fatalf("nothing is published of %s, version %d", name, c.version[name])
		}
		c.changed.Wait()
	}
	return c.diags[c.uri(name)]
}

func (c *client) at(name string, p pos) map[string]any {
	return map[string]any{"textDocument": map[string]any{"uri": c.uri(name)}, "position": p}
}

// message waits for what the server has to say.
func (c *client) message() string {
	select {
	case m := <-c.messages:
		return m
	case <-time.After(20 * time.Second):
		c.t.Fatal("the server says nothing")
		return ""
	}
}

func (c *client) of(name string) map[string]any {
	return map[string]any{"textDocument": map[string]any{"uri": c.uri(name)}}
}

// cursor takes a text with a | where the cursor is.
func cursor(text string) (string, pos) {
	before, after, _ := strings.Cut(text, "|")
	line := strings.Count(before, "\n")
	return before + after, pos{line, utf16(before[strings.LastIndexByte(before, '\n')+1:])}
}

func utf16(s string) (n int) {
	for _, r := range s {
		if n++; r > 0xffff {
			n++
		}
	}
	return n
}

// applied is a text with edits made.
func applied(text string, edits []edit) string {
	lines := strings.SplitAfter(text, "\n")
	offset := func(p pos) int {
		off := 0
		for _, l := range lines[:min(p.Line, len(lines))] {
			off += len(l)
		}
		if p.Line >= len(lines) {
			return off
		}
		n := 0
		for i, r := range lines[p.Line] {
			if n >= p.Character {
				return off + i
			}
			if n++; r > 0xffff {
				n++
			}
		}
		return off + len(strings.TrimRight(lines[p.Line], "\r\n"))
	}
	for i := len(edits) - 1; i >= 0; i-- { // from the end, since they are in order
		e := edits[i]
		text = text[:offset(e.Range.Start)] + e.NewText + text[offset(e.Range.End):]
	}
	return text
}

// quiet waits until nothing has been published for a while.
func (c *client) quiet() {
	for {
		c.mu.Lock()
		before := c.published
		c.mu.Unlock()
		time.Sleep(20 * time.Millisecond)
		c.mu.Lock()
		same := before == c.published
		c.mu.Unlock()
		if same {
			return
		}
	}
}
