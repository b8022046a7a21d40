package engine

import (
	"context"
	"errors"
	"slices"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

// Due is what a wake is about: the items whose time has come, or that were
// called, of a run that had parked in good order. Execute follows them only.
// What the lattice is given then are the rows that take the place of theirs.
type Due struct {
	Items  []Place
	Counts Counts // when the run had parked
	Next   Place  // the item among the others that is due next
	At     time.Time
}

// Place is where an item waits.
type Place struct {
	Step    uint16
	Address item.Address
}

// ErrWide says that a wake cannot follow the due items only. Nothing was done;
// the run is to be executed as a whole.
var ErrWide = errors.New("all items of the run are needed")

// wake lets the due items go on. What they had counted before is counted by a
// replay of them, so that the run's counts come out as if all had been read.
func (r *Run) wake(ctx context.Context, stop *Stop) (*Result, error) {
	if !r.narrow() || slices.ContainsFunc(r.Passes, func(p Pass) bool { return meetList(p.Plan) || goesRound(p.Plan) }) {
		return nil, ErrWide
	}
	before := newExecution(r, &Stop{})
	defer before.close()
	told, err := before.alreadyFailed(ctx)
	if err != nil || told { // its items wait for a resume; only what is told of it goes on
		return nil, ErrWide
	}
	err = before.follow(ctx, r.Due.Items)
	if err == nil {
		err = before.flow(ctx, &counting{before})
	}
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case err != nil: // whatever it is, a whole execution meets it too, and holds out where that helps
		return nil, ErrWide
	}
	rest := r.Due.Counts.less(before.counts.snapshot())

	live := *r
	live.Lattice = &successors{r.Lattice, before.wanted}
	if r.Progress != nil {
		live.Progress = func(c Counts) { r.Progress(rest.plus(c)) }
	}
	x := newExecution(&live, stop)
	x.wanted, x.rest, x.about = before.wanted, rest, map[Place]bool{}
	for _, p := range r.Due.Items {
		x.about[p] = true
	}
	if !r.Due.At.IsZero() {
		x.wait(x.parkedAt(r.Due.Next.Step, r.Due.At))
	}
	return x.carryOut(ctx)
}

// follow makes the due items wanted, with all that they were made of.
func (x *execution) follow(ctx context.Context, due []Place) error {
	x.wanted = newWanted()
	for _, p := range due {
		if err := x.want(ctx, p.Address, 0); err != nil {
			return err
		}
	}
	x.wanted.due = make([]item.Address, 0, len(due))
	for _, p := range due {
		x.wanted.due = append(x.wanted.due, p.Address)
	}
	slices.Sort(x.wanted.due)
	return nil
}

// goesRound tells whether a plan has loops: whether a round is over depends on
// all of its items.
func goesRound(p *workflow.Plan) bool {
	return slices.ContainsFunc(p.Steps, (*workflow.CompiledStep).Loops)
}

// meetList tells whether items that wait in a plan can come to a list later on:
// what is in the list depends on the others then.
func meetList(p *workflow.Plan) bool {
	for _, at := range p.Steps {
		if !parksAt(at) {
			continue
		}
		for _, s := range p.Steps {
			if (s.Groups() || s.Picks() || s.Sifts()) && s.Column > at.Column && follows(s, at) {
				return true
			}
		}
	}
	return false
}

// parksAt tells whether items wait at a step.
func parksAt(s *workflow.CompiledStep) bool {
	_, parker := s.Operator.(steps.Parker)
	return !s.Off && (parker || s.Action != nil && s.Action.Job != nil)
}

// parkedAt is why the run waits, as the step at which an item does says it.
func (x *execution) parkedAt(step uint16, due time.Time) *call.Parked {
	at := x.last().Plan.ByNumber(step)
	switch {
	case at == nil:
		return &call.Parked{Reason: call.ReasonWait, Until: due}
	case at.Action != nil && at.Action.Job != nil:
		return jobParked(at, due)
	}
	return &call.Parked{Reason: call.ReasonWait, Until: due, Message: at.Name + " waits until " + due.UTC().Format("2 Jan 15:04 UTC")}
}

// successors is a lattice that is given the rows of the due items, and of what
// came of them.
type successors struct {
	Lattice
	of *wanted
}

// Rows implements Lattice.
func (s *successors) Rows(ctx context.Context, pass int, rows []Row) error {
	rows = slices.DeleteFunc(slices.Clone(rows), func(r Row) bool { return !s.of.came(r.Address) })
	return s.Lattice.Rows(ctx, pass, rows)
}

// came tells whether an item is one of the due ones, or came of one.
func (w *wanted) came(a item.Address) bool {
	i, found := slices.BinarySearch(w.due, a)
	return found || i > 0 && a.Within(w.due[i-1])
}

// counting is a last stage that only counts.
type counting struct{ x *execution }

func (s *counting) take(_ context.Context, chunk []*flow) error {
	for _, f := range chunk {
		s.x.counts.ended(f)
	}
	return nil
}

func (s *counting) end(context.Context) error { return nil }
