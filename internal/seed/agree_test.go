package seed

// This file holds what the fields of a row say against each other, and against the rows that
// it refers to: a table of rules, none of which a row may break.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"erbario/internal/fake"
)

const nursery = `choice Progress: pending, paid, shipped, delivered, returned, cancelled

model Country
    name text(60) unique
    code text(2) unique

model Branch
    country references Country
    city text(60)
    region text(60)
    postcode text(12)
    timezone text(40)
    latitude decimal(8,5)
    longitude decimal(8,5)
    opened_on date

model Visitor
    first_name text(40)
    last_name text(40)
    full_name text(80)
    username text(80) unique
    email text(120) unique
    gender choice(female, male, other)
    birth_date date
    city text(60)
    region text(60)
    postcode text(12)
    country text(60)
    country_code text(2)
    currency text(3)
    timezone text(40)
    locale text(8)
    billing_city text(60)
    billing_country_code text(2)
    lat double
    lng double
    is_deleted boolean
    registered_at timestamp
    last_login_at timestamp optional
    timestamps
    soft delete with children

model Request
    visitor references Visitor
    branch references Branch
    status Progress
    ordered_at timestamp
    paid_at timestamp optional
    shipped_at timestamp optional
    delivered_at timestamp optional
    cancelled_at timestamp optional
    cancellation_reason text(200) optional
    tracking_number text(20) optional
    is_paid boolean
    quantity smallint range 1..20
    unit_price decimal(8,2)
    total decimal(12,2)
    timestamps
    soft delete

model Review
    request references Request
    rating smallint range 1..5
    comment text(400)
    review text(400)
    created_at timestamp

model Course
    title text(80)
    valid_from date
    valid_to date
    meeting_at timestamp
    starts_at timestamp
    ends_at timestamp
    check_in date
    check_out date
    min_price decimal(8,2)
    max_price decimal(8,2)
    timestamps

seed demo
    Country 22
    Branch 60
    Visitor 1200
        deleted 5%
        Request 1..4
            deleted 3%
            Review 0..1
    Course 500
`

// rule says what is wrong with a row; "" where nothing is.
type rule struct {
	table, name string
	broken      func(row map[string]any) bool
}

func text(row map[string]any, column string) string { return textOf(row[column]) }

// order is a rule that the first of two times does not lie behind the second, where both are.
func order(table, early, late string) rule {
	return rule{table, early + " before " + late, func(r map[string]any) bool {
		a, b := text(r, early), text(r, late)
		n := min(len(a), len(b))
		return a != "" && b != "" && a[:n] > b[:n]
	}}
}

func TestAgreement(t *testing.T) {
	for _, random := range []uint64{1, 2, 3} {
		rows := made(t, Options{Random: random}, nursery)
		by := func(table string) map[any]map[string]any {
			out := map[any]map[string]any{}
			for _, r := range rows[table] {
				out[r["id"]] = r
			}
			return out
		}
		countries, branches, visitors, requests := by("countries"), by("branches"), by("visitors"), by("requests")
		places := map[string][]*fake.Place{}
		for _, p := range fake.Places(false) {
			places[p.Town] = append(places[p.Town], p)
		}
		in := func(town string, holds func(p *fake.Place) bool) bool {
			return slices.ContainsFunc(places[town], holds)
		}
		number := func(r map[string]any, column string) float64 {
			f, err := strconv.ParseFloat(text(r, column), 64)
			require.NoError(t, err, column)
			return f
		}
		parent := func(of map[any]map[string]any, key, born string, columns ...string) func(r map[string]any) bool {
			return func(r map[string]any) bool {
				up := text(of[r[key]], born)
				return slices.ContainsFunc(columns, func(c string) bool {
					at := text(r, c)
					return at != "" && at[:min(len(at), len(up))] < up[:min(len(at), len(up))]
				})
			}
		}
		stage := func(r map[string]any) int {
			return slices.Index([]string{"cancelled", "pending", "paid", "shipped", "delivered", "returned"},
				text(r, "status"))
		}
		now := "2026-01-01 12:00:00"
		later := func(columns ...string) func(r map[string]any) bool {
			return func(r map[string]any) bool {
				return slices.ContainsFunc(columns, func(c string) bool { return text(r, c) > now })
			}
		}
		rules := []rule{
			{"countries", "the code of the country", func(r map[string]any) bool {
				return !slices.ContainsFunc(fake.Countries(),
					func(p *fake.Place) bool { return p.Country == text(r, "name") && p.Code == text(r, "code") })
			}},
			{"branches", "a town of the country that is referred to", func(r map[string]any) bool {
				return !in(text(r, "city"), func(p *fake.Place) bool {
					return p.Code == text(countries[r["country_id"]], "code") && p.Region == text(r, "region") &&
						p.Postcode == text(r, "postcode") && p.Zone == text(r, "timezone")
				})
			}},
			{"branches", "coordinates of the town", func(r map[string]any) bool {
				return !in(text(r, "city"), func(p *fake.Place) bool {
					return abs(p.Latitude-number(r, "latitude")) < 0.03 &&
						abs(p.Longitude-number(r, "longitude")) < 0.03
				})
			}},
			{"visitors", "one place", func(r map[string]any) bool {
				return !in(text(r, "city"), func(p *fake.Place) bool {
					return p.Region == text(r, "region") && p.Postcode == text(r, "postcode") && p.Country == text(r, "country") && p.Code == text(r, "country_code") && p.Currency == text(r, "currency") &&
						p.Zone == text(r, "timezone") && p.Locale() == text(r, "locale") &&
						abs(p.Latitude-number(r, "lat")) < 0.03 && abs(p.Longitude-number(r, "lng")) < 0.03
				})
			}},
			{"visitors", "the place of the bill", func(r map[string]any) bool {
				return !in(text(r, "billing_city"),
					func(p *fake.Place) bool { return p.Code == text(r, "billing_country_code") })
			}},
			{"visitors", "one name", func(r map[string]any) bool {
				whole, user := text(r, "first_name")+" "+text(r, "last_name"), text(r, "username")
				first := fake.Lookup("username").
					Make(&fake.Want{Random: &fake.Random{}, Row: func(f string) string { return text(r, f) }})
				return text(r, "full_name") != whole || !strings.HasPrefix(user, first) ||
					!strings.HasPrefix(text(r, "email"), user)
			}},
			{
				"visitors",
				"the gender of the first name",
				func(r map[string]any) bool { return text(r, "gender") == "other" },
			},
			{
				"visitors",
				"not deleted",
				func(r map[string]any) bool { return r["is_deleted"] != (r["deleted_at"] != nil) },
			},
			{"visitors", "of age", func(r map[string]any) bool { return text(r, "birth_date") > "2008-01-02" }},
			order("visitors", "created_at",
				"registered_at"), order("visitors", "registered_at", "last_login_at"), order("visitors", "created_at", "updated_at"), order("visitors", "last_login_at", "deleted_at"),
			order("visitors", "updated_at", "deleted_at"),
			{
				"visitors",
				"not in the future",
				later("registered_at", "last_login_at", "created_at", "updated_at", "deleted_at"),
			},
			order("requests", "ordered_at",
				"paid_at"), order("requests", "paid_at", "shipped_at"), order("requests", "shipped_at", "delivered_at"), order("requests", "ordered_at", "cancelled_at"),
			order("requests", "created_at",
				"updated_at"), order("requests", "delivered_at", "deleted_at"), order("requests", "created_at", "ordered_at"),
			{
				"requests",
				"not older than the visitor",
				parent(visitors, "visitor_id", "created_at", "ordered_at", "paid_at", "created_at", "updated_at"),
			},
			{
				"requests",
				"not older than the branch",
				parent(branches, "branch_id", "opened_on", "ordered_at", "created_at"),
			},
			{
				"requests",
				"not in the future",
				later("ordered_at", "paid_at", "shipped_at", "delivered_at", "cancelled_at", "created_at"),
			},
			{"requests", "paid", func(r map[string]any) bool { return (r["paid_at"] != nil) != (stage(r) >= 2) }},
			{"requests", "shipped", func(r map[string]any) bool { return (r["shipped_at"] != nil) != (stage(r) >= 3) }},
			{
				"requests",
				"delivered",
				func(r map[string]any) bool { return (r["delivered_at"] != nil) != (stage(r) >= 4) },
			},
			{
				"requests",
				"cancelled",
				func(r map[string]any) bool { return (r["cancelled_at"] != nil) != (stage(r) == 0) },
			},
			{
				"requests",
				"why cancelled",
				func(r map[string]any) bool { return r["cancellation_reason"] != nil && stage(r) != 0 },
			},
			{
				"requests",
				"the parcel",
				func(r map[string]any) bool { return r["tracking_number"] != nil && stage(r) < 3 },
			},
			{"requests", "the flag", func(r map[string]any) bool { return r["is_paid"] != (r["paid_at"] != nil) }},
			{"requests", "the total", func(r map[string]any) bool {
				return abs(number(r, "quantity")*number(r, "unit_price")-number(r, "total")) > 0.006
			}},
			{"reviews", "not older than the request", parent(requests, "request_id", "created_at", "created_at")},
			{"reviews", "the mood", func(r map[string]any) bool {
				good := slices.ContainsFunc([]string{"I would buy it again", "Better than", "well made", "well packed"},
					func(s string) bool { return strings.Contains(text(r, "review"), s) })
				return good && number(r, "rating") < 3
			}},
			order("courses", "valid_from",
				"valid_to"), order("courses", "starts_at", "ends_at"), order("courses", "check_in", "check_out"), order("courses", "created_at", "starts_at"),
			{"courses", "a length to be believed", func(r map[string]any) bool {
				return apartBy(t, text(r, "starts_at"), text(r, "ends_at")) > 6*time.Hour ||
					apartBy(t, text(r, "check_in"), text(r, "check_out")) > 14*24*time.Hour ||
					apartBy(t, text(r, "valid_from"), text(r, "valid_to")) < 29*24*time.Hour
			}},
			{"courses", "on a weekday, in hours of work", func(r map[string]any) bool {
				at, err := time.Parse(time.DateTime, text(r, "meeting_at"))
				require.NoError(t, err)
				return at.Weekday() == time.Saturday || at.Weekday() == time.Sunday || at.Hour() < 8 || at.Hour() >= 18
			}},
			{
				"courses",
				"from the least to the most",
				func(r map[string]any) bool { return number(r, "min_price") > number(r, "max_price") },
			},
		}
		looked := 0
		for _, list := range rows {
			looked += len(list)
		}
		require.Greater(t, looked, 5000)
		for _, rule := range rules {
			require.NotEmpty(t, rows[rule.table], rule.table)
			broken := 0
			var first map[string]any
			for _, r := range rows[rule.table] {
				if rule.broken(r) {
					if broken++; first == nil {
						first = r
					}
				}
			}
			require.Zero(t, broken, "%s, %s: %d of %d rows, first %s", rule.table, rule.name, broken,
				len(rows[rule.table]), fmt.Sprint(first))
		}
		statuses, prices, cheap := map[string]int{}, 0, 0
		for _, r := range rows["requests"] {
			statuses[text(r, "status")]++
			if strings.HasSuffix(text(r, "unit_price"), ".99") {
				prices++
			}
			if number(r, "unit_price") < 100 {
				cheap++
			}
		}
		require.Len(t, statuses, 6)
		require.Greater(t, prices*5, len(rows["requests"]), "prices end as prices do")
		require.Greater(t, cheap*2, len(rows["requests"]), "most prices are small")
	}
}

func abs(f float64) float64 { return max(f, -f) }

func apartBy(t *testing.T, early, late string) time.Duration {
	form := time.DateOnly
	if len(early) > 10 {
		form = time.DateTime
	}
	a, err := time.Parse(form, early)
	require.NoError(t, err)
	b, err := time.Parse(form, late)
	require.NoError(t, err)
	return b.Sub(a)
}

// Times that the seed itself gives are kept to by the rows that they refer to, rows that close
// a circle are no exception, and nothing is done for a row that was deleted.
func TestAgreementWithWhatIsSaid(t *testing.T) {
	rows := made(t, Options{Random: 4}, `model Guild
    name text(40)
    head references Member optional
    created_at timestamp

model Member
    guild references Guild
    full_name text(60)
    created_at timestamp
    soft delete

model Purchase
    member references Member
    ordered_at timestamp
    paid_at timestamp
    delivered_at timestamp
    created_at timestamp

seed demo
    Guild 20
        Member 10
            deleted 20%
            Purchase 3
                paid_at 2021-01-01..2021-12-31
        Member 10
            deleted 30%
            Purchase 2
`)
	members, guilds := map[any]map[string]any{}, map[any]map[string]any{}
	for _, r := range rows["members"] {
		members[r["id"]] = r
	}
	for _, r := range rows["guilds"] {
		guilds[r["id"]] = r
	}
	bought, deleted := 0, 0
	for _, r := range rows["purchases"] {
		m := members[r["member_id"]]
		require.LessOrEqual(t, text(r, "ordered_at"), text(r, "paid_at"), "%v", r)
		require.LessOrEqual(t, text(r, "paid_at"), text(r, "delivered_at"), "%v", r)
		require.LessOrEqual(t, text(m, "created_at"), text(r, "ordered_at"), "%v of %v", r, m)
		require.LessOrEqual(t, text(guilds[m["guild_id"]], "created_at"), text(m, "created_at"))
		if strings.HasPrefix(text(r, "paid_at"), "2021") {
			bought++
		} else if gone := text(m, "deleted_at"); gone != "" {
			deleted++
			require.LessOrEqual(t, text(r, "created_at"), gone, "%v of %v", r, m)
		}
	}
	require.Equal(t, 600, bought)
	require.Greater(t, deleted, 20)
}
