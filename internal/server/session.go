package server

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"youngtrellis/internal/store"
)

// Cookies of a browser: its session, and what its device is known by.
const (
	sessionCookie = "trellis"
	deviceCookie  = "trellis-device"
)

// proof is what a caller is known by. Only a token is something that a browser
// never sends by itself.
type proof int

const (
	byNothing proof = iota
	byCookie
	byToken
)

// caller is who called, beside the scope of what they may see.
type caller struct {
	address string // the IP address
	session string // the cookie by which they were found, or that came with a sign-in
	device  string
	cookies http.Header // of the answer
	writer  http.ResponseWriter
}

type callerKey struct{}

func callerOf(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c
}

// writerOf gives what the answer of a call is written to.
func writerOf(ctx context.Context) http.ResponseWriter { return callerOf(ctx).writer }

// sessionOf gives the session by which a caller was found; empty for a token.
func sessionOf(ctx context.Context) string { return callerOf(ctx).session }

// asks is what an operation asks of its caller, as the contract says.
type asks struct {
	role   store.Role // x-permission
	items  bool       // x-items: what items hold is seen
	nobody bool       // x-nobody: it answers nobody, too
}

// met remembers who called, before it is known whether they may.
func (s *Server) met(c *gin.Context) {
	from := caller{address: s.clientAddress(c.Request), cookies: c.Writer.Header(), writer: c.Writer}
	from.device, _ = c.Cookie(s.cookie(deviceCookie))
	from.session, _ = c.Cookie(s.cookie(sessionCookie))
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), callerKey{}, from))
}

// authenticate finds the caller's scope, and by what: by API token, else by
// cookie. A page that asks who it is may be nobody's.
func (s *Server) authenticate(c *gin.Context, a asks) (by proof, ok bool) {
	var sc store.Scope
	err := store.ErrNotFound
	ctx := c.Request.Context()
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		by = byToken
		sc, err = s.Store.ScopeOfToken(ctx, strings.TrimSpace(token))
		from := callerOf(ctx)
		from.session = ""
		ctx = context.WithValue(ctx, callerKey{}, from)
	} else if cookie := sessionOf(ctx); cookie != "" {
		by = byCookie
		sc, err = s.Store.ScopeOfSession(ctx, cookie)
	}
	if store.IsUnavailable(err) {
		s.fail(c, err)
		return by, false
	}
	if err != nil && a.nobody && by != byToken {
		c.AbortWithStatus(http.StatusNoContent)
		return by, false
	}
	if err != nil {
		write(c, refuse(http.StatusUnauthorized, "sign_in", "Sign in first: in the console, or with trellis login."))
		return by, false
	}
	if !sc.Role().Covers(a.role) {
		write(c, refuse(http.StatusForbidden, "forbidden", fmt.Sprintf("This needs the role %s; you are %s here.", a.role, sc.Role())))
		return by, false
	}
	if a.items && !sc.SeesItems() {
		write(c, refuse(http.StatusForbidden, "no_items", "This shows what items hold. A viewer sees that once an administrator has granted it."))
		return by, false
	}
	c.Request = c.Request.WithContext(context.WithValue(ctx, scopeKey{}, sc))
	return by, true
}

// sameOrigin lets only our own pages act with what a browser sends by itself. A
// sign-in is one of these acts: another page must not sign somebody in as somebody
// else.
func (s *Server) sameOrigin(c *gin.Context, by proof) bool {
	if by == byToken {
		return true
	}
	if err := s.origins.Check(c.Request); err != nil {
		write(c, refuse(http.StatusForbidden, "cross_origin", "This call came from another page than the console."))
		return false
	}
	switch c.Request.Method {
	case http.MethodPost, http.MethodPut, http.MethodPatch:
		if kind := c.ContentType(); kind != "application/json" && kind != "application/octet-stream" && c.Request.ContentLength != 0 {
			write(c, refuse(http.StatusUnsupportedMediaType, "media_type", "Send JSON."))
			return false
		}
	}
	return true
}

// cookie is a cookie's name: bound to host and TLS by its prefix, except on plain
// loopback, where browsers would refuse it.
func (s *Server) cookie(name string) string {
	if s.public.Scheme == "https" {
		return "__Host-" + name
	}
	return name
}

func (s *Server) setCookie(name, value string, age time.Duration) string {
	c := http.Cookie{Name: s.cookie(name), Value: value, Path: "/", HttpOnly: true, Secure: s.public.Scheme == "https", SameSite: http.SameSiteLaxMode, MaxAge: int(age.Seconds())}
	if age <= 0 {
		c.MaxAge = -1
	}
	return c.String()
}
