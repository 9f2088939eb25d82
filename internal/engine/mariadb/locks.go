package mariadb

// This file tells what a statement locks, and what it does with rows. How a change of a
// table is made is in its ALGORITHM and LOCK clauses: it was found by asking the
// server (see gentlest.go).

import (
	"strings"

	"erbario/internal/engine"
)

// The locks, from the weakest to the strongest that changes take.
const (
	rowLocks = iota + 1
	moment   // of the table's definition alone
	others   // others work meanwhile
	readers  // others read meanwhile
	alone    // nobody does
)

// Locks tells what a statement locks.
func (Engine) Locks(statement string) []engine.Lock {
	list := tokens(statement)
	var out []engine.Lock
	lock := func(table, mode string, level int, work engine.Work) {
		out = append(out, engine.Lock{Table: table, Mode: mode, Level: level, Alone: level == alone, Work: work})
	}
	name := func(i int) string {
		if i < len(list) && list[i].Named() {
			return list[i].Name()
		}
		return ""
	}
	behind := func(w string) string {
		for i, t := range list {
			if t.Is(w) {
				return name(i + 1)
			}
		}
		return ""
	}
	switch words := leading(statement, 2); strings.Join(words, " ") {
	case "ALTER TABLE":
		how, lockWord := behind("ALGORITHM"), behind("LOCK")
		for i, t := range list {
			if t.Is("=") && i > 0 && i+1 < len(list) {
				switch {
				case list[i-1].Is("ALGORITHM"):
					how = strings.ToUpper(list[i+1].Text)
				case list[i-1].Is("LOCK"):
					lockWord = strings.ToUpper(list[i+1].Text)
				}
			}
		}
		table := name(2)
		switch {
		case how == "INSTANT":
			lock(table, "INSTANT", moment, engine.NoWork)
		case how == "INPLACE" && lockWord == "NONE":
			lock(table, "INPLACE, LOCK=NONE", others, engine.Reads)
		case how == "INPLACE":
			lock(table, "INPLACE, LOCK=SHARED", readers, engine.Reads)
		case how == "COPY":
			lock(table, "COPY, LOCK=SHARED", readers, engine.Rewrites)
		} // else nobody knows yet
	case "RENAME TABLE", "DROP TABLE":
		lock(name(2), "INSTANT", moment, engine.NoWork)
	case "CREATE TRIGGER":
		lock(behind("ON"), "INSTANT", moment, engine.NoWork)
	case "LOCK TABLES":
		for i, t := range list {
			if t.Is("WRITE") {
				lock(name(i-1), "LOCK TABLES", alone, engine.NoWork)
				out[len(out)-1].Around = true
			}
		}
	default:
		switch {
		case len(words) == 0:
		case words[0] == "UPDATE":
			lock(name(1), "row locks", rowLocks, engine.Rewrites)
		case words[0] == "DELETE":
			lock(behind("FROM"), "row locks", rowLocks, engine.Reads)
		case words[0] == "INSERT":
			lock(behind("INTO"), "row locks", rowLocks, engine.NoWork)
		}
	}
	return out
}
