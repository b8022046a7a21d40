package server

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"

	"youngtrellis/api"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/paste"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/store"
)

// PasteCall implements api.StrictServerInterface. Nothing is kept; no secret goes back.
func (s *Server) PasteCall(ctx context.Context, r api.PasteCallRequestObject) (api.PasteCallResponseObject, error) {
	p, err := paste.Read(r.Body.Text)
	if err != nil {
		return nil, invalid("text", err.Error())
	}
	out := api.PasteCall200JSONResponse{Settings: raw(p.Settings), Origin: p.Origin, Request: p.Request, Notes: p.Notes}
	if k, ok := steps.Find("http"); ok {
		out.Sentence = some(k.Sentence(p.Settings))
	}
	type secret = struct {
		Asked *string `json:"asked,omitempty"`
		Hint  string  `json:"hint"`
		Name  string  `json:"name"`
		Shown bool    `json:"shown"`
		Where string  `json:"where"`
	}
	for _, x := range p.Secrets {
		hint := x.Hint()
		if x.Shown {
			hint = x.Value
		}
		out.Secrets = append(out.Secrets, secret{given(x.Asked), hint, x.Name, x.Shown, x.Where})
	}
	for _, x := range p.Placeholders {
		out.Placeholders = append(out.Placeholders, struct {
			Text  string `json:"text"`
			Where string `json:"where"`
		}{x.Text, x.Where})
	}
	for _, f := range p.Files {
		out.Files = append(out.Files, struct {
			Field string `json:"field"`
			Name  string `json:"name"`
			Text  bool   `json:"text"`
		}{f.Field, f.Name, f.Text})
	}
	there, name, err := s.joins(ctx, p, "")
	if err != nil {
		return nil, err
	}
	k, err := p.Into(there, paste.Keep{Connector: name})
	if err != nil {
		return nil, invalid("text", err.Error())
	}
	out.Connector, out.Action = k.Name, k.Action
	if there != nil {
		out.Joins = some(true)
	}
	return out, nil
}

// joins finds the connector that a call belongs to: the one that is named, else one of
// the workspace that calls the same address. Where there is none, name is that of a new one.
func (s *Server) joins(ctx context.Context, p *paste.Pasted, name string) (there *connector.Connector, free string, err error) {
	all, own, err := s.connectors(ctx)
	if err != nil {
		return nil, "", err
	}
	if name != "" {
		if c, ok := all[name]; ok && !own[name] {
			return nil, "", invalid("connector", fmt.Sprintf("%s comes with Young Trellis and cannot be added to; choose another name", c.Title))
		}
		return all[name], name, nil
	}
	first := paste.NameOf(p.Origin)
	names := slices.Sorted(maps.Keys(own))
	for _, n := range append([]string{first}, names...) {
		if c := all[n]; c != nil && own[n] && c.Base == p.Origin {
			return c, n, nil
		}
	}
	for free, n := first, 2; ; n++ {
		if all[free] == nil {
			return nil, free, nil
		}
		free = fmt.Sprintf("%s-%d", first, n)
	}
}

// KeepPasted implements api.StrictServerInterface. The connector and the connection are
// stored together, so that nothing is left behind where one of them cannot be.
func (s *Server) KeepPasted(ctx context.Context, r api.KeepPastedRequestObject) (api.KeepPastedResponseObject, error) {
	sc := scopeOf(ctx)
	p, err := paste.Read(r.Body.Text)
	if err != nil {
		return nil, invalid("text", err.Error())
	}
	there, name, err := s.joins(ctx, p, or(r.Body.Connector, ""))
	if err != nil {
		return nil, err
	}
	k, err := p.Into(there, paste.Keep{Connector: name, Title: or(r.Body.Title, ""), Action: or(r.Body.Action, "")})
	if err != nil {
		return nil, invalid("connector", err.Error())
	}
	con, err := connector.Parse([]byte(k.Document))
	if err != nil {
		return nil, invalid("connector", err.Error())
	}
	way, ok := con.Way(k.Way)
	if !ok {
		return nil, fmt.Errorf("the connector %s has no sign-in %s", con.Name, k.Way)
	}
	given := map[string]string{}
	for _, x := range p.Secrets {
		given[x.Name] = x.Value
	}
	maps.Copy(given, or(r.Body.Values, nil))
	values, hint, err := entered(way, nil, &given)
	if err != nil {
		return nil, err
	}
	c := &store.Connection{ID: store.NewID(), Workspace: sc.Workspace(), Connector: con.Name, Version: con.Version, Method: way.Called(), Hint: hint, State: begins(way)}
	if c.Account, c.Pin, c.TokenPin, err = account(con, way, api.Fields(`{}`)); err != nil {
		return nil, err
	}
	made, err := s.connectionFor(ctx, c, or(r.Body.Connection, ""), values)
	if err != nil {
		return nil, err
	}
	var version *store.ConnectorVersion
	if k.Changed {
		version = &store.ConnectorVersion{Name: con.Name, Version: con.Version, Document: k.Document, Own: true}
	}
	kept := c
	if !made {
		kept = nil
	}
	switch err := s.Store.AddConnectorAndConnection(ctx, sc, version, kept); {
	case errors.Is(err, store.ErrVersionTaken):
		return nil, refuse(http.StatusConflict, "changed", fmt.Sprintf("Somebody changed the connector %s at the same moment. Nothing was kept; try it again.", con.Name))
	case errors.Is(err, store.ErrTaken):
		return nil, refuse(http.StatusConflict, "taken", fmt.Sprintf("There is a connection called %s already.", c.Name))
	case err != nil:
		return nil, err
	}
	s.Documents.Forget(sc.Workspace())
	s.Connections.Forget(sc.Workspace(), c.Name)
	shown, err := s.checked(ctx, c.Name)
	return api.KeepPasted201JSONResponse{Connector: con.Name, Version: con.Version, Action: con.Name + "." + k.Action, Joined: there != nil, Connection: shown, Made: made}, err
}

// connectionFor finds a connection of the same application with the same secrets, or a
// name for a new one, with its secrets sealed.
func (s *Server) connectionFor(ctx context.Context, c *store.Connection, name string, values map[string]string) (made bool, err error) {
	if name != "" && !connectionName.MatchString(name) {
		return false, invalid("connection", fmt.Sprintf("%q cannot be the name of a connection: small letters, digits and hyphens, beginning with a letter", name))
	}
	list, err := s.Store.Connections(ctx, scopeOf(ctx))
	if err != nil {
		return false, err
	}
	taken := map[string]bool{}
	for i := range list {
		k := &list[i]
		taken[k.Name] = true
		if name != "" && k.Name != name {
			continue
		}
		if k.Connector == c.Connector && k.Method == c.Method && k.Pin == c.Pin && s.Connections.Holds(ctx, k, values) {
			c.Name = k.Name
			return false, nil
		}
		if name != "" {
			return false, refuse(http.StatusConflict, "taken", fmt.Sprintf("There is a connection called %s already, and it is of another application or has another secret. Give this one a name of its own.", name))
		}
	}
	if c.Name = name; name == "" {
		first := c.Connector[:min(len(c.Connector), 36)]
		c.Name = first
		for n := 2; taken[c.Name]; n++ {
			c.Name = fmt.Sprintf("%s-%d", first, n)
		}
	}
	c.Secret, err = s.Connections.SealValues(ctx, c, values)
	return true, err
}
