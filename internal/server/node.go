package server

import (
	"context"

	"youngtrellis/api"
)

// ShowNode implements api.StrictServerInterface.
func (s *Server) ShowNode(ctx context.Context, _ api.ShowNodeRequestObject) (api.ShowNodeResponseObject, error) {
	session, list := s.Node.Executing()
	out := api.ShowNode200JSONResponse{Name: s.Node.Name, Session: session, Runs: []api.InHand{}}
	for _, e := range list {
		if e.Workspace == scopeOf(ctx).Workspace() {
			out.Runs = append(out.Runs, api.InHand{Run: e.Run, Claim: e.Claim, Stage: api.InHandStage(e.Stage)})
		}
	}
	return out, nil
}
