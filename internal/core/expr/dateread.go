package expr

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"youngtrellis/internal/core/near"
)

// dateReader reads a text by the pieces of a pattern.
type dateReader struct {
	rest, whole string
	locale      *locale
	y, mo, d    int
	h, mi, s    int
	ns          int
	half        int // 1 AM, 2 PM
	yearDay     int
	short       bool // hours of a half day
	zone        *time.Location
}

// ParsePattern reads a time by a Unicode date pattern (UTS 35). What the pattern
// does not name is the least: the first of the month, midnight. A time without
// an offset is taken in the zone.
func ParsePattern(s, pattern, language string, zone *time.Location) (time.Time, error) {
	pieces, err := datePieces(pattern)
	if err != nil {
		return time.Time{}, err
	}
	if language == "" {
		language = "en"
	}
	l, err := localeOf(language)
	if err != nil {
		return time.Time{}, err
	}
	r := &dateReader{rest: strings.TrimSpace(s), whole: strings.TrimSpace(s), locale: l, y: 1970, mo: 1, d: 1, zone: zone}
	fail := func(what string) error {
		return fmt.Errorf("%s is not a time as %s: %s", show(s), quote(pattern), what)
	}
	for i, p := range pieces {
		if p.letter == 0 {
			text := p.text
			if i == len(pieces)-1 {
				text = strings.TrimRight(text, " ")
			}
			if !strings.HasPrefix(r.rest, text) {
				return time.Time{}, fail(fmt.Sprintf("%s was expected %s", quote(text), r.here()))
			}
			r.rest = r.rest[len(text):]
			continue
		}
		next := i+1 < len(pieces) && pieces[i+1].letter != 0
		if err := r.read(p, next); err != nil {
			return time.Time{}, fail(err.Error())
		}
	}
	if r.rest != "" {
		return time.Time{}, fail(quote(r.rest) + " follows that the pattern does not name")
	}
	return r.time(fail)
}

func (r *dateReader) here() string {
	if r.rest == "" {
		return "at the end"
	}
	return "where " + quote(r.rest) + " stands"
}

// digits reads a number; of exactly so many digits where another follows at once.
func (r *dateReader) digits(p piece, next bool, what string, low, high, most int) (int, error) {
	n := 0
	if next {
		most = max(p.n, 1)
	}
	for n < len(r.rest) && n < most && r.rest[n] >= '0' && r.rest[n] <= '9' {
		n++
	}
	if n == 0 {
		return 0, fmt.Errorf("%s was expected %s", what, r.here())
	}
	v, _ := strconv.Atoi(r.rest[:n])
	if v < low || v > high {
		return 0, fmt.Errorf("%s lies between %d and %d, and is %d", what, low, high, v)
	}
	r.rest = r.rest[n:]
	return v, nil
}

// name reads one of some names, whatever its letters' size; the longest counts.
func (r *dateReader) name(what string, names ...[]string) (int, error) {
	best, length := -1, 0
	for _, list := range names {
		for i, name := range list {
			for _, form := range []string{name, strings.TrimSuffix(name, ".")} {
				if form != "" && len(form) > length && len(r.rest) >= len(form) && strings.EqualFold(r.rest[:len(form)], form) {
					best, length = i, len(form)
				}
			}
		}
	}
	if best < 0 {
		word, _, _ := strings.Cut(r.rest, " ")
		return 0, fmt.Errorf("%s was expected %s%s", what, r.here(), near.Hint(word, names[0]))
	}
	r.rest = r.rest[length:]
	return best, nil
}

func (r *dateReader) read(p piece, next bool) (err error) {
	switch p.letter {
	case 'y', 'u':
		before := len(r.rest)
		if r.y, err = r.digits(p, next, "a year", 0, 9999, 4); err != nil {
			return err
		}
		if before-len(r.rest) <= 2 && p.n == 2 { // of the hundred years from 1970
			if r.y += 1900; r.y < 1970 {
				r.y += 100
			}
		}
		if r.y == 0 {
			return errors.New("there is no year 0")
		}
	case 'M', 'L':
		if p.n <= 2 {
			r.mo, err = r.digits(p, next, "a month", 1, 12, 2)
			return err
		}
		r.mo, err = r.name("the name of a month", r.locale.words.MonthsWide(), r.locale.words.MonthsAbbreviated())
		r.mo++
	case 'd':
		r.d, err = r.digits(p, next, "a day", 1, 31, 2)
	case 'D':
		r.yearDay, err = r.digits(p, next, "a day of the year", 1, 366, 3)
	case 'E', 'e', 'c':
		if p.letter != 'E' && p.n <= 2 {
			_, err = r.digits(p, next, "a day of the week", 1, 7, 1)
			return err
		}
		_, err = r.name("the name of a day", r.locale.words.WeekdaysWide(), r.locale.words.WeekdaysAbbreviated(), r.locale.words.WeekdaysShort())
	case 'H':
		r.h, err = r.digits(p, next, "an hour", 0, 23, 2)
	case 'k':
		r.h, err = r.digits(p, next, "an hour", 1, 24, 2)
		r.h %= 24
	case 'h':
		r.h, err = r.digits(p, next, "an hour", 1, 12, 2)
		r.h, r.short = r.h%12, true
	case 'K':
		r.h, err = r.digits(p, next, "an hour", 0, 11, 2)
		r.short = true
	case 'm':
		r.mi, err = r.digits(p, next, "a minute", 0, 59, 2)
	case 's':
		r.s, err = r.digits(p, next, "a second", 0, 59, 2)
	case 'S':
		n := 0
		for n < len(r.rest) && n < 9 && r.rest[n] >= '0' && r.rest[n] <= '9' {
			n++
		}
		if n == 0 {
			return fmt.Errorf("a fraction was expected %s", r.here())
		}
		r.ns, _ = strconv.Atoi((r.rest[:n] + "000000000")[:9])
		r.rest = r.rest[n:]
	case 'a':
		r.half, err = r.name("AM or PM", []string{"", "AM", "PM"}, []string{"", "a.m.", "p.m."})
	case 'X', 'x', 'Z':
		return r.offset()
	case 'V', 'z':
		word := r.rest
		if i := strings.IndexByte(word, ' '); i >= 0 {
			word = word[:i]
		}
		if word == "UTC" || word == "GMT" || word == "Z" {
			r.zone = time.UTC
		} else if r.zone, err = Zone(word); err != nil {
			return err
		}
		r.rest = r.rest[len(word):]
	default:
		return fmt.Errorf("%q can be written and not read", strings.Repeat(string(p.letter), p.n))
	}
	return err
}

func (r *dateReader) offset() error {
	for _, form := range []string{"Z07:00:00", "Z07:00", "Z0700", "Z07"} {
		for _, n := range []int{9, 6, 5, 3, 1} {
			if len(r.rest) < n {
				continue
			}
			if t, err := time.Parse(form, r.rest[:n]); err == nil {
				_, seconds := t.Zone()
				r.zone = time.FixedZone("", seconds)
				if seconds == 0 {
					r.zone = time.UTC
				}
				r.rest = r.rest[n:]
				return nil
			}
		}
	}
	return fmt.Errorf("an offset such as +01:00 was expected %s", r.here())
}

func (r *dateReader) time(fail func(string) error) (time.Time, error) {
	switch {
	case r.half != 0 && !r.short:
		return time.Time{}, fail("AM and PM belong to an hour of twelve, h")
	case r.half == 2:
		r.h += 12
	}
	if r.yearDay > 0 {
		day := time.Date(r.y, 1, r.yearDay, 0, 0, 0, 0, time.UTC)
		if day.Year() != r.y {
			return time.Time{}, fail(fmt.Sprintf("%d has no day %d", r.y, r.yearDay))
		}
		r.mo, r.d = int(day.Month()), day.Day()
	}
	if r.d > lastDay(r.y, time.Month(r.mo)) {
		return time.Time{}, fail(fmt.Sprintf("%s %d has no day %d", time.Month(r.mo), r.y, r.d))
	}
	return local(r.y, time.Month(r.mo), r.d, r.h, r.mi, r.s, r.ns, r.zone), nil
}
