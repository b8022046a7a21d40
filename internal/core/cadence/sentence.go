package cadence

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"youngtrellis/internal/core/words"
)

// Sentence words the cadence, as "every weekday at 16:30 in Europe/Lisbon". Read
// takes it back as the same.
func (c *Cadence) Sentence() string {
	out := "by cron "
	if c.unit == byCron {
		out += c.cron.line
	} else {
		out = "every " + c.every()
		if on := c.onWords(); on != "" {
			out += " on " + on
		}
		if len(c.at) > 0 {
			out += " at " + c.atWords()
		}
	}
	if c.named != "UTC" {
		out += " in " + c.named
	}
	if c.from.set() {
		out += " from " + c.from.text
	}
	if c.until.set() {
		out += " until " + c.until.text
	}
	if c.Jitter > 0 {
		out += ", within " + spanText(c.Jitter)
	}
	return out
}

// spanText is a span of whole seconds, exactly.
func spanText(d time.Duration) string {
	for _, u := range []unit{hours, minutes} {
		if d%length[u] == 0 {
			return words.Count(int(d/length[u]), unitWords[u])
		}
	}
	return words.Count(int(d/time.Second), unitWords[seconds])
}

// Settings gives the cadence as a document says it best.
func (c *Cadence) Settings() Settings {
	s := Settings{From: c.from.text, Until: c.until.text, Jitter: c.Jitter, Zone: c.named}
	if c.unit == byCron {
		s.Cron = c.cron.line
		return s
	}
	s.Every, s.On, s.At = c.every(), strings.ReplaceAll(c.onWords(), "the ", ""), c.atWords()
	return s
}

var unitWords = map[unit]string{seconds: "second", minutes: "minute", hours: "hour", days: "day", weekdays: "weekday", weeks: "week", months: "month"}

// every is how often, without its days and times.
func (c *Cadence) every() string {
	switch {
	case c.n > 1:
		return strconv.Itoa(c.n) + " " + unitWords[c.unit] + "s"
	case c.unit == weeks:
		return c.dayNames()
	}
	return unitWords[c.unit]
}

func (c *Cadence) dayNames() string {
	var names []string
	for _, d := range c.days {
		names = append(names, weekdayNames[d])
	}
	return words.And(names...)
}

func (c *Cadence) onWords() string {
	switch {
	case c.unit == weeks && c.n > 1:
		return c.dayNames()
	case c.unit == months:
		var names []string
		for _, d := range c.on {
			names = append(names, d.String())
		}
		return "the " + words.And(names...)
	}
	return ""
}

func (c *Cadence) atWords() string {
	var times []string
	for _, at := range c.at {
		text := at.String()
		if c.unit == hours {
			text = fmt.Sprintf(":%02d", int(at))
		}
		times = append(times, text)
	}
	return words.And(times...)
}

var ordinalWords = map[int]string{1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last"}

func (m monthDay) String() string {
	n := nth(m.n)
	word, ok := ordinalWords[m.n]
	switch {
	case m.weekday != nil && ok:
		return word + " " + weekdayNames[*m.weekday]
	case m.working && ok:
		return word + " weekday"
	case m.working:
		return n + " weekday"
	case m.n < 0:
		return "last day"
	}
	return n
}

func nth(n int) string {
	suffix := "th"
	if n/10%10 != 1 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return strconv.Itoa(n) + suffix
}
