package cli

// This file is the command insert: a row or two, without another program.

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/engine"
	"erbario/internal/insert"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
)

func (a *app) insertCommand() *cli.Command {
	var from string
	return &cli.Command{
		Name: "insert", ArgsUsage: "MODEL FIELD=VALUE…", Usage: "insert a row, and print it as it is stored",
		Description: "Values are written as in the models: true, null, now, today, new uuid, 2026-01-31,\ntext without quotes. A reference takes the primary key or any unique value of a\nrow. A field that is not given gets its default.\n\n  erbario insert Specimen accession=HB-0001 taxon='Rosa canina'",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "from",
				Usage:       "the rows of this CSV `FILE`, whose first line names the fields; all or none",
				Destination: &from,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			model := c.Args().First()
			if model == "" {
				return wrongUse("erbario insert needs a model, such as erbario insert Specimen label=Rosa")
			}
			args := c.Args().Slice()[1:]
			if from != "" && len(args) > 0 {
				return wrongUse("--from has the rows: leave %s out", args[0])
			}
			rows, err := givenRows(args, from)
			if err != nil {
				return err
			}
			if err := a.confirmDatabase("an insert"); err != nil {
				return err
			}
			return a.onSchema(ctx, engine.ReadWrite, func(p *project.Project, l *live, s *sqlschema.Schema) error {
				t, err := a.liveTable(p, l, s, model)
				if err != nil {
					return err
				}
				models, _ := modelsQuietly(p, l.engine)
				return a.insert(ctx, l, insert.Table{DB: l.db, Engine: l.engine, Live: s, Models: models, Table: t},
					rows, from)
			})
		},
	}
}

// givenRows are the rows that were given, by arguments or by a file.
func givenRows(args []string, from string) ([][]insert.Given, error) {
	if from == "" {
		var row []insert.Given
		for _, arg := range args {
			field, value, ok := strings.Cut(arg, "=")
			if !ok || field == "" {
				return nil, wrongUse("%q: write FIELD=VALUE, with quotes around it where the value has spaces", arg)
			}
			row = append(row, insert.Given{Field: field, Value: value})
		}
		return [][]insert.Given{row}, nil
	}
	text, err := project.ReadFile(from)
	if err != nil {
		return nil, fmt.Errorf("the rows cannot be read: %w", err)
	}
	records, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil {
		return nil, fmt.Errorf("%s: %w: nothing was inserted", from, err)
	}
	if len(records) < 2 {
		return nil, fmt.Errorf("%s has no row after the line with the field names: nothing was inserted", from)
	}
	var out [][]insert.Given
	for _, record := range records[1:] {
		var row []insert.Given
		for i, value := range record {
			if value != "" { // it is left to its default
				row = append(row, insert.Given{Field: strings.TrimSpace(records[0][i]), Value: value})
			}
		}
		out = append(out, row)
	}
	return out, nil
}

func (a *app) insert(ctx context.Context, l *live, t insert.Table, given [][]insert.Given, from string) error {
	where := func(i int) string {
		if from == "" {
			return t.Name
		}
		return fmt.Sprintf("%s, row %d", from, i+1)
	}
	var list []insert.Row
	for i, g := range given {
		row, err := t.Read(ctx, g)
		var field *insert.FieldError
		var unknown *insert.UnknownError
		switch {
		case errors.As(err, &unknown):
			return wrongUse("%s: %v%s; nothing was inserted", where(i), unknown, meant(unknown.Field, unknown.Known))
		case errors.As(err, &field):
			return fmt.Errorf("%s: %w; nothing was inserted", where(i), field)
		case err != nil:
			return err
		}
		list = append(list, row)
	}
	stored, err := t.Insert(ctx, list, time.Minute)
	var rule *insert.RuleError
	if errors.As(err, &rule) {
		return fmt.Errorf("nothing was inserted: %s", ruleWords(rule))
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{
			"database": l.Name,
			"table":    t.Name,
			"inserted": len(list),
			"columns":  append([]string{}, stored.Columns...),
			"values":   append([][]string{}, stored.Values...),
		})
	}
	a.out.line(a.out.sign("+", t.Name) + "  " + rows(int64(len(list))))
	const most = 20
	shown := stored
	if len(shown.Values) > most {
		shown.Values = shown.Values[:most]
	}
	if len(shown.Values) > 0 {
		a.grid(shown)
	}
	if left := len(stored.Values) - len(shown.Values); left > 0 {
		a.out.printf("  and %s more", thousands(int64(left)))
	}
	return nil
}

// ruleWords say which rule a row breaks, in the words in which look shows it.
func ruleWords(e *insert.RuleError) string {
	for _, part := range partsToLook(e.Table) {
		if e.Name != "" && part.Name == e.Name && !part.column {
			return fmt.Sprintf("it breaks %s (%s): %v", e.Name, part.What, e.Err)
		}
	}
	if k, ok := e.Rule.(*sqlschema.Check); ok && k.Column != "" { // it is told with its column
		for _, part := range partsToLook(e.Table) {
			if part.column && part.Name == k.Column {
				return fmt.Sprintf("it breaks a rule of %s (%s): %v", k.Column, part.What, e.Err)
			}
		}
	}
	if k, ok := e.Rule.(*sqlschema.ForeignKey); ok && slices.Contains(k.Columns, k.Columns[0]) {
		return fmt.Sprintf("%s refers to no row of %s: %v", strings.Join(k.Columns, ", "), k.Table, e.Err)
	}
	return e.Err.Error()
}
