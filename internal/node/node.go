// Package node carries runs out. A node holds a lease in the database, takes
// queued runs, executes them through the engine, and writes what they did by
// group commit. When its lease ends, another node goes on where it stopped.
//
//	accept ──▶ register ──▶ taken ──▶ execute ──▶ end
//	claim  ──▶    │
//	              └── reconciled with what the database says that we own
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

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

// Config of a node.
type Config struct {
	Name  string
	Runs  int           // carried out at once; 64 unless given
	Taken int           // accepted ones that wait in memory; 16384 unless given
	Lease time.Duration // a node that was silent for so long is dead; 15 s unless given
	// AcceptWithin is how long whoever brings an event waits at most to hear
	// whether it was accepted; 15 s unless given.
	AcceptWithin time.Duration
	Log          *slog.Logger
}

// Timing of a lease, in parts of it: a node that was silent for the whole of it
// is dead, and starts no call unless it was heard well before that.
func (c *Config) beatEvery() time.Duration { return c.Lease / 5 }
func (c *Config) readEvery() time.Duration { return c.Lease / 4 }
func (c *Config) begins() time.Duration    { return c.Lease * 2 / 3 }

// deadReads is how often the same beat is read before its node is dead.
const deadReads = 4

// Bounds of a lease.
const (
	LeaseLeast   = time.Second
	LeaseDefault = 15 * time.Second
)

// Worlds prepares runs and what they reach outside through.
type Worlds interface {
	// Run prepares a run with all its passes; Fresh one that nobody has carried
	// out before.
	Run(ctx context.Context, workspace, run uuid.UUID) (*engine.Run, error)
	Fresh(ctx context.Context, c store.Claimed) (*engine.Run, error)
	Outside(workspace, run uuid.UUID, owner Owner) Outside
	// Mended tells whether a connection that was broken works again.
	Mended(ctx context.Context, workspace uuid.UUID, connection string) bool
}

// Owner is whoever carries a run out, as far as its calls depend on it.
type Owner interface {
	// Alive waits until a call may begin, or says why none may.
	Alive(ctx context.Context) error
	Session() uuid.UUID
	// Return gives leave to call back, durably, some time soon.
	Return(store.Permitted) error
}

// Outside is what a run reaches outside through.
type Outside interface {
	engine.Connections
	engine.Callbacks
	engine.Sealer
}

// Node is one worker process.
type Node struct {
	Config
	Store  *store.Store
	Worlds Worlds
	Events *runs.Events

	lease    atomic.Pointer[lease]
	wake     chan struct{}      // something may be queued
	held     engine.ByteAccount // what runs hold in chunks and lists
	followed atomic.Int64       // wakes that read only what was due
	awaited  *awaited           // runs whose answers somebody waits for
	strays   chan struct{}      // something may have been left behind
	claiming sync.Mutex         // claims and reconciling are serial
	after    uuid.UUID          // the workspace that was served last; by claiming
	taking   sync.Map           // sessions whose takeover is under way
	claimed  time.Duration      // when something was claimed last; by claiming
	stop     context.CancelFunc
	done     chan struct{}
	resign   context.CancelFunc // gives the lease up
	resigned chan struct{}
}

var start = time.Now()

// monotonic is our own clock, which no administrator moves.
func monotonic() time.Duration { return time.Since(start) }

// New opens a session and begins to work.
func New(ctx context.Context, c Config, s *store.Store, w Worlds) (*Node, error) {
	if c.Runs == 0 {
		c.Runs = 64
	}
	if c.Taken == 0 {
		c.Taken = 16384
	}
	if c.Lease == 0 {
		c.Lease = LeaseDefault
	}
	if c.AcceptWithin == 0 {
		c.AcceptWithin = 15 * time.Second
	}
	if c.Lease < LeaseLeast {
		return nil, fmt.Errorf("a lease of %s is too short; it lasts at least %s", c.Lease, LeaseLeast)
	}
	n := &Node{Config: c, Store: s, Worlds: w, Events: runs.NewEvents(), wake: make(chan struct{}, 1), held: engine.ByteAccount{Limit: heldMost}, awaited: newAwaited(), strays: make(chan struct{}, 1), done: make(chan struct{}), resigned: make(chan struct{})}
	if err := n.open(ctx); err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx)
	beating, resign := context.WithCancel(ctx)
	n.resign = resign
	go func() {
		defer close(n.resigned)
		n.keepBeating(beating)
	}()
	ctx, n.stop = context.WithCancel(ctx)
	go n.loop(ctx)
	return n, nil
}

func (n *Node) open(ctx context.Context) error {
	id, err := n.Store.OpenSession(ctx, n.Name)
	if err != nil {
		return err
	}
	n.lease.Store(newLease(n, id))
	return nil
}

// Close takes no new work, lets what runs come to its next effect, and hands
// everything over.
func (n *Node) Close() {
	n.stop()
	<-n.done
	l := n.lease.Load() // and its beat goes on: calls in flight are still ours
	l.handOver()
	select {
	case <-l.idle():
	case <-time.After(closeWithin):
		l.lost()
		<-l.idle()
	}
	l.committer.Close()
	n.resign()
	<-n.resigned
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := n.Store.CloseSession(ctx, l.id); err != nil {
		n.Log.Warn("the session could not be closed; another node takes its runs over when its lease ends", "error", err)
	}
	l.lost()
}

// closeWithin is how long calls in flight may take when a node is told to stop.
const closeWithin = 20 * time.Second

func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

func (n *Node) loop(ctx context.Context) {
	var helpers sync.WaitGroup
	helpers.Go(func() { n.watch(ctx) })
	helpers.Go(func() { n.keepReconciling(ctx) })
	helpers.Go(func() { n.keepAdopting(ctx) })
	helpers.Go(func() { n.keepAnswering(ctx) })
	helpers.Go(func() { n.Store.Listen(ctx, n.heard) })
	helpers.Go(func() {
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			// Notices can be lost: what is due is looked for all the same.
			_, _ = n.Store.WakeDue(ctx)
			n.cancels(ctx)
			nudge(n.wake)
		}
	})
	nudge(n.wake)
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-n.wake:
			n.claim(ctx)
		}
	}
	helpers.Wait()
	close(n.done)
}

// heard takes a notice of the database.
func (n *Node) heard(channel string) {
	switch channel {
	case store.CancelChannel:
		ctx, cancel := context.WithTimeout(context.Background(), n.beatEvery())
		defer cancel()
		n.cancels(ctx)
	case store.StrayChannel:
		nudge(n.strays)
	default:
		n.lease.Load().queued.Store(true)
		nudge(n.wake)
	}
}

func (n *Node) cancels(ctx context.Context) {
	l := n.lease.Load()
	if list, err := n.Store.Cancelled(ctx, l.id); err == nil {
		l.register.cancel(list)
	}
}

// Accept makes a run durable. It is carried out from its commit on, here or
// elsewhere, whether or not the caller is still there to hear of it. While the
// database is away, the error is store.ErrUnavailable, or
// store.ErrUncertain.
func (n *Node) Accept(ctx context.Context, s *store.Start) (store.Started, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, n.AcceptWithin, store.ErrUncertain)
	defer cancel()
	l := n.lease.Load()
	l.setOut(s, l.taken.room(0, s.Bytes()))
	started, err := l.committer.Start(ctx, s, func(started store.Started, err error) { n.hears(l, s, started, err) })
	if errors.Is(err, store.ErrClosed) {
		l.notSent(s)
	}
	return started, err
}

// AcceptAll makes runs of one workspace durable, all of them or none. Each is carried
// out as with Accept.
func (n *Node) AcceptAll(ctx context.Context, list []*store.Start) ([]store.Started, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, n.AcceptWithin, store.ErrUncertain)
	defer cancel()
	l := n.lease.Load()
	ours, bytes := 0, 0
	for _, s := range list {
		claim := l.taken.room(ours, bytes+s.Bytes())
		if claim {
			ours, bytes = ours+1, bytes+s.Bytes()
		}
		l.setOut(s, claim)
	}
	started, err := l.committer.StartAll(ctx, list, func(i int, started store.Started, err error) { n.hears(l, list[i], started, err) })
	if errors.Is(err, store.ErrClosed) {
		for _, s := range list {
			l.notSent(s)
		}
	}
	return started, err
}

// setOut notes a start that is about to be sent; claim: this node would carry it out.
func (l *lease) setOut(s *store.Start, claim bool) {
	s.Claim = claim
	l.register.add(s.Workspace, s.Run, 1, starting)
	l.floods.arrives(s.Workspace)
}

// notSent forgets a start that was not sent after all.
func (l *lease) notSent(s *store.Start) {
	l.floods.arrived(s.Workspace)
	l.register.notStarted(s.Run)
}

// hears is told how a start ended; what is ours is carried out.
func (n *Node) hears(l *lease, s *store.Start, started store.Started, err error) {
	l.floods.arrived(s.Workspace)
	if err != nil || !started.Claimed {
		l.register.notStarted(s.Run)
		if err == nil && !started.Duplicate {
			l.queued.Store(true)
			nudge(n.wake)
		}
		l.dispatch() // what made room for it
		return
	}
	if !l.register.started(s.Run, 1) {
		return
	}
	l.take(store.Claimed{Workspace: s.Workspace, Run: s.Run, Workflow: s.Workflow, Pass: 1, Claim: 1, Revision: s.Revision, Accepted: s.Accepted, Line: s.Line, Deadline: started.Deadline, AtFirst: started.AtFirst, First: s.Items, Decoded: s.Decoded, Whole: true})
}

// Executing lists what this node has in hand: the database may say "running" of
// nothing else that it owns.
func (n *Node) Executing() (session uuid.UUID, list []Executing) {
	l := n.lease.Load()
	return l.id, l.register.list()
}
