package cli

// This file is the commands that check and format models.

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"erbario/internal/check"
	"erbario/internal/declare"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
)

func (a *app) checkCommand() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "report every error in models, seeds and migrations, and every fork (no database needed)",
		Description: "  erbario check",
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.projectFor(c, 0)
			if err != nil {
				return err
			}
			return a.check(p)
		},
	}
}

// check reports what is wrong in the files of a project.
func (a *app) check(p *project.Project) error {
	files, src, diags, err := p.Parse()
	if err != nil {
		return err
	}
	c := &checking{names: []string{}, diags: diags, ofSeeds: map[lang.Diagnostic]bool{}}
	c.resolve(p, files)
	var forks []migration.Fork
	pairs := [][2]string{}
	for _, e := range p.Engines() {
		list, err := p.Migrations(e)
		if err != nil {
			return err
		}
		for _, f := range migration.Forks(list, e) {
			forks, pairs = append(forks, f), append(pairs, [2]string{f.First.ID, f.Second.ID})
		}
	}
	mistakes, inSeeds := c.count()
	secrets := a.secrets(p)
	a.report.checked(p, c.diags, forks, secrets)
	if a.json {
		a.document(map[string]any{
			"warnings":    secrets,
			"forks":       pairs,
			"models":      len(c.declared.Schema.Tables),
			"files":       len(files),
			"engines":     c.names,
			"errors":      mistakes,
			"diagnostics": jsonDiagnostics(c.diags),
		})
	} else {
		a.diagnostics(c.diags, src)
	}
	if mistakes > 0 {
		words := plural(mistakes-inSeeds, "error", "errors") + " in the models"
		switch {
		case inSeeds == mistakes:
			words = plural(inSeeds, "error", "errors") + " in the seeds"
		case inSeeds > 0:
			words += fmt.Sprintf(", and %d in the seeds", inSeeds)
		}
		return &exitError{code: exitFailed, err: errors.New(words)}
	}
	if err := forked(forks); err != nil {
		return err
	}
	if !a.json {
		a.out.printf("%s in %s: no errors", plural(len(c.declared.Schema.Tables), "model", "models"),
			plural(len(files), "file", "files"))
	}
	return nil
}

// checking is what is found in models and seeds.
type checking struct {
	names    []string // of the engines
	declared *declare.Declared
	diags    []lang.Diagnostic
	ofSeeds  map[lang.Diagnostic]bool
}

// resolve resolves the files for every engine of the project, or for none.
func (c *checking) resolve(p *project.Project, files []*lang.File) {
	engines := p.Engines()
	if len(engines) == 0 {
		var more []lang.Diagnostic
		c.declared, more = declare.Resolve(files, p.Rules(), "")
		c.diags = append(c.diags, more...)
	}
	for _, e := range engines {
		c.names = append(c.names, e.Name())
		var more []lang.Diagnostic
		c.declared, _, more = check.Resolve(p, files, e)
		c.diags = append(c.diags, more...)
		if lang.Errors(more) {
			continue
		}
		for _, x := range check.Seeds(c.declared) {
			c.diags, c.ofSeeds[x] = append(c.diags, x), true
		}
	}
	c.diags = lang.Sort(c.diags)
}

// count counts the errors, and those of them that are in seeds.
func (c *checking) count() (mistakes, inSeeds int) {
	for _, x := range c.diags {
		switch {
		case x.Warning:
		case c.ofSeeds[x]:
			inSeeds++
			mistakes++
		default:
			mistakes++
		}
	}
	return mistakes, inSeeds
}

func (a *app) fmtCommand() *cli.Command {
	var check bool
	return &cli.Command{
		Name: "fmt", Usage: "format the model files",
		Description: "  erbario fmt\n  erbario fmt --check",
		Flags: []cli.Flag{
			&cli.BoolFlag{
				Name:        "check",
				Usage:       "only list the files that would change; exit 1 if there are any",
				Destination: &check,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.projectFor(c, 0)
			if err != nil {
				return err
			}
			files, src, diags, err := p.Parse()
			if err != nil {
				return err
			}
			wrong := map[string]bool{}
			for _, d := range diags {
				wrong[d.Pos.Path] = true
			}
			n := a.diagnostics(diags, src)
			changed := []string{}
			for _, f := range files {
				if wrong[f.Path] {
					continue
				}
				out := lang.Format(f)
				if out == src[f.Path] {
					continue
				}
				changed = append(changed, f.Path)
				if !check {
					if err := project.WriteFile(filepath.Join(p.Dir, f.Path), out); err != nil {
						return err
					}
				}
			}
			if a.json {
				a.document(map[string]any{"changed": changed, "check": check, "errors": n})
			} else {
				for _, path := range changed {
					a.out.line(a.out.sign("~", path))
				}
			}
			switch {
			case n > 0:
				return &exitError{
					code: exitFailed,
					err:  fmt.Errorf("%s in the models: those files were not changed", plural(n, "error", "errors")),
				}
			case check && len(changed) > 0:
				a.next("erbario fmt")
				return &exitError{
					code: exitFailed,
					told: true,
					err:  fmt.Errorf("%s not formatted", plural(len(changed), "file is", "files are")),
				}
			}
			return nil
		},
	}
}

// typesHelp lists the types of fields in the help of declare.
const typesHelp = `The types of fields:

  text, text(80)              text, of at most 80 characters
  smallint, integer, bigint   whole numbers of 16, 32, 64 bits
  decimal(8,3)                8 digits in total, 3 of them after the point
  real, double                floating-point numbers
  boolean                     true or false
  date, time                  a day; a time of day
  timestamp                   an instant, in UTC
  datetime                    a date and time without a zone
  uuid, json, bytes           and bytes(n) with a length
  choice(a, b)                one of these values
  references MODEL            a row of another model
  sql "TYPE"                  a type of the engine itself`
