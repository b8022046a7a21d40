package intake

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/store"
)

// ByHand is a start by hand.
type ByHand struct {
	Items   []map[string]any // none means one empty item, or what the trigger makes
	By      string
	Again   bool // they have started a run already, and are to once more
	AtFirst int  // how many items it takes to its first write before a person has looked; 0: what going live said
}

// Start begins runs by hand.
func (in *Intake) Start(ctx context.Context, sc store.Scope, w store.Workflow, h ByHand) (Received, error) {
	items := h.Items
	if w.Live == nil {
		return Received{}, &Refused{Status: http.StatusConflict, Message: fmt.Sprintf("%s has never been live. Rehearse it, or put it live first.", w.Name)}
	}
	if most := in.Most(); len(items) > most {
		return Received{}, &Refused{Status: http.StatusUnprocessableEntity, Message: fmt.Sprintf("%s items were given; at most %s start with one run (--event-items of the service).", words.Number(len(items)), words.Number(most))}
	}
	plan, err := in.Plans.Plan(ctx, sc.Workspace(), w.ID, *w.Live)
	if err != nil {
		return Received{}, err
	}
	if len(items) == 0 && plan.Start.Own != nil {
		own, err := in.byHand(ctx, sc, w, plan.Start)
		if err != nil {
			return Received{}, err
		}
		items = own
	}
	if items, err = asked(plan.Start.Asks, items); err != nil {
		return Received{}, err
	}
	if err := in.ofLists(ctx, sc.Workspace(), plan.Start.Asks, items); err != nil {
		return Received{}, err
	}
	e := event{store.Start{Workspace: sc.Workspace(), Workflow: w.ID, Revision: *w.Live, Trigger: triggers.Manual, By: h.By, AtFirst: h.AtFirst, Accepted: now()}, plan.Start.KeyedByHand && !h.Again}
	runs, repeated, err := in.apart(ctx, e, plan, items)
	if err != nil {
		return Received{}, &Refused{Status: http.StatusUnprocessableEntity, Message: words.Sentence(err.Error())}
	}
	got, err := in.startAll(ctx, plan, runs)
	if err != nil {
		return Received{}, err
	}
	return got.settle(repeated), nil
}

// mostWrong is how many wrong fields of a start are told.
const mostWrong = 20

// asked completes the items of a start by hand with what the trigger presets, and
// refuses those that lack what it asks for. Without any there is one empty item.
func asked(asks triggers.Asked, items []map[string]any) ([]map[string]any, error) {
	if len(items) == 0 {
		items = []map[string]any{{}}
	}
	out := make([]map[string]any, len(items))
	wrong := &form.InputError{}
	for i, fields := range items {
		full, err := asks.Complete(fields)
		out[i] = full
		var of *form.InputError
		switch {
		case errors.As(err, &of) && len(items) == 1:
			return nil, of
		case errors.As(err, &of):
			for _, f := range of.Fields {
				wrong.Fields = append(wrong.Fields, form.FieldError{Field: fmt.Sprintf("items[%d].%s", i, f.Field), Message: fmt.Sprintf("Item %d: %s", i+1, f.Message)})
			}
		case err != nil:
			return nil, err
		}
		if len(wrong.Fields) >= mostWrong {
			break
		}
	}
	if len(wrong.Fields) > 0 {
		return nil, wrong
	}
	return out, nil
}

// byHand are the items of a start by hand of what makes its items itself. What starts
// by the clock otherwise is due now, and what lies since the last time is looked at.
func (in *Intake) byHand(ctx context.Context, sc store.Scope, w store.Workflow, start triggers.Start) ([]map[string]any, error) {
	known, now, err := in.Store.Schedules(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	own := start.Own(now)
	previous := now.Add(-24 * time.Hour)
	for _, k := range known {
		if k.Reader == "" && start.Timing != nil {
			previous = k.Previous
			own = start.Timing.Item(now, previous, 0)
		}
	}
	if start.Timing != nil && start.Timing.Readers != nil {
		return in.read(ctx, sc.Workspace(), start.Timing, now, previous)
	}
	return []map[string]any{own}, nil
}

// ofLists refuses items with a value that is none of the workspace list that it should
// be of.
func (in *Intake) ofLists(ctx context.Context, workspace uuid.UUID, asks triggers.Asked, items []map[string]any) error {
	wrong := &form.InputError{}
	for _, p := range asks.Properties {
		list := triggers.ListOf(p)
		if list == "" {
			continue
		}
		_, table, err := in.Store.CurrentList(ctx, workspace, list, 0)
		if errors.Is(err, store.ErrNotFound) {
			return &Refused{Status: http.StatusConflict, Message: fmt.Sprintf("There is no list %q any more, of which %s is one.", list, p.Name)}
		}
		if err != nil {
			return err
		}
		rows := table.ByKey()
		for i, it := range items {
			key, ok := it[p.Name].(string)
			if _, known := rows[key]; !ok || key == "" || known {
				continue
			}
			f := form.FieldError{Field: p.Name, Message: fmt.Sprintf("%q is not in the list %s.%s", words.Short(key, 60), list, near.Hint(key, slices.Collect(maps.Keys(rows))))}
			if len(items) > 1 {
				f = form.FieldError{Field: fmt.Sprintf("items[%d].%s", i, p.Name), Message: fmt.Sprintf("Item %d: %s", i+1, f.Message)}
			}
			if wrong.Fields = append(wrong.Fields, f); len(wrong.Fields) >= mostWrong {
				return wrong
			}
		}
	}
	if len(wrong.Fields) > 0 {
		return wrong
	}
	return nil
}
