package server

import (
	"context"
	"net/http"

	api "youngtrellis/api"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// schema is a JSON Schema as an answer.
type schema map[string]any

// VisitWorkflowSchemaResponse implements api.WorkflowSchemaResponseObject.
func (s schema) VisitWorkflowSchemaResponse(w http.ResponseWriter) error { return s.write(w) }

// VisitConnectorSchemaResponse implements api.ConnectorSchemaResponseObject.
func (s schema) VisitConnectorSchemaResponse(w http.ResponseWriter) error { return s.write(w) }

func (s schema) write(w http.ResponseWriter) error {
	text, err := item.Encode(map[string]any(s))
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	_, err = w.Write(text)
	return err
}

// WorkflowSchema implements api.StrictServerInterface.
func (s *Server) WorkflowSchema(ctx context.Context, _ api.WorkflowSchemaRequestObject) (api.WorkflowSchemaResponseObject, error) {
	catalog, err := s.catalog(ctx, scopeOf(ctx))
	if err != nil {
		return nil, err
	}
	return schema(workflow.Schema(catalog)), nil
}

// ConnectorSchema implements api.StrictServerInterface.
func (s *Server) ConnectorSchema(context.Context, api.ConnectorSchemaRequestObject) (api.ConnectorSchemaResponseObject, error) {
	return schema(connector.DocumentSchema()), nil
}
