package seed

// This file is money: prices that are mostly small and end as prices do, and totals that are
// a price times how many.

import (
	"slices"
	"strings"

	"erbario/internal/fake"
	"erbario/internal/schema"
)

// priceNames are the last words of the names of prices.
var priceNames = []string{"price", "cost", "fee", "fare", "rent"}

// isPrice tells whether a field is a price, or one in hundredths.
func isPrice(field string) bool {
	return slices.Contains(priceNames, sizeWord(field))
}

// priced fills a number with prices.
func (c *column) priced(p *Plan) {
	cents := c.axis.scale / 100 // the places of the axis in a hundredth
	if c.Type.Kind.Whole() && strings.HasSuffix(strings.ToLower(c.Field), "cents") {
		cents = 1
		if high := int64(50_000); c.soft.high < high && c.hard.high >= high && len(c.bounds) == 0 && c.made == nil {
			c.soft.low, c.soft.high = max(c.soft.low, 100), high
		}
	}
	c.fill = func(r *row, random *fake.Random) any {
		i := c.within(p, r)
		if cents == 0 { // whole ones
			return c.axis.value(min(i.high, max(i.low, fake.Price(random, i.low*100, i.high*100)/100)))
		}
		n := fake.Price(random, (i.low+cents-1)/cents, i.high/cents) * cents
		return c.axis.value(min(i.high, max(i.low, n)))
	}
}

// taxRates are rates that countries have, in percent.
var taxRates = []int64{0, 5, 7, 10, 19, 20, 21, 22, 25}

func isTaxRate(field string) bool {
	words := strings.Split(strings.ToLower(field), "_")
	return slices.ContainsFunc(words, func(w string) bool { return w == "vat" || w == "tax" }) &&
		slices.Contains([]string{"rate", "vat", "tax", "percent", "pct"}, words[len(words)-1])
}

// taxed fills a number with rates of taxes, as far as it may have them.
func (c *column) taxed() {
	fill, scale := c.fill, c.axis.scale
	c.fill = func(r *row, random *fake.Random) any {
		i, n := c.may(r), taxRates[random.Below(uint64(len(taxRates)))]*scale
		if n < i.low || n > i.high {
			return fill(r, random)
		}
		return c.axis.value(n)
	}
}

// spans lets the least of something not be more than the most of it, where the names of two
// numbers say so: min_price and max_price.
func (p *Plan) spans(l *Line) {
	ends := [][2]string{
		{"min", "max"},
		{"low", "high"},
		{"from", "to"},
		{"lower", "upper"},
		{"start", "end"},
		{"minimum", "maximum"},
	}
	for _, a := range l.columns {
		for _, b := range l.columns {
			if a.axis == nil || b.axis == nil || a == b || !a.Type.Kind.Number() || !b.Type.Kind.Number() || a.said ||
				b.said || a.hard == (interval{}) || b.hard == (interval{}) || l.looks(a, b, 0) {
				continue
			}
			for _, e := range ends {
				words, of := strings.Split(strings.ToLower(a.Field), "_"), strings.ToLower(b.Field)
				at := slices.Index(words, e[0])
				if at < 0 || len(words) < 2 {
					continue
				}
				if words[at] = e[1]; strings.Join(words, "_") == of {
					b.bounds = append(b.bounds, bound{">=", a.at})
					b.needs = append(b.needs, a.at)
				}
			}
		}
	}
}

// totals lets a total be the price times the quantity, where a row has both.
func (p *Plan) totals(l *Line) {
	find := func(names ...string) *column {
		for _, name := range names {
			for _, c := range l.columns {
				if strings.EqualFold(c.Field, name) && c.axis != nil && c.Type.Kind.Number() && c.fill != nil &&
					c.pick == nil {
					return c
				}
			}
		}
		return nil
	}
	total, count, price := find("total", "line_total", "total_price", "subtotal", "amount"), find("quantity",
		"qty"), find("unit_price", "price", "unit_cost")
	if total == nil || count == nil || price == nil || total.said || total.made != nil || p.leftToDefault(l, total) ||
		total.Type.Kind.Whole() && !price.Type.Kind.Whole() || total.Type.Kind == schema.Real ||
		l.looks(count, total, 0) || l.looks(price, total, 0) || total.domain == nil {
		return
	}
	fill := total.fill
	total.follows = []string{count.Field, price.Field}
	total.needs = append(total.needs, count.at, price.at)
	total.fill = func(r *row, random *fake.Random) any {
		n, ok1 := count.axis.place(r.cells[count.at])
		each, ok2 := price.axis.place(r.cells[price.at])
		if !ok1 || !ok2 {
			return fill(r, random)
		}
		at := float64(n) / float64(count.axis.scale) * float64(each) / float64(
			price.axis.scale,
		) * float64(total.axis.scale)
		if i := total.may(r); at >= float64(i.low) && at <= float64(i.high) {
			return total.axis.value(int64(at + 0.5))
		}
		return fill(r, random)
	}
}
