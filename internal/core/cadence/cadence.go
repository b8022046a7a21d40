// Package cadence answers one question: when is something due next. A cadence is
// every so many minutes, hours, days or weeks, on days of the week or of the month
// at times of the day, or a line of cron, in a zone:
//
//	c, err := cadence.New(cadence.Settings{Every: "weekday", At: "16:30", Zone: "Europe/Lisbon"})
//	due, ok := c.Next(now, anchor)
//
// Times of the day follow the clock on the wall: one that does not exist on the day
// when clocks go forward is due once, at the next minute that does, and one that
// comes twice when they go back is due once, the first time. Intervals count the
// time that has passed since an anchor, whatever the clocks do. So does a line of
// cron whose hours begin with *: each minute that it names is due, also when an hour
// comes twice.
package cadence

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/expr"
)

// Settings are what a document says of a cadence.
type Settings struct {
	Every  string // as weekday, 10 minutes, monday and thursday, 2 weeks, month; "" with Cron
	On     string // days of every N weeks or months: monday; 1, 15, last, first monday
	At     string // times of the day, as 08:00 and 16:30; minutes of the hour, as :15
	Cron   string // a line of five fields
	Zone   string // a name of the IANA time zone database; "" is UTC
	From   string // the first day, or the first moment, as 2026-12-01 or 2026-12-01 08:00
	Until  string // the last day, or the moment at which it is over
	Jitter time.Duration
}

// Error is what is wrong with one of the settings.
type Error struct {
	Field string // as every or at
	Err   error
}

func (e *Error) Error() string { return e.Err.Error() }
func (e *Error) Unwrap() error { return e.Err }

// ErrUnsaid says that nothing has been said yet of when it is due.
var ErrUnsaid = errors.New("say how often, as every weekday or every 10 minutes")

type unit int

const (
	seconds unit = iota
	minutes
	hours
	days
	weekdays // Monday to Friday
	weeks
	months
	byCron
)

var length = map[unit]time.Duration{seconds: time.Second, minutes: time.Minute, hours: time.Hour}

const (
	// Shortest is the shortest interval.
	Shortest = 5 * time.Second
	// LongestJitter bounds how much later than due something may start on purpose.
	LongestJitter = 6 * time.Hour
	// MostTimes is how many times of the day, or days, a cadence can name.
	MostTimes = 96
)

// Cadence says when something is due.
type Cadence struct {
	unit   unit
	n      int
	days   []time.Weekday // of weeks
	on     []monthDay     // of months
	at     []clock        // of the day, in their order; of the hour, where the unit is hours
	cron   *cron
	zone   *time.Location
	named  string // the zone, as it is called
	from   bound
	until  bound
	Jitter time.Duration
}

// Due is a moment at which something is due.
type Due struct {
	At time.Time
	// Key tells this one from all others of its schedule, also where the rules of its
	// zone are changed before it comes: the local date and time, and which of two; or
	// the ordinal of an interval.
	Key string
	// Note says what the change of clocks does to it, for people.
	Note string
}

// New reads settings. The error is an *Error, with the first setting that is wrong.
func New(s Settings) (*Cadence, error) {
	c := &Cadence{n: 1, Jitter: s.Jitter}
	var err error
	if c.zone, c.named, err = Zone(s.Zone); err != nil {
		return nil, &Error{"zone", err}
	}
	switch every, line := strings.TrimSpace(s.Every), strings.TrimSpace(s.Cron); {
	case every != "" && line != "":
		return nil, &Error{"cron", errors.New("say either how often or a line of cron, not both")}
	case every == "" && line == "":
		return nil, &Error{"every", ErrUnsaid}
	case line != "":
		err = c.readCron(line, s)
	default:
		err = c.readEvery(every, s)
	}
	if err != nil {
		return nil, err
	}
	if s.Jitter < 0 || s.Jitter > LongestJitter || s.Jitter%time.Second != 0 {
		return nil, &Error{"jitter", fmt.Errorf("a start is spread over at most %s, in whole seconds, and this is %s", expr.Words(LongestJitter), expr.FormatDuration(s.Jitter))}
	}
	if c.from, err = c.readBound(s.From, false); err != nil {
		return nil, &Error{"from", err}
	}
	if c.until, err = c.readBound(s.Until, true); err != nil {
		return nil, &Error{"until", err}
	}
	if c.from.set() && c.until.set() && !c.from.at.Before(c.until.at) {
		return nil, &Error{"until", fmt.Errorf("it is over (%s) before it begins (%s)", c.until.text, c.from.text)}
	}
	if _, ok := c.Next(c.within(), c.Anchor(c.within())); !ok {
		field := "every"
		if c.unit == byCron {
			field = "cron"
		}
		if c.until.set() {
			field = "until"
		}
		return nil, &Error{field, errors.New("this is never due")}
	}
	return c, nil
}

// within is a moment from which on the cadence has to be due some time.
func (c *Cadence) within() time.Time {
	if c.from.set() {
		return c.from.at.Add(-time.Nanosecond)
	}
	if c.until.set() {
		return c.until.at.AddDate(-9, 0, 0)
	}
	return time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
}

// Anchor is from when on intervals are counted for something that begins at t: from
// the midnight before, or from the first moment that the cadence names. Who keeps it
// keeps the times, through restarts and changes of clocks.
func (c *Cadence) Anchor(t time.Time) time.Time {
	if c.from.set() {
		return c.from.at
	}
	return c.resolve(dayOf(t.In(c.zone)), 0)[0].time()
}

// Zone is where its times are read.
func (c *Cadence) Zone() *time.Location { return c.zone }

// Counts tells whether it counts the time that passes from its anchor on, whatever
// any clock on a wall shows.
func (c *Cadence) Counts() bool { _, ok := length[c.unit]; return ok }

// Next is the first due moment after t. It is false where none is left.
func (c *Cadence) Next(t, anchor time.Time) (Due, bool) {
	if c.from.set() && t.Before(c.from.at) {
		t = c.from.at.Add(-time.Nanosecond)
	}
	var d Due
	ok := true
	if step, is := length[c.unit]; is {
		d = c.interval(c.ordinalAfter(t, c.start(anchor), step), c.start(anchor), step)
	} else {
		d, ok = c.nextByDay(t, anchor)
	}
	if ok && c.until.set() && !d.At.Before(c.until.at) {
		return Due{}, false
	}
	return d, ok
}

// List gives the next due moments after t, at most so many.
func (c *Cadence) List(t, anchor time.Time, most int) []Due {
	var out []Due
	for len(out) < most {
		d, ok := c.Next(t, anchor)
		if !ok {
			break
		}
		out = append(out, d)
		t = d.At
	}
	return out
}

// Day is a day of the zone, and whether anything is due on it.
type Day struct {
	Date time.Time // its first moment
	Due  bool
}

// Days tells on which of the coming days, that of t first, something is due after t.
func (c *Cadence) Days(t, anchor time.Time, n int) []Day {
	out := make([]Day, n)
	first := dayOf(t.In(c.zone))
	for i := range out {
		begins, ends := c.resolve(first+i, 0)[0].time(), c.resolve(first+i+1, 0)[0].time()
		out[i].Date = begins
		after := begins.Add(-time.Nanosecond)
		if after.Before(t) {
			after = t
		}
		d, ok := c.Next(after, anchor)
		out[i].Due = ok && d.At.Before(ends)
	}
	return out
}

// Between counts what is due after one moment and not after another, and gives the
// last of these, at most so many, in their order.
func (c *Cadence) Between(after, upto, anchor time.Time, most int) (int, []Due) {
	first, ok := c.Next(after, anchor)
	if !ok || first.At.After(upto) {
		return 0, nil
	}
	step, is := length[c.unit]
	if !is {
		return c.betweenByDay(first, upto, anchor, most)
	}
	if end := c.until.at; c.until.set() && !upto.Before(end) {
		upto = end.Add(-time.Nanosecond)
	}
	start := c.start(anchor)
	from, end := c.ordinalAfter(first.At.Add(-time.Nanosecond), start, step), c.ordinalAfter(upto, start, step)
	var list []Due
	for n := max(from, end-int64(most)); n < end; n++ {
		list = append(list, c.interval(n, start, step))
	}
	return int(end - from), list
}

// start is from when intervals count.
func (c *Cadence) start(anchor time.Time) time.Time {
	if c.from.set() {
		return c.from.at
	}
	return anchor
}

// marks are the minutes of the hour at which hours are due.
func (c *Cadence) marks() []clock {
	if len(c.at) == 0 {
		return []clock{0}
	}
	return c.at
}

// ordinalAfter is the ordinal of the first moment of an interval after t.
func (c *Cadence) ordinalAfter(t, start time.Time, step time.Duration) int64 {
	span, marks := step*time.Duration(c.n), c.marks()
	passed := t.Sub(start)
	rounds := int64(passed / span)
	if passed < 0 && passed%span != 0 {
		rounds--
	}
	for n := rounds * int64(len(marks)); ; n++ {
		if c.interval(n, start, step).At.After(t) {
			return n
		}
	}
}

// interval is the due moment with this ordinal.
func (c *Cadence) interval(n int64, start time.Time, step time.Duration) Due {
	marks := c.marks()
	size := int64(len(marks))
	round := n / size
	if n < 0 && n%size != 0 {
		round--
	}
	mark := marks[n-round*size]
	at := start.Add(time.Duration(round) * time.Duration(c.n) * step).Add(time.Duration(mark) * time.Minute)
	return Due{At: at.UTC(), Key: fmt.Sprintf("%d+%d", start.Unix(), n)}
}

// furthest is how many days are looked at for the next due one: 29 February can be
// forty years away on a given day of the week.
const furthest = 41 * 366

func (c *Cadence) nextByDay(t, anchor time.Time) (Due, bool) {
	origin := dayOf(c.start(anchor).In(c.zone))
	day := dayOf(t.In(c.zone))
	if _, ok := c.steady(day); !ok {
		day -= 2 // clocks can go forward by a day
	}
	for end := day + furthest; day <= end; day++ {
		found, ok := first(c.moments(day, origin), t)
		if !ok {
			continue
		}
		// What was moved from this day on can be later than, or the same moment as, what is due on the next.
		if next, ok := first(c.moments(day+1, origin), t); ok && next.at <= found.at {
			return c.due(day+1, next), true
		}
		return c.due(day, found), true
	}
	return Due{}, false
}

func first(list []moment, after time.Time) (moment, bool) {
	for _, m := range list {
		if m.at > after.Unix() {
			return m, true
		}
	}
	return moment{}, false
}

func (c *Cadence) betweenByDay(first Due, upto, anchor time.Time, most int) (int, []Due) {
	count, list := 0, []Due(nil)
	for d, ok := first, true; ok && !d.At.After(upto); d, ok = c.Next(d.At, anchor) {
		count++
		if list = append(list, d); len(list) > most {
			list = list[1:]
		}
	}
	return count, list
}

// moments are the due moments of a day, in their order, no two at once.
func (c *Cadence) moments(day, origin int) []moment {
	if !c.falls(day, origin) {
		return nil
	}
	out := make([]moment, 0, len(c.at))
	if offset, ok := c.steady(day); ok {
		for _, at := range c.at {
			out = append(out, moment{at: int64(day)*86400 + int64(at)*60 - int64(offset), clock: at})
		}
		return out
	}
	for _, at := range c.at {
		found := c.resolve(day, at)
		switch {
		case c.unit != byCron || !c.cron.passed:
			found = found[:1]
		case found[0].moved:
			continue
		}
		out = append(out, found...)
	}
	slices.SortStableFunc(out, func(a, b moment) int { return cmp.Compare(a.at, b.at) })
	return slices.CompactFunc(out, func(a, b moment) bool { return a.at == b.at })
}

// falls tells whether something is due on a day, counted from another.
func (c *Cadence) falls(day, origin int) bool {
	weekday := weekdayOf(day)
	switch c.unit {
	case days:
		return floorMod(day-origin, c.n) == 0
	case weekdays:
		return working(weekday)
	case weeks:
		monday := func(d int) int { return d - floorMod(int(weekdayOf(d))-1, 7) }
		return slices.Contains(c.days, weekday) && floorMod((monday(day)-monday(origin))/7, c.n) == 0
	case months:
		y, m, _ := dateOf(day)
		begins := 0 // in January, unless it begins some time
		if c.from.set() {
			oy, om, _ := dateOf(origin)
			begins = oy*12 + int(om) - 1
		}
		return floorMod(y*12+int(m)-1-begins, c.n) == 0 && slices.ContainsFunc(c.on, func(d monthDay) bool { return d.is(day) })
	}
	return c.cron.falls(day)
}
