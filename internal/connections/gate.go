package connections

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/store"
)

// patience is the longest that a worker waits for its turn; longer waits park
// the run.
const patience = 30 * time.Second

// gate gives leave for one call of a connection, as its limits and the other
// side's wish to wait allow over all nodes. Done gives the leave back. Waiting
// for it ends with the call's need to begin.
func (s *Service) gate(ctx context.Context, o *opened, request *call.Call, owner Owner) (done func(), err error) {
	nothing := func() {}
	if o.spacing == 0 && o.parallel == 0 {
		if wait := time.Until(o.held); wait > 0 {
			return nothing, s.await(ctx, o, request, wait, o.why)
		}
		return nothing, nil
	}
	ask := store.Gate{Permitted: store.Permitted{Workspace: o.Workspace, Connection: o.id}, Spacing: o.spacing, Parallel: o.parallel, Lasts: request.Timeout + time.Minute, Patience: patience}
	if owner != nil {
		session := owner.Session()
		ask.Session = &session
	}
	pause := 5 * time.Millisecond
	for {
		ask.ID = store.NewID()
		leave := func() { s.giveBack(ctx, owner, ask.Permitted) }
		p, err := s.Store.Ask(ctx, ask)
		switch {
		case err != nil: // it may have been given, and the answer lost
			leave()
			return nothing, err
		case p.Held > 0:
			why := p.Why
			if why == "" {
				why = "as many calls wait for connection " + o.Name + " as it takes in half a minute"
			}
			if err := s.await(ctx, o, request, p.Held, why); err != nil {
				return nothing, err
			}
		case p.Full:
			if err := begins(ctx, request, pause); err != nil {
				return nothing, err
			}
			pause = min(2*pause, 100*time.Millisecond)
		default:
			if o.parallel == 0 {
				leave = nothing
			}
			if err := begins(ctx, request, p.Wait); err != nil {
				leave()
				return nothing, err
			}
			return leave, nil
		}
	}
}

// giveBack returns leave to call: with what a run's owner writes, else at once.
func (s *Service) giveBack(ctx context.Context, owner Owner, p store.Permitted) {
	if owner != nil && owner.Return(p) == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := s.Store.Return(ctx, p); err != nil {
		s.Log.Warn("leave to call could not be given back; it ends by itself", "connection", p.Connection, "error", err)
	}
}

// begins waits for a call's turn, unless it need not begin any more.
func begins(ctx context.Context, request *call.Call, wait time.Duration) error {
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-request.Stopped:
		return call.ErrStopped
	case <-t.C:
		return nil
	}
}

// await sleeps a short wait, and parks the run for a long one.
func (s *Service) await(ctx context.Context, o *opened, request *call.Call, wait time.Duration, why string) error {
	if wait > patience {
		return &call.Parked{Reason: call.ReasonToldToWait, Connection: o.Name, Until: time.Now().Add(wait), Message: why}
	}
	return begins(ctx, request, wait)
}

// record keeps a call for the connection's page. It never delays the call.
func (s *Service) record(o *opened, run uuid.UUID, sent *call.Sent, began time.Time, err error) {
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
	case s.calls <- c:
	default: // a flood of calls: the page shows some of them
	}
}

func (s *Service) keepCalls(ctx context.Context) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	var held []store.Called
	flush := func() {
		for len(s.calls) > 0 && len(held) < 500 {
			held = append(held, <-s.calls)
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
		if err := s.Store.RecordCalls(context.WithoutCancel(ctx), kept); err != nil && !errors.Is(err, store.ErrUnavailable) {
			s.Log.Warn("keeping calls", "error", err)
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
