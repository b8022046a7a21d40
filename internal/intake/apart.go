package intake

import (
	"context"
	"errors"
	"fmt"
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// MaxRuns is how many runs one delivery starts at most: they are made together, all
// of them or none.
const MaxRuns = 1000

// run is a run that is to start, with its items.
type run struct {
	start *store.Start
	items []map[string]any
}

// apart tells which runs start with the items of a delivery, each with its key.
func (in *Intake) apart(ctx context.Context, h store.Hook, plan *workflow.Plan, items []map[string]any) ([]run, error) {
	accepted := now()
	parts := [][]map[string]any{items}
	var err error
	switch r := plan.Start.Runs; {
	case r.Each && len(items) > 1:
		parts = make([][]map[string]any, len(items))
		for i := range items {
			parts[i] = items[i : i+1]
		}
	case r.By != nil && len(items) > 1:
		if parts, err = grouped(ctx, r.By, items, accepted); err != nil {
			return nil, err
		}
	}
	if len(parts) > MaxRuns {
		return nil, fmt.Errorf("it would start %d runs, and one delivery starts at most %d; send it in several, or let the items run together", len(parts), MaxRuns)
	}
	out := make([]run, len(parts))
	for i, part := range parts {
		s := &store.Start{Workspace: h.Workspace, Workflow: h.Workflow, Run: store.NewID(), Revision: *h.Live, Accepted: accepted}
		if s.Key, s.Expires, err = startKey(ctx, plan, part[0], accepted); err != nil {
			if len(parts) > 1 {
				err = fmt.Errorf("item %d: %w", i+1, err)
			}
			return nil, err
		}
		out[i] = run{s, part}
	}
	return out, nil
}

// grouped puts items together that have the same value, in the order in which the
// values came first.
func grouped(ctx context.Context, by *expr.Program, items []map[string]any, accepted time.Time) ([][]map[string]any, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, tellWithin, errors.New("it takes longer than "+expr.Words(tellWithin)))
	defer cancel()
	at := map[string]int{}
	var out [][]map[string]any
	for i, it := range items {
		v, err := by.Eval(&expr.Scope{Item: it, Now: accepted, Context: ctx})
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		if err != nil {
			return nil, fmt.Errorf("item %d: with which others it runs cannot be told: %w", i+1, err)
		}
		key, err := item.Key(v)
		if err != nil {
			return nil, fmt.Errorf("item %d: with which others it runs cannot be told: %w", i+1, err)
		}
		n, known := at[key]
		if !known {
			n = len(out)
			at[key] = n
			out = append(out, nil)
		}
		out[n] = append(out[n], it)
	}
	return out, nil
}

// launchAll starts runs together, all of them or none. The error is a *Refused where it
// is no fault of ours.
func (in *Intake) launchAll(ctx context.Context, plan *workflow.Plan, runs []run) ([]store.Started, error) {
	list := make([]*store.Start, len(runs))
	for i, r := range runs {
		if err := in.prepare(ctx, r.start, plan, r.items); err != nil {
			return nil, err
		}
		list[i] = r.start
	}
	if err := in.room(ctx, list[0].Workspace, len(list)); err != nil {
		return nil, err
	}
	return in.Node.AcceptAll(ctx, list)
}
