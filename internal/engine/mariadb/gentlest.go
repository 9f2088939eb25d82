package mariadb

// This file finds how gently the server can make a change of a table: it is asked on
// scratch, from the gentlest way to the hardest. It says at once where it cannot; what
// it took is in the statement then, so that a server that can do no such thing says
// so, too, instead of keeping everybody waiting.

import (
	"context"
	"errors"
	"slices"
	"strings"

	"erbario/internal/engine/sqltok"

	"github.com/go-sql-driver/mysql"
)

// ways are from the gentlest to the hardest.
var ways = []string{
	"ALGORITHM=INSTANT", "ALGORITHM=INPLACE, LOCK=NONE", "ALGORITHM=INPLACE, LOCK=SHARED",
	"ALGORITHM=COPY, LOCK=SHARED",
}

// CanRunOnline tells whether a statement changes a table, and does not say yet in which way.
func (d *Database) CanRunOnline(statement string) bool {
	list := tokens(statement)
	return len(list) > 2 && list[0].Is("ALTER") && list[1].Is("TABLE") && !hasClause(list, "ALGORITHM") &&
		!hasClause(list, "LOCK")
}

// LeastLocking runs a statement, and returns it with the gentlest way in which the server
// makes that change; one that is no change of a table comes back as it is. An empty table
// takes another type for a column at once, and one with rows does not.
func (d *Database) LeastLocking(ctx context.Context, statement string) (string, error) {
	if !d.CanRunOnline(statement) {
		return statement, d.Exec(ctx, statement)
	}
	list := tokens(statement)
	sep := ", "
	if strings.Contains(statement, "\n    ") {
		sep = ",\n    "
	}
	rows, err := d.Select(ctx, "SELECT 1 FROM "+list[2].Text+" LIMIT 1")
	if err != nil {
		return statement, err
	}
	empty := len(rows) == 0
	list = slices.DeleteFunc(list, func(t sqltok.Token) bool { return !t.Is("MODIFY") && !t.Is("CHANGE") })
	for i, way := range ways {
		if i == 0 && empty && len(list) > 0 {
			continue
		}
		with := statement + sep + way
		_, err = d.conn.ExecContext(ctx, with)
		var own *mysql.MySQLError
		if errors.As(err, &own) && (own.Number == 1845 || own.Number == 1846 || own.Number == 1221) {
			continue
		}
		return with, d.plain(err)
	}
	return statement, d.plain(err)
}

// hasClause tells whether an ALTER TABLE says something like ALGORITHM=….
func hasClause(list []sqltok.Token, word string) bool {
	for i := 0; i+1 < len(list); i++ {
		if list[i].Is(word) && list[i+1].Is("=") {
			return true
		}
	}
	return false
}
