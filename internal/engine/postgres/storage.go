package postgres

// This file is how the values of a column are kept: in its row or apart from it, compressed or not; and how many
// of them the planner's statistics list.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/sqlschema"
)

// storageQuery gives the columns of which that is not as their type and the server say. It looks at a column alone
// first, since there are so many.
const storageQuery = `WITH a AS MATERIALIZED (SELECT a.attrelid, a.attnum, a.atttypid, a.attstorage, a.attcompression, coalesce(a.attstattarget, '-1'::integer) AS target FROM pg_attribute a
		WHERE a.attnum > 0 AND NOT a.attisdropped AND (a.attcompression <> '' OR a.attstattarget >= '0'::integer OR a.attlen = '-1'::integer AND (a.attstorage <> 'x' OR a.atttypid IN (SELECT y.oid FROM pg_type y WHERE y.typlen = '-1'::integer AND y.typstorage <> 'x'))))
	SELECT a.attrelid, a.attnum, CASE WHEN a.attstorage = y.typstorage THEN '' ELSE a.attstorage::text END, a.attcompression, a.target
	FROM a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_type y ON y.oid = a.atttypid
	WHERE c.relnamespace = ` + here + ` AND c.relkind IN ('r', 'p') AND (a.attstorage <> y.typstorage OR a.attcompression <> '' OR a.target >= '0'::integer)`

// compressionColumn is what servers before 14 lack.
const compressionColumn = "a.attcompression"

var (
	storages     = map[string]string{"p": "PLAIN", "e": "EXTERNAL", "m": "MAIN", "x": "EXTENDED"}
	compressions = map[string]string{"p": "COMPRESSION PGLZ", "l": "COMPRESSION LZ4"}
)

// storage notes how columns are kept.
func (r *reading) storage(rows [][]string) {
	for _, v := range rows {
		rel := r.byOID[v[0]]
		if rel == nil || rel.columns[v[1]] == nil {
			continue
		}
		c := rel.columns[v[1]]
		c.Storage = strings.TrimSpace(storages[v[2]] + " " + compressions[v[3]])
		if n := 0; v[4] != "-1" {
			fmt.Sscan(v[4], &n)
			c.Statistics = &n
		}
	}
}

// storageParts are the place of the values of a column, and their compression; empty: as usual.
func storageParts(c *sqlschema.Column) (place, compression string, ok bool) {
	list := strings.Fields(strings.ToUpper(c.Storage))
	if i := slices.Index(list, "COMPRESSION"); i >= 0 {
		if i != len(list)-2 || !slices.Contains([]string{"PGLZ", "LZ4"}, list[i+1]) {
			return "", "", false
		}
		list, compression = list[:i], list[i+1]
	}
	switch {
	case len(list) == 0:
		return "", compression, compression != "" || c.Storage == ""
	case len(list) > 1 || !slices.Contains([]string{"PLAIN", "EXTERNAL", "MAIN", "EXTENDED"}, list[0]):
		return "", "", false
	}
	return list[0], compression, true
}

// keepsAs are the statements that have the values of a column kept as they are to be, which is as was; nil: it
// is new.
func keepsAs(table string, was, c *sqlschema.Column) []string {
	if was == nil {
		was = &sqlschema.Column{}
	}
	place, compression, _ := storageParts(c)
	wasPlace, wasCompression, _ := storageParts(was)
	alter := alterTable(table) + "ALTER COLUMN " + quote(c.Name) + " SET "
	var out []string
	if place != wasPlace {
		if place == "" {
			place = plainStorage(c)
		}
		out = append(out, alter+"STORAGE "+place)
	}
	if compression != wasCompression {
		if compression == "" {
			compression = "DEFAULT"
		}
		out = append(out, alter+"COMPRESSION "+strings.ToLower(compression))
	}
	switch a, b := was.Statistics, c.Statistics; {
	case b != nil && (a == nil || *a != *b):
		out = append(out, alter+fmt.Sprintf("STATISTICS %d", *b))
	case b == nil && a != nil:
		out = append(out, alter+"STATISTICS -1")
	}
	return out
}

// plainStorage is where values of a column's type are kept if nothing else is said.
func plainStorage(c *sqlschema.Column) string {
	name := c.SQLType
	if c.Domain != "" {
		name = c.Domain
	}
	switch name, _, _ = strings.Cut(name, "("); {
	case strings.HasSuffix(name, "[]"):
		return "EXTENDED"
	case name == "numeric" || name == "inet" || name == "cidr":
		return "MAIN"
	case c.Values != nil || slices.Contains([]string{"smallint", "integer", "bigint", "real", "double precision",
		"boolean", "date", "time", "timestamp", "timestamptz", "timetz", "interval", "uuid", "macaddr", "money"}, name):
		return "PLAIN"
	}
	return "EXTENDED"
}
