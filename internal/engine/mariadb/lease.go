package mariadb

// This file lets one run at a time work on a database. There are two locks, since
// neither is enough: the server's named lock on the connection that changes tables, which
// goes with the connection and is known to one server alone; and a row that names who
// has the lease, taken by a change that only one of several can make, whichever server
// they are on. Every note of a run is fenced by the number of its lease: one that was
// taken for dead, and is not, can note nothing more. Nobody is taken for dead by the
// clock: the server is asked whether that connection is still there, since a change of a
// table goes on when the program that ordered it was killed.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engine/waiting"
)

// leaseName is the table of that row.
const leaseName = "erbario_lease"

const leaseTable = "CREATE TABLE IF NOT EXISTS erbario_lease (\n    name varchar(64) NOT NULL PRIMARY KEY,\n    token bigint NOT NULL,\n    holder varchar(255) NOT NULL,\n    session varchar(255) NOT NULL,\n    address varchar(255) NOT NULL,\n    beat_at datetime(6) NOT NULL\n)" + ownBehind

// beatEvery is how often a run says that it is there.
const beatEvery = 5 * time.Second

// lease is the hold of one run on a database.
type lease struct {
	token int64
	stop  context.CancelFunc // of the beats
	done  chan struct{}
}

// lockName is the name of the server's lock for this database.
func (d *Database) lockName() string { return "erbario " + d.name }

// lockNameSQL is that name as SQL, no longer than the server takes.
func (d *Database) lockNameSQL() string {
	return "left(concat(left(" + literal(d.lockName()) + ", 23), ' ', md5(" + literal(d.lockName()) + ")), 64)"
}

// take takes both locks, or says that somebody else has them.
func (d *Database) take(ctx context.Context) (got bool, err error) {
	rows, err := d.Select(ctx, "SELECT GET_LOCK("+d.lockNameSQL()+", 0)")
	if err != nil || rows[0][0] != "1" {
		return false, err
	}
	defer func() {
		if !got {
			_, e := d.Select(context.WithoutCancel(ctx), "SELECT RELEASE_LOCK("+d.lockNameSQL()+")")
			err = errors.Join(err, e)
		}
	}()
	rows, err = d.Select(ctx, "SELECT token, session, address FROM erbario_lease WHERE name = 'run'")
	if err != nil && strings.Contains(err.Error(), "doesn't exist") {
		if err = d.raw(ctx, leaseTable); err == nil {
			err = d.raw(ctx, "INSERT IGNORE INTO erbario_lease VALUES ('run', 0, '', '', '', utc_timestamp(6))")
		}
		if err == nil {
			rows, err = d.Select(ctx, "SELECT token, session, address FROM erbario_lease WHERE name = 'run'")
		}
	}
	if err != nil {
		return false, err
	}
	if len(rows) == 0 {
		if err := d.raw(ctx, "INSERT IGNORE INTO erbario_lease VALUES ('run', 0, '', '', '', utc_timestamp(6))"); err != nil {
			return false, err
		}
		rows = [][]string{{"0", "", ""}}
	}
	token, _ := strconv.ParseInt(rows[0][0], 10, 64)
	if session := rows[0][1]; session != "" {
		gone, err := d.gone(ctx, session, rows[0][2])
		if err != nil || !gone {
			return false, err
		}
	}
	changed, err := d.change(ctx,
		"UPDATE erbario_lease SET token = token + 1, holder = ?, session = ?, address = ?, beat_at = utc_timestamp(6) WHERE name = 'run' AND token = ?",
		holderName(), d.session, d.config.Addr, token)
	if err != nil || changed != 1 {
		return false, err
	}
	d.lease = &lease{token: token + 1}
	d.beats()
	return true, nil
}

// holderName is who runs this, as far as the system knows.
func holderName() string {
	host, _ := os.Hostname()
	return fmt.Sprintf("%s, process %d", host, os.Getpid())
}

// fence is a change that only the run makes that has the lease.
func (d *Database) fence(ctx context.Context) error {
	if d.lease == nil {
		return nil
	}
	changed, err := d.change(ctx,
		"UPDATE erbario_lease SET beat_at = utc_timestamp(6) WHERE name = 'run' AND token = ?", d.lease.token)
	if err != nil {
		return err
	}
	if changed != 1 {
		return errors.New(
			"another run of erbario took over from this one, assuming it had ended: nothing more was recorded or changed here; see erbario status",
		)
	}
	return nil
}

// beats says every few seconds that the run is there, on a connection of its own.
func (d *Database) beats() {
	ctx, stop := context.WithCancel(context.Background())
	l := d.lease
	l.stop, l.done = stop, make(chan struct{})
	go func() {
		defer close(l.done)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(beatEvery):
			}
			d.besides(ctx, func(b *Database) error {
				_, err := b.change(ctx,
					"UPDATE erbario_lease SET beat_at = utc_timestamp(6) WHERE name = 'run' AND token = ?", l.token)
				return err
			})
		}
	}()
}

// give lets both locks go.
func (d *Database) give(ctx context.Context) error {
	l := d.lease
	if l == nil {
		return nil
	}
	d.lease = nil
	l.stop()
	<-l.done
	_, err := d.change(ctx,
		"UPDATE erbario_lease SET holder = '', session = '', address = '' WHERE name = 'run' AND token = ?", l.token)
	if errors.Is(err, engine.ErrLost) {
		return nil // the server lets go by itself, and the next run sees that nobody is there
	}
	_, e := d.Select(ctx, "SELECT RELEASE_LOCK("+d.lockNameSQL()+")")
	return errors.Join(err, e)
}

// ask asks for the locks until they are there or the time is over.
func (d *Database) ask(ctx context.Context, wait time.Duration) error {
	if d.session == "" {
		if err := d.nameSession(ctx); err != nil {
			return err
		}
	}
	deadline := time.Now().Add(wait)
	for pause := 10 * time.Millisecond; ; pause = min(pause*2, 200*time.Millisecond) {
		if got, err := d.take(ctx); err != nil || got {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the database %w%s, still after %s; nothing was changed; --wait gives them longer",
				engine.ErrBusy, d.leaseHolder(ctx), wait)
		}
		if began := deadline.Add(-wait); time.Since(began) > waiting.After && d.waits.watch.Report != nil {
			d.waits.watch.OnProgress("another run of erbario"+d.leaseHolder(ctx), "")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// leaseHolder tells who has the lease.
func (d *Database) leaseHolder(ctx context.Context) string {
	rows, err := d.Select(ctx, "SELECT holder, session FROM erbario_lease WHERE name = 'run' AND session <> ''")
	if err != nil || len(rows) == 0 {
		return ""
	}
	id, _, _ := strings.Cut(rows[0][1], " ")
	return fmt.Sprintf(" (%s, connection %s)%s", rows[0][0], id, d.unasked)
}

// Lock takes the lock for the session, until Release.
func (d *Database) Lock(ctx context.Context, wait time.Duration) error {
	d.wait = wait
	if d.scratch == nil && d.holds == 0 {
		if err := d.ask(ctx, wait); err != nil {
			return err
		}
	}
	d.holds++
	return nil
}

// Unlock lets the lock go.
func (d *Database) Unlock(ctx context.Context) error {
	if d.holds == 0 {
		return nil
	}
	if d.holds--; d.holds > 0 { // somebody holds it yet
		return nil
	}
	return d.give(ctx)
}

// sessionName is the name of a session by its parts: the connection, when its server
// started, which that is, of a cluster also as which member, and whose it is.
type sessionName struct {
	id      string
	started int64
	server  string
	member  string
	user    string
}

func readSession(name string) sessionName {
	parts := append(strings.SplitN(name, " ", 4), "", "", "")
	started, _ := strconv.ParseInt(parts[1], 10, 64)
	server, member, _ := strings.Cut(parts[2], "/")
	return sessionName{parts[0], started, server, member, parts[3]}
}

// Session names this connection to others.
func (d *Database) Session() string {
	if d.session == "" {
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		_ = d.nameSession(ctx) // the number of the connection is left, which tells enough
	}
	return cmp.Or(d.session, d.id)
}

// nameSession gives the session its name.
func (d *Database) nameSession(ctx context.Context) error {
	rows, err := d.Select(ctx,
		"SELECT unix_timestamp() - (SELECT variable_value FROM "+d.server.statusTable()+" WHERE variable_name = 'Uptime'), concat(@@hostname, ':', @@port), substring_index(user(), '@', 1)")
	if err != nil {
		return err
	}
	start, _, _ := strings.Cut(rows[0][0], ".")
	node := rows[0][1]
	if d.clustered {
		member, err := d.Select(ctx,
			"SELECT variable_value FROM "+d.server.statusTable()+" WHERE variable_name = 'wsrep_gcomm_uuid'")
		if err != nil {
			return err
		}
		if len(member) == 1 {
			node += "/" + member[0][0]
		}
	}
	d.session = strings.Join([]string{d.id, start, node, rows[0][2]}, " ")
	return nil
}

// SessionEnded tells whether the session of a name is no longer there.
func (d *Database) SessionEnded(ctx context.Context, session string) (bool, error) {
	rows, err := d.Select(ctx, "SELECT address FROM erbario_lease WHERE name = 'run' AND session = ?", session)
	address := ""
	if err == nil && len(rows) > 0 {
		address = rows[0][0]
	}
	return d.gone(ctx, session, address)
}

// gone asks the server of a session whether that is still there.
func (d *Database) gone(ctx context.Context, session, address string) (bool, error) {
	if d.session == "" {
		if err := d.nameSession(ctx); err != nil {
			return false, err
		}
	}
	if session == d.session {
		return true, nil
	}
	then, now := readSession(session), readSession(d.session)
	d.unasked = ""
	if then.server != now.server {
		return d.goneElsewhere(ctx, session, then, address)
	}
	if then.started < now.started-2 || then.started > now.started+2 {
		return true, nil // before the server was started
	}
	rows, err := d.Select(ctx, "SELECT 1 FROM information_schema.processlist WHERE id = ?", then.id)
	if err != nil || len(rows) > 0 {
		return false, err
	}
	if then.user == now.user {
		return true, nil
	}
	rows, err = d.Select(ctx,
		"SELECT 1 FROM information_schema.user_privileges WHERE privilege_type = 'PROCESS' LIMIT 1")
	if err != nil {
		return false, err
	}
	if len(rows) == 0 {
		return false, fmt.Errorf(
			"a run of the user %s holds the database, and the user %s cannot see whether it is still active. Resume as a user with the right PROCESS",
			then.user, now.user)
	}
	return true, nil
}

// askedTimes is how often a connection is tried, behind a balancer, until it is one to the
// server that is meant.
const askedTimes = 12

// goneElsewhere asks another server of a cluster whether a session is still there. A server
// that cannot be reached is not taken for dead: only the cluster itself tells that it has
// no such member any more, whose sessions can change nothing then.
func (d *Database) goneElsewhere(ctx context.Context, session string, then sessionName, address string) (bool, error) {
	other, err := d.reach(ctx, cmp.Or(address, d.config.Addr), then.server)
	if err != nil {
		return false, err
	}
	if other != nil {
		defer other.Close()
		return other.gone(ctx, session, "")
	}
	d.unasked = fmt.Sprintf(
		"; its server %s cannot be asked whether it is still active (if that server no longer exists, set session = '' in erbario_lease)",
		then.server,
	)
	if then.member == "" || !d.clustered {
		return false, nil
	}
	rows, err := d.Select(ctx,
		"SELECT variable_value FROM "+d.server.statusTable()+" WHERE variable_name = 'wsrep_cluster_status'")
	if err != nil || len(rows) != 1 || rows[0][0] != "Primary" {
		return false, err
	}
	rows, err = d.Select(ctx, "SELECT node_uuid FROM mysql.wsrep_cluster_members")
	if err != nil { // one may not see it
		return false, nil
	}
	for _, r := range rows {
		if strings.HasPrefix(r[0], then.member) || strings.HasPrefix(then.member, r[0]) {
			return false, nil
		}
	}
	return len(rows) > 0, nil
}

// reach connects to one server among those behind an address; nil: none of the connections
// was to it.
func (d *Database) reach(ctx context.Context, address, node string) (*Database, error) {
	c := *d.config
	c.Addr = address
	refused := 0
	for range askedTimes {
		other, err := openConfig(ctx, &c, false)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			if refused++; refused > 2 {
				return nil, nil
			}
			continue
		case other.node == node:
			return other, nil
		}
		other.Close()
	}
	return nil, nil
}
