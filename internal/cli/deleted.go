package cli

// This file is the command deleted: the rows that soft deletion has marked.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/deleted"
	"erbario/internal/engine"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
)

func (a *app) deletedCommand() *cli.Command {
	return &cli.Command{
		Name: "deleted", ArgsUsage: "list|mark|restore|purge TABLE",
		Usage:       "list, mark, restore or purge soft-deleted rows",
		Description: "  erbario deleted list specimens\n  erbario deleted restore specimens --key 7\n  erbario deleted purge specimens --older-than 90d",
		Commands:    []*cli.Command{a.deletedList(), a.deletedMark(), a.deletedRestore(), a.deletedPurge()},
		Action: func(ctx context.Context, c *cli.Command) error {
			return wrongUse("erbario deleted list, mark, restore or purge: which one?%s",
				meant(c.Args().First(), []string{"list", "mark", "restore", "purge"}))
		},
	}
}

// deletedTable opens the database and finds a table with soft deletion, by its
// name or its model's.
func (a *app) deletedTable(ctx context.Context, c *cli.Command, mode engine.Mode,
	f func(l *live, t deleted.Table) error) error {
	if c.Args().Len() != 1 {
		return wrongUse("erbario deleted %s needs one table, such as specimens", c.Name)
	}
	return a.onSchema(ctx, mode, func(p *project.Project, l *live, s *sqlschema.Schema) error {
		name := c.Args().First()
		t, err := a.liveTable(p, l, s, name)
		if err != nil {
			return err
		}
		if t.SoftDelete == "" {
			return fmt.Errorf("%s has no soft delete in %s: declare it with erbario declare MODEL 'soft delete'",
				t.Name, l.Name)
		}
		return f(l, deleted.Table{DB: l.db, SQL: l.engine.SQL(), Schema: s, Table: t})
	})
}

// onSchema opens the run's database and reads what is there.
func (a *app) onSchema(ctx context.Context, mode engine.Mode,
	f func(p *project.Project, l *live, s *sqlschema.Schema) error) error {
	p, err := a.project()
	if err != nil {
		return err
	}
	l, err := a.open(ctx, p, a.database, mode, false)
	if err != nil {
		return err
	}
	defer l.Close()
	s, err := l.db.Inspect(ctx)
	if err != nil {
		return err
	}
	return f(p, l, s)
}

func (a *app) deletedList() *cli.Command {
	count := 20
	return &cli.Command{
		Name: "list", ArgsUsage: "[TABLE]",
		Usage: "the deleted rows of a table, newest first; without TABLE, the number in each table",
		Flags: []cli.Flag{&cli.IntFlag{Name: "rows", Usage: "show `N` rows", Destination: &count, Value: 20}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return a.onSchema(ctx, engine.ReadOnly,
					func(_ *project.Project, l *live, s *sqlschema.Schema) error { return a.deletedCounts(ctx, l, s) })
			}
			return a.deletedTable(ctx, c, engine.ReadOnly,
				func(l *live, t deleted.Table) error { return a.listDeleted(ctx, l, t, count) })
		},
	}
}

func (a *app) deletedCounts(ctx context.Context, l *live, s *sqlschema.Schema) error {
	type jsonTable struct {
		Table   string `json:"table"`
		Deleted int64  `json:"deleted"`
		Rows    int64  `json:"rows"`
	}
	list := []jsonTable{}
	var table [][]string
	for _, t := range s.Tables {
		if t.SoftDelete == "" {
			continue
		}
		gone, all, err := deleted.Table{DB: l.db, SQL: l.engine.SQL(), Schema: s, Table: t}.Count(ctx)
		if err != nil {
			return err
		}
		list = append(list, jsonTable{t.Name, gone, all})
		table = append(table, []string{cell(t.Name), fmt.Sprintf("%s of %s", thousands(gone), rows(all))})
	}
	if a.json {
		return a.document(map[string]any{"database": l.Name, "tables": list})
	}
	if len(table) == 0 {
		a.out.printf("no table of %s has soft delete", l.Name)
	}
	for _, line := range columns(table) {
		a.out.line(line)
	}
	return nil
}

func (a *app) listDeleted(ctx context.Context, l *live, t deleted.Table, limit int) error {
	gone, all, err := t.Count(ctx)
	if err != nil {
		return err
	}
	list, err := t.List(ctx, max(limit, 1))
	if err != nil {
		return err
	}
	if a.json {
		return a.document(
			map[string]any{"database": l.Name, "table": t.Name, "deleted": gone, "rows": all,
				"list": jsonDeleted(t, list)},
		)
	}
	a.out.printf("%s  %s", a.out.paint(styleHead, cell(t.Name)),
		a.out.paint(styleDim, fmt.Sprintf("%s of %s deleted", thousands(gone), rows(all))))
	if len(list) == 0 {
		return nil
	}
	head := append(append([]string{"deleted at"}, t.Key()...), t.Shown()...)
	var table [][]string
	table = append(table, append(head, ""))
	for _, r := range list {
		line := []string{plainTime(r.At)}
		for _, v := range append(append([]string{}, r.Key...), r.Values...) {
			line = append(line, short(cell(v), 24))
		}
		table = append(table, append(line, cell(deletedNotes(t, r))))
	}
	lines := columns(table)
	a.out.line("  " + a.out.paint(styleHead, lines[0]))
	for i, line := range lines[1:] {
		if note := table[i+1][len(head)]; note != "" {
			line = strings.TrimSuffix(line, note) + a.out.paint(styleEdit, note)
		}
		a.out.line("  " + line)
	}
	if left := gone - int64(len(list)); left > 0 {
		a.out.printf("  and %s more (--rows N shows more)", thousands(left))
	}
	if len(t.Key()) > 0 {
		plain, err := l.db.Select(ctx, "SELECT "+strings.Join(list[0].Key, ", "))
		if err != nil {
			return err
		}
		a.next(fmt.Sprintf("erbario deleted restore %s %s", t.Name, shellFlag("--key "+deleted.JoinKey(plain[0]))))
	}
	return nil
}

// jsonDeletedRow is a row that is marked as deleted.
type jsonDeletedRow struct {
	Key       map[string]string `json:"key"`
	DeletedAt string            `json:"deleted_at"`
	Values    map[string]string `json:"values"`
	Taken     []string          `json:"conflicts"`
	Children  map[string]int64  `json:"live_children"`
}

func jsonDeleted(t deleted.Table, list []deleted.Row) []jsonDeletedRow {
	doc := []jsonDeletedRow{}
	for _, r := range list {
		j := jsonDeletedRow{
			Key:       map[string]string{},
			DeletedAt: strings.Trim(r.At, "'"),
			Values:    map[string]string{},
			Taken:     []string{},
			Children:  map[string]int64{},
		}
		for i, k := range t.Key() {
			j.Key[k] = r.Key[i]
		}
		for i, n := range t.Shown() {
			j.Values[n] = r.Values[i]
		}
		for _, x := range r.Taken {
			j.Taken = append(j.Taken, strings.Join(x.Columns, ", "))
		}
		for _, x := range r.Children {
			j.Children[x.Table] = x.Rows
		}
		doc = append(doc, j)
	}
	return doc
}

// deletedNotes say what is in the way of restoring a row.
func deletedNotes(t deleted.Table, r deleted.Row) string {
	var notes []string
	for _, x := range r.Taken {
		notes = append(notes, fmt.Sprintf("its %s is taken by %s", strings.Join(x.Columns, ", "), t.KeyWords(x.By)))
	}
	for _, x := range r.Children {
		verb := "refer"
		if x.Rows == 1 {
			verb = "refers"
		}
		notes = append(notes, fmt.Sprintf("%s of %s %s to it", rows(x.Rows), x.Table, verb))
	}
	return strings.Join(notes, "; ")
}

// plainTime is a time as people read it: without quotes and thousandths.
func plainTime(literal string) string {
	s := strings.Trim(literal, "'")
	if head, _, ok := strings.Cut(s, "."); ok {
		s = head
	}
	return cell(s)
}

func (a *app) deletedMark() *cli.Command {
	var keys []string
	return &cli.Command{
		Name: "mark", ArgsUsage: "TABLE", Usage: "mark rows as deleted, with their children where the model says so",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:        "key",
				Usage:       "the row with this primary key; its parts separated by commas, a part with a comma in single quotes: `K`",
				Destination: &keys,
			},
		},
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			if len(keys) == 0 {
				return wrongUse("erbario deleted mark needs --key: erbario look %s shows the keys", c.Args().First())
			}
			if err := a.confirmDatabase("marking rows as deleted"); err != nil {
				return err
			}
			return a.deletedTable(ctx, c, engine.ReadWrite, func(l *live, t deleted.Table) error {
				list, err := readKeys(t, keys)
				if err != nil {
					return err
				}
				with, err := t.Mark(ctx, list, time.Minute)
				if err != nil {
					return err
				}
				if a.json {
					return a.document(map[string]any{
						"database": l.Name,
						"table":    t.Name,
						"marked":   len(list),
						"with":     jsonCounted(with),
					})
				}
				a.out.printf("%s of %s %s marked as deleted%s", rows(int64(len(list))), t.Name,
					oneMany(len(list), "is", "are"), withWords(with))
				a.next("erbario deleted list " + t.Name)
				return nil
			})
		},
	}
}

func (a *app) deletedRestore() *cli.Command {
	var keys []string
	var dryRun bool
	return &cli.Command{
		Name: "restore", ArgsUsage: "TABLE", Usage: "restore deleted rows, with the rows that were deleted with them",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:        "key",
				Usage:       "the row with this primary key; its parts separated by commas, a part with a comma in single quotes: `K`",
				Destination: &keys,
			},
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be restored; change nothing", Destination: &dryRun},
		},
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			if len(keys) == 0 {
				return wrongUse("erbario deleted restore needs --key: erbario deleted list %s shows the keys",
					c.Args().First())
			}
			if !dryRun {
				if err := a.confirmDatabase("restoring rows"); err != nil {
					return err
				}
			}
			return a.deletedTable(ctx, c, engine.ReadWrite, func(l *live, t deleted.Table) error {
				list, err := readKeys(t, keys)
				if err != nil {
					return err
				}
				with, err := t.Restore(ctx, list, time.Minute, !dryRun)
				if err != nil {
					return err
				}
				above := map[string]bool{}
				for _, key := range list {
					tables, err := t.Above(ctx, key)
					if err != nil {
						return err
					}
					for _, p := range tables {
						above[p] = true
					}
				}
				parents := slices.Sorted(maps.Keys(above))
				if a.json {
					return a.document(map[string]any{
						"database":        l.Name,
						"table":           t.Name,
						"restored":        len(list),
						"with":            jsonCounted(with),
						"deleted_parents": append([]string{}, parents...),
						"dry_run":         dryRun,
					})
				}
				verb := "is restored"
				if len(list) > 1 {
					verb = "are restored"
				}
				if dryRun {
					verb = "would be restored"
				}
				a.out.printf("%s of %s %s%s", rows(int64(len(list))), t.Name, verb, withWords(with))
				for _, p := range parents {
					a.warn("what it refers to in %s is still deleted", p)
				}
				return nil
			})
		},
	}
}

func readKeys(t deleted.Table, raw []string) ([][]string, error) {
	var out [][]string
	for _, k := range raw {
		key, err := t.ReadKey(k)
		if err != nil {
			return nil, wrongUse("--key %s: %v", k, err)
		}
		out = append(out, key)
	}
	return out, nil
}

func jsonCounted(list []deleted.Counted) map[string]int64 {
	out := map[string]int64{}
	for _, c := range list {
		out[c.Table] = c.Rows
	}
	return out
}

func withWords(list []deleted.Counted) string {
	if len(list) == 0 {
		return ""
	}
	var out []string
	for _, c := range list {
		out = append(out, rows(c.Rows)+" of "+c.Table)
	}
	return ", with " + strings.Join(out, " and ")
}

func (a *app) deletedPurge() *cli.Command {
	var keys []string
	var older string
	var dryRun bool
	return &cli.Command{
		Name: "purge", ArgsUsage: "TABLE",
		Usage: "delete soft-deleted rows permanently, children first; counted before it asks",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:        "key",
				Usage:       "the row with this primary key; its parts separated by commas, a part with a comma in single quotes: `K`",
				Destination: &keys,
			},
			&cli.StringFlag{
				Name:        "older-than",
				Usage:       "rows deleted at least this long ago, such as 90d, 12w or 36h: `AGE`",
				Destination: &older,
			},
			&cli.BoolFlag{Name: "dry-run", Usage: "count what would be purged; change nothing", Destination: &dryRun},
		},
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			if (len(keys) == 0) == (older == "") {
				return wrongUse("erbario deleted purge needs either --key or --older-than")
			}
			age := time.Duration(0)
			if older != "" {
				var err error
				if age, err = readAge(older); err != nil {
					return wrongUse("--older-than %s: %v", older, err)
				}
			}
			return a.deletedTable(ctx, c, engine.ReadWrite, func(l *live, t deleted.Table) error {
				list, err := readKeys(t, keys)
				if err != nil {
					return err
				}
				return a.purge(ctx, l, t, purging{list, time.Now().Add(-age), dryRun})
			})
		},
	}
}

// purging is what is to be purged: rows by their keys, or those deleted before a time.
type purging struct {
	keys   [][]string
	before time.Time
	dryRun bool
}

// purge deletes rows permanently; it counts them first, and asks.
func (a *app) purge(ctx context.Context, l *live, t deleted.Table, p purging) error {
	counted, err := t.Purge(ctx, p.keys, p.before, time.Minute, false)
	if err != nil {
		return err
	}
	doc := map[string]any{
		"database": l.Name,
		"table":    t.Name,
		"purged":   jsonCounted(counted.Rows),
		"live":     jsonCounted(counted.Live),
		"unlinked": jsonCounted(counted.Loosed),
		"dry_run":  p.dryRun,
	}
	if len(counted.Rows) == 0 {
		if a.json {
			return a.document(doc)
		}
		a.out.printf("no row of %s was deleted that long ago", t.Name)
		return nil
	}
	if !a.json {
		a.showPurge(counted)
	}
	if p.dryRun {
		if a.json {
			return a.document(doc)
		}
		return nil
	}
	if err := a.confirmOn(l.Database, "purging rows"); err != nil {
		return err
	}
	if !l.Protected {
		if err := a.confirm(ctx, "delete them permanently"); err != nil {
			return err
		}
	}
	done, err := t.Purge(ctx, p.keys, p.before, time.Minute, true)
	if err != nil {
		return err
	}
	if a.json {
		doc["purged"] = jsonCounted(done.Rows)
		return a.document(doc)
	}
	a.out.printf("purged %s of %s", rows(done.Of(t.Name)), t.Name)
	return nil
}

// showPurge tells what goes, children first.
func (a *app) showPurge(p deleted.Purged) {
	var table [][]string
	for _, c := range p.Rows {
		note := ""
		for _, x := range p.Live {
			if x.Table == c.Table {
				note = fmt.Sprintf("%s of them not deleted before: they are deleted with the row that they refer to",
					thousands(x.Rows))
			}
		}
		table = append(table, []string{cell(c.Table), rows(c.Rows), note})
	}
	for _, line := range columns(table) {
		a.out.line("  " + a.out.sign("-", line))
	}
	for _, c := range p.Loosed {
		verb := "loses its value"
		if c.Rows != 1 {
			verb = "lose their value"
		}
		a.out.line("  " + a.out.sign("~", fmt.Sprintf("%s  %s %s", c.Table, rows(c.Rows), verb)))
	}
}

// readAge reads an age such as 90d.
func readAge(s string) (time.Duration, error) {
	units := map[byte]time.Duration{
		'd': 24 * time.Hour,
		'w': 7 * 24 * time.Hour,
		'h': time.Hour,
		'm': time.Minute,
		's': time.Second,
	}
	if s != "" {
		if n, err := strconv.Atoi(s[:len(s)-1]); err == nil && n >= 0 && units[s[len(s)-1]] > 0 {
			return time.Duration(n) * units[s[len(s)-1]], nil
		}
	}
	return 0, errors.New("write a number and its unit: 90d, 12w, 36h, 30m")
}
