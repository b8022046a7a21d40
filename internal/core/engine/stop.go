package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"youngtrellis/internal/core/call"
)

// reason to stop. A stronger one replaces a weaker.
type reason int

const (
	goesOn reason = iota
	handedOver
	parks
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
	done    chan struct{} // closed with the first reason
	cut     context.CancelCauseFunc
	cutting bool
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

// Handover stops at the next effect boundary without ending the run.
func (s *Stop) Handover() { s.raise(handedOver, nil, "") }

func (s *Stop) park(p *call.Parked) { s.raise(parks, p, "") }

func (s *Stop) fail(format string, args ...any) { s.raise(fails, nil, fmt.Sprintf(format, args...)) }

func (s *Stop) raise(r reason, p *call.Parked, failure string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case r > s.why:
		s.why, s.failure = r, failure
	case r == parks && s.why == parks && sooner(p, s.parked):
	default:
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
