package postgres

// This file makes queries of ours safe from others' functions: one of the same name in the
// schema of the models, for just the types that are at hand, would be taken before the
// server's own, and would run with our rights.

import (
	"strings"
	"sync"

	"erbario/internal/engine/sqltok"
)

// noCalls are words that stand before a bracket and call no function, and functions whose
// arguments have words between them, which always are the server's own.
var noCalls = func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields("AND OR NOT IN ANY ALL SOME EXISTS VALUES AS ON USING OVER FILTER WITHIN GROUP SELECT FROM WHERE WHEN THEN ELSE CASE BY COALESCE NULLIF GREATEST LEAST CAST ARRAY ROW UNION INTERSECT EXCEPT DISTINCT JOIN LATERAL ORDINALITY LIMIT OFFSET RETURNING SET INTO WITH EXTRACT TRIM SUBSTRING POSITION OVERLAY OPERATOR HAVING PARTITION VARCHAR CHAR NUMERIC DECIMAL BIT TIMESTAMP TIME INTERVAL CURRENT_TIMESTAMP BETWEEN LIKE ILIKE IS RECURSIVE KEY UNIQUE CHECK REFERENCES TABLE VIEW INDEX ADD COLUMN TYPE") {
		out[w] = true
	}
	return out
}()

var qualifiedQueries sync.Map // of queries of ours, by their text

// qualified is a query of ours with the schema of the server's own functions before each
// of them.
func qualified(sql string) string {
	if out, ok := qualifiedQueries.Load(sql); ok {
		return out.(string)
	}
	var b strings.Builder
	last := 0
	list := tokens(sql)
	if len(list) == 0 || !list[0].Is("SELECT") && !list[0].Is("WITH") {
		return sql
	}
	for i, t := range list {
		if t.Kind != sqltok.Word || i+1 >= len(list) || !list[i+1].Is("(") || noCalls[strings.ToUpper(t.Text)] ||
			own(t.Name()) {
			continue
		}
		if i > 0 {
			before := list[i-1]
			// A part of a qualified name, a type, or an alias with its columns.
			if before.Is(".") || before.Is("::") || before.Is(")") || before.Is("AS") || before.Is("ORDINALITY") ||
				before.Is("RECURSIVE") || before.Is("INTO") || before.Is("WITH") {
				continue
			}
		}
		if commonTable(list[i+1:]) {
			continue
		}
		b.WriteString(sql[last:t.Start] + "pg_catalog.")
		last = t.Start
	}
	out := b.String() + sql[last:]
	qualifiedQueries.Store(sql, out)
	return out
}

// commonTable tells whether a bracket lists the columns of a query in a WITH clause.
func commonTable(list []sqltok.Token) bool {
	i := sqltok.Closing(list)
	return i+2 < len(list) && list[i+1].Is("AS") && list[i+2].Is("(")
}
