package server

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
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
		if e.Seen != nil {
			edits[i].Seen = &workflow.Seen{}
			if e.Seen.Value != nil {
				v, err := item.Decode(*e.Seen.Value)
				if err != nil {
					return nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
				}
				edits[i].Seen.Value = v
			}
		}
	}
	return edits, nil
}

// EditDraft implements api.StrictServerInterface. Edits that say what they have seen
// are made on a newer draft too, where the same still stands at their places: two
// people work on different settings side by side.
func (s *Server) EditDraft(ctx context.Context, r api.EditDraftRequestObject) (api.EditDraftResponseObject, error) {
	edits, err := editsOf(r.Body.Edits)
	if err != nil {
		return nil, err
	}
	followed := 0
	ifMatch := r.Params.IfMatch
	for range 5 {
		var out api.Workflow
		out, err = s.save(ctx, r.Workflow, ifMatch, func(draft []byte) ([]byte, error) {
			text, n, err := workflow.Apply(draft, edits)
			if err != nil {
				return nil, refuse(http.StatusUnprocessableEntity, "invalid_edit", err.Error())
			}
			followed = n
			return text, nil
		})
		if err == nil {
			out.Followed = given(followed)
			return api.EditDraft200JSONResponse(out), nil
		}
		if !errors.Is(err, store.ErrConflict) || slices.ContainsFunc(edits, func(e workflow.Edit) bool { return e.Seen == nil }) {
			return nil, err
		}
		if ifMatch, err = s.besideOthers(ctx, r.Workflow, edits); err != nil {
			return nil, err
		}
	}
	return nil, err
}

// besideOthers gives the newer version on which edits can be made, or says where
// somebody else was faster.
func (s *Server) besideOthers(ctx context.Context, name string, edits []workflow.Edit) (*string, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), name)
	if err != nil {
		return nil, err
	}
	overtaken, err := workflow.Overtaken([]byte(w.Draft), edits)
	if err != nil {
		return nil, refuse(http.StatusConflict, "changed_since", "Somebody has changed the text in between, and it cannot be read any more.")
	}
	if len(overtaken) == 0 {
		return some(fmt.Sprintf("%q", strconv.FormatInt(w.Version, 10))), nil
	}
	f := refuse(http.StatusConflict, "changed_since", cmp.Or(w.ChangedBy, "Somebody else")+" has changed the same in between.")
	for _, e := range overtaken {
		f.fields = append(f.fields, form.FieldError{Field: strings.TrimPrefix(e.Step+" "+e.Key, " "), Message: fmt.Sprintf("%s of %s is another now.", e.Key, cmp.Or(e.Step, e.Op))})
	}
	return nil, f
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
