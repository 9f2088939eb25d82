package mariadb

// This file is what stands between the two migrations of a staged pair: triggers that
// complete what an application writes that does not know of the change, or that does,
// and a table in which they note who writes as before. So it is seen, and not guessed,
// when nobody does any more.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	numbers "erbario/internal/words"
)

// Stages are the words for staged pairs of migrations.
func (Engine) Stages() engine.Stages { return stages{} }

type stages struct{}

// formerTable notes, for each table and session, when it last wrote as before. A session
// has a row to itself, so that none waits for another; it is told with its server, since
// each of a cluster counts its own.
const formerTable = "CREATE TABLE IF NOT EXISTS erbario_former (\n    table_name varchar(64) NOT NULL,\n    session varchar(190) NOT NULL,\n    at datetime(6) NOT NULL,\n    writer varchar(255) NOT NULL,\n    PRIMARY KEY (table_name, session)\n)" + ownBehind

// bridgePrefix begins the names of bridges.
const bridgePrefix = "erbario_bridge_"

// noted is the statement by which a bridge notes who writes as before.
func noted(table string) string {
	return "INSERT INTO erbario_former (table_name, session, at, writer) VALUES (" + literal(
		table,
	) + ", concat(@@hostname, ':', @@port, ' ', connection_id()), utc_timestamp(6), user()) ON DUPLICATE KEY UPDATE at = utc_timestamp(6), writer = user()"
}

// SyncTriggers gives the triggers that complete what is written.
func (stages) SyncTriggers(t *sqlschema.Table, spans []engine.Span) []*sqlschema.Trigger {
	var out []*sqlschema.Trigger
	for _, event := range []string{"INSERT", "UPDATE"} {
		name := schema.Cut(bridgePrefix + t.Name + "_" + strings.ToLower(event))
		text := fmt.Sprintf("CREATE TRIGGER %s BEFORE %s ON %s FOR EACH ROW %s", quote(name), event, quote(t.Name),
			bridgeBody(t, spans, event))
		out = append(out, &sqlschema.Trigger{Name: name, Purpose: schema.ForBridge, SQL: sqlOf(text)})
	}
	return out
}

func bridgeBody(t *sqlschema.Table, spans []engine.Span, event string) string {
	var vars, body strings.Builder
	for i, s := range spans {
		now := "NEW." + quote(s.Column.Name)
		if s.Old == nil {
			fmt.Fprintf(&body,
				"        IF %s IS NULL THEN\n            SET %s = %s;\n            %s;\n        END IF;\n", now, now,
				overNew(t, s.Fill), noted(t.Name))
			continue
		}
		old, there := "NEW."+quote(s.Old.Name), fmt.Sprintf("there_%d", i+1)
		kind := *s.Column
		kind.Name, kind.Default, kind.NotNull, kind.Invisible, kind.OnUpdate, kind.Identity, kind.Comment = there,
			nil, false, false, "", false, ""
		fmt.Fprintf(&vars, "    DECLARE %s;\n",
			strings.TrimSuffix(strings.Replace(columnDefinition(&kind), quote(there), there, 1), " NULL"))
		fmt.Fprintf(&body, "        SET %s = %s;\n", there,
			overNew(t, stages{}.Guarded(s.There, quote(s.Old.Name), s.Column.SQLType)))
		if s.Hidden {
			fmt.Fprintf(&body, "        SET %s = %s;\n", now, there)
			continue
		}
		// What was not written is as it was, or as it is where nothing is written.
		was := func(c *sqlschema.Column) string {
			switch {
			case event == "UPDATE":
				return "OLD." + quote(c.Name)
			case c.Default != nil:
				return "(" + c.Default.Text + ")"
			}
			return "NULL"
		}
		fmt.Fprintf(
			&body,
			`        IF %s THEN
            SET %s = %s;
        ELSEIF %s THEN
            SET %s = %s;
            %s;
        ELSEIF %s THEN
            SET %s = %s;
        ELSE
            SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = %s;
        END IF;
`,
			same(s.Column, now, there),
			now,
			now,
			same(s.Column, now, was(s.Column)),
			now,
			there,
			noted(t.Name),
			same(s.Old, old, was(s.Old)),
			old,
			overNew(t, stages{}.Guarded(s.Back, quote(s.Column.Name), s.Old.SQLType)),
			literal(
				fmt.Sprintf("%s.%s and %s.%s are one field under two names: they cannot be given different values",
					t.Name, s.Old.Name, t.Name, s.Column.Name),
			),
		)
	}
	return "BEGIN\n" + vars.String() + "    IF " + quiet + " IS NULL THEN\n" + body.String() + "    END IF;\nEND"
}

// FollowTriggers gives the triggers by which columns that are about to be dropped follow others.
// Where a value does not fit, what is required has one that is never read: the undo asks
// for such rows before it begins.
func (stages) FollowTriggers(t *sqlschema.Table, list []engine.Following) []*sqlschema.Trigger {
	var out []*sqlschema.Trigger
	for _, event := range []string{"INSERT", "UPDATE"} {
		var body strings.Builder
		for _, f := range list {
			value := overNew(t, f.Value)
			if f.Column.NotNull {
				value = "coalesce(" + value + ", " + anyValue(f.Column) + ")"
			}
			fmt.Fprintf(&body, "        SET NEW.%s = %s;\n", quote(f.Column.Name), value)
		}
		name := schema.Cut(bridgePrefix + t.Name + "_" + strings.ToLower(event))
		text := fmt.Sprintf(
			"CREATE TRIGGER %s BEFORE %s ON %s FOR EACH ROW BEGIN\n    IF %s IS NULL THEN\n%s    END IF;\nEND",
			quote(name), event, quote(t.Name), quiet, body.String())
		out = append(out, &sqlschema.Trigger{Name: name, Purpose: schema.ForBridge, SQL: sqlOf(text)})
	}
	return out
}

// anyValue is some value of a column's type.
func anyValue(c *sqlschema.Column) string {
	switch typ, _, _ := strings.Cut(c.SQLType, "("); strings.Fields(typ + " x")[0] {
	case "date":
		return "'2000-01-01'"
	case "datetime", "timestamp":
		return "'2000-01-01 00:00:00'"
	case "time":
		return "'00:00:00'"
	case "uuid":
		return "'00000000-0000-0000-0000-000000000000'"
	case "char",
		"varchar",
		"text",
		"tinytext",
		"mediumtext",
		"longtext",
		"binary",
		"varbinary",
		"blob",
		"tinyblob",
		"mediumblob",
		"longblob":
		if c.Type.Kind == schema.JSON {
			return "'{}'"
		}
		return "''"
	}
	return "0"
}

// same compares values of a column, texts byte by byte: to the collation of a column by
// hand 'a' and 'A' may be one.
func same(c *sqlschema.Column, a, b string) string {
	if c.Collation != "" || strings.Contains(c.SQLType, "char") || strings.Contains(c.SQLType, "text") {
		return "BINARY " + a + " <=> BINARY " + b
	}
	return a + " <=> " + b
}

// LiveView is the view of the rows that are not deleted.
func (stages) LiveView(name string, t *sqlschema.Table, without ...string) *sqlschema.View {
	shown := t.Clone()
	shown.Columns = slices.DeleteFunc(shown.Columns,
		func(c *sqlschema.Column) bool { return slices.Contains(without, c.Name) })
	return &sqlschema.View{Name: name, LiveOf: t.Name, SQL: sqlschema.SQL{Text: liveView(name, shown), Canon: viewKey}}
}

// Begin notes the change itself, where there are rows that somebody wrote.
func (stages) Begin(table string) []string {
	return []string{
		formerTable,
		fmt.Sprintf(
			"INSERT INTO erbario_former (table_name, session, at, writer) SELECT %s, '', utc_timestamp(6), 'the change itself' FROM dual WHERE EXISTS (SELECT 1 FROM %s)",
			literal(table), quote(table)),
	}
}

// End forgets who wrote as before.
func (stages) End(table string) []string {
	return []string{"DELETE FROM erbario_former WHERE table_name = " + literal(table)}
}

// Resync gives the column that stood for another what that has.
func (stages) Resync(table string, s engine.Span) []string {
	old, value := quote(s.Old.Name), stages{}.Guarded(s.Back, quote(s.Column.Name), s.Old.SQLType)
	return quietly([]string{update(quote(table), []string{old + " = " + value}, stages{}.Differ(old, value))})
}

// NoOldWriters is what the second migration waits for.
func (stages) NoOldWriters(table string, wait time.Duration) engine.Requirement {
	seconds := int(wait.Seconds())
	return engine.Requirement{
		Sentence: fmt.Sprintf("{n} sessions wrote %s in the old form in the last %s, the change itself counted", table,
			numbers.Duration(wait)),
		Query: fmt.Sprintf(
			"SELECT writer, date_format(at, '%%Y-%%m-%%d %%H:%%i:%%s') AS last, date_format(at + INTERVAL %d SECOND, '%%H:%%i:%%s') AS until FROM erbario_former WHERE table_name = %s AND at > utc_timestamp(6) - INTERVAL %[1]d SECOND ORDER BY at DESC",
			seconds, literal(table)),
		Wait: true,
	}
}

// Guarded is the converted value of a column, null where it does not fit.
func (stages) Guarded(c engine.Conversion, column, _ string) string {
	switch {
	case c.SQL != "":
		return c.SQL
	case c.Fits != "":
		return "CASE WHEN " + c.Fits + " THEN " + column + " END" // it is made one of the type where it is put
	}
	return column
}

// Differ is the condition that two expressions differ.
func (stages) Differ(a, b string) string { return "NOT (" + a + " <=> " + b + ")" }

// Random tells whether a default is another one each time it is asked for.
func (stages) Random(c *sqlschema.Column) bool {
	return c.Default != nil && slices.ContainsFunc(tokens(c.Default.Text), func(t sqltok.Token) bool {
		switch strings.ToLower(t.Text) {
		case "uuid", "uuid_short", "sys_guid", "rand", "random_bytes", "nextval":
			return true
		}
		return false
	})
}

// inOneMoment has the columns of a bridge change their names in the moment in which it
// goes: what is written between the two would be lost.
func inOneMoment(steps []engine.Step) []engine.Step {
	var out []engine.Step
	for i := 0; i < len(steps); i++ {
		s := steps[i]
		table := ""
		if len(s.Apply) > 0 &&
			strings.HasPrefix(s.Apply[0], "DROP TRIGGER "+strings.TrimSuffix(quote(bridgePrefix), "`")) {
			table = bridgeTable(s.Undo)
		}
		renames := func(j int) bool {
			return table != "" && j < len(steps) &&
				slices.ContainsFunc(steps[j].Apply,
					func(sql string) bool {
						return strings.HasPrefix(sql,
							"ALTER TABLE "+quote(table)+" RENAME COLUMN ")
					})
		}
		view := func(j int, list func(s engine.Step) []string) bool { // around a rename
			return j < len(steps) && len(list(steps[j])) == 1 && strings.HasPrefix(list(steps[j])[0], "DROP VIEW ")
		}
		var before, behind []engine.Step
		var apply, undo []string
		title, j := s.Title, i+1
		for {
			if view(j, func(s engine.Step) []string { return s.Apply }) && renames(j+1) {
				before = append(before, steps[j])
				j++
			}
			if !renames(j) {
				break
			}
			apply, undo = append(apply, bare(steps[j].Apply)...), append(bare(steps[j].Undo), undo...)
			title += ", " + steps[j].Title
			if j++; view(j, func(s engine.Step) []string { return s.Undo }) {
				behind = append(behind, steps[j])
				j++
			}
		}
		if len(apply) == 0 {
			out = append(out, s)
			continue
		}
		if j < len(steps) && bridgeTable(steps[j].Apply) == table { // what follows until the old columns are dropped
			apply, undo = append(apply, steps[j].Apply...), append(slices.Clone(steps[j].Undo), undo...)
			j++
		}
		s.Title, s.Work = title, engine.Keeps
		s.Apply, s.Undo = underLock(
			table,
			"",
			append(slices.Clone(s.Apply), apply...)...), underLock(
			table,
			"",
			append(undo, s.Undo...)...)
		if k := replacedView(steps, j, before); k >= 0 && len(behind) > 0 {
			stays := steps[k]
			stays.Undo = []string{before[0].Apply[0], before[0].Undo[0]} // as one statement, once they are parted
			out = append(out, stays, s)
			steps = slices.Delete(slices.Clone(steps), k, k+1)
			i = j - 1
			continue
		}
		if len(before) > 0 {
			out = append(out, before[0])
		}
		out = append(out, s)
		if len(behind) > 0 {
			out = append(out, behind[len(behind)-1])
		}
		i = j - 1
	}
	return out
}

// replacedView is the step, from j, that replaces a view which goes before columns change
// their names; -1: there is none. What it shows has the same names before and after them,
// so it can come first, and the view is there all the time.
func replacedView(steps []engine.Step, j int, before []engine.Step) int {
	if len(before) == 0 || len(before[0].Undo) != 1 {
		return -1
	}
	for k := j; k < len(steps); k++ {
		if len(steps[k].Apply) == 2 && steps[k].Apply[0] == before[0].Apply[0] {
			return k
		}
	}
	return -1
}

// bare are statements without the lock around them.
func bare(list []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return locksTables(s) || unlocksTables(s) })
}

// bridgeTable is the table of the bridge that statements make; "": they make none.
func bridgeTable(statements []string) string {
	for _, sql := range statements {
		if list := tokens(sql); len(list) > 6 && list[0].Is("CREATE") && list[1].Is("TRIGGER") &&
			strings.HasPrefix(list[2].Name(), bridgePrefix) {
			return list[6].Name()
		}
	}
	return ""
}
