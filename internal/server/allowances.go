package server

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"youngtrellis/api"
)

var addressForm = regexp.MustCompile(`^[a-zA-Z0-9.:\[\]_-]+:[0-9]{1,5}$`)

// ListAllowances implements api.StrictServerInterface.
func (s *Server) ListAllowances(ctx context.Context, _ api.ListAllowancesRequestObject) (api.ListAllowancesResponseObject, error) {
	list, err := s.Store.Allowances(ctx, scopeOf(ctx).Workspace())
	if list == nil {
		list = []string{}
	}
	return api.ListAllowances200JSONResponse{Addresses: list}, err
}

// SetAllowances implements api.StrictServerInterface.
func (s *Server) SetAllowances(ctx context.Context, r api.SetAllowancesRequestObject) (api.SetAllowancesResponseObject, error) {
	sc := scopeOf(ctx)
	for _, a := range r.Body.Addresses {
		if !addressForm.MatchString(a) {
			return nil, invalid("addresses", fmt.Sprintf("%q is not a host and port, as 10.0.0.5:8080", a))
		}
	}
	known, err := s.Store.Allowances(ctx, sc.Workspace())
	if err != nil {
		return nil, err
	}
	gone := slices.DeleteFunc(known, func(a string) bool { return slices.Contains(r.Body.Addresses, a) })
	if err := errors.Join(s.Store.Disallow(ctx, sc, gone...), s.Store.Allow(ctx, sc, r.Body.Addresses...)); err != nil {
		return nil, err
	}
	s.Connections.Client.Forget(sc.Workspace())
	return api.SetAllowances200JSONResponse{Addresses: r.Body.Addresses}, nil
}
