package cadence

import (
	"fmt"
	"time"
)

// clock is a time of the day in minutes since midnight.
type clock int

func (c clock) String() string { return fmt.Sprintf("%02d:%02d", int(c)/60, int(c)%60) }

// A day is a number, counted from 1 January 1970 in the calendar, of no zone.

func dayOf(t time.Time) int {
	y, m, d := t.Date()
	return dayOfDate(y, m, d)
}

func dayOfDate(y int, m time.Month, d int) int {
	return int(floorDiv(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix(), 86400))
}

func dateOf(day int) (int, time.Month, int) {
	return time.Unix(int64(day)*86400, 0).UTC().Date()
}

func weekdayOf(day int) time.Weekday { return time.Weekday(floorMod(day+4, 7)) }

func working(d time.Weekday) bool { return d != time.Saturday && d != time.Sunday }

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func floorMod(a, b int) int { return ((a % b) + b) % b }

// moment is when the wall shows a time of a day.
type moment struct {
	at    int64 // in seconds since 1970, UTC
	clock clock
	moved bool // the time does not exist on that day; this is the next minute that does
	twice bool // it comes twice
	again bool // this is the second time
}

func (m moment) time() time.Time { return time.Unix(m.at, 0).UTC() }

// reach is how far from a time of UTC its moments lie at most, also where a day is
// left out.
const reach = 50 * time.Hour

// steady tells whether no clocks change near a day, and its offset in seconds.
func (c *Cadence) steady(day int) (int, bool) {
	from := time.Unix(int64(day)*86400, 0).Add(-reach).In(c.zone)
	_, offset := from.Zone()
	return offset, until(from).After(from.Add(2*reach + 24*time.Hour))
}

// resolve finds the moments at which the wall shows a time on a day: two where
// clocks go back over it. Where they go forward over it there is one, after it.
func (c *Cadence) resolve(day int, at clock) []moment {
	wall := time.Unix(int64(day)*86400+int64(at)*60, 0).UTC() // as if it were UTC
	var out []moment
	var gap time.Time
	before := -1 << 31 // the offset of the span before
	for t, last := wall.Add(-reach), wall.Add(reach); !t.After(last); {
		_, offset := t.In(c.zone).Zone()
		end := until(t.In(c.zone))
		candidate := wall.Add(-time.Duration(offset) * time.Second)
		if gap.IsZero() && before > -1<<31 && wall.Add(-time.Duration(before)*time.Second).After(t.Add(-1)) && candidate.Before(t) {
			gap = t // the wall jumped over it
		}
		if !candidate.Before(t) && candidate.Before(end) {
			out = append(out, moment{at: candidate.Unix(), clock: at})
		}
		before, t = offset, end
	}
	if len(out) > 1 {
		out[0].twice, out[1].again = true, true
	}
	if len(out) == 0 {
		out = append(out, moment{at: gap.Add(time.Minute - time.Nanosecond).Truncate(time.Minute).Unix(), clock: at, moved: true})
	}
	return out
}

// due says of a moment what is told of it.
func (c *Cadence) due(day int, m moment) Due {
	d := Due{At: m.time(), Key: key(day, m.clock)}
	switch {
	case m.moved:
		d.Note = fmt.Sprintf("the clocks go forward over %s on %s; it is due once they have", m.clock, dayWords(day))
	case m.again:
		d.Key += "/2"
		d.Note = fmt.Sprintf("the clocks go back on %s; %s comes once more", dayWords(day), m.clock)
	case m.twice && (c.unit != byCron || !c.cron.passed):
		d.Note = fmt.Sprintf("the clocks go back over %s on %s; it is due the first time", m.clock, dayWords(day))
	}
	return d
}

func key(day int, at clock) string {
	y, m, d := dateOf(day)
	return fmt.Sprintf("%04d-%02d-%02dT%s", y, m, d, at)
}

func dayWords(day int) string {
	return time.Unix(int64(day)*86400, 0).UTC().Format("Monday 2 January")
}

// bound is the moment at which a cadence begins or is over.
type bound struct {
	at   time.Time
	text string
}

func (b bound) set() bool { return b.text != "" }

// readBound reads a day or a moment. The end of a day is the end of a cadence that
// is due until that day.
func (c *Cadence) readBound(text string, end bool) (bound, error) {
	if text == "" {
		return bound{}, nil
	}
	if t, err := time.Parse("2006-01-02", text); err == nil {
		day := dayOf(t)
		if end {
			day++
		}
		return bound{c.resolve(day, 0)[0].time(), text}, nil
	}
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.Parse(layout, text); err == nil {
			return bound{c.resolve(dayOf(t), clock(t.Hour()*60+t.Minute()))[0].time(), t.Format("2006-01-02 15:04")}, nil
		}
	}
	return bound{}, fmt.Errorf("%q is not a day; write 2026-12-01, or 2026-12-01 08:00", text)
}
