package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// uses tells which workflows name each connection, in draft or live revision.
func (s *Server) uses(ctx context.Context, sc store.Scope) (map[string][]string, error) {
	list, err := s.Store.Texts(ctx, sc)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, w := range list {
		for _, text := range []string{w.Draft, w.Live} {
			for _, name := range s.Outlines.Of(text).Connections {
				if !slices.Contains(out[name], w.Name) {
					out[name] = append(out[name], w.Name)
				}
			}
		}
	}
	return out, nil
}

// around is what is known of a workspace's connections besides themselves.
type around struct {
	connectors map[string]*connector.Connector
	uses       map[string][]string
	grants     []store.Grant
	held       map[uuid.UUID]store.Hold
	waiting    map[string]int
}

func (s *Server) around(ctx context.Context, sc store.Scope) (a around, err error) {
	if a.connectors, err = s.Documents.Of(ctx, sc.Workspace()); err != nil {
		return a, err
	}
	if a.uses, err = s.uses(ctx, sc); err != nil {
		return a, err
	}
	if a.grants, err = s.Store.Grants(ctx, sc); err != nil {
		return a, err
	}
	if a.held, err = s.Store.Held(ctx, sc); err != nil {
		return a, err
	}
	a.waiting, err = s.Store.WaitingFor(ctx, sc)
	return a, err
}

func (s *Server) connection(c store.Connection, a around) api.Connection {
	title := c.Connector
	if con, ok := a.connectors[c.Connector]; ok {
		title = con.Title
	}
	out := api.Connection{Name: c.Name, Connector: c.Connector, ConnectorTitle: title, Version: given(c.Version), Account: raw(c.Account), Method: c.Method, State: api.ConnectionState(c.State), Said: c.Said,
		Checked: c.Checked, Hint: c.Hint, Pin: c.Pin, UsedBy: a.uses[c.Name], Missing: c.Missing, Left: c.Left, Everyone: c.Everyone, Grants: []api.Grant{}, TokenExpires: c.TokenExpires, Waiting: given(a.waiting[c.Name])}
	if c.Scopes != nil {
		out.Scopes = &c.Scopes
	}
	if c.TookMS != nil {
		out.TookMs = some(int64(*c.TookMS))
	}
	if l := c.Limits; l != nil {
		out.Limits = &api.Limits{Calls: given(l.Calls), Seconds: given(l.Seconds), Parallel: given(l.Parallel)}
	}
	for _, g := range a.grants {
		if g.Connection == c.ID {
			grant := api.Grant{Email: g.Email, Name: given(g.Name)}
			if g.Actions != nil {
				grant.Actions = &g.Actions
			}
			out.Grants = append(out.Grants, grant)
		}
	}
	if h, ok := a.held[c.ID]; ok {
		out.HeldUntil, out.HeldWhy = &h.Until, &h.Why
	}
	out.Words = stateWords(c, out.HeldUntil, title)
	out.Guarded = given(connections.Guarded(c))
	return whole(out)
}

// stateWords says in a sentence how a connection does.
func stateWords(c store.Connection, held *time.Time, title string) string {
	switch {
	case c.State == store.ConnectionBroken:
		return "Does not work: " + c.Said
	case c.State == store.ConnectionConsent && c.Said != "":
		return "Not signed in: " + c.Said
	case c.State == store.ConnectionConsent:
		return "Not signed in yet: open the consent page"
	case c.State == store.ConnectionConfirm:
		return "Signed in as " + c.Said + "; confirm that this is the right account"
	case c.State == store.ConnectionUnchecked && c.Said != "":
		return "Could not be checked: " + c.Said
	case c.State == store.ConnectionUnchecked:
		return "Not checked yet"
	case held != nil:
		return fmt.Sprintf("Works; %s asked to wait until %s", title, held.UTC().Format("15:04:05 UTC"))
	case c.Method == connector.None:
		return "Works: " + c.Said
	case len(c.Missing) > 0:
		return "Works, but " + strings.Join(c.Missing, "; ")
	}
	return "Works, signed in as " + c.Said
}

// ListConnections implements api.StrictServerInterface.
func (s *Server) ListConnections(ctx context.Context, _ api.ListConnectionsRequestObject) (api.ListConnectionsResponseObject, error) {
	sc := scopeOf(ctx)
	list, err := s.Store.Connections(ctx, sc)
	if err != nil {
		return nil, err
	}
	a, err := s.around(ctx, sc)
	out := api.ListConnections200JSONResponse{Connections: []api.Connection{}}
	for _, c := range list {
		out.Connections = append(out.Connections, s.connection(c, a))
	}
	return out, err
}

func (s *Server) one(ctx context.Context, name string) (store.Connection, api.Connection, error) {
	c, err := s.Store.Connection(ctx, scopeOf(ctx), name)
	if err != nil {
		return c, api.Connection{}, err
	}
	a, err := s.around(ctx, scopeOf(ctx))
	return c, s.connection(c, a), err
}

// GetConnection implements api.StrictServerInterface.
func (s *Server) GetConnection(ctx context.Context, r api.GetConnectionRequestObject) (api.GetConnectionResponseObject, error) {
	_, out, err := s.one(ctx, r.Connection)
	return api.GetConnection200JSONResponse(out), err
}

var connectionName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func invalid(field, message string) error {
	return &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: "Some fields are not right.", fields: []form.FieldError{{Field: field, Message: message}}}
}

// account reads and checks an account's parameters, and works out its pins:
// where the credentials may go, and where a client secret may.
func account(con *connector.Connector, way *connector.SignIn, fields api.Fields) (params map[string]any, pin, tokenPin string, err error) {
	if params, err = item.DecodeObject(fields); err != nil {
		return nil, "", "", invalid("account", err.Error())
	}
	for k, v := range params {
		if text, ok := v.(string); ok {
			params[k] = strings.TrimSuffix(strings.TrimSpace(text), "/")
		}
	}
	if len(con.Account) > 0 {
		schema, err := form.Compile(con.Account)
		if err != nil {
			return nil, "", "", err
		}
		if err := form.Validate(schema, con.AccountProperties(), params); err != nil {
			return nil, "", "", err
		}
	}
	base, err := con.BaseURL(params)
	if err != nil {
		return nil, "", "", invalid("account", err.Error())
	}
	if way.Method == connector.OAuth2 {
		e, err := way.OAuth.Endpoints(params)
		if err != nil {
			return nil, "", "", invalid("account", err.Error())
		}
		u, err := connector.ParseBase(e.Token)
		if err != nil {
			return nil, "", "", invalid("account", err.Error())
		}
		tokenPin = outbound.Origin(u)
	}
	return params, outbound.Origin(base), tokenPin, nil
}

func hint(secret string) string {
	if len(secret) < 12 {
		return ""
	}
	return secret[len(secret)-4:]
}

// entered reads what a person entered for a sign-in method.
func entered(way *connector.SignIn, secret *string, given *map[string]string) (map[string]string, string, error) {
	values := map[string]string{}
	for k, v := range or(given, nil) {
		values[k] = strings.TrimSpace(v)
	}
	if secret != nil {
		values["secret"] = strings.TrimSpace(*secret)
	}
	known := map[string]bool{}
	var wrong []form.FieldError
	for _, f := range way.Secrets() {
		known[f.Name] = true
		switch v := values[f.Name]; {
		case v == "" && f.Needed:
			wrong = append(wrong, form.FieldError{Field: f.Name, Message: f.Title + " is required and empty"})
		case strings.ContainsFunc(v, func(r rune) bool { return r < ' ' || r == 0x7f }):
			wrong = append(wrong, form.FieldError{Field: f.Name, Message: f.Title + " holds a line break or another control character; copy it again"})
		}
	}
	for k, v := range values {
		if !known[k] && v != "" {
			wrong = append(wrong, form.FieldError{Field: k, Message: fmt.Sprintf("%s is not asked for by this way of signing in", k)})
		}
	}
	if len(wrong) > 0 {
		return nil, "", &fault{status: http.StatusUnprocessableEntity, kind: "invalid_input", title: "Some fields are not right.", fields: wrong}
	}
	return values, hint(values["secret"]), nil
}

func wayOf(con *connector.Connector, method *string) (*connector.SignIn, error) {
	way, ok := con.Way(or(method, ""))
	if !ok {
		return nil, invalid("method", fmt.Sprintf("%s is not signed in to by %s", con.Title, *method))
	}
	return way, nil
}

// begins is the state of a connection that was just stored.
func begins(way *connector.SignIn) string {
	if way.Method == connector.OAuth2 && way.OAuth.Grant != connector.ClientCredentials {
		return store.ConnectionConsent
	}
	return store.ConnectionUnchecked
}

func wanted(way *connector.SignIn, scopes *[]string) ([]string, error) {
	if way.Method != connector.OAuth2 {
		return nil, nil
	}
	list, err := connections.Scopes(way.OAuth, or(scopes, nil))
	if err != nil {
		return nil, invalid("scopes", err.Error())
	}
	return list, nil
}

// AddConnection implements api.StrictServerInterface.
func (s *Server) AddConnection(ctx context.Context, r api.AddConnectionRequestObject) (api.AddConnectionResponseObject, error) {
	sc := scopeOf(ctx)
	con, err := s.Documents.Find(ctx, sc.Workspace(), r.Body.Connector)
	if err != nil {
		return nil, invalid("connector", err.Error())
	}
	if !connectionName.MatchString(r.Body.Name) {
		return nil, invalid("name", fmt.Sprintf("%q cannot be the name of a connection: small letters, digits and hyphens, beginning with a letter", r.Body.Name))
	}
	way, err := wayOf(con, r.Body.Method)
	if err != nil {
		return nil, err
	}
	values, hint, err := entered(way, r.Body.Secret, r.Body.Values)
	if err != nil {
		return nil, err
	}
	c := store.Connection{ID: store.NewID(), Workspace: sc.Workspace(), Name: r.Body.Name, Connector: con.Name, Version: con.Version, Method: way.Method, Hint: hint, State: begins(way)}
	if c.Account, c.Pin, c.TokenPin, err = account(con, way, r.Body.Account); err != nil {
		return nil, err
	}
	if c.Wanted, err = wanted(way, r.Body.Scopes); err != nil {
		return nil, err
	}
	if c.Secret, err = s.Connections.SealValues(ctx, sc.Workspace(), c.ID, values); err != nil {
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

// MendConnection implements api.StrictServerInterface. A new address needs the
// secrets again: they must never go where they were not entered for.
func (s *Server) MendConnection(ctx context.Context, r api.MendConnectionRequestObject) (api.MendConnectionResponseObject, error) {
	sc := scopeOf(ctx)
	c, err := s.Store.Connection(ctx, sc, r.Connection)
	if err != nil {
		return nil, err
	}
	con, err := s.Documents.Find(ctx, sc.Workspace(), c.Connector)
	if err != nil {
		return nil, refuse(http.StatusConflict, "no_connector", "The connector "+c.Connector+" is not there any more.")
	}
	if r.Body.Method == nil {
		r.Body.Method = &c.Method
	}
	way, err := wayOf(con, r.Body.Method)
	if err != nil {
		return nil, err
	}
	values, hint, err := entered(way, r.Body.Secret, r.Body.Values)
	if err != nil {
		return nil, err
	}
	fields := raw(c.Account)
	if r.Body.Account != nil {
		fields = *r.Body.Account
	}
	if c.Account, c.Pin, c.TokenPin, err = account(con, way, fields); err != nil {
		return nil, err
	}
	if r.Body.Scopes != nil || c.Method != way.Method {
		if c.Wanted, err = wanted(way, r.Body.Scopes); err != nil {
			return nil, err
		}
	}
	c.Hint, c.Method, c.Version, c.State = hint, way.Method, con.Version, begins(way)
	if c.Secret, err = s.Connections.SealValues(ctx, sc.Workspace(), c.ID, values); err != nil {
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
	if c.State != store.ConnectionConsent {
		if _, err := s.Connections.Check(ctx, c); err != nil {
			return api.Connection{}, err
		}
	}
	_, out, err := s.one(ctx, name)
	return out, err
}

// CheckConnection implements api.StrictServerInterface.
func (s *Server) CheckConnection(ctx context.Context, r api.CheckConnectionRequestObject) (api.CheckConnectionResponseObject, error) {
	out, err := s.checked(ctx, r.Connection)
	return api.CheckConnection200JSONResponse(out), err
}

// ShapeConnection implements api.StrictServerInterface.
func (s *Server) ShapeConnection(ctx context.Context, r api.ShapeConnectionRequestObject) (api.ShapeConnectionResponseObject, error) {
	sc := scopeOf(ctx)
	c, err := s.Store.Connection(ctx, sc, r.Connection)
	if err != nil {
		return nil, err
	}
	c.Everyone, c.Limits = r.Body.Everyone, nil
	if l := r.Body.Limits; l != nil && (or(l.Calls, 0) > 0 || or(l.Parallel, 0) > 0) {
		c.Limits = &store.Limits{Calls: or(l.Calls, 0), Seconds: or(l.Seconds, 1), Parallel: or(l.Parallel, 0)}
		if c.Limits.Seconds <= 0 {
			c.Limits.Seconds = 1
		}
	}
	grants := []store.Grant{}
	if r.Body.Grants != nil && !c.Everyone {
		people, err := s.Store.Members(ctx, sc)
		if err != nil {
			return nil, err
		}
		for _, g := range *r.Body.Grants {
			i := slices.IndexFunc(people, func(m store.Member) bool { return strings.EqualFold(m.Email, g.Email) })
			if i < 0 {
				return nil, invalid("grants", g.Email+" is not a member of this workspace")
			}
			grants = append(grants, store.Grant{Person: people[i].Person, Actions: or(g.Actions, nil)})
		}
	}
	if err := s.Store.ShapeConnection(ctx, sc, c, grants); err != nil {
		return nil, err
	}
	s.Connections.Forget(sc.Workspace(), c.Name)
	_, out, err := s.one(ctx, r.Connection)
	return api.ShapeConnection200JSONResponse(out), err
}

// ListCalls implements api.StrictServerInterface.
func (s *Server) ListCalls(ctx context.Context, r api.ListCallsRequestObject) (api.ListCallsResponseObject, error) {
	c, err := s.Store.Connection(ctx, scopeOf(ctx), r.Connection)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Calls(ctx, scopeOf(ctx), c.ID)
	out := api.ListCalls200JSONResponse{Calls: []api.Called{}}
	for _, k := range list {
		seconds, nanos := k.ID.Time().UnixTime()
		out.Calls = append(out.Calls, api.Called{At: time.Unix(seconds, nanos).UTC(), Method: k.Method, Address: k.Address, Status: k.Status, Failure: k.Failure, TookMs: k.TookMS, Run: k.Run})
	}
	return out, err
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
	s.Connections.Forget(scopeOf(ctx).Workspace(), r.Connection)
	return api.RemoveConnection204Response{}, s.Store.RemoveConnection(ctx, scopeOf(ctx), r.Connection)
}

// granted refuses a connection that the caller may not use.
func (s *Server) granted(ctx context.Context, c store.Connection, action string) error {
	sc := scopeOf(ctx)
	grants, err := s.Store.Grants(ctx, sc)
	if err != nil {
		return err
	}
	may, actions := sc.Use(c, grants)
	if !may || action != "" && actions != nil && !slices.Contains(actions, action) {
		return refuse(http.StatusForbidden, "not_granted", fmt.Sprintf("You may not use the connection %s for this. An administrator can grant it to you.", c.Name))
	}
	return nil
}

// ListChoices implements api.StrictServerInterface.
func (s *Server) ListChoices(ctx context.Context, r api.ListChoicesRequestObject) (api.ListChoicesResponseObject, error) {
	c, err := s.Store.Connection(ctx, scopeOf(ctx), r.Connection)
	if err != nil {
		return nil, err
	}
	if err := s.granted(ctx, c, ""); err != nil {
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
	options, why, err := s.Connections.Choices(ctx, scopeOf(ctx).Workspace(), r.Connection, r.List, input, strings.TrimSpace(or(r.Body.Search, "")))
	if err != nil {
		return nil, err
	}
	out := api.ListChoices200JSONResponse{WhyEmpty: why}
	if con, err := s.Documents.Find(ctx, scopeOf(ctx).Workspace(), c.Connector); err == nil && con.Choices[r.List] != nil {
		ch := con.Choices[r.List]
		out.Searches = given(ch.Search != "" || ch.Address != "")
	}
	out.Options = make([]struct {
		Id   api.Value `json:"id"`
		Name string    `json:"name"`
	}, len(options))
	for i, o := range options {
		out.Options[i].Id, out.Options[i].Name = raw(o.ID), o.Name
	}
	return out, nil
}

var addressForm = regexp.MustCompile(`^[a-zA-Z0-9.:\[\]_-]+:[0-9]{1,5}$`)

// ListAllowances implements api.StrictServerInterface.
func (s *Server) ListAllowances(ctx context.Context, _ api.ListAllowancesRequestObject) (api.ListAllowancesResponseObject, error) {
	list, err := s.Store.Allowances(ctx, scopeOf(ctx).Workspace())
	if list == nil {
		list = []string{}
	}
	return api.ListAllowances200JSONResponse{Addresses: list}, err
}

// SetAllowances implements api.StrictServerInterface.
func (s *Server) SetAllowances(ctx context.Context, r api.SetAllowancesRequestObject) (api.SetAllowancesResponseObject, error) {
	sc := scopeOf(ctx)
	for _, a := range r.Body.Addresses {
		if !addressForm.MatchString(a) {
			return nil, invalid("addresses", fmt.Sprintf("%q is not a host and port, as 10.0.0.5:8080", a))
		}
	}
	known, err := s.Store.Allowances(ctx, sc.Workspace())
	if err != nil {
		return nil, err
	}
	gone := slices.DeleteFunc(known, func(a string) bool { return slices.Contains(r.Body.Addresses, a) })
	if err := errors.Join(s.Store.Disallow(ctx, sc, gone...), s.Store.Allow(ctx, sc, r.Body.Addresses...)); err != nil {
		return nil, err
	}
	s.Connections.Client.Forget(sc.Workspace())
	return api.SetAllowances200JSONResponse{Addresses: r.Body.Addresses}, nil
}
