package connections

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
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
	return t, json.Unmarshal(b, t)
}

func (s *Service) sealToken(ctx context.Context, c *store.Connection, t *token) error {
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

func randomText(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// BeginConsent prepares an authorization and gives the address of the consent
// page. Session is the cookie of the browser that will come back, or empty for
// the command line.
func (s *Service) BeginConsent(ctx context.Context, sc store.Scope, c store.Connection, session, redirect string, scopes []string) (string, error) {
	_, way, values, err := s.credentials(ctx, &c)
	if err != nil {
		return "", err
	}
	if way.Method != connector.OAuth2 || way.OAuth.Grant == connector.ClientCredentials {
		return "", fmt.Errorf("the connection %s is not signed in to through a consent page", c.Name)
	}
	if scopes != nil {
		c.Wanted = scopes
	}
	cfg, _, err := s.config(&c, way, values)
	if err != nil {
		return "", err
	}
	cfg.RedirectURL = redirect
	state, verifier := randomText(32), oauth2.GenerateVerifier()
	consent := store.Consent{ID: store.NewID(), Connection: c.ID, Redirect: redirect}
	if consent.Verifier, err = s.Vault.Seal(ctx, c.Workspace, "consent", "verifier", consent.ID, []byte(verifier)); err != nil {
		return "", err
	}
	if err := s.Store.BeginConsent(ctx, sc, state, session, consent); err != nil {
		return "", err
	}
	options := []oauth2.AuthCodeOption{oauth2.S256ChallengeOption(verifier)}
	for k, v := range way.OAuth.Extra {
		options = append(options, oauth2.SetAuthURLParam(k, v))
	}
	if sep := way.OAuth.Separator; sep != "" && len(c.Wanted) > 0 {
		cfg.Scopes = nil
		options = append(options, oauth2.SetAuthURLParam("scope", strings.Join(c.Wanted, sep)))
	}
	return cfg.AuthCodeURL(state, options...), nil
}

// Returned is what the consent page sent back.
type Returned struct{ State, Code, Error, Description, Issuer string }

// ErrState says that an authorization is not one that was begun here.
var ErrState = errors.New("this sign-in was not begun here, was used already, or is older than ten minutes; begin it again from the connection")

// FinishConsent takes what the consent page sent back, stores the tokens, and
// asks whose account it is. The connection is active only once a person has
// confirmed that.
func (s *Service) FinishConsent(ctx context.Context, sc store.Scope, session string, r Returned) (name string, err error) {
	consent, err := s.Store.TakeConsent(ctx, sc, r.State, session)
	if errors.Is(err, store.ErrNotFound) {
		return "", ErrState
	}
	if err != nil {
		return "", err
	}
	c, err := s.Store.Connection(ctx, sc, consent.Name)
	if err != nil {
		return "", err
	}
	err = s.exchange(ctx, &c, consent, r)
	s.Forget(c.Workspace, c.Name)
	var refused *broken
	if errors.As(err, &refused) {
		state := store.ConnectionBroken
		if c.State == store.ConnectionConsent || c.State == store.ConnectionOK {
			state = c.State // what it had is as good or bad as before
		}
		return c.Name, errors.Join(&call.Failure{Class: call.Refused, Message: refused.why}, s.Store.MarkConnection(ctx, c.Workspace, c.Name, store.Health{State: state, Said: refused.why}))
	}
	if err != nil {
		return c.Name, err
	}
	if c, err = s.Store.Connection(ctx, sc, consent.Name); err != nil {
		return consent.Name, err
	}
	c.State = store.ConnectionConfirm
	if err := s.Store.MarkConnection(ctx, c.Workspace, c.Name, store.Health{State: store.ConnectionConfirm}); err != nil {
		return c.Name, err
	}
	_, err = s.Check(ctx, c)
	return c.Name, err
}

func (s *Service) exchange(ctx context.Context, c *store.Connection, consent store.Consent, r Returned) error {
	_, way, values, err := s.credentials(ctx, c)
	if err != nil {
		return err
	}
	cfg, e, err := s.config(c, way, values)
	if err != nil {
		return &broken{err.Error()}
	}
	if e.Issuer != "" && r.Issuer != e.Issuer || e.Issuer == "" && r.Issuer != "" && !sameOrigin(r.Issuer, e.Authorize) {
		return &broken{fmt.Sprintf("the answer came from %s, and %s signs in at another server; nothing was accepted", plainIssuer(r.Issuer), c.Name)}
	}
	switch {
	case r.Error == "access_denied":
		return &broken{"consent was refused on the other side's page"}
	case r.Error != "":
		return &broken{"the other side's page answered: " + strings.TrimSpace(r.Error+" "+r.Description)}
	case r.Code == "":
		return &broken{"the other side's page sent no code"}
	}
	verifier, err := s.Vault.Unseal(ctx, c.Workspace, "consent", "verifier", consent.ID, consent.Verifier)
	if err != nil {
		return err
	}
	cfg.RedirectURL = consent.Redirect
	ctx = context.WithValue(ctx, oauth2.HTTPClient, s.Client.HTTP(c.Workspace, c.TokenPin))
	t, err := cfg.Exchange(ctx, r.Code, oauth2.VerifierOption(string(verifier)))
	if err != nil {
		return s.tokenFailure(err, c, "the code was refused: it was used already or is too old; sign in again", secretsOf(values, nil).With(r.Code))
	}
	return s.Store.Exclusively(ctx, c.Workspace, c.ID, func(now store.Connection) (*store.Connection, error) {
		return &now, s.sealToken(ctx, &now, newToken(t, "", strings.Join(c.Wanted, " ")))
	})
}

func plainIssuer(s string) string {
	if s == "" {
		return "a server that does not name itself"
	}
	return s
}

func sameOrigin(a, b string) bool {
	u, err1 := url.Parse(a)
	v, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && outbound.Origin(u) == outbound.Origin(v)
}

// Scopes lists what is asked for unless a person chooses.
func Scopes(o *connector.OAuth, chosen []string) ([]string, error) {
	var out, known []string
	for _, s := range o.Scopes {
		known = append(known, s.Name)
		if s.Always || chosen == nil || slices.Contains(chosen, s.Name) {
			out = append(out, s.Name)
		}
	}
	for _, s := range chosen {
		if !slices.Contains(known, s) {
			return nil, fmt.Errorf("there is no scope %q; there are %s", s, strings.Join(known, ", "))
		}
	}
	return out, nil
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
	values := map[string]string{}
	return con, way, values, json.Unmarshal(b, &values)
}

// SealValues encrypts what a person entered, for a connection's row.
func (s *Service) SealValues(ctx context.Context, workspace, id uuid.UUID, values map[string]string) ([]byte, error) {
	b, err := json.Marshal(values)
	if err != nil {
		return nil, err
	}
	return s.Vault.Seal(ctx, workspace, "connection", "secret", id, b)
}
