package mariadb

// This file is events: statements that the server runs by itself at certain times. On scratch none
// ever runs, so each is created disabled there, and what its statement said is remembered.

import (
	"context"
	"errors"
	"regexp"
	"strings"
	"sync"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
)

// eventSaid is what the statement of an event on scratch said.
type eventSaid struct {
	state  string // ENABLE, DISABLE, DISABLE ON SLAVE
	starts bool   // when it begins
}

// eventClauses are the places in a statement that creates an event: where its state may stand, the
// state, and when it begins.
type eventClauses struct {
	name       string
	at         int // behind the schedule and what becomes of it at the end
	state      string
	from, to   int // of the state; the same: it says none
	starts     bool
	since, end int // of STARTS with its time
}

// readEvent reads a statement that creates an event; ok is false for others.
func readEvent(statement string) (out eventClauses, ok bool) {
	list := tokens(statement)
	i := 0
	for i < len(list) && i < 24 && !list[i].Is("EVENT") {
		i++
	}
	if len(list) == 0 || !list[0].Is("CREATE") && !list[0].Is("SET") || i >= len(list) || !list[i].Is("EVENT") {
		return out, false
	}
	for i++; i < len(list) && (list[i].Is("IF") || list[i].Is("NOT") || list[i].Is("EXISTS")); i++ {
	}
	for i+2 < len(list) && list[i+1].Is(".") {
		i += 2
	}
	if i+2 >= len(list) || !list[i+1].Is("ON") || !list[i+2].Is("SCHEDULE") {
		return out, false
	}
	out.name = list[i].Name()
	depth := 0
	for i += 3; i < len(list); i++ {
		switch t := list[i]; {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		case depth > 0:
		case t.Is("STARTS"):
			out.starts, out.since = true, t.Start
			out.end = endOfTime(list, i+1)
		case t.Is("ENABLE"), t.Is("DISABLE"):
			out.from, out.to, out.state = t.Start, t.End, strings.ToUpper(t.Text)
			if i+2 < len(list) && list[i+1].Is("ON") {
				out.to, out.state, i = list[i+2].End, "DISABLE ON SLAVE", i+2
			}
		case t.Is("COMMENT"), t.Is("DO"):
			out.at = t.Start
			if out.to == 0 {
				out.from, out.to = t.Start, t.Start
			}
			return out, true
		}
	}
	return out, false
}

// endOfTime is where the time behind STARTS ends.
func endOfTime(list []sqltok.Token, i int) int {
	for ; i < len(list); i++ {
		for _, w := range []string{"ENDS", "ON", "ENABLE", "DISABLE", "COMMENT", "DO"} {
			if list[i].Is(w) {
				return list[i].Start
			}
		}
	}
	return 0
}

// aboutEvent are the words of a statement that may create or enable an event.
var aboutEvent = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?is)\b(create|alter)\b.*\bevent\b`)
})

// asleep is a statement as scratch runs it: an event is created disabled. sure is false if one may be
// enabled by it all the same.
func (d *Database) asleep(statement string) (as string, sure bool) {
	if !aboutEvent().MatchString(statement) {
		return statement, true
	}
	e, ok := readEvent(statement)
	if !ok {
		return statement, false
	}
	if d.events == nil {
		d.events = map[string]eventSaid{}
	}
	state := e.state
	if state == "" {
		state = "ENABLE"
	}
	d.events[e.name] = eventSaid{state, e.starts}
	return statement[:e.from] + "DISABLE " + statement[e.to:], true
}

// disableEvents disables every event of the database.
func (d *Database) disableEvents(ctx context.Context) error {
	rows, err := d.Select(ctx,
		"SELECT event_name FROM information_schema.events WHERE event_schema = database() AND status = 'ENABLED'")
	for _, r := range rows {
		if _, failed := d.change(ctx, "ALTER EVENT "+quote(r[0])+" DISABLE"); failed != nil {
			err = errors.Join(err, failed)
		}
	}
	return err
}

// event is one as the server shows it, on scratch with what its statement said.
type event struct{ sql, mode, zone, client, collation string }

// showEvent reads an event; its statement is empty if it may not be seen.
func (d *Database) showEvent(ctx context.Context, name string) (event, error) {
	rows, err := d.Select(ctx, "SHOW CREATE EVENT "+quote(name))
	if err != nil || len(rows) == 0 {
		return event{}, err
	}
	row := rows[0]
	out := event{sql: row[3], mode: row[1], zone: row[2], client: row[4], collation: row[5]}
	said, ok := d.events[name]
	if e, read := readEvent(out.sql); ok && read {
		out.sql = out.sql[:e.from] + said.state + out.sql[e.to:]
		if !said.starts {
			out.sql = withoutStart(out.sql)
		}
	}
	return out, nil
}

// within is a statement that runs with the mode and the time zone of the event, where those of the
// session are others.
func (e event) within(sql, session string) string {
	var set []string
	if e.mode != "" && e.mode != session {
		set = append(set, "sql_mode = "+literal(e.mode))
	}
	if e.zone != "+00:00" {
		set = append(set, "time_zone = "+literal(e.zone))
	}
	if set == nil {
		return sql
	}
	return "SET STATEMENT " + strings.Join(set, ", ") + " FOR " + sql
}

// event reads how an event is created.
func (v *verbatim) event(name string) {
	if v.err != nil {
		return
	}
	e, err := v.d.showEvent(v.ctx, name)
	if err != nil || e.sql == "" {
		v.err = err
		return
	}
	c := engine.Creation{Kind: "event", Name: name, SQL: v.ours(e.sql)}
	v.events[name] = e
	client, collation := "", ""
	if plainASCII(e.sql) {
		client, collation = e.client, e.collation
	}
	c.Before, c.After = around([2]string{"sql_mode", literal(e.mode)}, [2]string{"character_set_client", client},
		[2]string{"collation_connection", collation})
	c.Before += ", @erbario_time_zone = @@time_zone, time_zone = " + literal(e.zone)
	c.After += ", time_zone = @erbario_time_zone"
	v.list = append(v.list, c)
}

// withoutStart is the statement of an event that does not say when it begins.
func withoutStart(text string) string {
	if at, ok := readEvent(text); ok && at.starts {
		return text[:at.since] + text[at.end:]
	}
	return text
}

// form is how an event is compared, with its statement in c: when it begins counts only where the
// declared one says it.
func (e event) form(c *engine.Creation, session string) {
	c.Before, c.After = "", ""
	c.Said = undefined(c.SQL)
	c.Form = canon(withoutStart(c.Said))
	if e.mode != session && matters(e.mode) {
		c.Form = e.mode + " " + c.Form
	}
	if e.zone != "+00:00" {
		c.Form = e.zone + " " + c.Form
	}
	c.SQL, c.Said = e.within(c.SQL, session), e.within(c.Said, session)
}
