package connections

import (
	"context"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/store"
)

// Secrets gives the secrets of all connections of a workspace that are long enough to
// be told from other text: they are hidden wherever they stand, also where one that
// belongs to another connection is among the data of a call. What cannot be
// unsealed hides nothing.
func (s *Service) Secrets(ctx context.Context, workspace uuid.UUID) (*call.Secrets, error) {
	return s.secrets.Get(workspace, func() (*call.Secrets, error) {
		list, err := s.Store.ConnectionsForRun(ctx, workspace)
		if err != nil {
			return nil, err
		}
		var out []string
		for i := range list {
			values, err := s.secretValues(ctx, &list[i])
			if store.IsUnavailable(err) {
				return nil, err
			}
			for _, v := range values {
				if len(v) >= call.Whole {
					out = append(out, v)
				}
			}
		}
		return call.NewSecrets(out...), nil
	})
}

// secretValues are what must not be seen of a connection, with its tokens as they are
// stored. Nothing is asked for anew.
func (s *Service) secretValues(ctx context.Context, c *store.Connection) ([]string, error) {
	_, way, values, err := s.credentials(ctx, c)
	if err != nil {
		return nil, err
	}
	t, err := s.openToken(ctx, c)
	if err != nil {
		return nil, err
	}
	k := connector.Credentials{Values: values}
	if t != nil {
		k.Token = t.Access
	}
	out := k.All(way)
	if t != nil {
		out = append(out, t.Refresh)
	}
	return out, nil
}

// surrounded lets an opened account hide the secrets of its workspace too.
func (s *Service) surrounded(ctx context.Context, o *opened) (*opened, error) {
	var err error
	o.Around, err = s.Secrets(ctx, o.Workspace)
	return o, err
}
