package node

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
)

// patience is the longest that a worker waits for its turn; longer waits park
// the run.
const patience = 30 * time.Second

// gate gives leave for one call of a connection, as its limits and the other
// side's wish to wait allow over all nodes. Done gives the leave back.
func (n *Node) gate(ctx context.Context, o *opened, lasts time.Duration) (done func(), err error) {
	nothing := func() {}
	if o.spacing == 0 && o.parallel == 0 {
		if wait := time.Until(o.held); wait > 0 {
			return nothing, n.await(ctx, o, wait, o.why)
		}
		return nothing, nil
	}
	pause := 5 * time.Millisecond
	for {
		p, err := n.Store.Pass(ctx, o.Workspace, o.id, o.spacing, o.parallel, lasts+time.Minute, patience)
		if err != nil {
			return nothing, &engine.Failure{Class: engine.NotSent, Message: "the limit of the connection could not be asked for: " + err.Error(), Retryable: true}
		}
		switch {
		case p.Held > 0:
			why := p.Why
			if why == "" {
				why = "as many calls wait for connection " + o.Name + " as it takes in half a minute"
			}
			if err := n.await(ctx, o, p.Held, why); err != nil {
				return nothing, err
			}
		case p.Full:
			sleep(ctx, pause)
			pause = min(2*pause, 100*time.Millisecond)
		default:
			sleep(ctx, p.Wait)
			done := nothing
			if p.ID != uuid.Nil {
				done = func() { _ = n.Store.Return(context.WithoutCancel(ctx), o.Workspace, o.id, p.ID) }
			}
			if ctx.Err() != nil {
				done()
				return nothing, ctx.Err()
			}
			return done, nil
		}
		if ctx.Err() != nil {
			return nothing, ctx.Err()
		}
	}
}

// await sleeps a short wait, and parks the run for a long one.
func (n *Node) await(ctx context.Context, o *opened, wait time.Duration, why string) error {
	if wait > patience {
		return &engine.Parked{Reason: engine.ReasonToldToWait, Connection: o.Name, Until: time.Now().Add(wait), Message: why}
	}
	sleep(ctx, wait)
	return ctx.Err()
}

// Hold implements engine.Caller: no call of the connection begins for so long.
func (c *caller) Hold(ctx context.Context, name string, d time.Duration, why string) {
	if name == "" || c.rehearsal && d > patience {
		return
	}
	o, err := c.node.openAccount(ctx, c.workspace, name)
	if err != nil {
		return
	}
	if err := c.node.Store.Hold(ctx, c.workspace, o.id, d, why); err != nil {
		c.node.Log.Warn("holding a connection", "connection", name, "error", err)
	}
	c.node.Forget(c.workspace, name)
}

// Callback implements engine.Caller.
func (c *caller) Callback(ctx context.Context, run string) (string, error) {
	id, err := uuid.Parse(run)
	if err != nil {
		return "", err
	}
	token, err := c.node.Store.NewCallback(ctx, c.workspace, id)
	return c.node.PublicURL + "/callbacks/" + token, err
}

// record keeps a call for the connection's page. It never delays the call.
func (n *Node) record(o *opened, run uuid.UUID, sent *engine.Sent, began time.Time, err error) {
	if sent == nil {
		return
	}
	c := store.Called{Workspace: o.Workspace, Connection: o.id, ID: store.NewID(), Method: sent.Method, Address: sent.URL, Status: sent.Status, TookMS: int(time.Since(began).Milliseconds())}
	if run != uuid.Nil {
		c.Run = &run
	}
	if err != nil {
		c.Failure = err.Error()
	}
	select {
	case n.calls <- c:
	default: // a flood of calls: the page shows some of them
	}
}

func (n *Node) keepCalls(ctx context.Context) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	var held []store.Called
	flush := func() {
		for len(n.calls) > 0 && len(held) < 500 {
			held = append(held, <-n.calls)
		}
		if len(held) == 0 {
			return
		}
		newest := map[uuid.UUID]int{}
		kept := make([]store.Called, 0, len(held))
		for i := len(held) - 1; i >= 0; i-- { // only what would be kept is written
			if newest[held[i].Connection]++; newest[held[i].Connection] <= store.KeptCalls {
				kept = append(kept, held[i])
			}
		}
		if err := n.Store.RecordCalls(context.WithoutCancel(ctx), kept); err != nil && !errors.Is(err, store.ErrUnavailable) {
			n.Log.Warn("keeping calls", "error", err)
		}
		held = nil
	}
	for {
		select {
		case <-ctx.Done():
			flush()
			return
		case <-tick.C:
			flush()
		}
	}
}
