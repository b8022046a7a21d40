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

// exchanged puts an exchange ahead of an effect where it pays: outside of nests,
// in the pass that is carried out, unless items go one at a time.
func (r *room) exchanged(s stage, parallel int) stage {
	if !r.live || r.nested || r.x.Rehearse || r.x.Chunk == 1 {
		return s
	}
	e := &exchange{x: r.x, down: s, queue: make(chan []*flow, max(1, parallel)), gone: make(chan struct{})}
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
	most := 1
	for chunk := range e.queue {
		faults := e.x.faults.Load()
		if e.err = e.down.take(ctx, e.more(chunk, most)); e.err != nil {
			return
		}
		if most = min(2*most, mostItems); e.x.faults.Load() != faults {
			most = 1
		}
	}
}

// more takes along what waits already, so that few items at a time, as groups
// come, are worked on together all the same: as many as a chunk may have by now.
func (e *exchange) more(chunk []*flow, most int) []*flow {
	for len(chunk) < most {
		select {
		case next, ok := <-e.queue:
			if !ok {
				return chunk
			}
			chunk = append(chunk[:len(chunk):len(chunk)], next...)
		default:
			return chunk
		}
	}
	return chunk
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
