package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Committer is a node's one writer: it collects run starts, journal entries,
// lattice pages, run ends and returned permits, and makes them durable together.
// While one transaction commits the next gathers, so that nobody waits longer
// than for two of them and many share each.
//
// Every transaction begins by holding the node's session row; once that has
// ended, nothing of the node is written any more. A transaction of unknown fate
// is simply repeated: every part can be written twice.
type Committer struct {
	store     *Store
	session   uuid.UUID
	log       *slog.Logger
	cancelled func([]Cancelled)
	silent    bool // the server gave no answer to the last transaction, and may still be at it

	mu     sync.Mutex // protects the following fields
	queue  []*write
	line   map[uuid.UUID]int // how many of each workspace are in queue
	last   uuid.UUID         // whose part came last
	mixed  time.Time         // when a part came of another workspace than the one before
	closed bool
	more   chan struct{} // has a token while there may be something in queue

	done chan struct{}
	stop context.CancelFunc
	ctx  context.Context // of the transactions
}

const (
	batchMost = 512
	batchByte = 8 << 20
	// While several workspaces write, batches are short, and each has its part of
	// them: so what one hands in waits for little of what another does, however much
	// that is.
	batchMixed = 64
	mixedFor   = time.Second
)

// part is something to be made durable. Parts of one kind are written together.
type part interface {
	// size is about how many bytes it takes.
	size() int
	// of is the workspace that it belongs to.
	of() uuid.UUID
	// join puts the part into a batch.
	join(*batch)
	// settle hears how the part's batch ended.
	settle(error)
}

// batch is what is written in one transaction, in the order in which its locks
// are taken: session, lines, start keys, live rows, journal, lattice, ends, permits.
type batch struct {
	repeated bool // an earlier try of some of it may be there already
	starts   starts
	entries  entries
	later    postponed
	pages    pages
	ends     ends
	permits  permits
}

func (b *batch) queue(q *pgx.Batch, session uuid.UUID) {
	b.lines().hold(q)
	b.starts.queue(q, session, b.repeated)
	b.entries.queue(q)
	b.later.queue(q)
	b.pages.queue(q)
	b.ends.queue(q, session)
	b.permits.queue(q)
}

// write is a part on its way, and whoever waits for it.
type write struct {
	part
	tried  bool          // an earlier try may be there already
	unsure bool          // nobody knows what became of an earlier try
	done   chan struct{} // closed when it is settled; nil where nobody waits
}

// NewCommitter starts the writer of a session. Cancelled is told after each
// transaction which of the session's runs somebody wants to end.
func (s *Store) NewCommitter(session uuid.UUID, log *slog.Logger, cancelled func([]Cancelled)) *Committer {
	ctx, stop := context.WithCancel(context.Background())
	c := &Committer{store: s, session: session, log: log, cancelled: cancelled, line: map[uuid.UUID]int{}, more: make(chan struct{}, 1), done: make(chan struct{}), stop: stop, ctx: ctx}
	go c.loop()
	return c
}

// Close takes nothing more, and waits for a moment until what was handed in is
// written. It may be called more than once.
func (c *Committer) Close() {
	c.mu.Lock()
	c.closed = true
	c.mu.Unlock()
	c.nudge()
	select {
	case <-c.done:
	case <-time.After(10 * time.Second):
	}
	c.stop()
	<-c.done
}

func (c *Committer) nudge() {
	select {
	case c.more <- struct{}{}:
	default:
	}
}

// hand takes a part on. From then on it is written, whether or not anybody
// waits for it; ErrClosed says that it is not.
func (c *Committer) hand(w *write) error {
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return ErrClosed
	}
	c.queue = append(c.queue, w)
	of := w.of()
	c.line[of]++
	if of != c.last {
		if c.last != uuid.Nil {
			c.mixed = time.Now()
		}
		c.last = of
	}
	c.mu.Unlock()
	c.nudge()
	return nil
}

// await hands a part in and waits until it is settled, or until the caller has
// enough of waiting; the part is written all the same.
func (c *Committer) await(ctx context.Context, p part) error {
	w := &write{part: p, done: make(chan struct{})}
	if err := c.hand(w); err != nil {
		return err
	}
	select {
	case <-w.done:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// take gives the next batch; none once the committer is closed and empty.
func (c *Committer) take() []*write {
	for {
		c.mu.Lock()
		var out []*write
		if len(c.line) > 1 || time.Since(c.mixed) < mixedFor {
			out = c.share()
		} else {
			out = c.next()
		}
		for _, w := range out {
			if of := w.of(); c.line[of] > 1 {
				c.line[of]--
			} else {
				delete(c.line, of)
			}
		}
		if len(c.queue) == 0 {
			c.queue = nil
		}
		closed := c.closed
		c.mu.Unlock()
		if len(out) > 0 || closed {
			return out
		}
		<-c.more
	}
}

// next takes what came first out of the queue. The mutex is held.
func (c *Committer) next() []*write {
	n, bytes := 0, 0
	for n < len(c.queue) && n < batchMost && (n == 0 || bytes+c.queue[n].size() <= batchByte) {
		bytes += c.queue[n].size()
		n++
	}
	out := c.queue[:n:n]
	c.queue = c.queue[n:]
	return out
}

// share takes a short batch in which each workspace has its part, and in which what
// belongs to one keeps its order. The mutex is held.
func (c *Committer) share() (out []*write) {
	bytes, full := 0, map[uuid.UUID]bool{}
	// First each up to its part, then whoever has more.
	for _, shares := range []int{max(1, len(c.line)), 1} {
		clear(full)
		taken, length := map[uuid.UUID]int{}, map[uuid.UUID]int{}
		for _, w := range out {
			taken[w.of()]++
			length[w.of()] += w.size()
		}
		kept := make([]*write, 0, len(c.queue))
		for i, w := range c.queue {
			if len(out) == batchMixed || len(full) == len(c.line) {
				kept = append(kept, c.queue[i:]...)
				break
			}
			of, size := w.of(), w.size()
			most := taken[of] == max(1, batchMixed/shares) || taken[of] > 0 && length[of]+size > batchByte/shares
			if full[of] || most || len(out) > 0 && bytes+size > batchByte {
				full[of] = true
				kept = append(kept, w)
				continue
			}
			bytes += size
			taken[of]++
			length[of] += size
			out = append(out, w)
		}
		c.queue = kept
	}
	return out
}

func (c *Committer) loop() {
	defer close(c.done)
	for {
		batch := c.take()
		if len(batch) == 0 {
			return
		}
		c.write(batch)
	}
}

func settle(batch []*write, err error) {
	for _, w := range batch {
		w.settle(err)
		if w.done != nil {
			close(w.done)
		}
	}
}

// oddTries is how often a batch is tried whose refusal says neither that its
// content is bad nor that the database is in trouble.
const oddTries = 3

// sayAfter is how long a batch is held before that is logged, sayEvery how often
// from then on.
const (
	sayAfter = time.Second
	sayEvery = 10 * time.Second
)

// write makes a batch durable. While the database is in trouble everything is
// held and tried again, but for starts that certainly did not happen: their
// callers are told so. A batch refused for its content is halved until the bad
// part is alone, so that nobody's write keeps another's back.
func (c *Committer) write(batch []*write) {
	pause, odds, failures := 20*time.Millisecond, 0, 0
	said := time.Now().Add(sayAfter - sayEvery)
	for {
		err := c.transact(batch)
		if err == nil {
			c.silent = false
			settle(batch, nil)
			return
		}
		if errors.Is(err, ErrFenced) || c.ctx.Err() != nil {
			c.leave(batch)
			settle(batch, ErrFenced)
			return
		}
		c.silent = c.silent || errors.Is(err, errSilent)
		certain := notCommitted(err)
		for _, w := range batch {
			w.tried, w.unsure = true, w.unsure || !certain
		}
		switch blameOf(err) {
		case content:
			odds = oddTries
		case odd:
			odds++
		case passing:
			odds = 0
		}
		switch {
		case odds >= oddTries && len(batch) > 1:
			c.write(batch[:len(batch)/2])
			c.write(batch[len(batch)/2:])
			return
		case odds >= oddTries:
			if blameOf(err) == content {
				err = &ContentError{err}
			}
			c.log.Error("the database refuses a write of its own", "error", err)
			settle(batch, err)
			return
		}
		if time.Since(said) >= sayEvery {
			c.log.Warn("results are held: the database does not take them", "error", err, "tries", failures+1, "writes", len(batch))
			said = time.Now()
		}
		if failures++; failures > 1 && away(err) {
			if batch = c.refuseStarts(batch, err); len(batch) == 0 {
				return
			}
		}
		select {
		case <-c.ctx.Done():
		case <-time.After(pause):
			pause = min(2*pause, time.Second)
		}
	}
}

// notCommitted tells whether an error of a transaction says for certain that
// nothing of it stands: the server refused it, or nothing was sent.
func notCommitted(err error) bool {
	var pg *pgconn.PgError
	var connect *pgconn.ConnectError
	return errors.As(err, &pg) || errors.As(err, &connect) || pgconn.SafeToRetry(err)
}

// away tells whether the database cannot write anything at the moment.
func away(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return !strings.HasPrefix(pg.Code, "40") && !strings.HasPrefix(pg.Code, "55") && blameOf(err) == passing
	}
	return isNetwork(err)
}

// refuseStarts tells the callers of starts that certainly did not happen, in
// the batch and in the queue behind it, and gives the rest of the batch.
func (c *Committer) refuseStarts(batch []*write, err error) []*write {
	err = fmt.Errorf("%w: %w", ErrUnavailable, err)
	var refused []*write
	keep := func(list []*write) (kept []*write) {
		for _, w := range list {
			if isStart(w.part) && !w.unsure {
				refused = append(refused, w)
			} else {
				kept = append(kept, w)
			}
		}
		return kept
	}
	batch = keep(batch)
	c.mu.Lock()
	c.queue = keep(c.queue)
	clear(c.line)
	for _, w := range c.queue {
		c.line[w.of()]++
	}
	c.mu.Unlock()
	settle(refused, err)
	return batch
}

// leave puts the results that can no longer be written as entries where the
// run's new owner looks for them. It is best effort: without it a call in
// flight is repeated under its own key.
func (c *Committer) leave(writes []*write) {
	var b batch
	for _, w := range writes {
		w.join(&b)
	}
	q := &pgx.Batch{}
	b.entries.queueStray(q)
	if q.Len() == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := c.store.node.SendBatch(ctx, q).Close(); err != nil {
		c.log.Warn("results could not be left for the run's new owner", "error", err)
	}
}

func (c *Committer) transact(writes []*write) error {
	ctx, cancel := context.WithTimeout(c.ctx, 30*time.Second)
	defer cancel()
	var b batch
	for _, w := range writes {
		w.join(&b)
		b.repeated = b.repeated || w.tried
	}
	var ends []Cancelled
	q := &pgx.Batch{}
	q.Queue("BEGIN")
	q.Queue("SELECT hold_session($1)", c.session)
	b.queue(q, c.session)
	q.Queue(cancelledSQL, c.session).Query(func(rows pgx.Rows) (err error) {
		ends, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Cancelled])
		return err
	})
	q.Queue("COMMIT")
	conn, err := c.store.node.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if c.silent {
		// The server may still carry out what we heard nothing of, and wait for the
		// rest: what it holds for that is in our own way.
		done := make(chan struct{})
		var wait sync.WaitGroup
		wait.Go(func() { c.store.endBlockers(ctx, conn.Conn().PgConn().PID(), c.session, done) })
		defer wait.Wait()
		defer close(done)
	}
	if err := conn.SendBatch(ctx, q).Close(); err != nil {
		if !conn.Conn().IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
		return fenced(err)
	}
	if err := b.entries.readStanding(ctx, conn); err != nil {
		return err // it is durable, and a repeat of it tells what stands
	}
	if len(ends) > 0 && c.cancelled != nil {
		c.cancelled(ends)
	}
	return nil
}
