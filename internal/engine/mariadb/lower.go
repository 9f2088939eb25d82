package mariadb

// This file says what MariaDB keeps for a declaration. The server holds values to their
// types by itself, under the modes of our sessions; what it does not know of is held by
// checks, by triggers, and by generated columns that SELECT * leaves out: MariaDB has
// neither indexes of some rows alone nor indexes on expressions.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// longestVarchar is how many characters of four bytes a VARCHAR takes at the most,
// longestIndexed how many an index holds whole, where it holds nothing else, and
// indexedBeginning how many of longer values it holds.
const (
	longestVarchar   = 16383
	longestIndexed   = 768
	indexedBeginning = 191
)

// long tells whether an index does not hold the values of a column whole. The server
// would index their beginnings, and make a uniqueness of another kind, without a word.
func long(t *sqlschema.Table, c *sqlschema.Column) bool {
	typ := c.Type
	if typ.As != "" {
		typ = typeOf(typ.As)
	}
	of := *c
	of.Collation = cmp.Or(c.Collation, collationOf(t.Options.Behind))
	switch typ.Kind {
	case schema.Text:
		return typ.Length == 0 || typ.Length*perCharacter(&of) > indexBytes
	case schema.Bytes:
		return typ.Length == 0 || typ.Length > indexBytes
	case schema.JSON:
		return true
	}
	return false
}

const (
	nowSQL   = "utc_timestamp(6)"
	todaySQL = "utc_date()"
	newUUID  = "uuid()"
)

// hiddenPrefix begins the names of the generated columns that stand for what an index
// cannot say.
const hiddenPrefix = schema.OwnPrefix + "for_"

// behind is what stands behind the columns of every table that is made. Where the server
// has another binary collation, that is put in its place (see canonicalize.go).
var behind = " ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=" + server{}.binary()

// Lower gives what the database is to hold for a declared schema.
func (Engine) Lower(declared *schema.Schema) (*sqlschema.Schema, []engine.Notice) {
	return lowering.Schema(declared)
}

var lowering = &ddl.Lowering{
	Quote: quote, Text: literal, SQL: sqlOf, Value: valueSQL, Now: nowOf,
	Stamp: stampTrigger, Immutable: immutableTrigger, Between: "%[1]s between %[2]s and %[3]s",
	OneOf: func(x string, values []string) string {
		if len(values) == 1 { // as the server itself says it
			return x + " = " + values[0]
		}
		return x + " in (" + strings.Join(values, ",") + ")"
	},
	Nonblank: func(c *sqlschema.Column) string { return quote(c.Name) + " regexp '[^[:space:]]'" },
	Lower:    lowerTable,
	Children: func(_ *sqlschema.Schema, d *schema.Schema, t *sqlschema.Table) (list []*sqlschema.Trigger,
		notices []engine.Notice) {
		list = childrenTriggers(d, t, func(text string) {
			notices = append(notices, engine.Notice{Kind: "children of itself", Table: t.Name, Text: text})
		})
		return list, notices
	},
	Guards:  func(t *sqlschema.Table) ([]*sqlschema.Trigger, []engine.Notice) { return guardTriggers(t), nil },
	Reached: guardChildren,
	LiveView: func(name string, t *sqlschema.Table) sqlschema.SQL {
		return sqlschema.SQL{Text: liveView(name, t), Canon: viewKey}
	},
}

func lowerTable(w *ddl.Lowering, t *sqlschema.Table) []engine.Notice {
	var notices []engine.Notice
	notice := func(column, format string, args ...any) {
		notices = append(notices,
			engine.Notice{Kind: format, Table: t.Name, Column: column, Text: fmt.Sprintf(format, args...)})
	}
	mistake := func(column, format string, args ...any) {
		notice(column, format, args...)
		notices[len(notices)-1].Mistake = true
	}
	t.Options.Behind, t.Ordered = tableOptions(t.Declared), true
	if t.PrimaryKey != nil {
		t.PrimaryKey.Name = "PRIMARY"
		lowerParts(t.PrimaryKey.Columns, "the primary key of "+t.Name, notice)
	}
	if t.PrimaryKey != nil && t.PrimaryKey.Conflict != "" || slices.ContainsFunc(t.Indexes,
		func(x *sqlschema.Index) bool { return x.Conflict != "" }) {
		mistake("", "on conflict is SQLite's: write on sqlite: before it, or have statements say it")
	}
	var checks []*sqlschema.Check
	own := collationOf(t.Options.Behind)
	for _, c := range t.Columns {
		lowerColumn(t, c, notice, mistake)
		if c.Storage != "" || c.Statistics != nil {
			notice(c.Name, "MariaDB has no storage and no statistics of single columns")
			c.Storage, c.Statistics = "", nil
		}
		w.Column(t, c)
		check := func(purpose schema.Purpose, expr string) {
			checks = append(checks, w.Check(t, c, purpose, expr))
		}
		x := quote(c.Name)
		switch {
		case c.Type.As != "":
		case c.Type.Kind == schema.Text && own == "binary" && c.Collation == "": // else it would be of bytes
			c.Collation = collationOf(behind)
		case c.Type.Kind == schema.JSON: // it comes with the type
			c.Collation = "utf8mb4_bin"
			checks = append(checks,
				&sqlschema.Check{Column: c.Name, Purpose: schema.ForType, SQL: sqlOf("json_valid(" + x + ")")})
		case t.Declared.Unchecked:
		case c.Type.Kind == schema.Boolean:
			check(schema.ForType, x+" in (0,1)")
		case c.Type.Kind == schema.Text && c.Type.Length > longestVarchar:
			check(schema.ForType, fmt.Sprintf("char_length(%s) <= %d", x, c.Type.Length))
		}
		if c.Name == t.SoftDelete { // by its name a live schema tells which column marks rows as deleted
			check(schema.ForSoftDelete, x+" > '1000-01-01'")
		}
		checks = append(checks, w.Checks(t, c)...)
		if strings.EqualFold(c.Collation, own) {
			c.Collation = ""
		}
	}
	for _, k := range t.Checks {
		if c := unchecked(t, k.SQL.Text); c != nil {
			notice(c.Name,
				"MariaDB allows no check on a column that it numbers or that a reference changes: %s is not enforced",
				k.Name)
			continue
		}
		checks = append(checks, k)
	}
	t.Checks = checks
	lowerIndexes(t, notice, mistake)
	return notices
}

// unchecked is a column among those that SQL names of which the server takes no check;
// nil: there is none.
func unchecked(t *sqlschema.Table, sql string) *sqlschema.Column {
	changes := func(a schema.Action) bool {
		return a == schema.SetNull || a == schema.SetDefault || a == schema.Cascade
	}
	for _, tok := range tokens(sql) {
		c := (*sqlschema.Column)(nil)
		if tok.Named() {
			c = t.Column(tok.Name())
		}
		if c == nil {
			continue
		}
		if c.Identity || slices.ContainsFunc(t.ForeignKeys, func(k *sqlschema.ForeignKey) bool {
			return slices.Contains(k.Columns, c.Name) &&
				(changes(k.OnUpdate) || k.OnDelete == schema.SetNull || k.OnDelete == schema.SetDefault)
		}) {
			return c
		}
	}
	return nil
}

// lowerIndexes puts generated columns in the place of what an index cannot say.
func lowerIndexes(t *sqlschema.Table, notice, mistake func(column, format string, args ...any)) {
	hidden := func(name, sqlType, expr string) string {
		name = schema.Cut(hiddenPrefix + name)
		if t.Column(name) == nil {
			t.Columns = append(t.Columns, &sqlschema.Column{
				Name:      name,
				SQLType:   sqlType,
				Type:      typeOf(sqlType),
				Invisible: true,
				Generated: &sqlschema.Generated{SQL: sqlOf(expr), Stored: true},
			})
		}
		return name
	}
	sum := func(p sqlschema.Part) sqlschema.Part {
		return sqlschema.Part{Column: hidden("sum_"+p.Column, "char(64)", "sha2("+quote(p.Column)+",256)"),
			Desc: p.Desc}
	}
	tooLong := func(p sqlschema.Part) bool { return p.Length == 0 && long(t, t.Column(p.Column)) }
	if pk := t.PrimaryKey; pk != nil &&
		(total(t, pk.Columns) > indexBytes || slices.ContainsFunc(pk.Columns, tooLong)) {
		mistake(pk.Columns[0].Column,
			"the primary key of %s is larger than the 3,072 bytes that MariaDB allows, at four bytes a character. Give its texts a length, up to text(%d)",
			t.Name, longestIndexed)
	}
	var kept []*sqlschema.Index
	for _, x := range t.Indexes {
		if asWritten(t, x, notice) {
			kept = append(kept, x)
			continue
		}
		for i, p := range x.Parts {
			switch c := t.Column(p.Column); {
			case p.Length > 0: // as it is said
			case p.Expr != nil: // its type is nobody's to say
				notice("", "MariaDB has no index on an expression: declare a generated field, and index that")
			case p.Collation == sqlschema.IgnoringCase && x.Unique && long(t, c):
				x.Parts[i] = sqlschema.Part{
					Column: hidden("foldsum_"+p.Column, "char(64)", "sha2(lcase("+quote(p.Column)+"),256)"),
					Desc:   p.Desc,
				}
			case p.Collation == sqlschema.IgnoringCase:
				x.Parts[i] = sqlschema.Part{
					Column: hidden("fold_"+p.Column, c.SQLType, "lcase("+quote(p.Column)+")"),
					Desc:   p.Desc,
				}
				if long(t, c) {
					x.Parts[i].Length = indexedBeginning
				}
			case c == nil || !long(t, c):
			case x.Unique: // of values that are too long for an index their sums are unique
				x.Parts[i] = sum(p)
			default:
				x.Parts[i].Length = indexedBeginning
			}
		}
		switch {
		case x.Where != nil && !x.Unique:
			notice("", "MariaDB has no partial index: the index %s covers all rows", x.Name)
			x.Where = nil
		case x.Where != nil:
			where := x.Where.Text
			x.Parts = append(x.Parts,
				sqlschema.Part{Column: hidden(schema.Hash8(canon(where)), "tinyint", "if("+where+",1,NULL)")})
			x.Where = nil
		}
		if len(sqlschema.Names(x.Parts)) == len(x.Parts) {
			fit(t, x, sum, mistake, notice)
			kept = append(kept, x)
		}
	}
	t.Indexes = kept
}

// typeName is the type in which MariaDB keeps a type of the language.
func typeName(t schema.Type) string {
	if t.As != "" {
		return t.As
	}
	switch t.Kind {
	case schema.Smallint, schema.Bigint:
		if t.Unsigned {
			return string(t.Kind) + " unsigned"
		}
	case schema.Text:
		if t.Fixed {
			return fmt.Sprintf("char(%d)", t.Length)
		}
		if t.Length > 0 && t.Length <= longestVarchar {
			return fmt.Sprintf("varchar(%d)", t.Length)
		}
		return "longtext"
	case schema.Choice: // values of some length more may come
		if t.Listed || t.Enum != "" {
			values := make([]string, len(t.Choices))
			for i, v := range t.Choices {
				values[i] = literal(v)
			}
			return "enum(" + strings.Join(values, ",") + ")"
		}
		n := 64
		for _, v := range t.Choices {
			for len([]rune(v)) > n {
				n *= 2
			}
		}
		return fmt.Sprintf("varchar(%d)", n)
	case schema.Decimal:
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	case schema.Integer:
		if t.Unsigned {
			return "int unsigned"
		}
		return "int"
	case schema.Real:
		return "float"
	case schema.Boolean:
		return "tinyint(1)"
	case schema.Timestamp, schema.Datetime:
		return "datetime" + digits(t)
	case schema.Time:
		return "time" + digits(t)
	case schema.JSON:
		return "longtext"
	case schema.Bytes:
		if t.Length > 0 {
			return fmt.Sprintf("varbinary(%d)", t.Length)
		}
		return "longblob"
	case schema.Native:
		return t.Name
	}
	return string(t.Kind)
}

var constants = &ddl.Constants{
	Text: literal, True: "1", False: "0",
	Now:   nowOf,
	Today: todaySQL, FreshUUID: newUUID,
}

// valueSQL gives a declared value as SQL of its type.
func valueSQL(v schema.Value, t schema.Type) (string, error) {
	if sql, ok := constants.SQL(v, t); ok {
		return sql, nil
	}
	if t.Kind == schema.Timestamp {
		return literal(utc(v.Text)), nil
	}
	return literal(v.Text), nil
}

// utc is a moment without the mark of UTC, in which all of them are kept.
func utc(s string) string {
	s = strings.TrimSuffix(strings.TrimSuffix(s, "Z"), "+00:00")
	return strings.Replace(s, "T", " ", 1)
}

// Literal is a declared value as SQL of the type.
func (Engine) Literal(v schema.Value, t schema.Type) (string, error) { return valueSQL(v, t) }

func triggerName(t *sqlschema.Table, c *sqlschema.Column, p schema.Purpose) string {
	return schema.ConstraintName(t.Name, []string{c.Name}, string(p))
}

// quiet is the variable that is set while Erbario itself is at work, for whom triggers
// keep still.
const quiet = "@erbario_quiet"

func stampTrigger(t *sqlschema.Table, c *sqlschema.Column) *sqlschema.Trigger {
	name, x := triggerName(t, c, schema.ForStamped), quote(c.Name)
	text := fmt.Sprintf(
		"CREATE TRIGGER %s BEFORE UPDATE ON %s FOR EACH ROW SET NEW.%s = IF(NEW.%s <=> OLD.%s AND %s IS NULL, %s, NEW.%s)",
		quote(name), quote(t.Name), x, x, x, quiet, nowSQL, x)
	return &sqlschema.Trigger{Name: name, Column: c.Name, Purpose: schema.ForStamped, SQL: sqlOf(text)}
}

// immutableTrigger compares bytes: to the collation of a column by hand 'a' and 'A' may
// be one.
func immutableTrigger(t *sqlschema.Table, c *sqlschema.Column) *sqlschema.Trigger {
	name, x := triggerName(t, c, schema.ForImmutable), quote(c.Name)
	text := fmt.Sprintf(
		"CREATE TRIGGER %s BEFORE UPDATE ON %s FOR EACH ROW IF %s IS NULL AND OLD.%s IS NOT NULL AND NOT (BINARY OLD.%s <=> BINARY NEW.%s) THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = %s; END IF",
		quote(name), quote(t.Name), quiet, x, x, x, literal(t.Name+"."+c.Name+" cannot be changed once it is set"))
	return &sqlschema.Trigger{Name: name, Column: c.Name, Purpose: schema.ForImmutable, SQL: sqlOf(text)}
}

// rolesTable is the server's table of who is in which role.
const rolesTable = "mysql.roles_mapping"

// isMember is the condition that the user of the session is in a role, or in one that is in
// it. In a trigger the server knows no current role: its own table tells, which whoever
// made the trigger may read.
func isMember(role string) string {
	const user, host, here = "substring_index(user(), '@', 1)", "substring_index(user(), '@', -1)",
		"('localhost', '127.0.0.1', '::1')"
	is := func(alias string) string { // the names of this machine are one
		return fmt.Sprintf("%s.User = %s AND (%s LIKE %s.Host OR %s IN %s AND %s.Host IN %s)", alias, user, host, alias,
			host, here, alias, here)
	}
	return fmt.Sprintf(
		"EXISTS (SELECT 1 FROM "+rolesTable+" AS m LEFT JOIN "+rolesTable+" AS g ON g.Role = m.User AND m.Host = '' WHERE m.Role = %s AND (%s OR %s))",
		literal(role), is("m"), is("g"))
}

func signal(message string) string {
	return "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = " + literal(message)
}

// guardTriggers let no row go permanently that is not marked as deleted; with a role, they
// keep that, and the marks, for its members.
func guardTriggers(t *sqlschema.Table) []*sqlschema.Trigger {
	x := quote(t.SoftDelete)
	make := func(p schema.Purpose, event, body string) *sqlschema.Trigger {
		name := triggerName(t, t.Column(t.SoftDelete), p)
		return &sqlschema.Trigger{
			Name:    name,
			Column:  t.SoftDelete,
			Purpose: p,
			SQL: sqlOf(
				fmt.Sprintf("CREATE TRIGGER %s BEFORE %s ON %s FOR EACH ROW %s", quote(name), event, quote(t.Name),
					body),
			),
		}
	}
	unmarked := fmt.Sprintf("IF %s IS NULL AND OLD.%s IS NULL THEN %s; END IF", quiet, x,
		signal(engine.GuardWords(t.Name)))
	if t.Declared.GuardRole == "" {
		return []*sqlschema.Trigger{make(schema.ForGuard, "DELETE", unmarked)}
	}
	return []*sqlschema.Trigger{
		make(
			schema.ForGuard,
			"DELETE",
			fmt.Sprintf("IF NOT %s THEN %s; ELSEIF %s IS NULL AND OLD.%s IS NULL THEN %s; END IF",
				isMember(t.Declared.GuardRole), signal(engine.GuardRoleWords(t.Name, t.Declared.GuardRole)), quiet, x,
				signal(engine.GuardWords(t.Name))),
		),
		make(
			schema.ForGuardMark,
			"UPDATE",
			fmt.Sprintf("IF OLD.%s IS NOT NULL AND NEW.%s IS NULL AND NOT %s THEN %s; END IF", x, x,
				isMember(t.Declared.GuardRole), signal(engine.GuardMarkWords(t.Name, t.Declared.GuardRole))),
		),
	}
}

// guardChildren is the trigger of a table whose deleted rows would take guarded ones along:
// on MariaDB what goes by a reference fires no trigger of its own. nil: there are none.
func guardChildren(s *sqlschema.Schema, t *sqlschema.Table) *sqlschema.Trigger {
	var reached []string
	var follow func(parent *sqlschema.Table, from, where string, seen []string)
	follow = func(parent *sqlschema.Table, from, where string, seen []string) {
		for _, c := range s.Tables {
			if c.Elsewhere() || slices.Contains(seen, c.Name) {
				continue
			}
			for _, k := range c.ForeignKeys {
				if !strings.EqualFold(k.Table, parent.Name) || k.OnDelete != schema.Cascade ||
					len(k.References) != len(k.Columns) {
					continue
				}
				alias := fmt.Sprintf("c%d", len(seen))
				var on []string
				for i, col := range k.Columns {
					of := "OLD"
					if len(seen) > 1 {
						of = fmt.Sprintf("c%d", len(seen)-1)
					}
					on = append(on, fmt.Sprintf("%s.%s = %s.%s", alias, quote(col), of, quote(k.References[i])))
				}
				nextFrom, nextWhere := quote(c.Name)+" AS "+alias, strings.Join(on, " AND ")
				if from != "" {
					nextFrom, nextWhere = from+" JOIN "+nextFrom+" ON "+nextWhere, where
				}
				if c.Declared.Guard {
					reached = append(
						reached,
						fmt.Sprintf("IF EXISTS (SELECT 1 FROM %s WHERE %s AND %s.%s IS NULL) THEN %s; END IF;",
							nextFrom, nextWhere, alias, quote(c.SoftDelete), signal(engine.GuardWords(c.Name))),
					)
				}
				follow(c, nextFrom, nextWhere, append(slices.Clone(seen), c.Name))
			}
		}
	}
	follow(t, "", "", []string{t.Name})
	if len(reached) == 0 || len(t.Columns) == 0 {
		return nil
	}
	column := t.Columns[0]
	if key := t.Key(); len(key) > 0 {
		column = t.Column(key[0])
	}
	name := triggerName(t, column, schema.ForGuardChildren)
	text := fmt.Sprintf("CREATE TRIGGER %s BEFORE DELETE ON %s FOR EACH ROW IF %s IS NULL THEN %s END IF", quote(name),
		quote(t.Name), quiet, strings.Join(reached, " "))
	return &sqlschema.Trigger{Name: name, Column: column.Name, Purpose: schema.ForGuardChildren, SQL: sqlOf(text)}
}

// unguarded are statements that delete rows of a table past its guard.
func unguarded(t *sqlschema.Table, sql ...string) []string {
	if !t.Guarded() {
		return sql
	}
	return quietly(sql)
}

// Unguarded gives statements that delete rows of a table past its guard.
func (Engine) Unguarded(t *sqlschema.Table, sql ...string) []string { return unguarded(t, sql...) }

// liveView is the view of the rows that are not deleted.
func liveView(name string, t *sqlschema.Table) string {
	var names []string
	for _, c := range t.Columns {
		if !c.Invisible {
			names = append(names, quote(t.Name)+"."+quote(c.Name)+" AS "+quote(c.Name))
		}
	}
	return fmt.Sprintf("CREATE SQL SECURITY INVOKER VIEW %s AS select %s from %s where %s.%s is null",
		quote(name), strings.Join(names, ","), quote(t.Name), quote(t.Name), quote(t.SoftDelete))
}

// childrenTriggers mark the rows that refer to a row as deleted together with it, and
// bring those back that went at the same moment: a trigger for each table of them, whose
// own triggers do the same for those that refer to it. The server lets no trigger change
// the table on which it runs.
func childrenTriggers(declared *schema.Schema, t *sqlschema.Table, cannot func(text string)) []*sqlschema.Trigger {
	x := quote(t.SoftDelete)
	var body []string
	for _, c := range schema.Children(declared, t.Declared) {
		if c.Table == t.Declared {
			cannot(
				fmt.Sprintf("on MariaDB rows of %s that refer to another row of %s are not deleted with it", t.Name,
					t.Name),
			)
			continue
		}
		var on []string
		for i, col := range c.Key.Columns {
			on = append(on, fmt.Sprintf("%s = NEW.%s", quote(col), quote(c.Key.References[i])))
		}
		mark := quote(c.Table.SoftDelete)
		body = append(
			body,
			fmt.Sprintf("UPDATE %s SET %s = NEW.%s WHERE %s AND %s <=> OLD.%s;", quote(c.Table.Name), mark, x,
				strings.Join(on, " AND "), mark, x),
		)
	}
	if len(body) == 0 {
		return nil
	}
	name := triggerName(t, t.Column(t.SoftDelete), schema.ForChildren)
	text := fmt.Sprintf(
		"CREATE TRIGGER %s AFTER UPDATE ON %s FOR EACH ROW IF %s IS NULL AND NOT (OLD.%s <=> NEW.%s) THEN %s END IF",
		quote(name), quote(t.Name), quiet, x, x, strings.Join(body, " "))
	return []*sqlschema.Trigger{{Name: name, Column: t.SoftDelete, Purpose: schema.ForChildren, SQL: sqlOf(text)}}
}
