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

func sessionOf(ctx context.Context) string {
	cookie, _ := ctx.Value(cookieKey{}).(string)
	return cookie
}

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
	h := c.Writer.Header()
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
	back := func(name string, err error) {
		q := url.Values{}
		if name != "" {
			q.Set("connection", name)
		}
		if err != nil {
			q.Set("trouble", sentenceOf(err))
		}
		c.Redirect(http.StatusSeeOther, s.PublicURL+"/connections?"+q.Encode())
	}
	cookie, err := c.Cookie(s.cookie())
	if err != nil {
		back("", errors.New("you are not signed in here any more; sign in and begin again from the connection"))
		return
	}
	ctx := c.Request.Context()
	sc, err := s.Store.ScopeOfSession(ctx, cookie)
	if err != nil || !sc.Role().Covers(store.Administrator) {
		back("", errors.New("you are not signed in here as an administrator any more; sign in and begin again from the connection"))
		return
	}
	name, err := s.Connections.FinishConsent(ctx, sc, cookie, connections.Returned{State: c.Query("state"), Code: c.Query("code"), Error: c.Query("error"), Description: c.Query("error_description"), Issuer: c.Query("iss")})
	back(name, err)
}

// sentenceOf words an error for a page.
func sentenceOf(err error) string {
	var failure *call.Failure
	var parked *call.Parked
	switch {
	case errors.As(err, &failure):
		return failure.Message
	case errors.As(err, &parked):
		return parked.Message
	}
	if f := problemOf(err); f != nil {
		return f.title
	}
	return err.Error()
}

// callback wakes the run that an address was made for. The body is not believed:
// the run looks for itself.
func (s *Server) callback(c *gin.Context) {
	if !s.limiters.caller.allow(c.ClientIP()) {
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
