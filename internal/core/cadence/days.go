package cadence

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// weekdayNames are those of the days, from Sunday as time.Weekday counts.
var weekdayNames = []string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}

var workdays = []time.Weekday{time.Monday, time.Tuesday, time.Wednesday, time.Thursday, time.Friday}

func weekdayCalled(word string) (time.Weekday, bool) {
	for i, name := range weekdayNames {
		name = strings.ToLower(name)
		if word == name || word == name+"s" || len(word) >= 3 && len(word) <= 5 && strings.HasPrefix(name, word) {
			return time.Weekday(i), true
		}
	}
	return 0, false
}

var listed = regexp.MustCompile(`\s*(?:,|;|&|\band\b|\bor\b)\s*`)

func list(text string) []string {
	var out []string
	for _, part := range listed.Split(text, -1) {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// weekdayList reads days of the week, and gives them from Monday on.
func weekdayList(text string) ([]time.Weekday, error) {
	var out []time.Weekday
	for _, word := range list(text) {
		if word == "weekend" || word == "weekends" {
			out = append(out, time.Saturday, time.Sunday)
			continue
		}
		if word == "weekday" || word == "weekdays" || word == "working days" {
			out = append(out, workdays...)
			continue
		}
		if from, to, ok := strings.Cut(strings.NewReplacer("–", "-", " to ", "-", " - ", "-").Replace(word), "-"); ok {
			first, ok1 := weekdayCalled(from)
			last, ok2 := weekdayCalled(to)
			if !ok1 || !ok2 {
				return nil, fmt.Errorf("%q are no days of the week", word)
			}
			for d := first; ; d = (d + 1) % 7 {
				if out = append(out, d); d == last {
					break
				}
			}
			continue
		}
		d, ok := weekdayCalled(word)
		if !ok {
			return nil, fmt.Errorf("%q is no day of the week", word)
		}
		out = append(out, d)
	}
	if len(out) == 0 {
		return nil, errors.New("say on which day of the week, as monday")
	}
	slices.SortFunc(out, func(a, b time.Weekday) int { return (int(a)+6)%7 - (int(b)+6)%7 })
	return slices.Compact(out), nil
}

func (c *Cadence) readOn(text string) (err error) {
	text = strings.TrimSpace(strings.TrimPrefix(" "+tidy(text), " on "))
	switch {
	case c.unit == weeks && c.days != nil:
		if text != "" {
			return errors.New("the days of the week are named already")
		}
	case c.unit == weeks:
		if text == "" {
			return errors.New("say on which day of the week, as monday")
		}
		c.days, err = weekdayList(text)
	case c.unit == months:
		if text == "" {
			return errors.New("say on which day of the month, as 1, 15, last, or first monday")
		}
		c.on, err = monthDays(text)
	case text != "":
		return errors.New("days are named for weeks and months only; write every monday, or every month on 1")
	}
	return err
}

var ordinals = map[string]int{"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}

var numbered = regexp.MustCompile(`^(\d{1,2})(?:st|nd|rd|th|\.)?$`)

func ordinal(word string) (int, bool) {
	if n, ok := ordinals[word]; ok {
		return n, true
	}
	m := numbered.FindStringSubmatch(word)
	if m == nil {
		return 0, false
	}
	n, _ := strconv.Atoi(m[1])
	return n, true
}

// monthDays reads days of the month: 1st, 15, last, last day, first monday, last
// weekday.
func monthDays(text string) ([]monthDay, error) {
	var out []monthDay
	for _, part := range list(text) {
		part = strings.TrimPrefix(part, "the ")
		if from, to, ok := strings.Cut(part, "-"); ok {
			a, ok1 := ordinal(strings.TrimSpace(from))
			b, ok2 := ordinal(strings.TrimSpace(to))
			if !ok1 || !ok2 || a < 1 || b > 31 || a > b {
				return nil, fmt.Errorf("%q are no days of the month; write 1-7", part)
			}
			for n := a; n <= b; n++ {
				out = append(out, monthDay{n: n})
			}
			continue
		}
		of, what, _ := strings.Cut(part, " ")
		n, ok := ordinal(of)
		d := monthDay{n: n}
		weekday, isWeekday := weekdayCalled(what)
		switch {
		case !ok:
			return nil, fmt.Errorf("%q is no day of the month; write 1, 15, last, first monday, or last weekday", part)
		case what == "" || what == "day":
		case isWeekday:
			d.weekday = &weekday
			if n > 5 || n == 0 {
				return nil, fmt.Errorf("no month has %s five times over; write first to fifth, or last", part)
			}
		case what == "weekday" || what == "working day" || what == "workday" || what == "business day":
			d.working = true
			if n > 23 {
				return nil, fmt.Errorf("no month has %d working days", n)
			}
		default:
			return nil, fmt.Errorf("%q is no day of the month; write 1, 15, last, first monday, or last weekday", part)
		}
		if n == 0 || n > 31 {
			return nil, fmt.Errorf("no month has a day %d", n)
		}
		out = append(out, d)
	}
	slices.SortStableFunc(out, func(a, b monthDay) int { return a.rank() - b.rank() })
	out = slices.CompactFunc(out, func(a, b monthDay) bool { return a.String() == b.String() })
	if len(out) > MostTimes {
		return nil, fmt.Errorf("%d days are named; at most %d can be", len(out), MostTimes)
	}
	return out, nil
}

// rank orders days of the month: plain ones first, the last one last.
func (m monthDay) rank() int {
	r := m.n
	if m.n < 0 {
		r = 60
	}
	if m.working {
		r += 100
	}
	if m.weekday != nil {
		r += 200 + 100*((int(*m.weekday)+6)%7)
	}
	return r
}

// monthDay is a day of a month: by number, by its place among the working days, or
// by that among the days of the week of one name.
type monthDay struct {
	n       int // from 1; -1 is the last
	working bool
	weekday *time.Weekday
}

func (m monthDay) is(day int) bool {
	y, month, d := dateOf(day)
	last := dayOfDate(y, month+1, 0)
	switch {
	case m.weekday != nil:
		if weekdayOf(day) != *m.weekday {
			return false
		}
		if m.n < 0 {
			return day+7 > last
		}
		return (d-1)/7+1 == m.n
	case m.working:
		if !working(weekdayOf(day)) {
			return false
		}
		begin, end := day-d+1, day
		if m.n < 0 {
			begin, end = day, last
		}
		count := 0
		for x := begin; x <= end; x++ {
			if working(weekdayOf(x)) {
				count++
			}
		}
		return m.n < 0 && count == 1 || count == m.n
	case m.n < 0:
		return day == last
	}
	return d == m.n
}
