package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

func counts(c engine.Counts) api.Counts {
	return api.Counts{In: c.In, Through: c.Through, HeldBack: c.Held, Joined: given(c.Joined), GaveNothing: c.Nothing, SetAside: c.SetAside, Stopped: c.Stopped, MayHaveBeenSent: c.InDoubt, NotDone: c.Waiting, Calls: c.Calls, Units: float32(c.Units)}
}

func cell(c engine.Cell) api.Cell {
	return api.Cell{Fate: api.Fate(c.Fate), Text: c.Text, Round: given(c.Round), Reused: given(c.Reused)}
}

func sent(e *call.Sent) api.Sent {
	return api.Sent{Method: e.Method, Url: e.URL, Body: given(e.Body), Status: given(e.Status), Prepared: given(e.Prepared), Guarded: given(e.Guarded)}
}

// summary words a run's line. A run that is being carried out here has newer
// counts than the database.
func (s *Server) summary(r store.Run) api.RunSummary {
	out := api.RunSummary{Id: r.ID, Workflow: r.Name, Title: r.Title, State: api.RunState(r.State), Trigger: r.Trigger, Label: r.Label, Revision: r.Revision, Pass: r.Pass,
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
		out.Runs = append(out.Runs, s.summary(x))
	}
	if len(list) == limit {
		out.Next = some(list[len(list)-1].ID)
	}
	return out, nil
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
	out := api.Run{Run: s.summary(r), Columns: columns(plan, plan.Catalog, c)}
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
	return api.GetRun200JSONResponse(whole(out)), err
}

func ended(state api.RunState) bool {
	switch state {
	case api.RunStateQueued, api.RunStateRunning, api.RunStateWaiting:
		return false
	}
	return true
}

// WatchRun implements api.StrictServerInterface.
func (s *Server) WatchRun(ctx context.Context, r api.WatchRunRequestObject) (api.WatchRunResponseObject, error) {
	first, _, err := s.run(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	return stream(func(write func(api.Run) error) error {
		changes, stop := s.Events.Watch(r.Run)
		defer stop()
		now, last := first, ""
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			text, err := json.Marshal(now)
			if err != nil {
				return err
			}
			if string(text) != last {
				last = string(text)
				if err := write(now); err != nil {
					return err
				}
			}
			if ended(now.Run.State) {
				return nil
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-changes:
			case <-tick.C:
			}
			next, _, err := s.run(ctx, r.Run)
			if store.IsUnavailable(err) {
				continue
			}
			if err != nil {
				return err
			}
			now = next
		}
	}), nil
}

// stream answers with server-sent events, flushed one by one.
type stream func(write func(api.Run) error) error

// VisitWatchRunResponse implements api.WatchRunResponseObject.
func (st stream) VisitWatchRunResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Time{})
	return st(func(r api.Run) error {
		b, err := json.Marshal(r)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "event: run\ndata: %s\n\n", b); err != nil {
			return err
		}
		return control.Flush()
	})
}

// OpenCell implements api.StrictServerInterface.
func (s *Server) OpenCell(ctx context.Context, r api.OpenCellRequestObject) (api.OpenCellResponseObject, error) {
	sc := scopeOf(ctx)
	if _, err := s.Store.Run(ctx, sc, r.Run); err != nil {
		return nil, err
	}
	address, err := item.ParseAddress(r.Address)
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
	}
	run, err := s.Runs.Run(ctx, sc.Workspace(), r.Run)
	if err != nil {
		return nil, err
	}
	step := r.Step
	if step == "-" {
		step = ""
	} else if run.Passes[len(run.Passes)-1].Plan.Step(step) == nil {
		return nil, refuse(http.StatusNotFound, "not_found", fmt.Sprintf("The run has no step %q. Its columns say which it has.", step))
	}
	o, err := run.Inspect(ctx, address, step)
	if errors.Is(err, engine.ErrNoItem) {
		return nil, refuse(http.StatusNotFound, "not_found", fmt.Sprintf("The run has no item %s. The rows of its lattice say which it has.", address))
	}
	if err != nil {
		return nil, err
	}
	return api.OpenCell200JSONResponse(whole(s.opened(o))), nil
}

func (s *Server) opened(o *engine.Opened) api.OpenedCell {
	catalog := o.Plan.Catalog
	out := api.OpenedCell{Address: o.Address.String(), Label: o.Label, Step: "-", Sentence: workflow.TriggerSentence(o.Plan.Workflow.Trigger), Cell: cell(o.Cell), Before: raw(o.Before)}
	if n := len(o.Members); n > 0 {
		out.MadeOf = some(n)
		members := []string{}
		for _, a := range o.Members[:min(n, 100)] {
			members = append(members, a.String())
		}
		out.Members = &members
	}
	if o.After != nil {
		out.After = some(raw(o.After))
	}
	if o.Step != nil {
		out.Step, out.Sentence = o.Step.Name, catalog.Sentence(o.Step.Step)
	}
	if e := o.Edited; e != nil {
		out.EditedBy, out.EditedAt = some(e.By), some(e.At)
	}
	if e := o.Entry; e != nil {
		out.Ended, out.Attempts = some(e.Ended), some(e.Attempts)
		if e.Request != nil {
			out.Sent = some(sent(e.Request))
		}
		if len(e.Result) > 0 && !o.Step.Lists() {
			out.Result = some(json.RawMessage(e.Result))
			if v, err := item.Decode(e.Result); err == nil {
				out.Link = given(o.Step.Action.RecordLink(v))
			}
		}
		if f := e.Failure; f != nil {
			out.Failure = &struct {
				Class   *string `json:"class,omitempty"`
				Message string  `json:"message"`
				OverMs  *int64  `json:"over_ms,omitempty"`
				Setting *string `json:"setting,omitempty"`
				Status  *int    `json:"status,omitempty"`
				Tried   *int    `json:"tried,omitempty"`
			}{given(string(f.Class)), f.Message, some(f.Over.Milliseconds()), given(f.Setting), given(f.Status), given(f.Tried)}
		}
	}
	for _, c := range o.Way {
		st := o.Plan.ByNumber(c.Step)
		if st == nil {
			continue
		}
		out.Way = append(out.Way, struct {
			Fate     api.Fate `json:"fate"`
			Sentence string   `json:"sentence"`
			Step     string   `json:"step"`
			Text     string   `json:"text"`
		}{api.Fate(c.Fate), catalog.Sentence(st.Step), st.Name, c.Text})
	}
	return out
}

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
		return api.PlanRun200JSONResponse(whole(api.Plan{Looked: some(looked)})), nil
	}
	if err != nil {
		return nil, err
	}
	return api.PlanRun200JSONResponse(whole(planned(o))), nil
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
