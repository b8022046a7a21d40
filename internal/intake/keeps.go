package intake

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// keptFull is after how long an event is offered again of which no more are kept.
const keptFull = 10 * time.Minute

// keep keeps an event of a paused workflow. store.ErrConflict: it is not paused any more.
func (in *Intake) keep(ctx context.Context, h store.Hook, plan *workflow.Plan, fields []map[string]any, body excerpt, keys ...string) (Received, error) {
	// What could not start is refused now, while the caller can mend it.
	if _, _, err := in.apart(ctx, delivery(h), plan, fields); err != nil {
		in.note(ctx, h, "refused", err.Error(), nil, body)
		return Received{}, &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
	}
	text, err := item.EncodeList(fields)
	if err != nil {
		return Received{}, &Refused{Status: http.StatusBadRequest, Message: err.Error()}
	}
	err = in.Store.KeepEvent(ctx, h, text, keys...)
	switch {
	case errors.Is(err, store.ErrFull):
		const why = "the workflow is paused, and no more calls are kept meanwhile"
		in.note(ctx, h, "refused", why, nil, body)
		return Received{}, &Refused{Status: http.StatusServiceUnavailable, After: keptFull, Message: fmt.Sprintf("Nothing was started or kept: %s (%d, or 16 MiB of them). Send it again later.", why, store.MaxKept)}
	case err != nil:
		return Received{}, err
	}
	in.note(ctx, h, "kept", "the workflow is paused", nil, body)
	return Received{Kept: true}, nil
}

// KeptStore remembers what called while workflows were paused.
type KeptStore interface {
	ClaimKept(ctx context.Context, work func(store.Kept) (done bool)) (found bool, err error)
	ForgetKept(ctx context.Context) error
}

// Keeps is the source of runs that start with events that were kept while their
// workflow was paused: in the order in which they came, each once, however many nodes
// look and whenever they die.
type Keeps struct {
	*Intake
	Store KeptStore
	Log   *slog.Logger
}

var _ Source = (*Keeps)(nil)

// keptLook is how often it is looked for what is to start.
const keptLook = 500 * time.Millisecond

// Run implements Source.
func (k *Keeps) Run(ctx context.Context) {
	var forgot time.Time
	for ctx.Err() == nil {
		found, err := k.Store.ClaimKept(ctx, func(e store.Kept) bool { return k.begins(ctx, e) })
		if err == nil && found {
			continue
		}
		if err == nil && time.Since(forgot) > time.Hour {
			if err = k.Store.ForgetKept(ctx); err == nil {
				forgot = time.Now()
			}
		}
		if err != nil && ctx.Err() == nil && !store.IsUnavailable(err) {
			k.Log.Error("what was kept of a paused workflow could not be started", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(keptLook):
		}
	}
}

// begins starts the runs of a kept event; false: it could not, and is to start still.
func (k *Keeps) begins(ctx context.Context, e store.Kept) bool {
	h := store.Hook{Workspace: e.Workspace, Workflow: e.Workflow, Live: &e.Live, State: "live"}
	refuse := func(why string) bool {
		k.note(ctx, h, "refused", "kept while it was paused, and then: "+why, nil, excerptOf(e.Items))
		return true
	}
	plan, err := k.Plans.Plan(ctx, e.Workspace, e.Workflow, e.Live)
	if store.IsUnavailable(err) || ctx.Err() != nil {
		return false
	}
	if err != nil {
		return refuse("the live revision cannot be read any more")
	}
	fields, err := item.DecodeList(e.Items)
	if err != nil || len(fields) == 0 {
		return refuse("it cannot be read any more")
	}
	runs, _, err := k.apart(ctx, delivery(h), plan, fields)
	if err != nil {
		return refuse(err.Error())
	}
	if e.Keys != nil {
		runs[0].keyedAs(e.Keys)
	}
	for i := range runs {
		if s := &runs[i].start; plan.Start.Key == nil && e.Keys == nil { // so that what dies after the start and before it is forgotten starts once
			s.Key, s.Expires = fmt.Sprintf("kept %s %d", e.ID, i), s.Accepted.Add(keptLong)
		}
	}
	_, err = k.startAll(ctx, plan, runs)
	var refused *Refused
	if errors.As(err, &refused) && refused.After == 0 {
		return refuse(refused.Message)
	}
	return err == nil
}
