package node

import (
	"bytes"
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
)

const (
	// claimMost is how many runs are claimed together.
	claimMost = 64
	// besideMost is how many are claimed of workspaces that have nothing in hand
	// here while others have filled the places.
	besideMost = 8
)

// claimEvery is how often claims are made of fewer runs than half the places
// hold: a claim costs the same for one as for many.
const claimEvery = 20 * time.Millisecond

// claim takes queued runs while there is room; and some of those workspaces
// that have nothing in hand here, however much others have.
func (n *Node) claim(ctx context.Context) {
	for ctx.Err() == nil {
		l := n.lease.Load()
		most, without := l.room(), []uuid.UUID(nil)
		if most == 0 {
			if without = l.taken.workspaces(); len(without) == 0 || !l.begins() {
				return
			}
			most = besideMost
		}
		if since := monotonic() - n.claimed; most < (n.Runs+1)/2 && since < claimEvery {
			time.AfterFunc(claimEvery-since, func() { nudge(n.wake) })
			return
		}
		asked := min(most, claimMost)
		got := n.claimSome(ctx, l, asked, without)
		if got < asked {
			if without == nil {
				l.queued.Store(false)
			}
			return
		}
	}
}

func (n *Node) claimSome(ctx context.Context, l *lease, most int, without []uuid.UUID) int {
	n.claiming.Lock()
	n.claimed = monotonic()
	claimed, err := n.Store.Claim(ctx, l.id, store.Turn{After: n.after, Without: without}, most)
	if err != nil { // whatever became of it: what is not in the register goes back
		claimed = nil
	}
	for _, c := range claimed {
		l.register.add(c.Workspace, c.Run, c.Claim, waiting)
	}
	n.after = lastServed(n.after, claimed)
	n.claiming.Unlock()
	if err != nil {
		if ctx.Err() == nil && !errors.Is(err, engine.ErrDropped) && !store.IsUnavailable(err) {
			n.Log.Error("runs could not be claimed", "error", err)
		}
		return 0
	}
	for _, c := range claimed {
		l.take(c)
	}
	return len(claimed)
}

// lastServed is the last workspace in the turn that began after one.
func lastServed(after uuid.UUID, claimed []store.Claimed) uuid.UUID {
	last := after
	behind := func(a uuid.UUID) bool { return bytes.Compare(a[:], after[:]) > 0 } // it comes before the turn goes round
	for _, c := range claimed {
		w := c.Workspace
		switch {
		case last == after, behind(last) && !behind(w), behind(last) == behind(w) && bytes.Compare(w[:], last[:]) > 0:
			last = w
		}
	}
	return last
}

// begins tells whether anything may be begun.
func (l *lease) begins() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.closing && !l.alone
}

// keepReconciling compares, beat by beat, what the database says that we own
// with what we have in hand. What it says and we have not, at two readings, was
// lost with an answer and goes back to the queue; what we have and it does not
// say is another's.
func (n *Node) keepReconciling(ctx context.Context) {
	r := &reconciler{node: n, unknown: map[store.Owned]bool{}, gone: map[store.Owned]bool{}}
	every(ctx, n.beatEvery(), func() {
		if err := r.compare(ctx); err != nil && ctx.Err() == nil && !store.IsUnavailable(err) && !errors.Is(err, engine.ErrDropped) {
			n.Log.Error("what this node owns could not be compared", "error", err)
		}
	})
}

type reconciler struct {
	node          *Node
	lease         *lease
	unknown, gone map[store.Owned]bool // as of the last reading
}

func (r *reconciler) compare(ctx context.Context) error {
	n := r.node
	n.claiming.Lock()
	defer n.claiming.Unlock()
	l := n.lease.Load()
	if l != r.lease {
		r.lease = l
		clear(r.unknown)
		clear(r.gone)
	}
	before, certain := l.register.claims()
	owned, err := n.Store.Owned(ctx, l.id)
	if err != nil {
		clear(r.unknown)
		clear(r.gone)
		return err
	}
	after, still := l.register.claims()
	unknown, gone := map[store.Owned]bool{}, map[store.Owned]bool{}
	var back []store.Owned
	for run, o := range owned {
		if before[run] == o.Claim || after[run] == o.Claim {
			continue
		}
		if r.unknown[o] {
			back = append(back, o)
		} else {
			unknown[o] = true
		}
	}
	for run, claim := range certain {
		o := store.Owned{Run: run, Claim: claim}
		if owned[run].Claim == claim || still[run] != claim {
			continue
		}
		if !r.gone[o] {
			gone[o] = true
			continue
		}
		n.Log.Warn("a run is carried out elsewhere by now; it is dropped here", "run", run)
		l.register.dropIf(run, claim)
	}
	r.unknown, r.gone = unknown, gone
	if len(back) == 0 {
		return nil
	}
	n.Log.Warn("runs that the database says are ours, and are not in hand, go back to the queue", "runs", len(back))
	return n.Store.HandBack(ctx, l.id, back)
}
