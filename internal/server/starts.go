package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"youngtrellis/api"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/store"
)

func objects(list *[]api.Fields) ([]map[string]any, error) {
	var out []map[string]any
	for i, f := range or(list, nil) {
		m, err := item.DecodeObject(f)
		if err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_item", fmt.Sprintf("Item %d: %v", i+1, err))
		}
		out = append(out, m)
	}
	return out, nil
}

// StartWorkflow implements api.StrictServerInterface.
func (s *Server) StartWorkflow(ctx context.Context, r api.StartWorkflowRequestObject) (api.StartWorkflowResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	if w.State == "paused" && !or(r.Body.WhilePaused, false) {
		return nil, refuse(http.StatusConflict, "paused", fmt.Sprintf("%s is paused. To start it all the same say so: while_paused, on the command line --while-paused. It stays paused.", w.Title))
	}
	items, err := objects(r.Body.Items)
	if err != nil {
		return nil, err
	}
	if r.Body.Again != nil {
		before, err := s.Store.Run(ctx, sc, *r.Body.Again)
		if err != nil {
			return nil, err
		}
		if before.Workflow != w.ID || len(items) > 0 {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_input", "A run is started again as it was: its own workflow, and no other items.")
		}
		if items, err = s.Store.StartItems(ctx, sc.Workspace(), before.ID, s.Intake.Most()); err != nil {
			return nil, err
		}
	}
	if r.Body.Delivery != nil {
		if r.Body.Again != nil || len(items) > 0 {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_input", "A start with what arrived has no other items.")
		}
		text, err := s.Store.DeliveryItems(ctx, sc, w.ID, *r.Body.Delivery)
		if errors.Is(err, store.ErrNotFound) {
			return nil, refuse(http.StatusNotFound, "not_found", "What it brought is not kept: it could not be read, is too large, or came too long ago.")
		}
		if err == nil {
			items, err = item.DecodeList(text)
		}
		if err != nil {
			return nil, err
		}
	}
	got, err := s.Intake.Start(ctx, sc, w, intake.ByHand{Items: items, By: sc.Who(), Again: r.Body.Again != nil || r.Body.Delivery != nil, AtFirst: or(r.Body.First, 0)})
	return api.StartWorkflow202JSONResponse{Run: got.Run, Runs: got.Runs, Known: given(got.Known)}, err
}

// StartingWorkflow implements api.StrictServerInterface.
func (s *Server) StartingWorkflow(ctx context.Context, r api.StartingWorkflowRequestObject) (api.StartingWorkflowResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	if w.Live != nil {
		plan, err := s.Plans.Plan(ctx, sc.Workspace(), w.ID, *w.Live)
		if err != nil {
			return nil, err
		}
		parsed = plan.Workflow
	}
	if parsed == nil {
		return nil, refuse(http.StatusConflict, "has_errors", "The draft cannot be read; mend its text first.")
	}
	asks := parsed.Start().Asks
	kind, ok := triggers.Find(parsed.Trigger.Type)
	return api.StartingWorkflow200JSONResponse{
		Trigger: workflow.TriggerSentence(parsed.Trigger), Alone: ok && kind.Alone,
		Fields: properties(asks.Properties), Schema: raw(asks.Schema()),
	}, nil
}
