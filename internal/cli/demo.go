package cli

// This file is the command demo: it writes the example project and runs the
// whole cycle on it, each command shown as one would type it, followed by what
// it printed.

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"erbario/examples/cardindex"
	"erbario/examples/herbarium"
	"erbario/internal/engine"
	"erbario/internal/project"
)

// tale is one act of the demo: what it is about, and what is typed. A command
// that begins with "sqlite3" stands for what the application or a person does
// with the database's own client; the demo does it itself.
type tale struct {
	about    string
	commands [][]string
}

var tales = []tale{
	{"The models are files. Are they right, and what would they do?", [][]string{
		{"check"},
		{"diff"},
	}},
	{"The change is written as a migration, proved first, and applied.", [][]string{
		{"draft", "first sheets"},
		{"apply"},
	}},
	{"An application fills the tables.", [][]string{
		{"sqlite3", "herbarium.db", "< rows.sql"},
		{"look"},
	}},
	{"The models change while the tables have rows.", [][]string{
		{"declare", "Specimen", "label text(120) nonblank", "habitat text(80) optional"},
		{"declare", "Borrower", "country text(2) default \"IT\""},
		{"declare", "Collector", "--remove", "joined_on"},
		{"diff"},
	}},
	{"Only a person can decide this, so it is a question, with the flags that answer it.", [][]string{
		{"draft", "label specimens"},
		{
			"draft", "label specimens", "--fill", "specimens.label=sql:accession || ', ' || rarity", "--drop",
			"collectors.joined_on",
		},
		{"apply"},
		{"look", "specimens", "--rows", "3"},
	}},
	{"Everything can be undone, with the rows, and applied again.", [][]string{
		{"undo"},
		{"look", "collectors", "--rows", "3"},
		{"apply"},
	}},
	{"A change of mind: the same migration again, with the rows unchanged.", [][]string{
		{"declare", "Specimen", "shelf text(10) optional"},
		{"redraft"},
		{"kept", "list"},
	}},
	{"Soft deletion is added to a table with rows; deleted rows can be restored.", [][]string{
		{"declare", "Specimen", "soft delete with view"},
		{"diff"},
		{"draft", "soft deletion", "--apply"},
		{"sqlite3", "herbarium.db", "UPDATE specimens SET deleted_at = '2026-11-20 09:30:00' WHERE id IN (3, 4)"},
		{"deleted", "list", "specimens"},
		{"deleted", "restore", "specimens", "--key", "3"},
	}},
	{"A seed fills the test database with consistent rows, the same each time.", [][]string{
		{"seed"},
		{"seed", "demo", "--preview", "2"},
		{"rebuild", "--database", "test", "--with", "demo"},
		{"seed", "demo", "--database", "test"},
		{"seed", "demo", "--database", "test", "--remove"},
	}},
	{"Pictures, the types of the application, and a review for a colleague.", [][]string{
		{"diagram", "Specimen", "--around", "1"},
		{"diagram", "-o", "models.html"},
		{"types", "--lang", "typescript", "-o", "types.ts"},
		{"review", "soft-deletion", "--database", "dev", "-o", "review.html"},
	}},
	{"What is the state of each database, and do all migrations still hold?", [][]string{
		{"--database", "dev", "--database", "test", "status"},
		{"prove", "--all"},
	}},
}

func (a *app) demoCommand() *cli.Command {
	var old bool
	return &cli.Command{
		Name: "demo", ArgsUsage: "[DIR]", Usage: "write the example project and run the whole cycle on it",
		Description: "DIR is herbarium by default, and reading-room with --adopt; it must not exist yet, or\nbe empty.\n\n  erbario demo",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "adopt", Usage: "take over the database of an older program instead", Destination: &old},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := atMost(c, 1); err != nil {
				return err
			}
			dir := c.Args().First()
			if dir == "" {
				if dir = "herbarium"; old {
					dir = "reading-room"
				}
			}
			if !filepath.IsAbs(dir) {
				dir = filepath.Join(a.dir, dir)
			}
			return a.demo(ctx, dir, old)
		},
	}
}

func (a *app) demo(ctx context.Context, dir string, old bool) error {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the folder %s cannot be used: %w", dir, err)
	}
	if len(entries) > 0 {
		return fmt.Errorf("the folder %s is not empty: give another one, erbario demo DIR", dir)
	}
	list, title, write := tales, "The herbarium of an invented botanic garden", writeExample
	if old {
		list, title = adoptTales, "The card index of the reading room of an invented botanic garden"
		write = func(dir string) error { return project.WriteFile(filepath.Join(dir, oldSQL), cardindex.Cards) }
	}
	if err := write(dir); err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{"directory": dir})
	}
	a.out.line(a.out.paint(styleHead, title+", in "+relative(dir)))
	// Output and messages come in one stream, in the order of a terminal.
	for _, t := range list {
		a.out.line("")
		a.out.line(a.out.paint(styleDim, "# "+t.about))
		for _, args := range t.commands {
			if err := a.demoCommandRun(ctx, dir, args); err != nil {
				return err
			}
		}
	}
	a.out.line("")
	a.out.line(a.out.paint(styleDim, "# The project is yours to try: cd "+relative(dir)))
	return nil
}

// demoCommandRun shows a command and runs it as a program of its own would.
func (a *app) demoCommandRun(ctx context.Context, dir string, args []string) error {
	typed := make([]string, len(args))
	for i, w := range args {
		typed[i] = w
		if strings.ContainsAny(w, " \"|") && args[0] != "sqlite3" {
			typed[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		if strings.Contains(w, "'") {
			typed[i] = `"` + w + `"`
		}
	}
	line := strings.Join(typed, " ")
	if args[0] == "write" {
		return a.writeShown(dir, args[1], args[2])
	}
	if args[0] == "sqlite3" {
		sql := herbarium.Rows
		if !strings.HasPrefix(args[2], "<") {
			sql = args[2] + ";"
			line = strings.Join(args[:2], " ") + ` "` + args[2] + `"`
		}
		a.out.raw(a.out.paint(styleAdd, "$ ") + a.out.paint(styleHead, line))
		if args[1] == oldDatabase {
			if strings.HasPrefix(args[2], "<") {
				sql = cardindex.Cards
			}
			return a.runOld(ctx, dir, sql)
		}
		return a.runExample(ctx, dir, sql)
	}
	if args[0] == "draft" { // a title needs no quotes
		line = strings.Replace(line, "'"+args[1]+"'", args[1], 1)
	}
	a.out.raw(a.out.paint(styleAdd, "$ ") + a.out.paint(styleHead, "erbario "+line))
	sub := &app{
		engines:   a.engines,
		stdin:     strings.NewReader(""),
		out:       &printer{w: a.out.w},
		err:       &printer{w: a.out.w},
		noColour:  a.noColour,
		forceTerm: a.out.colour,
		shown:     true,
	}
	args = slices.Clone(args)
	if i := slices.Index(args, "-o"); i >= 0 { // as if it were started in the folder
		args[i+1] = filepath.Join(dir, args[i+1])
	}
	err := sub.root().Run(ctx, append([]string{"erbario", "-C", dir}, args...))
	if code := sub.finish(ctx, err); code != exitDone && code != exitQuestion {
		return fmt.Errorf("the command above exited with %d, which it should not", code)
	}
	return ctx.Err()
}

func writeExample(dir string) error {
	err := fs.WalkDir(herbarium.Project, "project", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := herbarium.Project.ReadFile(path)
		if err != nil {
			return err
		}
		rel, err := filepath.Rel("project", filepath.FromSlash(path))
		if err != nil {
			return err
		}
		return project.WriteFile(filepath.Join(dir, rel), string(text))
	})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, project.MigrationsFolder), 0o755); err != nil {
		return err
	}
	return project.WriteFile(filepath.Join(dir, "rows.sql"), herbarium.Rows)
}

// runExample runs SQL on the example's database, as an application would.
func (a *app) runExample(ctx context.Context, dir, sql string) error {
	p, err := project.Find(a.engines, dir)
	if err != nil {
		return err
	}
	d, err := p.Database("dev")
	if err != nil {
		return err
	}
	e, err := d.Engine()
	if err != nil {
		return err
	}
	db, err := e.Open(ctx, d.URL, engine.ReadWrite)
	if err != nil {
		return err
	}
	defer db.Close()
	return runPieces(ctx, e, db, sql)
}

// runPieces runs statements one after the other.
func runPieces(ctx context.Context, e engine.Engine, db engine.Database, sql string) error {
	for _, piece := range e.SQL().Split(sql) {
		if piece.Comment {
			continue
		}
		if err := db.Exec(ctx, piece.Text); err != nil {
			return err
		}
	}
	return nil
}
