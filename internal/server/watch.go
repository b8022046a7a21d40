package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"youngtrellis/api"
	"youngtrellis/internal/store"
)

func ended(state api.RunState) bool {
	switch state {
	case api.RunStateQueued, api.RunStateRunning, api.RunStateWaiting:
		return false
	}
	return true
}

// askAgain is how long an open stream goes on without asking whether its caller
// may still see it.
const askAgain = 3 * time.Second

// WatchRun implements api.StrictServerInterface.
func (s *Server) WatchRun(ctx context.Context, r api.WatchRunRequestObject) (api.WatchRunResponseObject, error) {
	// The place first: who has none costs nothing.
	end, ok := s.limiters.streams.begin(scopeOf(ctx).Person().String())
	if !ok {
		return nil, &fault{status: http.StatusTooManyRequests, kind: "too_many", title: fmt.Sprintf("You watch %d runs already; that is as many as one person does at a time. End one of them first.", mostStreams), after: 5 * time.Second}
	}
	first, _, err := s.run(ctx, r.Run)
	if err != nil {
		end()
		return nil, err
	}
	return stream(func(write func(api.Run) error) error {
		defer end()
		changes, stop := s.Events.Watch(r.Run)
		defer stop()
		now, last := first, ""
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		sc, asked := scopeOf(ctx), time.Now()
		for {
			now = whole(now)
			text, err := json.Marshal(now)
			if err != nil {
				return err
			}
			if string(text) != last {
				last = string(text)
				if err := write(now); err != nil {
					return err
				}
			}
			if ended(now.Run.State) {
				return nil
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-changes:
			case <-tick.C:
			}
			if time.Since(asked) > askAgain {
				// The token may have been ended meanwhile, or the role taken away.
				asked = time.Now()
				switch again, err := s.Store.Again(ctx, sc); {
				case err == nil && again.Role().Covers(store.Viewer):
					sc = again
				case !store.IsUnavailable(err):
					return nil
				}
			}
			next, _, err := s.run(context.WithValue(ctx, scopeKey{}, sc), r.Run)
			if store.IsUnavailable(err) {
				continue
			}
			if err != nil {
				return err
			}
			now = next
		}
	}), nil
}

// stream answers with server-sent events, flushed one by one.
type stream func(write func(api.Run) error) error

// VisitWatchRunResponse implements api.WatchRunResponseObject.
func (st stream) VisitWatchRunResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "text/event-stream")
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Time{})
	_ = control.SetWriteDeadline(time.Time{})
	return st(func(r api.Run) error {
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		patient(w, eventPatience)
		if _, err := fmt.Fprintf(w, "event: run\ndata: %s\n\n", b); err != nil {
			return err
		}
		return control.Flush()
	})
}
