package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/expr"
)

// Bounds of what is kept of a workflow's events while it is paused.
const (
	MaxKept      = 1000
	MaxKeptBytes = 16 << 20
	KeptFor      = 7 * 24 * time.Hour
)

// What becomes of the events that were kept while a workflow was paused.
const (
	KeptStart   = "start"   // they start runs, in the order in which they came
	KeptDismiss = "dismiss" // they are forgotten
)

// KeptError says that somebody has to say what becomes of the events that were kept.
type KeptError struct{ Events int }

func (e *KeptError) Error() string { return "events were kept, and what becomes of them is not said" }

// Kept is an event that came while its workflow was paused.
type Kept struct {
	Workspace, Workflow, ID uuid.UUID
	Live                    int
	Items                   []byte   // a JSON list
	Keys                    []string // by which a repeat of it is known; nil: its workflow's own alone
}

// KeepEvent keeps the items of an event that came to a paused workflow. ErrConflict: it
// is not paused any more; ErrFull: as many are kept as may be. One with keys is kept
// once, by the last of them.
func (s *Store) KeepEvent(ctx context.Context, h Hook, items []byte, keys ...string) error {
	return s.within(ctx, s.HookScope(h), func(tx pgx.Tx) error {
		// Whoever lets it go on waits for this, and so sees the event.
		var state string
		if err := tx.QueryRow(ctx, "SELECT state FROM workflow WHERE id = $1 FOR SHARE", h.Workflow).Scan(&state); err != nil {
			return err
		}
		if state != "paused" {
			return ErrConflict
		}
		if _, err := tx.Exec(ctx, "DELETE FROM kept_event WHERE workflow_id = $1 AND starting IS NULL AND id < $2", h.Workflow, idAt(time.Now().Add(-KeptFor))); err != nil {
			return err
		}
		var n, bytes int
		if err := tx.QueryRow(ctx, "SELECT count(*), coalesce(sum(bytes), 0) FROM kept_event WHERE workflow_id = $1", h.Workflow).Scan(&n, &bytes); err != nil {
			return err
		}
		if n >= MaxKept || bytes+len(items) > MaxKeptBytes {
			return ErrFull
		}
		_, err := tx.Exec(ctx, "INSERT INTO kept_event (workspace_id, workflow_id, id, items, bytes, keys) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING", h.Workspace, h.Workflow, NewID(), pack(items), len(items), keys)
		return err
	})
}

// idAt is the least id that is made at a moment or later.
func idAt(at time.Time) uuid.UUID {
	var id uuid.UUID
	ms := at.UnixMilli()
	for i := range 6 {
		id[5-i] = byte(ms >> (8 * i))
	}
	id[6], id[8] = 0x70, 0x80
	return id
}

// KeptOf counts the events that are kept of each of these workflows.
func (s *Store) KeptOf(ctx context.Context, sc Scope, workflows []uuid.UUID) (map[uuid.UUID]int, error) {
	out := map[uuid.UUID]int{}
	err := s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT workflow_id, count(*) FROM kept_event WHERE workflow_id = ANY ($1) AND id >= $2 GROUP BY workflow_id", workflows, idAt(time.Now().Add(-KeptFor)))
		if err != nil {
			return err
		}
		var id uuid.UUID
		var n int
		_, err = pgx.ForEachRow(rows, []any{&id, &n}, func() error { out[id] = n; return nil })
		return err
	})
	return out, err
}

// settleKept says what becomes of the events that were kept of a workflow that goes on,
// or was paused anew: then those that had not started yet are kept again.
func settleKept(ctx context.Context, tx pgx.Tx, w Workflow, how string) error {
	if w.State == "paused" {
		_, err := tx.Exec(ctx, "UPDATE kept_event SET starting = NULL WHERE workflow_id = $1 AND starting IS NOT NULL", w.ID)
		return err
	}
	if _, err := tx.Exec(ctx, "DELETE FROM kept_event WHERE workflow_id = $1 AND starting IS NULL AND id < $2", w.ID, idAt(time.Now().Add(-KeptFor))); err != nil {
		return err
	}
	switch how {
	case KeptStart:
		_, err := tx.Exec(ctx, "UPDATE kept_event SET starting = now() WHERE workflow_id = $1 AND starting IS NULL", w.ID)
		return err
	case KeptDismiss:
		_, err := tx.Exec(ctx, "DELETE FROM kept_event WHERE workflow_id = $1 AND starting IS NULL", w.ID)
		return err
	}
	var n int
	if err := tx.QueryRow(ctx, "SELECT count(*) FROM kept_event WHERE workflow_id = $1 AND starting IS NULL", w.ID).Scan(&n); err != nil {
		return err
	}
	if n > 0 {
		return &KeptError{n}
	}
	return nil
}

// keptAgain is when an event is tried again that could not start.
const keptAgain = "10s"

// ClaimKept claims the first kept event that is to start, of a workflow of which nobody
// else holds one, for as long as work takes. Where work says that it is done with, it
// is forgotten; else it is tried again later, and the others of its workflow wait
// behind it. Found is false where there is none.
func (s *Store) ClaimKept(ctx context.Context, work func(Kept) (done bool)) (found bool, err error) {
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL idle_in_transaction_session_timeout = '"+claimIdle+"'"); err != nil {
			return err
		}
		var k Kept
		var packed []byte
		err := tx.QueryRow(ctx, `SELECT k.workspace_id, k.workflow_id, k.id, w.live, k.items, k.keys
			FROM (SELECT DISTINCT ON (workspace_id, workflow_id) workspace_id, workflow_id, id, starting FROM kept_event WHERE starting IS NOT NULL ORDER BY workspace_id, workflow_id, id) f
			JOIN kept_event k USING (workspace_id, workflow_id, id)
			JOIN workflow w ON w.workspace_id = k.workspace_id AND w.id = k.workflow_id AND w.state = 'live'
			JOIN revision r ON r.workspace_id = w.workspace_id AND r.workflow_id = w.id AND r.number = w.live AND r.library <= $1
			WHERE f.starting <= now() ORDER BY f.starting LIMIT 1 FOR UPDATE OF k SKIP LOCKED`, expr.Library).Scan(&k.Workspace, &k.Workflow, &k.ID, &k.Live, &packed, &k.Keys)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		found = true
		if k.Items, err = unpack(packed); err != nil {
			return err
		}
		how := "UPDATE kept_event SET starting = now() + interval '" + keptAgain + "'"
		if work(k) {
			how = "DELETE FROM kept_event"
		}
		_, err = tx.Exec(ctx, how+" WHERE workspace_id = $1 AND workflow_id = $2 AND id = $3", k.Workspace, k.Workflow, k.ID)
		return err
	})
	return found, unavailable(err)
}

// ForgetKept forgets what was kept for too long.
func (s *Store) ForgetKept(ctx context.Context) error {
	_, err := s.node.Exec(ctx, "DELETE FROM kept_event WHERE starting IS NULL AND id < $1", idAt(time.Now().Add(-KeptFor)))
	return unavailable(err)
}
