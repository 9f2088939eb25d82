package seed

// This file says what the name and the type of a field suggest. A text is known by its whole
// name: what only ends like another name is something else (a mac_address is no street).

import (
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"erbario/internal/fake"
	"erbario/internal/schema"
)

// guesses are generators by the whole name of a text field, with what stands behind them.
var guesses = sync.OnceValue(func() map[string]string {
	out := map[string]string{}
	for names, generator := range map[string]string{
		"email email_address mail mail_address e_mail":       "email",
		"first_name given_name forename firstname":           "first_name",
		"last_name surname family_name lastname maiden_name": "last_name",
		"middle_name second_name":                            "middle_name",
		"gender sex":                                         "gender",
		"full_name fullname person_name contact_name display_name author owner borrower collector": "name",
		"created_by updated_by approved_by signed_by reported_by author_name owner_name editor":    "name",
		"contact contact_person recipient sender manager teacher student doctor patient driver":    "name",
		"username user_name login handle nickname nick screen_name":                                "username",
		"phone phone_number telephone telephone_number mobile mobile_number fax fax_number":        "phone",
		"company company_name firm institution employer organisation organization supplier vendor": "company",
		"manufacturer brand maker publisher carrier organisation_name organization_name client":    "company",
		"job job_title profession occupation job_role":                                             "job",
		"street street_address address_line address_line_1 address1 address_1":                     "street",
		"address full_address postal_address":                                                      "address",
		"city town city_name town_name birthplace birth_place":                                     "city",
		"place location venue origin destination":                                                  "place",
		"region region_name province county district":                                              "region",
		"country country_name nation":                                                              "country",
		"country_code country_iso nationality_code":                                                "country_code",
		"postcode postal_code zip zip_code zipcode post_code":                                      "postcode",
		"url website web_site link homepage home_page web source_url callback_url webhook_url":     "url",
		"image_url photo_url picture_url avatar_url thumbnail_url logo_url avatar image picture":   "image_url",
		"domain domain_name":      "domain",
		"slug permalink url_slug": "slug",
		"title heading headline subject subtitle caption product_name item_name product book_name":  "title",
		"event_name project_name article chapter topic campaign_name category category_name genre":  "title",
		"description summary abstract excerpt introduction short_description details specification": "description",
		"comment comments remark remarks reply answer":                                              "comment",
		"review feedback testimonial review_text opinion":                                           "review",
		"note notes observation observations internal_notes memo":                                   "note",
		"bio biography about about_me profile_text":                                                 "bio",
		"message message_text inquiry question request_text":                                        "message",
		"reason cancel_reason cancellation_reason rejection_reason refund_reason return_reason":     "reason",
		"instructions delivery_instructions special_instructions directions":                        "instructions",
		"text body content article_text long_description story article_body":                        "paragraph",
		"color colour color_name colour_name":                                                       "color",
		"hex_color hex_colour color_code colour_code color_hex":                                     "hex_color",
		"password_hash password_digest hashed_password encrypted_password password":                 "bcrypt",
		"ip ip_address ip_addr ipv4 remote_ip client_ip last_ip":                                    "ip",
		"ipv6 ipv6_address":                                                                  "ipv6",
		"mac mac_address mac_addr hardware_address":                                          "mac",
		"hostname host host_name server server_name":                                         "hostname",
		"user_agent useragent browser":                                                       "user_agent",
		"currency currency_code":                                                             "currency",
		"language language_code lang":                                                        "language",
		"locale locale_code":                                                                 "locale",
		"timezone time_zone tz timezone_name":                                                "timezone",
		"sha256 sha_256 checksum digest content_hash file_hash fingerprint":                  "hash 64",
		"sha1 sha_1 commit commit_hash":                                                      "hash 40",
		"md5 md5_hash etag":                                                                  "hash 32",
		"file_name filename file attachment document original_name":                          "file_name",
		"mime_type content_type media_type mimetype":                                         "mime_type",
		"path file_path filepath storage_path":                                               "path",
		"iban bank_account account_iban":                                                     "iban",
		"vat_number vat_id tax_number tax_id":                                                "random 11 0123456789",
		"version app_version firmware_version software_version release":                      "version",
		"semver package_version":                                                             "semver",
		"price price_text":                                                                   "price",
		"latin_name scientific_name species_name species":                                    "latin",
		"code reference ref number accession sku token serial serial_number barcode key":     "random 10",
		"api_key access_token refresh_token session_token secret reset_token invite_code":    "random 24",
		"coupon_code voucher_code discount_code tracking_number order_number invoice_number": "random 10",
		"tracking_code tracking_id booking_reference confirmation_code":                      "random 10",
		"street_name road road_name":                                                         "street_name",
		"house_number street_number building_number":                                         "house_number",
		"latitude lat":      "latitude",
		"longitude lon lng": "longitude",
	} {
		for _, name := range strings.Fields(names) {
			out[name] = generator
		}
	}
	return out
})

// qualifiers may stand before a name that is known: the billing_email is a mail, too.
var qualifiers = strings.Fields(
	"billing shipping delivery home work office private business personal primary secondary main alternative other old new from to mailing postal legal current previous default",
)

// roles are people who have something to do with a row; alone, or before what is said of them.
var roles = strings.Fields(
	"author owner sender recipient manager guest member employee reporter assignee reviewer editor translator applicant donor tenant landlord spouse patient doctor nurse teacher student driver passenger pilot contact emergency supervisor buyer seller candidate interviewer speaker organizer organiser visitor customer user creator approver requester technician inspector curator borrower collector",
)

// GuessOf gives the generator that the name of a text field suggests, with what stands behind
// it, such as "hash 64"; empty: the name suggests none.
func GuessOf(name string) string {
	name = strings.ToLower(name)
	if g := guesses()[name]; g != "" {
		return g
	}
	first, rest, ok := strings.Cut(name, "_")
	switch {
	case ok && rest == "name" && slices.Contains(roles, first), !ok && slices.Contains(roles, name):
		return "name"
	case ok && (slices.Contains(qualifiers, first) || slices.Contains(roles, first)):
		return guesses()[rest]
	}
	return ""
}

// GuessedNames are the names of text fields that suggest a generator, in order.
func GuessedNames() []string { return slices.Sorted(maps.Keys(guesses())) }

// people are models whose name is a person's.
var people = []string{
	"person", "user", "author", "member", "customer", "employee", "contact", "collector", "borrower", "visitor",
	"student", "teacher", "owner", "botanist", "gardener", "curator", "account",
}

// guess is the generator for a text without one.
func (p *Plan) guess(l *Line, c *column) *schema.Fake {
	name, length := strings.ToLower(c.Field), c.Type.Length
	fits := func(n int) bool { return length == 0 || length >= n }
	if words := strings.Fields(p.known(l, c)); len(words) > 0 {
		f := &schema.Fake{Generator: words[0], Args: words[1:]}
		switch f.Generator {
		case "bcrypt":
			if fits(60) {
				f.Args = []string{"password"}
				return f
			}
			return &schema.Fake{Generator: "random", Args: []string{strconv.Itoa(min(10, length))}}
		case "random", "hash":
			if n, _ := strconv.Atoi(f.Args[0]); !fits(n) {
				f.Args = []string{strconv.Itoa(length)}
			}
			return f
		case "country":
			if !fits(4) {
				f.Generator = "country_code"
			}
		case "description", "comment", "review", "note", "bio", "message", "instructions", "sentence", "paragraph":
			if !fits(40) {
				f.Generator = "title"
			}
		}
		if n := fake.Longest(f.Generator, f.Args); fits(n) ||
			!fake.Whole(f.Generator) && fits(n/2) { // else most of it would be cut off
			return f
		}
	}
	if slices.Equal(l.Table.Key, []string{c.Name}) {
		n := 10
		if length > 0 {
			n = min(n, length)
		}
		return &schema.Fake{Generator: "random", Args: []string{strconv.Itoa(n)}}
	}
	if name == "name" && p.person(l.Table) {
		return &schema.Fake{Generator: "name"}
	}
	if name == "name" || name == "label" {
		return &schema.Fake{Generator: "title"}
	}
	words := strings.ReplaceAll(c.Field, "_", " ")
	if !fits(utf8.RuneCountInString(words) + 4) {
		return &schema.Fake{Generator: "random", Args: []string{strconv.Itoa(min(10, length))}}
	}
	return &schema.Fake{Generator: "plain", Args: []string{words}}
}

// titled are models by what their titles are about.
var titled = map[string][]string{
	"task":  strings.Fields("ticket issue task todo case incident request bug job order workorder"),
	"place": strings.Fields("locality place site location spot venue hall stop area zone park"),
	"article": strings.Fields(
		"article post page news blogpost story lesson course chapter event talk lecture newsletter campaign",
	),
}

// named are the generators by which the name of a model tells what its rows are called.
var named = []string{"company", "country", "city", "region", "job", "color", "latin", "file_name", "street_name"}

// known is the generator that a column's name suggests in its table; empty: none.
func (p *Plan) known(l *Line, c *column) string {
	name := strings.ToLower(c.Field)
	has := func(kind string) bool {
		return slices.ContainsFunc(l.plan.columns,
			func(o *schema.Column) bool { return o.Name != c.Name && GuessOf(o.Field) == kind })
	}
	of := kindIn(l.Table, c.Column)
	switch {
	case name == "name":
		if of = GuessOf(snake(l.Table.Model)); !slices.Contains(named, of) {
			of = ""
			if slices.Contains(titled["place"], strings.ToLower(l.Table.Model)) {
				of = "title place"
			}
		}
	case name == "state" && has("city"):
		of = "region"
	case of == "address" && has("city"):
		of = "street"
	case of == "title":
		for kind, models := range titled {
			if slices.Contains(models, strings.ToLower(l.Table.Model)) {
				of += " " + kind
			}
		}
	}
	return of
}

// person tells whether the rows of a table are people.
func (p *Plan) person(t *schema.Table) bool {
	return slices.Contains(people, strings.ToLower(t.Model)) ||
		slices.ContainsFunc(t.Columns, func(c *schema.Column) bool {
			return strings.HasSuffix(c.Field, "email") || strings.HasPrefix(c.Field, "birth") || c.Field == "born_on"
		})
}

// NumberOf gives the range in which numbers of a field with that name are believable.
func NumberOf(name string) (low, high float64, ok bool) {
	at, ok := sizes()[name]
	return at[0], at[1], ok
}

// NumberNames are the names of numbers that suggest a range, in order.
func NumberNames() []string { return slices.Sorted(maps.Keys(sizes())) }

// sizes are believable numbers by the words of a name.
var sizes = sync.OnceValue(func() map[string][2]float64 {
	return map[string][2]float64{
		"age": {
			18,
			90,
		}, "quantity": {1, 20}, "count": {0, 50}, "price": {1, 500}, "amount": {1, 1000}, "cost": {1, 500},
		"total": {1, 1000}, "percent": {0, 100}, "percentage": {0, 100}, "share": {0, 100},
		"rating": {
			1,
			5,
		}, "score": {0, 100}, "latitude": {-60, 70}, "lat": {-60, 70}, "longitude": {-180, 180}, "lon": {-180, 180},
		"lng": {-180, 180}, "elevation": {0, 2500}, "altitude": {0, 2500},
		"weight": {
			0.1,
			100,
		}, "height": {1, 250}, "width": {1, 250}, "length": {1, 250}, "depth": {1, 250}, "position": {1, 100},
		"rank": {1, 100}, "level": {1, 10}, "version": {1, 10}, "year": {0, 0},
		"month": {
			1,
			12,
		}, "day": {1, 28}, "hour": {0, 23}, "minute": {0, 59}, "weekday": {1, 7}, "stars": {1, 5},
		"temperature": {-10, 35}, "humidity": {20, 95}, "salary": {24000, 90000}, "wage": {12, 60},
		"population": {
			200,
			900000,
		}, "bytes": {200, 4000000}, "rate": {0, 25}, "tax": {0, 25}, "vat": {0, 25}, "discount": {0, 40},
		"seats": {1, 60}, "floor": {0, 12}, "floors": {1, 12}, "rooms": {1, 12}, "pages": {8, 900},
		"guests": {
			1,
			6,
		}, "people": {1, 8}, "persons": {1, 8}, "participants": {4, 40}, "attendees": {10, 200}, "adults": {1, 4},
		"children": {0, 4}, "capacity": {4, 200}, "copies": {1, 12}, "tickets": {1, 6},
		"days": {
			1,
			30,
		}, "nights": {1, 14}, "hours": {1, 40}, "minutes": {5, 180}, "seconds": {1, 600}, "weeks": {1, 12},
		"months": {1, 24}, "years": {1, 10}, "items": {1, 20}, "units": {1, 100}, "employees": {1, 500},
		"bedrooms": {
			1,
			5,
		}, "bathrooms": {1, 3}, "stops": {0, 4}, "chapters": {3, 40}, "tracks": {6, 18}, "lines": {1, 400},
		"words": {50, 4000}, "comments": {0, 60}, "shares": {0, 300}, "downloads": {0, 9000}, "retries": {0, 5},
		"duration": {
			1,
			240,
		}, "distance": {1, 900}, "speed": {1, 130}, "pressure": {950, 1050}, "stock": {0, 500}, "views": {0, 20000},
		"likes": {0, 2000}, "votes": {0, 2000}, "attempts": {0, 5}, "priority": {1, 5},
		"port": {
			1024,
			49151,
		}, "volume": {1, 500}, "area": {5, 5000}, "balance": {0, 5000}, "fee": {1, 200}, "points": {0, 1000},
		"progress": {0, 100}, "order": {1, 100}, "sequence": {1, 100}, "size": {1, 100},
	}
})

// sizeWord is the word of a number's name that tells how large it is: the last but a unit.
func sizeWord(name string) string {
	words := strings.Split(strings.ToLower(name), "_")
	if n := len(words); n > 1 && slices.Contains(units, words[n-1]) {
		words = words[:n-1]
	}
	return words[len(words)-1]
}

// sized tells whether the name of a number says how large it is.
func (c *column) sized() bool {
	_, ok := sizes()[sizeWord(c.Field)]
	return ok || slices.Contains(strings.Split(strings.ToLower(c.Field), "_"), "year")
}

// units are the endings of names that tell the unit of a number.
var units = []string{"m", "cm", "mm", "km", "g", "kg", "mg", "s", "ms", "pct", "eur", "usd", "cents"}

// believable is the part of its axis in which a column's values are believable,
// and whether that may lie behind today.
func (p *Plan) believable(c *column) (soft interval, ahead bool) {
	name, x := strings.ToLower(c.Field), c.axis
	words := strings.Split(name, "_")
	has := func(list ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return slices.Contains(list, w) })
	}
	years := func(from, to float64) interval {
		i := interval{p.today - int64(from*365.25), p.today - int64(to*365.25)}
		if x.moment() {
			i = interval{i.low * daySeconds, i.high * daySeconds}
		}
		return i
	}
	switch {
	case x.kind == schema.Time:
		return interval{8 * 3600, 18*3600 - 1}, true
	case x.kind == schema.Date || x.moment():
		switch {
		case momentOf(name).stage == planned:
			return years(1, -0.5), true
		case has("founded", "established", "built"):
			return years(80, 4), false
		case has("birth", "born", "birthday", "birthdate"):
			return years(80, 18), false
		case has("due", "expires", "expiry", "until", "end", "ends", "valid", "next", "deadline"):
			return years(0, -1), true
		}
		return years(3, 0), false
	}
	at, ok := sizes()[sizeWord(name)]
	if !ok {
		at = [2]float64{1, 1000}
	}
	if has("year") {
		year := 1970 + float64(p.today)/365.2425
		at = [2]float64{math.Floor(year) - 30, math.Floor(year)}
		if has("birth", "born") {
			at = [2]float64{math.Floor(year) - 80, math.Floor(year) - 18}
		}
	}
	low, _ := x.place(at[0])
	high, _ := x.place(at[1])
	return interval{max(low, x.low), min(high, x.high)}, true
}
