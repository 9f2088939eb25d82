package postgres

// This file pairs what goes with what comes back, and drops what would be in the way.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// attached asks for what the server would take along in silence with columns that go,
// and no undo brings back: rights to them alone, and statistics over them.
func attached(t *sqlschema.Table, forward []op) []engine.Requirement {
	var gone []string
	for _, c := range t.Columns {
		if slices.ContainsFunc(forward, func(o op) bool {
			return o.what == "column "+c.Name && slices.ContainsFunc(o.sql,
				func(s string) bool { return strings.HasSuffix(s, "DROP COLUMN "+quote(c.Name)) })
		}) {
			gone = append(gone, literal(c.Name))
		}
	}
	if len(gone) == 0 {
		return nil
	}
	where := fmt.Sprintf("a.attrelid = to_regclass(%s)::oid AND a.attname IN (%s)", literal(quoteTable(t.Name)),
		strings.Join(gone, ", "))
	return []engine.Requirement{{
		Attached: true,
		Sentence: fmt.Sprintf(
			"{n} rights, statistics, policies or publications depend on dropped columns of %s, and no undo restores them: drop them first",
			t.Name,
		),
		Query: "SELECT a.attname AS on_column, 'rights' AS what, a.attacl::text AS is FROM pg_attribute AS a WHERE a.attacl IS NOT NULL AND " + where +
			"\nUNION ALL SELECT a.attname, 'statistics', s.stxname FROM pg_statistic_ext AS s JOIN pg_attribute AS a ON a.attrelid = s.stxrelid AND a.attnum = ANY (s.stxkeys) WHERE " + where +
			"\nUNION ALL SELECT a.attname, 'policy', p.polname FROM pg_policy AS p JOIN pg_depend AS d ON d.classid = 'pg_catalog.pg_policy'::regclass::oid AND d.objid = p.oid JOIN pg_attribute AS a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid WHERE d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND " + where +
			"\nUNION ALL SELECT a.attname, 'publication', p.pubname FROM pg_publication_rel AS r JOIN pg_publication AS p ON p.oid = r.prpubid JOIN pg_depend AS d ON d.classid = 'pg_catalog.pg_publication_rel'::regclass::oid AND d.objid = r.oid JOIN pg_attribute AS a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid WHERE d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND " + where,
	}}
}

// paired gives for each change its own way back, where the ways back are in the
// opposite order; false: they do not. Types, defaults and names are in one order in
// either direction, and in nobody's way.
func paired(forward, back []op) ([]op, bool) {
	renamed := func(o op) bool { return o.back != nil }
	others := func(list []op) int { return len(slices.DeleteFunc(slices.Clone(list), renamed)) }
	if others(forward) != others(back) {
		return nil, false
	}
	free := func(o op) bool {
		return o.what == "types" || o.what == "logged" || o.what == "options" ||
			strings.HasPrefix(o.what, "default ") || strings.HasPrefix(o.what, "always ")
	}
	rest := slices.DeleteFunc(slices.Clone(back), func(o op) bool { return free(o) || renamed(o) })
	out := make([]op, len(forward))
	for i, o := range forward {
		if renamed(o) {
			out[i] = op{what: o.what, sql: o.back}
			continue
		}
		if free(o) {
			at := slices.IndexFunc(back, func(x op) bool { return x.what == o.what })
			if at < 0 {
				return nil, false
			}
			out[i] = back[at]
			continue
		}
		if len(rest) == 0 || rest[len(rest)-1].what != o.what {
			return nil, false
		}
		out[i], rest = rest[len(rest)-1], rest[:len(rest)-1]
	}
	return out, true
}

// comesAndGoes tells whether the changes are best one step: something goes and
// something comes in its place, so that no single one says what is done.
func comesAndGoes(ops []op) bool {
	drops := slices.ContainsFunc(ops, func(o op) bool { return o.drops })
	comes := slices.ContainsFunc(ops, func(o op) bool { return !o.drops })
	return drops && comes
}

// work is what the changes do with rows, taken together.
func work(ops []op) engine.Work {
	out := engine.Keeps
	for _, o := range ops {
		out = max(out, o.work)
	}
	return out
}

// letGo takes away what blocks changes, or stands no more.
func (a *alteration) letGo() {
	table := a.from.Name
	for _, g := range a.from.Triggers {
		if !a.staysTrigger(g, a.to) {
			_, drop := Engine{}.Trigger(a.from, g)
			a.do("trigger "+g.Name, engine.TriggerTitle("stop", a.from, g), engine.NoWork, drop...)
		}
	}
	a.letIndexesGo()
	if a.from.PrimaryKey != nil && !a.staysKey() {
		a.drop("key", "the primary key of "+table, engine.NoWork,
			alterTable(table)+"DROP CONSTRAINT "+quote(a.from.PrimaryKey.Name))
	}
	a.letChecksGo()
	a.renameKey()
	a.letColumnsGo()
}

// renameKey gives a primary key that stays its new name.
func (a *alteration) renameKey() {
	if x, y := a.from.PrimaryKey, a.to.PrimaryKey; x != nil && y != nil && a.staysKey() && x.Name != y.Name {
		a.rename("primary key", schema.Move{From: x.Name, To: y.Name}, func(from, to string) string {
			return renameConstraint(a.from.Name, from, to)
		})
	}
}

// letIndexesGo drops indexes, and gives those that stay their new names.
func (a *alteration) letIndexesGo() {
	table := a.from.Name
	for _, x := range a.from.Indexes {
		if !a.stays(x, a.to) {
			a.drop("index "+x.Name, indexTitle(a.from, x), engine.NoWork, dropIndex(table, x))
			a.last().index = x
		}
	}
	var names []schema.Move
	for _, x := range a.from.Indexes { // whose names may have been those of what went
		if !a.stays(x, a.to) {
			continue
		}
		same := func(o *sqlschema.Index) bool { return sqlschema.SameIndex(o, x) && o.Constraint == x.Constraint }
		if slices.ContainsFunc(a.to.Indexes, func(o *sqlschema.Index) bool { return same(o) && o.Name == x.Name }) {
			continue // another may be the same but for its name
		}
		o := a.to.Indexes[slices.IndexFunc(a.to.Indexes, same)]
		if o.Name != x.Name {
			names = append(names, schema.Move{From: x.Name, To: o.Name})
		}
	}
	for _, m := range schema.InOrder(names, between) {
		a.rename("index", m,
			func(from, to string) string {
				return "ALTER INDEX " + quoteBeside(a.to.Name, from) + " RENAME TO " + quote(to)
			})
	}
}

// letChecksGo drops checks, and gives those that stay their new names.
func (a *alteration) letChecksGo() {
	table := a.from.Name
	var names []schema.Move
	goes := func(k *sqlschema.Check) bool { // with its column
		return !a.inUse && k.Column != "" && a.to.Column(k.Column) == nil &&
			!mentionsOthers(k.SQL.Text, a.from, k.Column)
	}
	for _, k := range a.from.Checks {
		if !goes(k) && !a.staysCheck(k, a.to) {
			a.do("check "+k.Name, "drop check "+k.Name, engine.Keeps,
				alterTable(table)+"DROP CONSTRAINT "+quote(k.Name))
			a.last().check = k
		}
	}
	for _, k := range a.from.Checks {
		if goes(k) || !a.staysCheck(k, a.to) {
			continue
		}
		same := func(o *sqlschema.Check) bool { return o.SQL.Same(k.SQL) && sameColumn(o, k) }
		if slices.ContainsFunc(a.to.Checks, func(o *sqlschema.Check) bool { return same(o) && o.Name == k.Name }) {
			continue
		}
		o := a.to.Checks[slices.IndexFunc(a.to.Checks, same)]
		if o.Name != k.Name && o.Name != "" {
			names = append(names, schema.Move{From: k.Name, To: o.Name})
		}
	}
	for _, m := range schema.InOrder(names, between) {
		a.rename("check", m, func(from, to string) string {
			return renameConstraint(table, from, to)
		})
	}
}

// letColumnsGo drops what is worked out from others, and takes from columns what they are not
// to be any more.
func (a *alteration) letColumnsGo() {
	table := a.from.Name
	columns := slices.Clone(a.from.Columns) // what is worked out goes before what that is worked out from
	slices.SortStableFunc(columns, func(c, o *sqlschema.Column) int {
		switch {
		case (c.Generated != nil) == (o.Generated != nil):
			return 0
		case c.Generated != nil:
			return -1
		}
		return 1
	})
	for _, c := range columns {
		o := a.to.Column(c.Name)
		switch {
		case o == nil && c.Generated == nil:
			continue
		case o == nil || a.remade(c, o): // before what it is worked out from goes
			a.drop("column "+c.Name, table+"."+c.Name, engine.Keeps, alterTable(table)+"DROP COLUMN "+quote(c.Name))
			continue
		}
		if engine.Freed(c, o) {
			a.do("generated "+c.Name, fmt.Sprintf("%s.%s is no longer generated", table, c.Name), engine.Keeps,
				alterTable(table)+"ALTER COLUMN "+quote(c.Name)+" DROP EXPRESSION")
			a.last().adds = []string{c.Name}
		}
		if c.Identity && !o.Identity {
			a.do("identity "+c.Name, fmt.Sprintf("%s.%s is set by the application", table, c.Name), engine.Keeps,
				alterTable(table)+"ALTER COLUMN "+quote(c.Name)+" DROP IDENTITY")
		}
		if c.Serial == "" && o.Serial != "" {
			create, own := serials(a.to.Name, o)
			a.do("sequence "+c.Name, fmt.Sprintf("a sequence for %s.%s", table, c.Name), engine.Keeps,
				append(slices.Concat(create, own), atMost(o.Serial, table, c.Name))...)
		}
		if c.NotNull && (!o.NotNull || a.empties(c.Name)) {
			a.do("null "+c.Name, fmt.Sprintf("%s.%s is optional", table, c.Name), engine.Keeps,
				alterTable(table)+"ALTER COLUMN "+quote(c.Name)+" DROP NOT NULL")
			a.last().column = c
		}
	}
}

// keepAs gives a column its comment, and has its values kept as they are to be. bare: it is new, and has a name
// and a type alone.
func (a *alteration) keepAs(c, old *sqlschema.Column, bare bool) {
	if old != nil && old.Comment != c.Comment || bare && c.Comment != "" {
		a.do("comment "+c.Name, fmt.Sprintf("comment on %s.%s", a.to.Name, c.Name), engine.Keeps,
			commentOn(a.to.Name, c.Name, c.Comment))
	}
	switch {
	case bare:
		old = nil
	case old == nil, a.touched[c.Name]: // with the column, or its type
		return
	}
	if sql := keepsAs(a.to.Name, old, c); len(sql) > 0 {
		a.do("storage "+c.Name, fmt.Sprintf("how %s.%s is kept", a.to.Name, c.Name), engine.Keeps, sql...)
	}
}

// empties tells whether a column is empty for a while before its values come.
func (a *alteration) empties(column string) bool {
	s, ok := a.sources[column]
	return ok && !a.replaced[column] && (s.Kept != "" || s.NullsIn != "")
}

// mentionsOthers tells whether SQL names columns of the table beside one.
func mentionsOthers(sql string, t *sqlschema.Table, column string) bool {
	for _, tok := range tokens(sql) {
		if tok.Named() && tok.Name() != column && t.Column(tok.Name()) != nil {
			return true
		}
	}
	return false
}

// atMost has a sequence go on behind the largest number of a column.
func atMost(sequence, table, column string) string {
	return fmt.Sprintf("SELECT pg_catalog.setval(%s, (SELECT max(%s) FROM %s))", literal(quoteTable(sequence)),
		quote(column),
		quoteTable(table))
}

// hold makes everything stand that is declared.
func (a *alteration) hold() {
	table := alterTable(a.to.Name)
	for i := len(a.to.Columns) - 1; i >= 0; i-- {
		c := a.to.Columns[i]
		old := a.from.Column(c.Name)
		x := quote(c.Name)
		if c.Generated != nil && (old == nil || a.remade(old, c)) {
			a.addColumn(c, c, engine.Rewrites)
			continue
		}
		_, sourced := a.sources[c.Name]
		bare := a.replaced[c.Name] || old == nil && sourced
		if bare && c.Default != nil {
			a.do("default "+c.Name, "", engine.Keeps,
				table+"ALTER COLUMN "+x+" SET DEFAULT "+defaultSQL(c.Default.Make()))
		}
		if c.NotNull && (bare || old != nil && (!old.NotNull || a.empties(c.Name))) {
			a.do("null "+c.Name, fmt.Sprintf("%s.%s is required", a.to.Name, c.Name), engine.Reads,
				table+"ALTER COLUMN "+x+" SET NOT NULL")
			a.last().column, a.last().comes = c, true
		}
		if old != nil && old.Serial != "" && c.Serial == "" {
			a.do("sequence "+c.Name, fmt.Sprintf("%s.%s has no sequence", a.to.Name, c.Name), engine.Keeps,
				"DROP SEQUENCE "+quoteTable(old.Serial))
		}
		if old != nil && c.Identity && old.Identity && c.IdentityAlways != old.IdentityAlways {
			a.do("always "+c.Name, fmt.Sprintf("%s.%s is numbered %s", a.to.Name, c.Name,
				strings.ToLower(identityKind(c))),
				engine.Keeps, table+"ALTER COLUMN "+x+" SET GENERATED "+identityKind(c))
		}
		if c.Identity && (bare || old != nil && !old.Identity) {
			a.do(
				"identity "+c.Name,
				fmt.Sprintf("%s.%s is numbered by the database", a.to.Name, c.Name),
				engine.Keeps,
				table+"ALTER COLUMN "+x+" ADD GENERATED "+identityKind(c)+" AS IDENTITY",
				fmt.Sprintf(
					"SELECT pg_catalog.setval(pg_catalog.pg_get_serial_sequence(%s, %s), (SELECT max(%s) FROM %s))",
					literal(quoteTable(a.to.Name)), literal(c.Name), x, quoteTable(a.to.Name)),
			)
		}
		a.keepAs(c, old, bare)
	}
	a.options()
	if a.from.Comment != a.to.Comment {
		a.do("comment", "comment on "+a.to.Name, engine.Keeps, commentOn(a.to.Name, "", a.to.Comment))
	}
	for i := len(a.to.Checks) - 1; i >= 0; i-- {
		k := a.to.Checks[i]
		c := a.to.Column(k.Column)
		_, sourced := a.sources[k.Column]
		if !a.inUse && c != nil && a.from.Column(k.Column) == nil && !sourced &&
			!mentionsOthers(k.SQL.Text, a.to, k.Column) {
			continue // it came with its column
		}
		if !a.staysCheck(k, a.from) {
			a.do("check "+k.Name, "check "+k.Name, engine.Reads, table+"ADD "+named(k.Name)+checkDefinition(k))
			a.last().check, a.last().comes = k, true
		}
	}
	if pk := a.to.PrimaryKey; pk != nil && !a.staysKey() {
		a.do("key", "primary key of "+a.to.Name, engine.Reads,
			table+"ADD "+named(pk.Name)+"PRIMARY KEY ("+partList(pk.Columns)+")"+pk.Options)
	}
	for i := len(a.to.Indexes) - 1; i >= 0; i-- {
		if x := a.to.Indexes[i]; !a.stays(x, a.from) {
			a.do("index "+x.Name, indexTitle(a.to, x), engine.Reads, addIndex(a.to.Name, x))
			a.last().index, a.last().comes = x, true
		}
	}
	for i := len(a.to.Triggers) - 1; i >= 0; i-- {
		if g := a.to.Triggers[i]; !a.staysTrigger(g, a.from) {
			create, _ := Engine{}.Trigger(a.to, g)
			a.do("trigger "+g.Name, engine.TriggerTitle("hold", a.to, g), engine.NoWork, create...)
		}
	}
}

// options changes the options of the table.
func (a *alteration) options() {
	table := alterTable(a.to.Name)
	if from, to := a.from.Options.Unlogged, a.to.Options.Unlogged; from != to {
		word := map[bool]string{true: "UNLOGGED", false: "LOGGED"}[to]
		a.do("logged", a.to.Name+" is "+strings.ToLower(word), engine.Rewrites, table+"SET "+word)
	}
	from, to := parameters(a.from.Options.Behind), parameters(a.to.Options.Behind)
	var set, reset []string
	for _, p := range to {
		if !slices.Contains(from, p) {
			set = append(set, p)
		}
	}
	for _, p := range from {
		name, _, _ := strings.Cut(p, "=")
		if !slices.ContainsFunc(to, func(o string) bool { return strings.HasPrefix(o, name+"=") }) {
			reset = append(reset, name)
		}
	}
	var sql []string
	if len(set) > 0 {
		sql = append(sql, table+"SET ("+strings.Join(set, ", ")+")")
	}
	if len(reset) > 0 {
		sql = append(sql, table+"RESET ("+strings.Join(reset, ", ")+")")
	}
	if len(sql) > 0 {
		a.do("options", "options of "+a.to.Name, engine.Keeps, sql...)
	}
}

// parameters are the storage parameters among what is behind the columns of a table.
func parameters(behind string) []string {
	_, list, ok := strings.Cut(behind, " WITH (")
	if !ok {
		return nil
	}
	var out []string
	for _, p := range strings.Split(strings.TrimSuffix(list, ")"), ",") {
		out = append(out, strings.ReplaceAll(strings.TrimSpace(p), " ", ""))
	}
	return out
}
