package seed

// This file puts the times of a row in order: what was ordered before it was paid, shipped and
// delivered; nothing before the row was created, and nothing before the rows that it refers to.
// What the seed says stays, and others keep to it.

import (
	"slices"
	"strings"
	"sync"

	"erbario/internal/schema"
)

// stage is the part of a row's life that a time is about.
type stage int

const (
	apartFromLife stage = iota // a birth, a foundation: long before
	fact                       // what was before anybody wrote it down
	created
	step    // what was done with it
	planned // when something is to begin
	ending  // when something is to end
	lately  // the last time of something that happens again
	gone
)

// times are the words of the names of times: the stage, and for steps their order.
var times = sync.OnceValue(func() map[string]moment {
	out := map[string]moment{}
	for _, s := range []struct {
		stage stage
		rank  int
		words string
	}{
		{apartFromLife, 0, "birth born birthday birthdate dob founded established built manufactured died death"},
		{fact, 0, "collected taken found gathered observed measured recorded purchased acquired captured seen"},
		{created, 0, "created inserted registered joined enrolled signed_up added"},
		{step, 10, "ordered placed booked reserved requested submitted applied invited drafted reported opened issued lent borrowed loaned hired planted sown queued enqueued started began received"},
		{step, 20, "confirmed approved accepted verified activated reviewed assigned acknowledged signed"},
		{step, 30, "paid charged invoiced"},
		{step, 40, "packed prepared processed picked"},
		{step, 50, "shipped sent dispatched posted published released handed_over"},
		{step, 60, "delivered arrived read answered harvested"},
		{step, 80, "returned completed finished done closed ended resolved left stopped"},
		{step, 85, "cancelled canceled rejected declined refunded failed withdrawn aborted revoked"},
		{planned, 0, "start starts begin begins from since valid_from active_from effective scheduled planned check_in checkin departure departs opens"},
		{ending, 0, "end ends to until till valid_to valid_until valid_till active_to due expected deadline expires expiry expiration check_out checkout arrival arrives closes"},
		{lately, 0, "updated modified changed edited last latest"},
		{gone, 0, "deleted removed archived terminated"},
	} {
		for _, w := range strings.Fields(s.words) {
			out[w] = moment{s.stage, s.rank, w}
		}
	}
	return out
})

// moment is what the name of a time tells.
type moment struct {
	stage stage
	rank  int    // of a step
	word  string // that told it; empty: none did
}

// momentOf reads the name of a time.
func momentOf(field string) moment {
	words := strings.Split(strings.ToLower(field), "_")
	for len(words) > 1 && slices.Contains([]string{"at", "on", "date", "time", "ts", "utc", "day", "datetime", "timestamp"}, words[len(words)-1]) {
		words = words[:len(words)-1]
	}
	if words[0] == "last" {
		return times()["last"]
	}
	for size := 2; size >= 1; size-- {
		for i := range words {
			if i+size <= len(words) {
				if m, ok := times()[strings.Join(words[i:i+size], "_")]; ok {
					return m
				}
			}
		}
	}
	return moment{stage: step, rank: -1}
}

// timed is a column that holds a time of the row's life.
type timed struct {
	*column
	moment
}

// after is a time that a column does not lie before, with how long after it is believable.
type after struct {
	of         func(r *row) any // the value
	column     *column          // whose it is; nil: one of another row
	axis       *axis
	least, far int64 // seconds
	before     bool  // it is the other way round: the column does not lie behind it
}

const (
	minute = 60
	hour   = 3600
)

// timesOf are the times among a line's columns, steps in their order: those whose names say
// nothing stand where they are declared.
func (l *Line) timesOf() []timed {
	var out []timed
	rank := 5
	for _, c := range l.columns {
		if c.axis == nil || c.axis.kind != schema.Date && !c.axis.moment() {
			continue
		}
		m := momentOf(c.Field)
		switch {
		case c.mark:
			m.stage = gone
		case c.Stamped:
			m.stage = lately
		}
		if m.stage == step {
			if m.rank < 0 {
				m.rank = rank
			}
			rank = m.rank
		}
		out = append(out, timed{c, m})
	}
	return out
}

// bornColumn is the column that tells how old the rows of a table are; empty: none does.
func bornColumn(t *schema.Table) string {
	best, rank := "", 1000
	for _, c := range t.Columns {
		x := axisOf(c.Type)
		if x == nil || x.kind != schema.Date && !x.moment() || c.Name == t.SoftDelete || c.Stamped {
			continue
		}
		m := momentOf(c.Field)
		at := 1000
		switch {
		case m.stage == created:
			at = 0
		case m.stage == step && m.word != "":
			at = m.rank
		}
		if at < rank && at <= 50 {
			best, rank = c.Name, at
		}
	}
	return best
}

// birth is the column that tells how old the rows of a table are.
type birth struct {
	column string
	axis   *axis
}

// birthOf is that of a table; nil where no column tells it.
func birthOf(s *schema.Schema, table string) *birth {
	t := s.Table(table)
	if t == nil {
		return nil
	}
	name := bornColumn(t)
	if name == "" {
		return nil
	}
	return &birth{name, axisOf(t.Column(name).Type)}
}

// inOrder holds the times of a line against each other, and against those of the rows that it
// refers to.
func (p *Plan) inOrder(l *Line) {
	list := l.timesOf()
	for _, b := range list {
		if b.fill == nil || b.said || b.hard == (interval{}) || b.stage == apartFromLife {
			continue
		}
		b.life = true
		for _, a := range list {
			if a.column == b.column || a.hard == (interval{}) && !a.said {
				continue
			}
			least, far, ok := between(a, b, list)
			turned := false
			if !ok && a.said {
				if least, far, ok = between(b, a, list); ok {
					turned = true
				}
			}
			if !ok || l.looks(a.column, b.column, 0) {
				continue
			}
			at := a.at
			f := after{
				of:     func(r *row) any { return r.cells[at] },
				column: a.column,
				axis:   a.axis,
				least:  least,
				far:    far,
				before: turned,
			}
			if b.needs = append(b.needs, at); turned { // what is said goes first
				b.afters = slices.Insert(b.afters, 0, f)
			} else {
				b.afters = append(b.afters, f)
			}
		}
		if b.stage == fact {
			continue
		}
		for _, k := range l.Table.ForeignKeys {
			if target := p.schema.Table(k.Table); k == l.up && target.SoftDelete != "" && l.follows == "" &&
				(b.stage == created || b.stage == step) { // nothing is done for one that is gone
				of, needs := p.ofReferred(l, k, target.SoftDelete)
				b.afters = append(b.afters,
					after{of: of, axis: axisOf(target.Column(target.SoftDelete).Type), before: true})
				b.needs = append(b.needs, needs)
			}
			born := birthOf(p.schema, k.Table)
			if born == nil {
				continue
			}
			of, needs := p.ofReferred(l, k, born.column)
			if of == nil || l.looks(l.columns[needs], b.column, 0) || needs == b.at {
				continue
			}
			b.afters = append(b.afters, after{of: of, axis: born.axis})
			b.needs = append(b.needs, needs)
		}
	}
}

// early lets the rows that others refer to be as old as the seed's own times for those ask
// for: who has ordered in 2020 was there by then.
func (p *Plan) early() {
	for _, l := range slices.Backward(p.Lines) {
		first, ok := int64(0), false // in seconds
		own := bornColumn(l.Table)
		for _, t := range l.timesOf() {
			if t.stage == apartFromLife || t.stage == fact || t.asked == (interval{}) && (t.Name != own || !t.capped) {
				continue
			}
			at := t.soft.low
			if t.asked != (interval{}) {
				at = t.asked.low
			}
			if t.axis.kind == schema.Date {
				at *= daySeconds
			}
			if !ok || at < first {
				first, ok = at, true
			}
		}
		if !ok {
			continue
		}
		for _, k := range l.Table.ForeignKeys {
			if slices.ContainsFunc(l.Deferred, func(d *Deferred) bool { return d.Key == k }) {
				continue // it is filled when all rows are there
			}
			for _, o := range p.Lines {
				if o.Table.Name != k.Table || o.Table == l.Table {
					continue
				}
				name := bornColumn(o.Table)
				if at, there := o.plan.place[name]; there {
					o.columns[at].notAfter(first)
				}
			}
		}
	}
}

// notAfter lets a column's values lie before a time, as far as they may.
func (c *column) notAfter(seconds int64) {
	n, years := seconds, int64(3*365*daySeconds)
	if c.axis.kind == schema.Date {
		n, years = n/daySeconds, years/daySeconds
	}
	if c.said || !c.life || n < c.hard.low || n >= c.soft.high {
		return
	}
	c.hard.high = min(c.hard.high, n)
	c.soft, c.capped = interval{max(c.hard.low, n-years), c.hard.high}, true
}

// between tells whether one time does not lie behind another of its row, and how long after it
// the other believably is.
func between(a, b timed, list []timed) (least, far int64, ok bool) {
	day := int64(daySeconds)
	switch a.stage {
	case fact:
		if b.stage == created || (b.stage == fact || b.stage == step) && a.at < b.at {
			return 0, 30 * day, true
		}
	case created:
		written := func(t timed) bool { return t.word == "created" || t.word == "inserted" }
		switch b.stage {
		case created:
			return 0, day, written(a) && !written(b) || written(a) == written(b) && a.at < b.at
		case step:
			return 0, 14 * day, true
		case planned:
			return day, 60 * day, true
		case ending:
			return 30 * day, 365 * day, true
		case lately, gone:
			return 0, 0, true
		}
	case step:
		switch b.stage {
		case step:
			if a.rank == off || a.rank > b.rank || a.rank == b.rank && a.at > b.at {
				return 0, 0, false
			}
			switch {
			case a.rank == 10 && (a.word == "started" || a.word == "began" || a.word == "queued" || a.word == "enqueued"):
				return minute, 8 * hour, true
			case a.rank == 10 && (b.rank == 20 || b.rank == 30):
				return minute, 2 * day, true
			case b.rank == 50:
				return 4 * hour, 5 * day, true
			case b.rank == 60:
				return 12 * hour, 7 * day, true
			}
			return hour, 30 * day, true
		case planned:
			return day, 60 * day, a.rank <= 30 || a.rank == off
		case ending:
			return 14 * day, 60 * day, a.rank <= 30 || a.rank == 50
		case lately, gone:
			return 0, 0, true
		}
	case planned:
		if b.stage == ending {
			theirs := func(o timed) bool {
				return o.stage == planned && stem(o) == stem(b) && pairs()[o.word] == pairs()[b.word]
			}
			least, far = lasts(a, b)
			return least, far, theirs(a) || !slices.ContainsFunc(list, theirs)
		}
	case lately:
		return 0, 0, b.stage == gone
	}
	return 0, 0, false
}

// pairs tell which words of a beginning and of an end belong together.
var pairs = sync.OnceValue(func() map[string]int {
	out := map[string]int{}
	for i, words := range []string{
		"start starts begin begins scheduled planned end ends", "from since to until till", "valid_from active_from effective valid_to valid_until valid_till active_to expires expiry expiration",
		"check_in checkin check_out checkout", "departure departs arrival arrives", "opens closes",
	} {
		for _, w := range strings.Fields(words) {
			out[w] = i + 1
		}
	}
	return out
})

// stem is what the name of a time says beside its stage: sale, for sale_starts_at.
func stem(t timed) string {
	var out []string
	for _, w := range strings.Split(strings.ToLower(t.Field), "_") {
		if _, ok := times()[w]; !ok &&
			!slices.Contains([]string{"at", "on", "date", "time", "valid", "check", "active", "in", "out"}, w) {
			out = append(out, w)
		}
	}
	return strings.Join(out, "_")
}

// lasts is how long something believably takes from its beginning to its end, by their names.
func lasts(a, b timed) (least, far int64) {
	day := int64(daySeconds)
	switch {
	case slices.Contains([]string{"check_in", "checkin"}, a.word):
		return day, 14 * day
	case slices.Contains([]string{"valid_from", "active_from", "effective", "since"}, a.word):
		return 30 * day, 730 * day
	case slices.Contains([]string{"due", "deadline", "expected", "expires", "expiry", "expiration"}, b.word):
		return 7 * day, 60 * day
	case a.axis.moment() && b.axis.moment() && slices.Contains([]string{"departure", "departs"}, a.word):
		return hour, 12 * hour
	case a.axis.moment() && b.axis.moment():
		return hour, 6 * hour
	}
	return day, 30 * day
}

// place is where the time that a column keeps to lies on the column's axis.
func (f *after) place(c *column, r *row) (int64, bool) {
	v := f.of(r)
	if s, ok := v.(sameLine); ok {
		v = s.value
	}
	s, ok := v.(string)
	if !ok {
		return 0, false
	}
	return c.axis.place(s)
}

// kept narrows what a column may be by the times that it keeps to, as far as they leave
// anything, and gives the part of it that is believable behind the latest of them.
func (c *column) kept(r *row, i interval) (may, near interval) {
	unit := int64(1)
	if c.axis.kind == schema.Date {
		unit = daySeconds
	}
	near = interval{1, 0}
	latest := int64(-1 << 62)
	for j := range c.afters {
		f := &c.afters[j]
		n, ok := f.place(c, r)
		switch {
		case !ok:
			continue
		case f.before:
			if f.axis.kind == schema.Date && c.axis.moment() {
				n += daySeconds - 1 // the day's end
			}
			if n >= i.low {
				i.high = min(i.high, n)
				if f.far > 0 {
					near = interval{n - f.far/unit, n - f.least/unit}
				}
			}
			continue
		case n > i.high:
			continue
		}
		i.low = max(i.low, n)
		if f.column != nil && f.far > 0 && n >= latest {
			latest = n
			near = interval{n + (f.least+unit-1)/unit, n + max(f.far/unit, 1)}
		}
	}
	return i, near.and(i)
}

// business are words in the names of times that are in hours of work, on weekdays.
var business = strings.Fields(
	"meeting appointment invoice invoiced issued shipped dispatched approved reviewed signed hired interview lesson visit consultation office packed prepared processed handed",
)

// hours are when something is done, by the name of its time.
type hours struct {
	work     bool  // on weekdays
	from, to int64 // seconds of a day
	unit     int64 // seconds: a course begins at a quarter of an hour
}

func hoursOf(field string) hours {
	h := hours{from: 7 * hour, to: 22 * hour, unit: 1}
	if slices.ContainsFunc(strings.Split(strings.ToLower(field), "_"),
		func(w string) bool { return slices.Contains(business, w) }) {
		h.work, h.from, h.to = true, 8*hour, 18*hour
	}
	if m := momentOf(field); m.stage == planned || m.stage == ending {
		h.unit = 15 * minute
	}
	return h
}

// clock moves a time to an hour and a day at which such things are done, as far as it stays
// where it may be.
func (c *column) clock(h hours, n int64, i interval) int64 {
	day, second := n, int64(0)
	if c.axis.moment() {
		day, second = n/daySeconds, n%daySeconds
		if second < 0 {
			day, second = day-1, second+daySeconds
		}
	}
	second = h.from + second*(h.to-h.from)/daySeconds
	second -= second % h.unit
	for _, days := range [...]int64{0, 1, 2, 3, -1, -2, -3} {
		at := day + days
		if week := (at%7 + 11) % 7; h.work && (week == 0 || week == 6) { // 1970-01-01 was a Thursday
			continue
		}
		if c.axis.moment() {
			at = at*daySeconds + second
		}
		if at >= i.low && at <= i.high {
			return at
		}
	}
	return n
}
