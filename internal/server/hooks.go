package server

import (
	"context"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
)

// isCalled tells whether something calls a trigger's address.
func isCalled(t workflow.Trigger) bool {
	k, ok := triggers.Find(t.Type)
	return ok && k.Called
}

// CallSheet implements api.StrictServerInterface.
func (s *Server) CallSheet(ctx context.Context, r api.CallSheetRequestObject) (api.CallSheetResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	address := strings.TrimSuffix(s.PublicURL, "/") + "/hooks/" + w.Hook
	out := api.CallSheet200JSONResponse{Address: address, Secured: w.Secured, Verify: "bearer"}
	if parsed, _, _ := workflow.Read([]byte(w.Draft)); parsed != nil && parsed.Start().Open {
		out.Verify = "none"
	}
	curl := "curl -X POST " + address + " \\\n  -H 'Content-Type: application/json' \\\n"
	if out.Verify == "bearer" {
		curl += "  -H 'Authorization: Bearer YOUR_SECRET' \\\n"
	}
	out.Curl = some(curl + "  -d '{\"example\": 1}'")
	return out, nil
}

// MakeHookSecret implements api.StrictServerInterface.
func (s *Server) MakeHookSecret(ctx context.Context, r api.MakeHookSecretRequestObject) (api.MakeHookSecretResponseObject, error) {
	secret, err := s.Store.NewHookSecret(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	return api.MakeHookSecret201JSONResponse{Secret: secret}, nil
}
