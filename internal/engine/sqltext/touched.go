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
	if len(list) == 0 {
		return Touched{}
	}
	r := &touching{list: list, first: list[0].Word(), routines: routines}
	if !surely()[r.first] {
		r.unsure(r.first)
	}
	if r.first == "DROP" && len(list) > 1 &&
		!slices.Contains([]string{"TABLE", "VIEW", "INDEX", "TRIGGER"}, list[1].Word()) &&
		slices.ContainsFunc(list, func(t sqltok.Token) bool { return t.Word() == "CASCADE" || t.Word() == "OWNED" }) {
		r.unsure("DROP " + list[1].Word())
	}
	for i := range list {
		r.word(i)
	}
	return r.out
}

// touching is a statement that is read for the tables that it touches.
type touching struct {
	list     []sqltok.Token
	first    string // word
	routines map[string]bool
	out      Touched
}

func (r *touching) unsure(word string) {
	if r.out.Unsure == "" {
		r.out.Unsure = word
	}
}

func (r *touching) add(t sqltok.Token) {
	if t.Named() && !(t.Bare() && noNames()[t.Word()]) && !slices.Contains(r.out.Tables, t.Name()) {
		r.out.Tables = append(r.out.Tables, t.Name())
	}
}

// name adds the table whose name begins at i, and returns the place behind it. Behind
// ON the last part may be a column.
func (r *touching) name(i int, column bool) int {
	list, start := r.list, i
	for i+2 < len(list) && list[i+1].Text == "." && list[i+2].Named() {
		i += 2
	}
	if i < len(list) {
		if column && i > start {
			r.add(list[start])
			if i > start+2 {
				r.add(list[start+2])
			}
		}
		if !column || i == start || list[start].Name() == "public" || list[start].Name() == "main" {
			r.add(list[i])
		}
	}
	return i + 1
}

// word adds what stands behind the i-th token, where names of tables do.
func (r *touching) word(i int) {
	list, t := r.list, r.list[i]
	if !t.Bare() || i > 0 && list[i-1].Text == "." {
		return
	}
	call := i+1 < len(list) && list[i+1].Text == "("
	if call && (running()[t.Word()] || r.routines[strings.ToLower(t.Name())]) {
		r.unsure(t.Text)
	}
	several, ok := r.named(i, call)
	if !ok {
		return
	}
	j := i + 1
	for j+1 < len(list) && list[j].Bare() && between()[list[j].Word()] && list[j+1].Text != "." &&
		list[j+1].Text != "(" {
		j++
	}
	if j >= len(list) || !list[j].Named() {
		return
	}
	j = r.name(j, t.Word() == "ON")
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
		j = r.name(j+1, false)
	}
}

// named tells whether the name of a table stands behind the i-th token, and whether several
// can; call: a bracket does.
func (r *touching) named(i int, call bool) (several, ok bool) {
	list, word := r.list, r.list[i].Word()
	begins := i == 0 || list[i-1].Text == "(" || list[i-1].Text == ";"
	switch word {
	case "TABLE", "ON", "INTO", "UPDATE", "REFERENCES":
		if call && word != "INTO" {
			return false, false
		}
		if i > 0 && word == "UPDATE" && (list[i-1].Text == "," || behindUpdate()[list[i-1].Word()]) {
			return false, false
		}
		return word == "UPDATE" && begins ||
			word == "TABLE" && slices.Contains([]string{"TRUNCATE", "DROP", "LOCK", "RENAME"}, r.first), true
	case "FROM", "JOIN", "USING", "TABLES":
		return true, !(word == "FROM" && list[max(i-1, 0)].Word() == "DISTINCT")
	case "INSERT", "REPLACE", "MERGE", "TRUNCATE", "COPY", "REFRESH", "CLUSTER": // INTO or TABLE may be left out
		return word == "TRUNCATE", !(i > 0 && !begins && list[i-1].Text != ")" || call)
	case "DELETE": // FROM may come behind the tables
		return true, begins || i > 0 && list[i-1].Text == ")"
	case "TO":
		return false, r.first == "RENAME"
	case "VIEW":
		return false, true
	}
	return false, false
}
