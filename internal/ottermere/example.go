package ottermere

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"

	api "youngtrellis/api/client"
	"youngtrellis/internal/standins/switchboard"
)

// Sent is a call that the switchboard reported, and what became of it.
type Sent struct {
	Call      switchboard.Call
	Status    int
	Run       uuid.UUID
	Duplicate bool
	Kept      bool // the workflow is paused
}

// Report lets the switchboard send calls to the counter's webhook.
func (w *World) Report(ctx context.Context, calls []switchboard.Call) ([]Sent, error) {
	out := make([]Sent, 0, len(calls))
	for _, c := range calls {
		a, err := switchboard.Report(ctx, http.DefaultClient, w.HookAddress, w.HookSecret, c)
		if err != nil {
			return out, err
		}
		s := Sent{Call: c, Status: a.Status}
		var body struct {
			Run       uuid.UUID
			Duplicate bool
			Kept      string
		}
		if err := json.Unmarshal([]byte(a.Body), &body); err != nil {
			return out, fmt.Errorf("the webhook answered %d: %s", a.Status, a.Body)
		}
		s.Run, s.Duplicate, s.Kept = body.Run, body.Duplicate, body.Kept != ""
		out = append(out, s)
	}
	return out, nil
}

// Wait follows a run until it has ended or waits.
func (w *World) Wait(ctx context.Context, run uuid.UUID) (api.Run, error) {
	for pause := 5 * time.Millisecond; ; pause = min(2*pause, 200*time.Millisecond) {
		r, err := Answer[api.Run](w.Client.GetRun(ctx, run))
		if err != nil {
			return r, err
		}
		switch r.Run.State {
		case api.RunStateQueued, api.RunStateRunning:
		default:
			return r, nil
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Rows reads the first rows of a run's lattice.
func (w *World) Rows(ctx context.Context, run uuid.UUID, count int) (api.Lattice, error) {
	return Answer[api.Lattice](w.Client.GetLattice(ctx, run, &api.GetLatticeParams{Count: &count}))
}
