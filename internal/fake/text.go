package fake

// This file is sentences: patterns for each kind of text, whose words fit each other. A text
// that has only so much room gets fewer sentences, rather than one that is cut off.

import (
	"fmt"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"
)

// slots are the words that stand for one in braces.
var slots = sync.OnceValue(func() map[string][]string {
	return map[string][]string{
		"o": strings.Fields(
			"lantern mirror basket kettle candle compass saddle ladder drawer cabinet whistle ribbon journal letter feather window key bench",
		),
		"p": strings.Fields(
			"meadow harbour orchard garden valley courtyard workshop library gallery terrace pavilion greenhouse cellar cottage lighthouse quarry vineyard station",
		),
		"t": strings.Fields("willow maple cedar clover heather thistle bramble fern hazel rowan"),
		"q": strings.Fields(
			"quiet silver golden hidden open old new small tall narrow wide bright pale plain green blue amber grey round long short wooden simple sturdy slender spare",
		),
		"w": strings.Fields("Monday Tuesday Wednesday Thursday Friday Saturday Sunday"),
		"m": strings.Fields("January February March April May June July August September October November December"),
		"n": strings.Fields("two three four five six seven eight nine ten eleven twelve"),
		"c": strings.Fields("white grey green blue red brown amber black"),
	}
})

// patterns are sentences by the kind of text.
var patterns = sync.OnceValue(func() map[string][]string {
	return map[string][]string{
		"description": {
			"A {q} {o}, made by hand and finished in {c}.", "A {q} {o} for the {p}, with a {o} to match.", "A {q} {o} that was made for a {p}.",
			"It folds flat and is light enough to carry.", "Suited to a small {p} or a {q} room.", "The {c} finish keeps well and is easy to clean.", "Comes with a {q} {o} and written instructions.",
			"All parts can be had singly.", "It was restored in {m} and is in good order.", "The edges are a little worn, the rest is as new.", "There are {n} of them, each with its number.",
		},
		"comment": {
			"Could we move this to {w}?", "Looks right to me.", "Please look at the {o} again before {w}.", "I agree, the {q} one is better.", "The {o} still has no label.", "Thanks, that answers my question.",
			"I saw it near the {p} yesterday.", "Let us wait until {m}.", "The {q} {o} is the one that we meant.", "Who has the {o} now?", "Done, and written down in the {q} {o}.", "There are {n} more like it in the {p}.",
		},
		"praise": {
			"Better than I had hoped.", "It came early and well packed.", "I would buy it again.", "The {o} is well made.", "We use it every {w}.", "It looks fine in the {p}.", "The {c} one is even nicer than in the picture.", "My neighbour wants one, too.", "After {n} months it is as good as new.",
		},
		"doubt": {
			"It does what it should, nothing else.", "Good, though the {o} could be sturdier.", "The colour is not quite the one in the picture.", "It took {n} days to arrive.", "Fine for the {p}, too small for anything else.", "The {o} is good, the instructions are not.",
		},
		"blame": {
			"The {o} broke within {n} days.", "It came late, and without the {o}.", "I sent it back.", "It is not what the description says.", "Nobody answered my letters.", "The {c} paint comes off.", "Too dear for what it is.",
		},
		"note": {
			"Call back on {w} about the {o}.", "The label is faded; a copy lies in the {q} drawer.", "Left with the porter at the {p}.", "Needs a second look in {m}.", "Looked at on {w}: nothing to do.", "The key hangs behind the {q} {o}.",
			"Found under the {t} near the {p}.", "Keep away from the {o}.", "Ask about the {q} {o} first.", "One of {n}; the others are in the {p}.", "To be returned by {m}.", "Wrapped in {c} paper.",
		},
		"bio": {
			"Grew up near a {p} and came back to it.", "Writes about the {t} and keeps a small {p}.", "Has worked with wood and glass for {n} years.", "Likes long walks, {q} rooms and strong tea.", "Draws every {w}, mostly the {t} behind the house.",
			"Teaches {n} evenings a week.", "Once repaired the {o} of a whole street.", "Collects old maps and reads them, too.", "Lives with {n} cats and a {q} {o}.",
		},
		"message": {
			"Is the {q} {o} still to be had?", "Thank you for the quick answer.", "We come on {w} at {n} o'clock.", "Could you send the papers for the {o}?", "The {p} is closed on {w}.", "I left the {o} with your neighbour.", "Please tell me when the {q} one is there.", "We would take {n} of them.", "Many thanks, and good wishes from the {p}.",
		},
		"reason": {
			"Ordered twice by mistake", "Does not fit", "Arrived damaged", "No longer needed", "Wrong colour", "Moved to {w}", "Put off until {m}", "The {o} was missing", "The {p} is closed on {w}", "Another one was cheaper", "Asked for by the customer", "The address was wrong", "Taken back after {n} days",
		},
		"instructions": {
			"Keep dry and out of the sun.", "Open from the {c} side.", "Lift by the {o}, not by the handle.", "Leave at the {p} if nobody is there.", "Ring {n} times.", "Use the door behind the {t}.", "Wipe with a damp cloth on {w}.", "Handle the {q} {o} with care.",
		},
		"task": {
			"Repair the {q} {o}", "The {o} in the {p} is missing", "Move the {o} to the {p}", "Ask for {n} more of the {q} ones", "Clean the {p} before {w}", "The {o} does not open", "Write a label for the {q} {o}", "Look for the key of the {p}", "No light in the {p}", "Return the {o} by {w}",
		},
		"place": {
			"The {q} {p}", "{t} {p}", "Upper {p}", "Lower {p}", "Behind the {t}", "By the {q} {p}", "{q} {t}", "Near the {p}", "The {t} {p}", "{t} lane",
		},
		"article": {
			"What a {q} {o} tells", "A {m} in the {p}", "The {o} that nobody missed", "{n} ways to repair a {o}", "Why the {p} stands open", "Under the {t}", "A visit to the {q} {p}", "From the {p} to the {p}", "The last {o} of {m}", "How to keep a {o} dry",
		},
		"paragraph": {
			"The {q} {o} stands beside the {p}.", "Nobody has used the {p} since {m}.", "On {w} the {o} was carried into the {p}.", "Behind the {t} there is a {q} door.", "It took {n} people to move the {o}.", "What remained was a {q} {o} and a letter.",
			"In {m} the {p} is open until dusk.", "The {t} has grown over the {q} wall.", "A {q} {o} hung in the {p} for {n} years.", "Whoever comes on {w} finds the {p} empty.", "The {o} is older than the {p} itself.", "From the {p} one sees as far as the {t}.",
		},
	}
})

// textKinds are the generators of texts, with what they make and how many sentences they
// have unless it is said.
var textKinds = []struct {
	name, about string
	from, to    int64
}{
	{"description", "of a thing: A quiet lantern, made by hand and finished in grey.", 1, 3},
	{"comment", "Could we move this to Friday?", 1, 2},
	{"review", "of something bought; it fits the row's rating or stars, where it has them", 1, 3},
	{"note", "Left with the porter at the gallery.", 1, 1},
	{"bio", "of a person: Grew up near a harbour and came back to it.", 1, 3},
	{"message", "to somebody: Thank you for the quick answer.", 1, 2},
	{"reason", "Ordered twice by mistake", 1, 1},
	{"instructions", "Keep dry and out of the sun.", 1, 2},
}

// ratings are the fields that say how good a review is.
var ratings = []string{"rating", "stars", "score", "grade"}

// texts are the generators of this file.
func texts() []Generator {
	sentences := []Arg{{What: "sentences", Number: true, Optional: true}}
	var out []Generator
	for _, k := range textKinds {
		g := Generator{
			Name:  k.name,
			About: k.about,
			Args:  sentences,
			make:  func(w *Want) string { return text(w, k.name, k.from, k.to) },
		}
		if k.name == "review" {
			g.From = ratings
			g.make = func(w *Want) string { return text(w, mood(w), k.from, k.to) }
		}
		out = append(out, g)
	}
	return append(
		out,
		Generator{
			Name:  "sentence",
			About: "a sentence; of so many words",
			Args:  []Arg{{What: "words", Number: true, Optional: true}},
			make:  func(w *Want) string { return sentence(w.Random, number(w, 0, int(w.Random.Between(6, 12)))) },
		},
		Generator{
			Name:  "paragraph",
			About: "several sentences; so many",
			Args:  sentences,
			make:  func(w *Want) string { return text(w, "paragraph", 3, 6) },
		},
	)
}

// mood is how a review sounds: as the row's rating, or mostly content.
func mood(w *Want) string {
	stars, err := strconv.ParseFloat(w.firstOf(ratings), 64)
	if err != nil {
		stars = float64(w.Random.Between(2, 8))
	}
	for stars > 10 { // out of a hundred
		stars /= 10
	}
	if stars > 5 { // out of ten
		stars /= 2
	}
	switch {
	case stars >= 4:
		return "praise"
	case stars >= 2.5:
		return "doubt"
	}
	return "blame"
}

// text is some sentences of a kind, none of them twice, as many as there is room for.
func text(w *Want, kind string, from, to int64) string {
	list := patterns()[kind]
	n := min(number(w, 0, int(w.Random.Between(from, to))), 1000)
	var b []byte
	at, step := int(w.Random.Below(uint64(len(list)))), 1+int(w.Random.Below(uint64(len(list)-1)))
	if n > 1 {
		for !prime(step, len(list)) { // so that all are met
			step = step%(len(list)-1) + 1
		}
	}
	for made, tried := 0, 0; made < n && tried < n+len(list); tried++ {
		size := len(b)
		if size > 0 {
			b = append(b, ' ')
		}
		b = filled(w.Random, b, list[at%len(list)])
		if at += step; w.Length > 0 && utf8.RuneCount(b) > w.Length {
			if size == 0 && tried == n+len(list)-1 {
				break // none fits, so this one is cut
			}
			b = b[:size]
			continue
		}
		made++
	}
	return string(b)
}

// prime tells whether two numbers have no divisor in common.
func prime(a, b int) bool {
	for b > 0 {
		a, b = b, a%b
	}
	return a == 1
}

// filled puts a pattern behind a text, with a word in each of its slots.
func filled(r *Random, b []byte, pattern string) []byte {
	for {
		before, rest, ok := strings.Cut(pattern, "{")
		b = append(b, before...)
		if !ok {
			return b
		}
		slot, after, _ := strings.Cut(rest, "}")
		word := r.Of(slots()[slot])
		if n := len(b); n >= 2 && (b[n-2]|0x20 == 'a') && b[n-1] == ' ' && (n == 2 || b[n-3] == ' ') &&
			strings.ContainsRune("aeiou", rune(word[0])) {
			b = append(b[:n-1], 'n', ' ')
		}
		if len(b) == 0 {
			word = capital(word)
		}
		b = append(b, word...)
		pattern = after
	}
}

// clauses are what a thing does, and endings what can stand behind that, by the words that
// they have.
var (
	clauses = []string{
		"stands beside the {p}", "hangs in the {p}", "belongs to the {p}", "lies under the {t}", "came from the {p}",
		"leans against the {t}",
	}
	endings = [][]string{
		{
			"again",
			"alone",
			"today",
		}, {"at dusk", "by chance", "on {w}"}, {"without a label", "with two others", "for a while"},
		{
			"as it always did",
			"for all to see",
		}, {"because the {t} gave shade", "since the {p} was closed", "although the {p} was closer"},
	}
)

// sentence is a sentence of n words.
func sentence(r *Random, n int) string {
	b := make([]byte, 0, 80)
	switch n = max(1, n); n {
	case 1:
		return capital(r.Of(slots()["o"])) + "."
	case 2:
		return capital(string(filled(r, b, "{q} {o}.")))
	case 3, 4, 5:
		return string(filled(r, b, []string{"The {q} {o}.", "The {q} {o} shines.", "The {q} {o} is new."}[n-3]))
	}
	for begin := "The"; ; begin = ", and the" {
		size := 6
		if begin != "The" {
			size = 7
		}
		rest := n - size
		b = append(b, begin...)
		if rest > 0 && r.Below(3) > 0 {
			b, rest = filled(r, b, " {q}"), rest-1
		}
		b = filled(r, append(filled(r, b, " {o}"), ' '), r.Of(clauses))
		for used := 0; rest > 0 && (used == 0 || rest < 7); { // a bit for each length that was taken
			k := min(rest, 1+int(r.Below(5)))
			for used>>k&1 == 1 {
				k = k%5 + 1
			}
			if k > rest { // all shorter ones are taken
				for i := range rest {
					b = append(b, [...]string{" once", " and", " again"}[min(i, 2)]...)
				}
				rest = 0
				break
			}
			used |= 1 << k
			b = filled(r, append(b, ' '), r.Of(endings[k-1]))
			rest -= k
		}
		if n = rest; n == 0 {
			return string(append(b, '.'))
		}
	}
}

// price is an amount of money as shops have it: mostly small, and seldom a round one.
func price(w *Want) string {
	low, high := number(w, 0, 1), number(w, 1, 500)
	cents := Price(w.Random, int64(low)*100, int64(max(low, high))*100)
	return fmt.Sprintf("%d.%02d", cents/100, cents%100)
}

// Price is an amount in hundredths between two others: small ones are met more often, and
// most end as prices do.
func Price(r *Random, low, high int64) int64 {
	x := r.Part()
	n := low + int64(x*x*x*float64(high-low))
	end := []int64{99, 99, 99, 99, 50, 50, 0, 0, 0, 95}[r.Below(10)]
	if at := n - n%100 + end; at >= low && at <= high {
		return at
	}
	if at := n - n%100; at >= low && at <= high {
		return at
	}
	return n
}
