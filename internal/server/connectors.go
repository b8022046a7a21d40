package server

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/openapi"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

// described is a connector as callers see it.
func (s *Server) described(c *connector.Connector, own bool) api.Connector {
	x := api.Connector{Name: c.Name, Title: c.Title, About: c.About, Docs: given(c.Docs), Author: given(c.Author), Version: c.Version, Own: own, Web: c.Web(), Limits: given(limitsInWords(c.Limits)), Account: properties(c.AccountProperties())}
	for i := range c.SignIn {
		w := &c.SignIn[i]
		way := api.Way{Name: w.Called(), Method: w.Method, Title: w.Title, Help: w.Help, Secrets: []api.SecretField{}}
		for _, f := range w.Secrets() {
			way.Secrets = append(way.Secrets, api.SecretField{Name: f.Name, Title: f.Title, Shown: f.Shown, Required: f.Needed})
		}
		if w.Method == connector.OAuth2 {
			scopes := []struct {
				Always bool   `json:"always"`
				Name   string `json:"name"`
				Title  string `json:"title"`
			}{}
			for _, sc := range w.OAuth.Scopes {
				scopes = append(scopes, struct {
					Always bool   `json:"always"`
					Name   string `json:"name"`
					Title  string `json:"title"`
				}{sc.Always, sc.Name, sc.Title})
			}
			way.Scopes = &scopes
			if w.OAuth.Grant != connector.ClientCredentials {
				way.Consent, way.Redirect = some(true), some(s.redirectAddress())
			}
		}
		x.SignIn = append(x.SignIn, way)
	}
	for _, name := range c.Order {
		x.Actions = append(x.Actions, describedAction(c.Actions[name]))
	}
	for _, name := range slices.Sorted(maps.Keys(c.Triggers)) {
		t := c.Triggers[name]
		d := api.ConnectorTrigger{Name: name, Title: t.Title, Sentence: t.Sentence, Help: given(t.Help), Kind: api.Polling}
		if t.Webhook != nil {
			d.Kind, d.Instructions = api.Webhook, given(t.Webhook.Instructions)
		}
		x.Triggers = append(x.Triggers, d)
	}
	return x
}

func describedAction(a *connector.Action) api.Action {
	out := api.Action{Name: a.Name, Title: a.Title, Sentence: a.Sentence, Help: given(a.Help), Effect: a.Effect, Repeat: a.Repeat, List: a.List(), Method: given(a.Request.Method), Path: given(a.Request.Path),
		Units: given(unitsInWords(a)), TakesAWhile: given(a.Job != nil), Fields: properties(a.Properties)}
	if a.Scopes != nil {
		out.Scopes = &a.Scopes
	}
	proof := []string{}
	if a.Link != "" {
		proof = append(proof, "link to the record")
	}
	if a.ReadBack != nil {
		proof = append(proof, "read back")
	}
	if a.Undo != nil {
		proof = append(proof, "undo")
	}
	if len(proof) > 0 {
		out.Proof = &proof
	}
	if a.Sample != nil {
		out.Sample = some(raw(a.Sample))
	}
	return out
}

func limitsInWords(l connector.Limits) string {
	var parts []string
	if l.Calls > 0 {
		per := l.Per
		if per == "" {
			per = "1s"
		}
		parts = append(parts, fmt.Sprintf("%d calls in %s", l.Calls, per))
	}
	if l.Parallel > 0 {
		parts = append(parts, fmt.Sprintf("%d at once", l.Parallel))
	}
	if l.Payload > 0 {
		parts = append(parts, "requests up to "+item.Bytes(int64(l.Payload)))
	}
	if l.Seconds > 0 {
		parts = append(parts, fmt.Sprintf("up to %g s of sound", l.Seconds))
	}
	return strings.Join(parts, ", ")
}

func unitsInWords(a *connector.Action) string {
	unit := a.Unit
	if unit == "" {
		unit = "units"
	}
	switch u := a.Units.(type) {
	case int64, float64:
		if s := fmt.Sprint(u); s == "1" {
			return "1 " + strings.TrimSuffix(unit, "s") + " a call"
		}
		return fmt.Sprintf("%v %s a call", u, unit)
	case string:
		return unit + ", by what the answer says"
	}
	return ""
}

func (s *Server) connectors(ctx context.Context) (all map[string]*connector.Connector, own map[string]bool, err error) {
	sc := scopeOf(ctx)
	if all, err = s.Documents.Of(ctx, sc.Workspace()); err != nil {
		return nil, nil, err
	}
	own = map[string]bool{}
	for n := range all {
		own[n] = s.Documents.Shipped[n] == nil
	}
	return all, own, nil
}

// ListConnectors implements api.StrictServerInterface.
func (s *Server) ListConnectors(ctx context.Context, _ api.ListConnectorsRequestObject) (api.ListConnectorsResponseObject, error) {
	all, own, err := s.connectors(ctx)
	if err != nil {
		return nil, err
	}
	out := api.ListConnectors200JSONResponse{Connectors: []api.Connector{}}
	for _, n := range slices.Sorted(maps.Keys(all)) {
		out.Connectors = append(out.Connectors, s.described(all[n], own[n]))
	}
	return out, nil
}

// GetConnector implements api.StrictServerInterface.
func (s *Server) GetConnector(ctx context.Context, r api.GetConnectorRequestObject) (api.GetConnectorResponseObject, error) {
	all, own, err := s.connectors(ctx)
	if err != nil {
		return nil, err
	}
	c, ok := all[r.Connector]
	if !ok {
		return nil, store.ErrNotFound
	}
	out := s.described(c, own[r.Connector])
	out.Document = &c.Text
	list, err := s.Store.Connections(ctx, scopeOf(ctx))
	used := []string{}
	for _, k := range list {
		if k.Connector == c.Name {
			used = append(used, k.Name)
		}
	}
	out.UsedBy = &used
	return api.GetConnector200JSONResponse(out), err
}

// AddConnector implements api.StrictServerInterface.
func (s *Server) AddConnector(ctx context.Context, r api.AddConnectorRequestObject) (api.AddConnectorResponseObject, error) {
	sc := scopeOf(ctx)
	end, err := s.reading(ctx, len(r.Body.Document))
	if err != nil {
		return nil, err
	}
	defer end()
	c, problems := connector.Examine([]byte(r.Body.Document))
	if hasErrors(problems) {
		return nil, &fault{status: http.StatusUnprocessableEntity, kind: "has_errors", title: "The connector document has errors.", problems: problems}
	}
	if s.Documents.Shipped[c.Name] != nil {
		return nil, invalid("name", fmt.Sprintf("there is a connector called %s that comes with Young Trellis; choose another name", c.Name))
	}
	err = s.Store.AddConnector(ctx, sc, store.ConnectorVersion{Name: c.Name, Version: c.Version, Document: r.Body.Document, Own: true})
	if errors.Is(err, store.ErrTaken) {
		return nil, refuse(http.StatusConflict, "taken", fmt.Sprintf("Version %d of %s is there already and differs. Raise the version.", c.Version, c.Name))
	}
	if err != nil {
		return nil, err
	}
	s.Documents.Forget(sc.Workspace())
	return api.AddConnector201JSONResponse(s.described(c, true)), nil
}

func hasErrors(problems []document.Problem) bool {
	return slices.ContainsFunc(problems, func(p document.Problem) bool { return p.Severity == document.SeverityError })
}

// RemoveConnector implements api.StrictServerInterface.
func (s *Server) RemoveConnector(ctx context.Context, r api.RemoveConnectorRequestObject) (api.RemoveConnectorResponseObject, error) {
	sc := scopeOf(ctx)
	list, err := s.Store.Connections(ctx, sc)
	if err != nil {
		return nil, err
	}
	for _, k := range list {
		if k.Connector == r.Connector && s.Documents.Shipped[r.Connector] == nil {
			return nil, refuse(http.StatusConflict, "in_use", fmt.Sprintf("The connection %s uses it. Remove that first.", k.Name))
		}
	}
	if s.Documents.Shipped[r.Connector] != nil {
		return nil, refuse(http.StatusConflict, "shipped", "It comes with Young Trellis and cannot be removed.")
	}
	defer s.Documents.Forget(sc.Workspace())
	return api.RemoveConnector204Response{}, s.Store.RemoveConnector(ctx, sc, r.Connector)
}

// CheckConnector implements api.StrictServerInterface.
func (s *Server) CheckConnector(ctx context.Context, r api.CheckConnectorRequestObject) (api.CheckConnectorResponseObject, error) {
	end, err := s.reading(ctx, len(r.Body.Document))
	if err != nil {
		return nil, err
	}
	defer end()
	c, problems := connector.Examine([]byte(r.Body.Document))
	out := api.CheckConnector200JSONResponse{Problems: findings(problems)}
	if c != nil && !hasErrors(problems) {
		out.Connector = some(s.described(c, true))
		changes, _, err := s.changes(ctx, c)
		if err != nil {
			return nil, err
		}
		out.Changes = changes
	}
	return out, nil
}

// changes are what a document does otherwise than the version of the connector that is
// there, with the workflows that each concerns; replaces is that version, 0 for none.
func (s *Server) changes(ctx context.Context, is *connector.Connector) (out *[]api.ConnectorChange, replaces int, err error) {
	all, own, err := s.connectors(ctx)
	if err != nil || !own[is.Name] {
		return nil, 0, err
	}
	was := all[is.Name]
	uses, err := s.named(ctx, scopeOf(ctx), func(o workflows.Outline) []string { return o.Actions })
	if err != nil {
		return nil, 0, err
	}
	list := []api.ConnectorChange{}
	for _, c := range connector.Changes(was, is) {
		x := api.ConnectorChange{Action: given(c.Action), Says: c.Says, Breaks: c.Breaks, Workflows: []string{}}
		for used, names := range uses {
			of, action, _ := strings.Cut(used, ".")
			for _, name := range names {
				if of == is.Name && (c.Action == "" || action == c.Action) && !slices.Contains(x.Workflows, name) {
					x.Workflows = append(x.Workflows, name)
				}
			}
		}
		slices.Sort(x.Workflows)
		list = append(list, x)
	}
	return &list, was.Version, nil
}

// ImportConnector implements api.StrictServerInterface.
func (s *Server) ImportConnector(ctx context.Context, r api.ImportConnectorRequestObject) (api.ImportConnectorResponseObject, error) {
	end, err := s.reading(ctx, len(r.Body.Document))
	if err != nil {
		return nil, err
	}
	defer end()
	im, err := openapi.Import(ctx, []byte(r.Body.Document), openapi.Options{Name: or(r.Body.Name, ""), Address: or(r.Body.Address, "")})
	if err != nil {
		return nil, invalid("document", err.Error())
	}
	changes, replaces, err := s.changes(ctx, im.Connector)
	if err != nil {
		return nil, err
	}
	if replaces > 0 {
		im.Document = strings.Replace(im.Document, "\nversion: 1\n", fmt.Sprintf("\nversion: %d\n", replaces+1), 1)
	}
	out := api.ImportConnector200JSONResponse{Changes: changes, Replaces: given(replaces), Document: im.Document, Name: im.Connector.Name, Title: im.Connector.Title, Actions: len(im.Connector.Actions), Reads: some(im.Reads), Writes: some(im.Writes), Servers: im.Servers}
	if len(im.TokenServers) > 0 {
		out.TokenServers = &im.TokenServers
	}
	for i := range im.Connector.SignIn {
		out.SignIn = append(out.SignIn, im.Connector.SignIn[i].Called())
	}
	for _, l := range im.LeftOut {
		out.LeftOut = append(out.LeftOut, struct {
			What string `json:"what"`
			Why  string `json:"why"`
		}{l.What, l.Why})
	}
	return out, nil
}
