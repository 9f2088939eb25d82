package postgres

// This file finds the functions whose bodies do not work, which are created unchecked.

import (
	"context"
	"strings"
)

// InvalidBodies asks the languages of functions whether their bodies work.
func (d *database) InvalidBodies(ctx context.Context) ([]string, error) {
	rows, err := d.Select(ctx, "SELECT count(*) FROM pg_proc p WHERE p.pronamespace IN "+d.ours()+" AND p.prokind IN ('f', 'p')")
	if err != nil || rows[0][0] == "0" {
		return nil, err
	}
	if err := d.Exec(ctx, strings.Replace(checkBodies, "= "+here, "IN "+d.ours(), 1)); err != nil {
		return nil, err
	}
	rows, err = d.Select(ctx, "SELECT unnest(string_to_array(current_setting('erbario.broken'), E'\\n'))")
	return firsts(rows), err
}

// checkBodies notes the functions whose bodies do not work, and why, a line for each.
const checkBodies = `DO $erbario$
DECLARE
	r record;
	found text[] := '{}';
BEGIN
	PERFORM set_config('check_function_bodies', 'on', true);
	FOR r IN SELECT p.oid AS id, CASE p.prokind WHEN 'p' THEN 'procedure' ELSE 'function' END AS kind, p.proname, l.lanvalidator::regproc AS checks
		FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_language l ON l.oid = p.prolang
		WHERE p.pronamespace = ` + here + ` AND p.prokind IN ('f', 'p') AND l.lanvalidator <> 0 AND p.proname::text NOT LIKE 'erbario\_%'
			AND ` + notExtensionProc + ` ORDER BY 1
	LOOP
		BEGIN
			EXECUTE format('SELECT %s(%s)', r.checks, r.id);
		EXCEPTION WHEN OTHERS THEN
			found := found || (r.kind || ' ' || r.proname || ' (' || replace(SQLERRM, E'\n', ' ') || ')');
		END;
	END LOOP;
	PERFORM set_config('erbario.broken', array_to_string(found, E'\n'), false);
END $erbario$`
