package cli

// This file is the command adopt.

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/adopt"
	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/project"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

func (a *app) adoptCommand() *cli.Command {
	o := &adopting{app: a}
	return &cli.Command{
		Name: "adopt", ArgsUsage: "[NAME…|TABLE.COLUMN…]",
		Usage:       "take over tables that exist: models for them, and a first migration",
		Description: "Writes models that say exactly what the tables are, and a migration that creates\nthem where they are missing. Nothing in the database is changed but Erbario's own\ntables. Without names: every table that is not declared, or if all are, views,\nfunctions, triggers and the like. For a table or column that is declared: what was\nchanged in it outside of Erbario.\n\n  erbario adopt --dry-run\n  erbario adopt 'loans' 'card_*'\n  erbario adopt readers.note",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "set up a project for the database of this `URL` first",
				Destination: &o.url},
			&cli.StringSliceFlag{Name: "except",
				Usage: "leave these tables alone: a name, or a pattern with *: `TABLE`", Destination: &o.except},
			&cli.BoolFlag{Name: "outside", Usage: "declare the tables as outside: referred to, never changed",
				Destination: &o.outside},
			&cli.BoolFlag{Name: "only-language", Usage: "write models alone: refuse what they do not say",
				Destination: &o.language},
			&cli.StringSliceFlag{Name: "rows", Destination: &o.rows,
				Usage: "declare the rows of this small table as reference rows: a name, or a pattern with *: `TABLE`"},
			&cli.StringFlag{Name: "at", Destination: &o.at,
				Usage: "another database that holds the same: compare it with the migrations up to this one, and record them (any unique part of its `ID`)"},
			&cli.StringSliceFlag{Name: "accept", Destination: &o.accept,
				Usage: "with --at: record with these differences: a table, TABLE.COLUMN, an object, or a pattern with *: `NAME`"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be written, and write nothing", Destination: &o.dry},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			o.names = c.Args().Slice()
			return o.run(ctx)
		},
	}
}

// adopting is a run of erbario adopt.
type adopting struct {
	*app
	url          string
	names        []string
	except       []string
	outside, dry bool
	language     bool   // SQL is refused
	at           string // the migration at which a database is to be recorded
	accept       []string
	rows         []string // tables whose rows are declared
	began        bool     // files were written, or are about to be
	schema       string   // that has all tables, where the URL named none; empty: it did, or there are several

	p        *project.Project
	l        *live
	live     *sqlschema.Schema
	rules    declare.Rules
	settings []adopt.Setting
	schemas  []engine.OtherSchema
	outcome  *adopt.Outcome
	m        *migration.Migration
	lacking  []engine.LeftOut
}

func (o *adopting) run(ctx context.Context) error {
	if o.at != "" {
		return o.adoptAt(ctx)
	}
	if len(o.accept) > 0 {
		return wrongUse("--accept is about the differences that --at finds")
	}
	if drifted, err := o.drifted(); err != nil {
		return err
	} else if drifted {
		return o.adoptDrift(ctx)
	}
	if o.url == "" {
		return o.adopt(ctx)
	}
	_, err := o.project()
	if err == nil {
		return wrongUse("there is a project here already: leave --url out, or choose a database with --database")
	}
	if _, missing := os.Stat(o.dir); missing == nil && !errors.Is(err, project.ErrNone) {
		return err
	}
	back, err := project.TryInit(o.engines, o.dir, o.url)
	if err != nil {
		return err
	}
	err = o.adopt(ctx)
	if elsewhere := (*inSchema)(nil); errors.As(err, &elsewhere) {
		back()
		o.l.Close()
		o.url, o.schema = withSchema(o.url, elsewhere.name), elsewhere.name
		if back, err = project.TryInit(o.engines, o.dir, o.url); err != nil {
			return err
		}
		err = o.adopt(ctx)
	}
	if !o.began {
		back()
	}
	return err
}

// adopt adopts in the project of the folder.
func (o *adopting) adopt(ctx context.Context) (err error) {
	if o.p, err = o.project(); err != nil {
		return err
	}
	if o.l, err = o.open(ctx, o.p, o.database, engine.ReadOnly, false); err != nil {
		return err
	}
	defer o.l.Close()
	if err := o.allSchemas(ctx); err != nil {
		return err
	}
	if err := o.look(ctx); err != nil {
		return err
	}
	if len(o.outcome.Tables) == 0 && len(o.outcome.Files) == 0 {
		return o.nothing()
	}
	if err := o.refuse(); err != nil {
		return err
	}
	if o.dry {
		return o.show(false)
	}
	o.began = true
	if err := o.write(); err != nil {
		return err
	}
	if o.m == nil {
		return o.show(false)
	}
	recorded, err := o.record(ctx, nil)
	if err != nil {
		return err
	}
	return o.show(recorded)
}

// again is the same command without --dry-run.
func (o *adopting) again() string {
	words := []string{"erbario", "adopt"}
	if o.url == "" && o.l.Name != o.p.Default() {
		words = []string{"erbario", "--database", o.l.Name, "adopt"}
	}
	words = append(words, o.names...)
	for _, name := range o.except {
		words = append(words, "--except", name)
	}
	for _, name := range o.rows {
		words = append(words, "--rows", name)
	}
	if o.outside {
		words = append(words, "--outside")
	}
	if o.language {
		words = append(words, "--only-language")
	}
	if o.url != "" {
		words = append(words, "--url", project.Shown(o.url))
	}
	for i, w := range words {
		words[i] = typed(w)
	}
	return strings.Join(words, " ")
}

// chosen tells whether a table is asked for.
func (o *adopting) chosen(table string) bool {
	if len(o.names) > 0 {
		return adopt.Matches(o.names, table) && !adopt.Matches(o.except, table)
	}
	return !adopt.Matches(o.except, table) && !adopt.Matches(o.p.Settings.Adopt.Except, table)
}

// look finds out what would be written.
func (o *adopting) look(ctx context.Context) error {
	p, e := o.p, o.l.engine
	files, _, diags, err := p.Parse()
	if err != nil {
		return err
	}
	before, err := p.Migrations(e)
	if err != nil {
		return err
	}
	applied, err := runner.History(ctx, o.l.db)
	if err != nil {
		return err
	}
	s := runner.StatusOf(before, applied, e)
	if err := s.Problem(); err != nil {
		return err
	}
	if len(s.Pending) > 0 {
		return fmt.Errorf("%s is pending here: apply it first, or undo what is in its way", s.Pending[0].ID)
	}
	if o.live, err = o.l.db.Inspect(ctx); err != nil {
		return err
	}
	o.rules = p.Rules()
	var d *declare.Declared
	if len(files) == 0 && len(before) == 0 {
		o.rules, o.settings = adopt.Choose(o.live, e.Name(), o.rules)
	} else {
		var more []lang.Diagnostic
		d, more = declare.Resolve(files, o.rules, e.Name())
		if n := o.diagnostics(onlyErrors(append(diags, more...)), nil); n > 0 {
			return &exitError{code: exitFailed, err: fmt.Errorf("the models have %s: nothing was done", plural(n,
				"error", "errors"))}
		}
	}
	for _, name := range o.names {
		if !slices.ContainsFunc(adopt.Names(o.live), func(n string) bool { return adopt.Matches([]string{name}, n) }) {
			return fmt.Errorf("%s has no table %s, and nothing else of that name", o.l.Name, name)
		}
	}
	declared := &schema.Schema{}
	if d != nil {
		declared = d.Schema
	}
	inSQL, _ := p.Objects(e, declared)
	var scratch *adopt.Scratch
	if o.anyLeft(declared, inSQL) {
		scratch = adopt.MakeScratch(ctx, e, before)
		defer scratch.Close()
	}
	in := adopt.Input{
		Engine: e, DB: o.l.db, Live: o.live, Declared: d, Files: files, Rules: o.rules, Choose: o.chosen,
		Outside: o.outside, Folder: project.ModelsFolder, Schemas: o.schemas,
		Scratch: scratch, SQL: inSQL,
	}
	o.outcome, err = adopt.Look(ctx, in)
	if err == nil && len(o.outcome.Tables) == 0 {
		o.outcome, err = in.Undeclared(ctx, before)
		return err
	}
	if err != nil || len(o.outcome.Tables) == 0 {
		return err
	}
	if err := in.AddRows(ctx, o.outcome, o.rows); err != nil {
		return err
	}
	id := migrationID(before, "adopted")
	show, end := o.counting("creating all of it on scratch")
	defer end()
	in.Progress = show
	o.m, o.lacking, err = in.Beginning(ctx, o.outcome, id, before)
	return err
}

// anyLeft tells whether a table that is asked for is not declared.
func (o *adopting) anyLeft(declared *schema.Schema, inSQL []*sqlschema.Object) bool {
	return slices.ContainsFunc(o.live.Tables, func(t *sqlschema.Table) bool {
		return !schema.Own(t.Name) && o.chosen(t.Name) && declared.Table(t.Name) == nil &&
			objects.TableNamed(inSQL, t.Name) == nil
	})
}

// refuse is why nothing is written where models alone are asked for; nil: they say everything.
func (o *adopting) refuse() error {
	if !o.language {
		return nil
	}
	var list []string
	for _, t := range o.outcome.Tables {
		if (t.Outside || t.InSQL) && !o.outside {
			list = append(list, strings.TrimSuffix(fmt.Sprintf("%s (%s)", t.Name, strings.Join(t.Why, "; ")), " ()"))
		}
	}
	if n := o.outcome.Objects; n > 0 {
		list = append(list, plural(n, "object", "objects")+" to be declared in SQL")
	}
	for _, x := range o.outcome.Left {
		list = append(list, x.Kind+" "+x.Name)
	}
	if len(list) == 0 {
		return nil
	}
	return fmt.Errorf("models do not say all of it: %s; nothing was written", strings.Join(list, ", "))
}

// migrationID is the id of a new migration.
func migrationID(before []*migration.Migration, slug string) string {
	const form = "20060102T150405"
	stamp := time.Now().UTC().Format(form)
	if n := len(before); n > 0 && before[n-1].Stamp() >= stamp {
		if t, err := time.Parse(form, before[n-1].Stamp()); err == nil {
			stamp = t.Add(time.Second).Format(form)
		}
	}
	return stamp + "-" + slug
}

// write writes the settings, the models and the migration.
func (o *adopting) write() error {
	if len(o.settings) > 0 {
		text, err := o.p.SettingsText()
		if err != nil {
			return err
		}
		for _, s := range o.settings {
			text = project.Set(text, s.Section, s.Key, s.Value)
		}
		if err := o.p.WriteSettings(text); err != nil {
			return err
		}
	}
	for _, f := range o.outcome.Files {
		if err := project.WriteFile(filepath.Join(o.p.Dir, f.Path), f.Text); err != nil {
			return err
		}
	}
	if o.m == nil { // the next draft finds what is declared
		return nil
	}
	return project.WriteFile(filepath.Join(o.p.MigrationsDir(), o.m.FileName()), o.m.Text)
}

// record records the migration where everything exists. Without the right to that it is left to
// apply.
func (o *adopting) record(ctx context.Context, keeps []string) (bool, error) {
	if o.l.Protected {
		return false, nil
	}
	o.l.Close()
	o.p.Reread()
	l, err := o.open(ctx, o.p, o.database, engine.ReadWrite, false)
	if err != nil {
		return false, nil //nolint:nilerr // apply says it
	}
	o.l = l
	if err := runner.Record(ctx, l.db, l.engine, []*migration.Migration{o.m}, keeps); err != nil {
		o.warn("the migration could not be recorded here: %v", err)
		return false, nil
	}
	return true, nil
}

func (o *adopting) nothing() error {
	if o.json {
		return o.document(map[string]any{"database": o.l.Name, "tables": []any{}, "migration": nil})
	}
	o.out.printf("nothing to adopt: everything in %s is declared", o.l.Name)
	o.otherSchemas()
	return nil
}

type jsonAdopted struct {
	Table   string   `json:"table"`
	Model   string   `json:"model"`
	Outside bool     `json:"outside"`
	InSQL   bool     `json:"in_sql"`
	Why     []string `json:"not_said,omitempty"`
	Native  []string `json:"engine_types,omitempty"`
}

type jsonLeft struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Why  string `json:"why,omitempty"`
}

// show says what came of it.
func (o *adopting) show(recorded bool) error {
	said, native := 0, 0
	for _, t := range o.outcome.Tables {
		if !t.Outside {
			said++
		}
		native += len(t.Native)
	}
	if o.json {
		tables, left, files := []jsonAdopted{}, []jsonLeft{}, []string{}
		for _, t := range o.outcome.Tables {
			tables = append(tables, jsonAdopted{t.Name, t.Model, t.Outside, t.InSQL, t.Why, t.Native})
		}
		for _, x := range o.outcome.Left {
			left = append(left, jsonLeft{x.Kind, x.Name, x.Why})
		}
		for _, f := range o.outcome.Files {
			files = append(files, f.Path)
		}
		rows := map[string]int{}
		for _, r := range o.outcome.Rows {
			rows[r.Table] = r.Count
		}
		return o.document(map[string]any{
			"database": o.l.Name, "tables": tables, "undeclared": left, "objects": o.outcome.Objects, "files": files,
			"rows": rows, "migration": o.migrationName(), "recorded": recorded, "dry_run": o.dry,
		})
	}
	for _, s := range o.settings {
		o.out.line(o.out.sign("~", fmt.Sprintf("%s  [%s] %s = %s", project.SettingsFile, s.Section, s.Key, s.Value)))
	}
	for i, f := range o.outcome.Files {
		if len(o.outcome.Files) > 12 && i == 10 {
			o.out.line(o.out.sign("+", fmt.Sprintf("%s/, and %d more", project.ModelsFolder, len(o.outcome.Files)-i)))
			break
		}
		o.out.line(o.out.sign("+", f.Path))
	}
	if o.m == nil {
		o.out.printf("%s declared in SQL", plural(o.outcome.Objects, "object", "objects"))
	} else {
		o.out.line(o.out.sign("+", fileOf(o.m)))
		o.out.printf("%s declared%s", plural(said, "table", "tables"), o.inSQL())
	}
	for _, r := range o.outcome.Rows {
		o.out.printf("%s of %s declared", plural(r.Count, "reference row", "reference rows"), cell(r.Table))
	}
	o.outsides(native)
	if o.schema != "" {
		o.out.printf("all tables are in the schema %[1]s: the URL has ?schema=%[1]s, and those of other databases need it, too",
			cell(o.schema))
	}
	o.otherSchemas()
	o.undeclared()
	switch {
	case o.dry:
		o.out.line("nothing was written")
		o.next(o.again())
	case o.m == nil:
		o.next("erbario " + onDatabase(o.p, o.l.Name) + "draft TITLE")
	case recorded:
		o.next("erbario " + onDatabase(o.p, o.l.Name) + "diff")
	default:
		o.next("erbario " + onDatabase(o.p, o.l.Name) + "apply")
	}
	return nil
}

// migrationName is the id of the migration that is written; nil: there is none.
func (o *adopting) migrationName() any {
	if o.m == nil {
		return nil
	}
	return o.m.ID
}

// inSQL says how much is declared in SQL.
func (o *adopting) inSQL() string {
	out, tables := "", 0
	for _, t := range o.outcome.Tables {
		if t.InSQL {
			tables++
		}
	}
	switch {
	case tables == len(o.outcome.Tables) && tables > 0:
		out = " in SQL"
	case tables > 0:
		out = fmt.Sprintf(", %d of them in SQL", tables)
	}
	if o.outcome.Objects > 0 {
		out += ", and " + plural(o.outcome.Objects, "object", "objects") + " in SQL"
	}
	return out
}

// outsides tells of the tables that the language does not say exactly.
func (o *adopting) outsides(native int) {
	if native > 0 {
		o.out.printf("%s of a type that only %s has", plural(native, "field", "fields"), o.l.engine.Name())
	}
	for _, t := range o.outcome.Tables {
		switch why := cell(strings.Join(t.Why, "; ")); {
		case t.InSQL && why != "":
			o.out.printf("%s is declared in SQL, since the language does not say it exactly: %s", cell(t.Name), why)
		case t.Outside && !o.outside:
			o.out.printf("%s is declared as outside, since the language does not say it exactly: %s", cell(t.Name), why)
		}
	}
	for _, l := range o.outcome.Beyond {
		o.warn("%s was not tried on scratch: %v", l, l.Err)
	}
	for _, l := range o.lacking {
		o.warn("%s cannot be created from nothing, and is not in the migration: %v", l, l.Err)
	}
}

// undeclared tells what models cannot declare.
func (o *adopting) undeclared() {
	kinds := map[string][]string{}
	var order []string
	for _, x := range o.outcome.Left {
		if kinds[x.Kind] == nil {
			order = append(order, x.Kind)
		}
		name := x.Name
		if x.Why != "" {
			name += " (" + x.Why + ")"
		}
		kinds[x.Kind] = append(kinds[x.Kind], name)
	}
	for _, k := range order {
		names := kinds[k]
		if more := len(names) - 5; more > 1 {
			names = append(slices.Clone(names[:5]), fmt.Sprintf("and %d more", more))
		}
		o.out.printf("left undeclared: %s", cell(k+" "+strings.Join(names, ", ")))
	}
}
