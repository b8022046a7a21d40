package server

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/reply"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

func counts(c engine.Counts) api.Counts {
	return api.Counts{In: c.In, Through: c.Through, HeldBack: c.Held, Joined: given(c.Joined), GaveNothing: c.Nothing, SetAside: c.SetAside, Stopped: c.Stopped, MayHaveBeenSent: c.InDoubt, NotDone: c.Waiting, Calls: c.Calls, Units: float32(c.Units)}
}

// summary words a run's line. A run that is being carried out here has newer
// counts than the database.
func (s *Server) summary(sc store.Scope, r store.Run) api.RunSummary {
	if !sc.SeesItems() { // both hold what came from items: their names, and the other side's words about them
		r.Label, r.Message = "", ""
	}
	out := api.RunSummary{Id: r.ID, Workflow: r.Name, Title: r.Title, State: api.RunState(r.State), Trigger: r.Trigger, Began: triggers.Began(r.Trigger), Label: r.Label, Revision: r.Revision, Pass: r.Pass,
		Accepted: r.Accepted, Ended: r.Ended, Message: r.Message, Reason: r.Reason, Connection: given(r.Connection), Wake: r.Wake}
	if r.Cancel > 0 {
		out.Cancelling = some(true)
	}
	if c, ok := s.Events.Counts(r.ID); ok {
		out.Counts = some(counts(c))
	} else if r.Counts != nil {
		out.Counts = some(counts(*r.Counts))
	}
	return out
}

// ListRuns implements api.StrictServerInterface.
func (s *Server) ListRuns(ctx context.Context, r api.ListRunsRequestObject) (api.ListRunsResponseObject, error) {
	sc, limit := scopeOf(ctx), or(r.Params.Limit, 50)
	f := store.RunFilter{State: string(or(r.Params.State, "")), Fate: string(or(r.Params.Fate, "")), From: or(r.Params.From, time.Time{}), To: or(r.Params.To, time.Time{}), Before: or(r.Params.Before, uuid.Nil), Limit: limit}
	if name := or(r.Params.Workflow, ""); name != "" {
		w, err := s.Store.Workflow(ctx, sc, name)
		if err != nil {
			return nil, err
		}
		f.Workflow = w.ID
	}
	list, err := s.Store.Runs(ctx, sc, f)
	if err != nil {
		return nil, err
	}
	out := api.ListRuns200JSONResponse{Runs: []api.RunSummary{}}
	for _, x := range list {
		out.Runs = append(out.Runs, s.summary(sc, x))
	}
	if len(list) == limit {
		out.Next = some(list[len(list)-1].ID)
	}
	return out, nil
}

// answerOf tells what whoever set a run off was answered, and by which item.
func (s *Server) answerOf(ctx context.Context, sc store.Scope, plan *workflow.Plan, run *api.Run) error {
	if !plan.Answers {
		return nil
	}
	a, err := s.Store.Answer(ctx, sc, run.Run.Id)
	if err != nil || a.Reply == nil {
		return err
	}
	said, err := reply.Decode(a.Reply)
	if err != nil {
		return err
	}
	run.Answer = &struct {
		Item   string `json:"item"`
		Status int    `json:"status"`
		Step   string `json:"step"`
	}{a.Key.Address.String(), said.Status, ""}
	if step := plan.ByNumber(a.Key.Step); step != nil {
		run.Answer.Step = step.Name
	}
	return nil
}

// run words a whole run. Only a run of the caller's workspace is found.
func (s *Server) run(ctx context.Context, id uuid.UUID) (api.Run, store.Run, error) {
	sc := scopeOf(ctx)
	r, err := s.Store.Run(ctx, sc, id)
	if err != nil {
		return api.Run{}, r, err
	}
	passes, err := s.Store.Passes(ctx, sc.Workspace(), id)
	if err != nil {
		return api.Run{}, r, err
	}
	plan, err := s.Plans.Plan(ctx, sc.Workspace(), r.Workflow, r.Revision)
	if err != nil {
		return api.Run{}, r, err
	}
	c := r.Counts
	if now, ok := s.Events.Counts(id); ok {
		c = &now
	}
	out := api.Run{Run: s.summary(sc, r), Columns: columns(plan, plan.Catalog, c)}
	if len(passes) > 0 && passes[0].AtFirst > 0 {
		out.First = some(passes[0].AtFirst)
	}
	if err := s.answerOf(ctx, sc, plan, &out); err != nil {
		return api.Run{}, r, err
	}
	for _, p := range passes {
		out.Passes = append(out.Passes, struct {
			Kind      string    `json:"kind"`
			Number    int       `json:"number"`
			Revision  int       `json:"revision"`
			Started   time.Time `json:"started"`
			StartedBy string    `json:"started_by"`
		}{p.Kind, p.Number, p.Revision, p.Started, p.StartedBy})
	}
	return out, r, nil
}

// GetRun implements api.StrictServerInterface.
func (s *Server) GetRun(ctx context.Context, r api.GetRunRequestObject) (api.GetRunResponseObject, error) {
	out, _, err := s.run(ctx, r.Run)
	return api.GetRun200JSONResponse(out), err
}

// CancelRun implements api.StrictServerInterface.
func (s *Server) CancelRun(ctx context.Context, r api.CancelRunRequestObject) (api.CancelRunResponseObject, error) {
	_, err := s.Store.CancelRun(ctx, scopeOf(ctx), r.Run)
	if errors.Is(err, store.ErrNotFound) {
		if run, err2 := s.Store.Run(ctx, scopeOf(ctx), r.Run); err2 == nil {
			return nil, refuse(http.StatusConflict, "ended", "The run has ended already: "+strings.ToLower(run.State)+".")
		}
	}
	if err != nil {
		return nil, err
	}
	out, _, err := s.run(ctx, r.Run)
	return api.CancelRun202JSONResponse(out), err
}
