package expr

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are known on machines that ship none

	lru "github.com/hashicorp/golang-lru/v2"
)

// Forms of a time that ParseTime reads, by how they begin.
var (
	dateForms  = []string{"2006-01-02", "2006-1-2"}
	clockForms = []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02T15:04", "2006-01-02T15:04Z07:00"}
	blankForms = []string{"2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999", "2006-01-02 15:04", "2 Jan 2006 15:04:05 -0700"}
	mailForms  = []string{time.RFC1123Z, time.RFC1123, "Mon, 2 Jan 2006 15:04:05 -0700", "Mon, 2 Jan 2006 15:04:05 MST"}
)

func formsOf(s string) []string {
	switch {
	case s == "" || s[0] < '0' || s[0] > '9':
		return mailForms
	case len(s) > 10 && (s[10] == 'T' || s[10] == 't'):
		return clockForms
	case strings.IndexByte(s, ' ') > 0:
		return blankForms
	}
	return dateForms
}

// ParseTime reads an RFC 3339 time, a date, or a mail date. A time without an
// offset is taken in the zone given; one that the clocks skip there is as much
// later as they skip, and of one that comes twice the first is meant.
func ParseTime(s string, zone *time.Location) (time.Time, error) {
	s = strings.TrimSpace(s)
	for _, f := range formsOf(s) {
		t, err := time.Parse(f, s)
		if err != nil {
			continue
		}
		if strings.HasSuffix(f, "MST") && t.Location() != time.UTC && !strings.HasSuffix(s, "GMT") {
			continue // an abbreviation of a zone means several
		}
		if strings.Contains(f, "Z07") || strings.Contains(f, "-07") || strings.HasSuffix(f, "MST") {
			return t, nil
		}
		return local(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), zone), nil
	}
	return time.Time{}, errors.New("“" + shortly(s) + "” is not a time; " + timeCure(s))
}

// timeCure says how a text that is no time is read.
func timeCure(s string) string {
	switch {
	case s == "":
		return "it is empty"
	case onlyDigits(s) && (len(s) == 10 || len(s) == 13):
		return "seconds or milliseconds since 1970 are read with time(number(…))"
	}
	for _, c := range []struct{ pattern, form string }{
		{"2.1.2006", "d.M.yyyy"}, {"2/1/2006", "d/M/yyyy"}, {"1/2/2006", "M/d/yyyy"}, {"2.1.2006 15:04", "d.M.yyyy HH:mm"}, {"2 January 2006", "d MMMM yyyy"},
		{"2 Jan 2006", "d MMM yyyy"}, {"January 2, 2006", "MMMM d, yyyy"}, {"Jan 2, 2006", "MMM d, yyyy"}, {"20060102", "yyyyMMdd"}, {"2/1/2006 15:04", "d/M/yyyy HH:mm"}, {"2-1-2006", "d-M-yyyy"},
	} {
		if _, err := time.Parse(c.pattern, s); err == nil {
			return fmt.Sprintf("say how it is written, as in parse_date(…, \"%s\")", c.form)
		}
	}
	return "write it as 2026-11-23 or 2026-11-23T16:30:00+01:00, or say how it is written with parse_date(…, \"d.M.yyyy\")"
}

func shortly(s string) string {
	if characters(s) > 60 {
		return cut(s, 0, 60) + "…"
	}
	return s
}

// local is a time of the clocks of a zone. Where they skip it, it is as much
// later; where it comes twice, it is the first.
func local(y int, mo time.Month, d, h, mi, s, ns int, zone *time.Location) time.Time {
	wall := time.Date(y, mo, d, h, mi, s, ns, time.UTC)
	// Both offsets that can be meant are in force a day before or after.
	_, before := wall.Add(-24 * time.Hour).In(zone).Zone()
	_, after := wall.Add(24 * time.Hour).In(zone).Zone()
	first, second := wall.Add(-time.Duration(before)*time.Second), wall.Add(-time.Duration(after)*time.Second)
	isFirst, isSecond := sameClock(first.In(zone), wall), sameClock(second.In(zone), wall)
	switch {
	case isFirst && isSecond:
		if second.Before(first) {
			first = second
		}
	case isSecond:
		first = second
	}
	return first.In(zone)
}

func sameClock(t, wall time.Time) bool {
	return t.Year() == wall.Year() && t.YearDay() == wall.YearDay() && t.Hour() == wall.Hour() && t.Minute() == wall.Minute()
}

// Zone finds a zone by its name in the IANA database, as Europe/Lisbon, or by an
// offset such as +01:00.
func Zone(name string) (*time.Location, error) {
	name = strings.TrimSpace(name)
	if t, err := time.Parse("Z07:00", name); err == nil {
		_, offset := t.Zone()
		if offset == 0 {
			return time.UTC, nil
		}
		return time.FixedZone(name, offset), nil
	}
	if name == "Local" || name == "" {
		return nil, fmt.Errorf("%s is not a zone; zones are written as Europe/Lisbon", show(name))
	}
	if zone, ok := zones.Get(name); ok {
		return zone, nil
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("%s is not a zone; zones are written as Europe/Lisbon", show(name))
	}
	zones.Add(name, zone)
	return zone, nil
}

// zones are kept, since reading one takes longer than all else that is done with
// it. There are some six hundred.
var zones, _ = lru.New[string, *time.Location](1000)

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
	bad := fmt.Errorf("“%s” is not a duration; write 90s, 5m, 2h, 3d or 1d12h", shortly(s))
	if rest == "" {
		return 0, bad
	}
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
		if unit == 0 || n*float64(unit)+float64(sum) > float64(1<<62) {
			return 0, bad
		}
		sum += time.Duration(n * float64(unit))
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

// units are those of the calendar and of the clock, by their names.
func unitOf(name string) (string, error) {
	u := strings.TrimSuffix(strings.ToLower(strings.TrimSpace(name)), "s")
	switch u {
	case "second", "minute", "hour", "day", "week", "month", "quarter", "year":
		return u, nil
	}
	return "", fmt.Errorf("%s is not a unit; there are second, minute, hour, day, week, month, quarter and year", show(name))
}

var clock = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour}

// startOfUnit is the start of the unit in which a time lies, on the clocks of its
// zone. Weeks begin on Monday (ISO 8601).
func startOfUnit(t time.Time, unit string) time.Time {
	y, mo, d := t.Date()
	at := func(y int, mo time.Month, d int) time.Time { return local(y, mo, d, 0, 0, 0, 0, t.Location()) }
	switch unit {
	case "second":
		return t.Add(-time.Duration(t.Nanosecond()))
	case "minute":
		return t.Add(-time.Duration(t.Second())*time.Second - time.Duration(t.Nanosecond()))
	case "hour": // hours of the clock, also where an offset is of half an hour
		return t.Add(-time.Duration(t.Minute())*time.Minute - time.Duration(t.Second())*time.Second - time.Duration(t.Nanosecond()))
	case "week":
		d -= int(t.Weekday()+6) % 7
	case "month":
		d = 1
	case "quarter":
		mo, d = (mo-1)/3*3+1, 1
	case "year":
		mo, d = 1, 1
	}
	return at(y, mo, d)
}

// mostUnits bounds how far calendars are counted.
const mostUnits = 4_000_000

// addUnits is so many units later: hours, minutes and seconds as they pass, days
// and what is longer on the calendar, at the same time of the clock; the last
// day of the month where the day does not exist.
func addUnits(t time.Time, n int64, unit string) (time.Time, error) {
	if n < -mostUnits || n > mostUnits {
		return t, fmt.Errorf("at most %d units can be added", mostUnits)
	}
	y, mo, d := t.Date()
	switch unit {
	case "second", "minute", "hour":
		return t.Add(time.Duration(n) * clock[unit]), nil
	case "day":
		d += int(n)
	case "week":
		d += 7 * int(n)
	default:
		months := int(n) * map[string]int{"month": 1, "quarter": 3, "year": 12}[unit]
		total := y*12 + int(mo) - 1 + months
		if y, mo = floorDiv(total, 12), time.Month(total-12*floorDiv(total, 12)+1); d > lastDay(y, mo) {
			d = lastDay(y, mo)
		}
	}
	out := local(y, mo, d, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
	if out.Year() < 1 || out.Year() > 9999 {
		return t, errors.New("the years lie between 1 and 9999")
	}
	return out, nil
}

func floorDiv(a, b int) int {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func lastDay(y int, mo time.Month) int { return time.Date(y, mo+1, 0, 0, 0, 0, 0, time.UTC).Day() }

// unitsBetween counts the whole units from one time to another.
func unitsBetween(from, to time.Time, unit string) (int64, error) {
	to = to.In(from.Location())
	if length, ok := clock[unit]; ok {
		return to.Unix()/int64(length/time.Second) - from.Unix()/int64(length/time.Second) + partial(from, to, length), nil
	}
	var n int64
	switch unit {
	case "day", "week":
		n = int64(dayNumber(to) - dayNumber(from))
		if unit == "week" {
			n /= 7
		}
	default:
		n = int64((to.Year()-from.Year())*12 + int(to.Month()) - int(from.Month()))
		n /= map[string]int64{"month": 1, "quarter": 3, "year": 12}[unit]
	}
	// The last one counts only where it is over.
	for step := int64(1); ; {
		at, err := addUnits(from, n, unit)
		if err != nil {
			return 0, err
		}
		switch {
		case n > 0 && at.After(to):
			n -= step
		case n < 0 && at.Before(to):
			n += step
		default:
			return n, nil
		}
	}
}

// partial corrects a difference of whole units since 1970 to whole units passed.
func partial(from, to time.Time, length time.Duration) int64 {
	unit := int64(length / time.Second)
	f := from.Unix()%unit*int64(time.Second) + int64(from.Nanosecond())
	t := to.Unix()%unit*int64(time.Second) + int64(to.Nanosecond())
	switch {
	case to.After(from) && t < f:
		return -1
	case to.Before(from) && t > f:
		return 1
	}
	return 0
}

// dayNumber counts days on the calendar.
func dayNumber(t time.Time) int {
	y, mo, d := t.Date()
	return int(time.Date(y, mo, d, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}
