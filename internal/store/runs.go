package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
)

// Run is a run's line: what the lists show.
type Run struct {
	ID         uuid.UUID
	Workflow   uuid.UUID
	Name       string
	Title      string
	State      string
	Pass       int
	Trigger    string
	Label      string
	Revision   int
	Accepted   time.Time
	Ended      *time.Time
	Reason     string
	Message    string
	Connection string
	Wake       *time.Time
	Counts     *engine.Counts
}

// RunFilter narrows a list of runs. Zero fields do not.
type RunFilter struct {
	Workflow uuid.UUID
	State    string
	Before   uuid.UUID
	Limit    int
}

const runColumns = `r.run_id, r.workflow_id, w.name, w.title, r.state, r.pass, r.trigger, r.label, r.revision, r.accepted, r.ended, r.reason, r.message, r.connection, r.wake, r.counts`

func scanRun(row pgx.CollectableRow) (Run, error) {
	var r Run
	var counts []byte
	err := row.Scan(&r.ID, &r.Workflow, &r.Name, &r.Title, &r.State, &r.Pass, &r.Trigger, &r.Label, &r.Revision, &r.Accepted, &r.Ended, &r.Reason, &r.Message, &r.Connection, &r.Wake, &counts)
	if err == nil && counts != nil {
		r.Counts = &engine.Counts{}
		err = json.Unmarshal(counts, r.Counts)
	}
	return r, err
}

// Runs lists a page of runs, newest first.
func (s *Store) Runs(ctx context.Context, sc Scope, f RunFilter) (out []Run, err error) {
	if f.Before == uuid.Nil {
		f.Before = uuid.Max
	}
	where := `WHERE run_id < $1 AND ($2::uuid IS NULL OR workflow_id = $2) AND ($3 = '' OR state = $3) ORDER BY run_id DESC LIMIT $4`
	var workflow *uuid.UUID
	if f.Workflow != uuid.Nil {
		workflow = &f.Workflow
	}
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+runColumns+` FROM (
			(SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, NULL::timestamptz AS ended, reason, message, connection, wake, counts FROM live `+where+`)
			UNION ALL
			(SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, '', message, '', NULL, counts FROM run `+where+`)) r
			JOIN workflow w ON w.workspace_id = r.workspace_id AND w.id = r.workflow_id ORDER BY r.run_id DESC LIMIT $4`, f.Before, workflow, f.State, f.Limit)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanRun)
		return err
	})
	return out, err
}

// Run finds one run.
func (s *Store) Run(ctx context.Context, sc Scope, id uuid.UUID) (r Run, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+runColumns+` FROM (
			SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, NULL::timestamptz AS ended, reason, message, connection, wake, counts FROM live WHERE run_id = $1
			UNION ALL
			SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, '', message, '', NULL, counts FROM run WHERE run_id = $1) r
			JOIN workflow w ON w.workspace_id = r.workspace_id AND w.id = r.workflow_id LIMIT 1`, id)
		if err != nil {
			return err
		}
		r, err = pgx.CollectExactlyOneRow(rows, scanRun)
		return err
	})
	return r, err
}

// Pass is a stretch of a run.
type Pass struct {
	Number    int
	Workflow  uuid.UUID
	Revision  int
	Kind      string
	Chosen    []string
	Started   time.Time
	StartedBy string
}

// Passes lists a run's passes in order.
func (s *Store) Passes(ctx context.Context, workspace, run uuid.UUID) (out []Pass, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT number, workflow_id, revision, kind, chosen, started, started_by FROM pass WHERE run_id = $1 ORDER BY number", run)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[Pass])
		return err
	})
	return out, err
}

// NewPass queues a further pass of a run that has ended.
func (s *Store) NewPass(ctx context.Context, sc Scope, run uuid.UUID, kind string, chosen []string, revision int) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		var number int
		err := tx.QueryRow(ctx, `WITH r AS (DELETE FROM run WHERE run_id = $1 RETURNING *)
			INSERT INTO live (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted)
			SELECT workspace_id, run_id, workflow_id, 'queued', pass + 1, trigger, label, $2, accepted FROM r RETURNING pass`, run, revision).Scan(&number)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO pass (workspace_id, run_id, number, workflow_id, revision, kind, chosen, started, started_by)
			SELECT workspace_id, run_id, $2, workflow_id, $3, $4, $5, now(), $6 FROM live WHERE run_id = $1`, run, number, revision, kind, chosen, sc.name)
		if err == nil {
			_, err = tx.Exec(ctx, "NOTIFY trellis_queue")
		}
		return err
	})
}

// CancelRun flags a live run. A parked or queued one ends at once.
func (s *Store) CancelRun(ctx context.Context, sc Scope, run uuid.UUID) (ended bool, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		var state string
		if err := tx.QueryRow(ctx, "UPDATE live SET cancel = true WHERE run_id = $1 RETURNING state", run).Scan(&state); err != nil {
			return err
		}
		if state == "running" {
			_, err := tx.Exec(ctx, "NOTIFY trellis_cancel")
			return err
		}
		ended = true
		_, err := tx.Exec(ctx, `WITH d AS (DELETE FROM live WHERE run_id = $1 RETURNING *)
			INSERT INTO run (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, message, counts)
			SELECT workspace_id, run_id, workflow_id, 'cancelled', pass, trigger, label, revision, accepted, now(), 'cancelled by ' || $2, counts FROM d`, run, sc.name)
		return err
	})
	return ended, err
}

// PageOfLattice is a stored page of the lattice index.
type PageOfLattice struct {
	Page, FirstRow, Count int
	Fates                 []byte
	Body                  []byte
}

// LatticePass gives the newest pass of a run that has lattice pages.
func (s *Store) LatticePass(ctx context.Context, sc Scope, run uuid.UUID) (pass, rows int, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "SELECT pass, sum(row_count)::int FROM lattice WHERE run_id = $1 GROUP BY pass ORDER BY pass DESC LIMIT 1", run).Scan(&pass, &rows)
	})
	return pass, rows, err
}

// Lattice lists the pages of a pass, without their bodies if only the fates
// are wanted.
func (s *Store) Lattice(ctx context.Context, sc Scope, run uuid.UUID, pass int, bodies bool, from, to int) (out []PageOfLattice, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT page, first_row, row_count, fates, CASE WHEN $3 THEN body ELSE ''::bytea END FROM lattice
			WHERE run_id = $1 AND pass = $2 AND first_row + row_count > $4 AND first_row < $5 ORDER BY page`, run, pass, bodies, from, to)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[PageOfLattice])
		return err
	})
	return out, err
}
