package connector

import (
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
)

// Wait is a place where the other side says how long to wait: a header, a
// field of the body, or a pattern within its text. A pattern's first group is
// the number; a second one, if there is one, the unit.
type Wait struct {
	Header string `doc:"header"`
	Field  string `doc:"field"` // expression over response
	Text   string `doc:"text"`  // pattern over the message and the body's text
	Unit   string `doc:"unit"`  // ms, s, m, h, or at: a moment, as epoch seconds or a date; s unless given

	field *expr.Program
	text  *regexp.Regexp
}

var units = map[string]time.Duration{"": time.Second, "ms": time.Millisecond, "s": time.Second, "m": time.Minute, "h": time.Hour, "at": 0}

// longest is more than any wait that is believed.
const longest = 30 * 24 * time.Hour

func (f *Failure) compile(k *compiler, path string) {
	f.message, f.field = k.template(path+".message", f.Message, ofAnswer), k.template(path+".field", f.Field, ofAnswer)
	f.code, f.when = k.program(path+".code", f.Code, ofAnswer), k.program(path+".when", f.When, ofAnswer)
	for i := range f.Wait {
		w, at := &f.Wait[i], fmt.Sprintf("%s.wait[%d]", path, i)
		if _, ok := units[w.Unit]; !ok {
			k.add(at+".unit", fmt.Errorf("the unit is ms, s, m, h or at, not %q", w.Unit))
		}
		w.field = k.program(at+".field", w.Field, ofAnswer)
		if w.Text != "" {
			p, err := regexp.Compile(w.Text)
			if err == nil && p.NumSubexp() < 1 {
				err = fmt.Errorf("the pattern needs a group that holds the number")
			}
			k.add(at+".text", err)
			w.text = p
		}
		if w.Header == "" && w.Field == "" && w.Text == "" {
			k.add(at, fmt.Errorf("a wait stands in a header, a field or a text"))
		}
	}
}

// usualText finds a wait where no connector says where it stands.
var usualText = regexp.MustCompile(`(?i)\b(?:try(?:ing)?|retry|wait|again|in|after)\b[^0-9]{0,40}?(\d+(?:\.\d+)?)\s*(milliseconds?|ms|seconds?|secs?|s|minutes?|mins?|m|hours?|hrs?|h)\b`)

// Wait tells how long the other side says to wait: where the document says,
// else by Retry-After, the usual rate headers, or its words. It is 0 where
// nothing is said.
func (c *Connector) Wait(a *call.Answer, now time.Time) time.Duration {
	p := parse(a, "auto")
	scope := answerScope(a, p.value, nil)
	said := c.message(p.value, scope)
	if s, ok := p.value.(string); ok {
		said += " " + s
	}
	for _, w := range c.Failure.Wait {
		if d := w.read(a, scope, said, now); d > 0 {
			return d
		}
	}
	if d := RetryAfter(a.Header, now); d > 0 {
		return d
	}
	if a.Status != http.StatusTooManyRequests && a.Status != http.StatusServiceUnavailable {
		return 0
	}
	if d := rateReset(a.Header, now); d > 0 {
		return d
	}
	return inText(usualText, said, "")
}

func (w *Wait) read(a *call.Answer, scope *expr.Scope, said string, now time.Time) time.Duration {
	switch {
	case w.Header != "":
		return amount(strings.TrimSpace(a.Header.Get(w.Header)), w.Unit, now)
	case w.field != nil:
		if v, err := w.field.Eval(scope); err == nil && v != nil {
			return amount(expr.Text(v), w.Unit, now)
		}
	case w.text != nil:
		return inText(w.text, said, w.Unit)
	}
	return 0
}

func inText(p *regexp.Regexp, said, unit string) time.Duration {
	m := p.FindStringSubmatch(said)
	if m == nil {
		return 0
	}
	if len(m) > 2 && m[2] != "" {
		switch u := strings.ToLower(m[2]); {
		case strings.HasPrefix(u, "ms"), strings.HasPrefix(u, "milli"):
			unit = "ms"
		default:
			unit = u[:1]
		}
	}
	return amount(m[1], unit, time.Time{})
}

// amount reads a number in a unit, or a moment.
func amount(s, unit string, now time.Time) time.Duration {
	if s == "" {
		return 0
	}
	f, err := strconv.ParseFloat(s, 64)
	if unit == "at" || err != nil {
		if now.IsZero() {
			return 0
		}
		var at time.Time
		switch {
		case err == nil && f > 1e12:
			at = time.UnixMilli(int64(f))
		case err == nil:
			at = time.Unix(int64(f), 0)
		default:
			if at, err = http.ParseTime(s); err != nil {
				if at, err = time.Parse(time.RFC3339, s); err != nil {
					return 0
				}
			}
		}
		return bounded(at.Sub(now))
	}
	return bounded(time.Duration(f * float64(units[unit])))
}

func bounded(d time.Duration) time.Duration { return max(0, min(d, longest)) }

// RetryAfter reads the header of that name in both forms, seconds and HTTP
// date (RFC 9110, section 10.2.3). It is 0 where there is none.
func RetryAfter(h http.Header, now time.Time) time.Duration {
	v := strings.TrimSpace(h.Get("Retry-After"))
	if n, err := strconv.ParseFloat(v, 64); err == nil && n >= 0 {
		return bounded(time.Duration(min(n, 1e7) * float64(time.Second)))
	}
	if t, err := http.ParseTime(v); err == nil {
		return bounded(t.Sub(now))
	}
	return 0
}

var structured = regexp.MustCompile(`(?:^|[;,\s])(?:t|reset)=(\d+)`)

// rateReset reads the rate headers in common use. A number too large to be a
// length of time is a moment.
func rateReset(h http.Header, now time.Time) time.Duration {
	for _, name := range []string{"RateLimit-Reset", "X-RateLimit-Reset-After", "X-Rate-Limit-Reset", "X-RateLimit-Reset"} {
		v := strings.TrimSpace(h.Get(name))
		if n, err := strconv.ParseFloat(v, 64); err == nil && n > 0 {
			if n > 1e8 {
				return amount(v, "at", now)
			}
			return bounded(time.Duration(n * float64(time.Second)))
		}
	}
	if m := structured.FindStringSubmatch(h.Get("RateLimit")); m != nil {
		return amount(m[1], "s", now)
	}
	return 0
}
