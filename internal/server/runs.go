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
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

func counts(c engine.Counts) api.Counts {
	return api.Counts{In: c.In, Through: c.Through, HeldBack: c.Held, GaveNothing: c.Nothing, SetAside: c.SetAside, Stopped: c.Stopped, MayHaveBeenSent: c.InDoubt, NotDone: c.Waiting, Calls: c.Calls, Units: float32(c.Units)}
}

func columns(plan *workflow.Plan, catalog *workflow.Catalog, c *engine.Counts) []api.Column {
	out := make([]api.Column, 0, len(plan.Steps))
	for i, st := range plan.Steps {
		col := api.Column{Name: st.Name, Sentence: catalog.Sentence(st.Step), Kind: kind(st.Step, catalog), Connection: given(st.Connection), Number: some(int(st.Number)), Lists: given(st.Lists())}
		if c != nil && i < len(c.Steps) {
			n := c.Steps[i]
			col.In, col.Out, col.HeldBack, col.SetAside, col.Stopped, col.GaveNothing, col.MayHaveBeenSent = n.In, n.Out, n.Held, n.SetAside, n.Stopped, n.Nothing, n.InDoubt
			col.Calls, col.Units, col.Millis = n.Calls, float32(n.Units), n.Millis
		}
		out = append(out, col)
	}
	return out
}

func cells(list []engine.Cell) []api.Cell {
	out := make([]api.Cell, 0, len(list))
	for _, c := range list {
		out = append(out, api.Cell{Fate: api.Fate(c.Fate), Text: c.Text, Reused: given(c.Reused)})
	}
	return out
}

func sent(e *call.Sent) api.Sent {
	return api.Sent{Method: e.Method, Url: e.URL, Body: given(e.Body), Status: given(e.Status), Prepared: given(e.Prepared)}
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
	f := store.RunFilter{State: string(or(r.Params.State, "")), Before: or(r.Params.Before, uuid.Nil), Limit: limit}
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

// GetLattice implements api.StrictServerInterface.
func (s *Server) GetLattice(ctx context.Context, r api.GetLatticeRequestObject) (api.GetLatticeResponseObject, error) {
	sc := scopeOf(ctx)
	if _, err := s.Store.Run(ctx, sc, r.Run); err != nil {
		return nil, err
	}
	w, err := runs.ReadWindow(ctx, s.Store, sc, r.Run, string(or(r.Params.Fate, "")), or(r.Params.From, 0), or(r.Params.Count, 100))
	if err != nil {
		return nil, err
	}
	out := api.Lattice{Rows: make([]api.Row, 0, len(w.Rows)), Fates: w.Fates, Total: w.Total, Matching: w.Matching}
	for _, x := range w.Rows {
		out.Rows = append(out.Rows, api.Row{Row: x.Number, Address: x.Address, Label: x.Label, Cells: cells(x.Cells)})
	}
	return api.GetLattice200JSONResponse(out), nil
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
	plan := run.Passes[len(run.Passes)-1].Plan
	at := -1
	if r.Step != "-" {
		if at, _ = plan.Workflow.Step(r.Step); at < 0 {
			return nil, store.ErrNotFound
		}
	}
	o, err := run.Inspect(ctx, address, at)
	if err != nil {
		return nil, err
	}
	return api.OpenCell200JSONResponse(whole(s.opened(o))), nil
}

func (s *Server) opened(o *engine.Opened) api.OpenedCell {
	catalog := o.Plan.Catalog
	out := api.OpenedCell{Address: o.Address.String(), Label: o.Label, Step: "-", Sentence: workflow.TriggerSentence(o.Plan.Workflow.Trigger), Cell: cells([]engine.Cell{o.Cell})[0], Before: raw(o.Before)}
	if o.After != nil {
		out.After = some(raw(o.After))
	}
	if o.Step != nil {
		out.Step, out.Sentence = o.Step.Name, catalog.Sentence(o.Step.Step)
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
	for i, c := range o.Way {
		if c.Fate == engine.NotReached {
			break
		}
		out.Way = append(out.Way, struct {
			Fate     api.Fate `json:"fate"`
			Sentence string   `json:"sentence"`
			Step     string   `json:"step"`
			Text     string   `json:"text"`
		}{api.Fate(c.Fate), catalog.Sentence(o.Plan.Steps[i].Step), o.Plan.Steps[i].Name, c.Text})
	}
	return out
}

// plan tells what is open in a run.
func (s *Server) plan(ctx context.Context, id uuid.UUID) (api.Plan, []string, error) {
	out := api.Plan{}
	sc := scopeOf(ctx)
	if _, err := s.Store.Run(ctx, sc, id); err != nil {
		return out, nil, err
	}
	run, err := s.Runs.Run(ctx, sc.Workspace(), id)
	if err != nil {
		return out, nil, err
	}
	plan := run.Passes[len(run.Passes)-1].Plan
	catalog := plan.Catalog
	perStep := map[string]int{}
	var retry []string
	err = run.Frontier(ctx, func(o engine.Open) error {
		switch o.Outcome {
		case engine.SetAside:
			out.SetAside++
			retry = append(retry, o.Address.String())
		case engine.Unknown:
			out.MayHaveBeenSent++
		default:
			out.Open++
		}
		perStep[o.Step]++
		if len(out.Items) < 100 {
			out.Items = append(out.Items, struct {
				Address string `json:"address"`
				Label   string `json:"label"`
				Outcome string `json:"outcome"`
				Step    string `json:"step"`
				Text    string `json:"text"`
			}{o.Address.String(), o.Label, string(o.Outcome), o.Step, o.Text})
		}
		return nil
	})
	for _, st := range plan.Steps {
		if n := perStep[st.Name]; n > 0 {
			out.Steps = append(out.Steps, struct {
				Count    int    `json:"count"`
				Sentence string `json:"sentence"`
				Step     string `json:"step"`
			}{n, catalog.Sentence(st.Step), st.Name})
		}
	}
	return out, retry, err
}

// PlanRun implements api.StrictServerInterface.
func (s *Server) PlanRun(ctx context.Context, r api.PlanRunRequestObject) (api.PlanRunResponseObject, error) {
	out, _, err := s.plan(ctx, r.Run)
	return api.PlanRun200JSONResponse(whole(out)), err
}

// onward begins a further pass.
func (s *Server) onward(ctx context.Context, id uuid.UUID, kind string, chosen []string, newest bool) (api.Run, error) {
	sc := scopeOf(ctx)
	r, err := s.Store.Run(ctx, sc, id)
	if err != nil {
		return api.Run{}, err
	}
	switch r.State {
	case "queued", "running", "waiting":
		return api.Run{}, refuse(http.StatusConflict, "not_ended", "The run has not ended yet.")
	case "cancelled":
		return api.Run{}, refuse(http.StatusConflict, "cancelled", "The run was cancelled, and that is final. Start again instead.")
	}
	revision := r.Revision
	if newest {
		w, err := s.Store.WorkflowByID(ctx, sc, r.Workflow)
		if err != nil {
			return api.Run{}, err
		}
		revision = or(w.Live, revision)
		if err := s.fits(ctx, sc, r, revision, id); err != nil {
			return api.Run{}, err
		}
	}
	if err := s.Store.NewPass(ctx, sc, id, kind, chosen, revision); err != nil {
		return api.Run{}, err
	}
	out, _, err := s.run(ctx, id)
	return out, err
}

// fits refuses a newer revision that lacks a step at which items stand.
func (s *Server) fits(ctx context.Context, sc store.Scope, r store.Run, revision int, id uuid.UUID) error {
	plan, _, err := s.plan(ctx, id)
	if err != nil {
		return err
	}
	from, err := s.Plans.Plan(ctx, sc.Workspace(), r.Workflow, r.Revision)
	if err != nil {
		return err
	}
	to, err := s.Plans.Plan(ctx, sc.Workspace(), r.Workflow, revision)
	if err != nil {
		return err
	}
	moves := engine.Moves(from, to, nil)
	for _, st := range plan.Steps {
		if at, _ := from.Workflow.Step(st.Step); at >= 0 && moves[at] < 0 {
			return refuse(http.StatusConflict, "step_missing", fmt.Sprintf("%d items stand before the step %s, which revision %d does not have. Give its successor “was: %s”, or go on with revision %d.", st.Count, st.Step, revision, st.Step, r.Revision))
		}
	}
	return nil
}

// ResumeRun implements api.StrictServerInterface.
func (s *Server) ResumeRun(ctx context.Context, r api.ResumeRunRequestObject) (api.ResumeRunResponseObject, error) {
	plan, _, err := s.plan(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	if plan.Open == 0 {
		return nil, refuse(http.StatusConflict, "nothing_open", "There is nothing to go on with: every item is done"+aside(plan)+".")
	}
	out, err := s.onward(ctx, r.Run, "resume", nil, or(r.Body.Newest, false))
	return api.ResumeRun202JSONResponse(out), err
}

func aside(p api.Plan) string {
	if p.SetAside+p.MayHaveBeenSent == 0 {
		return ""
	}
	return fmt.Sprintf(" or set aside (%d); retry those", p.SetAside+p.MayHaveBeenSent)
}

// RetryRun implements api.StrictServerInterface.
func (s *Server) RetryRun(ctx context.Context, r api.RetryRunRequestObject) (api.RetryRunResponseObject, error) {
	plan, all, err := s.plan(ctx, r.Run)
	if err != nil {
		return nil, err
	}
	chosen := or(r.Body.Items, all)
	for _, a := range chosen {
		if _, err := item.ParseAddress(a); err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_request", err.Error())
		}
	}
	if len(chosen) == 0 {
		why := "No item is set aside in this run."
		if plan.MayHaveBeenSent > 0 {
			why = fmt.Sprintf("%d calls may have been sent. Look at the other side first; then retry those items by name.", plan.MayHaveBeenSent)
		}
		return nil, refuse(http.StatusConflict, "nothing_set_aside", why)
	}
	out, err := s.onward(ctx, r.Run, "retry", chosen, or(r.Body.Newest, false))
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
