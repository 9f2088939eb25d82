package diagram

// This file says how wide texts are, in a font without serifs: whatever font a viewer has, what is
// drawn is fitted to that.

import "unicode"

// advance are the widths of the characters from blank to ~, in thousandths of the font's size.
var advance = [...]int{
	278, 278, 355, 556, 556, 889, 667, 191, 333, 333, 389, 584, 278, 333, 278, 278, // blank to /
	556, 556, 556, 556, 556, 556, 556, 556, 556, 556, 278, 278, 584, 584, 584, 556, // 0 to ?
	1015, 667, 667, 722, 722, 667, 611, 778, 722, 278, 500, 667, 556, 833, 722, 778, // @ to O
	667, 778, 722, 667, 611, 722, 667, 944, 667, 667, 611, 278, 278, 278, 469, 556, // P to _
	333, 556, 556, 500, 556, 556, 278, 556, 556, 222, 222, 500, 222, 833, 556, 556, // ` to o
	556, 556, 333, 500, 278, 556, 500, 722, 500, 500, 500, 334, 260, 334, 584, // p to ~
}

// textWidth is the width of a text in a size, in pixels. Bold is a little wider.
func textWidth(s string, size int, bold bool) int {
	sum := 0
	for _, r := range s {
		switch {
		case r >= ' ' && r <= '~':
			sum += advance[r-' ']
		case unicode.Is(unicode.Mn, r):
		case r >= 0x1100: // of scripts whose signs are wide
			sum += 1000
		default:
			sum += 620
		}
	}
	if bold {
		sum = sum * 107 / 100
	}
	return (sum*size + 999) / 1000
}
