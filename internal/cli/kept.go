package cli

// This file is the command kept: what destructive steps preserved.

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/engine"
	"erbario/internal/project"
	"erbario/internal/runner"
	"erbario/internal/words"
)

func (a *app) keptCommand() *cli.Command {
	return &cli.Command{
		Name: "kept", ArgsUsage: "list|drop", Usage: "list or drop data kept from destructive steps",
		Description: "  erbario kept list\n  erbario kept drop --older-than 90d",
		Commands:    []*cli.Command{a.keptList(), a.keptDrop()},
		Action: func(ctx context.Context, c *cli.Command) error {
			return wrongUse("erbario kept list or drop: which one?%s",
				meant(c.Args().First(), []string{"list", "drop"}))
		},
	}
}

// keptOf reads what is kept in the run's database.
func (a *app) keptOf(ctx context.Context, mode engine.Mode,
	f func(l *live, p *project.Project, list []runner.Kept) error) error {
	p, err := a.project()
	if err != nil {
		return err
	}
	l, err := a.open(ctx, p, a.database, mode, false)
	if err != nil {
		return err
	}
	defer l.Close()
	files, err := p.Migrations(l.engine)
	if err != nil {
		return err
	}
	var ids []string
	for _, m := range files {
		ids = append(ids, m.ID)
	}
	list, err := runner.KeptTables(ctx, l.db, l.engine, ids)
	if err != nil {
		return err
	}
	return f(l, p, list)
}

type jsonKept struct {
	Table     string    `json:"table"`
	What      string    `json:"what"`
	Migration string    `json:"migration"`
	Since     time.Time `json:"since,omitzero"` // left out where nobody noted it
	Rows      int64     `json:"rows"`
	Bytes     int64     `json:"bytes"`
	Past      bool      `json:"expired"`
}

func jsonKepts(list []runner.Kept, limit time.Duration) []jsonKept {
	out := []jsonKept{}
	for _, k := range list {
		out = append(out, jsonKept{k.Name, k.What, k.Migration, k.Since, k.Rows, k.Bytes, past(k, limit)})
	}
	return out
}

// past tells whether something has been kept for longer than keep_for.
func past(k runner.Kept, limit time.Duration) bool {
	return limit > 0 && !k.Since.IsZero() && time.Since(k.Since) > limit
}

func (a *app) keptList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "what is kept, from which migration, with rows, size and age",
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := atMost(c, 0); err != nil {
				return err
			}
			return a.keptOf(ctx, engine.ReadOnly, func(l *live, p *project.Project, list []runner.Kept) error {
				limit, err := keepFor(p)
				if err != nil {
					return err
				}
				if a.json {
					return a.document(map[string]any{"database": l.Name, "kept": jsonKepts(list, limit)})
				}
				if len(list) == 0 {
					a.out.printf("nothing is kept in %s", l.Name)
					return nil
				}
				a.showKept(list, limit)
				return nil
			})
		},
	}
}

func (a *app) showKept(list []runner.Kept, limit time.Duration) {
	table := [][]string{{"kept", "rows", "size", "age", "from"}}
	for _, k := range list {
		from := k.Migration
		if from == "" {
			from = "a migration that no longer exists: " + k.Name
		}
		old := "not known"
		if !k.Since.IsZero() {
			old = age(time.Since(k.Since))
		}
		if past(k, limit) {
			old += ", past keep_for"
		}
		size := words.Bytes(k.Bytes)
		if k.In != "" {
			size = "in place"
		}
		table = append(table, []string{cell(k.What), thousands(k.Rows), size, old, cell(from)})
	}
	a.out.headed(table)
}

// keepFor is the setting keep_for; 0: none.
func keepFor(p *project.Project) (time.Duration, error) {
	s := p.Settings.Project.KeepFor
	if s == "" {
		return 0, nil
	}
	d, err := readAge(s)
	if err != nil {
		return 0, fmt.Errorf("%s: project.keep_for: %w", project.SettingsFile, err)
	}
	return d, nil
}

func age(d time.Duration) string {
	switch {
	case d < time.Hour:
		return fmt.Sprintf("%d min", max(int(d.Minutes()), 0))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

func (a *app) keptDrop() *cli.Command {
	var older, from string
	return &cli.Command{
		Name: "drop", Usage: "delete what is kept, permanently; it asks first",
		Description: "Without flags, everything; or what has been kept for longer than keep_for in\nerbario.toml, if that is set. The undo of a migration whose values are dropped\nstill works, and restores the columns without them.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "older-than",
				Usage:       "what was kept at least this long ago, such as 90d, 12w or 36h: `AGE`",
				Destination: &older,
			},
			&cli.StringFlag{
				Name:        "from",
				Usage:       "what this migration kept (any unique part of its `ID`)",
				Destination: &from,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := atMost(c, 0); err != nil {
				return err
			}
			return a.keptOf(ctx, engine.ReadWrite, func(l *live, p *project.Project, list []runner.Kept) error {
				limit, err := keepFor(p)
				if err != nil {
					return err
				}
				if older != "" {
					if limit, err = readAge(older); err != nil {
						return wrongUse("--older-than %s: %v", older, err)
					}
				}
				var chosen []runner.Kept
				for _, k := range list {
					if (limit == 0 && older == "" || !k.Since.IsZero() && time.Since(k.Since) >= limit) &&
						(from == "" || strings.Contains(k.Migration, from)) {
						chosen = append(chosen, k)
					}
				}
				if len(chosen) == 0 {
					if a.json {
						return a.document(map[string]any{"database": l.Name, "dropped": []jsonKept{}})
					}
					a.out.printf("nothing kept in %s matches", l.Name)
					return nil
				}
				if !a.json {
					a.showKept(chosen, 0)
				}
				if err := a.confirmOn(l.Database, "dropping what was kept"); err != nil {
					return err
				}
				if !l.Protected {
					if err := a.confirm(ctx, "drop "+plural(len(chosen), "kept table", "kept tables")+" permanently"); err != nil {
						return err
					}
				}
				if err := runner.DropKept(ctx, l.db, l.engine, chosen, time.Minute); err != nil {
					return err
				}
				if a.json {
					return a.document(map[string]any{"database": l.Name, "dropped": jsonKepts(chosen, 0)})
				}
				a.out.printf("dropped from %s permanently", l.Name)
				return nil
			})
		},
	}
}
