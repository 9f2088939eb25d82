package postgres

// This file reads what few databases have, and what others of its things may stand on:
// collations, text search, aggregates, operators and casts of its own, and the other
// schemas that its tables, views and functions need.

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// notExtension is the condition that an object belongs to no extension, and came with no
// other object.
func notExtension(catalogue, oid string) string {
	return "NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog." + catalogue + "'::regclass::oid AND e.objid = " + oid + " AND e.deptype IN ('e', 'i'))"
}

// reachesBeyond is the condition that a function p of the language l may reach files, the network or another
// database: in a language that is not trusted anything can, in others what is called for that.
const reachesBeyond = `(NOT l.lanpltrusted AND l.lanname <> 'internal' OR p.prosrc ~* '\m(dblink\w*|lo_import|lo_export|pg_read_\w*file|pg_ls_\w*dir|http_\w+)\s*\(|\mcopy\M[^;]+\m(to|from)\s+(program\s+)?''')
	AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_proc'::regclass::oid AND e.objid = p.oid AND e.deptype = 'e')`

// anyRareQuery asks whether there may be any of it: what the server came with has lower
// numbers. Schemas count that are not this one.
const anyRareQuery = `SELECT EXISTS (SELECT 1 FROM pg_publication) OR EXISTS (SELECT 1 FROM pg_event_trigger) OR EXISTS (SELECT 1 FROM pg_collation WHERE oid >= '16384' AND collnamespace = ` + here + `) OR EXISTS (SELECT 1 FROM pg_ts_dict WHERE oid >= '16384') OR EXISTS (SELECT 1 FROM pg_ts_config WHERE oid >= '16384')
	OR EXISTS (SELECT 1 FROM pg_operator WHERE oid >= '16384') OR EXISTS (SELECT 1 FROM pg_cast WHERE oid >= '16384') OR EXISTS (SELECT 1 FROM pg_proc WHERE oid >= '16384' AND prokind = 'a')
	OR EXISTS (SELECT 1 FROM pg_namespace WHERE oid <> ` + here + ` AND (oid >= '16384' OR nspname = 'public') AND nspname::text NOT LIKE 'pg\_%' AND nspname::text NOT LIKE 'erbario\_scratch\_%')`

var (
	collationsQuery = `SELECT c.oid, c.collname, c.collprovider, coalesce(to_jsonb(c) ->> 'colllocale', to_jsonb(c) ->> 'colliculocale', c.collcollate::text), coalesce(c.collctype::text, ''), coalesce(to_jsonb(c) ->> 'collisdeterministic', 'true'), coalesce(to_jsonb(c) ->> 'collicurules', '')
		FROM pg_collation c WHERE c.collnamespace = ` + here + ` AND ` + notExtension(
		"pg_collation",
		"c.oid",
	)
	dictionariesQuery = `SELECT d.oid, d.dictname, quote_ident(n.nspname) || '.' || quote_ident(t.tmplname), coalesce(d.dictinitoption, '')
		FROM pg_ts_dict d JOIN pg_ts_template t ON t.oid = d.dicttemplate JOIN pg_namespace n ON n.oid = t.tmplnamespace WHERE d.dictnamespace = ` + here + ` AND ` + notExtension(
		"pg_ts_dict",
		"d.oid",
	)
	searchesQuery = `SELECT c.oid, c.cfgname, quote_ident(n.nspname) || '.' || quote_ident(p.prsname),
		coalesce((SELECT json_agg(json_build_array(k.alias, (SELECT string_agg(m.mapdict::regdictionary::text, ', ' ORDER BY m.mapseqno) FROM pg_ts_config_map m WHERE m.mapcfg = c.oid AND m.maptokentype = k.tokid)) ORDER BY k.tokid)::text
			FROM ts_token_type(c.cfgparser) k WHERE EXISTS (
				SELECT 1 FROM pg_ts_config_map m WHERE m.mapcfg = c.oid AND m.maptokentype = k.tokid)), '')
		FROM pg_ts_config c JOIN pg_ts_parser p ON p.oid = c.cfgparser JOIN pg_namespace n ON n.oid = p.prsnamespace WHERE c.cfgnamespace = ` + here + ` AND ` + notExtension("pg_ts_config", "c.oid")
	aggregatesQuery = `SELECT p.oid, p.proname, pg_get_function_arguments(p.oid), pg_get_function_identity_arguments(p.oid), a.aggtransfn::regproc, format_type(a.aggtranstype, NULL), a.aggfinalfn::regproc, a.aggfinalextra,
		a.agginitval IS NOT NULL, coalesce(a.agginitval, ''), a.aggcombinefn::regproc, a.aggserialfn::regproc, a.aggdeserialfn::regproc, coalesce((SELECT CASE WHEN o.oprnamespace = ` + here + ` THEN o.oprname::text ELSE 'OPERATOR(' || quote_ident(n.nspname) || '.' || o.oprname::text || ')' END FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace WHERE o.oid = a.aggsortop), ''), a.aggkind, p.proparallel
		FROM pg_aggregate a JOIN pg_proc p ON p.oid = a.aggfnoid::oid WHERE p.pronamespace = ` + here + ` AND ` + notExtension(
		"pg_proc",
		"p.oid",
	)
	operatorsQuery = `SELECT o.oid, o.oprname, CASE WHEN o.oprleft = '0' THEN '' ELSE format_type(o.oprleft, NULL) END, CASE WHEN o.oprright = '0' THEN '' ELSE format_type(o.oprright, NULL) END, o.oprcode::regproc::text,
		` + operatorName(
		"o.oprcom",
	) + `, ` + operatorName(
		"o.oprnegate",
	) + `, o.oprrest::regproc::text, o.oprjoin::regproc::text, o.oprcanhash, o.oprcanmerge
		FROM pg_operator o WHERE o.oprnamespace = ` + here + ` AND o.oprcode::oid <> '0' AND ` + notExtension(
		"pg_operator",
		"o.oid",
	) + `
		UNION ALL SELECT c.oid, ''::name, format_type(c.castsource, NULL), format_type(c.casttarget, NULL), CASE WHEN c.castfunc = '0' THEN '' ELSE c.castfunc::regprocedure::text END, c.castcontext::text, c.castmethod::text, '0', '0', false, false
		FROM pg_cast c WHERE c.oid >= '16384' AND (EXISTS (SELECT 1 FROM pg_proc p WHERE p.oid = c.castfunc AND p.pronamespace = ` + here + `) OR EXISTS (SELECT 1 FROM pg_type t WHERE t.oid IN (c.castsource, c.casttarget) AND t.typnamespace = ` + here + `)) AND ` + notExtension(
		"pg_cast",
		"c.oid",
	)
	// The schemas on which something of this one stands, as the server keeps it or a body
	// of a function says.
	elsewhereQuery = `WITH beside AS (SELECT oid, nspname FROM pg_namespace WHERE oid <> ` + here + ` AND nspname::text NOT LIKE 'pg\_%' AND nspname::text NOT LIKE 'erbario\_scratch\_%' AND nspname <> 'information_schema'),
		things AS (SELECT 'pg_catalog.pg_class'::regclass::oid AS class, c.oid AS id,
			c.relnamespace AS place FROM pg_class c WHERE c.relnamespace IN (SELECT oid FROM beside)
			UNION ALL SELECT 'pg_catalog.pg_type'::regclass::oid, t.oid,
				t.typnamespace FROM pg_type t WHERE t.typnamespace IN (SELECT oid FROM beside)
			UNION ALL SELECT 'pg_catalog.pg_proc'::regclass::oid, p.oid,
				p.pronamespace FROM pg_proc p WHERE p.pronamespace IN (SELECT oid FROM beside)
			UNION ALL SELECT 'pg_catalog.pg_operator'::regclass::oid, o.oid,
				o.oprnamespace FROM pg_operator o WHERE o.oprnamespace IN (SELECT oid FROM beside)
			UNION ALL SELECT 'pg_catalog.pg_collation'::regclass::oid, l.oid,
				l.collnamespace FROM pg_collation l WHERE l.collnamespace IN (SELECT oid FROM beside)
			UNION ALL SELECT 'pg_catalog.pg_ts_config'::regclass::oid, s.oid,
				s.cfgnamespace FROM pg_ts_config s WHERE s.cfgnamespace IN (SELECT oid FROM beside)
			UNION ALL SELECT 'pg_catalog.pg_ts_dict'::regclass::oid, s.oid,
				s.dictnamespace FROM pg_ts_dict s WHERE s.dictnamespace IN (SELECT oid FROM beside))
		SELECT b.nspname FROM beside b WHERE EXISTS (
			SELECT 1 FROM things t JOIN pg_depend d ON d.refclassid = t.class AND d.refobjid = t.id
			WHERE t.place = b.oid AND d.deptype <> 'e' AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = t.class AND e.objid = t.id AND e.deptype = 'e') AND CASE d.classid
				WHEN 'pg_catalog.pg_class'::regclass::oid THEN EXISTS (
					SELECT 1 FROM pg_class c WHERE c.oid = d.objid AND c.relnamespace = ` + here + `)
				WHEN 'pg_catalog.pg_rewrite'::regclass::oid THEN EXISTS (SELECT 1 FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class WHERE r.oid = d.objid AND c.relnamespace = ` + here + `)
				WHEN 'pg_catalog.pg_attrdef'::regclass::oid THEN EXISTS (SELECT 1 FROM pg_attrdef f JOIN pg_class c ON c.oid = f.adrelid WHERE f.oid = d.objid AND c.relnamespace = ` + here + `)
				WHEN 'pg_catalog.pg_trigger'::regclass::oid THEN EXISTS (SELECT 1 FROM pg_trigger g JOIN pg_class c ON c.oid = g.tgrelid WHERE g.oid = d.objid AND NOT g.tgisinternal AND c.relnamespace = ` + here + `)
				WHEN 'pg_catalog.pg_policy'::regclass::oid THEN EXISTS (SELECT 1 FROM pg_policy y JOIN pg_class c ON c.oid = y.polrelid WHERE y.oid = d.objid AND c.relnamespace = ` + here + `)
				WHEN 'pg_catalog.pg_constraint'::regclass::oid THEN EXISTS (SELECT 1 FROM pg_constraint k WHERE k.oid = d.objid AND k.connamespace = ` + here + `)
				WHEN 'pg_catalog.pg_proc'::regclass::oid THEN EXISTS (
					SELECT 1 FROM pg_proc p WHERE p.oid = d.objid AND p.pronamespace = ` + here + `)
				WHEN 'pg_catalog.pg_type'::regclass::oid THEN EXISTS (
					SELECT 1 FROM pg_type y WHERE y.oid = d.objid AND y.typnamespace = ` + here + `)
				WHEN 'pg_catalog.pg_operator'::regclass::oid THEN EXISTS (
					SELECT 1 FROM pg_operator o WHERE o.oid = d.objid AND o.oprnamespace = ` + here + `)
				WHEN 'pg_catalog.pg_ts_config'::regclass::oid THEN EXISTS (
					SELECT 1 FROM pg_ts_config s WHERE s.oid = d.objid AND s.cfgnamespace = ` + here + `)
				ELSE false END)
		OR EXISTS (SELECT 1 FROM pg_proc p WHERE p.pronamespace = ` + here + ` AND strpos(p.prosrc, b.nspname::text ||
			'.') > '0'::integer) ORDER BY 1`
)

// operatorName is the SQL that spells the operator of a number; "" for none.
func operatorName(number string) string {
	return `coalesce((SELECT CASE WHEN x.oprnamespace = ` + here + ` THEN x.oprname::text ELSE 'OPERATOR(' || quote_ident(n.nspname) || '.' || x.oprname::text || ')' END FROM pg_operator x JOIN pg_namespace n ON n.oid = x.oprnamespace WHERE x.oid = ` + number + `), '')`
}

// publicationsQuery gives the publications that are about this schema: one belongs to the whole
// database.
const publicationsQuery = `SELECT b.pubname, format('CREATE PUBLICATION %I%s WITH (publish = %L, publish_via_partition_root = %s)', b.pubname,
			CASE WHEN b.puballtables THEN ' FOR ALL TABLES' ELSE coalesce(' FOR ' || (SELECT string_agg(m, ', ' ORDER BY m) FROM (
				SELECT 'TABLE ONLY ' || l.prrelid::regclass::text || coalesce(' (' || (SELECT string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = l.prrelid AND a.attnum = ANY (l.prattrs)) || ')', '') || coalesce(' WHERE (' || pg_get_expr(l.prqual, l.prrelid) || ')', '') AS m FROM pg_publication_rel l WHERE l.prpubid = b.oid
				UNION ALL SELECT 'TABLES IN SCHEMA ' || w.pnnspid::regnamespace::text FROM pg_publication_namespace w WHERE w.pnpubid = b.oid) parts), '') END,
			concat_ws(', ', CASE WHEN b.pubinsert THEN 'insert' END, CASE WHEN b.pubupdate THEN 'update' END, CASE WHEN b.pubdelete THEN 'delete' END, CASE WHEN b.pubtruncate THEN 'truncate' END), CASE WHEN b.pubviaroot THEN 'true' ELSE 'false' END) FROM pg_publication b WHERE ` + ofThisSchema + ` ORDER BY b.pubname`

const ofThisSchema = `(b.puballtables OR NOT EXISTS (SELECT 1 FROM pg_publication_rel l WHERE l.prpubid = b.oid UNION ALL SELECT 1 FROM pg_publication_namespace w WHERE w.pnpubid = b.oid)
			OR EXISTS (SELECT 1 FROM pg_publication_rel l JOIN pg_class c ON c.oid = l.prrelid WHERE l.prpubid = b.oid AND c.relnamespace = ` + here + `)
			OR EXISTS (SELECT 1 FROM pg_publication_namespace w WHERE w.pnpubid = b.oid AND w.pnnspid = ` + here + `))`

// eventTriggersQuery gives the event triggers whose functions are of this schema: one belongs to the whole
// database. They come last, since they may refuse what else is created.
var eventTriggersQuery = `SELECT g.evtname, format('CREATE EVENT TRIGGER %I ON %s%s EXECUTE FUNCTION %s', g.evtname, g.evtevent, coalesce(' WHEN TAG IN (' || (SELECT string_agg(quote_literal(w), ', ' ORDER BY n) FROM unnest(g.evttags) WITH ORDINALITY u (w, n)) || ')', ''), g.evtfoid::regprocedure),
			CASE g.evtenabled WHEN 'O' THEN '' ELSE format('ALTER EVENT TRIGGER %I %s', g.evtname, CASE g.evtenabled WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END) END, (SELECT p.prosrc FROM pg_proc p WHERE p.oid = g.evtfoid) FROM pg_event_trigger g WHERE ` + eventOfThisSchema + ` ORDER BY g.evtname`

var eventOfThisSchema = `EXISTS (SELECT 1 FROM pg_proc p WHERE p.oid = g.evtfoid AND p.pronamespace = ` + here + `) AND ` + notExtension("pg_event_trigger", "g.oid")

// dated is something with the number that tells when it was created.
type dated struct {
	oid   int
	other *sqlschema.Other
}

// options are the options of a CREATE statement, but for those without a value.
func options(pairs ...string) string {
	var out []string
	for i := 0; i+1 < len(pairs); i += 2 {
		if v := pairs[i+1]; v != "" && v != "-" && v != "0" {
			out = append(out, pairs[i]+" = "+v)
		}
	}
	return " (" + strings.Join(out, ", ") + ")"
}

// rare gives the statements that create what few databases have.
func (r *reading) rare(collations, dictionaries, searches, aggregates, operators [][]string) []dated {
	var out []dated
	add := func(oid, kind, name string, list ...string) {
		n, _ := strconv.Atoi(oid)
		out = append(out, dated{n, &sqlschema.Other{Kind: kind, Name: name, Make: list}})
	}
	said := func(text string) string {
		if text == "" {
			return ""
		}
		return literal(text)
	}
	for _, v := range collations {
		o := options("PROVIDER", map[string]string{"i": "icu", "b": "builtin", "c": "libc"}[v[2]], "LOCALE", said(v[3]),
			"DETERMINISTIC", map[string]string{"false": "false"}[v[5]], "RULES", said(v[6]))
		if v[2] == "c" {
			o = options("LC_COLLATE", said(v[3]), "LC_CTYPE", said(v[4]))
		}
		add(v[0], "collation", r.name(v[1]), "CREATE COLLATION "+r.sql(v[1])+o)
	}
	for _, v := range dictionaries {
		o := "(TEMPLATE = " + v[2]
		if v[3] != "" {
			o += ", " + v[3]
		}
		add(v[0], "text search dictionary", r.name(v[1]), "CREATE TEXT SEARCH DICTIONARY "+r.sql(v[1])+" "+o+")")
	}
	for _, v := range searches {
		list := []string{"CREATE TEXT SEARCH CONFIGURATION " + r.sql(v[1]) + " (PARSER = " + v[2] + ")"}
		for _, m := range jsonPairs(v[3]) {
			list = append(list, "ALTER TEXT SEARCH CONFIGURATION "+r.sql(v[1])+" ADD MAPPING FOR "+m[0]+" WITH "+m[1])
		}
		add(v[0], "text search configuration", r.name(v[1]), list...)
	}
	for _, v := range aggregates {
		args := v[2]
		if args == "" {
			args = "*"
		}
		o := []string{
			"SFUNC",
			v[4],
			"STYPE",
			v[5],
			"FINALFUNC",
			v[6],
			"COMBINEFUNC",
			v[10],
			"SERIALFUNC",
			v[11],
			"DESERIALFUNC",
			v[12],
			"SORTOP",
			v[13],
			"PARALLEL",
			map[string]string{"s": "safe", "r": "restricted"}[v[15]],
		}
		if v[8] == "t" {
			o = append(o, "INITCOND", literal(v[9]))
		}
		text := options(o...)
		if v[7] == "t" {
			text = strings.TrimSuffix(text, ")") + ", FINALFUNC_EXTRA)"
		}
		if v[14] == "h" {
			text = strings.TrimSuffix(text, ")") + ", HYPOTHETICAL)"
		}
		add(v[0], "aggregate", r.name(v[1])+"("+v[3]+")", "CREATE AGGREGATE "+r.sql(v[1])+"("+args+")"+text)
	}
	for _, v := range operators {
		if v[1] == "" { // a cast
			how := map[string]string{"b": "WITHOUT FUNCTION", "i": "WITH INOUT", "f": "WITH FUNCTION " + v[4]}[v[6]]
			add(v[0], "cast", v[2]+" to "+v[3],
				"CREATE CAST ("+v[2]+" AS "+v[3]+") "+how+map[string]string{"a": " AS ASSIGNMENT",
					"i": " AS IMPLICIT"}[v[5]])
			continue
		}
		text := options("PROCEDURE", v[4], "LEFTARG", v[2], "RIGHTARG", v[3], "COMMUTATOR", v[5], "NEGATOR", v[6],
			"RESTRICT", v[7], "JOIN", v[8])
		for i, flag := range []string{"HASHES", "MERGES"} {
			if v[9+i] == "t" {
				text = strings.TrimSuffix(text, ")") + ", " + flag + ")"
			}
		}
		add(v[0], "operator", v[1]+" of "+v[2]+" and "+v[3], "CREATE OPERATOR "+v[1]+text)
	}
	return out
}

// ofDatabase adds what belongs to the whole database: publications and event triggers.
func (r *reading) ofDatabase(publications, events [][]string) {
	for _, v := range publications {
		r.s.Others = append(r.s.Others,
			&sqlschema.Other{Kind: "publication", Name: v[0], Late: true, Make: []string{v[1]}})
	}
	for _, v := range events {
		o := &sqlschema.Other{Kind: "event trigger", Name: v[0], Late: true, Make: []string{v[1]}, Runs: v[3]}
		if v[2] != "" {
			o.Make = append(o.Make, v[2])
		}
		r.s.Others = append(r.s.Others, o)
	}
}

// elsewhere reads what schemas hold, and those that they need in turn. whole is with comments, rights and the
// like, on which nothing stands.
func (d *database) elsewhere(ctx context.Context, todo []string, whole bool) ([]*sqlschema.Other, error) {
	var out []*sqlschema.Other
	var seen []string
	for len(todo) > 0 {
		name := todo[0]
		todo = todo[1:]
		if slices.Contains(seen, name) || name == d.schema || !whole && slices.Contains(d.schemas, name) {
			continue
		}
		seen = append(seen, name)
		r, err := d.reading(ctx, place{path: quote(name)})
		if err != nil {
			return nil, fmt.Errorf("the schema %s, which %s needs: %w", name, d.schema, err)
		}
		r.order()
		r.s.Tables = slices.DeleteFunc(r.s.Tables, func(t *sqlschema.Table) bool { return schema.Own(t.Name) })
		todo = append(todo, r.needs...)
		out = append(out, otherSchema(name))
		all, across := Engine{}.CreateAll(r.s), acrossSchemas(r.s)
		if n := len(all); whole {
			if all, err = d.verbatim(ctx, place{path: quote(name)}, r.s, all); err != nil {
				return nil, err
			}
			all, across = all[:n], append(across, all[n:]...)
		}
		out = append(out, others(name, all, false)...)
		out = append(out, others(name, across, true)...)
	}
	return out, nil
}

// others are creations in another schema. What belongs to something has its kind and name, since it is
// created with it.
func others(in string, list []engine.Creation, late bool) []*sqlschema.Other {
	var out []*sqlschema.Other
	for _, c := range list {
		apart := []string{"extension", "publication", "event trigger"}
		if c.Kind == "" || slices.Contains(apart, cmp.Or(c.OfKind, c.Kind)) {
			continue
		}
		o := &sqlschema.Other{Kind: c.Kind, Name: in + "." + c.Name, Late: late,
			Make: []string{within(quote(in), c.SQL)}}
		switch {
		case c.OfKind == schemaKind:
			o.Kind, o.Name = schemaKind, in
		case c.Kind == engine.Part || c.Kind == moreOfPart:
			o.Kind = "table"
		case c.OfKind == engine.Part:
			o.Kind, o.Name = "table", in+"."+c.Of
		case c.OfKind != "":
			o.Kind, o.Name = c.OfKind, in+"."+c.Of
		}
		out = append(out, o)
	}
	return out
}

// acrossSchemas are the references of tables to those of another schema.
func acrossSchemas(s *sqlschema.Schema) []engine.Creation {
	var out []engine.Creation
	for _, t := range s.Tables {
		for _, k := range t.ForeignKeys {
			if in, _ := schema.SplitName(k.Table); in != "" && !t.Options.Foreign {
				out = append(out, engine.Creation{Kind: "reference", Name: k.Name, Of: t.Name,
					SQL: Engine{}.AddReference(t, k)[0]})
			}
		}
	}
	return out
}

// within runs a statement where names are looked up in another schema first, and then as before:
// for the session, since each part of it can be a transaction of its own.
func within(path, sql string) string {
	return "SELECT pg_catalog.set_config('erbario.path', pg_catalog.current_setting('search_path'), false), " +
		"pg_catalog.set_config('search_path', " + literal(path+", ") + " || pg_catalog.current_setting('search_path'), false); " + strings.TrimRight(sql, "; \n") +
		"; SELECT pg_catalog.set_config('search_path', pg_catalog.current_setting('erbario.path'), false)"
}

// OtherSchemas reads all other schemas of the database.
func (d *database) OtherSchemas(ctx context.Context) ([]engine.OtherSchema, error) {
	rows, err := d.Select(ctx, `SELECT n.nspname, (SELECT count(*) FROM pg_class c WHERE c.relnamespace = n.oid AND c.relkind IN ('r', 'p') AND c.relname::text NOT LIKE 'erbario\_%'),
			EXISTS (SELECT 1 FROM pg_class c WHERE c.relnamespace = n.oid AND c.relname = 'erbario_history')
		FROM pg_namespace n WHERE n.oid <> `+here+` AND n.nspname::text NOT LIKE 'pg\_%' AND n.nspname::text NOT LIKE 'erbario\_%' AND n.nspname <> 'information_schema'
		AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = 'pg_catalog.pg_namespace'::regclass::oid AND e.objid = n.oid AND e.deptype = 'e')
		AND (n.nspname <> 'public' OR EXISTS (SELECT 1 FROM pg_class c WHERE c.relnamespace = n.oid)) ORDER BY 1`)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	all, err := d.elsewhere(ctx, firsts(rows), true)
	if err != nil {
		return nil, err
	}
	var out []engine.OtherSchema
	for _, r := range rows {
		tables, _ := strconv.Atoi(r[1])
		o := engine.OtherSchema{Name: r[0], Tables: tables, Taken: r[2] == "t"}
		for _, x := range all {
			if x.Name == r[0] && x.Kind == "schema" || strings.HasPrefix(x.Name, r[0]+".") {
				o.Holds = append(o.Holds, x)
			}
		}
		out = append(out, o)
	}
	of := &reading{s: &sqlschema.Schema{}} // what belongs to the database, and is about those schemas alone
	both, err := d.catalogues(ctx, place{}, []string{
		strings.Replace(publicationsQuery, "WHERE "+ofThisSchema, "WHERE NOT "+ofThisSchema, 1),
		strings.Replace(eventTriggersQuery, "WHERE "+eventOfThisSchema,
			"WHERE "+notExtension("pg_event_trigger", "g.oid")+" AND NOT ("+eventOfThisSchema+")", 1),
	})
	if err != nil {
		return nil, err
	}
	of.ofDatabase(both[0], both[1])
	last := &out[len(out)-1]
	last.Holds = append(last.Holds, of.s.Others...)
	return out, nil
}

// firsts is the first column of rows.
func firsts(rows [][]string) []string {
	var out []string
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out
}
