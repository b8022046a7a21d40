package server

import (
	"context"
	"net/http"

	"youngtrellis/api"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

func editsOf(list []api.Edit) ([]workflow.Edit, error) {
	edits := make([]workflow.Edit, len(list))
	for i, e := range list {
		edits[i] = workflow.Edit{Op: e.Op, Step: or(e.Step, ""), Key: or(e.Key, ""), In: or(e.In, ""), To: or(e.To, 0)}
		if e.Value != nil && len(*e.Value) > 0 {
			v, err := item.Decode(*e.Value)
			if err != nil {
				return nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
			}
			edits[i].Value = v
		}
	}
	return edits, nil
}

// EditDraft implements api.StrictServerInterface.
func (s *Server) EditDraft(ctx context.Context, r api.EditDraftRequestObject) (api.EditDraftResponseObject, error) {
	edits, err := editsOf(r.Body.Edits)
	if err != nil {
		return nil, err
	}
	followed := 0
	out, err := s.save(ctx, r.Workflow, r.Params.IfMatch, func(draft []byte) ([]byte, error) {
		text, n, err := workflow.Apply(draft, edits)
		if err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_edit", err.Error())
		}
		followed = n
		return text, nil
	})
	out.Followed = given(followed)
	return api.EditDraft200JSONResponse(out), err
}

// PlanEdits implements api.StrictServerInterface.
func (s *Server) PlanEdits(ctx context.Context, r api.PlanEditsRequestObject) (api.PlanEditsResponseObject, error) {
	edits, err := editsOf(r.Body.Edits)
	if err != nil {
		return nil, err
	}
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	catalog, err := s.catalog(ctx, scopeOf(ctx))
	if err != nil {
		return nil, err
	}
	text, followed, err := workflow.Apply([]byte(w.Draft), edits)
	if err != nil {
		return nil, refuse(http.StatusUnprocessableEntity, "invalid_edit", err.Error())
	}
	_, before := workflow.Check([]byte(w.Draft), catalog)
	_, after := workflow.Check(text, catalog)
	return api.PlanEdits200JSONResponse{Followed: followed, Problems: findings(added(before, after))}, nil
}

// added are the problems that were not there before, wherever they stand now.
func added(before, after []document.Problem) (out []document.Problem) {
	type said struct{ step, message string }
	there := map[said]int{}
	for _, p := range before {
		there[said{p.Step, p.Message}]++
	}
	for _, p := range after {
		k := said{p.Step, p.Message}
		if there[k]--; there[k] < 0 {
			out = append(out, p)
		}
	}
	return out
}
