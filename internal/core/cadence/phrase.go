package cadence

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"youngtrellis/internal/core/expr"
)

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
