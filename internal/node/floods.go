package node

import (
	"sync"
	"time"

	"github.com/google/uuid"
)

// Accepting goes first: for a moment after so many starts of a workspace were
// on their way to the database at once, none of its runs is begun beside them;
// but what was taken waits no longer than two seconds for that, and nobody
// else's runs wait for it at all.
const (
	flood     = 16
	moment    = 10 * time.Millisecond
	deferMost = 2 * time.Second
)

// floods counts the starts that are on their way to the database.
type floods struct {
	mu    sync.Mutex // protects the following field
	under map[uuid.UUID]*starts
}

// starts are those of one workspace.
type starts struct {
	n    int
	many time.Duration // when there last were many, by our own clock
}

func newFloods() *floods { return &floods{under: map[uuid.UUID]*starts{}} }

// arrives counts a start that sets out.
func (f *floods) arrives(workspace uuid.UUID) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.under[workspace]
	if s == nil {
		s = &starts{}
		f.under[workspace] = s
	}
	if s.n++; s.n >= flood {
		s.many = monotonic()
	}
}

// arrived takes it off again.
func (f *floods) arrived(workspace uuid.UUID) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.under[workspace]
	if s.n--; s.n == 0 && (s.many == 0 || monotonic()-s.many >= moment) {
		delete(f.under, workspace)
	}
}

// defers tells whether runs of a workspace wait behind its starts.
func (f *floods) defers(workspace uuid.UUID) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.under[workspace]
	switch {
	case s == nil || s.many == 0:
		return false
	case s.n >= flood || monotonic()-s.many < moment:
		return true
	case s.n == 0:
		delete(f.under, workspace)
	}
	return false
}
