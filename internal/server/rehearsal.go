package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"youngtrellis/api"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

// Rehearse implements api.StrictServerInterface.
func (s *Server) Rehearse(ctx context.Context, r api.RehearseRequestObject) (api.RehearseResponseObject, error) {
	sc := scopeOf(ctx)
	d, err := s.drafted(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	w, catalog, parsed, problems := d.Workflow, d.catalog, d.parsed, d.problems
	if parsed == nil {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "invalid_document", title: "The draft cannot be read.", problems: problems}
	}
	if to := or(r.Body.To, ""); to != "" {
		if parsed = parsed.UpTo(to); parsed == nil {
			return nil, refuse(http.StatusUnprocessableEntity, "no_step", fmt.Sprintf("There is no step %q.", to))
		}
		problems = remaining(problems, parsed)
	}
	if workflow.HasErrors(problems) {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "has_errors", title: "The draft has errors; mend them, or rehearse to a line above.", problems: problems}
	}
	items, err := s.rehearsed(ctx, sc, w, parsed, r.Body.Items)
	if err != nil {
		return nil, err
	}
	plan, err := workflow.Compile(parsed, catalog)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	got, read, err := s.Runs.Rehearse(ctx, sc.Workspace(), plan, items)
	if err != nil {
		return nil, err
	}
	out := s.rehearsal(got, plan, catalog, w.Version, items)
	if r.Body.Items == nil && r.Body.To == nil {
		if err := s.expects(ctx, sc, w, plan, got, &out); err != nil {
			return nil, err
		}
	}
	body, err := json.Marshal(out)
	if err != nil {
		return nil, err
	}
	return api.Rehearse200JSONResponse(out), s.Recordings.Save(ctx, sc, w.ID, store.Pack(body), read, r.Body.To != nil)
}

// FollowRehearsal implements api.StrictServerInterface.
func (s *Server) FollowRehearsal(ctx context.Context, r api.FollowRehearsalRequestObject) (api.FollowRehearsalResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	read, err := s.Recordings.Of(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	if read == nil {
		return nil, refuse(http.StatusConflict, "never_rehearsed", "It was never rehearsed, so there is nothing to compute from. Rehearse it first.")
	}
	text := []byte(w.Draft)
	if list := or(r.Body.Edits, nil); len(list) > 0 {
		edits, err := editsOf(list)
		if err != nil {
			return nil, err
		}
		if text, _, err = workflow.Apply(text, edits); err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_edit", err.Error())
		}
	}
	catalog, err := s.catalog(ctx, sc)
	if err != nil {
		return nil, err
	}
	parsed, found := workflow.Examine(text, catalog)
	if parsed == nil {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "invalid_document", title: "The draft cannot be read.", problems: found.Problems()}
	}
	sound := found.Sound()
	items, err := s.rehearsed(ctx, sc, w, sound, nil)
	if err != nil {
		return nil, err
	}
	plan, err := workflow.Compile(sound, catalog)
	if err != nil {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "has_errors", title: "The draft has errors; mend them first.", problems: found.Problems()}
	}
	got, err := s.Runs.Follow(ctx, sc.Workspace(), plan, items, read)
	if err != nil {
		return nil, err
	}
	out := s.rehearsal(got, plan, catalog, w.Version, items)
	if n := len(sound.Steps); n < len(parsed.Steps) {
		out.Until = some(parsed.Steps[n].Name)
	} else if err := s.expects(ctx, sc, w, plan, got, &out); err != nil {
		return nil, err
	}
	unread := 0
	for _, row := range out.Rows {
		for _, c := range row.Cells {
			if c.Fate == api.FateWaiting {
				unread++
			}
		}
	}
	out.Unread = given(unread)
	return api.FollowRehearsal200JSONResponse(out), nil
}

// rehearsed are the items that a rehearsal goes through: those that are given, else
// the samples, else an empty one where the workflow starts without any.
func (s *Server) rehearsed(ctx context.Context, sc store.Scope, w store.Workflow, parsed *workflow.Workflow, given *[]api.Fields) ([]map[string]any, error) {
	asks := parsed.Start().Asks
	items, err := objects(given)
	if err != nil {
		return nil, err
	}
	if len(items) == 0 {
		if items, err = s.samples(ctx, sc, w); err != nil {
			return nil, err
		}
	}
	if len(items) == 0 {
		own := map[string]any{}
		if start := parsed.Start(); start.Own != nil {
			own = start.Own(time.Now())
		}
		if t := parsed.Start().Timing; t != nil && t.Readers != nil {
			if items, err = s.readersOf(ctx, sc, t); err != nil || len(items) > 0 {
				return items, err
			}
		}
		empty, lacks := asks.Complete(own)
		if k, ok := triggers.Find(parsed.Trigger.Type); !ok || !k.Alone || lacks != nil {
			return nil, refuse(http.StatusConflict, "no_samples", "There is no sample yet. Take one from a real start, or write one.")
		}
		items = []map[string]any{empty}
	}
	for i := range items {
		if full, err := asks.Complete(items[i]); err == nil {
			items[i] = full
		}
	}
	return items, nil
}

// mostReaders is for how many rows of a list a workflow is rehearsed that starts for
// each.
const mostReaders = 5

// readersOf are the items with which a workflow starts for the first rows of a list;
// none where there is no such list.
func (s *Server) readersOf(ctx context.Context, sc store.Scope, t *triggers.Timing) ([]map[string]any, error) {
	_, table, err := s.Store.ListTable(ctx, sc, t.Readers.List)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	now := time.Now()
	rows, err := t.Readers.Rows(table, now)
	if err != nil {
		return nil, refuse(http.StatusConflict, "readers", words.Sentence(err.Error()))
	}
	var out []map[string]any
	for _, row := range rows[:min(mostReaders, len(rows))] {
		it := t.Sample(now)
		it["reader"] = row
		out = append(out, it)
	}
	return out, nil
}

// remaining keeps the problems of the steps that are left, and of the head.
func remaining(problems []document.Problem, w *workflow.Workflow) []document.Problem {
	var out []document.Problem
	for _, p := range problems {
		if i, _ := w.Step(p.Step); p.Step == "" || i >= 0 {
			out = append(out, p)
		}
	}
	return out
}

func (s *Server) rehearsal(got *runs.Rehearsal, plan *workflow.Plan, catalog *workflow.Catalog, version int64, items []map[string]any) api.Rehearsal {
	out := api.Rehearsal{Made: time.Now().UTC(), Version: version, State: api.RunState(got.State), Message: given(got.Message), Columns: columns(plan, catalog, &got.Counts), Rows: []api.Row{}, Counts: counts(got.Counts)}
	for _, e := range got.Memory.All() {
		if e.Request != nil && e.Request.Prepared {
			out.Prepared++
		}
	}
	used := make([]api.Fields, len(items))
	for i, f := range items {
		used[i] = raw(f)
	}
	out.Items = &used
	for i, r := range got.Rows {
		if i == rehearsedRows {
			out.Truncated = some(true)
			break
		}
		row := api.Row{Row: i + 1, Address: r.Address.String(), Label: r.Label, Cells: cells(plan, r.Cells, nil), Members: given(r.Members)}
		row.Start = given(r.Start)
		if r.Into != "" {
			row.Into = some(r.Into.String())
		}
		for j, st := range plan.Steps {
			if e := r.Entry(st.Number); e != nil && e.Request != nil {
				row.Cells[j].Sent = some(sent(e.Request))
			}
			if f := r.Fields(st.Number); f != nil {
				row.Cells[j].Fields = some(raw(f))
			}
		}
		out.Rows = append(out.Rows, row)
	}
	simulated(plan, out.Rows)
	return out
}

// LastRehearsal implements api.StrictServerInterface.
func (s *Server) LastRehearsal(ctx context.Context, r api.LastRehearsalRequestObject) (api.LastRehearsalResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	packed, _, err := s.Store.Rehearsal(ctx, scopeOf(ctx), w.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return api.LastRehearsal204Response{}, nil
	case err != nil:
		return nil, err
	}
	body, err := store.Unpack(packed)
	if err != nil {
		return nil, err
	}
	var out api.LastRehearsal200JSONResponse
	err = json.Unmarshal(body, &out)
	return out, err
}
