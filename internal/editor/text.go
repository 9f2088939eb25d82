package editor

// This file is the text of a document, and places in it: the protocol counts lines and units of UTF-16,
// the language bytes.

import (
	"net/url"
	"path/filepath"
	"sort"
	"strings"
	"unicode/utf8"
)

// document is an open file, or one that is read from disk.
type document struct {
	uri     string
	path    string // on disk
	text    string
	version int
	lines   []int // where each line begins
}

func newDocument(uri, text string, version int) *document {
	d := &document{uri: uri, path: pathOf(uri), version: version}
	d.set(text)
	return d
}

func (d *document) set(text string) {
	d.text, d.lines = text, []int{0}
	for i := 0; i < len(text); i++ {
		if text[i] == '\n' {
			d.lines = append(d.lines, i+1)
		}
	}
}

// offset is the byte at a place; one beyond the end of its line is at that end.
func (d *document) offset(p position) int {
	if p.Line < 0 {
		return 0
	}
	if p.Line >= len(d.lines) {
		return len(d.text)
	}
	at, end := d.lines[p.Line], d.lineEnd(p.Line)
	for units := p.Character; units > 0 && at < end; {
		r, n := utf8.DecodeRuneInString(d.text[at:end])
		if units--; r > 0xffff {
			units--
		}
		at += n
	}
	return at
}

// lineEnd is where a line ends, before what ends it.
func (d *document) lineEnd(line int) int {
	end := len(d.text)
	if line+1 < len(d.lines) {
		end = d.lines[line+1] - 1
	}
	if end > d.lines[line] && d.text[end-1] == '\r' {
		end--
	}
	return end
}

// line is the text of a line, without what ends it.
func (d *document) line(n int) string {
	if n < 0 || n >= len(d.lines) {
		return ""
	}
	return d.text[d.lines[n]:d.lineEnd(n)]
}

// position is the place of a byte.
func (d *document) position(off int) position {
	off = max(0, min(off, len(d.text)))
	line := sort.Search(len(d.lines), func(i int) bool { return d.lines[i] > off }) - 1
	return position{Line: line, Character: units(d.text[d.lines[line]:off])}
}

// units are the units of UTF-16 of a text.
func units(s string) (n int) {
	for _, r := range s {
		if n++; r > 0xffff {
			n++
		}
	}
	return n
}

// span is the range of some bytes.
func (d *document) span(from, to int) span { return span{d.position(from), d.position(to)} }

// apply makes the changes that a client sends, one after the other.
func (d *document) apply(list []contentChange) {
	for _, c := range list {
		if c.Range == nil {
			d.set(c.Text)
			continue
		}
		from, to := d.offset(c.Range.Start), d.offset(c.Range.End)
		if to < from {
			from, to = to, from
		}
		d.set(d.text[:from] + c.Text + d.text[to:])
	}
}

// crlf says whether the lines of a document end as on Windows.
func (d *document) crlf() bool { return strings.Contains(d.text, "\r\n") }

// pathOf is the path of a file by its URI, and uriOf the other way.
func pathOf(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return ""
	}
	path := u.Path
	if len(path) > 2 && path[0] == '/' && path[2] == ':' { // a drive
		path = path[1:]
	}
	return filepath.FromSlash(path)
}

func uriOf(path string) string {
	path = filepath.ToSlash(path)
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	return (&url.URL{Scheme: "file", Path: path}).String()
}
