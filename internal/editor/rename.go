package editor

// This file renames a model, a field, a choice or a value everywhere, and notes it in renames.toml, so that
// the next draft need not ask.

import (
	"context"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"github.com/sourcegraph/jsonrpc2"

	"erbario/internal/declare"
	"erbario/internal/lang"
	"erbario/internal/project"
	"erbario/internal/schema"
)

// renamable is the range of a name that can be renamed.
func (w *workspace) renamable(d *document, p position) any {
	m := w.mentionAt(d, p)
	if m == nil || len(w.declarations(m.name)) == 0 {
		return nil
	}
	return d.spanOf(m.pos.Off, m.pos.End)
}

func (w *workspace) declarations(n name) (out []mention) {
	for _, m := range w.names().all(n) {
		if m.declared {
			out = append(out, m)
		}
	}
	return out
}

func refused(message string) error {
	return &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: message}
}

// rename answers textDocument/rename.
func (s *Server) rename(_ context.Context, r *jsonrpc2.Request) (any, error) {
	p, err := params[struct {
		atPosition
		NewName string `json:"newName"`
	}](r)
	if err != nil {
		return nil, err
	}
	d, w := s.document(p.TextDocument.URI)
	if w == nil {
		return nil, nil
	}
	m := w.mentionAt(d, p.Position)
	if m == nil || len(w.declarations(m.name)) == 0 {
		return nil, refused("there is no name here that can be renamed")
	}
	if m.name.name == p.NewName {
		return workspaceEdit{Changes: map[string][]textEdit{}}, nil
	}
	if why := w.cannot(m.name, p.NewName); why != "" {
		return nil, refused(why)
	}
	edits := map[string][]textEdit{}
	for _, o := range w.names().all(m.name) {
		text, err := o.written(p.NewName)
		if err != "" {
			return nil, refused(err)
		}
		at := w.locationOf(o.pos)
		edits[at.URI] = append(edits[at.URI], textEdit{at.Range, text})
	}
	for _, at := range w.inSQLFiles(m.name) {
		edits[at.URI] = append(edits[at.URI], textEdit{at.Range, p.NewName})
	}
	w.note(m.name, p.NewName, edits)
	return workspaceEdit{Changes: edits}, nil
}

// plainName reports whether a name needs no quotes.
func plainName(s string) bool {
	for i, r := range s {
		if r != '_' && !unicode.IsLetter(r) && (i == 0 || !unicode.IsDigit(r)) {
			return false
		}
	}
	return s != ""
}

// cannot says why a name cannot take another; empty: it can.
func (w *workspace) cannot(n name, to string) string {
	x := w.names()
	if to == "" || strings.ContainsAny(to, "\n\r\t") {
		return "a name has at least one character, and no line break"
	}
	if !plainName(to) && n.kind != aValue && n.kind != aField {
		return "the name of a " + string(n.kind) + " has letters, digits and _ alone"
	}
	if len(x.all(name{n.kind, n.owner, to})) > 0 && slices.ContainsFunc(x.all(name{n.kind, n.owner, to}),
		func(m mention) bool { return m.declared }) {
		return "there is a " + string(n.kind) + " " + to + " already"
	}
	if n.kind == aField {
		for _, f := range x.fields(n.owner) {
			if f.Name.Name == to {
				return "there is a field " + to + " already"
			}
		}
	}
	if n.kind == aModel && x.models[to] != nil || n.kind == aChoice && (x.choices[to] != nil || lang.BeginsType(to)) {
		return to + " is the name of something else"
	}
	return ""
}

// written is how a mention says a name; why: it cannot.
func (m mention) written(to string) (text, why string) {
	if m.braces && !plainName(to) {
		return "", "the field is named in SQL, where its name has letters, digits and _ alone"
	}
	if m.quoted || !plainName(to) || m.kind == aField && lang.BeginsLine(to) {
		if m.braces {
			return to, ""
		}
		return strconv.Quote(to), ""
	}
	return to, ""
}

// inSQLFiles are the places of a name in files of SQL, as {Model.field} or {Model}.
func (w *workspace) inSQLFiles(n name) (out []location) {
	if n.kind != aModel && n.kind != aField || w.project == nil {
		return nil
	}
	for _, rel := range w.sqlFiles() {
		d := w.read(rel)
		for _, m := range braced().FindAllStringSubmatchIndex(d.text, -1) {
			model := d.text[m[2]:m[3]]
			switch {
			case n.kind == aModel && model == n.name:
				out = append(out, location{d.uri, d.span(m[2], m[3])})
			case n.kind == aField && m[4] >= 0 && d.text[m[4]:m[5]] == n.name:
				if owner, _ := w.names().owner(model, n.name); owner == n.owner {
					out = append(out, location{d.uri, d.span(m[4], m[5])})
				}
			}
		}
	}
	return out
}

var braced = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\{([\p{L}_][\p{L}\p{Nd}_]*)(?:\.([\p{L}_][\p{L}\p{Nd}_]*))?\}`)
})

// sqlFiles are the files of SQL next to the models.
func (w *workspace) sqlFiles() []string {
	view := w.snapshot()
	_, src, _, err := view.Parse()
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(slices.Sorted(maps.Keys(src)),
		func(path string) bool { return !strings.HasSuffix(path, project.SQLSuffix) })
}

// note notes for the next draft what a rename changes in the database: the models are resolved as they are and as
// they will be.
func (w *workspace) note(n name, to string, edits map[string][]textEdit) {
	before, ok := w.view()
	if !ok {
		return
	}
	var files []*lang.File
	for _, f := range w.files {
		text := f.Src
		if list := edits[w.uri(f.Path)]; len(list) > 0 {
			text = strings.ReplaceAll(w.read(f.Path).edited(list), "\r\n", "\n")
		}
		after, _ := lang.Parse(f.Path, text)
		files = append(files, after)
	}
	after, diags := declare.Resolve(files, w.project.Rules(), before.engine.Name())
	if lang.Errors(diags) {
		return
	}
	x := w.names()
	path := filepath.Join(w.dir, project.RenamesFile)
	note := func(from, to string) { _ = project.NoteRename(path, project.Renamed{From: from, To: to}) }
	for _, t := range before.declared.Schema.Tables {
		model := t.Model
		if n.kind == aModel && model == n.name {
			model = to
		}
		i := slices.IndexFunc(after.Schema.Tables, func(o *schema.Table) bool { return o.Model == model })
		if i < 0 {
			continue
		}
		for _, c := range t.Columns {
			field := c.Field
			if owner, _ := x.owner(t.Model, field); n.kind == aField && field == n.name && owner == n.owner {
				field = to
			}
			for _, o := range after.Schema.Tables[i].Columns {
				if o.Field == field && o.Name != c.Name {
					note(t.Name+"."+c.Name, o.Name)
				}
			}
			if n.kind == aValue && c.Type.Name == n.owner {
				note(t.Name+"."+c.Name+"."+n.name, to)
			}
		}
		if o := after.Schema.Tables[i]; o.Name != t.Name {
			note(t.Name, o.Name)
		}
	}
}

// edited is the text of a document with edits made.
func (d *document) edited(list []textEdit) string {
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b textEdit) int { return d.offset(b.Range.Start) - d.offset(a.Range.Start) })
	text := d.text
	for _, e := range list {
		text = text[:d.offset(e.Range.Start)] + e.NewText + text[d.offset(e.Range.End):]
	}
	return text
}
