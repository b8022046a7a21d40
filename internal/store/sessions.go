package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// OpenSession begins a node's lease. Sessions that the same node left behind
// are taken over at once: its name is locked on its machine, so they are dead.
func (s *Store) OpenSession(ctx context.Context, node string) (id uuid.UUID, err error) {
	id = NewID()
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT id FROM node_session WHERE node = $1 AND ended IS NULL FOR UPDATE", node)
		if err != nil {
			return err
		}
		old, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE node_session SET ended = now() WHERE id = ANY($1)", old); err != nil {
			return err
		}
		if err := release(ctx, tx, old); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "INSERT INTO node_session (id, node) VALUES ($1, $2)", id, node)
		return err
	})
	return id, unavailable(err)
}

// MaxTakeovers is how often a run may be taken over before it is held to be
// what stops the nodes.
const MaxTakeovers = 3

// release gives the runs of ended sessions back to the queue.
func release(ctx context.Context, tx pgx.Tx, sessions []uuid.UUID) error {
	if len(sessions) == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, "UPDATE live SET state = 'queued', session_id = NULL, takeovers = takeovers + 1 WHERE session_id = ANY($1)", sessions)
	if err == nil {
		_, err = tx.Exec(ctx, "NOTIFY trellis_queue")
	}
	return err
}

// Beat raises the lease's counter. ErrFenced: the session has ended.
func (s *Store) Beat(ctx context.Context, id uuid.UUID) error {
	tag, err := s.node.Exec(ctx, "UPDATE node_session SET beat = beat + 1 WHERE id = $1 AND ended IS NULL", id)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrFenced
	}
	return unavailable(err)
}

// Beats reads the counters of all open sessions.
func (s *Store) Beats(ctx context.Context) (map[uuid.UUID]int64, error) {
	rows, err := s.node.Query(ctx, "SELECT id, beat FROM node_session WHERE ended IS NULL")
	if err != nil {
		return nil, unavailable(err)
	}
	out := map[uuid.UUID]int64{}
	var id uuid.UUID
	var beat int64
	_, err = pgx.ForEachRow(rows, []any{&id, &beat}, func() error { out[id] = beat; return nil })
	return out, unavailable(err)
}

// TakeOver ends a session whose beat still is the one seen, and gives its runs
// back to the queue.
func (s *Store) TakeOver(ctx context.Context, id uuid.UUID, beat int64) error {
	return unavailable(pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE node_session SET ended = now() WHERE id = (SELECT id FROM node_session WHERE id = $1 AND beat = $2 AND ended IS NULL FOR UPDATE)", id, beat)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return release(ctx, tx, []uuid.UUID{id})
	}))
}

// CloseSession ends a lease in order: what it still held goes back.
func (s *Store) CloseSession(ctx context.Context, id uuid.UUID) error {
	return unavailable(pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE node_session SET ended = now() WHERE id = $1", id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, "UPDATE live SET state = 'queued', session_id = NULL WHERE session_id = $1", id); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "NOTIFY trellis_queue")
		return err
	}))
}

// Claimed is a run that a node has taken on.
type Claimed struct {
	Workspace, Run, Workflow uuid.UUID
	Pass                     int
	Takeovers                int
	Accepted                 time.Time
	Fresh                    *Start // of a run that this node has just accepted; nil for others
}

// Claim takes up to n queued runs for a session, the oldest of each workspace
// first, so that no workspace's flood delays another's.
func (s *Store) Claim(ctx context.Context, session uuid.UUID, n int) (out []Claimed, err error) {
	rows, err := s.node.Query(ctx, `WITH due AS (
			SELECT workspace_id, run_id, row_number() OVER (PARTITION BY workspace_id ORDER BY run_id) AS turn
			FROM (SELECT workspace_id, run_id FROM live WHERE state = 'queued' ORDER BY run_id LIMIT 1000) q),
		chosen AS (SELECT l.workspace_id, l.run_id FROM live l JOIN due USING (workspace_id, run_id)
			WHERE l.state = 'queued' ORDER BY due.turn, l.run_id LIMIT $2 FOR UPDATE OF l SKIP LOCKED)
		UPDATE live l SET state = 'running', session_id = $1, wake = NULL, reason = '', message = '' FROM chosen c
		WHERE l.workspace_id = c.workspace_id AND l.run_id = c.run_id AND EXISTS (SELECT FROM node_session WHERE id = $1 AND ended IS NULL)
		RETURNING l.workspace_id, l.run_id, l.workflow_id, l.pass, l.takeovers, l.accepted`, session, n)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (c Claimed, err error) {
		err = row.Scan(&c.Workspace, &c.Run, &c.Workflow, &c.Pass, &c.Takeovers, &c.Accepted)
		return c, err
	})
	return out, unavailable(err)
}

// WakeDue queues waiting runs whose time has come.
func (s *Store) WakeDue(ctx context.Context) (int64, error) {
	tag, err := s.node.Exec(ctx, "UPDATE live SET state = 'queued' WHERE state = 'waiting' AND wake <= now()")
	return tag.RowsAffected(), unavailable(err)
}

// Cancelled lists the runs of a session that somebody cancelled.
func (s *Store) Cancelled(ctx context.Context, session uuid.UUID) ([]uuid.UUID, error) {
	rows, err := s.node.Query(ctx, "SELECT run_id FROM live WHERE session_id = $1 AND cancel", session)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	return out, unavailable(err)
}

// Sweep forgets what has expired.
func (s *Store) Sweep(ctx context.Context) error {
	_, err := s.node.Exec(ctx, "DELETE FROM start_key WHERE ctid IN (SELECT ctid FROM start_key WHERE expires < now() LIMIT 10000)")
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM browser_session WHERE seen < now() - $1::interval OR created < now() - $2::interval", SessionIdle.String(), SessionMost.String())
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM consent WHERE expires < now()")
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM callback WHERE expires < now()")
	}
	if err == nil {
		err = s.SweepFiles(ctx)
	}
	return unavailable(err)
}

// Listen calls wake for each notice on the queue until ctx ends. It connects
// anew after an interruption.
func (s *Store) Listen(ctx context.Context, wake func(channel string)) {
	for ctx.Err() == nil {
		_ = s.node.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
			for _, ch := range []string{"trellis_queue", "trellis_cancel"} {
				if _, err := c.Exec(ctx, "LISTEN "+ch); err != nil {
					return err
				}
			}
			defer func() { _, _ = c.Exec(context.WithoutCancel(ctx), "UNLISTEN *") }()
			for {
				n, err := c.Conn().WaitForNotification(ctx)
				if err != nil {
					return err
				}
				wake(n.Channel)
			}
		})
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
			wake("trellis_queue")
		}
	}
}

// ForgetTakeovers records that a run taken over has got further.
func (s *Store) ForgetTakeovers(ctx context.Context, workspace, run uuid.UUID) {
	// If this fails, the run is only given up earlier than it need be.
	_, _ = s.node.Exec(ctx, "UPDATE live SET takeovers = 0 WHERE workspace_id = $1 AND run_id = $2", workspace, run)
}
