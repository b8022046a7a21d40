package intake

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

func startKey(ctx context.Context, plan *workflow.Plan, fields []map[string]any, accepted time.Time) (string, time.Time, error) {
	if plan.Start.Key == nil {
		return "", accepted, nil
	}
	ctx, cancel := context.WithTimeoutCause(ctx, tellWithin, errors.New("it takes longer than "+expr.Words(tellWithin)))
	defer cancel()
	v, err := plan.Start.Key.Eval(&expr.Scope{Item: fields[0], Now: accepted, Context: ctx})
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return "", accepted, fmt.Errorf("the key of the call cannot be told: %w", err)
	}
	key, err := item.Key(v)
	if err != nil {
		return "", accepted, fmt.Errorf("the key of the call cannot be told: %w", err)
	}
	switch {
	case len(key) > 500+len(`"`):
		return "", accepted, errors.New("the key of the call is longer than 500 characters")
	case item.StorableText(key) != key:
		return "", accepted, errors.New("the key of the call holds a character that cannot be stored (U+0000, or broken UTF-8)")
	}
	return key, accepted.Add(plan.Start.KeyLasts), nil
}

// queueAgain is after how long a start is offered again that found the queue full.
const queueAgain = 10 * time.Second

// room refuses a start where as many of its workspace wait already as may. They are
// counted once a second; what comes here meanwhile is added, so that only what other
// nodes take in that second goes beyond the limit.
func (in *Intake) room(ctx context.Context, workspace uuid.UUID) error {
	most := in.MostQueued()
	n, err := in.queues.Get(workspace, func() (*atomic.Int64, error) {
		waiting, err := in.Store.Queued(ctx, workspace, most)
		n := &atomic.Int64{}
		n.Store(int64(waiting))
		return n, err
	})
	if err != nil {
		return err
	}
	if n.Add(1) > int64(most) {
		return &Refused{Status: http.StatusTooManyRequests, After: queueAgain, Message: fmt.Sprintf("%s runs of this workspace wait for their turn, as many as may (--queue-limit of the service). Nothing was started; send it again in some seconds.", words.Number(most))}
	}
	return nil
}

// MostQueued is how many runs of a workspace may wait for their turn.
func (in *Intake) MostQueued() int {
	if in.Queue > 0 {
		return in.Queue
	}
	return MaxQueue
}

// tellWithin is how long it may take to tell the key or the lane of a start: what is
// looked at comes from whoever calls.
const tellWithin = 2 * time.Second

// lineUp tells in which lines the run stands.
func lineUp(ctx context.Context, s *store.Start, plan *workflow.Plan, fields []map[string]any) (err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, tellWithin, errors.New("it takes longer than "+expr.Words(tellWithin)))
	defer cancel()
	s.Line.Limited = plan.Limits.Parallel > 0
	s.Line.Lane, err = plan.LaneOf(ctx, fields, s.Accepted)
	return err
}

// fill puts the items into a start, page by page.
func fill(s *store.Start, plan *workflow.Plan, fields []map[string]any) error {
	for i := 0; i < len(fields); i += itemsPerPage {
		page := make([]any, 0, itemsPerPage)
		for _, f := range fields[i:min(len(fields), i+itemsPerPage)] {
			page = append(page, f)
		}
		text, err := item.Encode(page)
		if err != nil {
			return err
		}
		s.Items, s.Ordinals = append(s.Items, text), append(s.Ordinals, uint32(i))
	}
	if len(s.Items) == 1 && len(s.Items[0]) <= decodedBytes {
		s.Decoded = fields
	}
	return nil
}

// name tells what the run is called, by its first item.
func (in *Intake) name(ctx context.Context, s *store.Start, plan *workflow.Plan, fields []map[string]any) (err error) {
	if len(fields) == 0 {
		return nil
	}
	var secrets *call.Secrets
	if in.Secrets != nil {
		if secrets, err = in.Secrets(ctx, s.Workspace); err != nil {
			return err
		}
	}
	s.Label = engine.Label(plan, item.New(0, fields[0], s.Accepted), secrets)
	return nil
}

// Start begins a run by hand with these items; none means one empty item.
func (in *Intake) Start(ctx context.Context, sc store.Scope, w store.Workflow, items []map[string]any, by string) (uuid.UUID, error) {
	if w.Live == nil {
		return uuid.Nil, &Refused{Status: http.StatusConflict, Message: fmt.Sprintf("%s has never been live. Rehearse it, or put it live first.", w.Name)}
	}
	if most := in.Most(); len(items) > most {
		return uuid.Nil, &Refused{Status: http.StatusUnprocessableEntity, Message: fmt.Sprintf("%s items were given; at most %s start with one run (--event-items of the service).", words.Number(len(items)), words.Number(most))}
	}
	plan, err := in.Plans.Plan(ctx, sc.Workspace(), w.ID, *w.Live)
	if err != nil {
		return uuid.Nil, err
	}
	if items, err = asked(plan.Start.Asks, items); err != nil {
		return uuid.Nil, err
	}
	s := &store.Start{Workspace: sc.Workspace(), Workflow: w.ID, Run: store.NewID(), Revision: *w.Live, Trigger: triggers.Manual, By: by, Accepted: now()}
	if err := fill(s, plan, items); err != nil {
		return uuid.Nil, err
	}
	if err := in.name(ctx, s, plan, items); err != nil {
		return uuid.Nil, err
	}
	if err := lineUp(ctx, s, plan, items); err != nil {
		return uuid.Nil, &Refused{Status: http.StatusUnprocessableEntity, Message: err.Error()}
	}
	if err := in.room(ctx, s.Workspace); err != nil {
		return uuid.Nil, err
	}
	started, err := in.Node.Accept(ctx, s)
	return started.Run, err
}
