package cadence

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/near"
)

var unitNames = map[string]struct {
	unit unit
	n    int
}{
	"second": {seconds, 1}, "sec": {seconds, 1}, "s": {seconds, 1},
	"minute": {minutes, 1}, "min": {minutes, 1}, "m": {minutes, 1},
	"hour": {hours, 1}, "h": {hours, 1}, "hourly": {hours, 1},
	"half hour": {minutes, 30}, "half an hour": {minutes, 30}, "quarter hour": {minutes, 15}, "quarter of an hour": {minutes, 15},
	"day": {days, 1}, "d": {days, 1}, "daily": {days, 1}, "morning": {days, 1}, "evening": {days, 1},
	"weekday": {weekdays, 1}, "working day": {weekdays, 1}, "workday": {weekdays, 1}, "business day": {weekdays, 1}, "working morning": {weekdays, 1},
	"week": {weeks, 1}, "weekly": {weeks, 1}, "fortnight": {weeks, 2},
	"month": {months, 1}, "monthly": {months, 1}, "quarter": {months, 3}, "quarterly": {months, 3}, "year": {months, 12}, "yearly": {months, 12},
}

var numberNames = map[string]int{"other": 2, "second": 2, "two": 2, "three": 3, "third": 3, "four": 4, "fourth": 4, "five": 5, "six": 6, "ten": 10, "twelve": 12, "fifteen": 15, "twenty": 20, "thirty": 30}

var counted = regexp.MustCompile(`^(\d+|[a-z]+) ?([a-z][a-z ]*)$`)

func single(word string) string {
	for _, plural := range []string{"weekdays", "days", "mornings", "evenings"} {
		if word == plural || strings.HasSuffix(word, " "+plural) {
			return strings.TrimSuffix(word, "s")
		}
	}
	if _, ok := unitNames[word]; !ok && strings.HasSuffix(word, "s") {
		return strings.TrimSuffix(word, "s")
	}
	return word
}

// readEvery reads how often: 10 minutes, weekday, monday and thursday, 2 weeks.
func (c *Cadence) readEvery(text string, s Settings) error {
	text = strings.TrimPrefix(strings.TrimPrefix(tidy(text), "every "), "each ")
	if list, err := weekdayList(text); err == nil && slices.Equal(list, workdays) {
		c.unit = weekdays
	} else if err == nil {
		c.unit, c.days = weeks, list
	} else if u, ok := unitNames[single(text)]; ok {
		c.unit, c.n = u.unit, u.n
	} else if parts := counted.FindStringSubmatch(text); parts != nil {
		n, isNumber := numberNames[parts[1]]
		if !isNumber {
			var err error
			n, err = strconv.Atoi(parts[1])
			isNumber = err == nil
		}
		u, ok := unitNames[single(parts[2])]
		if !ok || !isNumber {
			return &Error{"every", unknownUnit(text)}
		}
		c.unit, c.n = u.unit, u.n*n
	} else {
		return &Error{"every", unknownUnit(text)}
	}
	if err := c.checkCount(); err != nil {
		return &Error{"every", err}
	}
	if err := c.readOn(s.On); err != nil {
		return &Error{"on", err}
	}
	if err := c.readAt(s.At); err != nil {
		return &Error{"at", err}
	}
	return nil
}

func unknownUnit(text string) error {
	known := []string{}
	for name := range unitNames {
		if len(name) > 2 {
			known = append(known, name)
		}
	}
	for _, n := range weekdayNames {
		known = append(known, strings.ToLower(n))
	}
	slices.Sort(known)
	words := strings.Fields(text)
	hint := ""
	if len(words) > 0 {
		hint = near.Hint(single(words[len(words)-1]), known)
	}
	return fmt.Errorf("%q is no cadence; write 10 minutes, 2 hours, day, weekday, monday and thursday, 2 weeks, or month.%s", text, hint)
}

var mostOf = map[unit]int{seconds: 86400, minutes: 60 * 24 * 31, hours: 24 * 366, days: 3660, weeks: 520, months: 120}

func (c *Cadence) checkCount() error {
	most, bounded := mostOf[c.unit]
	switch {
	case c.n < 1:
		return errors.New("it begins at 1")
	case c.unit == weekdays && c.n > 1:
		return errors.New("working days are not counted; write 2 days, or name the days, as monday, wednesday and friday")
	case bounded && c.n > most:
		return fmt.Errorf("%d is more than the %d that are counted", c.n, most)
	case c.unit == seconds && time.Duration(c.n)*time.Second < Shortest:
		return fmt.Errorf("the shortest interval is %s", expr.Words(Shortest))
	}
	return nil
}
