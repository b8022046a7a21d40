package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

// uses tells which workflows name each connection, in draft or live revision.
func (s *Server) uses(ctx context.Context, sc store.Scope) (map[string][]string, error) {
	return s.named(ctx, sc, func(o workflows.Outline) []string { return o.Connections })
}

// named tells which workflows name each of something, in draft or live revision.
func (s *Server) named(ctx context.Context, sc store.Scope, names func(workflows.Outline) []string) (map[string][]string, error) {
	list, err := s.Store.Texts(ctx, sc)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, w := range list {
		for _, text := range []string{w.Draft, w.Live} {
			for _, name := range names(s.Outlines.Of(text)) {
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
	return out
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
	c := store.Connection{ID: store.NewID(), Workspace: sc.Workspace(), Name: r.Body.Name, Connector: con.Name, Version: con.Version, Method: way.Called(), Hint: hint, State: begins(way)}
	if c.Account, c.Pin, c.TokenPin, err = account(con, way, r.Body.Account); err != nil {
		return nil, err
	}
	if c.Wanted, err = wanted(way, r.Body.Scopes); err != nil {
		return nil, err
	}
	if c.Secret, err = s.Connections.SealValues(ctx, &c, values); err != nil {
		return nil, err
	}
	if err := s.Store.AddConnection(ctx, sc, c); err != nil {
		if errors.Is(err, store.ErrTaken) {
			return nil, refuse(http.StatusConflict, "taken", fmt.Sprintf("There is a connection called %s already.", c.Name))
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
	if r.Body.Scopes != nil || c.Method != way.Called() {
		if c.Wanted, err = wanted(way, r.Body.Scopes); err != nil {
			return nil, err
		}
	}
	c.Hint, c.Method, c.Version, c.State = hint, way.Called(), con.Version, begins(way)
	if c.Secret, err = s.Connections.SealValues(ctx, &c, values); err != nil {
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
	c, err := s.Store.Connection(ctx, scopeOf(ctx), r.Connection)
	if err != nil {
		return nil, err
	}
	if err := s.granted(ctx, c, ""); err != nil { // a check is a call with the account's credentials
		return nil, err
	}
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
	sc := scopeOf(ctx)
	c, err := s.Store.Connection(ctx, sc, r.Connection)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Calls(ctx, sc, c.ID)
	out := api.ListCalls200JSONResponse{Calls: []api.Called{}}
	for _, k := range list {
		if !sc.SeesItems() { // paths, queries and refusals hold what came from items
			k.Address, k.Failure = originOf(k.Address), ""
		}
		seconds, nanos := k.ID.Time().UnixTime()
		out.Calls = append(out.Calls, api.Called{At: time.Unix(seconds, nanos).UTC(), Method: k.Method, Address: k.Address, Status: k.Status, Failure: k.Failure, TookMs: k.TookMS, Run: k.Run})
	}
	return out, err
}

// originOf leaves scheme and host of an address.
func originOf(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return ""
	}
	return u.Scheme + "://" + u.Host
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
	defer s.Connections.Forget(scopeOf(ctx).Workspace(), r.Connection)
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
