package server

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

// LookAhead implements api.StrictServerInterface.
func (s *Server) LookAhead(ctx context.Context, r api.LookAheadRequestObject) (api.LookAheadResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	catalog, err := s.catalog(ctx, sc)
	if err != nil {
		return nil, err
	}
	parsed, _ := workflow.Check([]byte(w.Draft), catalog)
	if parsed == nil {
		return nil, refuse(http.StatusConflict, "has_errors", "The draft cannot be read; mend its text first.")
	}
	out := api.LookAhead200JSONResponse{From: w.Live, Trigger: workflow.TriggerSentence(parsed.Trigger), Limits: parsed.LimitSentences()}
	var before *workflow.Workflow
	if w.Live != nil {
		live, err := s.Store.Revision(ctx, sc.Workspace(), w.ID, *w.Live)
		if err != nil {
			return nil, err
		}
		before, _, _ = workflow.Read([]byte(live.Document))
	}
	for _, c := range workflow.Diff(before, parsed, catalog) {
		out.Changes = append(out.Changes, api.AheadChange{Kind: c.Kind, Sentence: c.Sentence, Step: given(c.Step)})
	}
	out.Writes = written(parsed, before, w.Draft, catalog)
	if err := s.expected(ctx, sc, w, parsed, (*api.Ahead)(&out)); err != nil {
		return nil, err
	}
	onWay, err := s.Store.OnTheirWay(ctx, sc, w.ID)
	if err != nil {
		return nil, err
	}
	for revision, n := range onWay {
		out.UnderWay = append(out.UnderWay, api.AheadRuns{Revision: revision, Runs: n})
	}
	slices.SortFunc(out.UnderWay, func(a, b api.AheadRuns) int { return a.Revision - b.Revision })
	return out, nil
}

// written are the lines that write outside; new are those of which nothing was live
// that writes the same way.
func written(now, before *workflow.Workflow, text string, catalog *workflow.Catalog) []api.AheadWrite {
	of := func(l api.Line) string {
		if l.Connection == nil || l.Type == "http" {
			return l.Type + " " + l.Sentence
		}
		return l.Type + " " + *l.Connection
	}
	known := map[string]bool{}
	if before != nil {
		for _, l := range lines(before, "", catalog) {
			known[of(l)] = l.Kind == "write" && !or(l.Off, false)
		}
	}
	out := []api.AheadWrite{}
	for _, l := range lines(now, text, catalog) {
		if l.Kind == "write" && !or(l.Off, false) {
			out = append(out, api.AheadWrite{Step: l.Name, Number: or(l.Number, ""), Sentence: l.Sentence, Connection: l.Connection, New: !known[of(l)]})
		}
	}
	return out
}

// expected tells when it starts next, beside what, and how it ran of late.
func (s *Server) expected(ctx context.Context, sc store.Scope, w store.Workflow, parsed *workflow.Workflow, out *api.Ahead) error {
	lately, err := s.Store.Lately(ctx, sc, w.ID, time.Now().AddDate(0, 0, -30))
	if err != nil {
		return err
	}
	if lately.Runs > 0 {
		out.Lately = &api.AheadLately{Runs: lately.Runs, Items: float32(lately.Items), Seconds: float32(lately.Took.Seconds())}
	}
	t := parsed.Start().Timing
	if t == nil {
		return nil
	}
	list, now, err := s.Store.ScheduleList(ctx, sc, uuid.Nil, mostSchedules)
	if err != nil {
		return err
	}
	var known []store.Scheduled
	others := list[:0]
	for _, x := range list {
		if x.Workflow == w.ID {
			known = append(known, x.Scheduled)
		} else {
			others = append(others, x)
		}
	}
	next := intake.Times(t)(w.ID, known, now)[0]
	c := t.Cadence
	week, _ := c.Between(now, now.AddDate(0, 0, 7), next.Anchor, 0)
	month, _ := c.Between(now, now.AddDate(0, 0, 30), next.Anchor, 0)
	out.Cadence = &api.Cadence{Sentence: c.Sentence(), Zone: c.Zone().String(), Settings: raw(map[string]any{}), AWeek: week, Clocks: given(c.Clocks(now)), Times: dueTimes(c.List(now, next.Anchor, 10), c.Zone(), now)}
	out.AMonth = some(month)
	out.Beside = some(beside(append(others, store.Soon{Scheduled: next, Name: w.Name}), w.Name, now))
	return nil
}

// mostBeside is how many neighbours of the next times are told.
const mostBeside = 5

// beside names the workflows that start at the same minutes within the next week.
func beside(list []store.Soon, name string, now time.Time) []api.AheadBeside {
	titles := map[string]string{}
	for _, x := range list {
		titles[x.Name] = x.Title
	}
	out, seen := []api.AheadBeside{}, map[string]bool{}
	for _, t := range workflows.MakeAgenda(list, now, now.AddDate(0, 0, 7), 200).Together {
		if !slices.Contains(t.Workflows, name) {
			continue
		}
		for _, other := range t.Workflows {
			if other != name && !seen[other] && len(out) < mostBeside {
				seen[other] = true
				out = append(out, api.AheadBeside{Workflow: other, Title: titles[other], At: t.At})
			}
		}
	}
	return out
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
	follows, err := s.follows(ctx, sc, w, plan.Start)
	if err != nil {
		return nil, err
	}
	if w, err = s.Store.PutBack(ctx, sc, r.Workflow, r.Number, store.GoingLive{Bounds: plan.Limits, Times: intake.Times(plan.Start.Timing), Follows: follows}); err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	out, err := s.workflow(ctx, sc, w)
	return api.GoBack200JSONResponse(out), err
}
