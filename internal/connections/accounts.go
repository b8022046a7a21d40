package connections

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// opened is a connection with its credentials, for a short while.
type opened struct {
	*outbound.Account
	id         uuid.UUID
	base       *url.URL
	parameters map[string]any
	connector  *connector.Connector
	version    int // of the token
	spacing    time.Duration
	parallel   int
	held       time.Time
	why        string
	until      time.Time // when its token is to be renewed; zero for never
}

type accountKey struct {
	workspace uuid.UUID
	name      string
}

// Forget drops a connection after it was changed.
func (s *Service) Forget(workspace uuid.UUID, name string) {
	s.accounts.Forget(accountKey{workspace, name})
	s.secrets.Forget(workspace)
}

func parked(name, format string, args ...any) error {
	return &call.Parked{Reason: call.ReasonConnection, Connection: name, Message: fmt.Sprintf("connection "+name+": "+format, args...)}
}

func (s *Service) open(ctx context.Context, workspace uuid.UUID, name string) (*opened, error) {
	if name == "" {
		return s.surrounded(ctx, &opened{Account: &outbound.Account{Workspace: workspace}, connector: &connector.Connector{}})
	}
	return s.accounts.Get(accountKey{workspace, name}, func() (*opened, error) { return s.reopen(ctx, workspace, name) })
}

func (s *Service) reopen(ctx context.Context, workspace uuid.UUID, name string) (*opened, error) {
	c, err := s.Store.ConnectionForRun(ctx, workspace, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &call.Parked{Reason: call.ReasonConnection, Connection: name, Message: fmt.Sprintf("there is no connection %q any more", name)}
	}
	if err != nil {
		return nil, err
	}
	switch c.State {
	case store.ConnectionBroken:
		return nil, parked(name, "%s", c.Said)
	case store.ConnectionConsent:
		return nil, parked(name, "nobody has signed in yet; open the consent page from the connection")
	case store.ConnectionConfirm:
		return nil, parked(name, "it is to be confirmed that %s is the right account", c.Said)
	}
	o, err := s.unseal(ctx, c, -1)
	if err != nil {
		return nil, s.breaks(ctx, &c, err)
	}
	return o, nil
}

// breaks marks a connection whose sign-in is over, and parks whoever needed it.
func (s *Service) breaks(ctx context.Context, c *store.Connection, err error) error {
	var over *broken
	if !errors.As(err, &over) {
		return err
	}
	defer s.Forget(c.Workspace, c.Name)
	if err := s.Store.MarkConnection(context.WithoutCancel(ctx), c.Workspace, c.Name, store.Health{State: store.ConnectionBroken, Said: over.why}); err != nil {
		s.Log.Warn("marking a connection", "error", err)
	}
	return parked(c.Name, "%s", over.why)
}

// unlocked opens a connection as far as it is known here, without a token; values
// are its secrets by name.
func (s *Service) unlocked(ctx context.Context, c *store.Connection) (*opened, map[string]string, error) {
	con, way, values, err := s.credentials(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	o := &opened{id: c.ID, parameters: c.Account, connector: con, spacing: con.Limits.Spacing, parallel: con.Limits.Parallel}
	o.Account = &outbound.Account{Workspace: c.Workspace, Name: c.Name, Title: con.Title, Pin: c.Pin, SignIn: way, Credentials: &connector.Credentials{Values: values}}
	if o.base, err = con.BaseURL(c.Account); err != nil {
		return nil, nil, parked(c.Name, "%v", err)
	}
	_, err = s.surrounded(ctx, o)
	return o, values, err
}

// unseal opens a connection. Stale is the version of a token that was refused,
// or -1.
func (s *Service) unseal(ctx context.Context, c store.Connection, stale int) (*opened, error) {
	o, values, err := s.unlocked(ctx, &c)
	if err != nil {
		return nil, err
	}
	way := o.SignIn
	if l := c.Limits; l != nil {
		o.spacing, o.parallel = 0, l.Parallel
		if l.Calls > 0 {
			o.spacing = time.Duration(l.Seconds * float64(time.Second) / float64(l.Calls))
		}
	}
	// A little slower than allowed: what was sent evenly may arrive unevenly.
	o.spacing += o.spacing / 32
	if o.spacing == 0 && o.parallel == 0 {
		if o.held, o.why, err = s.Store.HeldUntil(ctx, c.Workspace, c.ID); err != nil {
			return nil, err
		}
	}
	if way.Method == connector.OAuth2 {
		t, version, err := s.access(ctx, &c, way, values, stale)
		if err != nil {
			return nil, err
		}
		o.Credentials.Token, o.version = t.Access, version
		if !t.Expires.IsZero() {
			o.until = t.Expires.Add(-t.early())
		}
	}
	return o, nil
}

// refused words what the other side said of the credentials.
func (o *opened) refused(answer *call.Answer, err error) string {
	what := map[string]string{connector.OAuth2: "the sign-in was refused", connector.Basic: "the user name or password was refused", connector.Login: "the user name or password was refused", connector.Bearer: "the token was refused"}[o.SignIn.Method]
	if what == "" {
		what = "the key was refused"
	}
	if err != nil {
		return o.Hide(fmt.Sprintf("%s: %v", what, err))
	}
	if _, err := o.connector.ReadCheck(answer); err != nil {
		return o.Hide(fmt.Sprintf("%s: %d, %v", what, answer.Status, err))
	}
	return what
}
