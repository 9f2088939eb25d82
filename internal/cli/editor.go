package cli

// This file is the command editor: the language server, and how editors are set up for it.

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"erbario/editors"
	"erbario/internal/editor"
)

func (a *app) editorCommand() *cli.Command {
	var stdio bool
	var client string
	return &cli.Command{
		Name: "editor", Usage: "answer an editor, as its language server",
		Description: "Editors start it, and it speaks the Language Server Protocol with them on standard\ninput and output. erbario editor setup shows how each is set up for it.\n\n  erbario editor setup neovim",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "stdio", Usage: "on standard input and output, as always", Destination: &stdio},
			&cli.StringFlag{Name: "clientProcessId", Usage: "the `ID` of the editor's process", Destination: &client},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := atMost(c, 0); err != nil {
				return err
			}
			return editor.Serve(ctx, a.engines, version(), a.stdin, a.out.w)
		},
		Commands: []*cli.Command{{
			Name: "setup", ArgsUsage: "[NAME]", Usage: "show what goes where for an editor",
			Description: "Without NAME, the editors.\n\n  erbario editor setup neovim",
			Action: func(ctx context.Context, c *cli.Command) error {
				if err := atMost(c, 1); err != nil {
					return err
				}
				return a.editorSetup(c.Args().First())
			},
		}},
	}
}

// editorSetup prints what goes where.
func (a *app) editorSetup(name string) error {
	names := editors.Names()
	if name == "" {
		if a.json {
			return a.document(map[string]any{"editors": names})
		}
		for _, n := range names {
			a.out.line(n)
		}
		a.next("erbario editor setup " + names[0])
		return nil
	}
	text, ok := editors.Setup(strings.ToLower(name))
	if !ok {
		return wrongUse("there is no editor %q here%s; there are %s", name, meant(name, names), wordList(names))
	}
	if a.json {
		return a.document(map[string]any{"editor": name, "setup": text})
	}
	fmt.Fprint(a.out.w, text)
	return nil
}
