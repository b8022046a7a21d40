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
	out := api.Workflow{Name: w.Name, Title: w.Title, State: api.WorkflowState(w.State), Version: w.Version, Document: w.Draft, Live: w.Live, First: given(w.AtFirst), Updated: w.Updated, ChangedBy: given(w.ChangedBy), Problems: findings(problems), Lines: []api.Line{}}
	var live *workflow.Workflow
	if w.Live != nil {
		if live, err = s.revision(ctx, sc, w, *w.Live); err != nil {
			return out, err
		}
		if w.State == "paused" {
			kept, err := s.Store.KeptOf(ctx, sc, []uuid.UUID{w.ID})
			if err != nil {
				return out, err
			}
			out.Kept = given(kept[w.ID])
		}
		if out.Standing, err = s.standing(ctx, sc, w, live, or(out.Kept, 0)); err != nil {
			return out, err
		}
	}
	if parsed == nil {
		return out, nil
	}
	out.About, out.Label = given(parsed.About), given(parsed.Label)
	out.Trigger, out.TriggerType, out.TriggerSettings = workflow.TriggerSentence(parsed.Trigger), parsed.Trigger.Type, optionalRaw(parsed.Trigger.Settings)
	out.Vars, out.Limits, out.LimitSentences = optionalRaw(parsed.Vars), optionalRaw(parsed.Limits), listed(parsed.LimitSentences())
	out.Lines = lines(parsed, w.Draft, catalog)
	if k, ok := triggers.Find(parsed.Trigger.Type); ok {
		out.Called, out.Timed, out.Alone = given(k.Addressed()), given(k.Timed), given(k.Alone)
	}
	if w.Live != nil {
		out.Changed = len(workflow.Diff(live, parsed, catalog))
	}
	return out, nil
}

// revision reads one of a workflow's revisions.
func (s *Server) revision(ctx context.Context, sc store.Scope, w store.Workflow, number int) (*workflow.Workflow, error) {
	r, err := s.Store.Revision(ctx, sc.Workspace(), w.ID, number)
	if err != nil {
		return nil, err
	}
	read, _, _ := workflow.Read([]byte(r.Document))
	return read, nil
}

func changes(list []workflow.Change) []api.Change {
	out := make([]api.Change, len(list))
	for i, c := range list {
		out[i] = api.Change{Kind: c.Kind, Sentence: c.Sentence, Step: given(c.Step)}
	}
	return out
}

// drafted is a workflow whose draft was checked for whoever asks.
type drafted struct {
	store.Workflow
	catalog  *workflow.Catalog
	parsed   *workflow.Workflow // nil where the text is none
	problems []document.Problem
}

func (s *Server) drafted(ctx context.Context, sc store.Scope, name string) (d drafted, err error) {
	if d.Workflow, err = s.Store.Workflow(ctx, sc, name); err != nil {
		return d, err
	}
	if d.catalog, err = s.catalog(ctx, sc); err != nil {
		return d, err
	}
	d.parsed, d.problems = workflow.Check([]byte(d.Draft), d.catalog)
	return d, nil
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
	kept, err := s.Store.KeptOf(ctx, sc, ids)
	if err != nil {
		return nil, err
	}
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
			sum.Standing = standingOf(workflows.StandingOf(w, "", schedulesSeen(sc, x), workflows.Seen{Kept: kept[w.ID]}))
		} else if w.State == "paused" {
			sum.Standing = standingOf(workflows.StandingOf(w, "", nil, workflows.Seen{Kept: kept[w.ID]}))
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
	if string(text) == w.Draft { // the same is no other version
		return s.workflow(ctx, sc, w)
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
	var before *workflow.Workflow
	if revision != 0 {
		if before, err = s.revision(ctx, sc, w, revision); err != nil {
			return nil, err
		}
	}
	return api.DiffWorkflow200JSONResponse{Revision: given(revision), Changes: changes(workflow.Diff(before, parsed, catalog))}, nil
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

const rehearsedRows = 2000
