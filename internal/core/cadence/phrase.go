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

// tidy writes what people type in one way.
func tidy(text string) string {
	return strings.TrimRight(strings.Join(strings.Fields(strings.ToLower(text)), " "), ". ")
}

var (
	clause   = regexp.MustCompile(`\b(by cron|cron|at|on|in|from|starting|beginning|until|till|within)\b`)
	ofMonth  = regexp.MustCompile(`\s*\b(?:of|in) (?:the|every|each) (month|quarter|year)\b`)
	partOf   = regexp.MustCompile(`\b(\d{1,2}(?:[:.]\d{2})?)(?: o'clock)? (?:in the (morning|afternoon|evening)|at night)`)
	oclock   = regexp.MustCompile(`\s*o['’]?clock\b`)
	clauseOf = map[string]string{"by cron": "cron", "starting": "from", "beginning": "from", "till": "until"}
)

// Read reads a cadence as people write it, such as "every working day at 8" or
// "on the last Friday of the month at 17:00 in Lisbon", by the clock of a zone where the
// phrase names none; "" is UTC. The error is an *Error.
func Read(phrase, zone string) (*Cadence, error) {
	s, err := parse(phrase)
	if err != nil {
		return nil, err
	}
	if s.Zone == "" {
		s.Zone = zone
	}
	return New(s)
}

// parse takes a phrase apart.
func parse(phrase string) (Settings, error) {
	text := tidy(phrase)
	if text == "" {
		return Settings{}, &Error{"every", ErrUnsaid}
	}
	text = partOf.ReplaceAllStringFunc(text, func(s string) string {
		m := partOf.FindStringSubmatch(s)
		if m[2] == "morning" {
			return m[1] + " am"
		}
		return m[1] + " pm"
	})
	text = oclock.ReplaceAllString(strings.ReplaceAll(text, "each ", "every "), "")
	s := Settings{}
	if m := ofMonth.FindStringSubmatch(text); m != nil {
		s.Every = m[1]
		text = ofMonth.ReplaceAllString(text, "")
	}
	found := clause.FindAllStringIndex(text, -1)
	head := text
	if len(found) > 0 {
		head = text[:found[0][0]]
	}
	if head = trimClause(head); head != "" {
		if s.Every, _, _ = strings.Cut(head, " every "); strings.HasPrefix(s.Every, "every ") {
			s.Every = s.Every[len("every "):]
		}
	}
	for i, f := range found {
		word, end := text[f[0]:f[1]], len(text)
		if i+1 < len(found) {
			end = found[i+1][0]
		}
		if said, ok := clauseOf[word]; ok {
			word = said
		}
		if err := s.clause(phrase, word, trimClause(text[f[1]:end])); err != nil {
			return s, err
		}
	}
	if s.Every == "" && s.On != "" {
		if _, err := weekdayList(s.On); err == nil {
			s.Every, s.On = s.On, ""
		} else if _, err := monthDays(s.On); err == nil {
			s.Every = "month"
		}
	}
	return s, nil
}

func trimClause(s string) string { return strings.Trim(s, " ,;") }

func (s *Settings) clause(phrase, word, rest string) error {
	// What comes at the end may say how often: at 8 every working day.
	if before, every, ok := strings.Cut(" "+rest, " every "); ok && word != "cron" {
		if s.Every != "" {
			return &Error{"every", fmt.Errorf("it is said twice how often: %s, and %s", s.Every, every)}
		}
		s.Every, rest = trimClause(every), trimClause(before)
	}
	fields := map[string]*string{"at": &s.At, "on": &s.On, "in": &s.Zone, "from": &s.From, "until": &s.Until, "cron": &s.Cron}
	if word == "within" {
		d, err := span(rest)
		s.Jitter = d
		if err != nil {
			return &Error{"jitter", err}
		}
		return nil
	}
	to := fields[word]
	if *to != "" {
		return &Error{word, fmt.Errorf("%q is said twice: %s, and %s", word, *to, rest)}
	}
	if rest == "" {
		return &Error{word, fmt.Errorf("something is missing after %q", word)}
	}
	*to = rest
	if word == "from" || word == "until" {
		*to = strings.ToUpper(rest) // the T of 2026-12-01T08:00
	}
	if word == "in" {
		*to = asWritten(phrase, rest)
	}
	if word == "cron" {
		s.Cron = strings.Trim(rest, `"'`)
	}
	return nil
}

// asWritten finds a part of a phrase in the letters in which it was written: zones
// are told apart by them.
func asWritten(phrase, part string) string {
	phrase = strings.Join(strings.Fields(phrase), " ")
	if i := strings.Index(strings.ToLower(phrase), part); i >= 0 && i+len(part) <= len(phrase) {
		return phrase[i : i+len(part)]
	}
	return part
}

var spanWords = regexp.MustCompile(`^(\d+) (second|minute|hour)s?$`)

func span(text string) (time.Duration, error) {
	if m := spanWords.FindStringSubmatch(text); m != nil {
		text = m[1] + m[2][:1]
	}
	return expr.ParseDuration(text)
}
