package sqlite

// This file reads everything that a database file holds. All of it comes from
// one read of sqlite_schema and from the texts there.

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Inspect reads tables, indexes, triggers and views. What SQLite made for
// itself is left out.
func (d *database) Inspect(ctx context.Context) (*sqlschema.Schema, error) {
	rows, err := d.Select(ctx,
		"SELECT type, name, tbl_name, sql FROM sqlite_schema WHERE name NOT LIKE 'sqlite\\_%' ESCAPE '\\' OR type = 'trigger' ORDER BY rowid")
	if err != nil {
		return nil, err
	}
	s := &sqlschema.Schema{}
	byName := map[string]*sqlschema.Table{}
	if s.Tables, err = parseTables(rows); err != nil {
		return nil, err
	}
	virtual := false
	for _, t := range s.Tables {
		virtual = virtual || t.Options.Virtual != ""
		byName[strings.ToLower(t.Name)] = t
	}
	views := map[string]*sqlschema.View{}
	for _, r := range rows {
		t := byName[strings.ToLower(r[2])]
		switch r[0] {
		case "index":
			if t == nil || r[3] == "" { // "" is the index of a constraint
				continue
			}
			x, err := parseIndex(r[1], r[3])
			if err != nil {
				return nil, err
			}
			t.Indexes = append(t.Indexes, x)
		case "view":
			v := &sqlschema.View{Name: r[1], SQL: sqlschema.SQL{Text: r[3], Canon: bodyKey}}
			s.Views = append(s.Views, v)
			views[strings.ToLower(r[1])] = v
		}
	}
	for _, r := range rows {
		if r[0] != "trigger" {
			continue
		}
		g := &sqlschema.Trigger{Name: r[1], SQL: sqlschema.SQL{Text: r[3], Canon: bodyKey}}
		if t := byName[strings.ToLower(r[2])]; t != nil {
			t.Triggers = append(t.Triggers, g)
		} else if v := views[strings.ToLower(r[2])]; v != nil {
			v.Triggers = append(v.Triggers, g)
		}
	}
	if virtual {
		if err := d.withoutShadows(ctx, s); err != nil {
			return nil, err
		}
	}
	for _, t := range s.Tables {
		recognise(t)
	}
	for _, v := range s.Views {
		v.LiveOf = liveOf(s, v)
	}
	for _, t := range s.Tables {
		for _, k := range t.ForeignKeys {
			if len(k.References) == 0 {
				if p := s.Table(k.Table); p != nil {
					k.References = p.Key()
				}
			}
		}
	}
	s.Sort()
	return s, nil
}

// parseTables are the tables among the rows of a file's own list, several at once: reading SQL takes most of the time.
func parseTables(rows [][]string) ([]*sqlschema.Table, error) {
	const some = 50
	tables, work := make([]*sqlschema.Table, len(rows)), errgroup.Group{}
	for from := 0; from < len(rows); from += some {
		work.Go(func() error {
			for i := from; i < min(from+some, len(rows)); i++ {
				if rows[i][0] != "table" {
					continue
				}
				t, err := parseTable(rows[i][1], rows[i][3])
				if err != nil {
					return err
				}
				t.Text, tables[i] = rows[i][3], t
			}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(tables, func(t *sqlschema.Table) bool { return t == nil }), nil
}

// liveOf is the table whose rows that are not deleted a view shows, as soft
// delete makes it; "" for any other view.
func liveOf(s *sqlschema.Schema, v *sqlschema.View) string {
	list := tokens(v.SQL.Text)
	n := len(list)
	if n < 8 || !list[n-1].Is("NULL") || !list[n-2].Is("IS") || !list[n-4].Is("WHERE") || !list[n-6].Is("FROM") ||
		!list[n-5].Named() || !list[n-3].Named() {
		return ""
	}
	t := s.Table(list[n-5].Name())
	if t == nil || t.SoftDelete == "" || !strings.EqualFold(t.SoftDelete, list[n-3].Name()) {
		return ""
	}
	return t.Name
}

// shadowParts are behind what the tables of a virtual table are called, by its module.
var shadowParts = map[string][]string{
	"fts3":  {"content", "segments", "segdir", "docsize", "stat"},
	"fts4":  {"content", "segments", "segdir", "docsize", "stat"},
	"fts5":  {"data", "idx", "content", "docsize", "config"},
	"rtree": {"node", "rowid", "parent"}, "rtree_i32": {"node", "rowid", "parent"},
	"geopoly": {"node", "rowid", "parent"}, "spellfix1": {"vocab"},
}

// withoutShadows leaves out the tables in which virtual tables keep their data.
func (d *database) withoutShadows(ctx context.Context, s *sqlschema.Schema) error {
	rows, err := d.Select(ctx, "SELECT name FROM pragma_table_list WHERE type = 'shadow' AND schema = 'main'")
	if err != nil {
		return err
	}
	shadow := map[string]bool{}
	for _, r := range rows {
		shadow[r[0]] = true
	}
	for _, t := range s.Tables { // those of a module that is missing here
		if t.Options.Virtual == "" {
			continue
		}
		if err := d.held(ctx, s, t); err != nil {
			return err
		}
		for _, part := range shadowParts[module(t)] {
			shadow[t.Name+"_"+part] = true
		}
	}
	var kept []*sqlschema.Table
	for _, t := range s.Tables {
		if !shadow[t.Name] {
			kept = append(kept, t)
		}
	}
	s.Tables = kept
	return nil
}

// knownDefaults are the defaults of the language that SQLite keeps as an
// expression.
var knownDefaults = sync.OnceValue(func() map[string]*schema.Value {
	return map[string]*schema.Value{
		"(" + nowExpr + ")":   {Kind: schema.NowValue},
		"(" + todayExpr + ")": {Kind: schema.TodayValue},
		"(" + uuidExpr + ")":  {Kind: schema.UUIDValue},
	}
})

// recognise tells what a declaration made, and for which column.
func recognise(t *sqlschema.Table) {
	for _, c := range t.Columns {
		c.Type = typeOf(c.SQLType)
		if c.Default != nil {
			c.Value = knownDefaults()[c.Default.Text]
		}
	}
	for _, k := range t.Checks {
		if k.Name == "" {
			continue
		}
		c, p := t.MadeFor(k.Name)
		own := c != nil && (k.Column == "" || strings.EqualFold(k.Column, c.Name) || mentions(k.SQL.Text, c.Name))
		if own && !p.OfTrigger() { // another column may have got the name since
			k.Column, k.Purpose = c.Name, p
		} else if k.Column != "" && strings.HasPrefix(k.Name, t.Name+"_") {
			// It stands with its column and is called by the name that had before.
			for _, p := range schema.Purposes {
				if strings.HasSuffix(k.Name, "_"+string(p)) {
					k.Purpose = p
				}
			}
		}
		switch k.Purpose {
		case schema.ForSoftDelete:
			t.SoftDelete = k.Column
		case schema.ForChoice, schema.ForRange:
			ddl.ReadCheck(k, t.Column(k.Column), tokens(k.SQL.Text))
		}
	}
	for _, g := range t.Triggers {
		if c, p := t.MadeFor(g.Name); c != nil && p.OfTrigger() {
			g.Column, g.Purpose = c.Name, p
			c.Immutable = c.Immutable || p == schema.ForImmutable
			c.Stamped = c.Stamped || p == schema.ForStamped
		}
	}
}

// typeOf guesses the type of the language that a stored type stands for; its
// Kind is Native where none does.
func typeOf(sqlType string) schema.Type {
	name, length, scale := strings.ToUpper(sqlType), 0, 0
	if open := strings.IndexByte(name, '('); open > 0 && strings.HasSuffix(name, ")") {
		first, second, two := strings.Cut(name[open+1:len(name)-1], ",")
		n, err := strconv.Atoi(first)
		m := 0
		if two && err == nil {
			m, err = strconv.Atoi(second)
		}
		if err == nil {
			name, length, scale = name[:open], n, m
		}
	}
	switch name {
	case "VARCHAR", "TEXT":
		return schema.Type{Kind: schema.Text, Length: length}
	case "SMALLINT", "BIGINT", "REAL", "DOUBLE", "BOOLEAN", "DATE", "TIME", "TIMESTAMP", "DATETIME":
		return schema.Type{Kind: schema.Kind(strings.ToLower(name))}
	case "INTEGER", "INT":
		return schema.Type{Kind: schema.Integer}
	case "SMALLINT UNSIGNED", "INTEGER UNSIGNED":
		word, _, _ := strings.Cut(name, " ")
		return schema.Type{Kind: schema.Kind(strings.ToLower(word)), Unsigned: true}
	case "DECIMAL", "DECIMAL_TEXT":
		return schema.Type{Kind: schema.Decimal, Precision: length, Scale: scale}
	case "CHAR":
		if length == 36 {
			return schema.Type{Kind: schema.UUID}
		}
		return schema.Type{Kind: schema.Text, Length: length, Fixed: length > 0}
	case "JSON_TEXT":
		return schema.Type{Kind: schema.JSON}
	case "BLOB":
		return schema.Type{Kind: schema.Bytes, Length: length}
	}
	return schema.Type{Kind: schema.Native, Name: sqlType}
}
