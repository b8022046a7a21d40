package workflows

import (
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/store"
)

// Agenda is what starts by the clock within a span.
type Agenda struct {
	Now, Until time.Time
	Entries    []Entry
	Together   []Together
}

// Entry is a schedule with the times at which it is due.
type Entry struct {
	store.Soon
	Times []cadence.Due
	More  int // times within the span that are not listed
}

// Together is a minute at which several workflows start.
type Together struct {
	At        time.Time
	Workflows []string // their names
}

// mostTogether is how many such minutes are listed.
const mostTogether = 200

// MakeAgenda tells what starts until a moment, with at most so many times of each
// schedule.
func MakeAgenda(list []store.Soon, now, until time.Time, most int) *Agenda {
	a := &Agenda{Now: now, Until: until}
	minutes := map[time.Time][]string{}
	for _, s := range list {
		e := Entry{Soon: s}
		if c := cadenceOf(s.Scheduled); c != nil && !s.Due.IsZero() && !s.Due.After(until) {
			count, _ := c.Between(s.Due, until, s.Anchor, 0)
			for after := s.Due.Add(-time.Nanosecond); len(e.Times) < most; {
				d, ok := c.Next(after, s.Anchor)
				if !ok || d.At.After(until) {
					break
				}
				e.Times = append(e.Times, d)
				after = d.At
				if m := d.At.Truncate(time.Minute); !slices.Contains(minutes[m], s.Name) {
					minutes[m] = append(minutes[m], s.Name)
				}
			}
			e.More = count + 1 - len(e.Times)
		}
		a.Entries = append(a.Entries, e)
	}
	for at, names := range minutes {
		if len(names) > 1 {
			slices.Sort(names)
			a.Together = append(a.Together, Together{at, names})
		}
	}
	slices.SortFunc(a.Together, func(x, y Together) int { return x.At.Compare(y.At) })
	a.Together = a.Together[:min(len(a.Together), mostTogether)]
	return a
}

// cadenceOf reads a schedule's cadence back; nil where that cannot be.
func cadenceOf(s store.Scheduled) *cadence.Cadence {
	settings, err := cadence.Parse(s.Cadence)
	if err != nil {
		return nil
	}
	c, err := cadence.New(settings)
	if err != nil {
		return nil
	}
	return c
}

// Standing is what one sees of a workflow's start when nothing happens: one of a fixed
// list of sentences, which go on with a time, and with a reason.
type Standing struct {
	Words   string    // as "Next", "Paused by Mara Quill since"
	At      time.Time // zero: none
	Zone    string    // whose clock the time is said by; "": the reader's
	Why     string
	Trouble bool // somebody has to do something
}

// Seen is what is known of what arrived at a workflow.
type Seen struct {
	Last    *time.Time // when a run started last
	Refused *store.Delivery
}

// ACall is what a workflow waits for that something calls.
const ACall = "a call"

// StandingOf tells how a workflow's start stands. Waits is what it waits for: ACall,
// the name of the workflow that it follows, or nothing.
func StandingOf(w store.Workflow, waits string, schedules []store.Scheduled, seen Seen) *Standing {
	switch {
	case w.Live == nil:
		return nil
	case w.State == "paused":
		by := w.StatedBy
		if strings.Contains(by, ",") { // Mara Quill, token demo
			by += ","
		}
		return &Standing{Words: "Paused by " + by + " since", At: w.Stated}
	case len(schedules) > 0:
		return standingOfSchedules(schedules)
	case waits == "":
		return nil
	case seen.Refused != nil && (seen.Last == nil || arrived(seen.Refused).After(*seen.Last)):
		return &Standing{Words: "The last " + map[bool]string{true: "call", false: "start"}[waits == ACall] + " was refused", At: arrived(seen.Refused), Why: words.Sentence(seen.Refused.Reason), Trouble: true}
	case seen.Last == nil && waits == ACall:
		return &Standing{Words: "Live, and never called yet"}
	case seen.Last == nil:
		return &Standing{Words: "Waits for " + waits}
	}
	return &Standing{Words: "Waits for " + waits + "; the last start was", At: *seen.Last}
}

// arrived is when a delivery came: its id tells.
func arrived(d *store.Delivery) time.Time { return time.Unix(d.ID.Time().UnixTime()).UTC() }

func standingOfSchedules(schedules []store.Scheduled) *Standing {
	next := slices.MinFunc(schedules, func(a, b store.Scheduled) int {
		switch {
		case a.Due.IsZero() == b.Due.IsZero():
			return a.Next.Compare(b.Next)
		case a.Due.IsZero():
			return 1
		}
		return -1
	})
	s := &Standing{Words: "Next", At: next.Due, Zone: next.Zone, Why: next.Trouble, Trouble: next.Trouble != ""}
	if next.Due.IsZero() {
		s.Words, s.Zone, s.Trouble = "It is never due again", "", true
	}
	return s
}
