package server

import (
	"context"

	"youngtrellis/api"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
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
	known, err := s.Store.Lists(ctx, sc)
	if err != nil {
		return nil, err
	}
	for _, l := range known {
		of := workflow.List{Name: l.Name}
		for _, column := range l.Columns {
			of.Columns = append(of.Columns, column.Name)
		}
		c.Lists = append(c.Lists, of)
	}
	if sc.SeesItems() {
		c.Rows = s.Runs.Lists.Of(sc.Workspace()).List
	}
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

func gives(st *workflow.Step, catalog *workflow.Catalog) bool {
	a := catalog.Called(st)
	return a != nil && a.List()
}

// kind is what a column head says of a step: its kind, or what its action does.
func kind(st *workflow.Step, catalog *workflow.Catalog) string {
	if a := catalog.Called(st); a != nil {
		return a.Effect
	}
	return st.Type
}
