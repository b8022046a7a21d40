package engine

import (
	"context"
	"sync"
)

// exchange lets what is above go on with the next chunk while what is below
// works on this one. Order is kept. It begins to work with its first chunk.
type exchange struct {
	x     *execution
	down  stage
	queue chan []*flow
	begun bool
	gone  chan struct{} // closed when nothing is taken from the queue any more
	err   error         // why; to be read after gone
	once  sync.Once
}

// queued is how many chunks wait between two effects.
const queued = 1

// exchanged puts an exchange ahead of an effect where it pays: outside of nests,
// in the pass that is carried out, unless items go one at a time.
func (r *room) exchanged(s stage) stage {
	if !r.live || r.nested || r.x.Rehearse || r.x.Chunk == 1 {
		return s
	}
	e := &exchange{x: r.x, down: s, queue: make(chan []*flow, queued), gone: make(chan struct{})}
	r.x.exchanges = append(r.x.exchanges, e)
	return e
}

func (e *exchange) take(ctx context.Context, chunk []*flow) error {
	if !e.begun {
		e.begun = true
		go e.work(ctx)
	}
	select {
	case e.queue <- chunk:
		return nil
	case <-e.gone:
		return e.err
	}
}

func (e *exchange) work(ctx context.Context) {
	defer close(e.gone)
	for chunk := range e.queue {
		if e.err = e.down.take(ctx, chunk); e.err != nil {
			return
		}
	}
}

func (e *exchange) end(ctx context.Context) error {
	e.drop()
	if e.err != nil {
		return e.err
	}
	return e.down.end(ctx)
}

// drop waits until what is below has worked on everything, or has given up.
func (e *exchange) drop() {
	e.once.Do(func() {
		close(e.queue)
		if e.begun {
			<-e.gone
		}
	})
}
