package fake

// This file is the stream of random numbers that one value is made from. Every
// value of every row has a stream of its own, told by numbers that say whose it
// is: so a row stays the same when rows or fields are added beside it, and it
// does not matter in which order, or on how many cores, values are made.

import "math/bits"

// Random is a stream of random numbers. The zero value is a stream too.
type Random struct{ state uint64 }

// NewRandom is the stream that belongs to the numbers.
func NewRandom(of ...uint64) Random {
	var state uint64
	for _, n := range of {
		state = Mix(state ^ Mix(n))
	}
	return Random{state}
}

// Mix turns a number into one that looks like any other (the finish of
// SplitMix64, Steele, Lea and Flood 2014).
func Mix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Hash is a number for a text (FNV-1a, mixed).
func Hash(s string) uint64 {
	h := uint64(0xcbf29ce484222325)
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * 0x100000001b3
	}
	return Mix(h)
}

// Uint64 is the next number.
func (r *Random) Uint64() uint64 {
	r.state += 0x9e3779b97f4a7c15
	return Mix(r.state)
}

// Below is a number from 0 to n-1; 0 where n is 0.
func (r *Random) Below(n uint64) uint64 {
	hi, _ := bits.Mul64(r.Uint64(), n)
	return hi
}

// Between is a number from low to high, both inside; low where high is below it.
func (r *Random) Between(low, high int64) int64 {
	if high <= low {
		return low
	}
	span := uint64(high) - uint64(low) + 1
	if span == 0 { // all there are
		return int64(r.Uint64())
	}
	return int64(uint64(low) + r.Below(span))
}

// Part is a number from 0 to 1, 1 not inside.
func (r *Random) Part() float64 { return float64(r.Uint64()>>11) / (1 << 53) }

// Of is one of the texts.
func (r *Random) Of(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[r.Below(uint64(len(list)))]
}
