// Command house holds the program's own code to its measures, for make lint: files,
// functions, lists of parameters and lines that one can take in. What is larger is named in
// a list with its size, which may shrink and not grow.
package main

import (
	"bufio"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// The measures.
const (
	fileLines  = 600
	funcLines  = 80
	parameters = 5 // without a context and the receiver
	columns    = 120
	tab        = 4
)

const list = "internal/house/larger.txt"

// larger are the things that are larger than they should be, by name, with their size.
type larger map[string]int

func main() {
	found, err := measure("internal", "cmd")
	if err != nil {
		fail(err.Error())
	}
	if len(os.Args) > 1 && os.Args[1] == "-write" {
		if err := os.WriteFile(list, []byte(found.text()), 0o644); err != nil {
			fail(err.Error())
		}
		return
	}
	known, err := read(list)
	if err != nil {
		fail(err.Error())
	}
	if wrong := compare(known, found); len(wrong) > 0 {
		fail(strings.Join(wrong, "\n"))
	}
}

func fail(message string) {
	fmt.Fprintln(os.Stderr, message)
	os.Exit(1)
}

// compare tells what has grown, and what the list names though it is small enough by now.
func compare(known, found larger) (wrong []string) {
	for _, name := range found.names() {
		switch was, ok := known[name]; {
		case !ok:
			wrong = append(
				wrong,
				fmt.Sprintf(
					"%s: %d is too large (files %d lines, functions %d lines and %d parameters, lines %d columns)",
					name, found[name], fileLines, funcLines, parameters, columns),
			)
		case found[name] > was:
			wrong = append(wrong, fmt.Sprintf("%s: it was too large at %d, and is %d now", name, was, found[name]))
		}
	}
	for _, name := range known.names() {
		if found[name] < known[name] {
			wrong = append(wrong, fmt.Sprintf("%s: it is smaller now: go run ./internal/house -write", name))
		}
	}
	return wrong
}

func (l larger) names() []string {
	var out []string
	for name := range l {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func (l larger) text() string {
	var b strings.Builder
	b.WriteString("# What is larger than it should be: it may shrink and not grow.\n")
	for _, name := range l.names() {
		fmt.Fprintf(&b, "%d %s\n", l[name], name)
	}
	return b.String()
}

func read(path string) (larger, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	out := larger{}
	for line := range strings.Lines(string(text)) {
		if size, name, ok := strings.Cut(strings.TrimSpace(line), " "); ok && size != "#" {
			if out[name], err = strconv.Atoi(size); err != nil {
				return nil, fmt.Errorf("%s: %q is no size", path, size)
			}
		}
	}
	return out, nil
}

// measure finds what is larger than it should be. Tests may be as long as their cases.
func measure(folders ...string) (larger, error) {
	out := larger{}
	for _, folder := range folders {
		err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			return out.file(path)
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (l larger) file(path string) error {
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	note := func(what string, size, most int) {
		if size > most {
			l[path+what] = size
		}
	}
	lines, wide := lengths(string(text), texts(set, f))
	note("", lines, fileLines)
	note(" lines", wide, 0)
	for _, d := range f.Decls {
		fn, ok := d.(*ast.FuncDecl)
		if !ok {
			continue
		}
		name := " " + fn.Name.Name
		note(name, set.Position(fn.End()).Line-set.Position(fn.Pos()).Line+1, funcLines)
		note(name+" parameters", count(fn.Type.Params), parameters)
	}
	return nil
}

// count is the number of parameters, without a context.
func count(list *ast.FieldList) (n int) {
	for _, p := range list.List {
		if s, ok := p.Type.(*ast.SelectorExpr); ok && s.Sel.Name == "Context" {
			continue
		}
		n += max(1, len(p.Names))
	}
	return n
}

// texts are the lines that are wide for the literal texts on them: what those say is not
// broken.
func texts(set *token.FileSet, f *ast.File) map[int]bool {
	length := map[int]int{}
	ast.Inspect(f, func(n ast.Node) bool {
		if b, ok := n.(*ast.BasicLit); ok && b.Kind == token.STRING {
			for line := set.Position(b.Pos()).Line; line <= set.Position(b.End()).Line; line++ {
				length[line] += len(b.Value)
			}
		}
		return true
	})
	out := map[int]bool{}
	for line, n := range length {
		out[line] = n > 50
	}
	return out
}

// lengths is the number of lines, and how many are too wide.
func lengths(text string, texts map[int]bool) (lines, wide int) {
	in := bufio.NewScanner(strings.NewReader(text))
	in.Buffer(nil, 1<<20)
	for in.Scan() {
		lines++
		line := in.Text()
		if len([]rune(line))+(tab-1)*strings.Count(line, "\t") > columns && !texts[lines] {
			wide++
		}
	}
	return lines, wide
}
