package intake

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// MaxRuns is how many runs one event starts at most: they are made together, all
// of them or none.
const MaxRuns = 1000

// run is a run that is to start.
type run struct {
	start store.Start // but for its items, and its id
	items []map[string]any
	keys  []string // of the items, where they have keys and may be several
}

// event is what brings items: a start without items, id and key, and whether the key
// of the workflow counts for it.
type event struct {
	store.Start
	keyed bool
}

// delivery is the event of a call.
func delivery(h store.Hook) event {
	return event{store.Start{Workspace: h.Workspace, Workflow: h.Workflow, Revision: *h.Live, Accepted: now()}, true}
}

// apart tells which runs start with the items of an event, each with its key or keys,
// and how many items are left out as another run of the event has their keys. Items of
// one key that run together stay together: none of them was there before.
func (in *Intake) apart(ctx context.Context, e event, plan *workflow.Plan, items []map[string]any) (out []run, repeated int, err error) {
	accepted, keyed := e.Accepted, e.keyed && plan.Start.Key != nil
	parts := [][]map[string]any{items}
	r := plan.Start.Runs
	switch {
	case r.Each && len(items) > 1:
		parts = make([][]map[string]any, len(items))
		for i := range items {
			parts[i] = items[i : i+1]
		}
	case r.By != nil && len(items) > 1:
		if parts, err = grouped(ctx, r.By, items, accepted); err != nil {
			return nil, 0, err
		}
	}
	if len(parts) > MaxRuns {
		return nil, 0, fmt.Errorf("it would start %d runs, and at most %d start at once; send it in several parts, or let the items run together", len(parts), MaxRuns)
	}
	at := 0
	holds := map[string]int{} // by their keys, which of the parts
	for n, part := range parts {
		next := run{start: e.Start, items: part}
		if keyed {
			next.items = nil
		}
		for _, it := range part {
			at++
			if !keyed {
				continue
			}
			key, expires, err := startKey(ctx, plan, it, accepted)
			if err != nil {
				if len(items) > 1 {
					err = fmt.Errorf("item %d: %w", at, err)
				}
				return nil, 0, err
			}
			next.start.Expires = expires
			if r.Each || len(items) == 1 {
				next.start.Key, next.items = key, part
				continue
			}
			if of, there := holds[key]; there && of != n {
				repeated++
				continue
			}
			holds[key] = n
			next.keys, next.items = append(next.keys, key), append(next.items, it)
		}
		if len(next.items) > 0 {
			out = append(out, next)
		}
	}
	return out, repeated, nil
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

// begun is what became of the runs of an event.
type begun struct {
	Received
	key   string // the first that was known
	known uuid.UUID
}

// settle completes what is told of it. Where nothing was started, the run is the one
// whose key was known.
func (b *begun) settle(repeated int) Received {
	if b.Known += repeated; b.Runs == 0 {
		b.Run, b.Duplicate = b.known, true
	}
	return b.Received
}

// knows counts items whose key has started a run.
func (b *begun) knows(key string, of uuid.UUID) {
	if b.Known++; b.key == "" {
		b.key, b.known = key, of
	}
}

// mostTries bounds how often items are looked at again that others start with at the
// same time.
const mostTries = 20

// startAll starts the runs of an event. Items are left out whose keys have started
// runs. The error is a *Refused where it is no fault of ours.
func (in *Intake) startAll(ctx context.Context, plan *workflow.Plan, runs []run) (out begun, err error) {
	for range mostTries {
		if runs, err = in.leaveOut(ctx, runs, &out); err != nil || len(runs) == 0 {
			return out, err
		}
		started, err := in.launchAll(ctx, plan, runs)
		if err != nil {
			return out, err
		}
		var again []run
		for i, s := range started {
			switch {
			case s.Conflict:
				again = append(again, runs[i])
			case s.Duplicate:
				out.knows(runs[i].start.Key, s.Run)
			default:
				if out.Runs++; out.Runs == 1 {
					out.Run = s.Run
				}
			}
		}
		if runs = again; len(runs) == 0 {
			return out, nil
		}
	}
	return out, &Refused{Status: http.StatusServiceUnavailable, Message: "Others start with the same keys at the moment; send it again.", After: time.Second}
}

// leaveOut takes those items away whose keys have started runs.
func (in *Intake) leaveOut(ctx context.Context, runs []run, out *begun) ([]run, error) {
	var keys []string
	for _, r := range runs {
		keys = append(keys, r.keys...)
	}
	if len(keys) == 0 {
		return runs, nil
	}
	known, err := in.Store.KnownKeys(ctx, runs[0].start.Workspace, runs[0].start.Workflow, keys)
	if err != nil || len(known) == 0 {
		return runs, err
	}
	var left []run
	for _, r := range runs {
		if r.keys == nil {
			left = append(left, r)
			continue
		}
		next := run{start: r.start}
		for i, key := range r.keys {
			if of, ok := known[key]; ok {
				out.knows(key, of)
				continue
			}
			next.keys, next.items = append(next.keys, key), append(next.items, r.items[i])
		}
		if len(next.items) > 0 {
			left = append(left, next)
		}
	}
	return left, nil
}

// distinct are these keys, each once.
func distinct(keys []string) []string {
	out := slices.Clone(keys)
	slices.Sort(out)
	return slices.Compact(out)
}

// launchAll starts runs together, all of them or none, but for those whose keys have
// started others.
func (in *Intake) launchAll(ctx context.Context, plan *workflow.Plan, runs []run) ([]store.Started, error) {
	list := make([]*store.Start, len(runs))
	for i, r := range runs {
		s := r.start
		s.Run, s.Keys = store.NewID(), distinct(r.keys)
		if err := in.prepare(ctx, &s, plan, r.items); err != nil {
			return nil, err
		}
		list[i] = &s
	}
	if err := in.room(ctx, list[0].Workspace, len(list)); err != nil {
		return nil, err
	}
	if len(list) == 1 {
		one, err := in.Node.Accept(ctx, list[0])
		return []store.Started{one}, err
	}
	return in.Node.AcceptAll(ctx, list)
}
