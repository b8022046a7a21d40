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

// WatchRun implements api.StrictServerInterface.
func (s *Server) WatchRun(ctx context.Context, r api.WatchRunRequestObject) (api.WatchRunResponseObject, error) {
	first, _, err := s.run(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	return stream(func(write func(api.Run) error) error {
		changes, stop := s.Events.Watch(r.Run)
		defer stop()
		now, last := first, ""
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
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
			next, _, err := s.run(ctx, r.Run)
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
	w.Header().Set("Cache-Control", "no-store")
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Time{})
	return st(func(r api.Run) error {
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "event: run\ndata: %s\n\n", b); err != nil {
			return err
		}
		return control.Flush()
	})
}
