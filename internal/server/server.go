// Package server is the HTTP surface: the API by its contract, the public
// addresses of webhooks, and the console. It translates; no rule of the job
// lives here.
package server

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"youngtrellis/api"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/files"
	"youngtrellis/internal/intake"
	"youngtrellis/internal/kept"
	"youngtrellis/internal/node"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/signin"
	"youngtrellis/internal/store"
	"youngtrellis/internal/vault"
	"youngtrellis/internal/workflows"
)

// Config of the HTTP surface.
type Config struct {
	PublicURL string // from which links are built, never from Host
	PagesURL  string // where hosted pages and webhooks are, at a host name of their own; "": at the public one
	Console   fs.FS
	Proxies   []netip.Prefix // that are trusted to say who called
	HookRate  int            // calls a second that one caller, and one address, may make; 0: 2000
	Log       *slog.Logger
}

// Server answers HTTP.
type Server struct {
	Config
	Store       *store.Store
	Vault       *vault.Vault
	Node        *node.Node
	Intake      *intake.Intake
	Files       *files.Files
	Documents   *connections.Documents
	Connections *connections.Service
	Plans       *workflows.Plans
	Lattices    *runs.Lattices
	Outlines    *workflows.Outlines
	Runs        *runs.Reader
	Recordings  *runs.Recordings
	Planner     *runs.Planner
	Mender      *runs.Mender
	Events      *runs.Events

	spec     *openapi3.T
	router   routers.Router
	public   *url.URL
	engine   http.Handler
	pages    string // host name of the pages; "" where they have none of their own
	limiters *limiters
	signIn   *signin.Service
	origins  *http.CrossOriginProtection
	assets   *assets

	forwarded atomic.Bool // calls came through a proxy, and none is trusted
}

type scopeKey struct{}

// scopeOf gives the authenticated scope of a call; the contract's middleware
// has put it there.
func scopeOf(ctx context.Context) store.Scope {
	sc, _ := ctx.Value(scopeKey{}).(store.Scope)
	return sc
}

// Handler builds the whole surface.
func (s *Server) Handler() (http.Handler, error) {
	var err error
	if s.public, err = url.Parse(s.PublicURL); err != nil || s.public.Host == "" {
		return nil, fmt.Errorf("the public address %q is not an address; write it as https://trellis.example", s.PublicURL)
	}
	if s.PagesURL != "" {
		at, err := url.Parse(s.PagesURL)
		if err != nil || at.Hostname() == "" {
			return nil, fmt.Errorf("the address of the pages %q is not an address; write it as https://pages.example", s.PagesURL)
		}
		s.pages = at.Hostname()
	}
	if s.spec, err = api.GetSpec(); err != nil {
		return nil, err
	}
	s.spec.Servers = openapi3.Servers{{URL: "/api/v1"}}
	if s.router, err = gorillamux.NewRouter(s.spec); err != nil {
		return nil, err
	}
	s.limiters = newLimiters(s.HookRate)
	s.signIn = &signin.Service{Store: s.Store, Guard: signin.NewGuard(time.Now)}
	s.origins = http.NewCrossOriginProtection()
	if err := s.origins.AddTrustedOrigin(s.public.Scheme + "://" + s.public.Host); err != nil {
		return nil, err
	}
	s.assets = &assets{files: s.Console}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	s.engine = r
	r.HandleMethodNotAllowed = true
	r.ContextWithFallback = true // handlers find the scope and the deadline of the request
	r.Use(s.recovered, s.logged, s.headed, s.hosted, s.addressed)
	strict := api.NewStrictHandlerWithOptions(s, []api.StrictMiddlewareFunc{wholeAnswers}, api.StrictGinServerOptions{
		RequestErrorHandlerFunc: func(c *gin.Context, err error) {
			var text *item.TextError
			if errors.As(err, &text) {
				err = text
			}
			write(c, refuse(http.StatusBadRequest, "invalid_request", "The request cannot be read: "+err.Error()))
		},
		HandlerErrorFunc:         s.fail,
		ResponseErrorHandlerFunc: func(c *gin.Context, err error) { s.Log.Debug("an answer was not taken whole", "error", err) },
	})
	group := r.Group("/api/v1", s.contract)
	api.RegisterHandlersWithOptions(group, strict, api.GinServerOptions{ErrorHandler: func(c *gin.Context, err error, status int) {
		write(c, refuse(status, "invalid_request", err.Error()))
	}})
	r.GET("/api/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", api.Contract) })
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
		r.Handle(method, "/hooks/:address", s.hook)
	}
	r.GET("/forms/:address", s.openForm)
	r.POST("/forms/:address", s.fillForm)
	r.GET("/forms/:address/sent", s.formSent)
	r.GET("/answers/:token", s.answered)
	r.GET("/pages/*name", s.pageAsset)
	r.POST("/callbacks/:token", s.callback)
	r.GET("/oauth/callback", s.consented)
	r.GET("/healthz", func(c *gin.Context) {
		if err := s.Store.Ping(c.Request.Context()); err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusOK, gin.H{"status": "ok"})
	})
	r.NoMethod(func(c *gin.Context) {
		write(c, refuse(http.StatusMethodNotAllowed, "method", "This address does not take "+c.Request.Method+"."))
	})
	r.NoRoute(s.console)
	return r, nil
}

func (s *Server) recovered(c *gin.Context) {
	defer func() {
		if v := recover(); v != nil {
			s.Log.Error("a handler broke", "route", c.FullPath(), "panic", fmt.Sprint(v))
			write(c, refuse(http.StatusInternalServerError, "internal", "Something went wrong here. It is in the service's log."))
		}
	}()
	c.Next()
}

// logged writes one line a call: the route's pattern, never path or query.
func (s *Server) logged(c *gin.Context) {
	began := time.Now()
	c.Next()
	s.Log.Debug("call", "method", c.Request.Method, "route", c.FullPath(), "status", c.Writer.Status(), "took", time.Since(began))
}

// hosted refuses names that are not ours, so that a foreign page cannot reach
// a loopback service under its own name.
func (s *Server) hosted(c *gin.Context) {
	host := c.Request.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	if s.pages != "" && (host == s.pages) != isForeign(c.Request.URL.Path) {
		at := s.PublicURL
		if host != s.pages {
			at = s.PagesURL
		}
		write(c, refuse(http.StatusMisdirectedRequest, "host", "This is not found by this name, but at "+at+"."))
		return
	}
	if host != s.pages && host != s.public.Hostname() && host != "localhost" && host != "127.0.0.1" && host != "[::1]" && host != "::1" {
		write(c, refuse(http.StatusMisdirectedRequest, "host", "This service is not called by this name."))
	}
}

// contract authenticates a call, checks its permission and validates it.
func (s *Server) contract(c *gin.Context) {
	route, params, err := s.router.FindRoute(c.Request)
	if err != nil {
		write(c, refuse(http.StatusNotFound, "not_found", "There is no such operation."))
		return
	}
	needs, _ := route.Operation.Extensions["x-permission"].(string)
	if needs == "" {
		write(c, refuse(http.StatusForbidden, "forbidden", "This operation names no permission."))
		return
	}
	s.met(c)
	if c.Query("token") != "" || c.Query("access_token") != "" {
		write(c, refuse(http.StatusBadRequest, "token_in_query", "A token in an address is seen in logs. Send it as Authorization: Bearer."))
		return
	}
	of := asks{role: store.Role(needs)}
	of.nobody, _ = route.Operation.Extensions["x-nobody"].(bool)
	of.items, _ = route.Operation.Extensions["x-items"].(bool)
	by, most := byNothing, int64(unprovenBody)
	if needs != "public" {
		var ok bool
		if by, ok = s.authenticate(c, of); !ok {
			return
		}
		most = 32 << 20
	}
	if !s.sameOrigin(c, by) {
		return
	}
	upload := by != byNothing && c.ContentType() == "application/octet-stream"
	if upload {
		most = item.MaxFile
		// A file takes as long as it takes.
		_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(time.Hour))
		patient(c.Writer, time.Hour)
	}
	if c.Request.ContentLength > most { // nothing of it is read
		c.Header("Connection", "close")
		write(c, refuse(http.StatusRequestEntityTooLarge, "too_large", "This takes at most "+item.Bytes(most)+"."))
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, most)
	if !upload {
		c.Request.Body = incoming{item.Incoming(c.Request.Body), c.Request.Body}
	}
	looked := c.Request
	if upload { // the validator would read the whole file into memory
		looked = c.Request.Clone(c.Request.Context())
		looked.Body = http.NoBody
	}
	err = openapi3filter.ValidateRequest(c.Request.Context(), &openapi3filter.RequestValidationInput{
		Request: looked, PathParams: params, Route: route,
		// A long body is items; it is read and checked one by one by its handler.
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, ExcludeRequestBody: upload || c.Request.ContentLength > 1<<20},
	})
	var text *item.TextError
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &text):
		write(c, refuse(http.StatusBadRequest, "text", words.Sentence(text.Error())))
	case errors.As(err, &large):
		write(c, refuse(http.StatusRequestEntityTooLarge, "too_large", "This takes at most "+item.Bytes(most)+"."))
	case err != nil:
		write(c, refuse(http.StatusBadRequest, "invalid_request", "The request does not fit the contract: "+firstLine(err.Error())))
	}
}

// incoming is a body whose text is looked at while it is read.
type incoming struct {
	io.Reader
	io.Closer
}

// headed gives every answer its headers: nothing is guessed about it, nothing of the
// API's is kept on the way or embedded elsewhere (RFC 9111, RFC 6797).
func (s *Server) headed(c *gin.Context) {
	patient(c.Writer, answerPatience)
	h := c.Writer.Header()
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Young-Trellis", "1") // by which the command line knows who answers
	}
	h.Set("X-Content-Type-Options", "nosniff")
	if s.public.Scheme == "https" {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	h.Set("Referrer-Policy", "no-referrer")
}

// addressed refuses addresses that hold what is no text, wherever they lead.
func (s *Server) addressed(c *gin.Context) {
	query, err := url.ParseQuery(c.Request.URL.RawQuery)
	if err == nil {
		err = item.CheckText(c.Request.URL.Path)
	}
	for name, values := range query {
		for _, text := range append(values, name) {
			if err == nil {
				err = item.CheckText(text)
			}
		}
	}
	if err != nil {
		write(c, refuse(http.StatusBadRequest, "text", "The address cannot be read: "+err.Error()+"."))
	}
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\nSchema:")
	return strings.ReplaceAll(strings.TrimSpace(s), "\n", " ")
}

// unprovenBody is the most, in bytes, that is read of somebody who has not proved
// who they are.
const unprovenBody = 1 << 20

// consolePolicy is that of the console. A page's own style elements, which are made
// while it runs, carry the nonce that is put in here and into the page.
const consolePolicy = "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-STYLE_NONCE'; img-src 'self' data:; font-src 'self'; connect-src 'self'; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'"

// styleNonce stands in the page and its policy for what is made for each answer.
const styleNonce = "STYLE_NONCE"

// console serves the built pages; every address that is not a file is the
// console's own.
func (s *Server) console(c *gin.Context) {
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		write(c, refuse(http.StatusNotFound, "not_found", "There is nothing at this address."))
		return
	}
	h, nonce := c.Writer.Header(), rand.Text()
	h.Set("Content-Security-Policy", strings.Replace(consolePolicy, styleNonce, nonce, 1))
	h.Set("Referrer-Policy", "same-origin")
	path := strings.TrimPrefix(c.Request.URL.Path, "/")
	if strings.HasPrefix(path, "api/") || strings.HasPrefix(path, "hooks/") || strings.HasPrefix(path, "callbacks/") || strings.HasPrefix(path, "oauth/") {
		write(c, refuse(http.StatusNotFound, "not_found", "There is nothing at this address."))
		return
	}
	f := s.assets.find(path)
	if strings.HasPrefix(path, "assets/") && f != nil {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		h.Set("Cache-Control", "no-cache")
	}
	if f != nil && path != "index.html" {
		f.write(c.Writer, c.Request)
		return
	}
	if f = s.assets.find("index.html"); f == nil {
		c.String(http.StatusNotFound, "The console is not part of this build. Make it with: make console\n")
		return
	}
	// Made for this answer alone: nobody keeps it, and its nonce is not used again.
	h.Set("Cache-Control", "no-store")
	c.Data(http.StatusOK, f.kind, bytes.Replace(f.plain, []byte(styleNonce), []byte(nonce), 1))
}

// HTTP gives a server with bounded times and sizes.
func HTTP(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 60 * time.Second, IdleTimeout: 120 * time.Second, MaxHeaderBytes: 64 << 10}
}

// limiters bound webhook calls by caller and by address called, so that one flood
// neither fills the queue nor delays others.
type limiters struct {
	caller, called *kept.Rates
	opened, filled *kept.Rates // forms, by caller
	reading        *kept.Rates // by person, what costs a second: imports and checks of whole documents
	readingOf      *kept.Rates // the same by workspace
	streams        *counted
	documents      *semaphore.Weighted // of these, one at a time
}

// Bounds of what one person, and one workspace, may ask for.
const (
	readingPart    = 32 << 10 // bytes of a document that count as one
	readingRate    = 4        // of these in a second
	readingBurst   = 100
	mostStreams    = 20 // of one person
	mostOfAddress  = 256
	mostOfOurs     = 4096 // from this machine, where a proxy may stand
	answerPatience = 10 * time.Minute
	eventPatience  = 30 * time.Second
)

// DefaultHookRate is how many webhook calls a second one caller may make, and
// one address may take, unless it is set. Ten seconds' worth may come at once. Of forms
// it is a hundredth that one caller may open, and a thousandth that it may fill in.
const DefaultHookRate = 2000

func newLimiters(hooks int) *limiters {
	if hooks == 0 {
		hooks = DefaultHookRate
	}
	return &limiters{reading: kept.NewRates(readingRate, readingBurst), readingOf: kept.NewRates(2*readingRate, 2*readingBurst), streams: &counted{most: mostStreams}, documents: semaphore.NewWeighted(1), caller: kept.NewRates(rate.Limit(hooks), 10*hooks), called: kept.NewRates(rate.Limit(hooks), 10*hooks),
		opened: kept.NewRates(rate.Limit(hooks)/100, max(1, hooks/10)), filled: kept.NewRates(rate.Limit(hooks)/1000, max(1, hooks/50))}
}
