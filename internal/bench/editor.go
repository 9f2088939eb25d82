package main

// This file measures the language server on a thousand models, as an editor meets it.

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/sourcegraph/jsonrpc2"
)

// asEditor starts a server, and passes on what it publishes.
func (b *bench) asEditor(dir string) (conn *jsonrpc2.Conn, published chan int) {
	cmd := exec.Command(b.program, "editor")
	cmd.Dir = dir
	in, err := cmd.StdinPipe()
	check(err)
	out, err := cmd.StdoutPipe()
	check(err)
	check(cmd.Start())
	published = make(chan int, 1000)
	heard := func(_ context.Context, _ *jsonrpc2.Conn, r *jsonrpc2.Request) (any, error) {
		if r.Method == "textDocument/publishDiagnostics" {
			var p struct{ Version int }
			check(json.Unmarshal(*r.Params, &p))
			published <- p.Version
		}
		return nil, nil
	}
	stream := jsonrpc2.NewBufferedStream(struct {
		io.Reader
		io.WriteCloser
	}{out, in}, jsonrpc2.VSCodeObjectCodec{})
	conn = jsonrpc2.NewConn(context.Background(), stream, jsonrpc2.HandlerWithError(heard))
	check(conn.Call(context.Background(), "initialize", map[string]any{"capabilities": map[string]any{}}, nil))
	return conn, published
}

func (b *bench) editing() {
	dir := filepath.Join(b.dir, "editing")
	b.write("editing/erbario.toml", "language = 1\n[database.dev]\nurl = \"sqlite:a.db\"\n")
	first := ""
	for i, text := range strings.SplitAfter(thousand(), "\nmodel ") {
		text = strings.TrimSuffix(text, "\nmodel ") + "\n"
		if i > 0 {
			text = "model " + text
		} else {
			first = text
		}
		b.write(fmt.Sprintf("editing/models/m%d.erbario", i), text)
	}
	uri := "file://" + filepath.Join(dir, "models/m0.erbario")
	document := map[string]any{"uri": uri, "version": 1, "languageId": "erbario", "text": first}
	wait := func(published chan int, version int) {
		for <-published < version {
		}
	}
	began := time.Now()
	conn, published := b.asEditor(dir)
	ctx := context.Background()
	check(conn.Notify(ctx, "textDocument/didOpen", map[string]any{"textDocument": document}))
	wait(published, 1)
	row("editor: first diagnostics in 1,000 models of 20 fields", time.Since(began), 0, "≤ 300 ms")
	version := 1
	last := strings.Count(first, "\n") - 1
	end := map[string]any{"line": last, "character": 0}
	place := map[string]any{
		"textDocument": map[string]any{"uri": uri}, "position": map[string]any{"line": last + 1, "character": 4},
	}
	key := func(after func()) time.Duration {
		version++
		began := time.Now()
		check(conn.Notify(ctx, "textDocument/didChange", map[string]any{
			"textDocument":   map[string]any{"uri": uri, "version": version},
			"contentChanges": []any{map[string]any{"range": map[string]any{"start": end, "end": end}, "text": fmt.Sprintf("    f%d text\n", version)}},
		}))
		after()
		return time.Since(began)
	}
	answered := median(31, func() time.Duration {
		return key(func() { check(conn.Call(ctx, "textDocument/completion", place, new(any))) })
	})
	row("editor: a key, answered with a completion", answered, 0, "≤ 30 ms")
	row("editor: a key, and the whole project checked", median(11, func() time.Duration {
		return key(func() { wait(published, version) })
	}), 0, "")
	check(conn.Call(ctx, "shutdown", nil, nil))
	check(conn.Notify(ctx, "exit", nil))
}
