package connections

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/oauth2"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/outbound"
	"youngtrellis/internal/store"
)

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

// Unconsented says why nobody was signed in by a consent page. Code is one of
// words.Consents.
type Unconsented struct {
	Code    string
	Failure error
}

func (u *Unconsented) Error() string { return u.Failure.Error() }
func (u *Unconsented) Unwrap() error { return u.Failure }

func unconsented(code, why string) error { return &Unconsented{code, &broken{why}} }

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
	defer s.Forget(c.Workspace, c.Name)
	err = s.exchange(ctx, &c, consent, r)
	var refused *broken
	if errors.As(err, &refused) {
		no := &Unconsented{Code: "refused", Failure: &call.Failure{Class: call.Refused, Message: refused.why}}
		var named *Unconsented
		if errors.As(err, &named) {
			no.Code = named.Code
		}
		switch c.State {
		case store.ConnectionOK: // what it had is as good as before, and whose account it is was said already
			return c.Name, no
		case store.ConnectionConsent:
			return c.Name, errors.Join(no, s.Store.MarkConnection(ctx, c.Workspace, c.Name, store.Health{State: c.State, Said: refused.why}))
		}
		return c.Name, errors.Join(no, s.Store.MarkConnection(ctx, c.Workspace, c.Name, store.Health{State: store.ConnectionBroken, Said: refused.why}))
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
		return unconsented("other", err.Error())
	}
	if e.Issuer != "" && r.Issuer != e.Issuer || e.Issuer == "" && r.Issuer != "" && !sameOrigin(r.Issuer, e.Authorize) {
		return unconsented("issuer", fmt.Sprintf("the answer came from %s, and %s signs in at another server; nothing was accepted", plainIssuer(r.Issuer), c.Name))
	}
	switch {
	case r.Error == "access_denied":
		return unconsented("denied", "consent was refused on the other side's page")
	case r.Error != "":
		return unconsented("answered", "the other side's page answered: "+words.Short(strings.TrimSpace(r.Error+" "+r.Description), 300))
	case r.Code == "":
		return unconsented("no_code", "the other side's page sent no code")
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
		now.State = store.ConnectionConfirm // with the token: no call may take it before a person said whose it is
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
