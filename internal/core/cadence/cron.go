package cadence

import (
	"errors"
	"fmt"
	"strings"

	parser "github.com/robfig/cron/v3"
)

// cron is a line of five fields: minute, hour, day of the month, month, day of the
// week, as cron(8) reads it. Where days of the month and of the week are both
// named, either will do.
type cron struct {
	line   string
	of     *parser.SpecSchedule
	passed bool // the hours begin with *: it counts the time that passes
	anyDay bool
	anyDow bool
}

var cronFields = []string{"minute", "hour", "day of the month", "month", "day of the week"}

func readCron(line string) (*cron, error) {
	fields := strings.Fields(line)
	if len(fields) != len(cronFields) {
		return nil, fmt.Errorf("a line of cron has five fields (%s), as 30 16 * * 1-5, and this has %d", strings.Join(cronFields, ", "), len(fields))
	}
	read := append([]string(nil), fields...)
	read[4] = sundays(fields[4])
	reader := parser.NewParser(parser.Minute | parser.Hour | parser.Dom | parser.Month | parser.Dow)
	of, err := reader.Parse(strings.Join(read, " "))
	if err != nil {
		// The library names the field nowhere: it is found by reading each alone.
		for i, f := range read {
			alone := []string{"*", "*", "*", "*", "*"}
			alone[i] = f
			if _, e := reader.Parse(strings.Join(alone, " ")); e != nil {
				return nil, fmt.Errorf("%q is not a %s of cron (%s)", fields[i], cronFields[i], cronTakes[i])
			}
		}
		return nil, errors.New("this is not a line of cron")
	}
	spec, ok := of.(*parser.SpecSchedule)
	if !ok {
		return nil, errors.New("this is not a line of cron")
	}
	return &cron{
		line: strings.Join(fields, " "), of: spec, passed: strings.HasPrefix(fields[1], "*"),
		anyDay: strings.HasPrefix(fields[2], "*") || fields[2] == "?", anyDow: strings.HasPrefix(fields[4], "*") || fields[4] == "?",
	}, nil
}

var cronTakes = []string{"0 to 59, lists 0,30, ranges 0-15, steps */10", "0 to 23, lists 8,16, ranges 8-17, steps */2", "1 to 31, lists 1,15, ranges 1-7, steps */2", "1 to 12, or jan to dec", "0 to 7, of which 0 and 7 are Sunday, or mon to sun"}

// sundays writes 7 for Sunday as 0, also at the end of a range.
func sundays(field string) string {
	parts := strings.Split(field, ",")
	for i, p := range parts {
		switch {
		case p == "7":
			parts[i] = "0"
		case strings.HasSuffix(p, "-7"):
			parts[i] = strings.TrimSuffix(p, "7") + "6,0"
		}
	}
	return strings.Join(parts, ",")
}

func (c *Cadence) readCron(line string, s Settings) error {
	for field, v := range map[string]string{"on": s.On, "at": s.At} {
		if v != "" {
			return &Error{field, errors.New("a line of cron says itself on which days and at what time")}
		}
	}
	var err error
	if c.cron, err = readCron(line); err != nil {
		return &Error{"cron", err}
	}
	c.unit = byCron
	for at := range clock(24 * 60) {
		if has(c.cron.of.Hour, int(at)/60) && has(c.cron.of.Minute, int(at)%60) {
			c.at = append(c.at, at)
		}
	}
	return nil
}

func has(bits uint64, n int) bool { return bits&(1<<uint(n)) != 0 }

func (c *cron) falls(day int) bool {
	_, m, d := dateOf(day)
	if !has(c.of.Month, int(m)) {
		return false
	}
	byDay, byDow := has(c.of.Dom, d), has(c.of.Dow, int(weekdayOf(day)))
	if c.anyDay || c.anyDow {
		return byDay && byDow
	}
	return byDay || byDow
}
