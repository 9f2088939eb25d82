package seed

// This file lets a row be as far as its status says: one that is cancelled was not delivered,
// one that was delivered had been shipped, and is_paid is true where paid_at has a value.

import (
	"slices"
	"strings"
	"sync"

	"erbario/internal/fake"
	"erbario/internal/schema"
)

// progress is how far a line's rows are, and what tells it.
type progress struct {
	status *column // nil: there is none
	order  []string
	steps  []timed // the steps that may be without a value, in their order
}

// statusNames are the last words of names of a status.
var statusNames = []string{"status", "state", "stage", "phase", "progress"}

func isStatus(field string) bool {
	words := strings.Split(strings.ToLower(field), "_")
	return slices.Contains(statusNames, words[len(words)-1])
}

// off are the ranks of what ends a row's way before its end.
const off = 85

// ranks are words of a status that are no words of a time, by their rank among the steps.
var ranks = sync.OnceValue(func() map[string]int {
	out := map[string]int{}
	for rank, words := range map[int]string{
		0:  "draft new created open pending queued waiting unpaid todo planned scheduled invited inactive unverified",
		20: "active confirmed running",
		30: "paid",
		40: "processing in_progress packing preparing ongoing working",
		50: "in_transit on_the_way shipping live",
		60: "delivered",
		80: "complete success successful fulfilled ok archived",
		85: "cancel void voided expired lost aborted error denied refused no_show",
	} {
		for _, w := range strings.Fields(words) {
			out[w] = rank
		}
	}
	for w, m := range times() {
		if m.stage == step {
			out[w] = m.rank
		}
	}
	out["returned"], out["refunded"] = 82, 82 // after it had come
	return out
})

// rankOf is the rank of a status among the steps; ok is false for a word that tells nothing.
func rankOf(word string) (int, bool) {
	n, ok := ranks()[strings.ReplaceAll(strings.ReplaceAll(strings.ToLower(word), "-", "_"), " ", "_")]
	return n, ok
}

// progress lets the columns of a line that depend on how far a row is follow it.
func (p *Plan) progress(l *Line) {
	g := &progress{}
	for _, c := range l.columns {
		if c.fill != nil && isStatus(c.Field) && (c.Type.Kind == schema.Choice || c.Type.Kind == schema.Text) &&
			(c.said || c.Type.Kind == schema.Choice || c.words != nil || p.leftToDefault(l, c)) && g.status == nil {
			g.status = c
			g.order = c.Type.Choices
		}
	}
	list := l.timesOf()
	for _, t := range list {
		if t.stage == step && t.word != "" && t.rank >= 20 {
			g.steps = append(g.steps, t)
		}
	}
	slices.SortStableFunc(g.steps, func(a, b timed) int { return a.rank - b.rank })
	free := func(c *column) bool { // the seed says nothing of it, and it may be empty
		return !c.NotNull && l.source.Supplies[c.Name] == nil && !c.mark && c.fill != nil && c.subject == nil &&
			!p.leftToDefault(l, c)
	}
	flags := map[*column]*column{} // by the time: the boolean that says the same
	for _, c := range l.columns {
		if c.Type.Kind != schema.Boolean {
			continue
		}
		word := strings.TrimPrefix(strings.TrimPrefix(strings.ToLower(c.Field), "is_"), "has_")
		word = strings.TrimPrefix(word, "been_")
		for _, t := range list {
			if name := strings.ToLower(t.Field); name == word+"_at" || name == word+"_on" || name == word+"_date" {
				flags[t.column] = c
			}
		}
	}
	for i, t := range g.steps {
		if free(t.column) {
			before := g.steps[:i]
			g.follow(t, before, flags[t.column])
		}
	}
	for _, t := range list {
		if flag := flags[t.column]; flag != nil {
			p.flag(l, t, flag, free(t.column) && t.absent == nil)
		}
	}
	for _, t := range list { // most are there still
		if t.stage == gone && free(t.column) && t.absent == nil {
			t.empty = 1 - emptyUnsaid
			p.there(l, t)
		}
	}
	if g.status == nil {
		return
	}
	for _, c := range l.columns { // why it was cancelled, and where the parcel is
		name := strings.ToLower(c.Field)
		if c.axis != nil || !free(c) {
			continue
		}
		word, _, _ := strings.Cut(name, "_")
		switch {
		case strings.HasPrefix(name, "cancel"),
			strings.HasPrefix(name, "reject"),
			strings.HasPrefix(name, "refund"),
			strings.HasPrefix(name, "decline"),
			strings.HasPrefix(name, "return_"):
			c.needs = append(c.needs, g.status.at)
			c.absent = func(r *row) bool {
				return !strings.HasPrefix(strings.ToLower(textOf(r.cells[g.status.at])), word[:min(len(word), 6)])
			}
		case word == "tracking":
			c.needs = append(c.needs, g.status.at)
			c.absent = func(r *row) bool {
				rank, ok := rankOf(textOf(r.cells[g.status.at]))
				return ok && (rank < 50 || rank == off)
			}
		}
	}
}

// follow leaves a step without a value where the row is not that far.
func (g *progress) follow(t timed, before []timed, flag *column) {
	for _, b := range before {
		t.needs = append(t.needs, b.at)
	}
	if g.status != nil {
		t.needs = append(t.needs, g.status.at)
	}
	if flag != nil && (flag.said || flag.Value != nil) {
		t.needs = append(t.needs, flag.at)
	}
	t.absent = func(r *row) bool {
		if flag != nil && (flag.said || flag.Value != nil) {
			return r.cells[flag.at] != true
		}
		if g.status != nil {
			if missing, ok := g.missing(textOf(r.cells[g.status.at]), t); ok {
				return missing
			}
		}
		for _, b := range before {
			switch none := r.cells[b.at] == nil; {
			case b.rank == off: // what is cancelled goes no further
				if !none && t.rank >= 50 && t.rank != off {
					return true
				}
			case t.rank == off:
			case none:
				return true
			}
		}
		share := emptyUnsaid
		if t.rank == off {
			share = 1 - emptyUnsaid
			for _, b := range before { // what has come is not cancelled
				if b.rank >= 50 && b.rank != off && r.cells[b.at] != nil {
					return true
				}
			}
		}
		random := fake.NewRandom(r.line.hash, t.seed, uint64(r.n), 0xe)
		return random.Part() < share
	}
	t.empty = 0
}

// missing tells whether a row of a status has no value in a step; ok is false where the status
// tells nothing of it.
func (g *progress) missing(status string, t timed) (missing, ok bool) {
	same := func(a, b string) bool {
		return strings.EqualFold(strings.ReplaceAll(a, "cancelled", "canceled"),
			strings.ReplaceAll(b, "cancelled", "canceled"))
	}
	if same(status, t.word) {
		return false, true
	}
	rank, known := rankOf(status)
	if !known {
		return false, false
	}
	if t.rank == off ||
		t.word == "returned" && slices.ContainsFunc(g.order, func(s string) bool { return same(s, t.word) }) {
		return true, true // another status says so
	}
	if rank == off {
		return t.rank >= 20, true
	}
	at, own := slices.Index(g.order, status), slices.IndexFunc(g.order, func(s string) bool { return same(s, t.word) })
	if at >= 0 && own >= 0 && rank != 82 {
		return at < own, true
	}
	return rank < t.rank, true
}

// flag lets a boolean and a time say the same: the one that nothing is said of follows.
func (p *Plan) flag(l *Line, t timed, flag *column, free bool) {
	switch {
	case flag.said || l.source.Supplies[flag.Name] != nil || p.leftToDefault(l, flag):
		if free {
			t.needs, t.empty = append(t.needs, flag.at), 0
			t.absent = func(r *row) bool { return r.cells[flag.at] != true }
		}
	default:
		at := t.at
		flag.needs, flag.domain, flag.nth, flag.empty = append(flag.needs, at), nil, nil, 0
		flag.follows = []string{t.Field}
		flag.fill = func(r *row, _ *fake.Random) any { return r.cells[at] != nil }
	}
}

// there lets what is_active says agree with a time at which the row was given up.
func (p *Plan) there(l *Line, t timed) {
	for _, c := range l.columns {
		name := strings.TrimPrefix(strings.ToLower(c.Field), "is_")
		if c.Type.Kind != schema.Boolean || c.said || p.leftToDefault(l, c) ||
			!slices.Contains([]string{"active", "enabled", "current", "employed"}, name) || c.Fake != nil ||
			l.looks(t.column, c, 0) {
			continue
		}
		fill := c.fill
		c.needs, c.domain, c.nth, c.follows = append(c.needs, t.at), nil, nil, append(c.follows, t.Field)
		c.fill = func(r *row, random *fake.Random) any {
			if r.cells[t.at] != nil {
				return false
			}
			return fill(r, random)
		}
	}
}

// likely is the share of rows in which a boolean is true, by its name.
func likely(field string) float64 {
	for _, w := range strings.Split(strings.ToLower(field), "_") {
		switch w {
		case "deleted",
			"removed",
			"banned",
			"blocked",
			"suspended",
			"locked",
			"spam",
			"archived",
			"hidden",
			"test",
			"disabled",
			"expired",
			"cancelled",
			"canceled",
			"failed":
			return 0
		case "active", "enabled", "available", "visible", "verified", "confirmed", "published", "valid":
			return 0.9
		case "admin", "superuser", "staff", "premium", "featured", "vip":
			return 0.1
		}
	}
	return 0.5
}

// statuses are words for a status that is a text, of the steps that its row has.
func (l *Line) statuses() []string {
	list := l.timesOf()
	slices.SortStableFunc(list, func(a, b timed) int { return a.rank - b.rank })
	out := []string{"pending"}
	for _, t := range list {
		if t.stage == step && t.rank >= 20 && t.word != "" && !slices.Contains(out, t.word) {
			out = append(out, t.word)
		}
	}
	if len(out) == 1 {
		return []string{"new", "active", "closed"}
	}
	return out
}
