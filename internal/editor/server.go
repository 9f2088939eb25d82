// Package editor is a language server: it answers editors that speak the Language Server Protocol 3.17
// about the files of a project.
//
//	err := editor.Serve(ctx, engines.All(), os.Stdin, os.Stdout)
//
// Messages are answered in their order, on one goroutine; what takes longer, the check of a whole
// project, is done on another, and only for what the files say at its end. Nothing is written to disk but
// renames.toml and, when somebody asks for it, a migration.
package editor

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/sourcegraph/jsonrpc2"

	"erbario/internal/engine"
)

// Server is one run of the language server.
type Server struct {
	engines engine.Registry
	conn    *jsonrpc2.Conn
	version string

	mu       sync.Mutex
	docs     map[string]*document // the open ones, by URI
	projects map[string]*workspace
	snippets bool
	watched  bool // the client reports files that change outside of it
	closing  bool
	checks   sync.WaitGroup
	outgoing outgoing
}

// outgoing are messages to the client that nobody asked for, in their order: a client that does not read for a
// while holds nothing up.
type outgoing struct {
	mu   sync.Mutex
	list []func()
	busy bool
}

// send sends a message after those that wait.
func (o *outgoing) send(message func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.list = append(o.list, message); o.busy {
		return
	}
	o.busy = true
	go func() {
		for {
			o.mu.Lock()
			if len(o.list) == 0 {
				o.busy = false
				o.mu.Unlock()
				return
			}
			next := o.list[0]
			o.list = o.list[1:]
			o.mu.Unlock()
			next()
		}
	}()
}

// Serve answers one client until it ends, or its process does.
func Serve(ctx context.Context, engines engine.Registry, version string, in io.Reader, out io.Writer) error {
	s := &Server{
		engines: engines, version: version, docs: map[string]*document{}, projects: map[string]*workspace{},
	}
	stream := jsonrpc2.NewBufferedStream(pipe{in, out}, jsonrpc2.VSCodeObjectCodec{})
	s.mu.Lock() // until the connection is known
	s.conn = jsonrpc2.NewConn(ctx, stream, jsonrpc2.HandlerWithError(s.handle).SuppressErrClosed())
	s.mu.Unlock()
	select {
	case <-s.conn.DisconnectNotify():
	case <-ctx.Done():
		s.conn.Close()
	}
	s.checks.Wait()
	return nil
}

// pipe is what a client writes to, and reads from.
type pipe struct {
	io.Reader
	io.Writer
}

// Close lets the connection end; standard input and output stay as they are.
func (pipe) Close() error { return nil }

// handle answers one message.
func (s *Server) handle(ctx context.Context, conn *jsonrpc2.Conn, r *jsonrpc2.Request) (result any, err error) {
	defer func() {
		if p := recover(); p != nil { // one answer is lost, and the next can be given
			err = fmt.Errorf("%s failed: %v", r.Method, p)
		}
	}()
	s.mu.Lock()
	defer s.mu.Unlock()
	answer, known := handlers[r.Method]
	if !known {
		if r.Notif || strings.HasPrefix(r.Method, "$/") {
			return nil, nil
		}
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: r.Method + " is not known here"}
	}
	return answer(s, ctx, r)
}

// handler answers one kind of message.
type handler func(*Server, context.Context, *jsonrpc2.Request) (any, error)

// handlers are the answers, by method.
var handlers = map[string]handler{
	"initialize":  answer((*Server).initialize),
	"initialized": answer(func(s *Server, _ struct{}) any { s.watch(); return nil }),
	"shutdown":    answer(func(s *Server, _ struct{}) any { s.closing = true; return nil }),
	"exit":        func(s *Server, _ context.Context, _ *jsonrpc2.Request) (any, error) { return nil, s.conn.Close() },

	"textDocument/didOpen":            answer(func(s *Server, p didOpenParams) any { s.open(p); return nil }),
	"textDocument/didChange":          answer(func(s *Server, p didChangeParams) any { s.change(p); return nil }),
	"textDocument/didSave":            answer(func(s *Server, p ofDocument) any { s.saved(p); return nil }),
	"textDocument/didClose":           answer(func(s *Server, p ofDocument) any { s.close(p); return nil }),
	"workspace/didChangeWatchedFiles": answer(func(s *Server, _ struct{}) any { s.reread(); return nil }),

	"textDocument/completion":        at((*workspace).complete),
	"textDocument/hover":             at((*workspace).hover),
	"textDocument/definition":        at((*workspace).definition),
	"textDocument/references":        at((*workspace).references),
	"textDocument/documentHighlight": at((*workspace).highlights),
	"textDocument/prepareRename":     at((*workspace).renamable),
	"textDocument/rename":            (*Server).rename,

	"textDocument/documentSymbol":      of((*workspace).outline),
	"textDocument/foldingRange":        of((*workspace).folding),
	"textDocument/formatting":          of((*workspace).format),
	"textDocument/documentLink":        of((*workspace).links),
	"textDocument/inlayHint":           of((*workspace).hints),
	"textDocument/semanticTokens/full": of((*workspace).tokens),
	"textDocument/onTypeFormatting":    at((*workspace).formatAbove),
	"textDocument/selectionRange":      (*Server).selections,
	"textDocument/codeAction":          (*Server).actions,
	"workspace/symbol":                 (*Server).symbols,
	"workspace/executeCommand":         answer(func(s *Server, p commandParams) any { s.command(p); return nil }),
}

// answer reads the parameters of a message.
func answer[P any](f func(*Server, P) any) handler {
	return func(s *Server, _ context.Context, r *jsonrpc2.Request) (any, error) {
		p, err := params[P](r)
		if err != nil {
			return nil, err
		}
		return f(s, p), nil
	}
}

func params[P any](r *jsonrpc2.Request) (p P, err error) {
	if r.Params == nil {
		return p, nil
	}
	if err := json.Unmarshal(*r.Params, &p); err != nil {
		return p, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: err.Error()}
	}
	return p, nil
}

// at answers about a place in a document of a project, and of about one as a whole.
func at(f func(*workspace, *document, position) any) handler {
	return answer(func(s *Server, p atPosition) any {
		if d, w := s.document(p.TextDocument.URI); w != nil {
			return f(w, d, p.Position)
		}
		return nil
	})
}

func of(f func(*workspace, *document) any) handler {
	return answer(func(s *Server, p ofDocument) any {
		if d, w := s.document(p.TextDocument.URI); w != nil {
			return f(w, d)
		}
		return nil
	})
}

// tokenTypes are those of semantic tokens, by their number.
var tokenTypes = []string{"class", "property", "enum", "enumMember", "interface", "function"}

func (s *Server) initialize(p initializeParams) any {
	s.watched = p.Capabilities.Workspace.DidChangeWatchedFiles.DynamicRegistration
	s.snippets = p.Capabilities.TextDocument.Completion.CompletionItem.SnippetSupport
	if p.ProcessID != nil && *p.ProcessID > 1 {
		go s.outlive(*p.ProcessID)
	}
	return map[string]any{
		"serverInfo": map[string]any{"name": "erbario", "version": s.version},
		"capabilities": map[string]any{
			"positionEncoding":                 "utf-16",
			"textDocumentSync":                 map[string]any{"openClose": true, "change": 2, "save": true},
			"completionProvider":               map[string]any{"triggerCharacters": []string{" ", "{", "("}},
			"hoverProvider":                    true,
			"definitionProvider":               true,
			"referencesProvider":               true,
			"documentHighlightProvider":        true,
			"documentSymbolProvider":           true,
			"workspaceSymbolProvider":          true,
			"foldingRangeProvider":             true,
			"selectionRangeProvider":           true,
			"documentFormattingProvider":       true,
			"documentOnTypeFormattingProvider": map[string]any{"firstTriggerCharacter": "\n"},
			"documentLinkProvider":             map[string]any{},
			"inlayHintProvider":                true,
			"codeActionProvider":               map[string]any{"codeActionKinds": []string{"quickfix"}},
			"executeCommandProvider":           map[string]any{"commands": []string{draftCommand}},
			"renameProvider":                   map[string]any{"prepareProvider": true},
			"semanticTokensProvider": map[string]any{
				"legend": map[string]any{"tokenTypes": tokenTypes, "tokenModifiers": []string{}}, "full": true,
			},
		},
	}
}

// outlive ends when the client's process has, which may leave the connection open.
func (s *Server) outlive(process int) {
	for {
		select {
		case <-s.conn.DisconnectNotify():
			return
		case <-time.After(3 * time.Second):
		}
		if !alive(process) {
			s.conn.Close()
			return
		}
	}
}

// alive reports whether a process runs.
func alive(process int) bool {
	p, err := os.FindProcess(process)
	if err != nil {
		return false
	}
	return signalled(p)
}

// watch asks the client to report files that change outside of it.
func (s *Server) watch() {
	if !s.watched {
		return
	}
	var watchers []map[string]any
	for _, glob := range []string{"**/models/**", "**/erbario.toml", "**/migrations/*.sql"} {
		watchers = append(watchers, map[string]any{"globPattern": glob})
	}
	go s.conn.Call(context.Background(), "client/registerCapability", map[string]any{
		"registrations": []map[string]any{{
			"id": "files", "method": "workspace/didChangeWatchedFiles",
			"registerOptions": map[string]any{"watchers": watchers},
		}},
	}, nil)
}

func (s *Server) open(p didOpenParams) {
	s.docs[p.TextDocument.URI] = newDocument(p.TextDocument.URI, p.TextDocument.Text, p.TextDocument.Version)
	s.changed(p.TextDocument.URI)
}

func (s *Server) change(p didChangeParams) {
	if d := s.docs[p.TextDocument.URI]; d != nil {
		d.apply(p.ContentChanges)
		d.version = p.TextDocument.Version
		if w := s.workspaceOf(d.path); w != nil {
			w.live = nil // it was said of other lines
		}
		s.changed(d.uri)
	}
}

func (s *Server) close(p ofDocument) {
	d, w := s.document(p.TextDocument.URI)
	delete(s.docs, p.TextDocument.URI)
	if w != nil {
		w.forget(d)
		w.recheck()
	}
}

// changed checks what a document belongs to.
func (s *Server) changed(uri string) {
	if d, w := s.document(uri); w != nil {
		w.update(d)
		w.recheck()
	}
}

// saved checks what a document belongs to, and asks the rows.
func (s *Server) saved(p ofDocument) {
	if d, w := s.document(p.TextDocument.URI); w != nil {
		w.update(d)
		w.recheck()
		w.askRows()
	}
}

// commandParams name a command, and the document that it is about.
type commandParams struct {
	Command   string   `json:"command"`
	Arguments []string `json:"arguments"`
}

func (s *Server) command(p commandParams) {
	if p.Command != draftCommand || len(p.Arguments) != 1 {
		return
	}
	if _, w := s.document(p.Arguments[0]); w != nil {
		w.draft()
	}
}

// reread reads all projects again: something changed on disk.
func (s *Server) reread() {
	for _, w := range s.projects {
		w.reload()
		w.recheck()
	}
}

// document is an open document with its project; nil: it belongs to none.
func (s *Server) document(uri string) (*document, *workspace) {
	d := s.docs[uri]
	if d == nil || d.path == "" {
		return nil, nil
	}
	return d, s.workspaceOf(d.path)
}
