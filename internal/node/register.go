package node

import (
	"context"
	"slices"
	"strings"
	"sync"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
)

// stage of a run in a node's hands.
type stage int

const (
	starting  stage = iota // its start is on its way to the database
	waiting                // for a place
	executing              // it is carried out
	ending                 // its end is on its way to the database
)

// String words a stage.
func (s stage) String() string {
	return [...]string{"starting", "taken", "executing", "ending"}[s]
}

// Executing is a run that a node has in hand.
type Executing struct {
	Workspace uuid.UUID
	Run       uuid.UUID
	Claim     int
	Stage     string
}

// register holds every run that a node has in hand, by the claim by which it
// has it, from before its start or claim is sent until its end is acknowledged.
type register struct {
	mu   sync.Mutex // protects the following field
	held map[uuid.UUID]*entry
}

type entry struct {
	workspace uuid.UUID
	claim     int
	stage     stage
	stop      *engine.Stop // of its execution
	drop      context.CancelCauseFunc
	wish      int  // to cancel it; heard before its execution began
	halt      bool // nothing set aside is to be tried again any more; so is this
	handed    bool // it is to be handed over; so is this
}

func newRegister() *register { return &register{held: map[uuid.UUID]*entry{}} }

// add takes a run in. A newer claim replaces an older one.
func (r *register) add(workspace, run uuid.UUID, claim int, s stage) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.held[run] = &entry{workspace: workspace, claim: claim, stage: s}
}

// set moves a run on to a stage.
func (r *register) set(run uuid.UUID, claim int, s stage) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e, ok := r.held[run]; ok && e.claim == claim {
		e.stage = s
	}
}

// begin notes that a run is being executed; false means that it is not ours any
// more by this claim.
func (r *register) begin(run uuid.UUID, claim int, stop *engine.Stop, drop context.CancelCauseFunc) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	e, ok := r.held[run]
	if !ok || e.claim != claim {
		return false
	}
	e.stage, e.stop, e.drop = executing, stop, drop
	e.ask()
	return true
}

// remove takes a run out, if it is still held by this claim.
func (r *register) remove(run uuid.UUID, claim int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e, ok := r.held[run]; ok && e.claim == claim {
		delete(r.held, run)
	}
}

// started notes that a run whose start was on its way waits for a place; false means
// that it is in hand otherwise: it waited in the queue and was claimed here before
// its start was repeated, and may be over by now.
func (r *register) started(run uuid.UUID, claim int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	e, ok := r.held[run]
	if !ok || e.claim != claim || e.stage != starting {
		return false
	}
	e.stage = waiting
	return true
}

// notStarted takes a run out whose start was not made, or not for us. It may
// have been claimed before we hear so; then it stays.
func (r *register) notStarted(run uuid.UUID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e, ok := r.held[run]; ok && e.stage == starting {
		delete(r.held, run)
	}
}

// ask tells a running execution what somebody wishes.
func (e *entry) ask() {
	if e.stop != nil && e.handed {
		e.stop.Handover()
	}
	if e.stop != nil && e.halt {
		e.stop.Halt()
	}
	switch {
	case e.stop == nil:
	case e.wish > 1:
		e.stop.Cut()
	case e.wish == 1:
		e.stop.Cancel()
	}
}

// cancel brings runs to their end that somebody wants to end.
func (r *register) cancel(list []store.Cancelled) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range list {
		if e, ok := r.held[c.Run]; ok && (c.Cancel > e.wish || c.Halt && !e.halt) {
			e.wish, e.halt = max(e.wish, c.Cancel), e.halt || c.Halt
			e.ask()
		}
	}
}

// handOver stops every execution at its next effect, also those that are about
// to begin.
func (r *register) handOver() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.held {
		if e.stage == executing {
			e.handed = true
			e.ask()
		}
	}
}

// dropIf ends the execution of a run at once: it is another's.
func (r *register) dropIf(run uuid.UUID, claim int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e, ok := r.held[run]; ok && e.claim == claim {
		if e.drop != nil {
			e.drop(engine.ErrDropped)
		}
		delete(r.held, run)
	}
}

// claims gives what is held, and which of it the database must know of: what is
// starting or ending may be there or not.
func (r *register) claims() (all, certain map[uuid.UUID]int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	all, certain = make(map[uuid.UUID]int, len(r.held)), make(map[uuid.UUID]int, len(r.held))
	for run, e := range r.held {
		all[run] = e.claim
		if e.stage == waiting || e.stage == executing {
			certain[run] = e.claim
		}
	}
	return all, certain
}

// list gives what is held, in order.
func (r *register) list() []Executing {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]Executing, 0, len(r.held))
	for run, e := range r.held {
		out = append(out, Executing{e.workspace, run, e.claim, e.stage.String()})
	}
	slices.SortFunc(out, func(a, b Executing) int { return strings.Compare(a.Run.String(), b.Run.String()) })
	return out
}
