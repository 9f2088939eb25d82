package mariadb

// This file finds the triggers that may reach beyond the database: files of the server, and functions that were
// loaded into it as programs. Proofs put no rows where one of them runs.

import (
	"slices"
	"strings"

	"erbario/internal/sqlschema"
)

// reaches notes such triggers. What a trigger calls counts as part of it.
func (r *reading) reaches() error {
	var triggers []*sqlschema.Trigger
	for _, t := range r.s.Tables {
		triggers = append(triggers, t.Triggers...)
	}
	if len(triggers) == 0 {
		return nil
	}
	// Who may not read this table cannot know more.
	rows, _ := r.d.Select(r.ctx, "SELECT name FROM mysql.func")
	var far []string // functions and procedures, in lower case
	for _, row := range rows {
		far = append(far, strings.ToLower(row[0]))
	}
	for more := true; more; {
		more = false
		for _, o := range r.s.Others {
			name := strings.ToLower(o.Name)
			if (o.Kind == "function" || o.Kind == "procedure") && !slices.Contains(far, name) &&
				slices.ContainsFunc(o.Make, func(sql string) bool { return readsFiles(sql, far) }) {
				far, more = append(far, name), true
			}
		}
	}
	for _, g := range triggers {
		g.Reaches = readsFiles(g.SQL.Text, far)
	}
	return nil
}

// readsFiles tells whether SQL reads or writes files, or calls one of the functions and procedures that are far.
func readsFiles(sql string, far []string) bool {
	list := tokens(sql)
	for i, t := range list {
		before := list[max(i-1, 0)]
		call := before.Is("CALL") || i+1 < len(list) && list[i+1].Is("(") && !before.Is("FUNCTION")
		if t.Is("OUTFILE") || t.Is("DUMPFILE") || call && (t.Is("LOAD_FILE") ||
			t.Named() && slices.Contains(far, strings.ToLower(t.Name()))) {
			return true
		}
	}
	return false
}
