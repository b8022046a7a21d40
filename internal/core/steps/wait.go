package steps

import (
	"errors"
	"fmt"
	"time"

	"youngtrellis/internal/core/expr"
)

// MaxWait is the longest that an item waits.
const MaxWait = 400 * 24 * time.Hour

type wait struct {
	For   time.Duration `form:"for" title:"For" help:"As 10m, 2h, 3d." example:"3d"`
	Until *expr.Program `form:"until" title:"Until the time" help:"An expression that gives a time; one that is over waits for nothing." example:"item.starts"`
	At    string        `form:"at" title:"Until the next" pattern:"^([01][0-9]|2[0-3]):[0-5][0-9]$" help:"A time of day." example:"08:30"`
	Zone  string        `form:"zone" title:"In the zone" default:"UTC" example:"Europe/Lisbon"`

	zone *time.Location
}

var waitKind = New(Info{
	Type: "wait", Title: "Wait",
	Words: "delay pause sleep until later minutes hours days time",
	Help:  "Lets each item wait: for a while, until a time that it names, or until the next time of day. Waiting costs nothing and survives restarts.",
}, func(w *wait) string {
	switch {
	case w.For > 0:
		return "Wait for " + expr.Words(w.For)
	case w.Until != nil:
		return "Wait until " + w.Until.Words()
	case w.At != "" && w.Zone != "":
		return "Wait until " + w.At + " in " + w.Zone
	case w.At != "":
		return "Wait until " + w.At
	}
	return "Wait … (to fill in)"
}, compileWait)

func compileWait(w *wait) (Operator, error) {
	given := 0
	for _, is := range []bool{w.For != 0, w.Until != nil, w.At != ""} {
		if is {
			given++
		}
	}
	if given != 1 {
		return nil, wrong("for", errors.New("give one of for, until and at"))
	}
	if w.For < 0 || w.For > MaxWait {
		return nil, wrong("for", fmt.Errorf("an item waits for at most %s", expr.Words(MaxWait)))
	}
	var err error
	if w.zone, err = time.LoadLocation(w.Zone); err != nil {
		return nil, wrong("zone", fmt.Errorf("%q is not a zone; one is written as Europe/Lisbon", w.Zone))
	}
	return w, nil
}

// Due implements Parker.
func (w *wait) Due(s *expr.Scope, now time.Time) (time.Time, error) {
	switch {
	case w.For > 0:
		return now.Add(w.For), nil
	case w.Until != nil:
		v, err := w.Until.Eval(s)
		if err != nil {
			return time.Time{}, wrong("until", err)
		}
		due, err := expr.ParseTime(expr.Text(v), w.zone)
		if err != nil {
			return time.Time{}, wrong("until", err)
		}
		if due.Sub(now) > MaxWait {
			return time.Time{}, wrong("until", fmt.Errorf("%s lies further ahead than %s", due.Format(time.RFC3339), expr.Words(MaxWait)))
		}
		return due, nil
	}
	clock, _ := time.Parse("15:04", w.At)
	local := now.In(w.zone)
	due := time.Date(local.Year(), local.Month(), local.Day(), clock.Hour(), clock.Minute(), 0, 0, w.zone)
	if !due.After(now) {
		due = time.Date(local.Year(), local.Month(), local.Day()+1, clock.Hour(), clock.Minute(), 0, 0, w.zone)
	}
	return due, nil
}
