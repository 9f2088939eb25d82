package mariadb

// This file is what a database holds beside its tables, and how each is created, dropped and
// replaced.

import (
	"context"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// meaningful are the parts of a mode that change what a statement says.
var meaningful = []string{
	"ANSI_QUOTES", "PIPES_AS_CONCAT", "NO_BACKSLASH_ESCAPES", "IGNORE_SPACE", "HIGH_NOT_PRECEDENCE", "ORACLE", "ANSI",
	"NO_UNSIGNED_SUBTRACTION", "REAL_AS_FLOAT", "EMPTY_STRING_IS_NULL", "PAD_CHAR_TO_FULL_LENGTH",
}

// Objects gives what a database holds beside tables and what is made for models. A mode other than
// that of the sessions of this program is said in the statement; it is compared where it changes
// what the statement means.
func (d *Database) Objects(ctx context.Context, s *sqlschema.Schema) ([]engine.Creation, error) {
	v := &verbatim{d: d, ctx: ctx, noTables: true}
	list, err := v.read(s)
	if err != nil {
		return nil, err
	}
	rows, err := d.Select(ctx, "SELECT @@sql_mode")
	if err != nil {
		return nil, err
	}
	places, err := d.places(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		c := &list[i]
		if c.Kind == "trigger" {
			c.Behind, c.Ahead = places[c.Name][0], places[c.Name][1]
		}
		mode := v.modes[c.Kind+" "+c.Name]
		c.Before, c.After = "", ""
		if c.Kind == "view" {
			c.Said = undefinedView(c.SQL)
			c.Form = viewKey(c.Said)
			continue
		}
		if c.Kind == "event" {
			v.events[c.Name].form(c, rows[0][0])
			continue
		}
		c.Said = undefined(c.SQL)
		c.Form = canon(c.Said)
		if mode != "" && mode != rows[0][0] && matters(mode) {
			c.Form, c.Said = mode+" "+c.Form, inMode(c.Said, mode, rows[0][0])
		}
		c.SQL = inMode(c.SQL, mode, rows[0][0])
	}
	return engine.Objects(s, list), nil
}

// matters tells whether a mode makes something else of a statement than a strict one does.
func matters(mode string) bool {
	words := strings.Split(mode, ",")
	strict := slices.Contains(words, "STRICT_ALL_TABLES") || slices.Contains(words, "STRICT_TRANS_TABLES")
	return !strict || slices.ContainsFunc(words, func(w string) bool { return slices.Contains(meaningful, w) })
}

// undefinedView is the statement of a view without the one who defined it.
func undefinedView(text string) string {
	return definer().ReplaceAllString(text, "CREATE $1")
}

// inMode is a statement that runs in a mode, where that of the session is another.
func inMode(sql, mode, session string) string {
	if mode == "" || mode == session {
		return sql
	}
	return "SET STATEMENT sql_mode = " + literal(mode) + " FOR " + sql
}

// withoutMode is a statement without the mode, and the time zone, that are set for it.
func withoutMode(sql string) string {
	if rest, ok := strings.CutPrefix(sql, "SET STATEMENT "); ok {
		if _, after, ok := strings.Cut(rest, "' FOR "); ok {
			return after
		}
	}
	return sql
}

// places are, by trigger, those behind which and ahead of which it runs at the same moment.
func (d *Database) places(ctx context.Context) (map[string][2]string, error) {
	rows, err := d.Select(ctx,
		"SELECT trigger_name, concat_ws(' ', event_object_table, event_manipulation, action_timing) FROM information_schema.triggers WHERE trigger_schema = database() ORDER BY 2, action_order")
	if err != nil {
		return nil, err
	}
	out := map[string][2]string{}
	for i, r := range rows {
		var place [2]string
		if i > 0 && rows[i-1][1] == r[1] {
			place[0] = rows[i-1][0]
		}
		if i+1 < len(rows) && rows[i+1][1] == r[1] {
			place[1] = rows[i+1][0]
		}
		out[r[0]] = place
	}
	return out, nil
}

// CreateObject is the statement that creates something, a trigger in its place among others.
func (Engine) CreateObject(c engine.Creation) string {
	place := ""
	switch {
	case c.Behind != "":
		place = " FOLLOWS " + quote(c.Behind)
	case c.Ahead != "":
		place = " PRECEDES " + quote(c.Ahead)
	}
	list := tokens(c.SQL)
	for i := 0; place != "" && i+2 < len(list); i++ {
		if list[i].Is("FOR") && list[i+1].Is("EACH") && list[i+2].Is("ROW") {
			return c.SQL[:list[i+2].End] + place + c.SQL[list[i+2].End:]
		}
	}
	return c.SQL
}

// DropObject gives the statement that drops what a creation creates.
func (Engine) DropObject(c engine.Creation) []string {
	return []string{"DROP " + strings.ToUpper(c.Kind) + " " + quote(c.Name)}
}

// ReplaceObject is a statement that creates in the place of what has its name.
func (Engine) ReplaceObject(_, c engine.Creation) string {
	sql := Engine{}.CreateObject(c)
	text := withoutMode(sql)
	mode := strings.TrimSuffix(sql, text)
	if c.Kind == "sequence" {
		at, _, _ := strings.Cut(text, " ENGINE=")
		return mode + "ALTER " + strings.TrimPrefix(at, "CREATE ")
	}
	return mode + "CREATE OR REPLACE " + strings.TrimPrefix(text, "CREATE ")
}

// AgainObject gives none: all that is declared in SQL is a thing of its own.
func (Engine) AgainObject(engine.Creation) string { return "" }
