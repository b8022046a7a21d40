package engine

import (
	"sync"
	"time"

	"youngtrellis/internal/core/workflow"
)

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
		case EndOf(f.cells) == GaveNothing:
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

// EndOf is where a row ended: the fate of its last cell that was reached.
func EndOf(cells []Cell) Fate {
	for i := len(cells) - 1; i >= 0; i-- {
		if cells[i].Fate != NotReached {
			return cells[i].Fate
		}
	}
	return NotReached
}
