package runs

import (
	"sync"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
)

// Events tells those who watch a run how it goes. A watcher that is slow sees
// the newest state, not every one.
type Events struct {
	mu       sync.Mutex
	watchers map[uuid.UUID]map[chan engine.Counts]bool
	last     map[uuid.UUID]engine.Counts
}

// NewEvents has no watchers yet.
func NewEvents() *Events {
	return &Events{watchers: map[uuid.UUID]map[chan engine.Counts]bool{}, last: map[uuid.UUID]engine.Counts{}}
}

// Watch gives the counts of a run as they change; stop must be called.
func (e *Events) Watch(run uuid.UUID) (counts <-chan engine.Counts, stop func()) {
	ch := make(chan engine.Counts, 1)
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.watchers[run] == nil {
		e.watchers[run] = map[chan engine.Counts]bool{}
	}
	e.watchers[run][ch] = true
	return ch, func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		delete(e.watchers[run], ch)
		if len(e.watchers[run]) == 0 {
			delete(e.watchers, run)
		}
	}
}

// Counts gives the newest counts of a run that this node carries out.
func (e *Events) Counts(run uuid.UUID) (engine.Counts, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	c, ok := e.last[run]
	return c, ok
}

// Publish tells the newest counts of a run.
func (e *Events) Publish(run uuid.UUID, c engine.Counts) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.last[run] = c
	e.tell(run, c)
}

func (e *Events) tell(run uuid.UUID, c engine.Counts) {
	for ch := range e.watchers[run] {
		select {
		case <-ch:
		default:
		}
		ch <- c
	}
}

// Ended tells that a run is carried out here no more, however that came.
func (e *Events) Ended(run uuid.UUID) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.tell(run, e.last[run])
	delete(e.last, run)
}
