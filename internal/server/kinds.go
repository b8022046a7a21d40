package server

import (
	"context"

	"youngtrellis/api"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
)

// ListKinds implements api.StrictServerInterface.
func (s *Server) ListKinds(context.Context, api.ListKindsRequestObject) (api.ListKindsResponseObject, error) {
	out := api.ListKinds200JSONResponse{}
	for _, k := range steps.Kinds() {
		out.Steps = append(out.Steps, api.Kind{Type: k.Type, Title: k.Title, Help: k.Help, Words: k.Words, Connects: given(k.Connects), Needs: given(k.Needs), Does: given(api.KindDoes(k.Does)), Settings: properties(k.Form.Properties)})
	}
	for _, k := range triggers.Kinds() {
		out.Triggers = append(out.Triggers, api.Kind{Type: k.Type, Title: k.Title, Help: k.Help, Called: given(k.Addressed()), Timed: given(k.Timed), Alone: given(k.Alone), ByHand: given(k.By == ""), Settings: properties(k.Form.Properties)})
	}
	out.Limits = properties(workflow.LimitsForm.Properties)
	return out, nil
}

func properties(list []form.Property) []api.Property {
	out := make([]api.Property, 0, len(list))
	for _, p := range list {
		out = append(out, api.Property{Name: p.Name, Required: p.Required, Schema: raw(p.Schema)})
	}
	return out
}
