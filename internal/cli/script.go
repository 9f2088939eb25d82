package cli

// This file is the command script.

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"erbario/internal/project"
	"erbario/internal/runner"
)

func (a *app) scriptCommand() *cli.Command {
	var to string
	var undo bool
	f := answerFlags{engines: a.engines}
	return &cli.Command{
		Name: "script", Usage: "write the pending migrations as one plain SQL file, history rows included",
		Description: "For running changes with the database's own client:\n\n  erbario script > forward.sql",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "to",
				Usage:       "stop after this migration (any unique part of its `ID`); with --undo, the one that stays, or start",
				Destination: &to,
			},
			&cli.BoolFlag{
				Name:        "undo",
				Usage:       "the undo instead: of the newest alone, or back to --to",
				Destination: &undo,
			},
			&cli.StringSliceFlag{
				Name:        "fill",
				Usage:       "a value that differs per database: `TABLE.COLUMN=VALUE`",
				Destination: &f.fill,
			},
			&cli.StringFlag{Name: "answers", Usage: "read such values from a TOML `FILE`", Destination: &f.file},
		},
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.reading(ctx, c, 0, func(p *project.Project, l *live) error {
				files, err := p.Migrations(l.engine)
				if err != nil {
					return err
				}
				values, err := f.values()
				if err != nil {
					return err
				}
				text, ids, err := runner.Script(ctx, l.db, l.engine, files,
					runner.Options{To: to, Start: to == "start", Answers: values, Home: l.Throwaway}, undo)
				if err != nil {
					return a.runFailed(l, err, 0)
				}
				if a.json {
					if ids == nil {
						ids = []string{}
					}
					return a.document(map[string]any{"database": l.Name, "migrations": ids, "script": text})
				}
				if len(ids) == 0 {
					nothing := "nothing is pending"
					if undo {
						nothing = "nothing is applied that it would undo"
					}
					a.err.printf("%s: %s, so the script is empty", l.Name, nothing)
					return nil
				}
				fmt.Fprint(a.out.w, text)
				return nil
			})
		},
	}
}
