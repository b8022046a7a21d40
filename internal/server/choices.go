package server

import (
	"context"
	"net/http"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/item"
)

// ListChoices implements api.StrictServerInterface.
func (s *Server) ListChoices(ctx context.Context, r api.ListChoicesRequestObject) (api.ListChoicesResponseObject, error) {
	c, err := s.Store.Connection(ctx, scopeOf(ctx), r.Connection)
	if err != nil {
		return nil, err
	}
	if err := s.granted(ctx, c, ""); err != nil {
		return nil, err
	}
	input, err := item.DecodeObject(r.Body.Input)
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
	}
	for k, v := range input {
		if m, ok := v.(map[string]any); ok && m["id"] != nil {
			input[k] = m["id"]
		}
	}
	options, why, err := s.Connections.Choices(ctx, scopeOf(ctx).Workspace(), r.Connection, r.List, input, strings.TrimSpace(or(r.Body.Search, "")))
	if err != nil {
		return nil, err
	}
	out := api.ListChoices200JSONResponse{WhyEmpty: why}
	if con, err := s.Documents.Find(ctx, scopeOf(ctx).Workspace(), c.Connector); err == nil && con.Choices[r.List] != nil {
		ch := con.Choices[r.List]
		out.Searches = given(ch.Search != "" || ch.Address != "")
	}
	out.Options = make([]struct {
		Id   api.Value `json:"id"`
		Name string    `json:"name"`
	}, len(options))
	for i, o := range options {
		out.Options[i].Id, out.Options[i].Name = raw(o.ID), o.Name
	}
	return out, nil
}
