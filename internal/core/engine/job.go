package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
)

// jobStage calls an action that takes a while: it begins the work, looks until
// it is done, and gives the result. It takes in its whole list; items go on in
// the order in which they are done.
type jobStage struct {
	base
	begun   bool
	pending []*job
	ready   []*flow
}

// job is one item whose work is under way.
type job struct {
	f     *flow
	known pair
	next  time.Time
}

func (s *jobStage) next(ctx context.Context) ([]*flow, error) {
	if !s.begun {
		if err := s.begin(ctx); err != nil {
			return nil, err
		}
		s.begun = true
	}
	for {
		if len(s.ready) > 0 {
			out := s.ready
			s.ready = nil
			return out, nil
		}
		if len(s.pending) == 0 {
			return nil, io.EOF
		}
		if err := s.look(ctx); err != nil {
			return nil, err
		}
	}
}

// begin takes the whole list in and begins what was not begun.
func (s *jobStage) begin(ctx context.Context) error {
	var settled []*job
	for {
		flows, err := s.up.next(ctx)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		var due []*flow
		for _, f := range flows {
			if f.moving(s.step.Index) {
				due = append(due, f)
			} else {
				s.ready = append(s.ready, f)
			}
		}
		known, err := s.known(ctx, due)
		if err != nil {
			return err
		}
		for _, f := range due {
			j := &job{f: f, known: known[f.it.Address]}
			switch {
			case j.known.entry != nil:
				settled = append(settled, j)
			case j.known.submitted == nil && j.known.announced != nil:
				j.known.entry = &Entry{Key: j.known.announced.Key, Outcome: Unknown, Started: j.known.announced.Started, Ended: j.known.announced.Ended, Request: j.known.announced.Request,
					Failure: &Failure{Class: InDoubt, Message: "The service stopped while this call was on its way. It may have been sent."}}
				settled = append(settled, j)
			default:
				if j.known.submitted != nil { // the run was taken up again, perhaps because the other side called
					j.next = s.run.Clock.Now()
				}
				s.pending = append(s.pending, j)
			}
		}
	}
	slices.SortStableFunc(settled, func(a, b *job) int { return a.known.entry.Ended.Compare(b.known.entry.Ended) })
	for _, j := range settled {
		s.settle(j.f, j.known.entry)
		s.ready = append(s.ready, j.f)
	}
	return s.submit(ctx)
}

func (s *jobStage) submit(ctx context.Context) error {
	byFlow := map[*flow]*job{}
	var due []*flow
	for _, j := range s.pending {
		if j.known.submitted == nil {
			due = append(due, j.f)
			byFlow[j.f] = j
		}
	}
	if !s.live {
		return nil
	}
	err := s.each(ctx, due, func(ctx context.Context, f *flow) error {
		if s.run.halted.Load() != nil {
			return nil
		}
		return s.submitOne(ctx, byFlow[f])
	})
	return err
}

func (s *jobStage) submitOne(ctx context.Context, j *job) error {
	e := &Entry{Key: Key{Pass: s.pass, Step: s.step.Number, Address: j.f.it.Address, Part: PartSubmit}, Started: s.now()}
	asked, err := s.build(ctx, j.f, e, nil)
	var page *connector.Page
	var why *Failure
	if err != nil {
		why = s.unbuilt(err)
	} else if page, why, err = s.try(ctx, j.f, e, asked, func(a *connector.Answer) (*connector.Page, error) {
		v, err := s.step.Action.ReadSubmitted(a, s.run.Clock.Now())
		return &connector.Page{Output: v}, err
	}); err != nil {
		return err
	}
	e.Ended = s.now()
	if e.Ended.Before(j.f.it.At) {
		e.Ended = j.f.it.At
	}
	if why != nil {
		if h := s.run.halted.Load(); h != nil && h.parked != nil {
			return nil
		}
		return s.fails(ctx, j, e, why)
	}
	if e.Result, err = item.Encode(page.Output); err != nil {
		return err
	}
	if e.Request != nil && e.Request.Prepared { // a rehearsal is answered at once
		e.Part, e.Outcome = 0, Done
		j.known.entry = e
		return s.run.Journal.Append(ctx, e)
	}
	e.Outcome = Done
	j.known.submitted = e
	return s.run.Journal.Append(ctx, e)
}

// fails makes the end of a job that did not succeed durable.
func (s *jobStage) fails(ctx context.Context, j *job, e *Entry, why *Failure) error {
	e.Part, e.Failure, e.Outcome, e.Result = 0, why, s.outcome(why), nil
	j.known.entry = e
	return s.run.Journal.Append(ctx, e)
}

// look asks after every job that is due, and waits if none is done.
func (s *jobStage) look(ctx context.Context) error {
	if !s.live || s.run.halted.Load() != nil {
		s.leave("")
		return nil
	}
	now := s.run.Clock.Now()
	var soonest time.Time
	for _, j := range s.pending {
		if j.known.entry != nil || j.known.submitted == nil {
			continue
		}
		if j.next.IsZero() {
			j.next = j.known.submitted.Ended.Add(s.step.Action.Job.Pause(0))
		}
		if !j.next.After(now) {
			if err := s.ask(ctx, j); err != nil {
				return err
			}
		}
		if j.known.entry == nil && (soonest.IsZero() || j.next.Before(soonest)) {
			soonest = j.next
		}
	}
	s.collect()
	if len(s.ready) > 0 || len(s.pending) == 0 || s.run.halted.Load() != nil {
		return nil
	}
	pause := soonest.Sub(s.run.Clock.Now())
	if pause > maxWait {
		message := fmt.Sprintf("%s works on it; the next look is at %s", s.step.Action.Connector().Title, soonest.UTC().Format("15:04 UTC"))
		s.run.halt(haltReason{parked: &Parked{Reason: ReasonJob, Connection: s.step.Connection, Until: soonest, Message: message}})
		s.leave(message)
		return nil
	}
	return s.run.Clock.Sleep(ctx, max(pause, 0))
}

// collect moves the jobs that have ended to those that go on.
func (s *jobStage) collect() {
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
	slices.SortStableFunc(done, func(a, b *job) int {
		return cmp.Or(a.known.entry.Ended.Compare(b.known.entry.Ended), cmp.Compare(a.f.it.Address, b.f.it.Address))
	})
	for _, j := range done {
		s.settle(j.f, j.known.entry)
		s.ready = append(s.ready, j.f)
	}
}

// leave gives up what is under way; whoever takes the run up looks again.
func (s *jobStage) leave(message string) {
	s.collect()
	for _, j := range s.pending {
		j.f.isOpen, j.f.open, j.f.at = true, "", s.step.Index
		if s.live {
			j.f.set(s.step.Index, Cell{Fate: Waiting, Text: message})
		}
		s.ready = append(s.ready, j.f)
	}
	s.pending = nil
}

// ask looks at one job.
func (s *jobStage) ask(ctx context.Context, j *job) error {
	action := s.step.Action
	submitted, err := item.Decode(j.known.submitted.Result)
	if err != nil {
		return fmt.Errorf("the journaled answer of %s cannot be read: %w", s.step.Name, err)
	}
	now := s.now()
	e := &Entry{Key: j.known.submitted.Key, InputHash: j.known.submitted.InputHash, Started: j.known.submitted.Started, Request: j.known.submitted.Request}
	e.Part = 0
	v, err := s.step.Input.Eval(s.plan.Scope(j.f.it, s.step, s.run.Facts))
	if err != nil {
		return s.fails(ctx, j, e, failureOf(err))
	}
	input, _ := v.(map[string]any)
	account, err := s.run.Caller.Account(ctx, s.step.Connection)
	if err != nil {
		if why := s.unbuilt(err); s.run.halted.Load() == nil {
			return s.fails(ctx, j, e, why)
		}
		return nil
	}
	call, err := action.BuildJob(connector.JobCheck, account, input, submitted)
	if err != nil {
		return s.fails(ctx, j, e, failureOf(err))
	}
	var state connector.JobState
	page, why, err := s.try(ctx, j.f, e, connector.Asked{Call: call, Input: input}, func(a *connector.Answer) (*connector.Page, error) {
		var err error
		if state, err = action.ReadJob(a, submitted, s.run.Clock.Now()); err != nil || !state.Done || action.Job.Result != nil {
			return nil, err
		}
		return action.Read(a, connector.Asked{Call: call, Input: input, Now: s.run.Clock.Now()})
	})
	if err == nil && why == nil && state.Done && action.Job.Result != nil {
		if call, err = action.BuildJob(connector.JobResult, account, input, submitted); err != nil {
			return s.fails(ctx, j, e, failureOf(err))
		}
		page, why, err = s.try(ctx, j.f, e, connector.Asked{Call: call, Input: input}, func(a *connector.Answer) (*connector.Page, error) {
			return action.Read(a, connector.Asked{Call: call, Input: input, Now: s.run.Clock.Now()})
		})
	}
	if err != nil {
		return err
	}
	e.Ended = s.now()
	began := j.known.submitted.Ended
	switch {
	case why != nil && s.run.halted.Load() != nil && s.run.halted.Load().parked != nil:
		return nil
	case why != nil:
		return s.fails(ctx, j, e, why)
	case state.Failed != "":
		return s.fails(ctx, j, e, &Failure{Class: Refused, Message: state.Failed})
	case state.Done:
		e.Outcome, e.Units = Done, page.Units
		if e.Result, err = s.encode(page); err != nil {
			return err
		}
		j.known.entry = e
		return s.run.Journal.Append(ctx, e)
	case now.Sub(began) > action.Job.Ends():
		return s.fails(ctx, j, e, &Failure{Class: Refused, Message: fmt.Sprintf("%s had not finished after %s", action.Connector().Title, action.Job.Ends())})
	}
	j.next = s.run.Clock.Now().Add(action.Job.Pause(now.Sub(began)))
	return nil
}
