package cli

// This file is the second chapter of the demo: the database of an older program is taken over, and
// changes by models from then on.

import (
	"context"
	"path/filepath"
	"strings"

	"erbario/examples/cardindex"
	"erbario/internal/engine"
	"erbario/internal/project"
)

const (
	oldDatabase = "reading-room.db"
	oldSQL      = "cards.sql"
	byHandSQL   = "ALTER TABLE READERS ADD COLUMN desk TEXT; CREATE INDEX by_desk ON READERS (desk)"
)

var adoptTales = []tale{
	{"An older program has a database: the card index of the reading room.", [][]string{
		{"sqlite3", oldDatabase, "< " + oldSQL},
	}},
	{"One command takes it over: models, SQL, and a migration that would create all of it.", [][]string{
		{"adopt", "--url", "sqlite:" + oldDatabase},
		{"diff"},
		{"look", "card index", "--rows", "3"},
	}},
	{"From then on its tables change by models, and the change alone is drafted.", [][]string{
		{"declare", "Reader", "mail text(80) optional unique"},
		{"draft", "mail of readers", "--apply"},
		{"look", "READERS"},
	}},
	{"Its view changes with its file.", [][]string{
		{"write", "models/on_loan.sql", cardindex.OnLoan},
		{"diff"},
		{"draft", "when taken", "--apply"},
		{"look", "on_loan"},
	}},
	{"Everything can be undone, and what was adopted is as it was.", [][]string{
		{"undo", "--count", "2"},
		{"apply"},
	}},
	{"Somebody adds a column and an index by hand. They come into the model, and into a migration.", [][]string{
		{"sqlite3", oldDatabase, byHandSQL},
		{"adopt", "READERS"},
		{"undo"},
		{"apply"},
	}},
	{"Another database gets all of it, from nothing.", [][]string{
		{"--database", "test", "apply"},
		{"--database", "dev", "--database", "test", "status"},
		{"prove", "--all"},
	}},
}

// runOld runs SQL on the database of the older program, which may not be there yet.
func (a *app) runOld(ctx context.Context, dir, sql string) error {
	url := "sqlite:" + filepath.Join(dir, oldDatabase)
	e, err := a.engines.ForURL(url)
	if err != nil {
		return err
	}
	db, err := e.Open(ctx, url, engine.Make)
	if err != nil {
		return err
	}
	defer db.Close()
	return runPieces(ctx, e, db, sql)
}

// writeShown shows how a file is written, and writes it.
func (a *app) writeShown(dir, path, text string) error {
	a.out.raw(a.out.paint(styleAdd, "$ ") + a.out.paint(styleHead, "cat > "+path))
	for line := range strings.Lines(text) {
		a.out.raw("    " + strings.TrimRight(line, "\n"))
	}
	return project.WriteFile(filepath.Join(dir, path), text)
}
