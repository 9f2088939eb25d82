package postgres

// This file is about tables whose rows are those of another, too: partitions, and tables that inherit. A partition
// is taken out of its table and put back, with its rows.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// tableIn is the name of a table that the server wrote for a statement.
func tableIn(sql string) string {
	if t := tokens("TABLE " + sql); len(t) == 2 {
		return t[1].Name()
	}
	return sql
}

// boundsOf are the words of a statement by which a partition belongs to its table, such as
// FOR VALUES FROM (1) TO (9); "" for a table that inherits.
func boundsOf(sql string) string {
	list := tokens(sql)
	for i := 0; i+1 < len(list); i++ {
		if !list[i].Is("PARTITION") || !list[i+1].Is("OF") {
			continue
		}
		from, end := 0, len(sql)
		for k, t := range list[i:] {
			switch {
			case from == 0 && (t.Is("DEFAULT") || t.Is("FOR") && i+k+1 < len(list) && list[i+k+1].Is("VALUES")):
				from = t.Start
			case from > 0 && (t.Is("WITH") && k > 0 && i+k+1 < len(list) && list[i+k+1].Is("(") &&
				!list[i+k-1].Is("VALUES") || t.Is("PARTITION")):
				end = min(end, t.Start)
			}
		}
		return strings.TrimSpace(sql[from:end])
	}
	return ""
}

func detach(part, of string) string {
	return "ALTER TABLE " + quoteTable(of) + " DETACH PARTITION " + quoteTable(part)
}

func attach(part, of, bounds string) string {
	return "ALTER TABLE " + quoteTable(of) + " ATTACH PARTITION " + quoteTable(part) + " " + bounds
}

// attachAgain are the statements that give a partition other bounds; "": that is not all of the difference, or it is
// none.
func attachAgain(was, now engine.Creation) string {
	from, to := boundsOf(was.SQL), boundsOf(now.SQL)
	if from == "" || to == "" || was.Of != now.Of {
		return ""
	}
	if canon(strings.Replace(was.SQL, from, to, 1)) != canon(now.SQL) {
		return ""
	}
	if canon(from) == canon(to) { // what else there is to say of it differs
		return "ALTER TABLE " + quoteTable(now.Name) + " SET LOGGED"
	}
	return detach(now.Name, now.Of) + ";\n" + attach(now.Name, now.Of, to)
}

// lessOfPart takes back what a statement says more of a part; nil: nothing can.
func lessOfPart(sql string) []string {
	for _, way := range [][2]string{
		{" SET NOT NULL", " DROP NOT NULL"}, {" CLUSTER ON ", " SET WITHOUT CLUSTER"},
		{" REPLICA IDENTITY ", " REPLICA IDENTITY DEFAULT"}, {" SET STATISTICS ", " SET STATISTICS -1"},
	} {
		if head, _, ok := strings.Cut(sql, way[0]); ok {
			return []string{head + way[1]}
		}
	}
	return nil
}

// DropPart takes a partition out of its table and sets it aside as it is, with its rows. It is false for a table that
// inherits: nothing brings its columns back as they are. What it has since its table has it, the server names as it
// likes, and gives it again.
func (Engine) DropPart(c engine.Creation, t *sqlschema.Table, own []string, keep string) (engine.Step, bool) {
	bounds := boundsOf(c.SQL)
	if bounds == "" {
		return engine.Step{}, false
	}
	part := t.Clone()
	part.Indexes = slices.DeleteFunc(part.Indexes,
		func(x *sqlschema.Index) bool { return !slices.Contains(own, x.Name) })
	if part.PrimaryKey != nil && !slices.Contains(own, part.PrimaryKey.Name) {
		part.PrimaryKey = nil
	}
	s := keepWhole(part, keep)
	s.Apply = slices.Concat([]string{detach(c.Name, c.Of)}, s.Apply, []string{dropReferences(keep)})
	s.Undo = append(s.Undo, attach(c.Name, c.Of, bounds))
	return s, true
}

// dropReferences drops all references of a table, whatever they are called.
func dropReferences(table string) string {
	drop := literal("ALTER TABLE " + strings.ReplaceAll(quoteTable(table), "%", "%%") + " DROP CONSTRAINT %I")
	return `DO $erbario$DECLARE
    name text;
BEGIN
    FOR name IN SELECT conname FROM pg_catalog.pg_constraint
        WHERE conrelid = ` + literal(quoteTable(table)) + `::regclass AND contype = 'f'
    LOOP
        EXECUTE pg_catalog.format(` + drop + `, name);
    END LOOP;
END$erbario$`
}

// RestPart creates a part of a table for the rows that are in no other.
func (Engine) RestPart(t *sqlschema.Table, name string) string {
	if !t.Partitioned() {
		return ""
	}
	bounds := "DEFAULT"
	if strings.Contains(t.Options.Behind, "PARTITION BY HASH") {
		bounds = "FOR VALUES WITH (MODULUS 1, REMAINDER 0)"
	}
	return "CREATE TABLE " + quoteTable(name) + " PARTITION OF " + quoteTable(t.Name) + " " + bounds
}
