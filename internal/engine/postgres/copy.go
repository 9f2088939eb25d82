package postgres

// This file writes rows in the forms of COPY. The binary one spares the server the
// reading of texts; it is that of PostgreSQL's own documentation (chapter COPY, "File
// Formats"), of numbers, times and decimals as the server keeps them.

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
)

var copyHead = append([]byte("PGCOPY\n\xff\r\n\x00"), make([]byte, 8)...)

// copyEnd stands behind the last row.
var copyEnd = []byte{0xff, 0xff}

// binaryRows gives rows in the binary form, without its head and end; an error where a type is not known to
// it, or a value is none of its type.
func binaryRows(cells []any, oids []uint32) ([]byte, error) {
	out := make([]byte, 0, len(cells)*20+64)
	var err error
	for i, v := range cells {
		oid := oids[i%len(oids)]
		if i%len(oids) == 0 {
			out = binary.BigEndian.AppendUint16(out, uint16(len(oids)))
		}
		if v == nil {
			out = binary.BigEndian.AppendUint32(out, math.MaxUint32)
			continue
		}
		at := len(out)
		out = append(out, 0, 0, 0, 0)
		if out, err = appendBinary(out, v, oid); err != nil {
			return nil, err
		}
		binary.BigEndian.PutUint32(out[at:], uint32(len(out)-at-4))
	}
	return out, nil
}

// errNoValue says that a value has no binary form in its column; the text form then
// tells what is wrong with it.
var errNoValue = errors.New("no value of the column's type")

func appendBinary(out []byte, v any, oid uint32) ([]byte, error) {
	s, isText := v.(string)
	switch oid {
	case oidInt2, oidInt4, oidInt8:
		n, ok := v.(int64)
		if !ok {
			var err error
			if n, err = strconv.ParseInt(fmt.Sprint(v), 10, 64); err != nil {
				return nil, errNoValue
			}
		}
		switch {
		case oid == oidInt8:
			return binary.BigEndian.AppendUint64(out, uint64(n)), nil
		case oid == oidInt4 && n >= math.MinInt32 && n <= math.MaxInt32:
			return binary.BigEndian.AppendUint32(out, uint32(n)), nil
		case oid == oidInt2 && n >= math.MinInt16 && n <= math.MaxInt16:
			return binary.BigEndian.AppendUint16(out, uint16(n)), nil
		}
	case oidFloat4, oidFloat8:
		f, ok := v.(float64)
		if !ok {
			var err error
			if f, err = strconv.ParseFloat(fmt.Sprint(v), 64); err != nil {
				return nil, errNoValue
			}
		}
		if oid == oidFloat8 {
			return binary.BigEndian.AppendUint64(out, math.Float64bits(f)), nil
		}
		return binary.BigEndian.AppendUint32(out, math.Float32bits(float32(f))), nil
	case oidBool:
		switch fmt.Sprint(v) {
		case "true", "1", "t":
			return append(out, 1), nil
		case "false", "0", "f":
			return append(out, 0), nil
		}
	case oidText, oidVarchar:
		if isText {
			return append(out, s...), nil
		}
	case oidJSONB:
		if isText {
			return append(append(out, 1), s...), nil
		}
	case oidBytea:
		if b, ok := v.([]byte); ok {
			return append(out, b...), nil
		}
	case oidUUID:
		if b, err := hex.DecodeString(strings.ReplaceAll(s, "-", "")); err == nil && len(b) == 16 {
			return append(out, b...), nil
		}
	case oidDate:
		if days, ok := daysOf(s); ok && len(s) == 10 {
			return binary.BigEndian.AppendUint32(out, uint32(days)), nil
		}
	case oidTime:
		if micros, ok := microsOf(s); ok {
			return binary.BigEndian.AppendUint64(out, uint64(micros)), nil
		}
	case oidTimestamp, oidTimestamptz:
		s = strings.TrimSuffix(s, "+00")
		if len(s) >= 19 && s[10] == ' ' {
			days, ok := daysOf(s[:10])
			micros, ok2 := microsOf(s[11:])
			if ok && ok2 {
				return binary.BigEndian.AppendUint64(out, uint64(int64(days)*86400e6+micros)), nil
			}
		}
	case oidNumeric:
		if !isText {
			s = fmt.Sprint(v)
		}
		if out, ok := appendNumeric(out, s); ok {
			return out, nil
		}
	}
	return nil, errNoValue
}

// daysOf is the number of days from the epoch to a day, 2006-01-02; by the rule of
// the calendar, since a million of them are read.
func daysOf(s string) (int32, bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return 0, false
	}
	y, err1 := strconv.Atoi(s[:4])
	m, err2 := strconv.Atoi(s[5:7])
	d, err3 := strconv.Atoi(s[8:])
	if err1 != nil || err2 != nil || err3 != nil || y < 1 || m < 1 || m > 12 || d < 1 || d > daysIn(y, m) {
		return 0, false
	}
	// Years that begin in March have the odd day at their end.
	if m <= 2 {
		y--
		m += 12
	}
	return int32(365*y + y/4 - y/100 + y/400 + (153*(m-3)+2)/5 + d - 1 - sinceMarch), true
}

// sinceMarch is the same count for the epoch itself, 2000-01-01.
const sinceMarch = 365*1999 + 1999/4 - 1999/100 + 1999/400 + (153*(13-3)+2)/5

func daysIn(y, m int) int {
	switch m {
	case 2:
		if y%4 == 0 && (y%100 != 0 || y%400 == 0) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	}
	return 31
}

// microsOf is a time of the day, 15:04:05 with up to six digits behind, in
// microseconds.
func microsOf(s string) (int64, bool) {
	if len(s) < 8 || s[2] != ':' || s[5] != ':' {
		return 0, false
	}
	h, err1 := strconv.Atoi(s[:2])
	m, err2 := strconv.Atoi(s[3:5])
	sec, err3 := strconv.Atoi(s[6:8])
	ok := err1 == nil && err2 == nil && err3 == nil && h < 24 && m < 60 && sec < 60
	micros := (int64(h)*3600 + int64(m)*60 + int64(sec)) * 1e6
	if len(s) > 8 {
		frac := s[9:]
		if s[8] != '.' || len(frac) == 0 || len(frac) > 6 {
			return 0, false
		}
		n, err := strconv.Atoi(frac + "000000"[len(frac):])
		if err != nil {
			return 0, false
		}
		micros += int64(n)
	}
	return micros, ok
}

// appendNumeric writes a decimal: its digits by fours from the point, with the
// number of those before it, the sign, and how many stand behind the point.
func appendNumeric(out []byte, s string) ([]byte, bool) {
	sign := uint16(0)
	if rest, ok := strings.CutPrefix(s, "-"); ok {
		sign, s = 0x4000, rest
	}
	whole, frac, _ := strings.Cut(s, ".")
	if whole == "" || !isDigits(whole) || !isDigits(frac) {
		return nil, false
	}
	scale := len(frac)
	var room [16]uint16
	digits := room[:0]
	// By fours from the point: the first of the whole and the last of the fraction may
	// be shorter.
	n, left := uint16(0), len(whole)
	for i := range len(whole) {
		n = n*10 + uint16(whole[i]-'0')
		if left--; left%4 == 0 {
			digits, n = append(digits, n), 0
		}
	}
	weight := len(digits) - 1
	for i := 0; i < len(frac); i += 4 {
		n = 0
		for j := range 4 {
			n *= 10
			if i+j < len(frac) {
				n += uint16(frac[i+j] - '0')
			}
		}
		digits = append(digits, n)
	}
	for len(digits) > 0 && digits[0] == 0 {
		digits = digits[1:]
		weight--
	}
	for len(digits) > 0 && digits[len(digits)-1] == 0 {
		digits = digits[:len(digits)-1]
	}
	if len(digits) == 0 {
		weight, sign = 0, 0
	}
	for _, n := range []uint16{uint16(len(digits)), uint16(int16(weight)), sign, uint16(scale)} {
		out = binary.BigEndian.AppendUint16(out, n)
	}
	for _, n := range digits {
		out = binary.BigEndian.AppendUint16(out, n)
	}
	return out, true
}

func isDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

var copyEscapes = strings.NewReplacer("\\", `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`)

// textRows gives rows in the form of text, which every type has.
func textRows(cells []any, width int) []byte {
	var b strings.Builder
	for i, v := range cells {
		if i%width > 0 {
			b.WriteByte('\t')
		} else if i > 0 {
			b.WriteByte('\n')
		}
		if v == nil {
			b.WriteString(`\N`)
			continue
		}
		b.WriteString(copyEscapes.Replace(string(textOf(v))))
	}
	b.WriteByte('\n')
	return []byte(b.String())
}
