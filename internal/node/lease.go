package node

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
)

// lease is a session with its writer and all that is carried out under it. When
// it is lost, everything of it is dropped at once.
type lease struct {
	node      *Node
	id        uuid.UUID
	committer *store.Committer
	ctx       context.Context // ends when the lease is lost
	end       context.CancelCauseFunc
	beat      atomic.Int64 // when the last acknowledged beat was begun, by our own clock
	register  *register
	taken     *taken
	floods    *floods
	later     atomic.Bool // what waits will be looked at again by itself
	queued    atomic.Bool // something may be queued

	mu        sync.Mutex // protects the following fields
	executing int
	alone     bool          // a run that seems to stop nodes is carried out, and nothing beside it
	closing   bool          // nothing more is begun
	empty     chan struct{} // closed once nothing executes any more; nil while nobody asks
}

func newLease(n *Node, id uuid.UUID) *lease {
	l := &lease{node: n, id: id, register: newRegister(), taken: newTaken(n.Taken), floods: newFloods()}
	l.ctx, l.end = context.WithCancelCause(context.Background())
	l.committer = n.Store.NewCommitter(id, n.Log, l.register.cancel)
	l.beat.Store(int64(monotonic()))
	return l
}

// lost drops everything: nothing of this lease is ours any more.
func (l *lease) lost() { l.end(store.ErrFenced) }

// Session implements Owner.
func (l *lease) Session() uuid.UUID { return l.id }

// Return implements Owner.
func (l *lease) Return(p store.Permitted) error { return l.committer.Return(p) }

// Alive implements Owner: it waits until the last acknowledged beat
// is young enough for a call to begin.
func (l *lease) Alive(ctx context.Context) error {
	for monotonic()-time.Duration(l.beat.Load()) > l.node.begins() {
		t := time.NewTimer(l.node.begins() / 100)
		select {
		case <-ctx.Done():
		case <-l.ctx.Done():
		case <-t.C:
		}
		t.Stop()
		if l.ctx.Err() != nil {
			return context.Cause(l.ctx)
		}
		if ctx.Err() != nil {
			break
		}
	}
	return context.Cause(ctx)
}

// take puts a run that is ours behind those that wait for a place.
func (l *lease) take(c store.Claimed) {
	l.register.set(c.Run, c.Claim, waiting)
	l.taken.push(c)
	l.dispatch()
}

// hopeless is from how many takeovers without getting any further a run is
// given up: three of them came while nothing ran beside it. One would condemn
// whatever is carried out when a machine fails for reasons of its own.
const hopeless = store.Suspect + 3

// ready tells whether a run that waits may be begun.
func (l *lease) ready(c *held) bool {
	if !l.floods.defers(c.Workspace) || monotonic()-c.since >= deferMost {
		return true
	}
	if l.later.CompareAndSwap(false, true) { // it will be looked at again, whether or not anything happens until then
		time.AfterFunc(moment, func() {
			l.later.Store(false)
			l.dispatch()
		})
	}
	return false
}

// next gives a run to carry out, and takes its place; none where no place is
// free.
func (l *lease) next() (store.Claimed, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closing || l.alone || l.executing >= l.node.Runs {
		return store.Claimed{}, false
	}
	var c held
	var ok bool
	switch {
	case !l.taken.suspects():
		c, ok = l.taken.pop(l.ready)
	case l.executing > 0:
		// What is carried out makes room; it goes on elsewhere, or here later.
		l.alone = true
		l.register.handOver()
	default:
		c, ok = l.taken.popSuspect()
		l.alone = ok
	}
	if !ok {
		return store.Claimed{}, false
	}
	l.register.set(c.Run, c.Claim, executing)
	l.executing++
	return c.Claimed, true
}

// dispatch begins runs while there are places.
func (l *lease) dispatch() {
	for {
		c, ok := l.next()
		if !ok {
			return
		}
		go l.work(c)
	}
}

// work carries one run out, and then those that wait: a goroutine that has
// grown its stack once is worth keeping.
func (l *lease) work(c store.Claimed) {
	for ok := true; ok; {
		l.node.execute(l, c)
		l.free()
		c, ok = l.next()
	}
	l.dispatch()
	if l.queued.Load() && l.room() > 0 {
		nudge(l.node.wake)
	}
}

// free gives a place back.
func (l *lease) free() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.executing--; l.executing > 0 {
		return
	}
	l.alone = false
	if l.empty != nil {
		close(l.empty)
		l.empty = nil
	}
}

// further lets others run beside a suspect that has got further.
func (l *lease) further() {
	l.mu.Lock()
	l.alone = false
	l.mu.Unlock()
	l.dispatch()
}

// room is how many runs may be claimed: none while what was accepted here waits
// for places.
func (l *lease) room() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closing || l.alone {
		return 0
	}
	return max(0, l.node.Runs-l.executing-l.taken.len())
}

// handOver begins nothing more and lets everything come to its next effect.
// What was only taken goes back with the session.
func (l *lease) handOver() {
	l.mu.Lock()
	l.closing = true
	l.mu.Unlock()
	l.taken.clear()
	l.register.handOver()
}

// idle is closed once nothing is carried out.
func (l *lease) idle() <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.executing == 0 {
		done := make(chan struct{})
		close(done)
		return done
	}
	if l.empty == nil {
		l.empty = make(chan struct{})
	}
	return l.empty
}

// every does something again and again until ctx ends.
func every(ctx context.Context, d time.Duration, do func()) {
	tick := time.NewTicker(d)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			do()
		}
	}
}

// keepBeating keeps the lease.
func (n *Node) keepBeating(ctx context.Context) {
	every(ctx, n.beatEvery(), func() {
		l, begun := n.lease.Load(), monotonic()
		within, cancel := context.WithTimeout(ctx, n.begins()/2)
		err := n.Store.Beat(within, l.id)
		cancel()
		switch {
		case err == nil:
			l.beat.Store(int64(begun))
		case errors.Is(err, store.ErrFenced):
			n.renew(ctx, l)
		case ctx.Err() == nil:
			n.Log.Warn("the database did not take the beat", "error", err)
		}
	})
}

// renew drops everything that ran under a lost lease and opens a new one.
func (n *Node) renew(ctx context.Context, old *lease) {
	n.Log.Warn("the session was taken over by another node; starting a new one")
	old.lost()
	old.handOver()
	go old.committer.Close() // what it still held is left for the new owners
	for ctx.Err() == nil {
		if err := n.open(ctx); err == nil {
			nudge(n.wake)
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(n.beatEvery() / 3):
		}
	}
}

// watch ends sessions whose beat stands still over four reads and the length of
// a lease by our own clock; a failed read begins anew.
func (n *Node) watch(ctx context.Context) {
	type seen struct {
		beat  int64
		reads int
		since time.Duration
	}
	known := map[uuid.UUID]*seen{}
	every(ctx, n.readEvery(), func() {
		within, cancel := context.WithTimeout(ctx, n.readEvery())
		beats, err := n.Store.Beats(within)
		cancel()
		if err != nil {
			clear(known)
			return
		}
		for id, beat := range beats {
			s, ok := known[id]
			if !ok || s.beat != beat {
				known[id] = &seen{beat, 1, monotonic()}
				continue
			}
			s.reads++
			if id != n.lease.Load().id && s.reads >= deadReads && monotonic()-s.since >= n.Lease {
				n.takeOver(ctx, id, beat)
			}
		}
		for id := range known {
			if _, ok := beats[id]; !ok {
				delete(known, id)
			}
		}
	})
}

// takeOver ends a dead node's session, beside the watch: it may have to wait
// for what that node still holds.
func (n *Node) takeOver(ctx context.Context, session uuid.UUID, beat int64) {
	if _, busy := n.taking.LoadOrStore(session, true); busy {
		return
	}
	go func() {
		defer n.taking.Delete(session)
		n.Log.Info("taking over the runs of a dead node", "session", session)
		taken, err := n.Store.TakeOver(ctx, session, beat)
		switch {
		case err != nil && ctx.Err() == nil:
			n.Log.Warn("a dead node's runs could not be taken over yet", "session", session, "error", err)
		case taken:
			nudge(n.wake)
		}
	}()
}

// keepAdopting makes entries of what former owners left behind, whenever it
// comes.
func (n *Node) keepAdopting(ctx context.Context) {
	tick := time.NewTicker(n.Lease)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-n.strays:
			_ = n.Store.Adopt(ctx, n.lease.Load().id) // the next tick tries again
		case <-tick.C:
			if err := errors.Join(n.Store.Adopt(ctx, n.lease.Load().id), n.Store.AdoptEnded(ctx)); err != nil && !errors.Is(err, engine.ErrDropped) && ctx.Err() == nil {
				n.Log.Warn("results left behind could not be taken in yet", "error", err)
			}
		}
	}
}
