package cadence

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

var (
	onClock = regexp.MustCompile(`^(\d{1,2})(?:[:.](\d{2}))? ?(am|pm|a\.m\.|p\.m\.)?$`)
	past    = regexp.MustCompile(`^:?(\d{2})$|^(?:(\d{1,2}) (?:minutes )?past)$`)
)

func (c *Cadence) readAt(text string) error {
	text = strings.TrimPrefix(tidy(text), "at ")
	switch c.unit {
	case seconds, minutes:
		if text != "" {
			return errors.New("minutes are counted and have no time of the day; write every hour at :15, or every day at 08:00")
		}
		return nil
	case hours:
		for _, part := range list(text) {
			m := past.FindStringSubmatch(part)
			if m == nil {
				return fmt.Errorf("%q is no minute of the hour; write :15, or :15 and :45", part)
			}
			n, _ := strconv.Atoi(m[1] + m[2])
			if n > 59 {
				return fmt.Errorf("an hour has no minute %d", n)
			}
			c.at = append(c.at, clock(n))
		}
	default:
		parts := list(text)
		if len(parts) == 0 {
			return errors.New("say at what time of the day, as 08:00")
		}
		for _, part := range parts {
			at, err := readClock(part)
			if err != nil {
				return err
			}
			c.at = append(c.at, at)
		}
	}
	slices.Sort(c.at)
	if c.at = slices.Compact(c.at); len(c.at) > MostTimes {
		return fmt.Errorf("%d times are named; at most %d can be. Write a line of cron, or every 10 minutes", len(c.at), MostTimes)
	}
	return nil
}

func readClock(text string) (clock, error) {
	switch text {
	case "noon", "midday":
		return 12 * 60, nil
	case "midnight":
		return 0, nil
	}
	m := onClock.FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("%q is no time of the day; write 08:00, 8 am, or 16:30", text)
	}
	h, _ := strconv.Atoi(m[1])
	minute, _ := strconv.Atoi(m[2])
	if half := strings.ReplaceAll(m[3], ".", ""); half != "" {
		if h < 1 || h > 12 {
			return 0, fmt.Errorf("%q is no time of the day: with am or pm the hours go from 1 to 12", text)
		}
		if h %= 12; half == "pm" {
			h += 12
		}
	}
	if h > 23 || minute > 59 {
		return 0, fmt.Errorf("a day has no %s; the last minute is 23:59", text)
	}
	return clock(h*60 + minute), nil
}
