package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

// workflow words a stored workflow for callers.
func (s *Server) workflow(ctx context.Context, sc store.Scope, w store.Workflow) (api.Workflow, error) {
	catalog, err := s.catalog(ctx, sc)
	if err != nil {
		return api.Workflow{}, err
	}
	samples, err := s.samples(ctx, sc, w)
	if err != nil {
		return api.Workflow{}, err
	}
	parsed, problems := engine.Check(ctx, []byte(w.Draft), catalog, samples)
	out := api.Workflow{Name: w.Name, Title: w.Title, State: api.WorkflowState(w.State), Version: w.Version, Document: w.Draft, Live: w.Live, Updated: w.Updated, ChangedBy: given(w.ChangedBy), Problems: findings(problems), Lines: []api.Line{}}
	if parsed == nil {
		return out, nil
	}
	out.About, out.Label = given(parsed.About), given(parsed.Label)
	out.Trigger, out.TriggerType, out.TriggerSettings = workflow.TriggerSentence(parsed.Trigger), parsed.Trigger.Type, optionalRaw(parsed.Trigger.Settings)
	out.Vars, out.Limits, out.LimitSentences = optionalRaw(parsed.Vars), optionalRaw(parsed.Limits), listed(parsed.LimitSentences())
	out.Lines = lines(parsed, w.Draft, catalog)
	if k, ok := triggers.Find(parsed.Trigger.Type); ok {
		out.Called, out.Timed, out.Alone = given(k.Called), given(k.Timed), given(k.Alone)
	}
	if w.Live != nil {
		schedules, _, err := s.Store.Schedules(ctx, sc, w.ID)
		if err != nil {
			return out, err
		}
		seen, err := s.seen(ctx, sc, w)
		if err != nil {
			return out, err
		}
		out.Standing = standing(workflows.StandingOf(w, waitsFor(parsed), schedules, seen))
		changes, err := s.changes(ctx, sc, w, parsed, *w.Live, catalog)
		if err != nil {
			return out, err
		}
		out.Changed = len(changes)
	}
	return out, nil
}

func (s *Server) changes(ctx context.Context, sc store.Scope, w store.Workflow, after *workflow.Workflow, revision int, catalog *workflow.Catalog) ([]workflow.Change, error) {
	r, err := s.Store.Revision(ctx, sc.Workspace(), w.ID, revision)
	if err != nil {
		return nil, err
	}
	before, _, _ := workflow.Read([]byte(r.Document))
	return workflow.Diff(before, after, catalog), nil
}

// ListWorkflows implements api.StrictServerInterface.
func (s *Server) ListWorkflows(ctx context.Context, r api.ListWorkflowsRequestObject) (api.ListWorkflowsResponseObject, error) {
	sc, limit := scopeOf(ctx), or(r.Params.Limit, 50)
	list, err := s.Store.Workflows(ctx, sc, or(r.Params.After, ""), limit)
	if err != nil {
		return nil, err
	}
	catalog, err := s.catalog(ctx, sc)
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(list))
	for i, w := range list {
		ids[i] = w.ID
	}
	last, err := s.Store.LastRuns(ctx, sc, ids)
	if err != nil {
		return nil, err
	}
	drafts := make([]string, len(list))
	for i, w := range list {
		drafts[i] = w.Draft
	}
	found := s.Outlines.Errors(catalog, drafts...)
	schedules, err := s.Store.SchedulesOf(ctx, sc, ids)
	if err != nil {
		return nil, err
	}
	out := api.ListWorkflows200JSONResponse{Workflows: []api.WorkflowSummary{}}
	for i, w := range list {
		sum := api.WorkflowSummary{Name: w.Name, Title: w.Title, State: api.WorkflowSummaryState(w.State), Live: w.Live, Updated: w.Updated}
		if o := s.Outlines.Of(w.Draft); o.Readable {
			sum.Trigger, sum.Steps = o.Trigger, some(o.Steps)
		}
		sum.Errors = some(found[i])
		if r, ok := last[w.ID]; ok {
			sum.Last = some(s.summary(sc, r))
		}
		if x, ok := schedules[w.ID]; ok {
			sum.Standing = standing(workflows.StandingOf(w, "", []store.Scheduled{x}, workflows.Seen{}))
		} else if w.State == "paused" {
			sum.Standing = standing(workflows.StandingOf(w, "", nil, workflows.Seen{}))
		}
		out.Workflows = append(out.Workflows, sum)
	}
	if len(list) == limit {
		out.Next = some(list[len(list)-1].Name)
	}
	return out, nil
}

// CreateWorkflow implements api.StrictServerInterface.
func (s *Server) CreateWorkflow(ctx context.Context, r api.CreateWorkflowRequestObject) (api.CreateWorkflowResponseObject, error) {
	parsed, _, problems := workflow.Read([]byte(r.Body.Document))
	if parsed == nil || !workflow.ValidName(parsed.Name) {
		if parsed != nil && parsed.Name != "" {
			problems = append(problems, document.Problem{Severity: document.SeverityError, Path: "name", Message: fmt.Sprintf("%q cannot be the name of a workflow.", parsed.Name), Cure: "Use small letters, digits and hyphens, and begin with a letter."})
		}
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "invalid_document", title: "This is not a workflow document yet.", problems: problems}
	}
	w, err := s.Store.CreateWorkflow(ctx, scopeOf(ctx), parsed.Name, parsed.TitleOrName(), r.Body.Document)
	if errors.Is(err, store.ErrTaken) {
		return nil, refuse(http.StatusConflict, "taken", fmt.Sprintf("There is a workflow called %s already.", parsed.Name))
	}
	if err != nil {
		return nil, err
	}
	out, err := s.workflow(ctx, scopeOf(ctx), w)
	return api.CreateWorkflow201JSONResponse(out), err
}

// GetWorkflow implements api.StrictServerInterface.
func (s *Server) GetWorkflow(ctx context.Context, r api.GetWorkflowRequestObject) (api.GetWorkflowResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	out, err := s.workflow(ctx, scopeOf(ctx), w)
	return api.GetWorkflow200JSONResponse{Body: out, Headers: api.GetWorkflow200ResponseHeaders{ETag: some(fmt.Sprintf("%q", strconv.FormatInt(w.Version, 10)))}}, err
}

// DeleteWorkflow implements api.StrictServerInterface.
func (s *Server) DeleteWorkflow(ctx context.Context, r api.DeleteWorkflowRequestObject) (api.DeleteWorkflowResponseObject, error) {
	return api.DeleteWorkflow204Response{}, s.Store.DeleteWorkflow(ctx, scopeOf(ctx), r.Workflow)
}

func version(ifMatch *string) (int64, error) {
	if ifMatch == nil || *ifMatch == "*" {
		return 0, nil
	}
	v, err := strconv.ParseInt(strings.Trim(strings.TrimPrefix(*ifMatch, "W/"), `"`), 10, 64)
	if err != nil {
		return 0, refuse(http.StatusBadRequest, "invalid_request", "If-Match holds the version that was read, as \"3\".")
	}
	return v, nil
}

func (s *Server) save(ctx context.Context, name string, ifMatch *string, change func(draft []byte) ([]byte, error)) (api.Workflow, error) {
	sc := scopeOf(ctx)
	v, err := version(ifMatch)
	if err != nil {
		return api.Workflow{}, err
	}
	w, err := s.Store.Workflow(ctx, sc, name)
	if err != nil {
		return api.Workflow{}, err
	}
	if v != 0 && v != w.Version {
		return api.Workflow{}, store.ErrConflict
	}
	text, err := change([]byte(w.Draft))
	if err != nil {
		return api.Workflow{}, err
	}
	title := w.Title
	if parsed, _, _ := workflow.Read(text); parsed != nil {
		title = parsed.TitleOrName()
		if parsed.Name != name && parsed.Name != "" {
			return api.Workflow{}, refuse(http.StatusUnprocessableEntity, "renamed", fmt.Sprintf("The document is called %s, and this workflow %s. Keep the name, or make a new workflow.", parsed.Name, name))
		}
	}
	if w, err = s.Store.SaveDraft(ctx, sc, name, w.Version, title, string(text)); err != nil {
		return api.Workflow{}, err
	}
	return s.workflow(ctx, sc, w)
}

// SaveDraft implements api.StrictServerInterface.
func (s *Server) SaveDraft(ctx context.Context, r api.SaveDraftRequestObject) (api.SaveDraftResponseObject, error) {
	out, err := s.save(ctx, r.Workflow, r.Params.IfMatch, func([]byte) ([]byte, error) { return []byte(r.Body.Document), nil })
	return api.SaveDraft200JSONResponse(out), err
}

// CheckDocument implements api.StrictServerInterface.
func (s *Server) CheckDocument(ctx context.Context, r api.CheckDocumentRequestObject) (api.CheckDocumentResponseObject, error) {
	catalog, err := s.catalog(ctx, scopeOf(ctx))
	if err != nil {
		return nil, err
	}
	// The samples of the workflow that the document is the draft of, or would be.
	var samples []map[string]any
	if parsed, _, _ := workflow.Read([]byte(r.Body.Document)); parsed != nil && parsed.Name != "" {
		switch stored, err := s.Store.Workflow(ctx, scopeOf(ctx), parsed.Name); {
		case err == nil:
			if samples, err = s.samples(ctx, scopeOf(ctx), stored); err != nil {
				return nil, err
			}
		case !errors.Is(err, store.ErrNotFound):
			return nil, err
		}
	}
	w, problems := engine.Check(ctx, []byte(r.Body.Document), catalog, samples)
	out := api.CheckDocument200JSONResponse{Problems: findings(problems)}
	if w != nil {
		out.Trigger, out.Lines = some(workflow.TriggerSentence(w.Trigger)), some(lines(w, r.Body.Document, catalog))
	}
	return out, nil
}

// DiffWorkflow implements api.StrictServerInterface.
func (s *Server) DiffWorkflow(ctx context.Context, r api.DiffWorkflowRequestObject) (api.DiffWorkflowResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	catalog, err := s.catalog(ctx, sc)
	if err != nil {
		return nil, err
	}
	parsed, _, problems := workflow.Read([]byte(w.Draft))
	if parsed == nil {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "invalid_document", title: "The draft cannot be read.", problems: problems}
	}
	revision := or(r.Params.Revision, or(w.Live, 0))
	var changes []workflow.Change
	if revision == 0 {
		changes = workflow.Diff(nil, parsed, catalog)
	} else if changes, err = s.changes(ctx, sc, w, parsed, revision, catalog); err != nil {
		return nil, err
	}
	out := api.DiffWorkflow200JSONResponse{Revision: given(revision)}
	out.Changes = make([]struct {
		Kind     string  `json:"kind"`
		Sentence string  `json:"sentence"`
		Step     *string `json:"step,omitempty"`
	}, len(changes))
	for i, c := range changes {
		out.Changes[i].Kind, out.Changes[i].Sentence, out.Changes[i].Step = c.Kind, c.Sentence, given(c.Step)
	}
	return out, nil
}

// ListRevisions implements api.StrictServerInterface.
func (s *Server) ListRevisions(ctx context.Context, r api.ListRevisionsRequestObject) (api.ListRevisionsResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Revisions(ctx, scopeOf(ctx), w.ID)
	out := api.ListRevisions200JSONResponse{Revisions: []api.Revision{}}
	for _, v := range list {
		out.Revisions = append(out.Revisions, api.Revision{Number: v.Number, Made: v.Made, MadeBy: v.MadeBy, Document: v.Document, Library: v.Library, Live: w.Live != nil && *w.Live == v.Number})
	}
	return out, err
}

// GoLive implements api.StrictServerInterface.
func (s *Server) GoLive(ctx context.Context, r api.GoLiveRequestObject) (api.GoLiveResponseObject, error) {
	sc := scopeOf(ctx)
	v, err := version(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	catalog, err := s.catalog(ctx, sc)
	if err != nil {
		return nil, err
	}
	parsed, problems := workflow.Check([]byte(w.Draft), catalog)
	if parsed == nil || workflow.HasErrors(problems) {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "has_errors", title: "The draft has errors and cannot go live.", problems: problems}
	}
	if v == 0 {
		v = w.Version
	}
	bounds, _ := parsed.Bounds()
	follows, err := s.follows(ctx, sc, w, parsed.Start())
	if err != nil {
		return nil, err
	}
	if w, err = s.Store.GoLive(ctx, sc, r.Workflow, store.GoingLive{Version: v, Numbers: parsed.Numbers(w.Numbers), Connectors: pins(parsed, catalog), Bounds: bounds, Times: intake.Times(parsed.Start().Timing), Follows: follows}); err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	out, err := s.workflow(ctx, sc, w)
	return api.GoLive200JSONResponse(out), err
}

// PauseWorkflow implements api.StrictServerInterface.
func (s *Server) PauseWorkflow(ctx context.Context, r api.PauseWorkflowRequestObject) (api.PauseWorkflowResponseObject, error) {
	w, err := s.setState(ctx, r.Workflow, "paused", intake.Paused, nil)
	if err != nil {
		return nil, err
	}
	out, err := s.workflow(ctx, scopeOf(ctx), w)
	return api.PauseWorkflow200JSONResponse(out), err
}

// UnpauseWorkflow implements api.StrictServerInterface.
func (s *Server) UnpauseWorkflow(ctx context.Context, r api.UnpauseWorkflowRequestObject) (api.UnpauseWorkflowResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	var times store.Timer
	var follows []store.Follow
	if w.Live != nil {
		plan, err := s.Plans.Plan(ctx, sc.Workspace(), w.ID, *w.Live)
		if err != nil {
			return nil, err
		}
		times = intake.Times(plan.Start.Timing)
		if follows, err = s.follows(ctx, sc, w, plan.Start); err != nil {
			return nil, err
		}
	}
	if w, err = s.setState(ctx, r.Workflow, "live", times, follows); err != nil {
		return nil, err
	}
	out, err := s.workflow(ctx, sc, w)
	return api.UnpauseWorkflow200JSONResponse(out), err
}

// waitsFor is what a live workflow's start waits for, where that comes from outside it.
func waitsFor(w *workflow.Workflow) string {
	if f := w.Start().Follows; f != nil {
		return f.Workflow
	}
	if isCalled(w.Trigger) {
		return workflows.ACall
	}
	return ""
}

// follows finds the workflow after which one starts.
func (s *Server) follows(ctx context.Context, sc store.Scope, w store.Workflow, start triggers.Start) ([]store.Follow, error) {
	f := start.Follows
	if f == nil {
		return nil, nil
	}
	source, err := s.Store.Workflow(ctx, sc, f.Workflow)
	if errors.Is(err, store.ErrNotFound) {
		return nil, refuse(http.StatusUnprocessableEntity, "has_errors", fmt.Sprintf("It starts after the workflow %s, and there is none of this name. Make that first, or name another.", f.Workflow))
	}
	if err != nil {
		return nil, err
	}
	if source.ID == w.ID {
		return nil, refuse(http.StatusUnprocessableEntity, "has_errors", "It starts after itself; name another workflow.")
	}
	return []store.Follow{{Source: source.ID, States: f.States}}, nil
}

// setState pauses a workflow that was live once, or lets it go on.
func (s *Server) setState(ctx context.Context, name, state string, times store.Timer, follows []store.Follow) (store.Workflow, error) {
	w, err := s.Store.SetState(ctx, scopeOf(ctx), name, state, times, follows)
	if err != nil {
		return w, err
	}
	if w.Live == nil {
		return w, refuse(http.StatusConflict, "not_live", "It has never been live, so there is nothing to pause.")
	}
	s.Intake.Forget(w.Hook)
	return w, nil
}

const rehearsedRows = 2000
