package mariadb

// This file writes the one ALTER TABLE that makes a table another: all its changes in one
// statement, so that the server goes over the rows at most once. A column that has
// another name afterwards is told beforehand; what stands on it follows, as the server
// itself has it follow.

import (
	"slices"
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// tableChange is what makes one table another.
type tableChange struct {
	from, to *sqlschema.Table
	moves    map[string]string // by the name of a column before, its name after
}

// after is the name that a column of from has in to; "": it goes.
func (c tableChange) after(column string) string {
	if n, ok := c.moves[column]; ok {
		return n
	}
	if c.to.Column(column) == nil || c.arrives(column) {
		return ""
	}
	return column
}

// arrives tells whether another column takes a name.
func (c tableChange) arrives(name string) bool {
	for from, to := range c.moves {
		if to == name && from != name {
			return true
		}
	}
	return false
}

// before is the column of from that a column of to was; nil: it is new.
func (c tableChange) before(column string) *sqlschema.Column {
	for _, o := range c.from.Columns {
		if c.after(o.Name) == column {
			return o
		}
	}
	return nil
}

// renamedSQL is SQL with the names that columns have after; false: it names one that
// goes.
func (c tableChange) renamedSQL(sql string) (string, bool) {
	names := map[string]string{}
	for _, o := range c.from.Columns {
		n := c.after(o.Name)
		if n == "" && mentions(sql, o.Name) {
			return sql, false
		}
		if n != o.Name {
			names[o.Name] = n
		}
	}
	return renameIn(sql, names), true
}

// renameIn puts other names of columns into SQL.
func renameIn(sql string, names map[string]string) string {
	if len(names) == 0 {
		return sql
	}
	var b strings.Builder
	last := 0
	for off := 0; off < len(sql); {
		t := rules.Next(sql, off)
		if t.Start >= len(sql) {
			break
		}
		off = t.End
		if !t.Named() {
			continue
		}
		for from, to := range names {
			if strings.EqualFold(t.Name(), from) && !call(sql, t) {
				b.WriteString(sql[last:t.Start] + quote(to))
				last = t.End
				break
			}
		}
	}
	return b.String() + sql[last:]
}

// call tells whether a bare word is the name of a function.
func call(sql string, t sqltok.Token) bool {
	return t.Kind == sqltok.Word && strings.HasPrefix(strings.TrimLeft(sql[t.End:], " "), "(")
}

// statement is the ALTER TABLE; "": nothing changes.
func (c tableChange) statement() string {
	var list []string
	add := func(s string) { list = append(list, s) }
	goes, comes, renamed := c.indexes()
	checksGo, checksCome := c.checks()
	ownBefore, ownAfter := ownIndexes(c.from), ownIndexes(c.to)
	stays := func(k *sqlschema.ForeignKey, list []*sqlschema.ForeignKey) bool {
		return slices.ContainsFunc(list, func(o *sqlschema.ForeignKey) bool { return o.Name == k.Name })
	}
	var drop []string
	for _, k := range ownBefore {
		if stays(k, c.to.ForeignKeys) && !stays(k, ownAfter) {
			drop = append(drop, k.Name)
		}
	}
	for _, k := range ownAfter {
		if stays(k, c.from.ForeignKeys) && !stays(k, ownBefore) {
			comes = append(comes, ownIndex(k))
		}
	}
	// What comes back gets its old place: what stands behind it goes and comes in the same
	// moment, of which the server makes nothing but another order.
	inOrder(
		c.to,
		&comes,
		func(x *sqlschema.Index) string { return x.Name },
		slices.Concat(c.to.Indexes, ownOf(c.to)),
		func(x *sqlschema.Index) bool {
			if slices.ContainsFunc(c.from.Indexes,
				func(o *sqlschema.Index) bool { return o.Name == x.Name && !slices.Contains(goes, o) }) ||
				slices.ContainsFunc(ownBefore, func(k *sqlschema.ForeignKey) bool { return k.Name == x.Name }) {
				drop = append(drop, x.Name)
				return true
			}
			return false
		},
	)
	inOrder(c.to, &checksCome, func(k *sqlschema.Check) string { return k.Name }, c.to.Checks,
		func(k *sqlschema.Check) bool {
			if k.Name != "" && slices.ContainsFunc(c.from.Checks,
				func(o *sqlschema.Check) bool { return o.Name == k.Name && c.checkAfter(o) == k }) {
				checksGo = append(checksGo, k)
				return true
			}
			return false
		})
	for _, k := range checksGo {
		add("DROP CONSTRAINT " + quote(k.Name))
	}
	for _, x := range goes {
		add("DROP INDEX " + quote(x.Name))
	}
	for _, name := range drop {
		add("DROP INDEX " + quote(name))
	}
	key := !sameParts(c.mapParts(c.from.PrimaryKey), c.to.PrimaryKey)
	if c.from.PrimaryKey != nil && key {
		add("DROP PRIMARY KEY")
	}
	list = append(list, c.columns()...)
	if c.to.PrimaryKey != nil && key {
		add("ADD PRIMARY KEY (" + partList(c.to.PrimaryKey.Columns) + ")" + c.to.PrimaryKey.Options)
	}
	for _, x := range renamed {
		add("RENAME INDEX " + quote(x[0]) + " TO " + quote(x[1]))
	}
	for _, x := range comes {
		add("ADD " + indexDefinition(x))
	}
	for _, k := range checksCome {
		add("ADD " + named(k.Name) + "CHECK (" + k.SQL.Text + ")")
	}
	list = append(list, changedOptions(c.from.Options.Behind, c.to.Options.Behind)...)
	if c.from.Comment != c.to.Comment {
		add("COMMENT = " + literal(c.to.Comment))
	}
	return alterAll(c.from.Name, list)
}

// changedOptions are the options of a table that become others.
func changedOptions(from, to string) []string {
	options := func(behind string) (names []string, values map[string]string) {
		head, _, _ := strings.Cut(behind, " PARTITION BY ")
		values = map[string]string{}
		head = strings.ReplaceAll(head, "DEFAULT CHARSET=", "CHARSET=")
		for _, w := range strings.Fields(head) {
			if name, value, ok := strings.Cut(w, "="); ok {
				names, values[name] = append(names, name), value
			}
		}
		return names, values
	}
	before, old := options(from)
	after, now := options(to)
	var out []string
	for _, n := range after {
		if !strings.EqualFold(old[n], now[n]) {
			out = append(out, n+"="+now[n])
		}
	}
	for _, n := range before {
		if _, ok := now[n]; !ok {
			out = append(out, n+"=DEFAULT")
		}
	}
	return out
}

// explicit is a table whose texts say their collation themselves.
func explicit(t *sqlschema.Table) *sqlschema.Table {
	out := t.Clone()
	for _, c := range out.Columns {
		if c.Collation == "" && textual(c.SQLType) {
			c.Collation = collationOf(t.Options.Behind)
		}
	}
	return out
}

// textual tells whether a stored type has a collation.
func textual(sqlType string) bool {
	head, _, _ := strings.Cut(sqlType, "(")
	return strings.HasSuffix(head, "char") || strings.HasSuffix(head, "text") || head == "enum" || head == "set"
}

// alterAll is one ALTER TABLE of all that changes; "": nothing does.
func alterAll(table string, list []string) string {
	if len(list) == 0 {
		return ""
	}
	sep := "\n    "
	if len(list) == 1 {
		sep = " "
	}
	return "ALTER TABLE " + quote(table) + sep + strings.Join(list, ","+sep)
}

// checks are those that go, and those that come.
func (c tableChange) checks() (goes, comes []*sqlschema.Check) {
	for _, k := range c.from.Checks {
		if k.Name != "" && c.checkAfter(k) == nil {
			goes = append(goes, k)
		}
	}
	for _, k := range c.to.Checks {
		if k.Name != "" &&
			!slices.ContainsFunc(c.from.Checks, func(o *sqlschema.Check) bool { return c.checkAfter(o) == k }) {
			comes = append(comes, k)
		}
	}
	return goes, comes
}

// inOrder puts what comes to a table in the order in which it stood there, with all that
// stays and stood behind the first of it; stays tells that of one, which then goes first.
func inOrder[T any](t *sqlschema.Table, comes *[]T, name func(T) string, all []T, stays func(T) bool) {
	place := func(x T) int { return place(t, name(x)) }
	if len(*comes) == 0 || len(t.ServerOrder) == 0 {
		return
	}
	first := len(t.ServerOrder)
	for _, x := range *comes {
		first = min(first, place(x))
	}
	for _, x := range all {
		if i := place(x); i > first && i < len(t.ServerOrder) && stays(x) {
			*comes = append(*comes, x)
		}
	}
	slices.SortStableFunc(*comes, func(a, b T) int { return place(a) - place(b) })
}

// place is where a check or an index is in a table; behind all, where nobody knows.
func place(t *sqlschema.Table, name string) int {
	if i := slices.Index(t.ServerOrder, name); i >= 0 {
		return i
	}
	return len(t.ServerOrder)
}

// standing are checks or indexes of a table in the order in which they stand there.
func inServerOrder[T any](t *sqlschema.Table, list []T, name func(T) string) []T {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b T) int { return place(t, name(a)) - place(t, name(b)) })
	return out
}

// ownOf are the indexes that references of a table have by themselves.
func ownOf(t *sqlschema.Table) []*sqlschema.Index {
	var out []*sqlschema.Index
	for _, k := range ownIndexes(t) {
		out = append(out, ownIndex(k))
	}
	return out
}

// checkAfter is the check of to that one of from is; nil: it goes.
func (c tableChange) checkAfter(k *sqlschema.Check) *sqlschema.Check {
	sql, ok := c.renamedSQL(k.SQL.Text)
	if !ok {
		return nil
	}
	for _, o := range c.to.Checks {
		if o.Name == k.Name && o.SQL.Same(sqlOf(sql)) {
			return o
		}
	}
	return nil
}

// mapParts is a key with the names that its columns have after; nil where one goes.
func (c tableChange) mapParts(pk *sqlschema.PrimaryKey) *sqlschema.PrimaryKey {
	if pk == nil {
		return nil
	}
	out := *pk
	out.Columns = slices.Clone(pk.Columns)
	for i := range out.Columns {
		out.Columns[i].Column = c.after(out.Columns[i].Column)
	}
	return &out
}

func sameParts(a, b *sqlschema.PrimaryKey) bool {
	if a == nil || b == nil {
		return a == b
	}
	return slices.EqualFunc(a.Columns, b.Columns, sqlschema.SamePart)
}

// indexes are those that go, those that come, and the old and new names of those that
// only have another.
func (c tableChange) indexes() (goes, comes []*sqlschema.Index, renamed [][2]string) {
	comes = slices.Clone(c.to.Indexes)
	for _, x := range c.from.Indexes {
		mapped := *x
		mapped.Parts = slices.Clone(x.Parts)
		whole := true
		for i, p := range mapped.Parts {
			if p.Expr != nil {
				sql, ok := c.renamedSQL(p.Expr.Text)
				e := sqlOf(sql)
				mapped.Parts[i].Expr, whole = &e, whole && ok
				continue
			}
			mapped.Parts[i].Column = c.after(p.Column)
			whole = whole && mapped.Parts[i].Column != ""
		}
		same := func(name bool) int {
			return slices.IndexFunc(comes, func(o *sqlschema.Index) bool {
				return sqlschema.SameIndex(o, &mapped) && o.Options == x.Options && (!name || o.Name == x.Name)
			})
		}
		i := same(true)
		if i < 0 {
			i = same(false)
		}
		if !whole || i < 0 {
			goes = append(goes, x)
			continue
		}
		if comes[i].Name != x.Name {
			renamed = append(renamed, [2]string{x.Name, comes[i].Name})
		}
		comes = slices.Delete(comes, i, i+1)
	}
	return goes, comes, renamed
}

// definition is a column with what stands with it in its table.
func definition(t *sqlschema.Table, c *sqlschema.Column) string {
	s := columnDefinition(c)
	for _, k := range t.Checks {
		if k.Name == "" && k.Column == c.Name {
			s += " CHECK (" + k.SQL.Text + ")"
		}
	}
	return s
}

// columns gives the clauses for the columns. One that changes is told whole; one that
// stands elsewhere is told where, by those that other databases have, too.
func (c tableChange) columns() []string {
	if collationOf(c.from.Options.Behind) != collationOf(c.to.Options.Behind) {
		c.from, c.to = explicit(c.from), explicit(c.to)
	}
	var list, order []string
	for _, o := range c.from.Columns {
		if n := c.after(o.Name); o.ByHand {
			continue
		} else if n != "" {
			order = append(order, n)
		} else {
			list = append(list, "DROP COLUMN "+quote(o.Name))
		}
	}
	var wanted []string
	known := slices.DeleteFunc(slices.Clone(c.to.Columns), func(n *sqlschema.Column) bool { return n.ByHand })
	for _, n := range known {
		wanted = append(wanted, n.Name)
	}
	stay := longestInOrder(order, wanted)
	for i, n := range known {
		place := " FIRST"
		if i > 0 {
			place = " AFTER " + quote(known[i-1].Name)
		}
		old := c.before(n.Name)
		if old == nil {
			if n == c.to.Columns[len(c.to.Columns)-1] { // not before what is there by hand
				place = ""
			}
			list = append(list, "ADD COLUMN "+definition(c.to, n)+place)
			continue
		}
		if stay[n.Name] {
			place = ""
		}
		was := *old
		was.Name = n.Name
		text, _ := c.renamedSQL(definition(c.from, old))
		same := sameDefinition(text, definition(c.to, n))
		switch {
		case same && place == "" && old.Name == n.Name:
		case same && place == "":
			list = append(list, "RENAME COLUMN "+quote(old.Name)+" TO "+quote(n.Name))
		case old.Name == n.Name:
			list = append(list, "MODIFY COLUMN "+definition(c.to, n)+place)
		default:
			list = append(list, "CHANGE COLUMN "+quote(old.Name)+" "+definition(c.to, n)+place)
		}
	}
	return list
}

// sameDefinition compares two columns as they are written.
func sameDefinition(a, b string) bool { return a == b || canon(a) == canon(b) }

// longestInOrder are the names that can stay where they are while the others move.
func longestInOrder(order, wanted []string) map[string]bool {
	place := map[string]int{}
	for i, n := range wanted {
		place[n] = i
	}
	best, from := make([]int, len(order)), make([]int, len(order))
	end := -1
	for i := range order {
		best[i], from[i] = 1, -1
		for j := range i {
			if place[order[j]] < place[order[i]] && best[j]+1 > best[i] {
				best[i], from[i] = best[j]+1, j
			}
		}
		if end < 0 || best[i] > best[end] {
			end = i
		}
	}
	out := map[string]bool{}
	for ; end >= 0; end = from[end] {
		out[order[end]] = true
	}
	return out
}

// ownIndexes are the references of a table that have an index of their own, under their
// name: the server wants one, and makes one in silence that it drops in silence, too.
func ownIndexes(t *sqlschema.Table) []*sqlschema.ForeignKey {
	var out []*sqlschema.ForeignKey
	for _, k := range t.ForeignKeys {
		if k.OwnIndex || !covered(t, k) {
			out = append(out, k)
		}
	}
	return out
}

// covered tells whether an index of a table, or its key, begins with the columns of a
// reference.
func covered(t *sqlschema.Table, k *sqlschema.ForeignKey) bool {
	begins := func(parts []sqlschema.Part) bool {
		if len(parts) < len(k.Columns) {
			return false
		}
		for i, c := range k.Columns {
			if parts[i].Column != c || parts[i].Length > 0 || parts[i].Expr != nil {
				return false
			}
		}
		return true
	}
	return t.PrimaryKey != nil && begins(t.PrimaryKey.Columns) ||
		slices.ContainsFunc(t.Indexes, func(x *sqlschema.Index) bool { return x.Using == "" && begins(x.Parts) })
}

// ownIndex is the index of a reference itself.
func ownIndex(k *sqlschema.ForeignKey) *sqlschema.Index {
	x := &sqlschema.Index{Name: k.Name}
	for _, c := range k.Columns {
		x.Parts = append(x.Parts, sqlschema.Part{Column: c})
	}
	return x
}
