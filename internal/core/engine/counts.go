package engine

import (
	"slices"
	"sync"
	"time"

	"youngtrellis/internal/core/workflow"
)

// Counts is what a run has done so far.
type Counts struct {
	In       int           `json:"in"`      // trigger items
	Through  int           `json:"through"` // items that passed every step
	Joined   int           `json:"joined"`  // items that went into groups
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
	Step     uint16 `json:"step"` // lasting number
	Name     string `json:"name"`
	In       int    `json:"in"`
	Out      int    `json:"out"`
	Held     int    `json:"held_back"`
	Nothing  int    `json:"gave_nothing"`
	SetAside int    `json:"set_aside"`
	Stopped  int    `json:"stopped"`
	InDoubt  int    `json:"may_have_been_sent"`
	// Of those that went on: how many did so with nothing, and how many by the
	// fallback.
	Ways      []int     `json:"ways,omitempty"`   // of a branch: how many went through each case; the last: past all
	Rounds    int       `json:"rounds,omitempty"` // of a loop: how many were begun
	Continued int       `json:"went_on,omitempty"`
	FellBack  int       `json:"fell_back,omitempty"`
	Waiting   int       `json:"waiting"`
	Calls     int       `json:"calls"`
	Units     float64   `json:"units"`
	Millis    int64     `json:"millis"`         // spent in calls
	Began     time.Time `json:"began,omitzero"` // the first of them
	Ended     time.Time `json:"ended,omitzero"` // the last of them
}

// spans widens the time in which calls were made.
func (s *StepCounts) spans(from, to time.Time) {
	if !from.IsZero() && (s.Began.IsZero() || from.Before(s.Began)) {
		s.Began = from
	}
	s.Ended = latest(s.Ended, to)
}

// went counts an item that goes through a case.
func (s *StepCounts) went(way int) {
	for len(s.Ways) <= way {
		s.Ways = append(s.Ways, 0)
	}
	s.Ways[way]++
}

// Of gives the counts of a step by its lasting number.
func (c *Counts) Of(step uint16) StepCounts {
	if i := slices.IndexFunc(c.Steps, func(s StepCounts) bool { return s.Step == step }); i >= 0 {
		return c.Steps[i]
	}
	return StepCounts{Step: step}
}

// plus adds what others counted.
func (c Counts) plus(o Counts) Counts { return c.with(o, 1) }

// less takes away what others counted.
func (c Counts) less(o Counts) Counts { return c.with(o, -1) }

func (c Counts) with(o Counts, sign int) Counts {
	if len(c.Steps) == 0 && c.In == 0 {
		return o
	}
	c.In += sign * o.In
	c.Through += sign * o.Through
	c.Joined += sign * o.Joined
	c.Held += sign * o.Held
	c.Nothing += sign * o.Nothing
	c.SetAside += sign * o.SetAside
	c.Stopped += sign * o.Stopped
	c.InDoubt += sign * o.InDoubt
	c.Waiting += sign * o.Waiting
	c.Calls += sign * o.Calls
	c.Units += float64(sign) * o.Units
	c.Steps = slices.Clone(c.Steps)
	for i := range c.Steps {
		s, more := &c.Steps[i], o.Of(c.Steps[i].Step)
		s.In += sign * more.In
		s.Out += sign * more.Out
		s.Held += sign * more.Held
		s.Nothing += sign * more.Nothing
		s.SetAside += sign * more.SetAside
		s.Stopped += sign * more.Stopped
		s.InDoubt += sign * more.InDoubt
		s.Continued += sign * more.Continued
		s.Rounds += sign * more.Rounds
		s.Ways = slices.Clone(s.Ways)
		for i, n := range more.Ways {
			for len(s.Ways) <= i {
				s.Ways = append(s.Ways, 0)
			}
			s.Ways[i] += sign * n
		}
		s.FellBack += sign * more.FellBack
		s.Waiting += sign * more.Waiting
		s.Calls += sign * more.Calls
		s.Units += float64(sign) * more.Units
		s.Millis += int64(sign) * more.Millis
		s.spans(more.Began, more.Ended)
	}
	return c
}

// tally counts. Steps of an earlier revision that are gone are not counted.
type tally struct {
	mu     sync.Mutex // protects the following fields
	counts Counts
	index  map[uint16]int
}

func newTally(p *workflow.Plan) *tally {
	t := &tally{index: map[uint16]int{}}
	for i, s := range p.Steps {
		t.index[s.Number] = i
		t.counts.Steps = append(t.counts.Steps, StepCounts{Step: s.Number, Name: s.Name})
	}
	return t
}

func (t *tally) snapshot() Counts {
	t.mu.Lock()
	defer t.mu.Unlock()
	c := t.counts
	c.Steps = slices.Clone(c.Steps)
	for i := range c.Steps {
		c.Steps[i].Ways = slices.Clone(c.Steps[i].Ways)
	}
	return c
}

func (t *tally) arrived() {
	t.mu.Lock()
	t.counts.In++
	t.mu.Unlock()
}

// at changes the counts of a step.
func (t *tally) at(step uint16, change func(*StepCounts)) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if i, ok := t.index[step]; ok {
		change(&t.counts.Steps[i])
	}
}

func (t *tally) effect(step uint16, e *Entry) {
	t.at(step, func(c *StepCounts) {
		c.Calls += e.Attempts
		c.Units += e.Units
		c.Millis += e.Ended.Sub(e.Started).Milliseconds()
		c.spans(e.Started, e.Ended)
		t.counts.Calls += e.Attempts
		t.counts.Units += e.Units
	})
}

// ended counts a flow at the end of the pipeline.
func (t *tally) ended(f *flow) {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := &StepCounts{}
	if i, ok := t.index[f.at]; ok && f.state.open() {
		s = &t.counts.Steps[i]
	}
	run := &t.counts
	if f.apart { // it counts for its steps only
		run = &Counts{}
	}
	switch f.state {
	case moving, through:
		run.Through++
	case joined:
		run.Joined++
	case ended:
		if fate := f.fate(); fate == GaveNothing || fate == WentOn { // nothing more, of a list that broke off
			run.Nothing++
		} else {
			run.Held++
		}
	case aside:
		run.SetAside++
		s.In++
		s.SetAside++
	case failed:
		run.Stopped++
		s.In++
		s.Stopped++
	case doubtful:
		run.InDoubt++
		s.In++
		s.InDoubt++
	case parked:
		run.Waiting++
		s.Waiting++
	default:
		run.Waiting++
	}
}
