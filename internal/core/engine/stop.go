package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"

	"youngtrellis/internal/core/call"
)

// reason to stop. A stronger one replaces a weaker.
type reason int

const (
	goesOn reason = iota
	handedOver
	parks
	finishes
	fails
	cancelled
)

// Stop brings an execution to its end: no new effect begins, those in flight
// finish and are journaled. It is safe for concurrent use; the zero Stop is
// ready.
type Stop struct {
	mu      sync.Mutex // protects the following fields
	why     reason
	parked  *call.Parked
	failure string
	failing bool          // a failure was taken back, and what is to be done then is done
	weaker  reason        // asked for from outside while a stronger one stood
	done    chan struct{} // closed with the first reason
	cut     context.CancelCauseFunc
	cutting bool
	halted  atomic.Bool
}

// ErrHandover says that the run was told to stop so that another may go on.
var ErrHandover = errors.New("the run was handed over")

// errCut is the cause of calls that were cut by a second cancel.
var errCut = errors.New("the run was cancelled a second time, and its calls were cut")

// Cancel lets no new effect begin; those in flight finish and are journaled.
func (s *Stop) Cancel() { s.raise(cancelled, nil, "") }

// Cut cancels, and cuts the calls that are in flight.
func (s *Stop) Cut() {
	s.Cancel()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cutting = true
	if s.cut != nil {
		s.cut(errCut)
	}
}

// Halt lets no further set-aside item be tried again: those that have begun go on
// to their end, the others stay as they were.
func (s *Stop) Halt() { s.halted.Store(true) }

// Handover stops at the next effect boundary without ending the run.
func (s *Stop) Handover() { s.raise(handedOver, nil, "") }

func (s *Stop) park(p *call.Parked) { s.raise(parks, p, "") }

// Fail lets the run fail for a reason of its own surroundings, as its deadline:
// no new effect begins, those in flight finish and are journaled. A run that is
// failing already goes on with that.
func (s *Stop) Fail(message string) {
	s.mu.Lock()
	failing := s.failing
	s.mu.Unlock()
	if !failing {
		s.raise(fails, nil, message)
	}
}

func (s *Stop) fail(format string, args ...any) { s.raise(fails, nil, fmt.Sprintf(format, args...)) }

// finish ends the run well, before all is done.
func (s *Stop) finish(message string) { s.raise(finishes, nil, message) }

// failed takes a failure back, so that what is to be done then can be done. What
// was asked for from outside meanwhile stays. It gives the failure in words;
// false: there is none.
func (s *Stop) failed() (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.why != fails {
		return "", false
	}
	s.failing = true
	if s.why, s.parked = s.weaker, nil; s.why == goesOn {
		s.done = nil
	}
	return s.failure, true
}

func (s *Stop) raise(r reason, p *call.Parked, failure string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case r > s.why:
		if s.why == handedOver {
			s.weaker = s.why
		}
		s.why, s.failure = r, failure
	case r == parks && s.why == parks && sooner(p, s.parked):
	default:
		if r == handedOver {
			s.weaker = r
		}
		return
	}
	if p != nil {
		s.parked = p
	}
	select {
	case <-s.channel():
	default:
		close(s.done)
	}
}

// sooner tells whether a park ends earlier; one without a time ends last, as
// nobody knows when.
func sooner(p, than *call.Parked) bool {
	return !p.Until.IsZero() && (than.Until.IsZero() || p.Until.Before(than.Until))
}

func (s *Stop) channel() chan struct{} {
	if s.done == nil {
		s.done = make(chan struct{})
	}
	return s.done
}

// Done is closed once there is a reason to stop.
func (s *Stop) Done() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.channel()
}

// set tells whether there is a reason to stop.
func (s *Stop) set() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.why != goesOn
}

// cuttable gives a context for calls, which ends with ctx or by Cut.
func (s *Stop) cuttable(ctx context.Context) (context.Context, func()) {
	ctx, cut := context.WithCancelCause(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cut = cut
	if s.cutting {
		cut(errCut)
	}
	return ctx, func() { cut(nil) }
}

// reason gives why the execution stopped.
func (s *Stop) reason() (reason, *call.Parked, string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.why, s.parked, s.failure
}
