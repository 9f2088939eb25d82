package postgres

// This file tells what a statement locks, and what it does with rows: the tables of
// PostgreSQL's own documentation (chapter "Explicit Locking" and ALTER TABLE), for the
// statements that steps are made of.

import (
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
)

// The locks, from the weakest to the strongest that changes take.
const (
	rowExclusive = iota + 1
	shareUpdateExclusive
	share
	shareRowExclusive
	accessExclusive
)

var lockNames = map[int]string{
	rowExclusive: "ROW EXCLUSIVE", shareUpdateExclusive: "SHARE UPDATE EXCLUSIVE", share: "SHARE", shareRowExclusive: "SHARE ROW EXCLUSIVE", accessExclusive: "ACCESS EXCLUSIVE",
}

// Locks tells what a statement locks.
func (Engine) Locks(statement string) []engine.Lock {
	list := tokens(statement)
	var out []engine.Lock
	lock := func(table string, level int, work engine.Work) {
		if table != "" {
			out = append(out, engine.Lock{
				Table: table,
				Mode:  lockNames[level],
				Level: level,
				Alone: level == accessExclusive,
				Work:  work,
			})
		}
	}
	word := func(i int) string {
		if i < len(list) && list[i].Kind == sqltok.Word {
			return strings.ToUpper(list[i].Text)
		}
		return ""
	}
	behind := func(w string) string {
		for i, t := range list {
			if t.Is(w) && i+1 < len(list) && list[i+1].Named() {
				return list[i+1].Name()
			}
		}
		return ""
	}
	has := func(words ...string) bool {
		for i := range list {
			all := true
			for j, w := range words {
				all = all && word(i+j) == w
			}
			if all {
				return true
			}
		}
		return false
	}
	table := ""
	if len(list) > 2 {
		table = list[2].Name()
	}
	switch word(0) + " " + word(1) {
	case "CREATE TABLE":
		for i, t := range list {
			if t.Is("REFERENCES") && i+1 < len(list) && list[i+1].Name() != table {
				lock(list[i+1].Name(), shareRowExclusive, engine.NoWork)
			}
		}
	case "CREATE INDEX", "CREATE UNIQUE":
		level := share
		if has("CONCURRENTLY") {
			level = shareUpdateExclusive
		}
		lock(behind("ON"), level, engine.Reads)
	case "CREATE TRIGGER":
		lock(behind("ON"), shareRowExclusive, engine.NoWork)
	case "DROP TRIGGER":
		lock(behind("ON"), accessExclusive, engine.NoWork)
	case "DROP TABLE", "LOCK TABLE":
		lock(table, accessExclusive, engine.NoWork)
	case "SELECT ERBARIO_MOVE":
		lock(movedTable(list), accessExclusive, engine.NoWork)
	case "COMMENT ON":
		if len(list) > 3 {
			table = list[3].Name()
		}
		lock(table, shareUpdateExclusive, engine.NoWork)
	case "ALTER TABLE":
		if has("FOREIGN", "KEY") {
			lock(behind("REFERENCES"), shareRowExclusive, engine.NoWork)
		}
		level, work := alterLock(statement, has)
		lock(table, level, work)
	case "INSERT INTO":
		lock(table, rowExclusive, engine.NoWork)
	default:
		switch word(0) {
		case "UPDATE":
			lock(list[1].Name(), rowExclusive, engine.Rewrites)
		case "WITH":
			lock(behind("UPDATE"), rowExclusive, engine.Rewrites)
		case "DELETE":
			lock(behind("FROM"), rowExclusive, engine.Reads)
		}
	}
	return out
}

// movedTable is the table that a statement moves into another schema; "": it moves none.
func movedTable(list []sqltok.Token) string {
	if len(list) != moveTokens || list[1].Name() != moveFunction {
		return ""
	}
	return list[3].Name()
}

// alterLock is the lock that an ALTER TABLE takes, and what it does with the rows; has tells
// whether words stand in the statement.
func alterLock(statement string, has func(words ...string) bool) (level int, work engine.Work) {
	switch {
	case has("VALIDATE", "CONSTRAINT"):
		return shareUpdateExclusive, engine.Reads
	case has("FOREIGN", "KEY"):
		if !has("NOT", "VALID") {
			work = engine.Reads
		}
		return shareRowExclusive, work
	case has("USING", "INDEX"):
	case has("TYPE"):
		work = engine.Rewrites
	case has("ADD", "COLUMN") && (has("IDENTITY") || has("STORED") || mentions(statement, "gen_random_uuid") ||
		mentions(statement, "clock_timestamp")):
		work = engine.Rewrites
	case has("NOT", "VALID"):
	case has("CHECK") || has("SET", "NOT", "NULL") || has("UNIQUE") || has("PRIMARY", "KEY"):
		work = engine.Reads
	}
	return accessExclusive, work
}
