package mariadb

// This file says how all that a database holds is created, in the server's own words: with the
// modes, the character sets and the users that views, triggers and routines keep.

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"sync"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// numbersSoFar is how far the numbers of a table are, which is no part of its form.
var numbersSoFar = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(` AUTO_INCREMENT=\d+`) })

// Verbatim gives what creates all that a database holds.
func (d *Database) Verbatim(ctx context.Context, s *sqlschema.Schema) ([]engine.Creation, error) {
	return (&verbatim{d: d, ctx: ctx}).read(s)
}

func (v *verbatim) read(s *sqlschema.Schema) ([]engine.Creation, error) {
	v.modes, v.events, v.later = map[string]string{}, map[string]event{}, map[string]bool{}
	for _, t := range s.Tables {
		v.later[strings.ToLower(t.Name)] = true
	}
	rows, err := v.d.Select(v.ctx, "SELECT current_user()")
	if err != nil {
		return nil, err
	}
	v.user = rows[0][0]
	for _, o := range s.Others {
		switch o.Kind {
		case "function", "procedure":
			v.show(engine.Creation{Kind: o.Kind, Name: o.Name}, 2, 1, 3)
		case "sequence":
			v.show(engine.Creation{Kind: o.Kind, Name: o.Name}, 1, -1, -1)
		}
	}
	for _, t := range s.Tables {
		if !v.noTables {
			v.table(t)
		}
	}
	for _, w := range s.Views {
		v.show(engine.Creation{Kind: "view", Name: w.Name}, 1, -1, 2)
	}
	for _, o := range s.Others {
		if o.Kind == sqlschema.OtherView {
			v.show(engine.Creation{Kind: "view", Name: o.Name}, 1, -1, 2)
		}
	}
	for _, t := range s.Tables {
		for _, g := range t.Triggers {
			v.show(engine.Creation{Kind: "trigger", Name: g.Name, Of: t.Name}, 2, 1, 3)
		}
	}
	for _, o := range s.Others {
		if o.Kind == "event" {
			v.event(o.Name)
		}
	}
	return v.list, v.err
}

// verbatim is one reading of everything.
type verbatim struct {
	d    *Database
	ctx  context.Context
	user string
	// noTables leaves the tables out.
	noTables bool
	later    map[string]bool   // the tables, in lower case, that are not created yet
	modes    map[string]string // by kind and name
	events   map[string]event
	list     []engine.Creation
	err      error
}

// table reads the statement of a table.
func (v *verbatim) table(t *sqlschema.Table) {
	row := v.row("SHOW CREATE TABLE " + quote(t.Name))
	if row == nil {
		return
	}
	text := ownSequences(row[1], v.d.name)
	end := strings.LastIndex(text, "\n)")
	text = text[:end+1] + numbersSoFar().ReplaceAllString(text[end+1:], "")
	c := engine.Creation{Kind: "table", Name: t.Name, SQL: text}
	delete(v.later, strings.ToLower(t.Name))
	var set [][2]string
	if strings.Contains(text, "'0000-00-00") { // it takes a mode that ours refuses
		set = append(set, [2]string{"sql_mode", `replace(replace(@@sql_mode, 'NO_ZERO_IN_DATE', ''), 'NO_ZERO_DATE', '')`})
	}
	isLater := func(k *sqlschema.ForeignKey) bool { return v.later[strings.ToLower(k.Table)] }
	if slices.ContainsFunc(t.ForeignKeys, isLater) {
		set = append(set, [2]string{"foreign_key_checks", "0"}) // tables that refer to each other
	}
	if set != nil {
		c.Before, c.After = around(set...)
	}
	v.list = append(v.list, c)
}

func (v *verbatim) row(query string) []string {
	if v.err != nil {
		return nil
	}
	rows, err := v.d.Select(v.ctx, query)
	if err != nil || len(rows) == 0 {
		v.err = err
		return nil
	}
	return rows[0]
}

// show reads the statement of something, of a table or of none, from a column of what the server shows, its mode and
// its character set, with the collation behind that, from others; -1: it has none.
func (v *verbatim) show(c engine.Creation, text, mode, charset int) {
	row := v.row("SHOW CREATE " + strings.ToUpper(c.Kind) + " " + quote(c.Name))
	if row == nil {
		return
	}
	c.SQL = v.ours(row[text])
	var modeSQL, client, collation string
	if mode >= 0 {
		modeSQL = literal(row[mode])
		v.modes[c.Kind+" "+c.Name] = row[mode]
	}
	if charset >= 0 && plainASCII(row[text]) {
		client, collation = row[charset], row[charset+1]
	}
	if modeSQL != "" || client != "" {
		c.Before, c.After = around([2]string{"sql_mode", modeSQL}, [2]string{"character_set_client", client},
			[2]string{"collation_connection", collation})
	}
	v.list = append(v.list, c)
}

// plainASCII tells whether a text is the same in every character set.
func plainASCII(s string) bool { return !strings.ContainsFunc(s, func(r rune) bool { return r > 127 }) }

// around are the statements that set the mode and the character set of the session, and set them
// back; empty: as they are.
func around(settings ...[2]string) (before, after string) {
	var keep, set, back []string
	for _, s := range settings {
		if variable, value := s[0], s[1]; value != "" {
			keep = append(keep, "@erbario_"+variable+" = @@"+variable)
			set = append(set, variable+" = "+value)
			back = append(back, variable+" = @erbario_"+variable)
		}
	}
	return "SET " + strings.Join(append(keep, set...), ", "), "SET @erbario_back = 1, " + strings.Join(back, ", ")
}

// definer is whose rights a statement is run with.
var definer = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile("^CREATE (.*?)DEFINER=`([^`]*)`@`([^`]*)` ")
})

// ours is a statement without the user that it belongs to, where that is the one of the session.
func (v *verbatim) ours(text string) string {
	m := definer().FindStringSubmatch(text)
	if m == nil || m[2]+"@"+m[3] != v.user {
		return text
	}
	return "CREATE " + m[1] + strings.TrimPrefix(text, m[0])
}
