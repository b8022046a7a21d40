package expr

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Forms of a time that ParseTime reads, most exact first.
var timeForms = []string{
	time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02T15:04", "2006-01-02 15:04:05.999999999Z07:00",
	"2006-01-02 15:04:05.999999999", "2006-01-02 15:04", "2006-01-02", time.RFC1123Z, time.RFC1123,
}

// ParseTime reads an RFC 3339 time, a date, or a mail date. A time without an
// offset is taken in the zone given.
func ParseTime(s string, zone *time.Location) (time.Time, error) {
	s = strings.TrimSpace(s)
	for _, f := range timeForms {
		if t, err := time.ParseInLocation(f, s, zone); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("“%s” is not a time; write it as 2026-11-23 or 2026-11-23T16:30:00+01:00", s)
}

var durationUnits = []struct {
	letter byte
	length time.Duration
}{{'d', 24 * time.Hour}, {'h', time.Hour}, {'m', time.Minute}, {'s', time.Second}}

// ParseDuration reads 90s, 5m, 2h, 3d, 250ms and sums of them such as 1d12h.
func ParseDuration(s string) (time.Duration, error) {
	rest, sum := strings.TrimSpace(s), time.Duration(0)
	sign := time.Duration(1)
	if strings.HasPrefix(rest, "-") {
		sign, rest = -1, rest[1:]
	}
	bad := fmt.Errorf("“%s” is not a duration; write 90s, 5m, 2h, 3d or 1d12h", s)
	for rest != "" {
		end := strings.IndexFunc(rest, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
		if end <= 0 {
			return 0, bad
		}
		n, err := strconv.ParseFloat(rest[:end], 64)
		if err != nil {
			return 0, bad
		}
		rest = rest[end:]
		unit := time.Duration(0)
		if strings.HasPrefix(rest, "ms") {
			unit, rest = time.Millisecond, rest[2:]
		} else {
			for _, u := range durationUnits {
				if rest[0] == u.letter {
					unit, rest = u.length, rest[1:]
					break
				}
			}
		}
		if unit == 0 || n*float64(unit) > float64(1<<62) {
			return 0, bad
		}
		sum += time.Duration(n * float64(unit))
	}
	if s == "" {
		return 0, bad
	}
	return sign * sum, nil
}

// FormatDuration writes a duration as ParseDuration reads it.
func FormatDuration(d time.Duration) string {
	if d == 0 {
		return "0s"
	}
	var s strings.Builder
	if d < 0 {
		s.WriteByte('-')
		d = -d
	}
	for _, u := range durationUnits {
		if u.letter == 's' {
			break
		}
		if n := d / u.length; n > 0 {
			fmt.Fprintf(&s, "%d%c", n, u.letter)
			d -= n * u.length
		}
	}
	if d > 0 {
		s.WriteString(strconv.FormatFloat(d.Seconds(), 'f', -1, 64) + "s")
	}
	return s.String()
}

// Words writes a duration for people: its largest unit, "6 days".
func Words(d time.Duration) string {
	sign := ""
	if d < 0 {
		sign, d = "-", -d
	}
	units := []struct {
		name   string
		length time.Duration
	}{{"day", 24 * time.Hour}, {"hour", time.Hour}, {"minute", time.Minute}, {"second", time.Second}}
	for _, u := range units {
		if d >= u.length || u.name == "second" {
			n := strconv.FormatInt(int64(d/u.length), 10)
			if d < 2*u.length && d > u.length {
				n = strconv.FormatFloat(float64(int64(10*d/u.length))/10, 'f', -1, 64)
			}
			if n == "1" {
				return sign + "1 " + u.name
			}
			return sign + n + " " + u.name + "s"
		}
	}
	return ""
}

// FormatTime writes a time by a Unicode date pattern (UTS 35), English names:
// y year, M month, d day, E weekday, H h hour, m minute, s second, S fraction,
// a half of the day, X x offset, z zone; text in single quotes stands as it is.
func FormatTime(t time.Time, pattern string) (string, error) {
	var out strings.Builder
	for i := 0; i < len(pattern); {
		c := pattern[i]
		if c == '\'' {
			end := strings.IndexByte(pattern[i+1:], '\'')
			if end < 0 {
				return "", fmt.Errorf("the pattern “%s” has a quote that is not closed", pattern)
			}
			if end == 0 {
				out.WriteByte('\'')
			}
			out.WriteString(pattern[i+1 : i+1+end])
			i += end + 2
			continue
		}
		n := 1
		for i+n < len(pattern) && pattern[i+n] == c {
			n++
		}
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			out.WriteString(pattern[i : i+n])
			i += n
			continue
		}
		form, ok := datePart(t, c, n)
		if !ok {
			return "", fmt.Errorf("the pattern “%s” has %q, which stands for nothing; put plain text in single quotes", pattern, pattern[i:i+n])
		}
		out.WriteString(form)
		i += n
	}
	return out.String(), nil
}

func datePart(t time.Time, c byte, n int) (string, bool) {
	pad := func(v int) (string, bool) { return fmt.Sprintf("%0*d", n, v), n <= 4 }
	names := func(long string) (string, bool) {
		if n == 4 {
			return long, true
		}
		return long[:3], n <= 4
	}
	switch c {
	case 'y':
		if n == 2 {
			return fmt.Sprintf("%02d", t.Year()%100), true
		}
		return pad(t.Year())
	case 'M':
		if n >= 3 {
			return names(t.Month().String())
		}
		return pad(int(t.Month()))
	case 'd':
		return pad(t.Day())
	case 'D':
		return pad(t.YearDay())
	case 'E':
		return names(t.Weekday().String())
	case 'H':
		return pad(t.Hour())
	case 'h':
		return pad((t.Hour()+11)%12 + 1)
	case 'm':
		return pad(t.Minute())
	case 's':
		return pad(t.Second())
	case 'S':
		if n > 9 {
			return "", false
		}
		return fmt.Sprintf("%09d", t.Nanosecond())[:n], true
	case 'a':
		return t.Format("PM"), true
	case 'X', 'x':
		form := map[int]string{1: "Z07", 2: "Z0700", 3: "Z07:00"}[n]
		if c == 'x' {
			form = strings.Replace(form, "Z", "-", 1)
		}
		return t.Format(form), form != ""
	case 'z':
		return t.Format("MST"), true
	}
	return "", false
}
