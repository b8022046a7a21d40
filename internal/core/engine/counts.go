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
	Step     uint16  `json:"step"` // lasting number
	Name     string  `json:"name"`
	In       int     `json:"in"`
	Out      int     `json:"out"`
	Held     int     `json:"held_back"`
	Nothing  int     `json:"gave_nothing"`
	SetAside int     `json:"set_aside"`
	Stopped  int     `json:"stopped"`
	InDoubt  int     `json:"may_have_been_sent"`
	Waiting  int     `json:"waiting"`
	Calls    int     `json:"calls"`
	Units    float64 `json:"units"`
	Millis   int64   `json:"millis"` // spent in calls
}

// Of gives the counts of a step by its lasting number.
func (c *Counts) Of(step uint16) StepCounts {
	if i := slices.IndexFunc(c.Steps, func(s StepCounts) bool { return s.Step == step }); i >= 0 {
		return c.Steps[i]
	}
	return StepCounts{Step: step}
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
		c.Calls += max(1, e.Attempts)
		c.Units += e.Units
		c.Millis += e.Ended.Sub(e.Started).Milliseconds()
		t.counts.Calls += max(1, e.Attempts)
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
	switch f.state {
	case moving, through:
		t.counts.Through++
	case joined:
		t.counts.Joined++
	case ended:
		if f.fate() == GaveNothing {
			t.counts.Nothing++
		} else {
			t.counts.Held++
		}
	case aside:
		t.counts.SetAside++
		s.In++
		s.SetAside++
	case failed:
		t.counts.Stopped++
		s.In++
		s.Stopped++
	case doubtful:
		t.counts.InDoubt++
		s.In++
		s.InDoubt++
	case parked:
		t.counts.Waiting++
		s.Waiting++
	default:
		t.counts.Waiting++
	}
}
