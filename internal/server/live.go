package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

// LookAhead implements api.StrictServerInterface.
func (s *Server) LookAhead(ctx context.Context, r api.LookAheadRequestObject) (api.LookAheadResponseObject, error) {
	sc := scopeOf(ctx)
	d, err := s.drafted(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	if d.parsed == nil {
		return nil, refuse(http.StatusConflict, "has_errors", "The draft cannot be read; mend its text first.")
	}
	out := api.Ahead{From: d.Live, Trigger: workflow.TriggerSentence(d.parsed.Trigger), Limits: d.parsed.LimitSentences()}
	var before *workflow.Workflow
	if d.Live != nil {
		if before, err = s.revision(ctx, sc, d.Workflow, *d.Live); err != nil {
			return nil, err
		}
	}
	out.Changes = changes(workflow.Diff(before, d.parsed, d.catalog))
	for _, w := range workflow.Writes(before, d.parsed, d.catalog) {
		out.Writes = append(out.Writes, api.AheadWrite{Step: w.Step.Name, Number: w.Number, Sentence: d.catalog.Sentence(w.Step), Connection: given(w.Step.Connection), New: w.New})
	}
	if l, found := workflow.FirstWrite(d.parsed, d.catalog); found {
		out.FirstWrite = &api.AheadLine{Number: l.Number, Sentence: d.catalog.Sentence(l.Step)}
	}
	if err := s.expected(ctx, sc, d, &out); err != nil {
		return nil, err
	}
	return api.LookAhead200JSONResponse(out), nil
}

// mostBeside is how many neighbours of the next times are told.
const mostBeside = 5

// expected tells how it ran of late, what is under way, when it starts next, and
// beside what.
func (s *Server) expected(ctx context.Context, sc store.Scope, d drafted, out *api.Ahead) error {
	lately, err := s.Store.Lately(ctx, sc, d.ID, time.Now().AddDate(0, 0, -30))
	if err != nil {
		return err
	}
	if lately.Runs > 0 {
		out.Lately = &api.AheadLately{Runs: lately.Runs}
		if lately.Whole > 0 {
			out.Lately.Items, out.Lately.Seconds = some(float32(lately.Items)), some(float32(lately.Took.Seconds()))
		}
	}
	onWay, err := s.Store.OnTheirWay(ctx, sc, d.ID)
	if err != nil {
		return err
	}
	for revision, n := range onWay {
		out.UnderWay = append(out.UnderWay, api.AheadRuns{Revision: revision, Runs: n})
	}
	slices.SortFunc(out.UnderWay, func(a, b api.AheadRuns) int { return a.Revision - b.Revision })
	t := d.parsed.Start().Timing
	if t == nil {
		return nil
	}
	known, now, err := s.Store.Schedules(ctx, sc, d.ID)
	if err != nil {
		return err
	}
	others, _, err := s.Store.ScheduleList(ctx, sc, uuid.Nil, mostSchedules)
	if err != nil {
		return err
	}
	times := intake.Times(t)(d.ID, known, now)
	if t.Readers == nil {
		out.Cadence = some(wording(t.Cadence, now, times[0].Anchor, timesAhead))
		month, _ := t.Cadence.Between(now, now.AddDate(0, 0, 30), times[0].Anchor, 0)
		out.AMonth = some(month)
	} else {
		l, table, err := s.Store.ListTable(ctx, sc, t.Readers.List)
		if err != nil {
			return err
		}
		all := intake.ReaderTimes(t, d.ID, table, l.Version, known, now)
		times = all[1:]
		of, month := readersWording(t, times, now, sc.SeesItems())
		out.Cadence, out.AMonth = some(of), some(month)
		if all[0].Trouble != "" && sc.SeesItems() {
			out.Cadence.Trouble = some(all[0].Trouble)
		}
	}
	list := slices.DeleteFunc(others, func(x store.Soon) bool { return x.Workflow == d.ID })
	for _, x := range times[:min(len(times), mostSchedules)] {
		list = append(list, store.Soon{Scheduled: x, Name: d.Name})
	}
	agenda := workflows.MakeAgenda(list, now, now.AddDate(0, 0, 7), 200)
	beside := []api.AheadBeside{}
	for _, b := range agenda.Neighbours(d.Name, mostBeside) {
		beside = append(beside, api.AheadBeside{Workflow: b.Name, Title: b.Title, At: b.At})
	}
	out.Beside = &beside
	return nil
}

// GoLive implements api.StrictServerInterface.
func (s *Server) GoLive(ctx context.Context, r api.GoLiveRequestObject) (api.GoLiveResponseObject, error) {
	sc := scopeOf(ctx)
	v, err := version(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	d, err := s.drafted(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	if d.parsed == nil || workflow.HasErrors(d.problems) {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "has_errors", title: "The draft has errors and cannot go live.", problems: d.problems}
	}
	if isAddressed(d.parsed.Trigger) && len(d.parsed.Start().Entrance.From) > 0 && s.forwarded.Load() {
		return nil, refuse(http.StatusConflict, "forwarded", "Calls come through a proxy (they carry X-Forwarded-For), and none is trusted to say from where: an allow list would go by the proxy's own address. Name it with --trusted-proxies of the service, or take the list out.")
	}
	g, err := s.goingLive(ctx, sc, d.Workflow, d.parsed.Start())
	if err != nil {
		return nil, err
	}
	if g.Version = v; v == 0 {
		g.Version = d.Version
	}
	g.Kept, g.AtFirst = string(or(r.Params.Kept, "")), or(r.Params.First, 0)
	g.Numbers, g.Connectors = d.parsed.Numbers(d.Numbers), pins(d.parsed, d.catalog)
	g.Bounds, _ = d.parsed.Bounds()
	w, err := s.Store.GoLive(ctx, sc, r.Workflow, g)
	if err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	out, err := s.workflow(ctx, sc, w)
	return api.GoLive200JSONResponse(out), err
}

// GoBack implements api.StrictServerInterface.
func (s *Server) GoBack(ctx context.Context, r api.GoBackRequestObject) (api.GoBackResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	plan, err := s.Plans.Plan(ctx, sc.Workspace(), w.ID, r.Number)
	if err != nil {
		return nil, err
	}
	revision, err := s.Store.Revision(ctx, sc.Workspace(), w.ID, r.Number)
	if err != nil {
		return nil, err
	}
	// Its connectors are those that it was made with; its connections are those of now,
	// as far as whoever asks may use them.
	catalog, err := s.catalog(ctx, sc)
	if err != nil {
		return nil, err
	}
	if _, problems := workflow.Check([]byte(revision.Document), &workflow.Catalog{Connectors: plan.Catalog.Connectors, Connections: catalog.Connections, Lists: catalog.Lists}); workflow.HasErrors(problems) {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "has_errors", title: fmt.Sprintf("Revision %d has errors by now and cannot go live.", r.Number), problems: problems}
	}
	g, err := s.goingLive(ctx, sc, w, plan.Start)
	if err != nil {
		return nil, err
	}
	g.Bounds, g.Kept = plan.Limits, string(or(r.Params.Kept, ""))
	if w, err = s.Store.PutBack(ctx, sc, r.Workflow, r.Number, g); err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	out, err := s.workflow(ctx, sc, w)
	return api.GoBack200JSONResponse(out), err
}

// PauseWorkflow implements api.StrictServerInterface.
func (s *Server) PauseWorkflow(ctx context.Context, r api.PauseWorkflowRequestObject) (api.PauseWorkflowResponseObject, error) {
	out, err := s.setState(ctx, r.Workflow, "paused", store.GoingLive{Times: intake.Paused})
	return api.PauseWorkflow200JSONResponse(out), err
}

// UnpauseWorkflow implements api.StrictServerInterface.
func (s *Server) UnpauseWorkflow(ctx context.Context, r api.UnpauseWorkflowRequestObject) (api.UnpauseWorkflowResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	var g store.GoingLive
	if w.Live != nil {
		plan, err := s.Plans.Plan(ctx, sc.Workspace(), w.ID, *w.Live)
		if err != nil {
			return nil, err
		}
		if g, err = s.goingLive(ctx, sc, w, plan.Start); err != nil {
			return nil, err
		}
	}
	g.Kept = string(or(r.Params.Kept, ""))
	out, err := s.setState(ctx, r.Workflow, "live", g)
	return api.UnpauseWorkflow200JSONResponse(out), err
}

// setState pauses a workflow that was live once, or lets it go on.
func (s *Server) setState(ctx context.Context, name, state string, g store.GoingLive) (api.Workflow, error) {
	w, err := s.Store.SetState(ctx, scopeOf(ctx), name, state, g)
	if err != nil {
		return api.Workflow{}, err
	}
	if w.Live == nil {
		return api.Workflow{}, refuse(http.StatusConflict, "not_live", "It has never been live, so there is nothing to pause.")
	}
	s.Intake.Forget(w.Hook)
	return s.workflow(ctx, scopeOf(ctx), w)
}

// goingLive says by what runs of a workflow start that goes live with this start: its
// times, and the workflow that it follows.
func (s *Server) goingLive(ctx context.Context, sc store.Scope, w store.Workflow, start triggers.Start) (g store.GoingLive, err error) {
	g.Times, g.Path = intake.Times(start.Timing), start.Path
	f := start.Follows
	if f == nil {
		return g, nil
	}
	source, err := s.Store.Workflow(ctx, sc, f.Workflow)
	if errors.Is(err, store.ErrNotFound) {
		return g, refuse(http.StatusUnprocessableEntity, "has_errors", fmt.Sprintf("It starts after the workflow %s, and there is none of this name. Make that first, or name another.", f.Workflow))
	}
	if err == nil && source.ID == w.ID {
		return g, refuse(http.StatusUnprocessableEntity, "has_errors", "It starts after itself; name another workflow.")
	}
	g.Follows = []store.Follow{{Source: source.ID, States: f.States}}
	return g, err
}
