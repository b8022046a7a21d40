package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/store"
)

// catalog is what a workspace's workflows can be made of, by whoever asks.
func (s *Server) catalog(ctx context.Context, sc store.Scope) (*workflow.Catalog, error) {
	list, err := s.Store.Connections(ctx, sc)
	if err != nil {
		return nil, err
	}
	grants, err := s.Store.Grants(ctx, sc)
	if err != nil {
		return nil, err
	}
	cons, err := s.Documents.Of(ctx, sc.Workspace())
	if err != nil {
		return nil, err
	}
	c := &workflow.Catalog{Connectors: cons}
	for _, k := range list {
		may, actions := sc.Use(k, grants)
		c.Connections = append(c.Connections, workflow.Connection{Name: k.Name, Connector: k.Connector, Method: k.Method, State: k.State, Scopes: k.Scopes, Granted: actions, Forbidden: !may})
	}
	return c, nil
}

// pins are the connector documents that a workflow is made with.
func pins(w *workflow.Workflow, catalog *workflow.Catalog) []store.ConnectorVersion {
	seen := map[string]bool{}
	var out []store.ConnectorVersion
	for st := range w.All() {
		name, _, ok := st.IsAction()
		if con := catalog.Connectors[name]; ok && con != nil && !seen[name] {
			seen[name] = true
			out = append(out, store.ConnectorVersion{Name: name, Version: con.Version, Document: con.Text})
		}
	}
	return out
}

func raw(v any) json.RawMessage {
	if m, ok := v.(map[string]any); ok && m == nil {
		return json.RawMessage("{}")
	}
	b, err := item.Encode(v)
	if err != nil {
		return json.RawMessage("null")
	}
	return b
}

func optionalRaw(m map[string]any) *json.RawMessage {
	if m == nil {
		return nil
	}
	return some(raw(m))
}

func findings(problems []document.Problem) []api.Finding {
	out := make([]api.Finding, 0, len(problems))
	for _, p := range problems {
		out = append(out, api.Finding{Severity: api.FindingSeverity(p.Severity), Path: p.Path, Line: p.Line, Column: p.Column, Step: given(p.Step), Message: p.Message, Cure: given(p.Cure), Gap: given(p.Gap)})
	}
	return out
}

func lines(w *workflow.Workflow, text string, catalog *workflow.Catalog) []api.Line {
	out, texts := []api.Line{}, workflow.Texts([]byte(text))
	for l := range w.Lines() {
		x := api.Line{Depth: given(l.Depth), In: given(within(l))}
		if l.Step == nil {
			x.Name, x.Type, x.Kind, x.Sentence, x.Inside = l.Block.Name, "case", "case", l.Block.Sentence(), some(inside(l.Of, l.Block))
			if x.In = nil; l.Of != nil {
				x.In = some(l.Of.Name)
			}
			if l.Block.Fallback || l.Of == nil {
				x.Type = l.Block.Name
			} else if when, ok := l.Block.Condition(l.Of); ok {
				x.Settings, x.Text = some(raw(map[string]any{"when": when})), given(texts[inside(l.Of, l.Block)])
			}
		} else {
			x.Text = given(texts[l.Step.Name])
			line(&x, l.Step, catalog)
			x.Number = some(l.Number)
		}
		out = append(out, x)
	}
	return out
}

// within names the steps in which a line stands, as an edit does.
func within(l workflow.Line) string {
	if l.Block == nil {
		return ""
	}
	return inside(l.Of, l.Block)
}

func inside(of *workflow.Step, b *workflow.Block) string {
	switch {
	case of == nil:
		return "/" + b.Name
	case b.Name == "":
		return of.Name
	}
	return of.Name + "/" + b.Name
}

func line(l *api.Line, st *workflow.Step, catalog *workflow.Catalog) {
	l.Name, l.Type, l.Sentence, l.Kind = st.Name, st.Type, catalog.Sentence(st), kind(st, catalog)
	l.Note, l.Connection, l.Off = given(st.Note), given(st.Connection), given(st.Off)
	l.Lists = given(gives(st, catalog))
	l.Settings = some(raw(st.Input))
	if _, ok := steps.Find(st.Type); ok {
		l.Settings = some(raw(st.Settings))
	}
	if len(st.Blocks) > 0 && st.Blocks[0].Name == "" {
		l.Inside = some(st.Name)
	}
	options := map[string]any{}
	for k, v := range map[string]string{"output": st.Output, "when_none": st.WhenNone, "when_unknown": st.WhenUnknown, "timeout": st.Timeout, "on_error": st.OnError, "repeat": st.Repeat, "late": st.Late} {
		if v != "" {
			options[k] = v
		}
	}
	if st.Parallel > 0 {
		options["parallel"] = st.Parallel
	}
	l.Options = some(raw(options))
}

// called is the action that a step calls, if it calls one.
func called(st *workflow.Step, catalog *workflow.Catalog) *connector.Action {
	if a, err := catalog.Action(st); err == nil {
		return a
	}
	if k, ok := steps.Find(st.Type); ok {
		if c, _ := k.Compile(st.Settings); c != nil {
			if x, ok := c.Operator.(*steps.Call); ok {
				return x.Action
			}
		}
	}
	return nil
}

func gives(st *workflow.Step, catalog *workflow.Catalog) bool {
	a := called(st, catalog)
	return a != nil && a.List()
}

// kind is what a column head says of a step: its kind, or what its action does.
func kind(st *workflow.Step, catalog *workflow.Catalog) string {
	if a := called(st, catalog); a != nil {
		return a.Effect
	}
	return st.Type
}

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
	out.Vars = optionalRaw(parsed.Vars)
	out.Lines = lines(parsed, w.Draft, catalog)
	if w.Live != nil {
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
	out := api.ListWorkflows200JSONResponse{Workflows: []api.WorkflowSummary{}}
	for i, w := range list {
		sum := api.WorkflowSummary{Name: w.Name, Title: w.Title, State: api.WorkflowSummaryState(w.State), Live: w.Live, Updated: w.Updated}
		if o := s.Outlines.Of(w.Draft); o.Readable {
			sum.Trigger, sum.Steps = o.Trigger, some(o.Steps)
		}
		sum.Errors = some(found[i])
		if r, ok := last[w.ID]; ok {
			sum.Last = some(s.summary(r))
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
	if w, err = s.Store.GoLive(ctx, sc, r.Workflow, v, parsed.Numbers(w.Numbers), pins(parsed, catalog)); err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	out, err := s.workflow(ctx, sc, w)
	return api.GoLive200JSONResponse(out), err
}

// PauseWorkflow implements api.StrictServerInterface.
func (s *Server) PauseWorkflow(ctx context.Context, r api.PauseWorkflowRequestObject) (api.PauseWorkflowResponseObject, error) {
	w, err := s.Store.SetState(ctx, scopeOf(ctx), r.Workflow, "paused")
	if err != nil {
		return nil, err
	}
	if w.Live == nil {
		return nil, refuse(http.StatusConflict, "not_live", "It has never been live, so there is nothing to pause.")
	}
	s.Intake.Forget(w.Hook)
	out, err := s.workflow(ctx, scopeOf(ctx), w)
	return api.PauseWorkflow200JSONResponse(out), err
}

func objects(list *[]api.Fields) ([]map[string]any, error) {
	var out []map[string]any
	for i, f := range or(list, nil) {
		m, err := item.DecodeObject(f)
		if err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_item", fmt.Sprintf("Item %d: %v", i+1, err))
		}
		out = append(out, m)
	}
	return out, nil
}

// StartWorkflow implements api.StrictServerInterface.
func (s *Server) StartWorkflow(ctx context.Context, r api.StartWorkflowRequestObject) (api.StartWorkflowResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	items, err := objects(r.Body.Items)
	if err != nil {
		return nil, err
	}
	if r.Body.Again != nil {
		before, err := s.Store.Run(ctx, sc, *r.Body.Again)
		if err != nil {
			return nil, err
		}
		if before.Workflow != w.ID || len(items) > 0 {
			return nil, refuse(http.StatusUnprocessableEntity, "invalid_input", "A run is started again as it was: its own workflow, and no other items.")
		}
		if items, err = s.Store.StartItems(ctx, sc.Workspace(), before.ID, intake.MaxItems); err != nil {
			return nil, err
		}
	}
	run, err := s.Intake.Start(ctx, sc, w, items, sc.Who())
	return api.StartWorkflow202JSONResponse{Run: run}, err
}

// StartingWorkflow implements api.StrictServerInterface.
func (s *Server) StartingWorkflow(ctx context.Context, r api.StartingWorkflowRequestObject) (api.StartingWorkflowResponseObject, error) {
	sc := scopeOf(ctx)
	w, err := s.Store.Workflow(ctx, sc, r.Workflow)
	if err != nil {
		return nil, err
	}
	parsed, _, _ := workflow.Read([]byte(w.Draft))
	if w.Live != nil {
		plan, err := s.Plans.Plan(ctx, sc.Workspace(), w.ID, *w.Live)
		if err != nil {
			return nil, err
		}
		parsed = plan.Workflow
	}
	if parsed == nil {
		return nil, refuse(http.StatusConflict, "has_errors", "The draft cannot be read; mend its text first.")
	}
	asks := parsed.Start().Asks
	kind, ok := triggers.Find(parsed.Trigger.Type)
	return api.StartingWorkflow200JSONResponse{
		Trigger: workflow.TriggerSentence(parsed.Trigger), Alone: ok && kind.Alone,
		Fields: properties(asks.Properties), Schema: raw(asks.Schema()),
	}, nil
}

const rehearsedRows = 2000

// isCalled tells whether something calls a trigger's address.
func isCalled(t workflow.Trigger) bool {
	k, ok := triggers.Find(t.Type)
	return ok && k.Called
}

// CallSheet implements api.StrictServerInterface.
func (s *Server) CallSheet(ctx context.Context, r api.CallSheetRequestObject) (api.CallSheetResponseObject, error) {
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	address := strings.TrimSuffix(s.PublicURL, "/") + "/hooks/" + w.Hook
	out := api.CallSheet200JSONResponse{Address: address, Secured: w.Secured, Verify: "bearer"}
	if parsed, _, _ := workflow.Read([]byte(w.Draft)); parsed != nil && parsed.Start().Open {
		out.Verify = "none"
	}
	curl := "curl -X POST " + address + " \\\n  -H 'Content-Type: application/json' \\\n"
	if out.Verify == "bearer" {
		curl += "  -H 'Authorization: Bearer YOUR_SECRET' \\\n"
	}
	out.Curl = some(curl + "  -d '{\"example\": 1}'")
	return out, nil
}

// MakeHookSecret implements api.StrictServerInterface.
func (s *Server) MakeHookSecret(ctx context.Context, r api.MakeHookSecretRequestObject) (api.MakeHookSecretResponseObject, error) {
	secret, err := s.Store.NewHookSecret(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	w, err := s.Store.Workflow(ctx, scopeOf(ctx), r.Workflow)
	if err != nil {
		return nil, err
	}
	s.Intake.Forget(w.Hook)
	return api.MakeHookSecret201JSONResponse{Secret: secret}, nil
}

// ListKinds implements api.StrictServerInterface.
func (s *Server) ListKinds(context.Context, api.ListKindsRequestObject) (api.ListKindsResponseObject, error) {
	out := api.ListKinds200JSONResponse{}
	for _, k := range steps.Kinds() {
		out.Steps = append(out.Steps, api.Kind{Type: k.Type, Title: k.Title, Help: k.Help, Words: k.Words, Connects: given(k.Connects), Needs: given(k.Needs), Does: given(api.KindDoes(k.Does)), Settings: properties(k.Form.Properties)})
	}
	for _, k := range triggers.Kinds() {
		out.Triggers = append(out.Triggers, api.Kind{Type: k.Type, Title: k.Title, Help: k.Help, Settings: properties(k.Form.Properties)})
	}
	return out, nil
}

func properties(list []form.Property) []api.Property {
	out := make([]api.Property, 0, len(list))
	for _, p := range list {
		out = append(out, api.Property{Name: p.Name, Required: p.Required, Schema: raw(p.Schema)})
	}
	return out
}
