package cli

// This file is the command history: what was applied to a database, when, by whom, and with
// which answers; and the text of each migration as the database has it.

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/runner"
)

func (a *app) historyCommand() *cli.Command {
	var restore bool
	return &cli.Command{
		Name: "history", ArgsUsage: "[ID]", Usage: "list the applied migrations of a database, newest last; or print one as the database has it",
		Description: "For each: when it was applied, by whom, how long it took, and what was answered.\nWith ID (any unique part of it), its whole text.\n\n  erbario history\n  erbario history first-sheets --restore",
		Flags: []cli.Flag{
			&cli.BoolFlag{
				Name:        "restore",
				Usage:       "write the missing file of the migration ID again",
				Destination: &restore,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if restore && c.Args().First() == "" {
				return wrongUse("--restore writes one file: erbario history ID --restore")
			}
			return a.reading(ctx, c, 1, func(p *project.Project, l *live) error {
				applied, err := runner.History(ctx, l.db)
				if err != nil {
					return err
				}
				if id := c.Args().First(); id != "" {
					return a.showApplied(p, l, applied, id, restore)
				}
				return a.showHistory(p, l, applied)
			})
		},
	}
}

type jsonApplied struct {
	Migration string   `json:"migration"`
	AppliedAt string   `json:"applied_at"`
	AppliedBy string   `json:"applied_by"`
	Took      int64    `json:"took_ms"`
	Answers   []string `json:"answers"`
	File      string   `json:"file"` // same, edited, missing; none: it was applied directly
}

// fileState tells how an applied migration and its file agree.
func fileState(files []*migration.Migration, x runner.Applied) string {
	if x.Direct() {
		return "none"
	}
	for _, m := range files {
		if m.ID == x.ID && m.Checksum() == x.Checksum {
			return "same"
		} else if m.ID == x.ID {
			return "edited"
		}
	}
	return "missing"
}

func (a *app) showHistory(p *project.Project, l *live, applied []runner.Applied) error {
	files, err := p.Migrations(l.engine)
	if err != nil {
		return err
	}
	list := []jsonApplied{}
	for _, x := range applied {
		list = append(list, jsonApplied{
			x.ID,
			x.AppliedAt,
			x.AppliedBy,
			x.TookMS,
			append([]string{}, x.Answers...),
			fileState(files, x),
		})
	}
	if a.json {
		return a.document(map[string]any{"database": l.Name, "history": list})
	}
	if len(list) == 0 {
		a.out.printf("nothing is applied to %s", l.Name)
		return nil
	}
	table := [][]string{{"migration", "applied (UTC)", "by", "took", ""}}
	for _, x := range list {
		state := map[string]string{"edited": "the file was edited since", "missing": "the file is missing", "none": "applied without a file"}[x.File]
		table = append(table, []string{
			x.Migration,
			x.AppliedAt,
			cell(x.AppliedBy),
			spent(time.Duration(x.Took) * time.Millisecond),
			state,
		})
	}
	head, lines := a.out.table(table)
	if head != "" {
		a.out.line(a.out.paint(styleHead, head))
	}
	for i, block := range lines {
		apart := block[len(block)-1] == "" // from the next
		for _, line := range block {
			if line != "" {
				a.out.line(line)
			}
		}
		for _, answer := range list[i].Answers {
			a.out.line("    " + a.out.paint(styleDim, cell(answer)))
		}
		if apart {
			a.out.line("")
		}
	}
	return nil
}

// showApplied prints a migration as the database has it, or writes its file again.
func (a *app) showApplied(p *project.Project, l *live, applied []runner.Applied, id string, restore bool) error {
	var list []*migration.Migration
	for _, x := range applied {
		list = append(list, &migration.Migration{ID: x.ID})
	}
	found, err := migration.Find(list, id)
	if err != nil {
		return err
	}
	x := applied[slices.Index(list, found)]
	if !restore {
		if a.json {
			return a.document(map[string]any{
				"database":   l.Name,
				"migration":  x.ID,
				"applied_at": x.AppliedAt,
				"applied_by": x.AppliedBy,
				"took_ms":    x.TookMS,
				"answers":    append([]string{}, x.Answers...),
				"text":       x.Text,
			})
		}
		fmt.Fprint(a.out.w, clean(strings.TrimRight(x.Text, "\n"))+"\n")
		return nil
	}
	if x.Direct() {
		return fmt.Errorf("%s was applied without a file: erbario draft TITLE writes one", x.ID)
	}
	path, err := restoreFile(p, l.engine, x)
	if err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{"database": l.Name, "migration": x.ID, "file": path})
	}
	a.out.line(a.out.sign("+", path))
	return nil
}

// restoreFile writes the file of an applied migration again, and returns its path as one
// would type it. An existing file is left alone.
func restoreFile(p *project.Project, e engine.Engine, x runner.Applied) (string, error) {
	m, err := migration.Parse("history of "+x.ID, x.Text, e)
	if err != nil {
		return "", err
	}
	path := filepath.Join(p.MigrationsDir(), m.FileName())
	if text, err := os.ReadFile(path); err == nil {
		if string(text) == x.Text {
			return "", fmt.Errorf("%s exists, as it was applied: nothing was written", fileOf(m))
		}
		return "", fmt.Errorf("%s exists and differs: nothing was written. Move it away first", fileOf(m))
	}
	return fileOf(m), project.WriteFile(path, x.Text)
}
