package cli

// This file is the command diagram: a picture of the models, and of what changes in them.

import (
	"cmp"
	"context"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"erbario/internal/diagram"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/proof"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// diagramOptions are the flags of diagram.
type diagramOptions struct {
	out, group string
	around     int
	changes    maybe
}

// maybe is a flag that can be given alone, or with a value: --changes, --changes=ID.
type maybe struct {
	given bool
	value string
}

func (m *maybe) String() string   { return m.value }
func (m *maybe) Get() any         { return *m }
func (m *maybe) IsBoolFlag() bool { return true }

// Set takes what is after the = ; the library gives "true" where nothing does.
func (m *maybe) Set(s string) error {
	m.given = true
	if s != "true" {
		m.value = s
	}
	return nil
}

func (a *app) diagramCommand() *cli.Command {
	o := diagramOptions{}
	return &cli.Command{
		Name: "diagram", ArgsUsage: "[MODEL…]", Usage: "draw the models and how they refer to each other",
		Description: "The ending of FILE says what it is: .svg, .html, .dot, .mmd, .md or .json. Without -o a\nsketch is printed. With models, these alone. --changes marks by colour and by + ~ - what is not\ndrafted yet; --changes=ID what a migration changes.\n\n  erbario diagram -o models.html\n  erbario diagram Specimen --around 1\n  erbario diagram --changes -o changes.svg",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "o", Usage: "write the picture into `FILE`", Destination: &o.out},
			&cli.IntFlag{Name: "around", Usage: "with the models named, those within `N` references of them",
				Destination: &o.around},
			&cli.StringFlag{Name: "group", Usage: "colour the models by what declares them: `file, folder or none`",
				Destination: &o.group},
			&cli.GenericFlag{Name: "changes", Usage: "mark what is not drafted yet; =`ID`: what a migration changes",
				Value: &o.changes},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.project()
			if err != nil {
				return err
			}
			return a.diagram(ctx, p, o, c.Args().Slice())
		},
	}
}

// writers are the forms of a diagram, by the ending of its file.
var writers = map[string]func(g *diagram.Graph, title string) string{
	".svg":  func(g *diagram.Graph, _ string) string { return g.SVG() },
	".html": func(g *diagram.Graph, title string) string { return g.HTML(title) },
	".dot":  func(g *diagram.Graph, _ string) string { return g.DOT() },
	".mmd":  func(g *diagram.Graph, _ string) string { return g.Mermaid() },
	".md":   func(g *diagram.Graph, title string) string { return g.Markdown(title) },
	".json": func(g *diagram.Graph, _ string) string { return g.JSON() },
}

func (a *app) diagram(ctx context.Context, p *project.Project, o diagramOptions, names []string) error {
	write := writers[strings.ToLower(filepath.Ext(o.out))]
	switch {
	case o.out != "" && write == nil:
		return wrongUse("%s: the ending says what to draw: %s", o.out,
			strings.Join(slices.Sorted(maps.Keys(writers)), ", "))
	case o.around < 0:
		return wrongUse("--around is a number of references, from 0 on")
	case o.around > 0 && len(names) == 0:
		return wrongUse("--around needs a model: erbario diagram MODEL --around %d", o.around)
	case !slices.Contains([]string{"", "file", "folder", "none"}, o.group):
		return wrongUse("--group is file, folder or none, not %q", o.group)
	}
	g, err := a.graph(ctx, p, o)
	if err != nil {
		return err
	}
	all := boxNames(g)
	if unknown := g.Only(names, o.around); len(unknown) > 0 {
		return wrongUse("there is no model %s%s", unknown[0], meant(unknown[0], all))
	}
	g.Layout()
	switch {
	case o.out != "":
		return a.writeDiagram(o.out, write(g, filepath.Base(p.Dir)), g)
	case a.json:
		return a.document(g.Document())
	}
	a.sketch(g)
	return nil
}

func boxNames(g *diagram.Graph) (out []string) {
	for _, b := range g.Boxes {
		out = append(out, b.Name)
	}
	return out
}

// writeDiagram writes a graph into a file.
func (a *app) writeDiagram(path, text string, g *diagram.Graph) error {
	sign, err := writeOwn(path, text, "erbario diagram", diagram.Ours)
	if err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{
			"file": path, "change": sign, "models": len(g.Boxes), "references": len(g.Lines),
		})
	}
	a.tellFile(path, sign, g.Summary())
	return nil
}

// sketch prints a graph: what refers is aligned, and lists are as long as they are.
func (a *app) sketch(g *diagram.Graph) {
	items := g.Sketch()
	var aligned [][]string
	for i, x := range items {
		for j := range x.Cells {
			x.Cells[j] = cell(x.Cells[j])
		}
		if len(x.Cells) > 1 && !x.Model {
			aligned = append(aligned, items[i].Cells)
		}
	}
	rows := columns(aligned)
	for _, x := range items {
		line := strings.Join(x.Cells, "  ")
		switch {
		case x.Model:
			line = a.out.paint(styleHead, x.Cells[0]) + strings.TrimPrefix(line, x.Cells[0])
		case len(x.Cells) > 1:
			line, rows = "  "+rows[0], rows[1:]
		default:
			line = "  " + line
		}
		if line = strings.TrimRight(line, " "); g.Changes {
			line = a.out.paint(styleOf(x.Sign), cmp.Or(x.Sign, " ")) + " " + line
		}
		a.out.line(line)
	}
	if len(g.Boxes) == 0 {
		a.out.line("there are no models")
	}
}

// graph is what is drawn.
func (a *app) graph(ctx context.Context, p *project.Project, o diagramOptions) (*diagram.Graph, error) {
	if o.changes.value != "" {
		return a.migrationGraph(ctx, p, o)
	}
	if o.changes.given {
		return a.draftGraph(ctx, p, o)
	}
	e, err := a.engineOfModels(p)
	if err != nil {
		return nil, err
	}
	d, err := a.models(p, e)
	if err != nil {
		return nil, err
	}
	groups, err := groupsOf(p, o.group)
	return diagram.Of(d.Schema, groups), err
}

// draftGraph is the models with what no migration has yet.
func (a *app) draftGraph(ctx context.Context, p *project.Project, o diagramOptions) (*diagram.Graph, error) {
	l, err := a.open(ctx, p, a.database, engine.ReadOnly, false)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	s, err := a.state(ctx, p, l)
	if err != nil {
		return nil, err
	}
	changes, err := s.Undrafted(ctx)
	if err != nil {
		return nil, err
	}
	groups, err := groupsOf(p, o.group)
	return diagram.Compared(raised(l.engine, s.Upcoming, s.Wanted), declaredIn(s.Wanted), changes, groups), err
}

// migrationGraph is what a migration leaves, with what it changes.
func (a *app) migrationGraph(ctx context.Context, p *project.Project, o diagramOptions) (*diagram.Graph, error) {
	e, err := a.engineToProve(p)
	if err != nil {
		return nil, err
	}
	files, err := p.Migrations(e)
	if err != nil {
		return nil, err
	}
	m, err := migration.Find(files, o.changes.value)
	if err != nil {
		return nil, err
	}
	wanted, err := a.wanted(p, e)
	if err != nil {
		wanted = &sqlschema.Schema{} // the names of tables do
	}
	before, after, err := around(ctx, e, files, m, wanted)
	if err != nil {
		return nil, err
	}
	groups, err := groupsOf(p, o.group)
	changes := diff.Schemas(before, after)
	return diagram.Compared(raised(e, before, wanted), raised(e, after, wanted), changes, groups), err
}

// around is the schema before a migration and after it, on scratch.
func around(ctx context.Context, e engine.Engine, files []*migration.Migration, m *migration.Migration,
	wanted *sqlschema.Schema) (before, after *sqlschema.Schema, err error) {
	db, err := proof.Replay(ctx, e, files[:slices.Index(files, m)], wanted)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	if before, err = db.Inspect(ctx); err != nil {
		return nil, nil, err
	}
	if err = proof.Run(ctx, db, e, m, false); err != nil {
		return nil, nil, err
	}
	after, err = db.Inspect(ctx)
	return before, after, err
}

// raised is what a database holds in the terms of the models, with the names of those that know it.
func raised(e engine.Engine, s, wanted *sqlschema.Schema) *schema.Schema {
	out := &schema.Schema{}
	for _, t := range s.Tables {
		if schema.Own(t.Name) {
			continue
		}
		one := e.DDL().Raise(t, false)
		if w := wanted.Table(t.Name); w != nil && w.Declared != nil {
			one.Model = w.Declared.Model
			for i, c := range one.Columns {
				same, stored := w.Declared.Column(c.Name), w.Column(c.Name)
				if same == nil || stored == nil {
					continue
				}
				c.Field = same.Field
				if stored.SQLType == t.Columns[i].SQLType { // as the model says it
					c.Type = same.Type
				}
			}
			for _, x := range one.Indexes {
				x.Live = w.Declared.SoftDelete != "" && x.Where == "{"+w.Declared.SoftDelete+"} IS NULL"
			}
		}
		out.Tables = append(out.Tables, one)
	}
	return out
}

// declaredIn is what a schema was made from.
func declaredIn(s *sqlschema.Schema) *schema.Schema {
	out := &schema.Schema{}
	for _, t := range s.Tables {
		if t.Declared != nil {
			out.Tables = append(out.Tables, t.Declared)
		}
	}
	return out
}

// groupsOf says of each model what declares it: the file, the folder, or nothing. Where nobody says which,
// folders are distinguished if there are several, or else files that declare several models.
func groupsOf(p *project.Project, by string) (map[string]string, error) {
	files, _, _, err := p.Parse()
	if err != nil {
		return nil, err
	}
	in := map[string]map[string]string{"file": {}, "folder": {}, "none": {}}
	count := map[string]map[string]int{"file": {}, "folder": {}}
	for _, f := range files {
		rel := strings.TrimPrefix(f.Path, project.ModelsFolder+"/")
		for _, b := range f.Blocks {
			if b.Kind != lang.ModelBlock {
				continue
			}
			in["file"][b.Name.Name] = strings.TrimSuffix(rel, project.ModelSuffix)
			if folder := path.Dir(rel); folder != "." {
				in["folder"][b.Name.Name] = folder
			}
			count["file"][in["file"][b.Name.Name]]++
			count["folder"][in["folder"][b.Name.Name]]++
		}
	}
	if by == "" {
		switch models, files := len(in["file"]), len(count["file"]); {
		case len(count["folder"]) > 1:
			by = "folder"
		case files > 1 && files*3 <= models*2:
			by = "file"
		}
	}
	return in[cmp.Or(by, "none")], nil
}
