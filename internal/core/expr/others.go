package expr

import (
	"errors"
	"regexp"
	"time"
)

// Library is the number of the function library. Under one number no function
// ever changes what it gives for the same values: a correction is a function of
// its own, or stands under the next number.
//
// What others decide is the exception: what a page is about, where a character
// ends by Unicode, how a locale writes, when a zone changes its clocks. Their
// data come with new versions of packages that they write. Expressions that meet
// such a function are written down with what they gave (see Others), so that a
// run goes on as it began.
const Library = 1

// Decision is what an expression gave that others had a part in.
type Decision struct {
	Value any    // settled, as Eval gives it
	Wrong *Error // why it gave nothing, or nil
}

// Others remembers, for the item in scope, what expressions gave that others had
// a part in. It is asked only by expressions that come to such a function.
type Others interface {
	// Recall finds what an expression gave before. The error ends the evaluation.
	Recall(source string) (d Decision, found bool, err error)
	Record(source string, d Decision)
}

// errRecalled ends an evaluation of which it is known what it gave.
var errRecalled = errors.New("it is known already")

// decided is called before others decide something of the evaluation.
func (m *machine) decided() error {
	if m.met || m.scope.Others == nil {
		return nil
	}
	m.met = true
	d, found, err := m.scope.Others.Recall(m.source)
	switch {
	case err != nil:
		m.broken = err
	case found:
		m.recalled, err = &d, errRecalled
	}
	return err
}

// A decider tells whether others decide what a call gives.
type decider func(m *machine, a args) bool

// byOthers marks a function of which others decide for all values.
func byOthers(f *function) { f.others = func(*machine, args) bool { return true } }

// byUnicode marks a function that counts or cuts characters: of most texts it is
// fixed where they end, of others Unicode's next version may say it otherwise.
func byUnicode(f *function) {
	f.others = func(_ *machine, a args) bool {
		for _, v := range a {
			if s, ok := v.(string); ok && !settled(s) {
				return true
			}
		}
		return false
	}
}

// byLocale marks a function that writes or reads as a locale does, if the value at
// a place names one.
func byLocale(at int) option {
	return func(f *function) {
		f.others = func(_ *machine, a args) bool { s := a.text(at); return s != "" && isLetter(s[0]) }
	}
}

// byLetters marks a function that takes letters for others, if there are some
// beside those of ASCII.
func byLetters(f *function) {
	f.others = func(_ *machine, a args) bool { return !single(a.text(0)) }
}

// byHours marks a function that takes working hours, if they name a zone.
func byHours(at int) option {
	return func(f *function) { f.others = func(_ *machine, a args) bool { return a.object(at)["zone"] != nil } }
}

// zoneInPattern are the letters of a date pattern that stand for a named zone.
var zoneInPattern = regexp.MustCompile("[vVz]")

// byDate marks a function that reads or writes a date by the pattern and locale
// at two places.
func byDate(pattern, locale int) option {
	return func(f *function) {
		f.others = func(_ *machine, a args) bool { return a.has(locale) || zoneInPattern.MatchString(a.text(pattern)) }
	}
}

// decides tells whether others decide what a call gives: by what the function
// does, or as the clocks of a zone count.
func (f *function) decides(m *machine, a args) bool {
	if f.others != nil && f.others(m, a) {
		return true
	}
	if !f.clocks {
		return false
	}
	if moves(m.scope.zone()) {
		return true
	}
	for _, v := range a {
		switch v := v.(type) {
		case *time.Location:
			if moves(v) {
				return true
			}
		case time.Time:
			if moves(v.Location()) {
				return true
			}
		}
	}
	return false
}

// moves tells whether a zone's clocks are set by somebody: those of an offset are
// not.
func moves(zone *time.Location) bool {
	if zone == time.UTC {
		return false
	}
	name := zone.String()
	return name != "" && name[0] != '+' && name[0] != '-' && name != "UTC"
}

// settled tells whether no later version of Unicode can move the ends of a text's
// characters: below U+0300 each sign is one, CR LF aside, and stays so.
func settled(s string) bool {
	for _, r := range s {
		if r >= 0x300 {
			return false
		}
	}
	return true
}
