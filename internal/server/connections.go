package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// uses tells which workflows name each connection, in draft or live revision.
func (s *Server) uses(ctx context.Context, sc store.Scope) (map[string][]string, error) {
	out := map[string][]string{}
	after := ""
	for {
		list, err := s.Store.Workflows(ctx, sc, after, 200)
		if err != nil {
			return nil, err
		}
		for _, w := range list {
			after = w.Name
			texts := []string{w.Draft}
			if w.Live != nil {
				if r, err := s.Store.Revision(ctx, sc.Workspace(), w.ID, *w.Live); err == nil {
					texts = append(texts, r.Document)
				}
			}
			for _, t := range texts {
				parsed, _, _ := workflow.Read([]byte(t))
				if parsed == nil {
					continue
				}
				for _, st := range parsed.Steps {
					if st.Connection != "" && !slices.Contains(out[st.Connection], w.Name) {
						out[st.Connection] = append(out[st.Connection], w.Name)
					}
				}
			}
		}
		if len(list) < 200 {
			return out, nil
		}
	}
}

func (s *Server) connection(c store.Connection, uses []string) api.Connection {
	title := c.Connector
	if con, ok := s.Connectors[c.Connector]; ok {
		title = con.Title
	}
	if uses == nil {
		uses = []string{}
	}
	return api.Connection{Name: c.Name, Connector: c.Connector, ConnectorTitle: title, Account: raw(c.Account), Method: given(c.Method), State: api.ConnectionState(c.State), Said: c.Said, Checked: c.Checked, Hint: c.Hint, Pin: c.Pin, UsedBy: uses}
}

// ListConnections implements api.StrictServerInterface.
func (s *Server) ListConnections(ctx context.Context, _ api.ListConnectionsRequestObject) (api.ListConnectionsResponseObject, error) {
	list, err := s.Store.Connections(ctx, scopeOf(ctx))
	if err != nil {
		return nil, err
	}
	uses, err := s.uses(ctx, scopeOf(ctx))
	out := api.ListConnections200JSONResponse{Connections: []api.Connection{}}
	for _, c := range list {
		out.Connections = append(out.Connections, s.connection(c, uses[c.Name]))
	}
	return out, err
}

func (s *Server) one(ctx context.Context, name string) (store.Connection, api.Connection, error) {
	c, err := s.Store.Connection(ctx, scopeOf(ctx), name)
	if err != nil {
		return c, api.Connection{}, err
	}
	uses, err := s.uses(ctx, scopeOf(ctx))
	return c, s.connection(c, uses[name]), err
}

// GetConnection implements api.StrictServerInterface.
func (s *Server) GetConnection(ctx context.Context, r api.GetConnectionRequestObject) (api.GetConnectionResponseObject, error) {
	_, out, err := s.one(ctx, r.Connection)
	return api.GetConnection200JSONResponse(out), err
}

var connectionName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func invalid(field, message string) error {
	return &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: "Some fields are not right.", fields: []connector.FieldError{{Field: field, Message: message}}}
}

// account reads and checks an account's parameters, and works out its pin.
func account(con *connector.Connector, fields api.Fields) (map[string]any, string, error) {
	params, err := item.DecodeObject(fields)
	if err != nil {
		return nil, "", invalid("account", err.Error())
	}
	schema, err := connector.CompileSchema(con.Account)
	if err != nil {
		return nil, "", err
	}
	for k, v := range params {
		if text, ok := v.(string); ok {
			params[k] = strings.TrimSuffix(strings.TrimSpace(text), "/")
		}
	}
	if err := connector.ValidateInput(schema, con.AccountProperties(), params); err != nil {
		return nil, "", err
	}
	base, err := con.BaseURL(params)
	if err != nil {
		return nil, "", invalid("address", err.Error())
	}
	return params, outbound.Origin(base), nil
}

func hint(secret string) string {
	if len(secret) < 12 {
		return ""
	}
	return secret[len(secret)-4:]
}

// AddConnection implements api.StrictServerInterface.
func (s *Server) AddConnection(ctx context.Context, r api.AddConnectionRequestObject) (api.AddConnectionResponseObject, error) {
	sc := scopeOf(ctx)
	con, ok := s.Connectors[r.Body.Connector]
	if !ok {
		names := []string{}
		for n := range s.Connectors {
			names = append(names, n)
		}
		return nil, invalid("connector", fmt.Sprintf("there is no connector %q.%s", r.Body.Connector, near.Hint(r.Body.Connector, names)))
	}
	if !connectionName.MatchString(r.Body.Name) {
		return nil, invalid("name", fmt.Sprintf("%q cannot be the name of a connection: small letters, digits and hyphens, beginning with a letter", r.Body.Name))
	}
	method := or(r.Body.Method, con.SignIn[0].Method)
	if !slices.ContainsFunc(con.SignIn, func(m connector.SignIn) bool { return m.Method == method }) {
		return nil, invalid("method", fmt.Sprintf("%s is not signed in to by %s", con.Title, method))
	}
	secret := strings.TrimSpace(r.Body.Secret)
	if err := checkSecret(secret); err != nil {
		return nil, err
	}
	c := store.Connection{ID: store.NewID(), Workspace: sc.Workspace(), Name: r.Body.Name, Connector: con.Name, Version: con.Version, Method: method, Hint: hint(secret)}
	var err error
	if c.Account, c.Pin, err = account(con, r.Body.Account); err != nil {
		return nil, err
	}
	if c.Secret, err = s.Vault.Seal(ctx, sc.Workspace(), "connection", "secret", c.ID, []byte(secret)); err != nil {
		return nil, err
	}
	if err := s.Store.AddConnection(ctx, sc, c); err != nil {
		if errors.Is(err, store.ErrTaken) {
			return nil, invalid("name", fmt.Sprintf("there is a connection called %s already", c.Name))
		}
		return nil, err
	}
	out, err := s.checked(ctx, r.Body.Name)
	return api.AddConnection201JSONResponse(out), err
}

func checkSecret(secret string) error {
	if secret == "" {
		return invalid("secret", "it is empty")
	}
	if strings.ContainsFunc(secret, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return invalid("secret", "it holds a line break or another control character; copy it again")
	}
	return nil
}

// MendConnection implements api.StrictServerInterface. A new address needs the
// secret again: it must never go where it was not entered for.
func (s *Server) MendConnection(ctx context.Context, r api.MendConnectionRequestObject) (api.MendConnectionResponseObject, error) {
	sc := scopeOf(ctx)
	c, err := s.Store.Connection(ctx, sc, r.Connection)
	if err != nil {
		return nil, err
	}
	con, ok := s.Connectors[c.Connector]
	if !ok {
		return nil, refuse(http.StatusConflict, "no_connector", "The connector "+c.Connector+" is not installed here.")
	}
	secret := strings.TrimSpace(r.Body.Secret)
	if err := checkSecret(secret); err != nil {
		return nil, err
	}
	if r.Body.Account != nil {
		if c.Account, c.Pin, err = account(con, *r.Body.Account); err != nil {
			return nil, err
		}
	}
	c.Hint = hint(secret)
	if c.Secret, err = s.Vault.Seal(ctx, sc.Workspace(), "connection", "secret", c.ID, []byte(secret)); err != nil {
		return nil, err
	}
	if err := s.Store.ReplaceSecret(ctx, sc, c); err != nil {
		return nil, err
	}
	out, err := s.checked(ctx, r.Connection)
	return api.MendConnection200JSONResponse(out), err
}

func (s *Server) checked(ctx context.Context, name string) (api.Connection, error) {
	c, err := s.Store.Connection(ctx, scopeOf(ctx), name)
	if err != nil {
		return api.Connection{}, err
	}
	found, err := s.Node.Check(ctx, c)
	if err != nil {
		return api.Connection{}, err
	}
	_, out, err := s.one(ctx, name)
	out.TookMs = some(found.Took.Milliseconds())
	return out, err
}

// CheckConnection implements api.StrictServerInterface.
func (s *Server) CheckConnection(ctx context.Context, r api.CheckConnectionRequestObject) (api.CheckConnectionResponseObject, error) {
	out, err := s.checked(ctx, r.Connection)
	return api.CheckConnection200JSONResponse(out), err
}

// RemoveConnection implements api.StrictServerInterface.
func (s *Server) RemoveConnection(ctx context.Context, r api.RemoveConnectionRequestObject) (api.RemoveConnectionResponseObject, error) {
	_, c, err := s.one(ctx, r.Connection)
	if err != nil {
		return nil, err
	}
	if len(c.UsedBy) > 0 {
		return nil, refuse(http.StatusConflict, "in_use", fmt.Sprintf("It is used by %s. Take it out there first.", strings.Join(c.UsedBy, ", ")))
	}
	s.Node.Forget(scopeOf(ctx).Workspace(), r.Connection)
	return api.RemoveConnection204Response{}, s.Store.RemoveConnection(ctx, scopeOf(ctx), r.Connection)
}

// ListChoices implements api.StrictServerInterface.
func (s *Server) ListChoices(ctx context.Context, r api.ListChoicesRequestObject) (api.ListChoicesResponseObject, error) {
	if _, err := s.Store.Connection(ctx, scopeOf(ctx), r.Connection); err != nil {
		return nil, err
	}
	input, err := item.DecodeObject(r.Body.Input)
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "invalid_request", err.Error())
	}
	for k, v := range input {
		if m, ok := v.(map[string]any); ok && m["id"] != nil {
			input[k] = m["id"]
		}
	}
	options, why, err := s.Node.Choices(ctx, scopeOf(ctx).Workspace(), r.Connection, r.List, input)
	if err != nil {
		return nil, err
	}
	out := api.ListChoices200JSONResponse{WhyEmpty: why}
	out.Options = make([]struct {
		Id   api.Value `json:"id"`
		Name string    `json:"name"`
	}, len(options))
	for i, o := range options {
		out.Options[i].Id, out.Options[i].Name = raw(o.ID), o.Name
	}
	return out, nil
}

// ListConnectors implements api.StrictServerInterface.
func (s *Server) ListConnectors(context.Context, api.ListConnectorsRequestObject) (api.ListConnectorsResponseObject, error) {
	names := []string{}
	for n := range s.Connectors {
		names = append(names, n)
	}
	slices.Sort(names)
	out := api.ListConnectors200JSONResponse{Connectors: []api.Connector{}}
	for _, n := range names {
		c := s.Connectors[n]
		x := api.Connector{Name: c.Name, Title: c.Title, About: c.About, Account: properties(c.AccountProperties()), Actions: []api.Action{}}
		for _, m := range c.SignIn {
			x.SignIn = append(x.SignIn, struct {
				Help   string `json:"help"`
				Method string `json:"method"`
				Secret string `json:"secret"`
				Title  string `json:"title"`
			}{m.Help, m.Method, m.Secret, m.Title})
		}
		for _, name := range c.Order {
			a := c.Actions[name]
			x.Actions = append(x.Actions, api.Action{Name: name, Title: a.Title, Sentence: a.Sentence, Help: given(a.Help), Effect: a.Effect, List: given(a.List()), Fields: properties(a.Properties)})
		}
		out.Connectors = append(out.Connectors, x)
	}
	return out, nil
}
