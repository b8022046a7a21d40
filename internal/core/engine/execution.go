package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// execution is the state of carrying a run out once, live or as a replay.
type execution struct {
	*Run
	stop     *Stop
	live     bool
	calls    context.Context // of calls, which a second cancel cuts
	counts   *tally
	columns  *columns
	closed   *closed
	seen     *seen
	told     atomic.Pointer[failing]      // the failure that stopped the run
	failure  *failing                     // the same, once what is to be done then is done
	found    atomic.Pointer[call.Secrets] // in answers; masked on every surface
	size     atomic.Int64                 // of the next chunk
	faults   atomic.Int64                 // so far
	gone     int                          // items that went on to the first write, where only so many may
	answered atomic.Bool                  // whoever set the run off has been answered
	notBegun atomic.Int64                 // items that were not tried again as somebody put an end to that
	bytes    atomic.Int64                 // of the node's account, in its piles
	opens    bool                         // a cell is opened: what failed is told in full
	wanted   *wanted                      // follow these items only, and what leads to them
	about    map[Place]bool               // in a wake: the items that it is about
	rest     Counts                       // in a wake: what the other items had counted
	waiting  waits
	facts    sync.Once // guards the following field
	run      map[string]any

	exchanges []*exchange
	mu        sync.Mutex // protects the following field
	spools    []Spool
}

func newExecution(r *Run, stop *Stop) *execution {
	last := r.Passes[len(r.Passes)-1]
	x := &execution{Run: r, stop: stop, counts: newTally(last.Plan), columns: newColumns(), closed: newClosed()}
	x.seen = newSeen(x)
	return x
}

// close frees what the execution holds.
func (x *execution) close() {
	for _, e := range slices.Backward(x.exchanges) { // they were made from the end
		e.drop()
	}
	for _, s := range x.spools {
		_ = s.Close() // what it held is gone either way
	}
	x.spools = nil
	x.let(int(x.bytes.Load())) // an execution that was cut leaves its piles as they are
}

// hold reserves bytes of the node's account, and tells whether there was room.
func (x *execution) hold(n int) bool {
	if !x.Account.take(n) {
		return false
	}
	x.bytes.Add(int64(n))
	return true
}

// carry counts bytes that cannot lie anywhere else: what spills makes room.
func (x *execution) carry(n int) {
	x.Account.force(n)
	x.bytes.Add(int64(n))
}

// let gives them back.
func (x *execution) let(n int) {
	x.bytes.Add(-int64(n))
	x.Account.free(n)
}

// last is the pass that is carried out.
func (x *execution) last() *Pass { return &x.Passes[len(x.Passes)-1] }

// now is the clock at the exactness that the journal keeps.
func (x *execution) now() time.Time { return x.Clock.Now().UTC().Truncate(time.Microsecond) }

// secrets are those that were found in answers so far.
func (x *execution) secrets() *call.Secrets { return x.found.Load() }

// whole is a text with no secret in it, and no longer than somebody reads.
func (x *execution) whole(text string) string {
	r := []rune(words.Visible(x.secrets().Mask(text)))
	if len(r) > mostTold {
		r = append(r[:mostTold-1], '…')
	}
	return string(r)
}

// mostTold is how many characters are told of a failure.
const mostTold = 2000

// line makes one line of a text, with no secret in it.
func (x *execution) line(text string) string {
	if text == "" {
		return ""
	}
	return words.Line(x.secrets().Mask(text))
}

func (x *execution) learn(values []string) {
	for len(values) > 0 {
		known := x.found.Load()
		if more := known.With(values...); more == known || x.found.CompareAndSwap(known, more) {
			return
		}
	}
}

const (
	mostItems = 256     // of a chunk
	mostBytes = 4 << 20 // of a chunk, about
)

// chunk is how many items go on together: one at first and after a failure,
// twice as many after each that went well.
func (x *execution) chunk() int {
	if x.Chunk > 0 {
		return x.Chunk
	}
	if !x.live { // nothing is paid for in a replay
		return mostItems
	}
	n := max(1, x.size.Load())
	x.size.CompareAndSwap(x.size.Load(), min(2*n, mostItems))
	if x.Account.tight() {
		return 1
	}
	return int(n)
}

// slow lets chunks begin at one again.
func (x *execution) slow() {
	x.size.Store(1)
	x.faults.Add(1)
}

// chunks hands flows on in chunks that are bounded by items and bytes.
func (x *execution) chunks(ctx context.Context, flows []*flow, down stage) error {
	for len(flows) > 0 {
		n := x.cut(flows)
		if err := down.take(ctx, flows[:n:n]); err != nil {
			return err
		}
		flows = flows[n:]
	}
	return ctx.Err()
}

// cut is how many of these flows go on together. Those of a round that an earlier
// pass left are never parted: it is done once.
func (x *execution) cut(flows []*flow) int {
	n, bytes := min(x.chunk(), len(flows)), 0
	for i, f := range flows[:n] {
		if bytes += f.bytes; bytes > mostBytes && i > 0 {
			n = i
			break
		}
	}
	for n < len(flows) && ofOneRound(flows[n-1], flows[n]) {
		n++
	}
	return n
}

// ofOneRound tells whether two flows stand in a round that an earlier pass left.
func ofOneRound(a, b *flow) bool {
	stands := func(f *flow) bool { return f.rounds != "" && (f.entering || f.state.open()) }
	return stands(a) && stands(b) && a.rounds.Out(1) == b.rounds.Out(1)
}

// waits are until when items wait, and for what.
type waits struct {
	mu     sync.Mutex // protects the following field
	parked *call.Parked
}

// wait says that an item waits. Others go on: it is no reason to stop.
func (x *execution) wait(p *call.Parked) {
	x.waiting.mu.Lock()
	defer x.waiting.mu.Unlock()
	if x.waiting.parked == nil || sooner(p, x.waiting.parked) {
		x.waiting.parked = p
	}
}

// longest is how long an execution stays while items wait. One that is about a
// few items only does not stay, nor one whose owner died: as long as it is there
// it seems to have done nothing, which counts against it if the next dies too.
func (x *execution) longest() time.Duration {
	if x.about != nil || !x.Interrupted.IsZero() {
		return 0
	}
	return maxWait
}

// errLeft says that an execution stopped while it waited for us.
var errLeft = errors.New("left as it is")

const (
	oursLeast = 50 * time.Millisecond
	oursMost  = 2 * time.Second
	// oursPatience is how long a fault of ours is waited for before the run parks.
	oursPatience = 10 * time.Minute
)

// held does something that can fail by a fault of ours, again and again until
// it succeeds: such a fault is never an item's, and counts no attempt. A
// *call.Failure, a *call.Parked and a *call.Lost are given back as they are. A
// stop is answered with errLeft, and so is a fault that lasts, which parks the
// run. A replay does not wait.
func (x *execution) held(ctx context.Context, what string, do func(context.Context) error) error {
	var began time.Time
	pause := oursLeast
	for {
		err := do(ctx)
		if err == nil || !x.live || theirs(err) {
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if errors.Is(err, ErrDropped) {
			return err
		}
		now := x.Clock.Now()
		if began.IsZero() {
			began = now
		}
		if now.Sub(began) > oursPatience {
			x.stop.park(&call.Parked{Reason: call.ReasonOurs, Until: now.Add(oursPatience), Cause: err,
				Message: fmt.Sprintf("Something on our own side does not work: %s. It is tried again by itself, and nothing is lost.", what)})
			return errLeft
		}
		if !x.pause(ctx, pause) {
			return errLeft
		}
		pause = min(2*pause, oursMost)
	}
}

// theirs tells whether an error says something of the item or the other side.
func theirs(err error) bool {
	var f *call.Failure
	var p *call.Parked
	var l *call.Lost
	return errors.As(err, &f) || errors.As(err, &p) || errors.As(err, &l) || errors.Is(err, errLeft)
}

// pause waits, and tells whether it was not interrupted by a stop.
func (x *execution) pause(ctx context.Context, d time.Duration) bool {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		select {
		case <-x.stop.Done():
			cancel()
		case <-ctx.Done():
		}
	}()
	err := x.Clock.Sleep(ctx, d)
	cancel()
	<-stopped
	return err == nil && !x.stop.set()
}

// result is how the execution ended.
func (x *execution) result() (*Result, error) {
	res := &Result{State: Succeeded, Counts: x.rest.plus(x.counts.snapshot()), Secrets: x.secrets()}
	why, parked, failure := x.stop.reason()
	if why == goesOn && x.waiting.parked != nil {
		why, parked = parks, x.waiting.parked
	}
	if x.failure != nil && (why == goesOn || why == fails) { // what was done then changes nothing about it
		why, failure = fails, x.failure.Message
	}
	switch why {
	case handedOver:
		return nil, ErrHandover
	case parks:
		res.State, res.Parked = WaitingOn, parked
		return res, nil
	case cancelled:
		res.State = Cancelled
		return res, nil
	case fails:
		res.Reason = x.secrets().Mask(failure)
		res.State = FailedRun
		return res, nil
	case finishes:
		res.Reason = x.secrets().Mask(failure)
	}
	if n := x.notBegun.Load(); n > 0 && res.Reason == "" {
		res.Reason = words.Count(int(n), "item") + " had not begun when this was ended, and stay as they were."
	}
	switch c := res.Counts; {
	case c.Stopped > 0:
		res.State = FailedRun
	case c.SetAside > 0 || c.InDoubt > 0:
		res.State = Partial
	}
	return res, nil
}

// wanted are the items that are looked at; nil for all.
type wanted struct {
	list   []item.Address                  // sorted
	groups map[item.Address][]item.Address // the members of each group among them
	rounds map[roundAt]bool                // those of which all items are among them
	due    []item.Address                  // in a wake: those that it is about; sorted
}

func newWanted() *wanted {
	return &wanted{groups: map[item.Address][]item.Address{}, rounds: map[roundAt]bool{}}
}

// relevant tells whether an item can lead to a wanted one, or came from one.
func (w *wanted) relevant(a item.Address) bool {
	if w == nil {
		return true
	}
	i, found := slices.BinarySearch(w.list, a)
	return found || i < len(w.list) && w.list[i].Within(a) || i > 0 && a.Within(w.list[i-1])
}

// has tells whether an item is wanted itself.
func (w *wanted) has(a item.Address) bool {
	_, found := slices.BinarySearch(w.list, a)
	return found
}

// add makes further items wanted.
func (w *wanted) add(more ...item.Address) {
	w.list = append(w.list, more...)
	slices.Sort(w.list)
	w.list = slices.Compact(w.list)
}

// child gives the least ordinal that is wanted of the items that a step makes of
// one.
func (w *wanted) child(of item.Address, step uint16, rounds item.Rounds) (n uint32, found bool) {
	prefix := of.Child(step, rounds, 0)
	prefix = prefix[:len(prefix)-1]
	i, _ := slices.BinarySearch(w.list, prefix)
	if i == len(w.list) || !w.list[i].Within(prefix) {
		return 0, false
	}
	segments := w.list[i].Segments()
	return segments[len(of.Segments())].N, true
}

// beyond tells whether anything is wanted that comes at or after an address,
// among its siblings.
func (w *wanted) beyond(a item.Address) bool {
	if w.came(a) {
		return true
	}
	i, _ := slices.BinarySearch(w.list, a)
	if i == len(w.list) {
		return false
	}
	segments := a.Segments()
	parent := a.Made(segments[len(segments)-1].Step, segments[len(segments)-1].Rounds)
	return w.list[i].Within(parent)
}

// latest is the later of two times.
func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
