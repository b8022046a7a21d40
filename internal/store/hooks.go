package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// NewHookSecret makes the secret that callers of the webhook prove; it is
// given once.
func (s *Store) NewHookSecret(ctx context.Context, sc Scope, name string) (string, error) {
	text := secret("yth_")
	return text, s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE workflow SET secret = $2 WHERE name = $1", name, hashOf(text))
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

// Hook is what the intake needs to know of an address.
type Hook struct {
	Workspace, Workflow uuid.UUID
	Name                string
	State               string
	Live                *int
	Secret              []byte
	Taking              bool
}

// HookByAddress finds the workflow that an address belongs to.
func (s *Store) HookByAddress(ctx context.Context, address string) (h Hook, err error) {
	err = s.node.QueryRow(ctx, "SELECT workspace_id, id, name, state, live, secret, coalesce(taking_until > now(), false) FROM workflow WHERE hook = $1", address).
		Scan(&h.Workspace, &h.Workflow, &h.Name, &h.State, &h.Live, &h.Secret, &h.Taking)
	return h, translate(err)
}

// HookScope is the scope of what a hook's caller sets off.
func (s *Store) HookScope(h Hook) Scope {
	return Scope{workspace: h.Workspace, name: "its webhook", role: Operator}
}
