package expr

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"

	"youngtrellis/internal/core/near"
)

// piece is one part of a date pattern (UTS 35): a letter so many times, or text.
type piece struct {
	letter byte // 0 for text
	n      int
	text   string
}

// letters are those of date patterns, each with what it stands for.
const patternHelp = "y year, M month, d day, E weekday, H or h hour, m minute, s second, S fraction, a AM or PM, X offset; plain text stands in single quotes, as in d. MMMM 'at' HH:mm"

func datePieces(pattern string) ([]piece, error) {
	if known, ok := datePatterns.Get(pattern); ok {
		return known, nil
	}
	pieces, err := readPieces(pattern)
	if err == nil {
		datePatterns.Add(pattern, pieces)
	}
	return pieces, err
}

// datePatterns are kept, since a workflow has few and uses them for every item.
var datePatterns, _ = lru.New[string, []piece](500)

func readPieces(pattern string) ([]piece, error) {
	var out []piece
	literal := func(s string) {
		if n := len(out); n > 0 && out[n-1].letter == 0 {
			out[n-1].text += s
			return
		}
		out = append(out, piece{text: s})
	}
	for i := 0; i < len(pattern); {
		c := pattern[i]
		if c == '\'' {
			if strings.HasPrefix(pattern[i:], "''") {
				literal("'")
				i += 2
				continue
			}
			var text strings.Builder
			for i++; ; i++ {
				if i >= len(pattern) {
					return nil, fmt.Errorf("the pattern %s has a quote that is not closed; a quote itself is written ''", quote(pattern))
				}
				if pattern[i] == '\'' {
					if i++; i >= len(pattern) || pattern[i] != '\'' {
						break
					}
				}
				text.WriteByte(pattern[i])
			}
			literal(text.String())
			continue
		}
		if !isLetter(c) {
			_, n := utf8.DecodeRuneInString(pattern[i:])
			literal(pattern[i : i+n])
			i += n
			continue
		}
		n := 1
		for i+n < len(pattern) && pattern[i+n] == c {
			n++
		}
		most, ok := patternLetters[c]
		if !ok || n > most {
			return nil, fmt.Errorf("the pattern %s has %q, which stands for nothing; there are %s", quote(pattern), pattern[i:i+n], patternHelp)
		}
		out = append(out, piece{letter: c, n: n})
		i += n
	}
	return out, nil
}

// patternLetters are the letters of UTS 35 that are known, each with how often
// it may stand.
var patternLetters = map[byte]int{
	'y': 6, 'u': 6, 'Y': 6, 'Q': 4, 'q': 4, 'M': 5, 'L': 5, 'w': 2, 'd': 2, 'D': 3, 'E': 6, 'e': 6, 'c': 6,
	'a': 5, 'h': 2, 'H': 2, 'K': 2, 'k': 2, 'm': 2, 's': 2, 'S': 9, 'A': 9, 'z': 4, 'Z': 5, 'O': 4, 'X': 5, 'x': 5, 'V': 2,
}

// FormatTime writes a time by a Unicode date pattern (UTS 35), with the names of
// days and months in English, or as a locale has them. Weeks are those of ISO 8601.
func FormatTime(t time.Time, pattern, language string) (string, error) {
	pieces, err := datePieces(pattern)
	if err != nil {
		return "", err
	}
	if language == "" {
		language = "en"
	}
	l, err := localeOf(language)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for _, p := range pieces {
		if p.letter == 0 {
			out.WriteString(p.text)
			continue
		}
		out.WriteString(datePart(t, p, l))
	}
	return out.String(), nil
}

func datePart(t time.Time, p piece, l *locale) string {
	pad := func(v int) string { return fmt.Sprintf("%0*d", p.n, v) }
	year := func(y int) string {
		if p.n == 2 {
			return fmt.Sprintf("%02d", y%100)
		}
		return pad(y)
	}
	weekYear, week := t.ISOWeek()
	day := int(t.Weekday()+6)%7 + 1
	switch p.letter {
	case 'y', 'u':
		return year(t.Year())
	case 'Y':
		return year(weekYear)
	case 'w':
		return pad(week)
	case 'Q', 'q':
		q := int(t.Month()-1)/3 + 1
		if p.n <= 2 {
			return pad(q)
		}
		return "Q" + strconv.Itoa(q)
	case 'M', 'L':
		switch p.n {
		case 1, 2:
			return pad(int(t.Month()))
		case 5:
			return l.words.MonthNarrow(t.Month())
		}
		return l.month(t.Month(), p.n == 4)
	case 'd':
		return pad(t.Day())
	case 'D':
		return pad(t.YearDay())
	case 'e', 'c':
		if p.n <= 2 {
			return pad(day)
		}
		fallthrough
	case 'E':
		switch p.n {
		case 5:
			return l.words.WeekdayNarrow(t.Weekday())
		case 6:
			return l.words.WeekdayShort(t.Weekday())
		}
		return l.weekday(t.Weekday(), p.n == 4)
	case 'a':
		return t.Format("PM")
	case 'H':
		return pad(t.Hour())
	case 'k':
		return pad((t.Hour()+23)%24 + 1)
	case 'K':
		return pad(t.Hour() % 12)
	case 'h':
		return pad((t.Hour()+11)%12 + 1)
	case 'm':
		return pad(t.Minute())
	case 's':
		return pad(t.Second())
	case 'S':
		return fmt.Sprintf("%09d", t.Nanosecond())[:p.n]
	case 'A':
		return pad(((t.Hour()*60+t.Minute())*60+t.Second())*1000 + t.Nanosecond()/1e6)
	}
	return zonePart(t, p)
}

func zonePart(t time.Time, p piece) string {
	form := map[string]string{
		"X1": "Z07", "X2": "Z0700", "X3": "Z07:00", "X4": "Z070000", "X5": "Z07:00:00",
		"x1": "-07", "x2": "-0700", "x3": "-07:00", "x4": "-070000", "x5": "-07:00:00",
		"Z1": "-0700", "Z2": "-0700", "Z3": "-0700", "Z5": "Z07:00", "z1": "MST", "z2": "MST", "z3": "MST",
	}[string(p.letter)+strconv.Itoa(p.n)]
	_, offset := t.Zone()
	switch {
	case p.letter == 'V':
		return t.Location().String()
	case form == "": // GMT+1, GMT+01:00
		if offset == 0 {
			return "GMT"
		}
		if p.letter == 'O' && p.n == 1 {
			if s := strings.TrimSuffix(t.Format("-07:00"), ":00"); len(s) > 1 && s[1] == '0' {
				return "GMT" + s[:1] + s[2:]
			}
			return "GMT" + strings.TrimSuffix(t.Format("-07:00"), ":00")
		}
		return "GMT" + t.Format("-07:00")
	case (p.letter == 'X' || p.letter == 'x') && p.n == 1 && offset%3600 != 0:
		return t.Format(strings.Replace(form, "07", "0700", 1))
	case p.n >= 4 && (p.letter == 'X' || p.letter == 'x') && offset%60 == 0:
		form = strings.TrimSuffix(strings.TrimSuffix(form, ":00"), "00")
		if p.n == 5 {
			form = strings.Replace(form, "07:00:00", "07:00", 1)
		}
		if !strings.HasSuffix(form, "00") {
			form += map[bool]string{true: ":00", false: "00"}[p.n == 5]
		}
	}
	return t.Format(form)
}

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
