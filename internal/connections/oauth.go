package connections

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

// token is what an authorization server gave, as it is sealed.
type token struct {
	Access  string    `json:"access"`
	Refresh string    `json:"refresh,omitempty"`
	Issued  time.Time `json:"issued,omitzero"`
	Expires time.Time `json:"expires,omitzero"`
	Scope   string    `json:"scope,omitempty"`
	For     string    `json:"for"` // boundTo
}

// early is how long before its end a token is refreshed: a minute, and for one
// that does not last long a quarter of its life.
func (t *token) early() time.Duration { return min(time.Minute, t.Expires.Sub(t.Issued)/4) }

func (t *token) good() bool {
	return t != nil && t.Access != "" && (t.Expires.IsZero() || time.Until(t.Expires) > t.early())
}

// config makes the library's view of an authorization server.
func (s *Service) config(c *store.Connection, way *connector.SignIn, values map[string]string) (*oauth2.Config, connector.Endpoints, error) {
	e, err := way.OAuth.Endpoints(c.Account)
	if err != nil {
		return nil, e, err
	}
	u, err := url.Parse(e.Token)
	if err != nil {
		return nil, e, err
	}
	if outbound.Origin(u) != c.TokenPin {
		return nil, e, fmt.Errorf("the authorization server is now %s, and the client secret of %s may only go to %s; enter it again", outbound.Origin(u), c.Name, c.TokenPin)
	}
	style := oauth2.AuthStyleInHeader
	if way.OAuth.Client == "body" || values["secret"] == "" {
		style = oauth2.AuthStyleInParams
	}
	return &oauth2.Config{ClientID: values["client_id"], ClientSecret: values["secret"], Scopes: c.Wanted, Endpoint: oauth2.Endpoint{AuthURL: e.Authorize, TokenURL: e.Token, AuthStyle: style}}, e, nil
}

// access gives an access token that is good for a while, refreshing it where it
// is not. Stale is the version that was found to be no good, or -1.
func (s *Service) access(ctx context.Context, c *store.Connection, way *connector.SignIn, values map[string]string, stale int) (*token, int, error) {
	known, err := s.openToken(ctx, c)
	if err != nil {
		return nil, 0, err
	}
	if known.good() && c.TokenVersion != stale {
		return known, c.TokenVersion, nil
	}
	type result struct {
		t *token
		v int
	}
	v, err, _ := s.refreshing.Do(c.ID.String(), func() (any, error) {
		var r result
		// Whoever waits for the answer may go; a rotated token must be kept all the same.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
		defer cancel()
		err := s.Store.Exclusively(ctx, c.Workspace, c.ID, func(now store.Connection) (*store.Connection, error) {
			current, err := s.openToken(ctx, &now)
			if err != nil {
				return nil, err
			}
			if current.good() && now.TokenVersion != stale {
				r = result{current, now.TokenVersion} // another node was faster
				return nil, nil
			}
			fresh, err := s.fetchToken(ctx, &now, way, values, current)
			if err != nil {
				return nil, err
			}
			r = result{fresh, now.TokenVersion + 1}
			return &now, s.sealToken(ctx, &now, fresh)
		})
		return r, err
	})
	if err != nil {
		return nil, 0, err
	}
	r := v.(result)
	return r.t, r.v, nil
}

func (s *Service) openToken(ctx context.Context, c *store.Connection) (*token, error) {
	if c.Token == nil {
		return nil, nil
	}
	b, err := s.Vault.Unseal(ctx, c.Workspace, "connection", "token", c.ID, c.Token)
	if err != nil {
		return nil, err
	}
	t := &token{}
	if err := json.Unmarshal(b, t); err != nil {
		return nil, err
	}
	if t.For != boundTo(c) {
		return nil, errMoved
	}
	return t, nil
}

func (s *Service) sealToken(ctx context.Context, c *store.Connection, t *token) error {
	t.For = boundTo(c)
	b, err := json.Marshal(t)
	if err != nil {
		return err
	}
	c.TokenExpires, c.Scopes = nil, nil
	if !t.Expires.IsZero() {
		c.TokenExpires = &t.Expires
	}
	if t.Scope != "" {
		c.Scopes = strings.Fields(strings.ReplaceAll(t.Scope, ",", " "))
	}
	c.Token, err = s.Vault.Seal(ctx, c.Workspace, "connection", "token", c.ID, b)
	return err
}

// broken says that a sign-in has to be mended by a person.
type broken struct{ why string }

func (b *broken) Error() string { return b.why }

func (s *Service) fetchToken(ctx context.Context, c *store.Connection, way *connector.SignIn, values map[string]string, known *token) (*token, error) {
	cfg, e, err := s.config(c, way, values)
	if err != nil {
		return nil, &broken{err.Error()}
	}
	ctx = context.WithValue(ctx, oauth2.HTTPClient, s.Client.HTTP(c.Workspace, c.TokenPin))
	if way.OAuth.Grant == connector.ClientCredentials {
		cc := &clientcredentials.Config{ClientID: cfg.ClientID, ClientSecret: cfg.ClientSecret, TokenURL: e.Token, Scopes: c.Wanted, AuthStyle: cfg.Endpoint.AuthStyle}
		t, err := cc.Token(ctx)
		if err != nil {
			return nil, s.tokenFailure(err, c, "", secretsOf(values, known))
		}
		return newToken(t, "", ""), nil
	}
	if known == nil {
		return nil, &broken{"nobody has signed in yet; open the consent page from the connection"}
	}
	if known.Refresh == "" {
		return nil, &broken{"the sign-in has expired, and the other side gave no way to renew it; sign in again"}
	}
	t, err := cfg.TokenSource(ctx, &oauth2.Token{RefreshToken: known.Refresh}).Token()
	if err != nil {
		return nil, s.tokenFailure(err, c, "consent was withdrawn or has expired; sign in again", secretsOf(values, known))
	}
	return newToken(t, known.Refresh, known.Scope), nil
}

func newToken(t *oauth2.Token, refresh, scope string) *token {
	out := &token{Access: t.AccessToken, Refresh: t.RefreshToken, Issued: time.Now().UTC(), Expires: t.Expiry.UTC(), Scope: scope}
	if out.Refresh == "" {
		out.Refresh = refresh
	}
	if s, ok := t.Extra("scope").(string); ok && s != "" {
		out.Scope = s
	}
	return out
}

// tokenFailure tells a sign-in that is over from a server that cannot be asked.
func (s *Service) tokenFailure(err error, c *store.Connection, withdrawn string, secrets *call.Secrets) error {
	var no *oauth2.RetrieveError
	if !errors.As(err, &no) {
		if errors.Is(err, outbound.ErrForbidden) {
			return &call.Failure{Class: call.BadInput, Message: tokenGuarded + outbound.ErrForbidden.Error()}
		}
		return &call.Failure{Class: call.NotSent, Retryable: true, Message: fmt.Sprintf("the authorization server of %s cannot be reached at %s", c.Name, c.TokenPin)}
	}
	said := no.ErrorDescription
	if said == "" {
		said = no.ErrorCode
	}
	said = secrets.Mask(item.StorableText(said))
	switch {
	case no.Response.StatusCode >= 500 || no.Response.StatusCode == 429:
		return &call.Failure{Class: call.NotSent, Retryable: true, Status: no.Response.StatusCode, Message: fmt.Sprintf("the authorization server of %s answered %d", c.Name, no.Response.StatusCode)}
	case no.ErrorCode == "invalid_grant" && withdrawn != "":
		return &broken{fmt.Sprintf("%s (it answered: %s)", withdrawn, said)}
	case no.ErrorCode == "invalid_client", no.ErrorCode == "unauthorized_client", no.Response.StatusCode == 401:
		return &broken{fmt.Sprintf("the client id or the client secret was refused (it answered: %s)", said)}
	}
	return &broken{fmt.Sprintf("the authorization server refused: %s", said)}
}

// secretsOf are what an authorization server may echo.
func secretsOf(values map[string]string, t *token) *call.Secrets {
	secrets := call.NewSecrets(values["secret"])
	if t != nil {
		secrets = secrets.With(t.Access, t.Refresh)
	}
	return secrets
}

// credentials opens what a person entered for a connection.
func (s *Service) credentials(ctx context.Context, c *store.Connection) (*connector.Connector, *connector.SignIn, map[string]string, error) {
	con, err := s.Documents.Find(ctx, c.Workspace, c.Connector)
	if err != nil {
		return nil, nil, nil, &call.Parked{Reason: call.ReasonConnection, Connection: c.Name, Message: fmt.Sprintf("connection %s: %v", c.Name, err)}
	}
	way, ok := con.Way(c.Method)
	if !ok {
		return nil, nil, nil, &call.Parked{Reason: call.ReasonConnection, Connection: c.Name, Message: fmt.Sprintf("connection %s: %s is not signed in to by %s any more; enter its secret again", c.Name, con.Title, c.Method)}
	}
	b, err := s.Vault.Unseal(ctx, c.Workspace, "connection", "secret", c.ID, c.Secret)
	if err != nil {
		return nil, nil, nil, &call.Parked{Reason: call.ReasonConnection, Connection: c.Name, Message: fmt.Sprintf("connection %s: %v", c.Name, err)}
	}
	var kept entered
	if err := json.Unmarshal(b, &kept); err != nil {
		return nil, nil, nil, err
	}
	if kept.For != boundTo(c) {
		return nil, nil, nil, &call.Parked{Reason: call.ReasonConnection, Connection: c.Name, Message: fmt.Sprintf("connection %s: %v", c.Name, errMoved)}
	}
	return con, way, kept.Values, nil
}

// entered is what is sealed of what a person entered: where it may go and as whose is
// sealed with it, so that whoever can write into the database cannot send it elsewhere.
type entered struct {
	Values map[string]string `json:"values"`
	For    string            `json:"for"`
}

var errMoved = errors.New("its address or its account was changed where it is stored, and not here; what was entered is used nowhere else: enter it again")

// boundTo is what a connection's secrets are bound to: the application, the sign-in,
// the addresses they may go to, and the account.
func boundTo(c *store.Connection) string {
	account := map[string]any{}
	if b, err := json.Marshal(c.Account); err == nil {
		_ = json.Unmarshal(b, &account) // as it comes out of the database
	}
	b, _ := json.Marshal([]any{c.Connector, c.Method, c.Pin, c.TokenPin, account})
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// SealValues encrypts what a person entered for a connection, bound to what else is
// said of it.
func (s *Service) SealValues(ctx context.Context, c *store.Connection, values map[string]string) ([]byte, error) {
	b, err := json.Marshal(entered{values, boundTo(c)})
	if err != nil {
		return nil, err
	}
	return s.Vault.Seal(ctx, c.Workspace, "connection", "secret", c.ID, b)
}

// Holds tells whether a connection has these secrets. One that cannot be opened has none.
func (s *Service) Holds(ctx context.Context, c *store.Connection, values map[string]string) bool {
	_, _, known, err := s.credentials(ctx, c)
	if err != nil || len(known) != len(values) {
		return false
	}
	same := 1
	for name, v := range values {
		same &= subtle.ConstantTimeCompare([]byte(known[name]), []byte(v))
	}
	return same == 1
}
