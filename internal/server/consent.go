package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"youngtrellis/api"
	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/store"
)

// redirectAddress is where consent pages send a browser back to.
func (s *Server) redirectAddress() string { return s.PublicURL + "/oauth/callback" }

// BeginConsent implements api.StrictServerInterface.
func (s *Server) BeginConsent(ctx context.Context, r api.BeginConsentRequestObject) (api.BeginConsentResponseObject, error) {
	sc := scopeOf(ctx)
	c, err := s.Store.Connection(ctx, sc, r.Connection)
	if err != nil {
		return nil, err
	}
	redirect, session := s.redirectAddress(), sessionOf(ctx)
	if port := r.Body.Loopback; port != nil {
		redirect, session = fmt.Sprintf("http://127.0.0.1:%d/callback", *port), ""
	} else if session == "" {
		return nil, refuse(http.StatusUnprocessableEntity, "loopback", "Without a browser's session, say on which loopback port you listen.")
	}
	address, err := s.Connections.BeginConsent(ctx, sc, c, session, redirect, or(r.Body.Scopes, nil))
	if err != nil {
		return nil, refuse(http.StatusConflict, "consent", err.Error())
	}
	return api.BeginConsent200JSONResponse{Address: address, Redirect: redirect}, nil
}

// FinishConsent implements api.StrictServerInterface.
func (s *Server) FinishConsent(ctx context.Context, r api.FinishConsentRequestObject) (api.FinishConsentResponseObject, error) {
	b := r.Body
	name, err := s.Connections.FinishConsent(ctx, scopeOf(ctx), "", connections.Returned{State: b.State, Code: or(b.Code, ""), Error: or(b.Error, ""), Description: or(b.ErrorDescription, ""), Issuer: or(b.Iss, "")})
	if errors.Is(err, connections.ErrState) {
		return nil, refuse(http.StatusConflict, "state", err.Error())
	}
	if err != nil {
		return nil, err
	}
	_, out, err := s.one(ctx, name)
	return api.FinishConsent200JSONResponse(out), err
}

// ConfirmConnection implements api.StrictServerInterface.
func (s *Server) ConfirmConnection(ctx context.Context, r api.ConfirmConnectionRequestObject) (api.ConfirmConnectionResponseObject, error) {
	sc := scopeOf(ctx)
	if _, err := s.Store.Connection(ctx, sc, r.Connection); err != nil {
		return nil, err
	}
	err := s.Store.ConfirmConnection(ctx, sc, r.Connection)
	if errors.Is(err, store.ErrConflict) {
		return nil, refuse(http.StatusConflict, "nothing_to_confirm", "Nothing waits to be confirmed there.")
	}
	if err != nil {
		return nil, err
	}
	s.Connections.Forget(sc.Workspace(), r.Connection)
	_, out, err := s.one(ctx, r.Connection)
	return api.ConfirmConnection200JSONResponse(out), err
}

// consented takes a browser that comes back from a consent page. Code and state
// are gone from its address at once.
func (s *Server) consented(c *gin.Context) {
	back := func(name, trouble string) {
		q := url.Values{}
		if name != "" {
			q.Set("connection", name)
		}
		if trouble != "" {
			q.Set("trouble", trouble)
		}
		c.Redirect(http.StatusSeeOther, s.PublicURL+"/connections?"+q.Encode())
	}
	cookie, err := c.Cookie(s.cookie(sessionCookie))
	if err != nil {
		back("", "session")
		return
	}
	ctx := c.Request.Context()
	sc, err := s.Store.ScopeOfSession(ctx, cookie)
	if err != nil {
		back("", "session")
		return
	}
	if !sc.Role().Covers(store.Administrator) {
		back("", "role")
		return
	}
	name, err := s.Connections.FinishConsent(ctx, sc, cookie, connections.Returned{State: c.Query("state"), Code: c.Query("code"), Error: c.Query("error"), Description: c.Query("error_description"), Issuer: c.Query("iss")})
	back(name, s.troubleOf(err))
}

// troubleOf is the name, in words.Consents, of why a sign-in did not succeed.
func (s *Server) troubleOf(err error) string {
	var no *connections.Unconsented
	var failure *call.Failure
	switch {
	case err == nil:
		return ""
	case errors.Is(err, connections.ErrState):
		return "state"
	case errors.As(err, &no):
		return no.Code
	case store.IsUnavailable(err), errors.As(err, &failure) && failure.Retryable:
		return "away"
	}
	s.Log.Error("a consent was not finished", "error", err)
	return "other"
}

// callback wakes the run that an address was made for. The body is not believed:
// the run looks for itself.
func (s *Server) callback(c *gin.Context) {
	if !s.limiters.caller.Allow(s.callerKey(c.Request)) {
		c.Header("Retry-After", "5")
		write(c, refuse(http.StatusTooManyRequests, "too_many", "Too many calls at once. Send this one again in five seconds."))
		return
	}
	if err := s.Store.CalledBack(c.Request.Context(), c.Param("token")); err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, gin.H{"taken": true})
}
