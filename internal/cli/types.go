package cli

// This file is the command types: the types of an application, written from the models.

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"erbario/internal/apptypes"
	"erbario/internal/project"
)

func (a *app) typesCommand() *cli.Command {
	o := typesOptions{}
	return &cli.Command{
		Name: "types", Usage: "write the types of an application from the models",
		Description: "No database is needed. Of each model three: a row as it is read, what an insert gives, what an update may change.\nNAME is one of " +
			wordList(apptypes.Languages()) + ",\nor a [types.NAME] of erbario.toml; without --lang, all of those that name a file.\n\n" +
			"  erbario types --lang typescript -o web/types.ts\n  erbario types --check",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "lang", Usage: "the language, or the types of the settings, with that `NAME`",
				Destination: &o.lang},
			&cli.StringFlag{Name: "o", Usage: "the `FILE`, or the folder, to write; without it they are printed",
				Destination: &o.out},
			&cli.BoolFlag{Name: "check", Usage: "write nothing; exit 3 if a file is out of date", Destination: &o.check},
			&cli.StringFlag{Name: "template", Usage: "fill this `FILE`, a text/template of Go, instead of a language",
				Destination: &o.template},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.projectFor(c, 0)
			if err != nil {
				return err
			}
			return a.types(p, o)
		},
	}
}

// wordList is a list with "and" before its last.
func wordList(list []string) string {
	return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}

// typesOptions are the flags of types.
type typesOptions struct {
	lang, out, template string
	check               bool
}

// typesJob is one set of types that is to be written.
type typesJob struct {
	project.TypesSettings
	name string // of the settings, or the language
	path string // where to; empty: printed
	// template is that of the flag, which is sought where the program was started, or of the settings.
	template string
}

// jobs are the sets of types that are asked for.
func (o typesOptions) jobs(p *project.Project) ([]typesJob, error) {
	set := p.Settings.Types
	job := func(name string) typesJob {
		j := typesJob{TypesSettings: set[name], name: name}
		if j.File != "" {
			j.path = filepath.Join(p.Dir, filepath.FromSlash(j.File))
			if strings.HasSuffix(j.File, "/") {
				j.path += string(filepath.Separator)
			}
		}
		if j.Template != "" {
			j.template = filepath.Join(p.Dir, filepath.FromSlash(j.Template))
		}
		j.Lang = cmp.Or(j.Lang, name)
		return j
	}
	if o.lang == "" && o.template == "" {
		if o.out != "" {
			return nil, wrongUse("-o needs --lang: one of %s", wordList(apptypes.Languages()))
		}
		var all []typesJob
		for _, name := range slices.Sorted(maps.Keys(set)) {
			if j := job(name); j.path != "" {
				all = append(all, j)
			}
		}
		if len(all) == 0 {
			return nil, wrongUse("which language? --lang is one of %s; or add [types.NAME] with a file to erbario.toml",
				wordList(apptypes.Languages()))
		}
		return all, nil
	}
	known := slices.Concat(apptypes.Languages(), slices.Collect(maps.Keys(set)))
	if o.lang != "" && !slices.Contains(known, o.lang) {
		return nil, wrongUse("there are no types for %q%s; --lang is one of %s", o.lang, meant(o.lang, known),
			wordList(apptypes.Languages()))
	}
	j := job(o.lang)
	if o.out != "" {
		j.path = o.out
	}
	if o.template != "" {
		j.template = o.template
	}
	if o.check && j.path == "" {
		return nil, wrongUse("--check needs -o, or a file in [types.%s] of erbario.toml", cmp.Or(o.lang, "NAME"))
	}
	return []typesJob{j}, nil
}

// types writes, prints or compares the types that are asked for.
func (a *app) types(p *project.Project, o typesOptions) error {
	jobs, err := o.jobs(p)
	if err != nil {
		return err
	}
	e, err := a.engineOfModels(p)
	if err != nil {
		return err
	}
	d, err := a.models(p, e)
	if err != nil {
		return err
	}
	made := apptypes.Of(d.Schema, e.Name())
	var changes []apptypes.Change
	for _, j := range jobs { // all of them, before one is written
		files, err := j.files(made)
		if err != nil {
			return fmt.Errorf("types %s: %w", j.name, err)
		}
		if j.path == "" {
			return a.printTypes(files)
		}
		list, err := apptypes.Compare(files, j.path, j.template == "")
		if err != nil {
			return err
		}
		changes = append(changes, list...)
	}
	if !o.check {
		for _, c := range changes {
			if err := put(c); err != nil {
				return err
			}
		}
	}
	return a.tellTypes(changes, o)
}

// files are the files of a set.
func (j typesJob) files(made *apptypes.Types) ([]apptypes.File, error) {
	if j.template == "" {
		return apptypes.Write(made, apptypes.Options{Language: j.Lang, Case: j.Case, Int64: j.Int64,
			Nullable: j.Nullable, Package: j.Package})
	}
	text, err := project.ReadFile(j.template)
	if err != nil {
		return nil, fmt.Errorf("the template cannot be read: %w", err)
	}
	filled, err := apptypes.Fill(made, filepath.Base(j.template), text)
	return []apptypes.File{{Name: strings.TrimSuffix(filepath.Base(j.template), ".tmpl"), Text: filled}}, err
}

func put(c apptypes.Change) error {
	switch c.Sign {
	case "":
		return nil
	case "-":
		return os.Remove(c.Path)
	}
	return project.WriteFile(c.Path, c.Text)
}

func (a *app) printTypes(files []apptypes.File) error {
	if a.json {
		list := []map[string]any{}
		for _, f := range files {
			list = append(list, map[string]any{"file": f.Name, "text": f.Text})
		}
		return a.document(map[string]any{"types": list})
	}
	for i, f := range files {
		if len(files) > 1 {
			if i > 0 {
				a.out.raw("")
			}
			a.out.raw("// " + f.Name)
		}
		a.out.raw(strings.TrimSuffix(f.Text, "\n"))
	}
	return nil
}

// tellTypes reports what was written, or what would be.
func (a *app) tellTypes(changes []apptypes.Change, o typesOptions) error {
	list := []map[string]any{}
	stale := 0
	for _, c := range changes {
		path := relativeTo(c.Path)
		list = append(list, map[string]any{"file": path, "change": c.Sign})
		if c.Sign == "" {
			continue
		}
		stale++
		if !a.json {
			a.out.line(a.out.sign(c.Sign, path))
		}
	}
	if a.json {
		a.document(map[string]any{"types": list})
	}
	switch {
	case o.check && stale > 0:
		next := "erbario types"
		for _, f := range [][2]string{{"--lang ", o.lang}, {"--template ", o.template}, {"-o ", o.out}} {
			if f[1] != "" {
				next += " " + shellFlag(f[0]+f[1])
			}
		}
		a.next(next)
		return &exitError{code: exitDiffers, err: fmt.Errorf("%s out of date", plural(stale, "file is", "files are"))}
	case stale == 0 && !a.json:
		a.out.printf("%s up to date", plural(len(changes), "file is", "files are"))
	}
	return nil
}

// relativeTo is a path as seen from where the program was started.
func relativeTo(path string) string {
	here, err := os.Getwd()
	if err != nil || !filepath.IsAbs(path) {
		return filepath.ToSlash(filepath.Clean(path))
	}
	rel, err := filepath.Rel(here, path)
	if err != nil {
		return path
	}
	return filepath.ToSlash(rel)
}
