package postgres

// This file is what stands between the two migrations of a staged pair: a trigger that
// completes what an application writes that does not know of the change, or that does,
// and a table in which it notes the sessions that write as before. So it is seen, and
// not guessed, when nobody does any more.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	numbers "erbario/internal/words"
)

// Stages are the words for staged pairs of migrations.
func (Engine) Stages() engine.Stages { return stages{} }

type stages struct{}

// formerTable notes, for each table and session, when it last wrote as before. A session
// has a row to itself, so that none waits for another.
const formerTable = `CREATE TABLE IF NOT EXISTS erbario_former (
    table_name text NOT NULL,
    session integer NOT NULL,
    at timestamptz NOT NULL,
    application text NOT NULL,
    role text NOT NULL,
    address text,
    PRIMARY KEY (table_name, session)
)`

// notedFunction notes the session, once in a transaction, whatever its rights are.
const notedFunction = `CREATE OR REPLACE FUNCTION erbario_noted(noted text) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path FROM CURRENT AS $erbario$
BEGIN
    IF ` + quietly + ` OR coalesce(current_setting('erbario.noted', true), '') = noted THEN
        RETURN;
    END IF;
    PERFORM set_config('erbario.noted', noted, true);
    INSERT INTO erbario_former AS f (table_name, session, at, application, role, address)
    VALUES (noted, pg_backend_pid(), clock_timestamp(), current_setting('application_name'), session_user,
	host(inet_client_addr()))
    ON CONFLICT (table_name, session) DO UPDATE SET at = excluded.at, application = excluded.application,
	role = excluded.role, address = excluded.address;
END
$erbario$`

// bridgePrefix begins the names of bridges: they run behind the triggers of others, and
// before those of ours that hold what is declared.
const bridgePrefix = "zy_"

func bridgeFunction(table string) string { return schema.Cut("erbario_bridge_" + table) }

// SyncTriggers gives the trigger that completes what is written.
func (stages) SyncTriggers(t *sqlschema.Table, spans []engine.Span) []*sqlschema.Trigger {
	var vars, body strings.Builder
	noted := "PERFORM erbario_noted(" + literal(t.Name) + ");"
	row := "FROM (SELECT NEW.*) AS " + quote(bare(t.Name))
	for i, s := range spans {
		now := "NEW." + quote(s.Column.Name)
		if s.Old == nil {
			fmt.Fprintf(&body, "    IF %s IS NULL THEN\n        SELECT %s INTO %s %s;\n        %s\n    END IF;\n", now,
				s.Fill, now, row, noted)
			continue
		}
		old, there := "NEW."+quote(s.Old.Name), fmt.Sprintf("there_%d", i+1)
		fmt.Fprintf(&vars, "    %s %s;\n", there, s.Column.SQLType)
		fmt.Fprintf(&body, "    SELECT %s INTO %s %s;\n",
			stages{}.Guarded(s.There, quote(s.Old.Name), s.Column.SQLType), there, row)
		if s.Hidden {
			fmt.Fprintf(&body, "    %s := %s;\n", now, there)
			continue
		}
		was := func(c *sqlschema.Column) string { return "OLD." + quote(c.Name) }
		none := func(c *sqlschema.Column) string {
			if c.Default == nil {
				return "NULL"
			}
			return "(" + c.Default.Text + ")"
		}
		branch := func(unwritten, unwrittenOld string) string {
			return fmt.Sprintf(
				`        IF %s IS NOT DISTINCT FROM %s THEN
            %s := %s;
            %s
        ELSIF %s IS NOT DISTINCT FROM %s THEN
            SELECT %s INTO %s %s;
        ELSE
            RAISE EXCEPTION '%s' USING ERRCODE = 'check_violation';
        END IF;
`,
				compared(s.Column, now),
				compared(s.Column, unwritten),
				now,
				there,
				noted,
				compared(s.Old, old),
				compared(s.Old, unwrittenOld),
				stages{}.Guarded(s.Back, quote(s.Column.Name), s.Old.SQLType),
				old,
				row,
				strings.ReplaceAll(
					strings.ReplaceAll(
						fmt.Sprintf(
							"%s.%s and %s.%s are one field under two names: they cannot be given different values",
							t.Name, s.Old.Name, t.Name, s.Column.Name),
						"'",
						"''",
					),
					"%",
					"%%",
				),
			)
		}
		fmt.Fprintf(&body,
			"    IF %s IS NOT DISTINCT FROM %s THEN\n        NULL;\n    ELSIF TG_OP = 'INSERT' THEN\n%s    ELSE\n%s    END IF;\n",
			compared(s.Column, now), compared(s.Column, there), branch(none(s.Column), none(s.Old)),
			branch(was(s.Column), was(s.Old)))
	}
	text := "\n"
	if vars.Len() > 0 {
		text += "DECLARE\n" + vars.String()
	}
	text += "BEGIN\n    IF " + quietly + " THEN\n        RETURN NEW;\n    END IF;\n" + body.String() + "    RETURN NEW;\nEND\n"
	name := schema.Cut(bridgePrefix + t.Name + "_" + string(schema.ForBridge))
	trigger := fmt.Sprintf("CREATE TRIGGER %s BEFORE INSERT OR UPDATE ON %s\n    FOR EACH ROW EXECUTE FUNCTION %s()",
		quote(name), quoteTable(t.Name), quoteTable(bridgeFunction(t.Name)))
	return []*sqlschema.Trigger{
		{Name: name, Purpose: schema.ForBridge, SQL: withFunction(bridgeFunction(t.Name), trigger, text)},
	}
}

// FollowTriggers gives nothing: the second half is one transaction.
func (stages) FollowTriggers(*sqlschema.Table, []engine.Following) []*sqlschema.Trigger { return nil }

// LiveView is the view of the rows that are not deleted.
func (stages) LiveView(name string, t *sqlschema.Table, without ...string) *sqlschema.View {
	shown := t.Clone()
	shown.Columns = nil
	for _, c := range t.Columns {
		if !slices.Contains(without, c.Name) {
			shown.Columns = append(shown.Columns, c)
		}
	}
	return &sqlschema.View{Name: name, LiveOf: t.Name, SQL: sqlschema.SQL{Text: liveView(name, shown), Canon: viewKey}}
}

// Begin notes the change itself, where there are rows that somebody wrote.
func (stages) Begin(table string) []string {
	return []string{
		formerTable,
		notedFunction,
		fmt.Sprintf(
			"INSERT INTO erbario_former (table_name, session, at, application, role) SELECT %s, 0, clock_timestamp(), 'the change itself', session_user WHERE EXISTS (SELECT 1 FROM %s)",
			literal(table), quoteTable(table)),
	}
}

// End forgets who wrote as before.
func (stages) End(table string) []string {
	return []string{"DELETE FROM erbario_former WHERE table_name = " + literal(table)}
}

// Resync gives the column that stood for another what that has.
func (stages) Resync(table string, s engine.Span) []string {
	old, value := quote(s.Old.Name), stages{}.Guarded(s.Back, quote(s.Column.Name), s.Old.SQLType)
	return quiet(
		[]string{fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s", quoteTable(table), old, value,
			stages{}.Differ(old, value))},
	)
}

// NoOldWriters is what the second migration waits for.
func (stages) NoOldWriters(table string, wait time.Duration) engine.Requirement {
	return engine.Requirement{
		Sentence: fmt.Sprintf("{n} sessions wrote %s in the old form in the last %s, the change itself counted", table,
			numbers.Duration(wait)),
		Query: fmt.Sprintf(
			"SELECT application, role, address, to_char(at AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS') AS last, to_char(at AT TIME ZONE 'UTC' + interval '%d seconds', 'HH24:MI:SS') AS until FROM erbario_former WHERE table_name = %s AND at > now() - interval '%[1]d seconds' ORDER BY at DESC",
			int(wait.Seconds()), literal(table)),
		Wait: true,
	}
}

// Guarded is the converted value of a column, null where it does not fit.
func (stages) Guarded(c engine.Conversion, column, sqlType string) string {
	switch {
	case c.SQL != "":
		return c.SQL
	case c.Fits != "":
		return "CASE WHEN " + c.Fits + " THEN CAST(" + column + " AS " + sqlType + ") END"
	}
	return column
}

// Differ is the condition that two expressions differ.
func (stages) Differ(a, b string) string { return a + " IS DISTINCT FROM " + b }

// Random tells whether a default is another one each time it is asked for.
func (stages) Random(c *sqlschema.Column) bool { return rewrites(c) }
