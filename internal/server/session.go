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

const cookieName = "trellis"

// authenticate finds the caller's scope: by API token, else by cookie. A page
// that asks who it is may be nobody's.
func (s *Server) authenticate(c *gin.Context, needs store.Role, nobody bool) bool {
	var sc store.Scope
	var err error
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		sc, err = s.Store.ScopeOfToken(c.Request.Context(), strings.TrimSpace(token))
	} else if cookie, cerr := c.Cookie(s.cookie()); cerr == nil {
		sc, err = s.Store.ScopeOfSession(c.Request.Context(), cookie)
		c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), cookieKey{}, cookie))
	} else {
		err = store.ErrNotFound
	}
	if store.IsUnavailable(err) {
		s.fail(c, err)
		return false
	}
	if err != nil && nobody && c.GetHeader("Authorization") == "" {
		c.AbortWithStatus(http.StatusNoContent)
		return false
	}
	if err != nil {
		write(c, refuse(http.StatusUnauthorized, "sign_in", "Sign in first: in the console, or with trellis login."))
		return false
	}
	if !sc.Role().Covers(needs) {
		write(c, refuse(http.StatusForbidden, "forbidden", fmt.Sprintf("This needs the role %s; you are %s here.", needs, sc.Role())))
		return false
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), scopeKey{}, sc))
	return true
}

// sameOrigin lets a cookie act only for our own pages.
func (s *Server) sameOrigin(c *gin.Context) bool {
	if c.GetHeader("Authorization") != "" {
		return true
	}
	protection := http.NewCrossOriginProtection()
	if err := protection.AddTrustedOrigin(s.public.Scheme + "://" + s.public.Host); err != nil {
		s.fail(c, err)
		return false
	}
	if err := protection.Check(c.Request); err != nil {
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

// cookie is the session cookie's name: bound to host and TLS by its prefix,
// except on plain loopback, where browsers would refuse it.
func (s *Server) cookie() string {
	if s.public.Scheme == "https" {
		return "__Host-" + cookieName
	}
	return cookieName
}

func (s *Server) setCookie(value string, age time.Duration) string {
	c := http.Cookie{Name: s.cookie(), Value: value, Path: "/", HttpOnly: true, Secure: s.public.Scheme == "https", SameSite: http.SameSiteLaxMode, MaxAge: int(age.Seconds())}
	if age <= 0 {
		c.MaxAge = -1
	}
	return c.String()
}
