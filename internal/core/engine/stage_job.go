package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// jobs calls an action that takes a while: it begins the work, looks until it is
// done, and gives the result. It takes in its whole list; items go on in the
// order in which they are done.
type jobs struct {
	base
	pending []*job
	settled []*job
}

// job is one item whose work is under way.
type job struct {
	f     *flow
	known *known
	next  time.Time // of the next look
}

// take takes items in and begins what was not begun.
func (s *jobs) take(ctx context.Context, chunk []*flow) error {
	var out, due []*flow
	for _, f := range chunk {
		if s.mine(f) {
			s.arrives(f)
			due = append(due, f)
		} else {
			out = append(out, f)
		}
	}
	known, err := s.known(ctx, due)
	if err != nil {
		return err
	}
	for _, f := range due {
		j := &job{f: f, known: known[f.it.Address]}
		if err := s.doubt(ctx, f, j.known); err != nil {
			return err
		}
		switch {
		case j.known.entry != nil:
			s.settled = append(s.settled, j)
			continue
		case j.known.submitted != nil: // the run was taken up again, perhaps because the other side called
			j.next = s.Clock.Now()
		}
		s.pending = append(s.pending, j)
	}
	return s.give(ctx, out)
}

// end waits until the work of all is done, or for as long as it may.
func (s *jobs) end(ctx context.Context) error {
	slices.SortStableFunc(s.settled, byEnd)
	if err := s.settleAll(ctx, s.settled); err != nil {
		return err
	}
	s.settled = nil
	if err := s.submit(ctx); err != nil {
		return err
	}
	if err := s.gone(ctx); err != nil {
		return err
	}
	for len(s.pending) > 0 {
		if err := s.look(ctx); err != nil {
			return err
		}
	}
	return s.down.end(ctx)
}

func byEnd(a, b *job) int {
	return cmp.Or(a.known.entry.Ended.Compare(b.known.entry.Ended), cmp.Compare(a.f.it.Address, b.f.it.Address))
}

func (s *jobs) settleAll(ctx context.Context, done []*job) error {
	out := make([]*flow, 0, len(done))
	for _, j := range done {
		e := j.known.entry
		if err := s.settle(ctx, j.f, e); err != nil {
			return err
		}
		if j.known.submitted != nil && !e.Outcome.Final() { // the work was begun and came to nothing: another try is another work
			j.f.generation, j.f.former = e.Generation+1, nil
		}
		if j.f.state == moving {
			j.f.timely(s.step, e.Ended)
			s.remember(j.f.it)
		}
		out = append(out, j.f)
	}
	return s.chunks(ctx, out, s.down)
}

func (s *jobs) submit(ctx context.Context) error {
	if !s.room.live {
		return nil
	}
	byFlow := map[*flow]*job{}
	var due []*flow
	for _, j := range s.pending {
		if j.known.submitted == nil {
			due = append(due, j.f)
			byFlow[j.f] = j
		}
	}
	return s.each(ctx, due, s.step.Parallel, func(ctx context.Context, f *flow) error {
		switch {
		case s.stop.set():
			return nil
		case !s.mayBegin(f):
			s.leave(f)
			return nil
		}
		return s.submitOne(ctx, byFlow[f])
	})
}

// gone gives on what does not begin.
func (s *jobs) gone(ctx context.Context) error {
	var out []*flow
	s.pending = slices.DeleteFunc(s.pending, func(j *job) bool {
		if j.f.state != aside && j.f.state != doubtful {
			return false
		}
		out = append(out, j.f)
		return true
	})
	return s.chunks(ctx, out, s.down)
}

// submitOne begins the work for an item. What is final of it stands under
// PartSubmit where it was begun, and under part 0 where it was not.
func (s *jobs) submitOne(ctx context.Context, j *job) error {
	e := s.base.begin(j.f, 0)
	subject := Subject{Scope: s.scope(j.f.it)}
	if s.step.Action.Job.Callback != "" && !s.Rehearse && s.Callbacks != nil {
		if err := s.held(ctx, "the address to be told at cannot be made", func(ctx context.Context) (err error) {
			subject.Callback, err = s.Callbacks.Callback(ctx, s.step.Number, e.Rounds, e.Address)
			return err
		}); err != nil {
			return s.left(j.f, err)
		}
	}
	begin := &action{base: &s.base, read: func(a *call.Answer) (*Gave, error) {
		v, err := s.step.Action.ReadSubmitted(a, s.Clock.Now())
		return &Gave{Output: v}, err
	}}
	// The announcement and the key are those of the beginning.
	e.Part = PartSubmit
	gave, why, repeat, err := s.try(ctx, j.f, e, j.known, begin, subject)
	if err != nil {
		return s.left(j.f, err)
	}
	if why != nil || e.Request != nil && e.Request.Prepared { // a rehearsal is answered at once
		e.Part = 0
		j.known.entry, err = s.append(ctx, j.f, e, gave, why, repeat)
		return err
	}
	j.known.submitted, err = s.append(ctx, j.f, e, gave, nil, repeat)
	return err
}

// look asks after every job that is due, and waits if none is done.
func (s *jobs) look(ctx context.Context) error {
	if !s.effective() {
		return s.leaveAll(ctx, "")
	}
	now := s.Clock.Now()
	var due []*flow
	byFlow := map[*flow]*job{}
	for _, j := range s.pending {
		if j.known.entry != nil || j.known.submitted == nil {
			continue
		}
		if j.next.IsZero() {
			j.next = j.known.submitted.Ended.Add(s.step.Action.Job.Pause(0))
		}
		if !j.next.After(now) {
			due = append(due, j.f)
			byFlow[j.f] = j
		}
	}
	if err := s.each(ctx, due, s.step.Parallel, func(ctx context.Context, f *flow) error { return s.ask(ctx, byFlow[f]) }); err != nil {
		return err
	}
	before := len(s.pending)
	if err := s.collect(ctx); err != nil || len(s.pending) < before || s.stop.set() {
		return err
	}
	soonest := s.soonest()
	pause := soonest.Sub(s.Clock.Now())
	if pause > s.longest() {
		p := jobParked(s.step, soonest)
		s.wait(p)
		return s.leaveAll(ctx, p.Message)
	}
	s.pause(ctx, max(pause, 0))
	return ctx.Err()
}

// jobParked is why a run waits that has a job under way at a step.
func jobParked(step *workflow.CompiledStep, soonest time.Time) *call.Parked {
	message := fmt.Sprintf("%s works on it; the next look is at %s", step.Action.Connector().Title, soonest.UTC().Format("15:04 UTC"))
	return &call.Parked{Reason: call.ReasonJob, Connection: step.Connection, Until: soonest, Message: message}
}

// soonest is when the next of the jobs is due.
func (s *jobs) soonest() time.Time {
	var soonest time.Time
	for _, j := range s.pending {
		if j.known.entry == nil && (soonest.IsZero() || j.next.Before(soonest)) {
			soonest = j.next
		}
	}
	return soonest
}

// collect moves the jobs that have ended to those that go on.
func (s *jobs) collect(ctx context.Context) error {
	var done []*job
	rest := s.pending[:0]
	for _, j := range s.pending {
		if j.known.entry != nil {
			done = append(done, j)
		} else {
			rest = append(rest, j)
		}
	}
	s.pending = rest
	slices.SortStableFunc(done, byEnd)
	return s.settleAll(ctx, done)
}

// leaveAll gives up what is under way; whoever takes the run up looks again.
func (s *jobs) leaveAll(ctx context.Context, message string) error {
	if err := s.collect(ctx); err != nil {
		return err
	}
	var out []*flow
	var later []Waits
	for _, j := range s.pending {
		switch {
		case j.f.state != moving: // it says already what it waits for
		case s.room.live && message != "" && j.known.submitted != nil:
			later = append(later, Waits{Key: s.key(j.f.it.Address, PartSubmit), Due: j.next})
			j.f.become(parked, s.step.Number, s.rounds)
			s.show(j.f, Waiting, message)
		default:
			if s.leave(j.f); s.room.live && j.f.state == left {
				s.show(j.f, Waiting, message)
			}
		}
		out = append(out, j.f)
	}
	s.pending = nil
	err := s.held(ctx, "the times of the next looks cannot be written", func(ctx context.Context) error { return s.Journal.Postpone(ctx, later) })
	if err != nil {
		return err
	}
	return s.chunks(ctx, out, s.down)
}

// ask looks at one job: whether it is done, and what it gave.
func (s *jobs) ask(ctx context.Context, j *job) error {
	begun := j.known.submitted
	text, err := s.result(ctx, begun)
	if err != nil {
		return s.left(j.f, err)
	}
	submitted, err := item.Decode(text)
	if err != nil {
		return fmt.Errorf("the journaled answer of %s cannot be read: %w", s.step.Name, err)
	}
	a := s.step.Action
	var state connector.JobState
	check := s.follow(connector.JobCheck, submitted)
	check.read = func(answer *call.Answer) (gave *Gave, err error) {
		state, err = a.ReadJob(answer, submitted, s.Clock.Now())
		switch {
		case err != nil:
			return nil, err
		case state.Failed != "":
			return nil, &call.Failure{Class: call.Refused, Message: state.Failed}
		case !state.Done || a.Job.Result != nil:
			return &Gave{}, nil
		}
		return s.gave(answer)
	}
	e := &Entry{Key: begun.Key, Started: begun.Started}
	e.Part = 0
	gave, why, repeat, err := s.try(ctx, j.f, e, j.known, check, Subject{Scope: s.scope(j.f.it)})
	if err == nil && why == nil && state.Done && a.Job.Result != nil {
		fetch := s.follow(connector.JobResult, submitted)
		fetch.read = s.gave
		gave, why, repeat, err = s.try(ctx, j.f, e, j.known, fetch, Subject{Scope: s.scope(j.f.it)})
	}
	if err != nil {
		return s.left(j.f, err)
	}
	now := s.Clock.Now()
	ago := now.Sub(begun.Ended)
	switch {
	case why != nil, state.Done:
	case ago > a.Job.Ends():
		why = &call.Failure{Class: call.Refused, Message: fmt.Sprintf("%s had not finished after %s", a.Connector().Title, a.Job.Ends())}
	default:
		j.next = now.Add(a.Job.Pause(ago))
		return nil
	}
	e.InputHash, e.Generation = begun.InputHash, begun.Generation
	j.known.entry, err = s.append(ctx, j.f, e, gave, why, repeat, Wakes{begun.Key})
	return err
}

// follow performs one of the calls that follow a job.
func (s *jobs) follow(part connector.JobPart, submitted any) *action {
	return &action{base: &s.base, build: func(account, input map[string]any) (*call.Call, error) {
		return s.step.Action.BuildJob(part, account, input, submitted)
	}}
}

// gave reads what a job gave in the end.
func (s *jobs) gave(answer *call.Answer) (*Gave, error) {
	page, err := s.step.Action.Read(answer, connector.Asked{Now: s.Clock.Now()})
	if err != nil {
		return nil, err
	}
	return &Gave{Output: page.Output, Items: page.Items, Next: page.Next, Units: page.Units}, nil
}
