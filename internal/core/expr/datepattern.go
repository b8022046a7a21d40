package expr

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"
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
