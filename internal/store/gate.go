package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Permit is leave to make one call of a connection, and from when.
type Permit struct {
	Wait time.Duration // until the call may begin
	Held time.Duration // told to wait so long; no leave was given
	Full bool          // as many calls as allowed are under way
	Why  string
}

// Gate is what a connection's gate is asked for: leave for one call.
type Gate struct {
	Permitted               // the leave, named by whoever asks, so that it can be given back if the answer is lost
	Session   *uuid.UUID    // of the node; nil outside of runs
	Spacing   time.Duration // least time between two calls; 0 for no limit
	Parallel  int           // most calls at once; 0 for no limit
	Lasts     time.Duration // longest that the call may take
	Patience  time.Duration // a call that could begin only later gets no leave
}

// Ask asks the gate of a connection for leave to make a call; Held says for how
// long there is none. The answer holds over all nodes: the gate's row is the
// lock. Leave that was given counts until it is given back, or until the call
// must be over.
func (s *Store) Ask(ctx context.Context, g Gate) (Permit, error) {
	workspace, connection, spacing, parallel, patience := g.Workspace, g.Connection, g.Spacing, g.Parallel, g.Patience
	p := Permit{}
	err := pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "INSERT INTO connection_gate (workspace_id, connection_id) VALUES ($1, $2) ON CONFLICT DO NOTHING", workspace, connection); err != nil {
			return err
		}
		var wait, held float64
		err := tx.QueryRow(ctx, `SELECT greatest(extract(epoch FROM nullif(due, '-infinity') - clock_timestamp()), 0), greatest(extract(epoch FROM nullif(held, '-infinity') - clock_timestamp()), 0), why
			FROM connection_gate WHERE workspace_id = $1 AND connection_id = $2 FOR UPDATE`, workspace, connection).Scan(&wait, &held, &p.Why)
		if err != nil {
			return err
		}
		if held > 0 {
			p.Held = seconds(held)
			return nil
		}
		p.Why = ""
		if parallel > 0 {
			var n int
			if err := tx.QueryRow(ctx, "SELECT count(*) FROM connection_permit WHERE workspace_id = $1 AND connection_id = $2 AND until > now()", workspace, connection).Scan(&n); err != nil {
				return err
			}
			if n >= parallel {
				p.Full = true
				return nil
			}
		}
		if p.Wait = seconds(wait); p.Wait > patience {
			p.Held = p.Wait
			return nil
		}
		if spacing > 0 {
			if _, err := tx.Exec(ctx, "UPDATE connection_gate SET due = greatest(due, clock_timestamp()) + make_interval(secs => $3) WHERE workspace_id = $1 AND connection_id = $2", workspace, connection, spacing.Seconds()); err != nil {
				return err
			}
		}
		if parallel > 0 {
			_, err = tx.Exec(ctx, "INSERT INTO connection_permit (workspace_id, connection_id, id, session_id, until) VALUES ($1, $2, $3, $4, clock_timestamp() + make_interval(secs => $5))", workspace, connection, g.ID, g.Session, (p.Wait + g.Lasts).Seconds())
		}
		return err
	})
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return p, translate(err)
}

func seconds(f float64) time.Duration { return time.Duration(f * float64(time.Second)) }

// Return gives leave back that was had outside of runs.
func (s *Store) Return(ctx context.Context, p Permitted) error {
	_, err := s.node.Exec(ctx, returnSQL, permits{p}.columns()...)
	return unavailable(err)
}

// Hold lets no call of a connection begin for so long, on any node: the other
// side said so.
func (s *Store) Hold(ctx context.Context, workspace, connection uuid.UUID, d time.Duration, why string) error {
	_, err := s.node.Exec(ctx, `INSERT INTO connection_gate (workspace_id, connection_id, held, why) VALUES ($1, $2, now() + make_interval(secs => $3), $4)
		ON CONFLICT (workspace_id, connection_id) DO UPDATE SET held = greatest(connection_gate.held, EXCLUDED.held), why = EXCLUDED.why`, workspace, connection, d.Seconds(), why)
	return unavailable(err)
}

// HeldUntil tells until when one connection is held; the zero time if it is not.
func (s *Store) HeldUntil(ctx context.Context, workspace, connection uuid.UUID) (until time.Time, why string, err error) {
	err = s.node.QueryRow(ctx, "SELECT held, why FROM connection_gate WHERE workspace_id = $1 AND connection_id = $2 AND held > now()", workspace, connection).Scan(&until, &why)
	if errors.Is(err, pgx.ErrNoRows) {
		return time.Time{}, "", nil
	}
	return until, why, translate(err)
}

// Held tells until when each connection of a workspace is held, and why.
func (s *Store) Held(ctx context.Context, sc Scope) (map[uuid.UUID]Hold, error) {
	out := map[uuid.UUID]Hold{}
	err := s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT connection_id, held, why FROM connection_gate WHERE held > now()")
		if err != nil {
			return err
		}
		var id uuid.UUID
		var h Hold
		_, err = pgx.ForEachRow(rows, []any{&id, &h.Until, &h.Why}, func() error { out[id] = h; return nil })
		return err
	})
	return out, err
}

// Hold is how long a connection waits, and why.
type Hold struct {
	Until time.Time
	Why   string
}

// Callback is the place in a run that a callback's token stands for.
type Callback struct {
	Workspace, Run  uuid.UUID
	Step            uint16
	Rounds, Address []byte
}

// CallbackLasts is how long a callback's address is good.
const CallbackLasts = 30 * 24 * time.Hour

// KeepCallback remembers what a token stands for. The same place has the same
// token, so that this may be said again.
func (s *Store) KeepCallback(ctx context.Context, token string, c Callback) error {
	_, err := s.node.Exec(ctx, `INSERT INTO callback (hash, workspace_id, run_id, step, rounds, address, expires) VALUES ($1, $2, $3, $4, $5, $6, now() + make_interval(secs => $7))
		ON CONFLICT (hash) DO UPDATE SET expires = EXCLUDED.expires`, hashOf(token), c.Workspace, c.Run, int(c.Step), c.Rounds, c.Address, CallbackLasts.Seconds())
	return unavailable(err)
}

// CalledBack makes the run that waits for a job look at it now, or as soon as it
// would wait. An unknown token is answered like a known one.
func (s *Store) CalledBack(ctx context.Context, token string) error {
	tag, err := s.node.Exec(ctx, `WITH w AS (UPDATE waiting SET due = now() FROM callback c
			WHERE c.hash = $1 AND c.expires > now() AND waiting.workspace_id = ANY (ARRAY[c.workspace_id]) AND waiting.run_id = c.run_id AND waiting.step = c.step AND waiting.rounds = c.rounds AND waiting.address = c.address)
		UPDATE live SET called = NOT (state = 'waiting' AND reason IN ('job_running', 'items_wait')), wake = CASE WHEN state = 'waiting' AND reason IN ('job_running', 'items_wait') THEN now() ELSE wake END FROM callback c
		WHERE c.hash = $1 AND c.expires > now() AND live.workspace_id = ANY (ARRAY[c.workspace_id]) AND live.run_id = c.run_id`, hashOf(token))
	if err == nil && tag.RowsAffected() > 0 {
		_, err = s.WakeDue(ctx)
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "NOTIFY trellis_queue")
	}
	return unavailable(err)
}

// Consent is an authorization under way.
type Consent struct {
	ID         uuid.UUID
	Connection uuid.UUID
	Name       string // of the connection
	Workspace  uuid.UUID
	Verifier   []byte // sealed
	Redirect   string
}

// ConsentLasts is how long a person has to consent.
const ConsentLasts = 10 * time.Minute

// BeginConsent stores what an authorization must come back with. Session is the
// browser's cookie, or empty for the command line.
func (s *Store) BeginConsent(ctx context.Context, sc Scope, state, session string, c Consent) error {
	var bound []byte
	if session != "" {
		bound = hashOf(session)
	}
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `INSERT INTO consent (state, workspace_id, connection_id, person_id, session, verifier, id, redirect, expires) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, now() + make_interval(secs => $9))`,
			hashOf(state), sc.workspace, c.Connection, sc.person, bound, c.Verifier, c.ID, c.Redirect, ConsentLasts.Seconds())
		return err
	})
}

// TakeConsent finds and uses up what a state stands for: it must belong to the
// same person and browser, and be younger than ten minutes.
func (s *Store) TakeConsent(ctx context.Context, sc Scope, state, session string) (c Consent, err error) {
	var bound []byte
	if session != "" {
		bound = hashOf(session)
	}
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, `DELETE FROM consent c USING connection k WHERE c.state = $1 AND c.person_id = $2 AND c.session IS NOT DISTINCT FROM $3 AND c.expires > now() AND k.id = c.connection_id
			RETURNING c.id, c.connection_id, k.name, c.verifier, c.redirect`, hashOf(state), sc.person, bound).Scan(&c.ID, &c.Connection, &c.Name, &c.Verifier, &c.Redirect)
	})
	c.Workspace = sc.workspace
	return c, err
}
