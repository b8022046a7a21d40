package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

// planPatience is how long a caller waits for a plan.
const planPatience = 2 * time.Second

// further reads what pass somebody has in view.
func (s *Server) further(ctx context.Context, id uuid.UUID, kind string, newest bool, moves map[string]string, items []string) (store.Run, runs.Further, error) {
	sc := scopeOf(ctx)
	f := runs.Further{Kind: kind, Moves: moves}
	r, err := s.Store.Run(ctx, sc, id)
	if err != nil {
		return r, f, err
	}
	if newest {
		w, err := s.Store.WorkflowByID(ctx, sc, r.Workflow)
		if err != nil {
			return r, f, err
		}
		f.Revision = or(w.Live, r.Revision)
	}
	for _, x := range items {
		a, err := item.ParseAddress(x)
		if err != nil {
			return r, f, refuse(http.StatusUnprocessableEntity, "invalid_request", err.Error())
		}
		f.Items = append(f.Items, a)
	}
	return r, f, nil
}

func planned(o *runs.Onward) api.Plan {
	out := api.Plan{Open: o.Open, SetAside: o.SetAside, MayHaveBeenSent: o.InDoubt, Revision: o.Revision, Late: listed(o.Late)}
	for _, st := range o.Steps {
		sentence := ""
		if x := o.From.Step(st.Step); x != nil {
			sentence = o.From.Catalog.Sentence(x.Step)
		}
		out.Steps = append(out.Steps, struct {
			Count    int    `json:"count"`
			Into     string `json:"into"`
			Sentence string `json:"sentence"`
			Step     string `json:"step"`
		}{st.Count, st.Into, sentence, st.Step})
	}
	for _, x := range o.Items {
		out.Items = append(out.Items, struct {
			Address string `json:"address"`
			Label   string `json:"label"`
			Outcome string `json:"outcome"`
			Step    string `json:"step"`
			Text    string `json:"text"`
		}{x.Address.String(), x.Label, string(x.Outcome), x.Step, x.Text})
	}
	var refused, changes []string
	for _, r := range o.Refusals {
		refused = append(refused, words.Sentence(fmt.Sprintf("%s stopped at %s: %s", words.Count(r.Items, "item"), r.Step, r.Why)))
	}
	for _, c := range o.Changes {
		changes = append(changes, c.Sentence)
	}
	out.Refused, out.Changes = listed(refused), listed(changes)
	return out
}

// listed is a list, or nothing where it is empty.
func listed[T any](list []T) *[]T {
	if len(list) == 0 {
		return nil
	}
	return &list
}

// PlanRun implements api.StrictServerInterface.
func (s *Server) PlanRun(ctx context.Context, r api.PlanRunRequestObject) (api.PlanRunResponseObject, error) {
	moves := map[string]string{}
	for _, m := range or(r.Params.At, nil) {
		old, fresh, ok := strings.Cut(m, "=")
		if !ok {
			return nil, refuse(http.StatusBadRequest, "invalid_request", fmt.Sprintf("%q is not OLD=NEW, two names of steps", m))
		}
		moves[old] = fresh
	}
	run, f, err := s.further(ctx, r.Run, "resume", or(r.Params.Newest, false), moves, nil)
	if err != nil {
		return nil, err
	}
	o, looked, err := s.Planner.Plan(ctx, scopeOf(ctx).Workspace(), run, f, planPatience)
	if errors.Is(err, runs.ErrPlanning) {
		return api.PlanRun200JSONResponse(api.Plan{Looked: some(looked)}), nil
	}
	if err != nil {
		return nil, err
	}
	return api.PlanRun200JSONResponse(planned(o)), nil
}

// onward begins a further pass.
func (s *Server) onward(ctx context.Context, id uuid.UUID, kind string, body *api.Onward) (api.Run, error) {
	sc := scopeOf(ctx)
	r, f, err := s.further(ctx, id, kind, or(body.Newest, false), or(body.At, nil), or(body.Items, nil))
	if err != nil {
		return api.Run{}, err
	}
	switch r.State {
	case "queued", "running", "waiting":
		return api.Run{}, refuse(http.StatusConflict, "not_ended", "The run has not ended yet.")
	case "cancelled":
		return api.Run{}, refuse(http.StatusConflict, "cancelled", "The run was cancelled, and that is final. Start again instead.")
	}
	if err := nothing(r, f); err != nil {
		return api.Run{}, err
	}
	if f.Revision != 0 && f.Revision != r.Revision || len(f.Moves) > 0 {
		o, looked, err := s.Planner.Plan(ctx, sc.Workspace(), r, f, 10*planPatience)
		if errors.Is(err, runs.ErrPlanning) {
			return api.Run{}, refuse(http.StatusConflict, "planning", fmt.Sprintf("What would go on is being looked at still (%s open so far). Ask again in a moment.", words.Count(looked, "item")))
		}
		if err != nil {
			return api.Run{}, err
		}
		if why := o.Refused(); why != "" {
			return api.Run{}, refuse(http.StatusConflict, "plan_refused", why)
		}
	}
	next := store.Pass{Kind: kind, Revision: r.Revision, Moves: f.Moves}
	if f.Revision != 0 {
		next.Revision = f.Revision
	}
	for _, a := range f.Items {
		next.Chosen = append(next.Chosen, a.String())
	}
	if err := s.Store.NewPass(ctx, sc, id, next); err != nil {
		return api.Run{}, err
	}
	out, _, err := s.run(ctx, id)
	return out, err
}

// nothing refuses a pass that would take nothing up, by what the run counted.
func nothing(r store.Run, f runs.Further) error {
	c := engine.Counts{}
	if r.Counts != nil {
		c = *r.Counts
	}
	if f.Kind == "resume" {
		if c.Waiting+c.Stopped > 0 || r.Counts == nil {
			return nil
		}
		aside := ""
		if n := c.SetAside + c.InDoubt; n > 0 {
			aside = fmt.Sprintf(" or set aside (%d); retry those", n)
		}
		return refuse(http.StatusConflict, "nothing_open", "There is nothing to go on with: every item is done"+aside+".")
	}
	if c.SetAside > 0 || f.Items != nil {
		return nil
	}
	why := "No item is set aside in this run."
	if c.InDoubt > 0 {
		why = fmt.Sprintf("%d calls may have been sent. Look at the other side first; then retry those items by name.", c.InDoubt)
	}
	return refuse(http.StatusConflict, "nothing_set_aside", why)
}

// ResumeRun implements api.StrictServerInterface.
func (s *Server) ResumeRun(ctx context.Context, r api.ResumeRunRequestObject) (api.ResumeRunResponseObject, error) {
	out, err := s.onward(ctx, r.Run, "resume", r.Body)
	return api.ResumeRun202JSONResponse(out), err
}

// RetryRun implements api.StrictServerInterface.
func (s *Server) RetryRun(ctx context.Context, r api.RetryRunRequestObject) (api.RetryRunResponseObject, error) {
	out, err := s.onward(ctx, r.Run, "retry", r.Body)
	return api.RetryRun202JSONResponse(out), err
}
