package engine

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// Pass is one stretch of a run.
type Pass struct {
	Number int
	Plan   *workflow.Plan
	// Only chooses which open items go on; nil means those that a resume takes
	// up: all but set-aside ones and those in doubt.
	Only func(item.Address) bool
	// At sends items that stopped before a step to another: old name to new.
	At map[string]string
}

// Run is what the engine executes: the passes so far, the last of which is
// live, and the world that it needs.
type Run struct {
	Facts   workflow.RunFacts
	Passes  []Pass
	Source  Source
	Journal Journal
	Caller  Caller
	Clock   Clock
	Lattice Lattice
	// Rehearse prepares writes instead of sending them.
	Rehearse bool
	// Chunk is how many items go through together; 0 grows from 16 to 256.
	Chunk int
	// Progress is told after each chunk.
	Progress func(Counts)

	halted atomic.Pointer[haltReason]
	counts *tally
}

// Source gives the trigger's items by page; io.EOF after the last.
type Source interface {
	Page(ctx context.Context, page int) ([]map[string]any, error)
}

// Lattice takes the rows of a pass in order.
type Lattice interface {
	Rows(ctx context.Context, pass int, rows []Row) error
}

// State a run or pass ends in.
type State string

const (
	Queued    State = "queued"
	Running   State = "running"
	WaitingOn State = "waiting"
	Succeeded State = "succeeded"
	Partial   State = "partial"
	FailedRun State = "failed"
	Cancelled State = "cancelled"
)

// Result is how a pass ended.
type Result struct {
	State  State
	Parked *Parked
	Reason string // of a failure, in words
	Counts Counts
}

type haltReason struct {
	parked    *Parked
	failure   string
	cancelled bool
	handover  bool
}

// ErrHandover says that the run was told to stop so that another may go on.
var ErrHandover = errors.New("the run was handed over")

// Cancel lets no new effect begin; those in flight finish and are journaled.
func (r *Run) Cancel() { r.halt(haltReason{cancelled: true}) }

// Handover stops at the next effect boundary without ending the run.
func (r *Run) Handover() { r.halt(haltReason{handover: true}) }

func (r *Run) halt(h haltReason) { r.halted.CompareAndSwap(nil, &h) }

// Execute carries the last pass out. It may be called again after a crash:
// what is journaled is not done again. An error means that the journal or the
// lattice could not be reached, not that an item failed.
func (r *Run) Execute(ctx context.Context) (*Result, error) {
	last := r.Passes[len(r.Passes)-1]
	r.counts = newTally(last.Plan)
	stream := r.pipeline(true, nil)
	end := &sink{run: r, plan: last.Plan, pass: last.Number}
	for {
		flows, err := stream.next(ctx)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if err := end.take(ctx, flows); err != nil {
			return nil, err
		}
	}
	return end.result()
}

// Frontier replays everything with effects forbidden and tells each item that
// is open: what a resume or retry would take up.
func (r *Run) Frontier(ctx context.Context, each func(Open) error) error {
	r.counts = newTally(r.Passes[len(r.Passes)-1].Plan)
	stream := r.pipeline(false, nil)
	plan := r.Passes[len(r.Passes)-1].Plan
	for {
		flows, err := stream.next(ctx)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		for _, f := range flows {
			if !f.isOpen {
				continue
			}
			o := Open{Address: f.it.Address, Step: plan.Steps[f.at].Name, Outcome: f.open, Label: Label(plan, f.it)}
			if f.at < len(f.cells) {
				o.Text = f.cells[f.at].Text
			}
			if err := each(o); err != nil {
				return err
			}
		}
	}
}

// Open is an item that is not done.
type Open struct {
	Address item.Address
	Step    string
	Outcome Outcome // empty: it had not come so far
	Label   string
	Text    string
}

// pipeline builds the stages of all passes, one after the other. Effects are
// allowed in the last only, and only if live.
func (r *Run) pipeline(live bool, only *item.Address) stage {
	var s stage = &triggerStage{run: r, plan: r.Passes[0].Plan, only: only}
	for i, p := range r.Passes {
		if i > 0 {
			s = &takeUp{up: s, from: r.Passes[i-1].Plan, pass: p}
		}
		for _, step := range p.Plan.Steps {
			b := base{run: r, up: s, plan: p.Plan, step: step, pass: p.Number, live: live && i == len(r.Passes)-1, only: only}
			switch {
			case step.Operation != nil || step.Off:
				s = &computeStage{b}
			case step.Action.Job != nil:
				s = &jobStage{base: b}
			case step.Lists():
				s = &listStage{base: b}
			default:
				s = &actionStage{b}
			}
		}
	}
	return s
}

// stage gives chunks of flows in order, io.EOF at the end.
type stage interface {
	next(ctx context.Context) ([]*flow, error)
}

type base struct {
	run  *Run
	up   stage
	plan *workflow.Plan
	step *workflow.CompiledStep
	pass int
	live bool
	only *item.Address // inspect this item and what leads to it
}

// relevant tells whether an item can lead to the inspected one.
func relevant(only *item.Address, a item.Address) bool {
	return only == nil || a.Within(*only) || only.Within(a)
}

type triggerStage struct {
	run     *Run
	plan    *workflow.Plan
	only    *item.Address
	page    int
	ordinal uint32
	pending []*flow
	size    int
	ended   bool
}

func (t *triggerStage) next(ctx context.Context) ([]*flow, error) {
	if t.size == 0 {
		t.size = 16
		if t.run.Chunk > 0 {
			t.size = t.run.Chunk
		}
	}
	for len(t.pending) == 0 {
		if t.ended {
			return nil, io.EOF
		}
		fields, err := t.run.Source.Page(ctx, t.page)
		if errors.Is(err, io.EOF) {
			t.ended = true
			continue
		}
		if err != nil {
			return nil, err
		}
		t.page++
		for _, f := range fields {
			it := item.New(t.ordinal, f, t.run.Facts.Started)
			t.ordinal++
			if relevant(t.only, it.Address) {
				f := &flow{it: it}
				if t.only != nil {
					f.entries = map[int]*Entry{}
				}
				t.pending = append(t.pending, f)
				t.run.counts.arrived()
			}
		}
	}
	n := min(t.size, len(t.pending))
	chunk := t.pending[:n:n]
	t.pending = t.pending[n:]
	if t.run.Chunk == 0 && t.size < 256 {
		t.size *= 2
	}
	return chunk, nil
}

// takeUp hands the open items of one pass to the next.
type takeUp struct {
	up    stage
	from  *workflow.Plan
	pass  Pass
	moves []int // index of a step in from to its index in pass.Plan, or -1
}

func (t *takeUp) next(ctx context.Context) ([]*flow, error) {
	if t.moves == nil {
		t.moves = Moves(t.from, t.pass.Plan, t.pass.At)
	}
	flows, err := t.up.next(ctx)
	for _, f := range flows {
		t.take(f)
	}
	return flows, err
}

func (t *takeUp) take(f *flow) {
	chosen := f.isOpen && (t.pass.Only == nil && f.open != SetAside && f.open != Unknown || t.pass.Only != nil && t.pass.Only(f.it.Address))
	if t.from != t.pass.Plan {
		f.remap(t.moves, len(t.pass.Plan.Steps))
	}
	for i := range f.cells {
		f.cells[i].Reused = true
	}
	if !f.isOpen {
		f.through = !f.ended || f.through
		f.ended = true
		return
	}
	if f.at < 0 { // its step is gone
		f.at = len(t.pass.Plan.Steps)
		f.isOpen, f.ended = false, true
		return
	}
	if chosen {
		if f.open == Unknown {
			f.generation++
		}
		f.isOpen, f.open = false, ""
		f.cells = f.cells[:min(len(f.cells), f.at)]
	}
}

// Moves tells where each step of the old plan stands in the new one: the step
// of the same name, the one that says it was called so, or the one named in at.
func Moves(from, to *workflow.Plan, at map[string]string) []int {
	moves := make([]int, len(from.Steps))
	for i, s := range from.Steps {
		moves[i] = -1
		for j, n := range to.Steps {
			if n.Name == s.Name || n.Was == s.Name || at[s.Name] == n.Name {
				moves[i] = j
				break
			}
		}
	}
	return moves
}

// remap moves a flow from one plan to another: its cells, the step at which it
// stands, and the steps of its lineage.
func (f *flow) remap(moves []int, steps int) {
	cells := make([]Cell, steps)
	for i := range cells {
		cells[i] = Cell{Fate: NotReached}
	}
	for i, c := range f.cells {
		if i < len(moves) && moves[i] >= 0 {
			cells[moves[i]] = c
		}
	}
	f.cells = cells
	if f.at < len(moves) {
		f.at = moves[f.at]
	}
	f.it = rechain(f.it, moves)
}

func rechain(it *item.Item, moves []int) *item.Item {
	if it == nil || it.Step < 0 {
		return it
	}
	c := *it
	c.Parent = rechain(it.Parent, moves)
	c.Step = c.Parent.Step
	if it.Step < len(moves) && moves[it.Step] >= 0 {
		c.Step = moves[it.Step]
	}
	return &c
}

// sink takes every flow at the end of the pipeline.
type sink struct {
	run  *Run
	plan *workflow.Plan
	pass int
}

func (s *sink) take(ctx context.Context, flows []*flow) error {
	rows := make([]Row, 0, len(flows))
	for _, f := range flows {
		s.run.counts.ended(f)
		for len(f.cells) < len(s.plan.Steps) {
			f.cells = append(f.cells, Cell{Fate: NotReached})
		}
		rows = append(rows, Row{Address: f.it.Address, Label: Label(s.plan, f.it), Cells: f.cells, Item: f.it})
	}
	if err := s.run.Lattice.Rows(ctx, s.pass, rows); err != nil {
		return err
	}
	if s.run.Progress != nil {
		s.run.Progress(s.run.counts.snapshot())
	}
	return nil
}

func (s *sink) result() (*Result, error) {
	res := &Result{State: Succeeded, Counts: s.run.counts.snapshot()}
	if h := s.run.halted.Load(); h != nil {
		switch {
		case h.handover:
			return nil, ErrHandover
		case h.parked != nil:
			res.State, res.Parked = WaitingOn, h.parked
			return res, nil
		case h.cancelled:
			res.State = Cancelled
			return res, nil
		}
		res.Reason = h.failure
	}
	switch c := res.Counts; {
	case c.Stopped > 0 || res.Reason != "":
		res.State = FailedRun
	case c.SetAside > 0 || c.InDoubt > 0:
		res.State = Partial
	}
	return res, nil
}

// Counts is what a run has done so far.
type Counts struct {
	In       int           `json:"in"`      // trigger items
	Through  int           `json:"through"` // items that passed every step
	Held     int           `json:"held_back"`
	Nothing  int           `json:"gave_nothing"`
	SetAside int           `json:"set_aside"`
	Stopped  int           `json:"stopped"`
	InDoubt  int           `json:"may_have_been_sent"`
	Waiting  int           `json:"not_done"`
	Calls    int           `json:"calls"`
	Units    float64       `json:"units"`
	Steps    []StepCounts  `json:"steps"`
	Took     time.Duration `json:"-"`
}

// StepCounts is what a step has done so far. In = out + held back + set aside +
// gave nothing + stopped + in doubt, where a step gives one item for one.
type StepCounts struct {
	Name     string  `json:"name"`
	In       int     `json:"in"`
	Out      int     `json:"out"`
	Held     int     `json:"held_back"`
	Nothing  int     `json:"gave_nothing"`
	SetAside int     `json:"set_aside"`
	Stopped  int     `json:"stopped"`
	InDoubt  int     `json:"may_have_been_sent"`
	Calls    int     `json:"calls"`
	Units    float64 `json:"units"`
	Millis   int64   `json:"millis"` // spent in calls
}

type tally struct {
	mu     sync.Mutex
	counts Counts
	byName map[string]int
}

func newTally(p *workflow.Plan) *tally {
	t := &tally{byName: map[string]int{}}
	for i, s := range p.Steps {
		t.byName[s.Name] = i
		if s.Was != "" {
			t.byName[s.Was] = i
		}
		t.counts.Steps = append(t.counts.Steps, StepCounts{Name: s.Name})
	}
	return t
}

func (t *tally) snapshot() Counts {
	t.mu.Lock()
	defer t.mu.Unlock()
	c := t.counts
	c.Steps = append([]StepCounts(nil), c.Steps...)
	return c
}

func (t *tally) arrived() {
	t.mu.Lock()
	t.counts.In++
	t.mu.Unlock()
}

// at changes the counts of a step by name; steps of an earlier revision that
// are gone are not counted.
func (t *tally) at(name string, change func(*StepCounts)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if i, ok := t.byName[name]; ok {
		change(&t.counts.Steps[i])
	}
}

func (t *tally) effect(name string, e *Entry) {
	t.at(name, func(c *StepCounts) {
		c.Calls += max(1, e.Attempts)
		c.Units += e.Units
		c.Millis += e.Ended.Sub(e.Started).Milliseconds()
		t.counts.Calls += max(1, e.Attempts)
		t.counts.Units += e.Units
	})
}

func (t *tally) ended(f *flow) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !f.isOpen {
		switch {
		case !f.ended || f.through:
			t.counts.Through++
		case lastFate(f.cells) == GaveNothing:
			t.counts.Nothing++
		default:
			t.counts.Held++
		}
		return
	}
	var s *StepCounts
	if f.at < len(t.counts.Steps) {
		s = &t.counts.Steps[f.at]
	} else {
		s = &StepCounts{}
	}
	switch f.open {
	case SetAside:
		t.counts.SetAside++
		s.In++
		s.SetAside++
	case Failed:
		t.counts.Stopped++
		s.In++
		s.Stopped++
	case Unknown:
		t.counts.InDoubt++
		s.In++
		s.InDoubt++
	default:
		t.counts.Waiting++
	}
}

func lastFate(cells []Cell) Fate {
	for i := len(cells) - 1; i >= 0; i-- {
		if cells[i].Fate != NotReached {
			return cells[i].Fate
		}
	}
	return NotReached
}
