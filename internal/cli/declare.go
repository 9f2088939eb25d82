package cli

// This file is the command that declares a model, or changes lines of one.

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"erbario/internal/declare"
	"erbario/internal/lang"
	"erbario/internal/project"
)

func (a *app) declareCommand() *cli.Command {
	var remove []string
	var replace bool
	return &cli.Command{
		Name: "declare", ArgsUsage: "MODEL [LINE…]", Usage: "declare a model, or add lines to it",
		Description: "Each LINE is a line of the model language. Nothing else in the file is touched.\n\n  erbario declare Specimen 'label text(120) unique' 'taxon references Taxon'\n  erbario declare Specimen --remove label\n\n" + typesHelp,
		Flags: []cli.Flag{
			&cli.BoolFlag{
				Name:        "replace",
				Usage:       "change the lines of fields that the model has already",
				Destination: &replace,
			},
			&cli.StringSliceFlag{
				Name:        "remove",
				Usage:       "remove the line of this `FIELD`",
				Destination: &remove,
				Config:      cli.StringConfig{},
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			model := c.Args().First()
			if model == "" {
				return wrongUse("erbario declare needs the name of a model, such as Specimen")
			}
			if f, diags := lang.Parse("MODEL", "model "+model+"\n"); len(diags) > 0 || len(f.Blocks) != 1 ||
				f.Blocks[0].Name.Name != model || f.Blocks[0].Outside || f.Blocks[0].InSQL {
				return wrongUse("%q cannot be the name of a model: write letters and digits, such as Specimen",
					clean(model))
			}
			p, err := a.project()
			if err != nil {
				return err
			}
			d := &declaring{app: a, p: p, model: model, remove: remove, replace: replace}
			return d.run(ctx, c.Args().Slice()[1:])
		},
	}
}

// declaring is an edit of one model.
type declaring struct {
	*app
	p       *project.Project
	model   string
	remove  []string // fields
	replace bool

	path, src string // the file, as it is
	text      string // as it is to be
	isNew     bool   // the model
}

func (d *declaring) run(ctx context.Context, lines []string) error {
	var err error
	if d.path, d.src, err = d.modelFile(d.p, d.model); err != nil {
		return err
	}
	d.text = d.src
	if err := d.removeFields(); err != nil {
		return err
	}
	fresh, err := d.replaceLines(ctx, lines)
	if err != nil {
		return err
	}
	if len(fresh) > 0 || d.src == "" {
		if err := d.add(fresh); err != nil {
			return err
		}
	}
	if d.text == d.src && len(lines) == 0 {
		return wrongUse("nothing to declare: give a line such as 'label text(120)', or --remove FIELD")
	}
	if d.text != d.src {
		// What was right before must be right with the change.
		if err := d.stillRight(d.p, d.path, d.text); err != nil {
			return err
		}
		if err := project.WriteFile(filepath.Join(d.p.Dir, d.path), d.text); err != nil {
			return err
		}
	}
	return d.tell(len(lines))
}

// removeFields takes the lines of fields out.
func (d *declaring) removeFields() error {
	for _, field := range d.remove {
		text, ok, diags := lang.Remove(d.path, d.text, d.model, field)
		if len(diags) > 0 {
			d.diagnostics(diags, map[string]string{d.path: d.src})
			return fmt.Errorf("%s has errors: fix them first", d.path)
		}
		if !ok {
			return fmt.Errorf("%s has no field %s in %s", d.model, field, d.path)
		}
		d.text = text
	}
	return nil
}

// replaceLines puts lines in the place of those that the model has for their fields, and
// returns the others.
func (d *declaring) replaceLines(ctx context.Context, lines []string) (fresh []string, err error) {
	for _, line := range lines {
		field, old := lang.FieldLine(d.path, d.text, d.model, line)
		if old == "" || slices.Contains(d.remove, field) {
			fresh = append(fresh, line)
			continue
		}
		if old == strings.Join(strings.Fields(line), " ") {
			continue // it says so already
		}
		if !d.replace && !d.yes && !d.interactive() {
			return nil, fmt.Errorf("%s has the field %s already (%s): --replace changes it; nothing was written",
				d.model, field, old)
		}
		if !d.replace {
			if err := d.confirm(ctx, fmt.Sprintf("replace the line %q of %s", old, d.model)); err != nil {
				return nil, err
			}
		}
		text, diags := lang.Replace(d.path, d.text, d.model, field, line)
		if len(diags) > 0 {
			d.diagnostics(diags, map[string]string{diags[0].Pos.Path: strings.TrimSpace(line)})
			return nil, &exitError{code: exitFailed, err: errors.New("nothing was written")}
		}
		d.text = text
	}
	return fresh, nil
}

// add adds lines to the model, and the model where there is none. A mistake is shown in the
// line that has it.
func (d *declaring) add(lines []string) error {
	f, _ := lang.Parse(d.path, d.text)
	d.isNew = !f.HasModel(d.model)
	text, diags := lang.Declare(d.path, d.text, d.model, lines)
	if len(diags) == 0 {
		d.text = text
		return nil
	}
	shown := map[string]string{d.path: d.src}
	for i, x := range diags {
		for _, l := range lines {
			if x.Pos.Path == d.path {
				break
			}
			if one, more := lang.Declare(d.path, d.src, d.model, []string{l}); one == d.src &&
				len(more) > 0 && more[0].Message == x.Message {
				shown[x.Pos.Path] = strings.TrimSpace(l)
			}
		}
		d.diagnostics(diags[i:i+1], shown)
	}
	return &exitError{code: exitFailed, err: errors.New("nothing was written")}
}

// tell tells what became of the file; lines are those that were asked for.
func (d *declaring) tell(lines int) error {
	if d.text == d.src { // every line is there already
		if d.json {
			return d.document(
				map[string]any{"model": d.model, "file": d.path, "new": false, "added": 0, "removed": 0},
			)
		}
		d.out.line(d.path + "  unchanged")
		return nil
	}
	if d.json {
		return d.document(map[string]any{
			"model":   d.model,
			"file":    d.path,
			"new":     d.isNew,
			"added":   lines,
			"removed": len(d.remove),
		})
	}
	sign := "~"
	if d.src == "" {
		sign = "+"
	}
	var what []string
	if d.isNew {
		what = append(what, "model "+d.model)
	}
	if lines > 0 {
		what = append(what, plural(lines, "line", "lines"))
	}
	if len(d.remove) > 0 {
		what = append(what, "without "+strings.Join(d.remove, ", "))
	}
	d.out.line(d.out.sign(sign, d.path) + "  " + strings.Join(what, ", "))
	d.next("erbario diff")
	return nil
}

// modelFile is the file that declares a model, or the one that a new model is
// to have, with its text.
func (a *app) modelFile(p *project.Project, model string) (path, text string, err error) {
	files, src, _, err := p.Parse()
	if err != nil {
		return "", "", err
	}
	for _, f := range files {
		if f.HasModel(model) {
			return f.Path, src[f.Path], nil
		}
	}
	for _, f := range files {
		for _, b := range f.Blocks {
			if one, many := declare.SnakeCase(b.Name.Name), declare.SnakeCase(model); b.Kind == lang.ModelBlock &&
				(declare.Plural(one) == many || declare.Plural(many) == one) {
				return "", "", fmt.Errorf(
					"there is a model %s, and %s would be a second one of its plural: write erbario declare %s",
					b.Name.Name, model, b.Name.Name)
			}
		}
	}
	path = project.ModelsFolder + "/" + declare.SnakeCase(model) + project.ModelSuffix
	return path, src[path], nil
}

// stillRight refuses an edit that brings a mistake into models that had none.
func (a *app) stillRight(p *project.Project, path, text string) error {
	files, src, diags, err := p.Parse()
	if err != nil {
		return err
	}
	engineName := ""
	if list := p.Engines(); len(list) > 0 {
		engineName = list[0].Name()
	}
	_, before := declare.Resolve(files, p.Rules(), engineName)
	f, now := lang.Parse(path, text)
	i := slices.IndexFunc(files, func(o *lang.File) bool { return o.Path == path })
	if i >= 0 {
		files[i] = f
	} else {
		files = append(files, f)
	}
	_, after := declare.Resolve(files, p.Rules(), engineName)
	fresh := append(now, after...)
	old := map[string]bool{}
	for _, d := range append(diags, before...) {
		old[d.Message] = true
	}
	fresh = slices.DeleteFunc(fresh, func(d lang.Diagnostic) bool { return old[d.Message] || d.Warning })
	if len(fresh) == 0 {
		return nil
	}
	src[path] = text
	a.diagnostics(fresh, src)
	return fmt.Errorf("nothing was written")
}
