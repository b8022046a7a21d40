// Package node carries runs out. A node holds a lease in the database, takes
// queued runs, executes them through the engine, and writes what they did by
// group commit. When its lease ends, another node goes on where it stopped.
package node

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/singleflight"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
	"youngtrellis/internal/vault"
)

// Timing of the lease (see docs/architecture.md).
const (
	beatEvery  = 3 * time.Second
	readEvery  = 3750 * time.Millisecond
	deadReads  = 4
	deadAfter  = 15 * time.Second
	callWithin = 10 * time.Second // of the last acknowledged beat
)

// Config of a node.
type Config struct {
	Name       string
	Runs       int // at once
	Connectors *Connectors
	PublicURL  string // of callbacks
	Log        *slog.Logger
}

// Node is one worker process.
type Node struct {
	Config
	Store  *store.Store
	Vault  *vault.Vault
	Client *outbound.Client
	Events *Events

	lease   atomic.Pointer[lease]
	running sync.Map // run id to *engine.Run
	count   atomic.Int64
	wake    chan struct{}
	runs    sync.WaitGroup
	plans   plans
	account accounts
	calls   chan store.Called
	// One refresh of a connection's token at a time in this process; the store
	// sees to the others.
	refreshing singleflight.Group
	stop       context.CancelFunc
	done       chan struct{}
}

// lease is a session with its writer.
type lease struct {
	id        uuid.UUID
	committer *store.Committer
	ctx       context.Context // ends when the lease is lost
	lost      context.CancelFunc
	beat      atomic.Int64 // when the last acknowledged beat was begun, in nanoseconds since start
}

var start = time.Now()

func monotonic() int64 { return int64(time.Since(start)) }

// New opens a session and begins to work.
func New(ctx context.Context, c Config, s *store.Store, v *vault.Vault, client *outbound.Client) (*Node, error) {
	n := &Node{Config: c, Store: s, Vault: v, Client: client, Events: newEvents(), calls: make(chan store.Called, 4096), wake: make(chan struct{}, 1), done: make(chan struct{})}
	if n.Runs == 0 {
		n.Runs = 64
	}
	n.account.init()
	if err := n.open(ctx); err != nil {
		return nil, err
	}
	ctx, n.stop = context.WithCancel(context.WithoutCancel(ctx))
	go n.loop(ctx)
	return n, nil
}

func (n *Node) open(ctx context.Context) error {
	id, err := n.Store.OpenSession(ctx, n.Name)
	if err != nil {
		return err
	}
	l := &lease{id: id, committer: n.Store.NewCommitter(id)}
	l.ctx, l.lost = context.WithCancel(context.WithoutCancel(ctx))
	l.beat.Store(monotonic())
	n.lease.Store(l)
	return nil
}

// Close takes no new work, parks what runs at the next effect, and hands it over.
func (n *Node) Close() {
	n.stop()
	<-n.done
	n.running.Range(func(_, v any) bool { v.(*engine.Run).Handover(); return true })
	finished := make(chan struct{})
	go func() { n.runs.Wait(); close(finished) }()
	l := n.lease.Load()
	select {
	case <-finished:
	case <-time.After(20 * time.Second):
		l.lost()
		<-finished
	}
	l.committer.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := n.Store.CloseSession(ctx, l.id); err != nil {
		n.Log.Warn("closing the session", "error", err)
	}
	l.lost()
}

func (n *Node) nudge() {
	select {
	case n.wake <- struct{}{}:
	default:
	}
}

func (n *Node) loop(ctx context.Context) {
	var helpers sync.WaitGroup
	helpers.Go(func() { n.keepBeating(ctx) })
	helpers.Go(func() { n.watch(ctx) })
	helpers.Go(func() { n.keepCalls(ctx) })
	helpers.Go(func() {
		n.Store.Listen(ctx, func(channel string) {
			if channel == "trellis_cancel" {
				n.cancels(ctx)
				return
			}
			n.nudge()
		})
	})
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	n.nudge()
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-tick.C:
			if woken, err := n.Store.WakeDue(ctx); err == nil && woken > 0 {
				n.nudge()
			}
			n.cancels(ctx)
		case <-n.wake:
			n.claim(ctx)
		}
	}
	helpers.Wait()
	close(n.done)
}

func (n *Node) keepBeating(ctx context.Context) {
	tick := time.NewTicker(beatEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		l, begun := n.lease.Load(), monotonic()
		switch err := n.Store.Beat(ctx, l.id); {
		case err == nil:
			l.beat.Store(begun)
		case errors.Is(err, store.ErrFenced):
			n.renew(ctx, l)
		case ctx.Err() == nil:
			n.Log.Warn("the database did not take the beat", "error", err)
		}
	}
}

// renew drops everything that ran under a lost lease and opens a new one.
func (n *Node) renew(ctx context.Context, old *lease) {
	if n.lease.Load() != old {
		return
	}
	n.Log.Warn("the session was taken over by another node; starting a new one")
	old.lost()
	n.runs.Wait()
	old.committer.Close()
	for ctx.Err() == nil {
		if err := n.open(ctx); err == nil {
			n.nudge()
			return
		}
		sleep(ctx, time.Second)
	}
}

func sleep(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	}
}

// watch ends sessions whose beat stands still over four reads and fifteen
// seconds of our own clock; a failed read begins anew.
func (n *Node) watch(ctx context.Context) {
	type seen struct {
		beat  int64
		reads int
		since int64
	}
	known := map[uuid.UUID]*seen{}
	tick := time.NewTicker(readEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		beats, err := n.Store.Beats(ctx)
		if err != nil {
			clear(known)
			continue
		}
		for id, beat := range beats {
			s, ok := known[id]
			if !ok || s.beat != beat {
				known[id] = &seen{beat, 1, monotonic()}
				continue
			}
			s.reads++
			if id != n.lease.Load().id && s.reads >= deadReads && monotonic()-s.since >= int64(deadAfter) {
				n.Log.Info("taking over the runs of a dead node", "session", id)
				if err := n.Store.TakeOver(ctx, id, beat); err == nil {
					delete(known, id)
					n.nudge()
				}
			}
		}
		for id := range known {
			if _, ok := beats[id]; !ok {
				delete(known, id)
			}
		}
	}
}

func (n *Node) cancels(ctx context.Context) {
	runs, err := n.Store.Cancelled(ctx, n.lease.Load().id)
	if err != nil {
		return
	}
	for _, id := range runs {
		if r, ok := n.running.Load(id); ok {
			r.(*engine.Run).Cancel()
		}
	}
}

// claim takes queued runs while there is room.
func (n *Node) claim(ctx context.Context) {
	for ctx.Err() == nil {
		room := n.Runs - int(n.count.Load())
		if room <= 0 {
			return
		}
		l := n.lease.Load()
		claimed, err := n.Store.Claim(ctx, l.id, min(room, 32))
		if err != nil || len(claimed) == 0 {
			return
		}
		for _, c := range claimed {
			n.count.Add(1)
			n.begin(l, c)
		}
	}
}

// begin executes a claimed run; its place was counted already.
func (n *Node) begin(l *lease, c store.Claimed) {
	n.runs.Go(func() {
		defer func() {
			n.running.Delete(c.Run)
			n.count.Add(-1)
			n.nudge()
		}()
		n.execute(l, c)
	})
}

// Accept makes a run durable and carries it out at once if there is room.
func (n *Node) Accept(ctx context.Context, s *store.Start) (store.Started, error) {
	l := n.lease.Load()
	s.Claim = n.count.Add(1) <= int64(n.Runs)
	if !s.Claim {
		n.count.Add(-1)
	}
	started, err := l.committer.Start(ctx, s)
	if !s.Claim {
		return started, err
	}
	if err != nil || started.Duplicate {
		n.count.Add(-1)
		return started, err
	}
	n.begin(l, store.Claimed{Workspace: s.Workspace, Run: s.Run, Workflow: s.Workflow, Pass: 1, Accepted: s.Accepted, Fresh: s})
	return started, nil
}

// Plan compiles a revision, or finds it compiled.
func (n *Node) Plan(ctx context.Context, workspace, wf uuid.UUID, revision int) (*workflow.Plan, error) {
	return n.plans.get(planKey{workspace, wf, revision}, func() (*workflow.Plan, error) {
		r, err := n.Store.Revision(ctx, workspace, wf, revision)
		if err != nil {
			return nil, err
		}
		w, _, problems := workflow.Read([]byte(r.Document))
		if w == nil || workflow.HasErrors(problems) {
			return nil, fmt.Errorf("revision %d cannot be read any more", revision)
		}
		cons, err := n.Connectors.At(ctx, workspace, r.Connectors)
		if err != nil {
			return nil, err
		}
		p, err := workflow.Compile(w, &workflow.Catalog{Connectors: cons})
		if err != nil {
			return nil, err
		}
		return p.Numbered(r.Numbers), nil
	})
}

type planKey struct {
	workspace, workflow uuid.UUID
	revision            int
}

// plans keeps compiled revisions; they never change.
type plans struct {
	mu   sync.Mutex
	kept map[planKey]*workflow.Plan
}

func (p *plans) get(k planKey, compile func() (*workflow.Plan, error)) (*workflow.Plan, error) {
	p.mu.Lock()
	plan, ok := p.kept[k]
	p.mu.Unlock()
	if ok {
		return plan, nil
	}
	plan, err := compile()
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.kept == nil || len(p.kept) > 1000 {
		p.kept = map[planKey]*workflow.Plan{}
	}
	p.kept[k] = plan
	return plan, nil
}
