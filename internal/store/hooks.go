package store

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// MostHookSecrets is how many secrets a workflow's address has: a second, so that its
// callers can change to it.
const MostHookSecrets = 2

// HookSecret is what callers of a workflow's address prove.
type HookSecret struct {
	ID     uuid.UUID
	Sealed []byte // nil where it is only listed
	Made   time.Time
	MadeBy string
	Used   *time.Time // when a call was proven by it last, within a minute
}

// NewSecret makes a text that nobody guesses: 256 random bits behind a prefix, in the
// base64 of addresses, or in that of everything else.
func NewSecret(prefix string, plain bool) string {
	if !plain {
		return secret(prefix)
	}
	b := make([]byte, 32)
	_, _ = rand.Read(b)
	return prefix + base64.StdEncoding.EncodeToString(b)
}

// AddHookSecret keeps a secret of a workflow's address, sealed. ErrFull: it has as many
// as it may.
func (s *Store) AddHookSecret(ctx context.Context, sc Scope, name string, x HookSecret) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		w, err := oneWorkflow(ctx, tx, "name = $1 FOR UPDATE", name)
		if err != nil {
			return err
		}
		var n int
		if err := tx.QueryRow(ctx, "SELECT count(*) FROM hook_secret WHERE workflow_id = $1", w.ID).Scan(&n); err != nil {
			return err
		}
		if n >= MostHookSecrets {
			return ErrFull
		}
		_, err = tx.Exec(ctx, "INSERT INTO hook_secret (workspace_id, workflow_id, id, secret, made_by) VALUES ($1, $2, $3, $4, $5)", sc.workspace, w.ID, x.ID, x.Sealed, sc.name)
		return err
	})
}

// HookSecrets lists the secrets of a workflow's address, the newest first, without what
// they are.
func (s *Store) HookSecrets(ctx context.Context, sc Scope, workflow uuid.UUID) (out []HookSecret, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, NULL::bytea, made, made_by, used FROM hook_secret WHERE workflow_id = $1 ORDER BY made DESC, id DESC", workflow)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[HookSecret])
		return err
	})
	return out, err
}

// EndHookSecret takes a secret away: nobody proves anything by it from now on.
func (s *Store) EndHookSecret(ctx context.Context, sc Scope, name string, id uuid.UUID) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "DELETE FROM hook_secret WHERE id = $2 AND workflow_id = (SELECT id FROM workflow WHERE name = $1)", name, id)
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
	Address             string
	State               string
	Live                *int
	Taking              bool
	Plain               bool         // a sample is taken with what is personal in it
	House               string       // the name of the workspace
	Title               string       // of the workflow
	Secrets             []HookSecret // sealed, the newest first
}

// HookByAddress finds the workflow that an address belongs to.
func (s *Store) HookByAddress(ctx context.Context, address string) (h Hook, err error) {
	err = s.node.QueryRow(ctx, "SELECT workspace_id, id, name, state, live, coalesce(taking_until > now(), false), taking_plain, title, (SELECT x.name FROM workspace x WHERE x.id = workspace_id) FROM workflow WHERE hook = $1 OR path = $1", address).
		Scan(&h.Workspace, &h.Workflow, &h.Name, &h.State, &h.Live, &h.Taking, &h.Plain, &h.Title, &h.House)
	if err != nil {
		return h, translate(err)
	}
	h.Address = address
	rows, err := s.node.Query(ctx, "SELECT id, secret, made, made_by, used FROM hook_secret WHERE workspace_id = $1 AND workflow_id = $2 ORDER BY made DESC, id DESC", h.Workspace, h.Workflow)
	if err == nil {
		h.Secrets, err = pgx.CollectRows(rows, pgx.RowToStructByPos[HookSecret])
	}
	return h, translate(err)
}

// HookSecretUsed notes that a call was proven by a secret.
func (s *Store) HookSecretUsed(ctx context.Context, h Hook, id uuid.UUID) error {
	_, err := s.node.Exec(ctx, "UPDATE hook_secret SET used = now() WHERE workspace_id = $1 AND workflow_id = $2 AND id = $3 AND (used IS NULL OR used < now() - interval '30 seconds')", h.Workspace, h.Workflow, id)
	return unavailable(err)
}

// HookScope is the scope of what a hook's caller sets off.
func (s *Store) HookScope(h Hook) Scope {
	return Scope{workspace: h.Workspace, name: "its webhook", role: Operator}
}

// Filled counts that a form was filled in once more today, and gives how often it was.
func (s *Store) Filled(ctx context.Context, h Hook) (n int, err error) {
	err = s.node.QueryRow(ctx, `UPDATE workflow SET filled = CASE WHEN filled_on = current_date THEN filled + 1 ELSE 1 END, filled_on = current_date
		WHERE workspace_id = $1 AND id = $2 RETURNING filled`, h.Workspace, h.Workflow).Scan(&n)
	return n, translate(err)
}
