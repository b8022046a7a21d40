package store

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
)

// OpenSession begins a node's lease. Sessions that the same node left behind
// are taken over at once: its name is locked on its machine, so they are dead,
// and so are the calls that they had leave for.
func (s *Store) OpenSession(ctx context.Context, node string) (id uuid.UUID, err error) {
	id = NewID()
	rows, err := s.node.Query(ctx, "SELECT id FROM node_session WHERE node = $1 AND ended IS NULL", node)
	if err != nil {
		return id, unavailable(err)
	}
	before, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	if err != nil {
		return id, unavailable(err)
	}
	err = s.unblocked(ctx, before, func(c *pgxpool.Conn) error {
		return pgx.BeginFunc(ctx, c, func(tx pgx.Tx) error {
			rows, err := tx.Query(ctx, "SELECT id FROM node_session WHERE node = $1 AND ended IS NULL FOR UPDATE", node)
			if err != nil {
				return err
			}
			old, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
			if err != nil {
				return err
			}
			if len(old) > 0 {
				if err := release(ctx, tx, old, byDeath); err != nil {
					return err
				}
				if _, err := tx.Exec(ctx, "DELETE FROM connection_permit WHERE session_id = ANY($1)", old); err != nil {
					return err
				}
			}
			_, err = tx.Exec(ctx, "INSERT INTO node_session (id, node) VALUES ($1, $2)", id, node)
			return err
		})
	})
	return id, unavailable(err)
}

// unblocked does something on a connection, and ends meanwhile the server processes of
// these sessions' nodes that hold it up: what they were sent half of a batch and then
// nothing more, whoever starts anew under their name would wait for.
func (s *Store) unblocked(ctx context.Context, sessions []uuid.UUID, do func(c *pgxpool.Conn) error) error {
	return s.node.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
		done := make(chan struct{})
		var wait sync.WaitGroup
		for _, id := range sessions {
			wait.Go(func() { s.endBlockers(ctx, c.Conn().PgConn().PID(), id, done) })
		}
		defer wait.Wait()
		defer close(done)
		return do(c)
	})
}

// manner in which a session ends.
type manner int

const (
	byDeath manner = iota
	inOrder
)

// releaseSQL ends sessions and gives their runs back to the queue. A run that
// had begun counts a takeover, and remembers when its owner was last seen; one
// that somebody cancelled is over. $2: it was in order, and nothing was in flight.
// The death of a suspect's node counts against it only while nodes live without
// its workflow: where they die of others too, of two or more within two minutes,
// the machine or the database is to blame.
const releaseSQL = `WITH n AS (UPDATE node_session s SET ended = now(), begun = CASE WHEN NOT $2 THEN ARRAY(SELECT DISTINCT l.workflow_id FROM live l WHERE l.session_id = s.id AND l.begun ORDER BY 1) END
		WHERE id = ANY($1) AND ended IS NULL RETURNING id, seen),
	d AS (DELETE FROM live l USING n WHERE l.session_id = n.id AND l.cancel > 0 RETURNING l.*),
	i AS (` + cancelledEndSQL + `)
	UPDATE live l SET state = 'queued', session_id = NULL, begun = false, woken = false,
		takeovers = takeovers + CASE WHEN $2 OR NOT l.begun THEN 0
			WHEN takeovers >= $3 AND (SELECT count(DISTINCT x.begun) FROM node_session x WHERE x.ended > now() - interval '2 minutes' AND NOT l.workflow_id = ANY (x.begun)) >= 2 THEN 0
			ELSE 1 END,
		interrupted = CASE WHEN $2 THEN interrupted ELSE least(interrupted, n.seen) END
	FROM n WHERE l.session_id = n.id AND l.cancel = 0`

// release ends sessions in one of two ways.
func release(ctx context.Context, tx pgx.Tx, sessions []uuid.UUID, how manner) error {
	_, err := tx.Exec(ctx, releaseSQL, sessions, how == inOrder, Suspect)
	if err == nil {
		_, err = tx.Exec(ctx, "NOTIFY trellis_queue")
	}
	return err
}

// Beat raises the lease's counter. ErrFenced: the session has ended.
func (s *Store) Beat(ctx context.Context, id uuid.UUID) error {
	tag, err := s.node.Exec(ctx, "UPDATE node_session SET beat = beat + 1, seen = now() WHERE id = $1 AND ended IS NULL", id)
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

// takeoverWithin is how long a takeover waits for what the dead node holds.
const takeoverWithin = 15 * time.Second

// TakeOver ends a session whose beat still is the one seen, and gives its runs
// back to the queue. Where the dead node's own database sessions hold it up,
// they are ended; nobody else's are.
func (s *Store) TakeOver(ctx context.Context, id uuid.UUID, beat int64) (taken bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, takeoverWithin)
	defer cancel()
	err = s.unblocked(ctx, []uuid.UUID{id}, func(c *pgxpool.Conn) error {
		return pgx.BeginFunc(ctx, c, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, fmt.Sprintf("SET LOCAL lock_timeout = %d", (answerWithin-time.Second).Milliseconds())); err != nil {
				return err
			}
			err := tx.QueryRow(ctx, "SELECT true FROM node_session WHERE id = $1 AND beat = $2 AND ended IS NULL FOR UPDATE", id, beat).Scan(&taken)
			if errors.Is(err, pgx.ErrNoRows) {
				return nil
			}
			if err != nil {
				return err
			}
			return release(ctx, tx, []uuid.UUID{id}, byDeath)
		})
	})
	return taken && err == nil, unavailable(err)
}

// blocked is how long something is held up until what holds it up is ended: far
// longer than any of our transactions take.
const blocked = 2 * time.Second

// endBlockers ends, until done, the server processes of a session's node that
// hold a waiting one up.
func (s *Store) endBlockers(ctx context.Context, waiting uint32, session uuid.UUID, done <-chan struct{}) {
	for {
		select {
		case <-done:
			return
		case <-ctx.Done():
			return
		case <-time.After(blocked):
		}
		// Where it fails, what waits ends by its own timeout and is tried again.
		_, _ = s.node.Exec(ctx, "SELECT end_blockers($1, $2)", int32(waiting), session)
	}
}

// CloseSession ends a lease in order: what it still held goes back, and counts
// no takeover.
func (s *Store) CloseSession(ctx context.Context, id uuid.UUID) error {
	return unavailable(pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		return release(ctx, tx, []uuid.UUID{id}, inOrder)
	}))
}

// adoptSQL makes entries of what former owners left behind for the runs in s. A
// definite result replaces one that was not known, as long as the run is in the
// same pass: nobody has decided anything about it yet.
const adoptSQL = `, g AS (DELETE FROM stray x USING s WHERE x.workspace_id = ANY (ARRAY[s.workspace_id]) AND x.run_id = s.run_id RETURNING x.*, s.pass AS now)
	INSERT INTO journal AS j (` + journalColumns + `) SELECT ` + journalColumns + ` FROM g WHERE pass = now ORDER BY workspace_id, run_id, pass, step, rounds, address, part
	ON CONFLICT (workspace_id, run_id, pass, step, rounds, address, part) DO UPDATE SET outcome = EXCLUDED.outcome, attempts = EXCLUDED.attempts, started = EXCLUDED.started, ended = EXCLUDED.ended,
		units = EXCLUDED.units, result = EXCLUDED.result, sealed = EXCLUDED.sealed, request = EXCLUDED.request, failure = EXCLUDED.failure
	WHERE j.outcome = 'unknown' AND EXCLUDED.outcome <> 'unknown' AND j.generation = EXCLUDED.generation`

// Adopt makes entries of what former owners of the session's runs left behind.
func (s *Store) Adopt(ctx context.Context, session uuid.UUID) error {
	return unavailable(pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT hold_session($1)", session); err != nil {
			return fenced(err)
		}
		_, err := tx.Exec(ctx, `WITH s AS MATERIALIZED (SELECT l.workspace_id, l.run_id, l.pass FROM live l
			CROSS JOIN LATERAL (SELECT FROM stray WHERE workspace_id = l.workspace_id AND run_id = l.run_id LIMIT 1) x WHERE l.session_id = $1)`+adoptSQL, session)
		return err
	}))
}

// AdoptEnded does the same for runs that have ended meanwhile, or wait, and
// forgets what belongs to no run.
func (s *Store) AdoptEnded(ctx context.Context) error {
	_, err := s.node.Exec(ctx, `WITH s AS MATERIALIZED (SELECT d.workspace_id, d.run_id, coalesce(l.pass, r.pass) AS pass
			FROM (SELECT DISTINCT x.workspace_id, x.run_id FROM stray x) d
			LEFT JOIN LATERAL (SELECT pass, state FROM live WHERE workspace_id = d.workspace_id AND run_id = d.run_id LIMIT 1) l ON true
			LEFT JOIN LATERAL (SELECT pass FROM run WHERE workspace_id = d.workspace_id AND run_id = d.run_id LIMIT 1) r ON true
			WHERE l.state = 'waiting' OR l.state IS NULL AND r.pass IS NOT NULL LIMIT 1000)`+adoptSQL)
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM stray x WHERE x.came < now() - interval '1 hour' AND NOT EXISTS (SELECT FROM live l WHERE l.workspace_id = x.workspace_id AND l.run_id = x.run_id)")
	}
	return unavailable(err)
}

// wakeMost is how many runs are woken together.
const wakeMost = 500

// WakeDue queues waiting runs whose time has come, the longest due first, and
// tells all nodes.
func (s *Store) WakeDue(ctx context.Context) (int64, error) {
	var tag pgconn.CommandTag
	err := pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) (err error) {
		if _, err = tx.Exec(ctx, `SELECT hold_lines(array_agg(workspace_id), array_agg(workflow_id), array_agg(''::text))
			FROM (SELECT workspace_id, workflow_id FROM live WHERE state = 'waiting' AND wake <= now() AND limited ORDER BY wake LIMIT $1) x HAVING count(*) > 0`, wakeMost); err != nil {
			return err
		}
		tag, err = tx.Exec(ctx, `WITH due AS (SELECT workspace_id, run_id FROM live WHERE state = 'waiting' AND wake <= now() ORDER BY wake LIMIT $1 FOR UPDATE SKIP LOCKED),
		u AS (UPDATE live l SET state = 'queued', woken = reason IN ('job_running', 'items_wait') FROM due WHERE l.workspace_id = ANY (ARRAY[due.workspace_id]) AND l.run_id = due.run_id RETURNING l.run_id)
		SELECT run_id, pg_notify('trellis_queue', '') FROM u`, wakeMost)
		return err
	})
	return tag.RowsAffected(), unavailable(err)
}

// Cancelled is a run that somebody wants to end, or to try nothing further in.
type Cancelled struct {
	Run    uuid.UUID
	Cancel int  // 1: asked; 2: asked again, its calls are cut
	Halt   bool // no further set-aside item is to be tried again
}

const cancelledSQL = "SELECT run_id, cancel, halt FROM live WHERE session_id = $1 AND (cancel > 0 OR halt)"

// Cancelled lists the runs of a session that somebody wants to end.
func (s *Store) Cancelled(ctx context.Context, session uuid.UUID) ([]Cancelled, error) {
	rows, err := s.node.Query(ctx, cancelledSQL, session)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Cancelled])
	return out, unavailable(err)
}

// Sweep forgets what has expired.
func (s *Store) Sweep(ctx context.Context) error {
	_, err := s.node.Exec(ctx, "DELETE FROM start_key WHERE ctid IN (SELECT ctid FROM start_key WHERE expires < now() LIMIT 10000)")
	if err == nil {
		_, err = s.people.Exec(ctx, "DELETE FROM browser_session WHERE seen < now() - $1::interval OR created < now() - $2::interval", SessionIdle.String(), SessionMost.String())
	}
	if err == nil {
		_, err = s.people.Exec(ctx, "DELETE FROM known_device WHERE seen < now() - $1::interval", DeviceKnown.String())
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM consent WHERE expires < now()")
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM callback WHERE expires < now()")
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM answer WHERE expires < now()")
	}
	if err == nil { // a resume writes them again
		_, err = s.node.Exec(ctx, "DELETE FROM waiting w WHERE NOT EXISTS (SELECT FROM live l WHERE l.workspace_id = w.workspace_id AND l.run_id = w.run_id)")
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM aside WHERE since < now() - $1::interval", AsideKept.String())
	}
	if err == nil { // a run's id tells when it began
		_, err = s.node.Exec(ctx, "DELETE FROM found WHERE run_id < $1", firstOf(time.Now().Add(-foundKept)))
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM mending WHERE started < now() - $1::interval", AsideKept.String())
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM connection_permit WHERE until < now()")
	}
	if err == nil {
		_, err = s.node.Exec(ctx, "DELETE FROM missed_time WHERE noted < now() - $1::interval", missedKept.String())
	}
	if err == nil {
		err = s.SweepFiles(ctx)
	}
	return unavailable(err)
}

// Channels of notices.
const (
	QueueChannel  = "trellis_queue"  // something was queued
	CancelChannel = "trellis_cancel" // somebody wants a run to end
	StrayChannel  = "trellis_stray"  // a former owner left something behind
)

// listenQuiet is how long a listener is believed that hears nothing.
const listenQuiet = 5 * time.Second

// Listen calls wake for each notice until ctx ends. It connects anew after an
// interruption, and asks for itself when nothing was heard for a while; either
// way wake is called, since something may have been missed.
func (s *Store) Listen(ctx context.Context, wake func(channel string)) {
	for ctx.Err() == nil {
		_ = s.node.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
			if _, err := c.Exec(ctx, "LISTEN "+QueueChannel+"; LISTEN "+CancelChannel+"; LISTEN "+StrayChannel); err != nil {
				return err
			}
			defer func() {
				ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
				defer cancel()
				_, _ = c.Exec(ctx, "UNLISTEN *")
			}()
			for {
				quiet, cancel := context.WithTimeout(ctx, listenQuiet)
				n, err := c.Conn().WaitForNotification(quiet)
				cancel()
				switch {
				case err == nil:
					wake(n.Channel)
				case ctx.Err() != nil || c.Conn().IsClosed():
					return err
				default:
					if _, err := c.Exec(ctx, "SELECT 1"); err != nil {
						return err
					}
					wake(QueueChannel)
				}
			}
		})
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
			wake(QueueChannel)
		}
	}
}
