package node

import (
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/store"
)

// taken holds runs that are ours and wait for a place, in memory and within
// bounds. Workspaces take turns, however many runs each has; within one, nobody
// is overtaken.
type taken struct {
	most int

	mu    sync.Mutex // protects the following fields
	queue map[uuid.UUID][]held
	turns []uuid.UUID // workspaces that have something, the next first
	alone []held      // suspects, which come before all others
	n     int
	bytes int
}

// held is one of them, and since when it waits, by our own clock.
type held struct {
	store.Claimed
	since time.Duration
}

// takenBytes is how much memory what waits may take.
const takenBytes = 64 << 20

func newTaken(most int) *taken { return &taken{most: most, queue: map[uuid.UUID][]held{}} }

func bytesOf(c *store.Claimed) int {
	n := 1000
	for _, p := range c.First {
		n += len(p)
	}
	return n
}

// room tells whether one more fits, beside so many others that are on their way, where
// all of these are of this size.
func (t *taken) room(others, bytes int) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.n+others < t.most && t.bytes+bytes <= takenBytes
}

func (t *taken) len() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.n
}

func (t *taken) push(c store.Claimed) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.n++
	t.bytes += bytesOf(&c)
	if c.Takeovers >= store.Suspect {
		t.alone = append(t.alone, held{c, monotonic()})
		return
	}
	if len(t.queue[c.Workspace]) == 0 {
		t.turns = append(t.turns, c.Workspace)
	}
	t.queue[c.Workspace] = append(t.queue[c.Workspace], held{c, monotonic()})
}

// pop gives the oldest of the workspace whose turn it is, of those whose oldest
// is ready.
func (t *taken) pop(ready func(*held) bool) (held, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	i := slices.IndexFunc(t.turns, func(w uuid.UUID) bool { return ready(&t.queue[w][0]) })
	if i < 0 {
		return held{}, false
	}
	w := t.turns[i]
	t.turns = slices.Delete(t.turns, i, i+1)
	q := t.queue[w]
	c := q[0]
	q[0] = held{}
	if len(q) == 1 {
		delete(t.queue, w)
	} else {
		t.queue[w] = q[1:]
		t.turns = append(t.turns, w)
	}
	t.n--
	t.bytes -= bytesOf(&c.Claimed)
	return c, true
}

// suspects tells whether any of those wait that are carried out with nothing
// beside them.
func (t *taken) suspects() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.alone) > 0
}

// popSuspect gives the oldest of them.
func (t *taken) popSuspect() (held, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.alone) == 0 {
		return held{}, false
	}
	c := t.alone[0]
	t.alone = t.alone[1:]
	t.n--
	t.bytes -= bytesOf(&c.Claimed)
	return c, true
}

// workspaces lists those that have something waiting.
func (t *taken) workspaces() []uuid.UUID {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append([]uuid.UUID(nil), t.turns...)
}

func (t *taken) clear() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.queue, t.turns, t.alone, t.n, t.bytes = map[uuid.UUID][]held{}, nil, nil, 0, 0
}
