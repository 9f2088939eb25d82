package postgres

// This file reads everything that a schema of a database holds, in one round trip
// whatever the number of tables: each catalogue once, joined here. What the server
// would have to spell out is asked for only where its number does not tell it.

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// here is the schema in which a session works.
const here = "quote_ident(current_schema())::regnamespace::oid"

// inspections are the queries of one inspection, in the order in which read takes
// them. A table that belongs to an extension is not the database's own; one that has the
// name of a catalogue is left alone, since that name means the catalogue.
var inspections = []string{
	// relations
	`SELECT c.oid, c.relname, c.relkind, c.relpersistence, c.relispartition, coalesce(pg_get_partkeydef(c.oid), ''), coalesce(` + parentOf("c") + `, ''),
		coalesce(d.description, ''), CASE WHEN c.relkind IN ('v', 'm') THEN pg_get_viewdef(c.oid, true) ELSE '' END,
			coalesce(array_to_string(c.reloptions, ', '), ''), c.relrowsecurity,
			CASE WHEN c.relkind IN ('v', 'm') AND (SELECT ` + twice("u.ev_action") + ` FROM pg_rewrite u WHERE u.ev_class = c.oid AND u.rulename = '_RETURN') THEN pg_get_viewdef(c.oid) ELSE '' END,
			CASE WHEN c.relkind <> 'f' AND EXISTS (SELECT 1 FROM pg_inherits i WHERE i.inhrelid = c.oid) THEN ` + partStatement("c") + ` ELSE '' END
		FROM pg_class c LEFT JOIN pg_description d ON d.objoid = c.oid AND d.classoid = 'pg_catalog.pg_class'::regclass::oid AND d.objsubid = 0
		WHERE c.relnamespace = ` + here + ` AND c.relkind IN ('r', 'p', 'f', 'v', 'm') AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_class'::regclass::oid AND e.objid = c.oid AND e.deptype = 'e')
		AND NOT EXISTS (SELECT 1 FROM pg_class o WHERE o.relnamespace = 'pg_catalog'::regnamespace::oid AND o.relname = c.relname)
		ORDER BY c.oid`,
	// columns
	`SELECT a.attrelid, a.attname, a.atttypid, a.atttypmod, CASE WHEN a.atttypid IN ('16', '17', '20', '21', '23', '25', '700', '701', '1043', '1082', '1083', '1114', '1184', '1700', '2950', '3802') THEN '' ELSE format_type(a.atttypid, a.atttypmod) END,
		a.attnotnull, a.attidentity, a.attgenerated, CASE WHEN a.attcollation NOT IN ('0', '100') THEN (SELECT CASE WHEN a.attcollation <> t.typcollation THEN a.attcollation::regcollation::text ELSE '' END FROM pg_type t WHERE t.oid = a.atttypid) ELSE '' END,
		coalesce(pg_get_expr(f.adbin, f.adrelid, true), ''), coalesce(d.description, ''), a.attnum, a.attcollation,
		CASE WHEN a.atttypid > '16383' THEN (SELECT format_type(nullif(t.typbasetype, '0'), t.typtypmod) FROM pg_type t WHERE t.oid = a.atttypid) END,
		CASE WHEN ` + twice("f.adbin") + ` THEN pg_get_expr(f.adbin, f.adrelid) ELSE '' END
		FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum LEFT JOIN pg_description d ON d.objoid = c.oid AND d.classoid = 'pg_catalog.pg_class'::regclass::oid AND d.objsubid = a.attnum
		WHERE c.relnamespace = ` + here + ` AND c.relkind IN ('r', 'p', 'f') AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attrelid, a.attnum`,
	// constraints
	`SELECT c.conrelid, c.conname, c.contype, array_to_string(c.conkey, ' '), coalesce(r.relname::text, ''),
		coalesce(array_to_string(c.confkey, ' '), ''), c.confrelid, c.confupdtype, c.confdeltype, c.confmatchtype,
			c.condeferrable, c.condeferred, c.convalidated, c.connoinherit, c.conindid,
		CASE WHEN c.contype = 'c' THEN pg_get_expr(c.conbin, c.conrelid, true) WHEN c.contype IN ('x', 't') THEN pg_get_constraintdef(c.oid, NOT EXISTS (SELECT 1 FROM pg_index i WHERE i.indexrelid = c.conindid AND ` + twice("i.indpred") + `)) ELSE '' END, CASE WHEN c.contype = 'f' THEN coalesce(to_jsonb(c) ->> 'confdelsetcols', '') ELSE '' END,
		CASE WHEN c.contype = 'c' AND ` + twice("c.conbin") + ` THEN pg_get_expr(c.conbin, c.conrelid) ELSE '' END,
		s.nspname, CASE WHEN s.oid IS NOT NULL THEN (SELECT json_agg(a.attname ORDER BY o.n)::text FROM unnest(c.confkey) WITH ORDINALITY o (k, n) JOIN pg_attribute a ON a.attrelid = c.confrelid AND a.attnum = o.k) END
		FROM pg_constraint c LEFT JOIN pg_class r ON r.oid = c.confrelid LEFT JOIN pg_namespace s ON s.oid = r.relnamespace AND s.oid <> (SELECT ` + here + `)
		WHERE c.connamespace = ` + here + ` AND c.conrelid <> '0' AND c.contype <> 't' AND c.contype <> 'n' AND (c.conparentid = '0' OR c.contype <> 'f') ORDER BY c.conrelid, c.contype, c.conname`,
	// indexes
	`SELECT i.indexrelid, c.relname, i.indrelid, i.indisunique, i.indisprimary, i.indisexclusion, i.indisvalid, CASE WHEN i.indisunique AND NOT i.indisprimary THEN coalesce((to_jsonb(i) ->> 'indnullsnotdistinct')::boolean, false) ELSE false END, i.indnkeyatts, i.indkey, i.indoption, i.indcollation, i.indclass, m.amname,
		coalesce(array_to_string(c.reloptions, ', '), ''), coalesce(pg_get_expr(i.indpred, i.indrelid, true), ''),
		CASE WHEN i.indexprs IS NOT NULL THEN array_to_json(ARRAY(
			SELECT pg_get_indexdef(i.indexrelid, k, true) FROM generate_series(1, i.indnkeyatts) k))::text ELSE '' END,
		CASE WHEN ` + twice("i.indpred") + ` THEN pg_get_expr(i.indpred, i.indrelid) ELSE '' END,
		CASE WHEN ` + twice("i.indexprs") + ` THEN array_to_json(ARRAY(SELECT pg_get_indexdef(i.indexrelid, k, false) FROM generate_series(1, i.indnkeyatts) k))::text ELSE '' END
		FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_am m ON m.oid = c.relam WHERE c.relnamespace = ` + here + ` ORDER BY i.indrelid, c.relname`,
	// operator classes that have to be named, and collations that indexes name
	`SELECT o.oid, CASE WHEN pg_opclass_is_visible(o.oid) THEN quote_ident(o.opcname) ELSE quote_ident(n.nspname) || '.' || quote_ident(o.opcname) END FROM pg_opclass o JOIN pg_namespace n ON n.oid = o.opcnamespace WHERE NOT o.opcdefault`,
	`SELECT l.oid, l.oid::regcollation FROM pg_collation l WHERE l.oid IN (SELECT unnest(i.indcollation::oid[]) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE c.relnamespace = ` + here + `)`,
	// triggers
	`SELECT t.tgrelid, t.tgname, pg_get_triggerdef(t.oid, true), p.proname, CASE WHEN p.proname::text LIKE 'erbario\_children\_%' OR p.proname::text LIKE 'erbario\_bridge\_%' OR p.proname::text LIKE 'erbario\_guard\_%' THEN p.prosrc ELSE '' END,
		CASE WHEN ` + twice("t.tgqual") + ` THEN pg_get_triggerdef(t.oid) ELSE '' END, ` + reachesBeyond + `
		FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_proc p ON p.oid = t.tgfoid JOIN pg_language l ON l.oid = p.prolang WHERE c.relnamespace = ` + here + ` AND NOT t.tgisinternal ORDER BY t.tgrelid, t.tgname`,
	// extensions, types, sequences and functions
	`SELECT extname, quote_ident(nspname), n.oid = ` + here + ` OR nspname = 'pg_catalog' FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace WHERE extname <> 'plpgsql' ORDER BY e.oid`,
	`SELECT t.oid, t.typname, t.typtype, format_type(t.typbasetype, t.typtypmod), t.typnotnull, coalesce(t.typdefault, ''),
		coalesce((SELECT json_agg(e.enumlabel ORDER BY e.enumsortorder)::text FROM pg_enum e WHERE e.enumtypid = t.oid), ''),
		coalesce((SELECT json_agg(json_build_array(quote_ident(k.conname),
			pg_get_constraintdef(k.oid)) ORDER BY k.conname)::text FROM pg_constraint k WHERE k.contypid = t.oid), ''),
		coalesce((SELECT json_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod) ORDER BY a.attnum)::text FROM pg_attribute a WHERE a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped), ''),
		coalesce((SELECT format_type(r.rngsubtype, NULL) FROM pg_range r WHERE r.rngtypid = t.oid), '')
		FROM pg_type t LEFT JOIN pg_class c ON c.oid = t.typrelid WHERE t.typnamespace = ` + here + ` AND (
			t.typtype IN ('e', 'd', 'r') OR t.typtype = 'c' AND c.relkind = 'c')
		AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_type'::regclass::oid AND e.objid = t.oid AND e.deptype = 'e') ORDER BY t.oid`,
	`SELECT c.oid, c.relname, format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcache, s.seqcycle,
		coalesce((SELECT quote_ident(r.relname) || '.' || quote_ident(a.attname) FROM pg_depend d JOIN pg_class r ON r.oid = d.refobjid JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum = d.refobjsubid WHERE d.classid = 'pg_catalog.pg_class'::regclass::oid AND d.objid = c.oid AND d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND d.deptype = 'a'), '')
		FROM pg_class c JOIN pg_sequence s ON s.seqrelid = c.oid WHERE c.relnamespace = ` + here + ` AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_catalog.pg_class'::regclass::oid AND d.objid = c.oid AND d.deptype IN ('i', 'e')) ORDER BY c.oid`,
	`SELECT p.oid, p.proname, pg_get_functiondef(p.oid), pg_get_function_identity_arguments(p.oid) FROM pg_proc p WHERE p.pronamespace = ` + here + ` AND p.prokind IN ('f', 'p') AND p.proname::text NOT LIKE 'erbario\_%'
		AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_proc'::regclass::oid AND e.objid = p.oid AND e.deptype IN ('e', 'i')) ORDER BY p.oid`,
	// row security
	policiesQuery,
	storageQuery,
	anyRareQuery,
}

// rareInspections are the queries about what few databases have, where there may be any.
var rareInspections = []string{
	collationsQuery, dictionariesQuery, searchesQuery, aggregatesQuery, operatorsQuery, elsewhereQuery,
	publicationsQuery, eventTriggersQuery,
}

const policiesQuery = `SELECT c.relname, quote_ident(p.polname), p.polpermissive, p.polcmd, coalesce(pg_get_expr(p.polqual, p.polrelid), ''), coalesce(pg_get_expr(p.polwithcheck, p.polrelid), ''), (SELECT string_agg(CASE WHEN o = '0' THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(o)) END, ', ') FROM unnest(p.polroles) o), c.relrowsecurity FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid WHERE c.relnamespace = ` + here + ` ORDER BY 1, 2`

// relation is what the catalogues number.
type relation struct {
	table      *sqlschema.Table
	columns    map[string]*sqlschema.Column // by number
	collations map[string]string            // of columns, by number
}

// Inspect reads tables with all that belongs to them, views, and what no model can
// declare.
func (d *database) Inspect(ctx context.Context) (*sqlschema.Schema, error) {
	r, err := d.reading(ctx, place{})
	if err != nil {
		return nil, err
	}
	if err = d.besides(ctx, r); err != nil {
		return nil, err
	}
	if r.s.Elsewhere, err = d.elsewhere(ctx, r.needs, false); err != nil {
		return nil, err
	}
	r.order()
	values := enumValues(r.s)
	own := typesOf(r.s)
	for _, t := range r.s.Tables {
		for _, c := range t.Columns {
			c.Values, c.OwnType = values[c.SQLType], own(c.SQLType)
			c.Elements = elements(c.SQLType, values)
		}
		recognise(t)
	}
	for _, v := range r.s.Views {
		if v.LiveOf = liveOf(r.s, v); v.LiveOf != "" { // as it was declared, not as the server spells it
			body := v.SQL.Key()
			body = strings.Replace(strings.Replace(body, " from ", "\nFROM ", 1), " where ", "\nWHERE ", 1)
			body = strings.TrimSuffix(strings.ReplaceAll(strings.Replace(body, "select ", "SELECT ", 1), " , ", ", "),
				" is null") + " IS NULL"
			v.SQL.Text = "CREATE VIEW " + quoteTable(v.Name) + " AS\n" + body
		}
	}
	r.s.Sort()
	return r.s, nil
}

// reading reads what the catalogues tell of a schema.
func (d *database) reading(ctx context.Context, at place) (*reading, error) {
	all, err := d.catalogues(ctx, at, inspections)
	if err != nil {
		return nil, err
	}
	r := &reading{s: &sqlschema.Schema{}, at: at, main: d.schema, byOID: map[string]*relation{}}
	var few []dated
	if all[13][0][0] == "t" {
		more, err := d.catalogues(ctx, at, rareInspections)
		if err != nil {
			return nil, err
		}
		few, r.needs = r.rare(more[0], more[1], more[2], more[3], more[4]), firsts(more[5])
		r.ofDatabase(more[6], more[7])
	}
	r.relations(all[0])
	r.columns(all[1])
	r.constraints(all[2])
	r.indexes(all[3], pairs(all[4]), pairs(all[5]))
	r.triggers(all[6])
	r.others(all[7], all[8], all[9], all[10], few)
	r.policies(all[11])
	r.storage(all[12])
	return r, nil
}

// catalogues runs queries about a schema in one round trip, and gives the rows of each.
func (d *database) catalogues(ctx context.Context, at place, queries []string) ([][][]string, error) {
	text, begin, path := qualified(strings.Join(queries, ";\n")), "", at.path
	if at.schema != "" {
		text = strings.ReplaceAll(text, qualifiedHere, literal(quote(at.schema))+"::regnamespace::oid")
	}
	if !d.notices { // which came with version 14, as this column did
		text = strings.ReplaceAll(text, compressionColumn, "''")
	}
	if path != "" {
		text = "SET LOCAL search_path = " + path + ";\n" + text + ";\nSET LOCAL search_path = " + d.path
	}
	if !d.inTx {
		begin = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"
		if d.pooled {
			begin += "; " + d.set("SET LOCAL ")
		}
		text = begin + ";\n" + text + ";\nCOMMIT"
	}
	results, err := d.pg().Exec(ctx, text).ReadAll()
	if err != nil {
		if !d.inTx && !d.pg().IsClosed() {
			_ = d.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
		return nil, d.plain(err)
	}
	if !d.inTx {
		results = results[strings.Count(begin, ";")+1 : len(results)-1]
	}
	if path != "" {
		results = results[1 : len(results)-1]
	}
	var all [][][]string
	for _, r := range results {
		all = append(all, texts(r))
	}
	return all, nil
}

func pairs(rows [][]string) map[string]string {
	out := map[string]string{}
	for _, r := range rows {
		out[r[0]] = r[1]
	}
	return out
}

type reading struct {
	s     *sqlschema.Schema
	at    place
	main  string  // the session's own schema
	early []dated // what is created before tables
	byOID map[string]*relation
	needs []string // the other schemas on which something of this one stands
}

func (r *reading) relations(rows [][]string) {
	for _, v := range rows {
		name := r.name(v[1])
		switch v[2] {
		case "v":
			r.s.Views = append(r.s.Views, &sqlschema.View{
				Name: name, SQL: viewSQL("CREATE VIEW "+quoteTable(name)+" AS\n", v[8], v[11], ""),
			})
			continue
		case "m":
			sql := viewSQL("CREATE MATERIALIZED VIEW "+quoteTable(name)+" AS\n", v[8], v[11], "\nWITH NO DATA")
			r.s.Others = append(r.s.Others, &sqlschema.Other{Kind: "materialised view", Name: name, Late: true,
				Make: []string{sql.Make()}, Form: sql.Text})
			continue
		}
		t := &sqlschema.Table{Name: name, Comment: v[7]}
		t.Options.Unlogged = v[3] == "u"
		if v[5] != "" {
			t.Options.Behind = " PARTITION BY " + v[5]
		}
		if v[9] != "" {
			t.Options.Behind += " WITH (" + v[9] + ")"
		}
		// A part's rows are in its parent: no model declares it.
		t.Options.Foreign = v[2] == "f" || v[6] != ""
		t.PartOf, t.AsPart = tableIn(v[6]), storedAgain(v[12])
		r.byOID[v[0]] = &relation{t, map[string]*sqlschema.Column{}, map[string]string{}}
		r.s.Tables = append(r.s.Tables, t)
	}
}

// typeNames are the types that a number tells.
var typeNames = map[string]string{
	"16": "boolean", "17": "bytea", "20": "bigint", "21": "smallint", "23": "integer", "25": "text", "700": "real",
	"701": "double precision", "1043": "varchar",
	"1082": "date", "1083": "time", "1114": "timestamp", "1184": "timestamptz", "1700": "numeric", "2950": "uuid",
	"3802": "jsonb",
}

// typeText is a type in the words of the schema.
func typeText(oid, mod, formatted string) string {
	name, ok := typeNames[oid]
	if !ok {
		return shortType(formatted)
	}
	n, _ := strconv.Atoi(mod)
	switch {
	case n < 0:
		return name
	case name == "varchar":
		return fmt.Sprintf("varchar(%d)", n-4)
	case name == "numeric":
		scale := (n - 4) & 0x7ff
		if scale > 1023 {
			scale -= 2048
		}
		return fmt.Sprintf("numeric(%d,%d)", (n-4)>>16&0xffff, scale)
	}
	return fmt.Sprintf("%s(%d)", name, n)
}

func (r *reading) columns(rows [][]string) {
	known := map[[2]string]sqlschema.SQL{} // many columns have the same default
	tidied := func(stored, full string) sqlschema.SQL {
		of := [2]string{stored, full}
		sql, ok := known[of]
		if !ok {
			sql = tidied(stored, full)
			known[of] = sql
		}
		return sql
	}
	for _, v := range rows {
		rel := r.byOID[v[0]]
		if rel == nil {
			continue
		}
		c := &sqlschema.Column{
			Name:           v[1],
			SQLType:        typeText(v[2], v[3], v[4]),
			NotNull:        v[5] == "t",
			Identity:       v[6] != "",
			IdentityAlways: v[6] == "a",
			Collation:      v[8],
			Comment:        v[10],
			Domain:         shortType(v[13]),
		}
		switch {
		case v[7] != "":
			c.Generated = &sqlschema.Generated{SQL: tidied(v[9], v[14]), Stored: v[7] == "s"}
		case v[9] != "":
			c.Default = new(ofDomain(tidied(v[9], v[14]), c.Domain))
		}
		if strings.HasPrefix(c.Name, schema.KeptPrefix) {
			rel.table.Aside = append(rel.table.Aside, c)
			continue
		}
		rel.table.Columns = append(rel.table.Columns, c)
		rel.columns[v[11]], rel.collations[v[11]] = c, v[12]
	}
}

// names are the columns of numbers.
func (rel *relation) names(numbers string) []string {
	var out []string
	for _, n := range strings.Fields(strings.Trim(numbers, "{}")) {
		if c := rel.columns[n]; c != nil {
			out = append(out, c.Name)
		}
	}
	return out
}

var actions = map[string]schema.Action{
	"a": schema.NoAction, "r": schema.Restrict, "c": schema.Cascade, "n": schema.SetNull, "d": schema.SetDefault,
}

func (r *reading) constraints(rows [][]string) {
	for _, v := range rows {
		rel := r.byOID[v[0]]
		if rel == nil {
			continue
		}
		t, columns := rel.table, rel.names(v[3])
		switch v[2] {
		case "p":
			t.PrimaryKey = &sqlschema.PrimaryKey{Name: v[1]}
			for _, c := range columns {
				t.PrimaryKey.Columns = append(t.PrimaryKey.Columns, sqlschema.Part{Column: c})
			}
			t.PrimaryKey.Options = deferrable(v[10], v[11])
		case "u":
			t.Indexes = append(t.Indexes,
				&sqlschema.Index{Name: v[1], Unique: true, Constraint: true, Options: deferrable(v[10], v[11])})
		case "c":
			k := &sqlschema.Check{Name: v[1], SQL: tidied(v[15], v[17]), NoInherit: v[13] == "t",
				NotValid: v[12] == "f"}
			t.Checks = append(t.Checks, k)
		case "f":
			k := &sqlschema.ForeignKey{
				Name:       v[1],
				Columns:    columns,
				Table:      r.target(v[18], v[4]),
				OnUpdate:   actions[v[7]],
				OnDelete:   actions[v[8]],
				Deferrable: strings.TrimSpace(deferrable(v[10], v[11])),
				NotValid:   v[12] == "f",
			}
			if to := r.byOID[v[6]]; to != nil {
				k.References = to.names(v[5])
			} else if v[18] != "" {
				k.References = jsonTexts(v[19])
			}
			if v[9] == "f" {
				k.Match = "FULL"
			}
			if v[16] != "" {
				k.SetColumns = rel.names(strings.ReplaceAll(strings.Trim(v[16], "[]{}"), ",", " "))
			}
			t.ForeignKeys = append(t.ForeignKeys, k)
		default:
			t.Others = append(t.Others, &sqlschema.Constraint{Name: v[1], Text: storedAgain(v[15])})
		}
	}
}

func deferrable(can, initially string) string {
	switch {
	case can != "t":
		return ""
	case initially == "t":
		return " DEFERRABLE INITIALLY DEFERRED"
	}
	return " DEFERRABLE"
}

func (r *reading) triggers(rows [][]string) {
	for _, v := range rows {
		rel := r.byOID[v[0]]
		if rel == nil {
			continue
		}
		g := &sqlschema.Trigger{Name: v[1], SQL: sqlOf(v[2]), Reaches: v[6] == "t"}
		if again := triggerText(v[2], v[5]); again != v[2] {
			g.SQL.Stored = again
		}
		if v[4] != "" {
			g.SQL = withFunction(v[3], v[2], v[4])
		}
		rel.table.Triggers = append(rel.table.Triggers, g)
	}
}

// others are extensions, types, sequences and functions, in the order in which they
// were made.
func (r *reading) others(extensions, types, sequences, functions [][]string, rare []dated) {
	for _, v := range extensions {
		if r.at.schema != "" { // they belong to the whole database
			break
		}
		o := &sqlschema.Other{
			Kind: "extension",
			Name: v[0],
			Make: []string{"CREATE EXTENSION IF NOT EXISTS " + quote(v[0])},
		}
		if v[2] != "t" { // in a schema of its own
			o.Make = []string{"CREATE SCHEMA IF NOT EXISTS " + v[1], o.Make[0] + " WITH SCHEMA " + v[1]}
		}
		r.early = append(r.early, dated{0, o})
	}
	r.early = append(r.early, rare...)
	add := func(oid string, o *sqlschema.Other) {
		n, _ := strconv.Atoi(oid)
		r.early = append(r.early, dated{n, o})
	}
	for _, v := range types {
		is := r.name(v[1])
		name := quoteTable(is)
		switch v[2] {
		case "e":
			add(v[0], enumType(is, jsonTexts(v[6])))
		case "d":
			s := "CREATE DOMAIN " + name + " AS " + v[3]
			if v[5] != "" {
				s += " DEFAULT " + v[5]
			}
			if v[4] == "t" {
				s += " NOT NULL"
			}
			for _, k := range jsonPairs(v[7]) {
				if strings.HasPrefix(k[1], "CHECK") {
					s += " CONSTRAINT " + k[0] + " " + k[1]
				}
			}
			add(v[0], &sqlschema.Other{Kind: "domain", Name: is, Make: []string{s}})
		case "c":
			add(v[0], &sqlschema.Other{
				Kind: "composite type",
				Name: is,
				Make: []string{"CREATE TYPE " + name + " AS (" + strings.Join(jsonTexts(v[8]), ", ") + ")"},
			})
		case "r":
			add(v[0], &sqlschema.Other{Kind: "range type", Name: is,
				Make: []string{"CREATE TYPE " + name + " AS RANGE (SUBTYPE = " + v[9] + ")"}})
		}
	}
	for _, v := range sequences {
		name := r.name(v[1])
		s := fmt.Sprintf("CREATE SEQUENCE %s AS %s INCREMENT BY %s MINVALUE %s MAXVALUE %s START WITH %s CACHE %s",
			quoteTable(name), v[2], v[4], v[5], v[6], v[3], v[7])
		if v[8] == "t" {
			s += " CYCLE"
		}
		if r.serial(v) {
			continue
		}
		add(v[0], &sqlschema.Other{Kind: "sequence", Name: name, Make: []string{s}})
		if v[9] != "" {
			r.s.Others = append(r.s.Others, &sqlschema.Other{
				Name: name,
				Late: true,
				Make: []string{"ALTER SEQUENCE " + quoteTable(name) + " OWNED BY " + r.owner(v[9])},
			})
		}
	}
	for _, v := range functions {
		add(v[0], &sqlschema.Other{Kind: routineKind(v[2]), Name: r.name(v[1]) + "(" + v[3] + ")",
			Make: []string{v[2]}})
	}
}

// routineKind is the kind of what a CREATE statement creates: a function, or a procedure.
func routineKind(create string) string {
	if strings.HasPrefix(create, "CREATE OR REPLACE PROCEDURE") {
		return "procedure"
	}
	return "function"
}

// mostOf is the largest number of a whole type.
var mostOf = map[string]string{"smallint": "32767", "integer": "2147483647", "bigint": "9223372036854775807"}

// serial notes a sequence with its column, if it belongs to that, numbers it by its default,
// and is as the server makes one for a column: it is no thing of its own then.
func (r *reading) serial(v []string) bool {
	if v[9] == "" || v[3] != "1" || v[4] != "1" || v[5] != "1" || v[6] != mostOf[v[2]] || v[7] != "1" || v[8] == "t" {
		return false
	}
	for _, t := range r.s.Tables {
		if !strings.HasPrefix(v[9], quote(bare(t.Name))+".") {
			continue
		}
		for _, c := range t.Columns {
			if v[9] == quote(bare(t.Name))+"."+quote(c.Name) && c.SQLType == v[2] && c.Default != nil &&
				c.Default.Key() == canon("nextval("+literal(quoteTable(r.name(v[1])))+"::regclass)") {
				c.Serial = r.name(v[1])
				return true
			}
		}
	}
	return false
}

func (r *reading) policies(rows [][]string) {
	commands := map[string]string{"*": "ALL", "r": "SELECT", "a": "INSERT", "w": "UPDATE", "d": "DELETE"}
	for _, v := range rows {
		table := r.name(v[0])
		s := "CREATE POLICY " + v[1] + " ON " + quoteTable(table)
		if v[2] == "f" {
			s += " AS RESTRICTIVE"
		}
		s += " FOR " + commands[v[3]]
		if v[6] != "PUBLIC" {
			s += " TO " + v[6]
		}
		if v[4] != "" {
			s += " USING (" + v[4] + ")"
		}
		if v[5] != "" {
			s += " WITH CHECK (" + v[5] + ")"
		}
		o := &sqlschema.Other{Kind: "policy", Name: strings.Trim(v[1], `"`) + " of " + table, Late: true,
			Make: []string{s}}
		if v[7] == "t" {
			o.Make = []string{"ALTER TABLE " + quoteTable(table) + " ENABLE ROW LEVEL SECURITY", s}
		}
		r.s.Others = append(r.s.Others, o)
	}
}
