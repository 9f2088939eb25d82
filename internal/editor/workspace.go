package editor

// This file is a project as the editor has it: what is on disk, with the open documents in its place. Only
// what changed is read again.

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"erbario/internal/check"
	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
)

// workspace is one project.
type workspace struct {
	server  *Server
	dir     string
	project *project.Project // nil: its settings cannot be read
	problem string           // why
	cache   *cache
	apart   *cache       // of the checks, which read what is in the files of rows into its trees
	files   []*lang.File // of the last check, or as they were first read
	of      map[string]engineView
	edition int             // counts what changed
	running bool            // a check
	shown   map[string]bool // documents that have diagnostics, by URI
	index   *index          // of the files as they are; nil: not made yet
	live    []found         // what the rows say of the files as they were saved
	asking  bool            // the rows
}

// engineView is what the models declare for one engine, as of the last check without an error.
type engineView struct {
	engine   engine.Engine
	declared *declare.Declared
	wanted   *sqlschema.Schema
}

// cache has what files were parsed to.
type cache struct {
	mu    sync.Mutex
	files map[string]parsedFile
}

type parsedFile struct {
	text  string
	file  *lang.File
	diags []lang.Diagnostic
}

// parse parses a file, unless it is as it was.
func (c *cache) parse(path, text string) (*lang.File, []lang.Diagnostic) {
	c.mu.Lock()
	old, known := c.files[path]
	c.mu.Unlock()
	if known && old.text == text {
		return old.file, slices.Clone(old.diags)
	}
	f, diags := lang.Parse(path, text)
	c.mu.Lock()
	c.files[path] = parsedFile{text, f, diags}
	c.mu.Unlock()
	return f, slices.Clone(diags)
}

// workspaceOf is the project that a file belongs to; nil: none.
func (s *Server) workspaceOf(path string) *workspace {
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if w := s.projects[dir]; w != nil {
			return w
		}
		if exists(filepath.Join(dir, project.SettingsFile)) {
			w := &workspace{
				server: s, dir: dir, shown: map[string]bool{},
				cache: &cache{files: map[string]parsedFile{}}, apart: &cache{files: map[string]parsedFile{}},
			}
			s.projects[dir] = w
			w.reload()
			return w
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

// reload reads the settings and the files from disk.
func (w *workspace) reload() {
	p, err := project.Find(w.server.engines, w.dir)
	w.project, w.problem = p, ""
	if err != nil {
		w.problem = err.Error()
		return
	}
	p.Read = w.cache.parse
	view := w.snapshot()
	w.files, _, _, err = view.Parse()
	if err != nil {
		w.problem = err.Error()
	}
	w.index = nil
}

// snapshot is the project with the open documents in the place of what is on disk.
func (w *workspace) snapshot() *project.Project {
	p := *w.project
	p.Edited = map[string]string{}
	for _, d := range w.server.docs {
		if rel := w.rel(d.path); rel != "" {
			p.Edited[rel] = strings.ReplaceAll(d.text, "\r\n", "\n")
		}
	}
	return &p
}

// rel is the path of a file from the project's folder; empty: it is not in it.
func (w *workspace) rel(path string) string {
	rel, err := filepath.Rel(w.dir, path)
	if err != nil || strings.HasPrefix(rel, "..") {
		return ""
	}
	return filepath.ToSlash(rel)
}

// modelFile reports whether a document is a file of models.
func (w *workspace) modelFile(d *document) bool {
	rel := w.rel(d.path)
	return strings.HasPrefix(rel, project.ModelsFolder+"/") && strings.HasSuffix(rel, project.ModelSuffix)
}

// migrationFile is the engine of a document that is a migration; nil: it is none.
func (w *workspace) migrationFile(d *document) engine.Engine {
	rel := w.rel(d.path)
	if !strings.HasPrefix(rel, project.MigrationsFolder+"/") {
		return nil
	}
	_, name, ok := migration.NameParts(filepath.Base(rel))
	if !ok {
		return nil
	}
	e, err := w.server.engines.ByName(name)
	if err != nil {
		return nil
	}
	return e
}

// update takes what a document says now.
func (w *workspace) update(d *document) {
	if w.project == nil || filepath.Base(d.path) == project.SettingsFile {
		w.reload()
		return
	}
	if !w.modelFile(d) {
		return
	}
	f := w.tree(d)
	i := slices.IndexFunc(w.files, func(o *lang.File) bool { return o.Path == f.Path })
	if w.files = slices.Clone(w.files); i >= 0 {
		w.files[i] = f
	} else {
		w.files = append(w.files, f)
	}
	w.index = nil
}

// forget takes what is on disk instead of a document.
func (w *workspace) forget(*document) { w.reload() }

// tree is what a document was parsed to. It has the lines of the document, and the bytes of one whose lines
// end as on Unix.
func (w *workspace) tree(d *document) *lang.File {
	f, _ := w.cache.parse(w.rel(d.path), strings.ReplaceAll(d.text, "\r\n", "\n"))
	return f
}

// recheck checks the project, on another goroutine; what changes in the meantime is checked after it.
func (w *workspace) recheck() {
	w.edition++
	if w.running || w.server.closing {
		return
	}
	w.running = true
	w.server.checks.Add(1)
	go w.check()
}

// check checks the project until nothing has changed since.
func (w *workspace) check() {
	s := w.server
	defer s.checks.Done()
	s.mu.Lock()
	defer s.mu.Unlock()
	for done := -1; done != w.edition && !s.closing; {
		done = w.edition
		versions := map[string]int{}
		for uri, d := range s.docs {
			versions[uri] = d.version
		}
		if w.project == nil {
			w.publish(map[string][]diagnostic{
				uriOf(filepath.Join(w.dir, project.SettingsFile)): {{Severity: severityError, Source: "erbario",
					Code: "settings", Message: w.problem}},
			}, versions)
			continue
		}
		view := w.snapshot()
		view.Read = w.apart.parse
		s.mu.Unlock()
		found, files, of := examine(view)
		s.mu.Lock()
		if done != w.edition {
			continue
		}
		if files != nil {
			w.files, w.index = files, nil
		}
		if of != nil {
			w.of = of
		}
		w.report(append(found, w.live...), versions)
	}
	w.running = false
}

// found is a diagnostic with its kind.
type found struct {
	lang.Diagnostic
	code string
}

// examine finds what is wrong in a project; of is nil where there are errors. A fault of the program is said in the
// settings' place: the server continues with what it knew.
func examine(p *project.Project) (list []found, files []*lang.File, of map[string]engineView) {
	defer func() {
		if fault := recover(); fault != nil {
			text := fmt.Sprintf("the models could not be checked, which is a bug in erbario: %v", fault)
			list, of = []found{{lang.Diagnostic{Message: text}, "model"}}, nil
		}
	}()
	files, _, diags, err := p.Parse()
	if err != nil {
		return []found{{lang.Diagnostic{Message: err.Error()}, "model"}}, nil, nil
	}
	add := func(code string, diags []lang.Diagnostic) {
		for _, d := range diags {
			kind := code
			if d.Warning {
				kind = "engine"
			}
			if f := (found{d, kind}); !slices.Contains(list, f) {
				list = append(list, f)
			}
		}
	}
	add("model", diags)
	of = map[string]engineView{}
	broken := lang.Errors(diags)
	engines := p.Engines()
	if len(engines) == 0 { // no URL has a value here
		_, more := declare.Resolve(files, p.Rules(), "")
		add("model", more)
	}
	for _, e := range engines {
		declared, wanted, more := check.Resolve(p, files, e)
		add("model", more)
		if broken = broken || lang.Errors(more); !lang.Errors(more) {
			add("seed", check.Seeds(declared))
			of[e.Name()] = engineView{e, declared, wanted}
		}
	}
	if broken {
		of = nil
	}
	return list, files, of
}

// report publishes what was found, by document.
func (w *workspace) report(list []found, versions map[string]int) {
	by := map[string][]diagnostic{}
	docs := map[string]*document{}
	for _, f := range list {
		path := f.Pos.Path
		if path == "" {
			path = project.SettingsFile
		}
		uri := w.uri(path)
		d := docs[uri]
		if d == nil {
			d = w.read(path)
			docs[uri] = d
		}
		by[uri] = append(by[uri], diagnosticOf(f, d))
	}
	for uri, d := range w.server.docs {
		if e := w.migrationFile(d); e != nil && w.rel(d.path) != "" {
			by[uri] = append(by[uri], w.migrationProblems(d, e)...)
		}
	}
	w.publish(by, versions)
}

// uri is that of a file of the project: of the open document, if it is one.
func (w *workspace) uri(rel string) string {
	path := filepath.Join(w.dir, filepath.FromSlash(rel))
	for uri, d := range w.server.docs {
		if d.path == path {
			return uri
		}
	}
	return uriOf(path)
}

// read is a file of the project, as it is open or on disk, with the lines of Unix.
func (w *workspace) read(rel string) *document {
	path := filepath.Join(w.dir, filepath.FromSlash(rel))
	for _, d := range w.server.docs {
		if d.path == path {
			return d
		}
	}
	text, _ := project.ReadFile(path)
	return newDocument(uriOf(path), text, 0)
}

// publish sends diagnostics, and clears those of documents that no longer have any.
func (w *workspace) publish(by map[string][]diagnostic, versions map[string]int) {
	for uri := range w.shown {
		if by[uri] == nil {
			by[uri] = []diagnostic{}
		}
	}
	for uri, d := range w.server.docs { // what is open hears that nothing is wrong with it
		if by[uri] == nil && w.rel(d.path) != "" && w.server.workspaceOf(d.path) == w {
			by[uri] = []diagnostic{}
		}
	}
	for _, uri := range slices.Sorted(maps.Keys(by)) {
		w.shown[uri] = len(by[uri]) > 0
		if !w.shown[uri] {
			delete(w.shown, uri)
		}
		message := publishParams{URI: uri, Version: versions[uri], Diagnostics: by[uri]}
		w.server.outgoing.send(func() {
			_ = w.server.conn.Notify(context.Background(), "textDocument/publishDiagnostics", message)
		})
	}
}
