package node

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
)

// awaited are runs whose answers somebody waits for. What happens here is looked at at
// once, what happens on another node soon; those that are looked at together are read
// together.
type awaited struct {
	mu      sync.Mutex // protects what follows
	callers map[uuid.UUID][]*caller
	stirred map[uuid.UUID]bool // of these, about which there may be news
	wake    chan struct{}
}

type caller struct {
	workspace uuid.UUID
	told      chan store.Answered // has room for one
}

func newAwaited() *awaited {
	return &awaited{callers: map[uuid.UUID][]*caller{}, stirred: map[uuid.UUID]bool{}, wake: make(chan struct{}, 1)}
}

// Answer waits until a run has answered whoever set it off, has ended without, or has
// begun to wait for something, and gives what is known of it when ctx ends at the latest.
func (n *Node) Answer(ctx context.Context, workspace, run uuid.UUID) store.Answered {
	c := &caller{workspace, make(chan store.Answered, 1)}
	n.awaited.add(run, c)
	defer n.awaited.remove(run, c)
	select {
	case a := <-c.told:
		return a
	case <-ctx.Done():
	case <-n.done:
	}
	return store.Answered{Workspace: workspace, Run: run, State: engine.Running}
}

func (a *awaited) add(run uuid.UUID, c *caller) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.callers[run] = append(a.callers[run], c)
	a.stirred[run] = true
	nudge(a.wake)
}

func (a *awaited) remove(run uuid.UUID, c *caller) {
	a.mu.Lock()
	defer a.mu.Unlock()
	left := a.callers[run][:0]
	for _, x := range a.callers[run] {
		if x != c {
			left = append(left, x)
		}
	}
	if a.callers[run] = left; len(left) == 0 {
		delete(a.callers, run)
		delete(a.stirred, run)
	}
}

// stir says that there may be news of a run.
func (a *awaited) stir(run uuid.UUID) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.callers[run]) > 0 {
		a.stirred[run] = true
		nudge(a.wake)
	}
}

// due takes the runs that are to be looked at: those of which there may be news, or all.
func (a *awaited) due(all bool) (workspaces, runs []uuid.UUID) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for run, list := range a.callers {
		if all || a.stirred[run] {
			workspaces, runs = append(workspaces, list[0].workspace), append(runs, run)
		}
	}
	clear(a.stirred)
	return workspaces, runs
}

// tell gives callers what is known, where there is nothing more to wait for.
func (a *awaited) tell(known []store.Answered) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, k := range known {
		if k.Reply == nil && (k.State == engine.Queued || k.State == engine.Running || k.InLine) {
			continue
		}
		for _, c := range a.callers[k.Run] {
			select {
			case c.told <- k:
			default:
			}
		}
	}
}

// answersEvery is how soon is heard of what another node answered.
const answersEvery = 250 * time.Millisecond

// keepAnswering tells those who wait for answers.
func (n *Node) keepAnswering(ctx context.Context) {
	tick := time.NewTicker(answersEvery)
	defer tick.Stop()
	for {
		all := false
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			all = true
		case <-n.awaited.wake:
		}
		workspaces, runs := n.awaited.due(all)
		if len(runs) == 0 {
			continue
		}
		within, cancel := context.WithTimeout(ctx, 5*time.Second)
		if known, err := n.Store.Answers(within, workspaces, runs); err == nil { // or at the next look
			n.awaited.tell(known)
		}
		cancel()
	}
}
