package sqltext

// This file tells which tables a statement touches, and when that cannot be told from
// its words: the same on every engine, by its tokens.

import (
	"slices"
	"strings"
	"sync"

	"erbario/internal/engine/sqltok"
)

// Touched are the tables that a statement names.
type Touched struct {
	Tables []string // the one that it creates or changes is the first
	// Unsure is the word for which nobody can tell what else the statement touches, such
	// as DO; empty: it touches nothing else.
	Unsure string
}

// surely are the first words of statements that touch nothing but the tables they name.
var surely = sync.OnceValue(func() map[string]bool {
	return words(
		"SELECT WITH VALUES INSERT UPDATE DELETE REPLACE MERGE TRUNCATE CREATE ALTER DROP COMMENT LOCK UNLOCK SET RENAME ANALYZE GRANT REVOKE REFRESH REINDEX CLUSTER COPY LOAD TABLE OPTIMIZE SAVEPOINT RELEASE",
	)
})

// noNames are words that stand where a table's name can, and are none.
var noNames = sync.OnceValue(func() map[string]bool {
	return words(
		"DELETE UPDATE CONFLICT SET IF EXISTS ONLY COLUMN TABLE LATERAL FUNCTION DUPLICATE SELECT EACH DUAL NULL CASCADE RESTRICT NO NOT IGNORE OR VALUES OF ALL COMMIT INDEX CONSTRAINT TRIGGER VIEW SCHEMA TYPE DOMAIN SEQUENCE DATABASE POLICY RULE UNNEST JSON_TABLE GENERATE_SERIES USER ROLE UNLOGGED TEMPORARY TEMP LOCAL DEFAULT TRUE FALSE CURRENT_TIMESTAMP NOTHING DO ON AS WHERE FROM JOIN BY KEY FOR WITH MATERIALIZED",
	)
})

// between are words that stand between a word that a table follows and its name.
var between = sync.OnceValue(func() map[string]bool {
	return words(
		"IF NOT EXISTS ONLY TABLE COLUMN OR IGNORE ROLLBACK ABORT REPLACE FAIL LOW_PRIORITY HIGH_PRIORITY DELAYED QUICK CONCURRENTLY INTO FROM UNLOGGED TEMPORARY TEMP LATERAL",
	)
})

// endsList are words behind which a list of tables does not go on.
var endsList = sync.OnceValue(func() map[string]bool {
	return words(
		"WHERE SET ON USING GROUP ORDER HAVING LIMIT RETURNING UNION EXCEPT INTERSECT VALUES SELECT WINDOW FETCH FOR WHEN DO",
	)
})

// behindUpdate are words behind which UPDATE begins no statement.
var behindUpdate = sync.OnceValue(
	func() map[string]bool { return words("ON FOR BEFORE AFTER OF OR KEY DO GRANT REVOKE INSTEAD") },
)

// running are functions that run what they are given as a text.
var running = sync.OnceValue(func() map[string]bool {
	return words("QUERY_TO_XML QUERY_TO_XML_AND_XMLSCHEMA CURSOR_TO_XML DBLINK DBLINK_EXEC LOAD_EXTENSION")
})

// changing are the first words of statements that may change rows.
var changing = sync.OnceValue(func() map[string]bool {
	return words("INSERT UPDATE DELETE REPLACE MERGE TRUNCATE WITH DO CALL EXECUTE")
})

// ChangesRows tells whether a statement is one that may change rows.
func ChangesRows(list []sqltok.Token) bool { return len(list) > 0 && changing()[list[0].Word()] }

func words(list string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(list) {
		out[w] = true
	}
	return out
}

// Touches tells which tables a statement touches, from its tokens. routines are the
// functions and procedures of the database itself, in lower case: what they do nobody
// sees here.
func Touches(list []sqltok.Token, routines map[string]bool) Touched {
	var out Touched
	if len(list) == 0 {
		return out
	}
	first := list[0].Word()
	unsure := func(word string) {
		if out.Unsure == "" {
			out.Unsure = word
		}
	}
	if !surely()[first] {
		unsure(first)
	}
	if first == "DROP" && len(list) > 1 &&
		!slices.Contains([]string{"TABLE", "VIEW", "INDEX", "TRIGGER"}, list[1].Word()) &&
		slices.ContainsFunc(list, func(t sqltok.Token) bool { return t.Word() == "CASCADE" || t.Word() == "OWNED" }) {
		unsure("DROP " + list[1].Word())
	}
	add := func(t sqltok.Token) {
		if t.Named() && !(t.Bare() && noNames()[t.Word()]) && !slices.Contains(out.Tables, t.Name()) {
			out.Tables = append(out.Tables, t.Name())
		}
	}
	// name adds the table whose name begins at i, and returns the place behind it. Behind
	// ON the last part may be a column.
	name := func(i int, column bool) int {
		start := i
		for i+2 < len(list) && list[i+1].Text == "." && list[i+2].Named() {
			i += 2
		}
		if i < len(list) {
			if column && i > start {
				add(list[start])
				if i > start+2 {
					add(list[start+2])
				}
			}
			if !column || i == start || list[start].Name() == "public" || list[start].Name() == "main" {
				add(list[i])
			}
		}
		return i + 1
	}
	for i := 0; i < len(list); i++ {
		t := list[i]
		if !t.Bare() || i > 0 && list[i-1].Text == "." {
			continue
		}
		word := t.Word()
		call := i+1 < len(list) && list[i+1].Text == "("
		if call && (running()[word] || routines[strings.ToLower(t.Name())]) {
			unsure(t.Text)
		}
		begins := i == 0 || list[i-1].Text == "(" || list[i-1].Text == ";"
		several := false
		switch word {
		case "TABLE", "ON", "INTO", "UPDATE", "REFERENCES":
			if call && word != "INTO" {
				continue
			}
			if i > 0 && word == "UPDATE" && (list[i-1].Text == "," || behindUpdate()[list[i-1].Word()]) {
				continue
			}
			several = word == "UPDATE" && begins ||
				word == "TABLE" && slices.Contains([]string{"TRUNCATE", "DROP", "LOCK", "RENAME"}, first)
		case "FROM", "JOIN", "USING", "TABLES":
			if word == "FROM" && list[max(i-1, 0)].Word() == "DISTINCT" {
				continue
			}
			several = true
		case "INSERT", "REPLACE", "MERGE", "TRUNCATE", "COPY", "REFRESH", "CLUSTER": // INTO or TABLE may be left out
			if i > 0 && !begins && list[i-1].Text != ")" || call {
				continue
			}
			several = word == "TRUNCATE"
		case "DELETE": // FROM may come behind the tables
			if !begins && !(i > 0 && list[i-1].Text == ")") {
				continue
			}
			several = true
		case "TO":
			if first != "RENAME" {
				continue
			}
		case "VIEW":
		default:
			continue
		}
		j := i + 1
		for j+1 < len(list) && list[j].Bare() && between()[list[j].Word()] && list[j+1].Text != "." && list[j+1].Text != "(" {
			j++
		}
		if j >= len(list) || !list[j].Named() {
			continue
		}
		j = name(j, word == "ON")
		for several && j < len(list) {
			// An alias may stand before the comma.
			if list[j].Word() == "AS" {
				j++
			}
			if j < len(list) && list[j].Named() && !(list[j].Bare() && endsList()[list[j].Word()]) {
				j++
			}
			if j+1 >= len(list) || list[j].Text != "," || !list[j+1].Named() {
				break
			}
			j = name(j+1, false)
		}
	}
	return out
}
