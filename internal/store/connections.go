package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Connection is a stored account. Its secret is sealed.
type Connection struct {
	ID        uuid.UUID
	Workspace uuid.UUID
	Name      string
	Connector string
	Version   int
	Account   map[string]any
	Method    string
	Secret    []byte
	Hint      string
	Pin       string
	State     string
	Said      string
	Checked   *time.Time
	Created   time.Time
}

const connectionColumns = "id, workspace_id, name, connector, version, account, method, secret, hint, pin, state, said, checked, created"

func scanConnection(row pgx.CollectableRow) (Connection, error) {
	var c Connection
	var account []byte
	err := row.Scan(&c.ID, &c.Workspace, &c.Name, &c.Connector, &c.Version, &account, &c.Method, &c.Secret, &c.Hint, &c.Pin, &c.State, &c.Said, &c.Checked, &c.Created)
	if err == nil {
		err = json.Unmarshal(account, &c.Account)
	}
	return c, err
}

// Connections lists a workspace's connections by name.
func (s *Store) Connections(ctx context.Context, sc Scope) (out []Connection, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+connectionColumns+" FROM connection ORDER BY name LIMIT 1000")
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanConnection)
		return err
	})
	return out, err
}

// Connection finds one by name.
func (s *Store) Connection(ctx context.Context, sc Scope, name string) (c Connection, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+connectionColumns+" FROM connection WHERE name = $1", name)
		if err != nil {
			return err
		}
		c, err = pgx.CollectExactlyOneRow(rows, scanConnection)
		return err
	})
	return c, err
}

// ConnectionForRun finds one by name for a run of the workspace.
func (s *Store) ConnectionForRun(ctx context.Context, workspace uuid.UUID, name string) (Connection, error) {
	return s.Connection(ctx, s.forWorkspace(workspace), name)
}

// AddConnection stores a new one.
func (s *Store) AddConnection(ctx context.Context, sc Scope, c Connection) error {
	account, err := json.Marshal(c.Account)
	if err != nil {
		return err
	}
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "INSERT INTO connection (workspace_id, id, name, connector, version, account, method, secret, hint, pin) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
			sc.workspace, c.ID, c.Name, c.Connector, c.Version, account, c.Method, c.Secret, c.Hint, c.Pin)
		return err
	})
}

// ReplaceSecret stores a new secret and what belongs to it.
func (s *Store) ReplaceSecret(ctx context.Context, sc Scope, c Connection) error {
	account, err := json.Marshal(c.Account)
	if err != nil {
		return err
	}
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "UPDATE connection SET secret = $2, hint = $3, account = $4, pin = $5, state = 'unchecked', said = '' WHERE id = $1", c.ID, c.Secret, c.Hint, account, c.Pin)
		return err
	})
}

// RemoveConnection deletes one by name.
func (s *Store) RemoveConnection(ctx context.Context, sc Scope, name string) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "DELETE FROM connection WHERE name = $1", name)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrNotFound
		}
		return err
	})
}

// MarkConnection records how a connection does. One that works again wakes the
// runs that waited for it.
func (s *Store) MarkConnection(ctx context.Context, workspace uuid.UUID, name, state, said string) error {
	return s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE connection SET state = $2, said = $3, checked = now() WHERE name = $1", name, state, said); err != nil || state != "ok" {
			return err
		}
		_, err := tx.Exec(ctx, "UPDATE live SET state = 'queued', reason = '', message = '', wake = NULL WHERE state = 'waiting' AND reason = 'connection_broken' AND connection = $1", name)
		if err == nil {
			_, err = tx.Exec(ctx, "NOTIFY trellis_queue")
		}
		return err
	})
}

// Allowances lists the addresses that a workspace may reach although they are
// not public.
func (s *Store) Allowances(ctx context.Context, workspace uuid.UUID) (out []string, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT address FROM allowance ORDER BY address")
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowTo[string])
		return err
	})
	return out, err
}

// Allow adds addresses (host:port) to a workspace's allowances.
func (s *Store) Allow(ctx context.Context, sc Scope, addresses ...string) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "INSERT INTO allowance (workspace_id, address) SELECT $1, unnest($2::text[]) ON CONFLICT DO NOTHING", sc.workspace, addresses)
		return err
	})
}

// DataKey finds or stores the sealed data key of a workspace.
func (s *Store) DataKey(ctx context.Context, workspace uuid.UUID, fresh []byte) (sealed []byte, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		if fresh != nil {
			if _, err := tx.Exec(ctx, "INSERT INTO data_key (workspace_id, sealed) VALUES ($1, $2) ON CONFLICT DO NOTHING", workspace, fresh); err != nil {
				return err
			}
		}
		return tx.QueryRow(ctx, "SELECT sealed FROM data_key WHERE workspace_id = $1", workspace).Scan(&sealed)
	})
	return sealed, err
}

// VaultFingerprint gives the fingerprint of the keyset that wraps the data
// keys; fresh is stored if there is none yet.
func (s *Store) VaultFingerprint(ctx context.Context, fresh string) (known string, err error) {
	if fresh != "" {
		if _, err := s.node.Exec(ctx, "INSERT INTO vault (fingerprint) VALUES ($1) ON CONFLICT DO NOTHING", fresh); err != nil {
			return "", unavailable(err)
		}
	}
	err = s.node.QueryRow(ctx, "SELECT fingerprint FROM vault").Scan(&known)
	return known, translate(err)
}
