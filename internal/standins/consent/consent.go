// Package consent gives stand-ins an authorization server (RFC 6749, 7636,
// 9207). The server itself is a library's; only the page on which a person
// consents, and the faults, are ours.
package consent

import (
	"context"
	"errors"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/go-oauth2/oauth2/v4"
	oautherrors "github.com/go-oauth2/oauth2/v4/errors"
	"github.com/go-oauth2/oauth2/v4/manage"
	"github.com/go-oauth2/oauth2/v4/models"
	"github.com/go-oauth2/oauth2/v4/server"
	"github.com/go-oauth2/oauth2/v4/store"

	"youngtrellis/internal/standins"
)

// Server is the authorization server of one stand-in.
type Server struct {
	ID, Secret string // of the registered application
	Scopes     []Scope
	Person     string // who consents

	service *standins.Service
	manager *manage.Manager
	server  *server.Server
	mu      sync.Mutex
	lasts   time.Duration
	base    string
	granted int // refreshes so far
	cutoff  time.Time
}

// Scope that can be granted.
type Scope struct{ Name, Title string }

// New makes a server for one registered application. Tokens are kept in a file,
// or in memory where the path is empty.
func New(id, secret, person, path string, scopes ...Scope) (*Server, error) {
	s := &Server{ID: id, Secret: secret, Person: person, Scopes: scopes, lasts: time.Hour}
	s.manager = manage.NewDefaultManager()
	tokens, err := store.NewFileTokenStore(path)
	if path == "" {
		tokens, err = store.NewMemoryTokenStore()
	}
	if err != nil {
		return nil, err
	}
	s.manager.MapTokenStorage(tokens)
	clients := store.NewClientStore()
	if err := clients.Set(id, &models.Client{ID: id, Secret: secret, Domain: "loopback"}); err != nil {
		return nil, err
	}
	s.manager.MapClientStorage(clients)
	// An application on a person's machine may listen on any port of it (RFC 8252).
	s.manager.SetValidateURIHandler(func(_, redirect string) error {
		u, err := url.Parse(redirect)
		if err != nil || u.Hostname() != "127.0.0.1" && u.Hostname() != "localhost" {
			return oautherrors.ErrInvalidRedirectURI
		}
		return nil
	})
	s.manager.SetRefreshTokenCfg(&manage.RefreshingConfig{IsGenerateRefresh: true, IsRemoveAccess: true, IsRemoveRefreshing: true, IsResetRefreshTime: true, RefreshTokenExp: 30 * 24 * time.Hour})
	s.setLasts(time.Hour)
	cfg := server.NewConfig()
	cfg.AllowedResponseTypes = []oauth2.ResponseType{oauth2.Code}
	cfg.AllowedGrantTypes = []oauth2.GrantType{oauth2.AuthorizationCode, oauth2.Refreshing, oauth2.ClientCredentials}
	cfg.AllowedCodeChallengeMethods = []oauth2.CodeChallengeMethod{oauth2.CodeChallengeS256}
	cfg.ForcePKCE = true
	s.server = server.NewServer(cfg, s.manager)
	s.server.SetClientInfoHandler(func(r *http.Request) (string, string, error) {
		if id, secret, ok := r.BasicAuth(); ok {
			return id, secret, nil
		}
		return server.ClientFormHandler(r)
	})
	s.server.SetUserAuthorizationHandler(func(http.ResponseWriter, *http.Request) (string, error) { return person, nil })
	s.server.SetAuthorizeScopeHandler(func(_ http.ResponseWriter, r *http.Request) (string, error) { return r.FormValue("scope"), nil })
	s.server.SetRefreshingScopeHandler(func(*oauth2.TokenGenerateRequest, string) (bool, error) { return true, nil })
	return s, nil
}

// setLasts changes how long access tokens last from now on.
func (s *Server) setLasts(d time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lasts = d
	s.manager.SetAuthorizeCodeTokenCfg(&manage.Config{AccessTokenExp: d, RefreshTokenExp: 30 * 24 * time.Hour, IsGenerateRefresh: true})
	s.manager.SetClientTokenCfg(&manage.Config{AccessTokenExp: d})
	s.manager.SetRefreshTokenCfg(&manage.RefreshingConfig{AccessTokenExp: d, RefreshTokenExp: 30 * 24 * time.Hour, IsGenerateRefresh: true, IsRemoveAccess: true, IsRemoveRefreshing: true, IsResetRefreshTime: true})
}

// Lasts makes access tokens last so long from now on.
func (s *Server) Lasts(d time.Duration) { s.setLasts(d) }

// Expire ends every access token that was given so far.
func (s *Server) Expire() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cutoff = time.Now()
}

func (s *Server) expired(info oauth2.TokenInfo) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return info.GetAccessCreateAt().Before(s.cutoff)
}

// Refreshed tells how many tokens were refreshed.
func (s *Server) Refreshed() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.granted
}

// SetBase tells the address at which the stand-in is served: its issuer.
func (s *Server) SetBase(base string) { s.base = base }

// Mount serves the server with a stand-in.
func (s *Server) Mount(service *standins.Service) {
	s.service = service
	service.Engine.GET("/oauth/authorize", s.ask)
	service.Engine.POST("/oauth/authorize", s.decide)
	service.Engine.POST("/oauth/token", s.token)
}

// Check tells whether a call carries a good token, and which scopes it has.
func (s *Server) Check(c *standins.Call) (bool, string) {
	text, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if !ok {
		return false, "a bearer token is missing"
	}
	info, err := s.manager.LoadAccessToken(context.Background(), text)
	if err != nil || s.expired(info) {
		return false, "the access token has expired or is not known"
	}
	if s.service.Misbehaving().Revoked {
		return false, "the consent was withdrawn"
	}
	c.Scopes = info.GetScope()
	return true, ""
}

var page = template.Must(template.New("consent").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Name}}: consent</title>
<style>body{font:15px/1.5 system-ui,sans-serif;max-width:28rem;margin:4rem auto;padding:0 1rem;color:#23251f;background:#fbfaf6}button{font:inherit;padding:.4rem 1rem;margin-right:.6rem}</style>
<h1>{{.Name}}</h1><p>You are signed in as <b>{{.Person}}</b>.</p><p>An application that is registered here as <b>{{.Client}}</b> would like to:</p>
<ul>{{range .Scopes}}<li>{{.}}</li>{{else}}<li>know whose account this is</li>{{end}}</ul>
<form method="post"><button name="decision" value="allow">Allow</button><button name="decision" value="refuse">Refuse</button></form></html>`))

// ask shows the page on which a person consents.
func (s *Server) ask(c *gin.Context) {
	if _, err := s.server.ValidationAuthorizeRequest(c.Request); err != nil {
		c.String(http.StatusBadRequest, "This request to consent is not right: "+err.Error())
		return
	}
	if c.Query("client_id") != s.ID {
		c.String(http.StatusBadRequest, "No application with the client id "+c.Query("client_id")+" is registered here.")
		return
	}
	titles := []string{}
	for _, name := range strings.Fields(c.Query("scope")) {
		i := slices.IndexFunc(s.Scopes, func(x Scope) bool { return x.Name == name })
		if i < 0 {
			c.String(http.StatusBadRequest, "There is no scope "+name+" here.")
			return
		}
		titles = append(titles, s.Scopes[i].Title)
	}
	c.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; frame-ancestors 'none'")
	c.Header("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(c.Writer, gin.H{"Name": s.service.Name, "Person": s.Person, "Client": s.ID, "Scopes": titles})
}

// decide sends the browser back with a code, or with a refusal.
func (s *Server) decide(c *gin.Context) {
	redirect := c.Query("redirect_uri")
	if c.PostForm("decision") != "allow" {
		c.Redirect(http.StatusFound, redirect+"?"+url.Values{"error": {"access_denied"}, "state": {c.Query("state")}, "iss": {s.issuer()}}.Encode())
		return
	}
	w := &withIssuer{ResponseWriter: c.Writer, issuer: s.issuer()}
	if err := s.server.HandleAuthorizeRequest(w, c.Request); err != nil && !c.Writer.Written() {
		c.String(http.StatusBadRequest, err.Error())
	}
}

func (s *Server) issuer() string {
	if s.service.Misbehaving().Issuer {
		return "https://elsewhere.example"
	}
	return s.base
}

// withIssuer adds iss to the address that a browser is sent back to.
type withIssuer struct {
	gin.ResponseWriter
	issuer string
}

func (w *withIssuer) WriteHeader(status int) {
	if to, err := url.Parse(w.Header().Get("Location")); err == nil && w.Header().Get("Location") != "" {
		q := to.Query()
		q.Set("iss", w.issuer)
		to.RawQuery = q.Encode()
		w.Header().Set("Location", to.String())
	}
	w.ResponseWriter.WriteHeader(status)
	w.ResponseWriter.WriteHeaderNow()
}

func (s *Server) token(c *gin.Context) {
	if s.service.Misbehaving().Revoked && c.PostForm("grant_type") == "refresh_token" {
		c.JSON(http.StatusBadRequest, gin.H{"error": "invalid_grant", "error_description": "the consent was withdrawn"})
		return
	}
	if err := s.server.HandleTokenRequest(c.Writer, c.Request); err != nil && !errors.Is(err, http.ErrAbortHandler) {
		return
	}
	if c.PostForm("grant_type") == "refresh_token" && c.Writer.Status() == http.StatusOK {
		s.mu.Lock()
		s.granted++
		s.mu.Unlock()
	}
}
