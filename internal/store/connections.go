package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Connection is a stored account. Its secrets are sealed.
type Connection struct {
	ID           uuid.UUID
	Workspace    uuid.UUID
	Name         string
	Connector    string
	Version      int
	Account      map[string]any
	Method       string
	Secret       []byte // JSON of name to value
	Hint         string
	Pin          string
	State        string
	Said         string
	Checked      *time.Time
	Created      time.Time
	Token        []byte // JSON of an OAuth 2 token
	TokenVersion int
	TokenExpires *time.Time
	TokenPin     string
	Redirect     string
	Scopes       []string // granted; nil if they are not known
	Wanted       []string
	Missing      []string
	Left         string
	Limits       *Limits
	Everyone     bool
	TookMS       *int
}

// Limits are what is kept to for one connection instead of the connector's own.
type Limits struct {
	Calls    int     `json:"calls,omitempty"`
	Seconds  float64 `json:"seconds,omitempty"`
	Parallel int     `json:"parallel,omitempty"`
}

// States of a connection.
const (
	ConnectionUnchecked = "unchecked"
	ConnectionOK        = "ok"
	ConnectionBroken    = "broken"
	ConnectionConsent   = "consent" // nobody has consented yet
	ConnectionConfirm   = "confirm" // somebody has; whether it is the right account is to be confirmed
)

const connectionColumns = `id, workspace_id, name, connector, version, account, method, secret, hint, pin, state, said, checked, created,
	token, token_version, token_expires, token_pin, redirect, scopes, wanted, missing, plan_left, limits, everyone, took_ms`

func scanConnection(row pgx.CollectableRow) (Connection, error) {
	var c Connection
	var account, limits []byte
	err := row.Scan(&c.ID, &c.Workspace, &c.Name, &c.Connector, &c.Version, &account, &c.Method, &c.Secret, &c.Hint, &c.Pin, &c.State, &c.Said, &c.Checked, &c.Created,
		&c.Token, &c.TokenVersion, &c.TokenExpires, &c.TokenPin, &c.Redirect, &c.Scopes, &c.Wanted, &c.Missing, &c.Left, &limits, &c.Everyone, &c.TookMS)
	if err == nil {
		err = json.Unmarshal(account, &c.Account)
	}
	if err == nil && limits != nil {
		err = json.Unmarshal(limits, &c.Limits)
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
		c, err = oneConnection(ctx, tx, "name = $1", name)
		return err
	})
	return c, err
}

func oneConnection(ctx context.Context, tx pgx.Tx, where string, args ...any) (Connection, error) {
	rows, err := tx.Query(ctx, "SELECT "+connectionColumns+" FROM connection WHERE "+where, args...)
	if err != nil {
		return Connection{}, err
	}
	return pgx.CollectExactlyOneRow(rows, scanConnection)
}

// ConnectionForRun finds one by name for a run of the workspace.
func (s *Store) ConnectionForRun(ctx context.Context, workspace uuid.UUID, name string) (Connection, error) {
	return s.Connection(ctx, s.forWorkspace(workspace), name)
}

// ConnectionsForRun lists those of a workspace whose run needs to know what is secret.
func (s *Store) ConnectionsForRun(ctx context.Context, workspace uuid.UUID) ([]Connection, error) {
	return s.Connections(ctx, s.forWorkspace(workspace))
}

// AddConnection stores a new one.
func (s *Store) AddConnection(ctx context.Context, sc Scope, c Connection) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error { return addConnection(ctx, tx, sc, c) })
}

func addConnection(ctx context.Context, tx pgx.Tx, sc Scope, c Connection) error {
	account, err := json.Marshal(c.Account)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `INSERT INTO connection (workspace_id, id, name, connector, version, account, method, secret, hint, pin, token_pin, state, wanted, said)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`,
		sc.workspace, c.ID, c.Name, c.Connector, c.Version, account, c.Method, c.Secret, c.Hint, c.Pin, c.TokenPin, c.State, c.Wanted, c.Said)
	return err
}

// ReplaceSecret stores new secrets and what belongs to them. Tokens that were
// had with the old ones are gone.
func (s *Store) ReplaceSecret(ctx context.Context, sc Scope, c Connection) error {
	account, err := json.Marshal(c.Account)
	if err != nil {
		return err
	}
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `UPDATE connection SET secret = $2, hint = $3, account = $4, pin = $5, token_pin = $6, method = $7, state = $8, version = $9, wanted = $10, said = '', missing = '{}',
			token = NULL, token_expires = NULL, token_version = token_version + 1, scopes = NULL WHERE id = $1`,
			c.ID, c.Secret, c.Hint, account, c.Pin, c.TokenPin, c.Method, c.State, c.Version, c.Wanted)
		return err
	})
}

// ShapeConnection changes what is no secret: limits, and who may use it.
func (s *Store) ShapeConnection(ctx context.Context, sc Scope, c Connection, grants []Grant) error {
	var limits []byte
	if c.Limits != nil {
		limits, _ = json.Marshal(c.Limits)
	}
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE connection SET limits = $2, everyone = $3 WHERE id = $1", c.ID, limits, c.Everyone); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "DELETE FROM connection_grant WHERE connection_id = $1", c.ID); err != nil {
			return err
		}
		for _, g := range grants {
			if _, err := tx.Exec(ctx, "INSERT INTO connection_grant (workspace_id, connection_id, person_id, actions) VALUES ($1, $2, $3, $4)", sc.workspace, c.ID, g.Person, g.Actions); err != nil {
				return err
			}
		}
		return nil
	})
}

// Grant lets a person build with a connection.
type Grant struct {
	Connection uuid.UUID
	Person     uuid.UUID
	Name       string
	Email      string
	Actions    []string // nil: all
}

// Grants lists who may use which connections that not everyone may use.
func (s *Store) Grants(ctx context.Context, sc Scope) (out []Grant, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT g.connection_id, g.person_id, p.name, p.email, g.actions FROM connection_grant g JOIN person p ON p.id = g.person_id ORDER BY p.name`)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (g Grant, err error) {
			return g, row.Scan(&g.Connection, &g.Person, &g.Name, &g.Email, &g.Actions)
		})
		return err
	})
	return out, err
}

// Use tells whether a person may build with a connection, and for which
// actions; nil is all. Administrators may always.
func (sc Scope) Use(c Connection, grants []Grant) (may bool, actions []string) {
	if c.Everyone || sc.role.Covers(Administrator) {
		return true, nil
	}
	for _, g := range grants {
		if g.Connection == c.ID && g.Person == sc.person {
			return true, g.Actions
		}
	}
	return false, nil
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

// Health is how a connection does.
type Health struct {
	State   string
	Said    string
	Scopes  []string // nil: not known
	Missing []string
	Left    string
	TookMS  *int
}

// MarkConnection records how a connection does. One that works again wakes the
// runs that waited for it. One whose account is to be confirmed stays so.
func (s *Store) MarkConnection(ctx context.Context, workspace uuid.UUID, name string, h Health) error {
	return s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		if h.Missing == nil {
			h.Missing = []string{}
		}
		if _, err := tx.Exec(ctx, `UPDATE connection SET state = $2, said = $3, checked = now(), scopes = coalesce($4, scopes), missing = $5, plan_left = $6, took_ms = coalesce($7, took_ms) WHERE name = $1`,
			name, h.State, h.Said, h.Scopes, h.Missing, h.Left, h.TookMS); err != nil || h.State != ConnectionOK {
			return err
		}
		return wakeFor(ctx, tx, name)
	})
}

func wakeFor(ctx context.Context, tx pgx.Tx, connection string) error {
	_, err := tx.Exec(ctx, `SELECT hold_lines(array_agg(workspace_id), array_agg(workflow_id), array_agg(''::text)) FROM live WHERE state = 'waiting' AND reason = 'connection_broken' AND connection = $1 AND limited HAVING count(*) > 0`, connection)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "UPDATE live SET state = 'queued', reason = '', message = '', wake = NULL WHERE state = 'waiting' AND reason = 'connection_broken' AND connection = $1", connection)
	if err == nil {
		_, err = tx.Exec(ctx, "NOTIFY trellis_queue")
	}
	return err
}

// ConfirmConnection makes a connection active once a person has said that it is
// the right account.
func (s *Store) ConfirmConnection(ctx context.Context, sc Scope, name string) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE connection SET state = 'ok' WHERE name = $1 AND state = 'confirm'", name)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return ErrConflict
		}
		return wakeFor(ctx, tx, name)
	})
}

// Exclusively runs work while no other node changes the tokens of a connection.
// What work returns is stored before anybody can use it.
func (s *Store) Exclusively(ctx context.Context, workspace, id uuid.UUID, work func(Connection) (*Connection, error)) error {
	return s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 7243))", id.String()); err != nil {
			return err
		}
		c, err := oneConnection(ctx, tx, "id = $1", id)
		if err != nil {
			return err
		}
		fresh, err := work(c)
		if err != nil || fresh == nil {
			return err
		}
		var state *string
		if fresh.State != c.State {
			state = &fresh.State
		}
		_, err = tx.Exec(ctx, "UPDATE connection SET token = $2, token_expires = $3, token_version = token_version + 1, scopes = coalesce($4, scopes), state = coalesce($5, state) WHERE id = $1", id, fresh.Token, fresh.TokenExpires, fresh.Scopes, state)
		return err
	})
}

// Called is one call of a connection, as its page lists it.
type Called struct {
	Workspace  uuid.UUID
	Connection uuid.UUID
	ID         uuid.UUID
	Method     string
	Address    string
	Status     int
	Failure    string
	TookMS     int
	Run        *uuid.UUID
}

// KeptCalls is how many of the last calls are kept for each connection.
const KeptCalls = 50

// RecordCalls stores calls and forgets those that are too many.
func (s *Store) RecordCalls(ctx context.Context, calls []Called) error {
	seen := map[uuid.UUID]uuid.UUID{}
	b := &pgx.Batch{}
	for _, c := range calls {
		// One that is being removed is waited for, so that its calls cost no others theirs.
		b.Queue("INSERT INTO connection_call SELECT $1, $2, $3, $4, $5, $6, $7, $8, $9 FROM connection WHERE workspace_id = $1 AND id = $2 FOR KEY SHARE ON CONFLICT DO NOTHING",
			c.Workspace, c.Connection, c.ID, c.Method, c.Address, c.Status, c.Failure, c.TookMS, c.Run)
		seen[c.Connection] = c.Workspace
	}
	for id, workspace := range seen {
		b.Queue("DELETE FROM connection_call WHERE workspace_id = $1 AND connection_id = $2 AND id < (SELECT id FROM connection_call WHERE workspace_id = $1 AND connection_id = $2 ORDER BY id DESC OFFSET $3 LIMIT 1)", workspace, id, KeptCalls-1)
	}
	return unavailable(s.node.SendBatch(ctx, b).Close())
}

// Calls lists the last calls of a connection, newest first.
func (s *Store) Calls(ctx context.Context, sc Scope, connection uuid.UUID) (out []Called, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id, method, address, status, failure, took_ms, run_id FROM connection_call WHERE connection_id = $1 ORDER BY id DESC LIMIT $2", connection, KeptCalls)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (c Called, err error) {
			return c, row.Scan(&c.ID, &c.Method, &c.Address, &c.Status, &c.Failure, &c.TookMS, &c.Run)
		})
		return err
	})
	return out, err
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

// Disallow takes addresses from a workspace's allowances.
func (s *Store) Disallow(ctx context.Context, sc Scope, addresses ...string) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "DELETE FROM allowance WHERE address = ANY($1)", addresses)
		return err
	})
}

// WaitingFor counts the runs that wait for each connection.
func (s *Store) WaitingFor(ctx context.Context, sc Scope) (map[string]int, error) {
	out := map[string]int{}
	err := s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT connection, count(*) FROM live WHERE state = 'waiting' AND connection <> '' GROUP BY connection")
		if err != nil {
			return err
		}
		var name string
		var n int
		_, err = pgx.ForEachRow(rows, []any{&name, &n}, func() error { out[name] = n; return nil })
		return err
	})
	return out, err
}
