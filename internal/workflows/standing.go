package workflows

import (
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

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
	Kept    int // events, while it is paused
}

// What a workflow waits for that has an address.
const (
	ACall = "a call"
	AForm = "its form"
)

// WaitsFor is what the start of a workflow waits for, where that comes from outside:
// ACall, AForm, the name of the workflow that it follows, or nothing.
func WaitsFor(w *workflow.Workflow) string {
	if w == nil {
		return ""
	}
	if f := w.Start().Follows; f != nil {
		return f.Workflow
	}
	if k, ok := triggers.Find(w.Trigger.Type); ok && k.Addressed() {
		if k.Hosted {
			return AForm
		}
		return ACall
	}
	return ""
}

// StandingOf tells how a workflow's start stands. Waits is what it waits for, as
// WaitsFor says.
func StandingOf(w store.Workflow, waits string, schedules []store.Scheduled, seen Seen) *Standing {
	out := standingOf(w, waits, schedules, seen)
	switch first := "next run takes " + words.Count(w.AtFirst, "item") + " at first"; {
	case w.AtFirst == 0 || w.State != "live":
	case out == nil:
		return &Standing{Words: "The " + first}
	case out.Why == "":
		out.Why = "the " + first
	}
	return out
}

func standingOf(w store.Workflow, waits string, schedules []store.Scheduled, seen Seen) *Standing {
	switch {
	case w.Live == nil:
		return nil
	case w.State == "paused":
		by := w.StatedBy
		if strings.Contains(by, ",") { // Mara Quill, token demo
			by += ","
		}
		out := &Standing{Words: "Paused by " + by + " since", At: w.Stated}
		if seen.Kept > 0 {
			out.Why = words.Count(seen.Kept, "call") + " kept meanwhile"
		}
		return out
	case len(schedules) > 0:
		return standingOfSchedules(schedules)
	case waits == "":
		return nil
	case seen.Refused != nil && (seen.Last == nil || arrived(seen.Refused).After(*seen.Last)):
		what := "start"
		switch waits {
		case ACall:
			what = "call"
		case AForm:
			what = "form"
		}
		return &Standing{Words: "The last " + what + " was refused", At: arrived(seen.Refused), Why: words.Sentence(seen.Refused.Reason), Trouble: true}
	case seen.Last == nil && waits == ACall:
		return &Standing{Words: "Live, and never called yet"}
	case seen.Last == nil && waits == AForm:
		return &Standing{Words: "Live, and never filled in yet"}
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
	s := &Standing{Words: "Next", At: next.Due, Zone: next.Zone}
	for _, x := range schedules {
		if x.Trouble != "" { // that of the workflow itself comes first
			s.Why, s.Trouble = x.Trouble, true
			break
		}
	}
	switch i := slices.IndexFunc(schedules, func(x store.Scheduled) bool { return x.ListVersion == store.NoVersion }); {
	case !next.Due.IsZero():
	case i >= 0:
		s.Words, s.Zone = "The hours of "+schedules[i].List+" are being read", ""
	default:
		s.Words, s.Zone, s.Trouble = "It is never due again", "", true
	}
	return s
}
