package server

import (
	"context"
	"errors"
	"net/http"

	"github.com/google/uuid"

	"youngtrellis/api"
	"youngtrellis/internal/signin"
	"youngtrellis/internal/store"
)

// SignIn implements api.StrictServerInterface.
func (s *Server) SignIn(ctx context.Context, r api.SignInRequestObject) (api.SignInResponseObject, error) {
	from := callerOf(ctx)
	in, err := s.signIn.In(ctx, signin.Asked{Email: r.Body.Email, Password: r.Body.Password, Address: from.address, Device: from.device, Session: from.session})
	if err != nil {
		return nil, err
	}
	me, err := s.describe(ctx, in.Scope)
	if err != nil {
		return nil, err
	}
	from.cookies.Add("Set-Cookie", s.setCookie(sessionCookie, in.Cookie, store.SessionMost))
	if in.Device != "" {
		from.cookies.Add("Set-Cookie", s.setCookie(deviceCookie, in.Device, store.DeviceKnown))
	}
	return api.SignIn200JSONResponse{Body: me}, nil
}

func (s *Server) describe(ctx context.Context, sc store.Scope) (api.Me, error) {
	name, err := s.Store.WorkspaceName(ctx, sc)
	if err != nil {
		return api.Me{}, err
	}
	email, err := s.Store.Email(ctx, sc)
	return api.Me{Name: sc.Who(), Email: email, Role: api.Role(sc.Role()), Items: sc.SeesItems(), Workspace: name}, err
}

// SignOut implements api.StrictServerInterface.
func (s *Server) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	if cookie := sessionOf(ctx); cookie != "" {
		if err := s.Store.SignOut(ctx, cookie); err != nil {
			return nil, err
		}
	}
	return api.SignOut204Response{Headers: api.SignOut204ResponseHeaders{SetCookie: some(s.setCookie(sessionCookie, "", 0))}}, nil
}

// Me implements api.StrictServerInterface.
func (s *Server) Me(ctx context.Context, _ api.MeRequestObject) (api.MeResponseObject, error) {
	me, err := s.describe(ctx, scopeOf(ctx))
	return api.Me200JSONResponse(me), err
}

func token(t store.Token) api.Token {
	return api.Token{Id: t.ID, Name: t.Name, Role: api.Role(t.Role), Items: given(t.Items), Makes: given(t.Makes), Of: t.Of, Created: t.Created, Expires: t.Expires, Used: t.Used}
}

// ListTokens implements api.StrictServerInterface.
func (s *Server) ListTokens(ctx context.Context, _ api.ListTokensRequestObject) (api.ListTokensResponseObject, error) {
	list, err := s.Store.Tokens(ctx, scopeOf(ctx))
	out := api.ListTokens200JSONResponse{Tokens: []api.Token{}}
	for _, t := range list {
		out.Tokens = append(out.Tokens, token(t))
	}
	return out, err
}

// CreateToken implements api.StrictServerInterface.
func (s *Server) CreateToken(ctx context.Context, r api.CreateTokenRequestObject) (api.CreateTokenResponseObject, error) {
	sc := scopeOf(ctx)
	role := store.Role(or(r.Body.Role, api.Role(sc.Role())))
	secret, t, err := s.Store.CreateToken(ctx, sc, store.NewToken{Name: r.Body.Name, Role: role, Items: or(r.Body.Items, false), Makes: or(r.Body.Makes, false)})
	switch {
	case errors.Is(err, store.ErrTooStrong) && sc.Role().Covers(role) && sc.Token() != uuid.Nil:
		return nil, refuse(http.StatusForbidden, "forbidden", "This token makes no tokens. Make one in a browser, or sign in with: trellis login --makes-tokens")
	case errors.Is(err, store.ErrTooStrong):
		return nil, refuse(http.StatusForbidden, "forbidden", "A token cannot be stronger than its maker, who is "+string(sc.Role())+" here.")
	case err != nil:
		return nil, err
	}
	return api.CreateToken201JSONResponse{Token: token(t), Secret: secret}, err
}

// DeleteToken implements api.StrictServerInterface.
func (s *Server) DeleteToken(ctx context.Context, r api.DeleteTokenRequestObject) (api.DeleteTokenResponseObject, error) {
	return api.DeleteToken204Response{}, s.Store.DeleteToken(ctx, scopeOf(ctx), r.Id)
}
