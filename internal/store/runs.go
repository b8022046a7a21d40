package store

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
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
	Cancel     int // 1: it is to end; 2: its calls are cut
}

// RunFilter narrows a list of runs. Zero fields do not.
type RunFilter struct {
	Workflow uuid.UUID
	State    string
	Fate     string    // at least one of its items ended so: a name of the counts
	From, To time.Time // when it was accepted; To is excluded
	Before   uuid.UUID
	Limit    int
}

func scanRun(row pgx.CollectableRow) (Run, error) {
	var r Run
	var counts []byte
	err := row.Scan(&r.ID, &r.Workflow, &r.Name, &r.Title, &r.State, &r.Pass, &r.Trigger, &r.Label, &r.Revision, &r.Accepted, &r.Ended, &r.Reason, &r.Message, &r.Connection, &r.Wake, &counts, &r.Cancel)
	if err == nil && counts != nil {
		r.Counts = &engine.Counts{}
		err = json.Unmarshal(counts, r.Counts)
	}
	return r, err
}

// runsSQL lists runs from live and run alike. Where narrows each of the two, and
// is a text of its own for each combination of filters, so that the plan that
// the server keeps for it is the right one whatever the values are.
func runsSQL(where string) string {
	return `SELECT r.run_id, r.workflow_id, w.name, w.title, r.state, r.pass, r.trigger, r.label, r.revision, r.accepted, r.ended, r.reason, r.message, r.connection, r.wake, r.counts, r.cancel FROM (
		(SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, NULL::timestamptz AS ended, reason, message, connection, wake, counts, cancel FROM live WHERE ` + where + `)
		UNION ALL
		(SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, '', message, '', NULL, counts, 0 FROM run WHERE ` + where + `)) r
		JOIN workflow w ON w.workspace_id = r.workspace_id AND w.id = r.workflow_id ORDER BY r.run_id DESC`
}

// Runs lists a page of runs, newest first.
func (s *Store) Runs(ctx context.Context, sc Scope, f RunFilter) (out []Run, err error) {
	sql, args := f.query(sc)
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, sql, args...)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanRun)
		return err
	})
	return out, err
}

func (f RunFilter) query(sc Scope) (string, []any) {
	if f.Before == uuid.Nil {
		f.Before = uuid.Max
	}
	if !f.To.IsZero() {
		if to := firstID(f.To); bytes.Compare(to[:], f.Before[:]) < 0 {
			f.Before = to
		}
	}
	where, args := "workspace_id = $1 AND run_id < $2", []any{sc.workspace, f.Before}
	if f.Workflow != uuid.Nil {
		args = append(args, f.Workflow)
		where += fmt.Sprintf(" AND workflow_id = $%d", len(args))
	}
	if f.State != "" {
		args = append(args, f.State)
		where += fmt.Sprintf(" AND state = $%d", len(args))
	}
	if !f.From.IsZero() {
		args = append(args, firstID(f.From))
		where += fmt.Sprintf(" AND run_id >= $%d", len(args))
	}
	if f.Fate != "" {
		args = append(args, f.Fate)
		where += fmt.Sprintf(" AND (convert_from(counts, 'UTF8')::jsonb ->> $%d)::bigint > 0", len(args))
		if trouble[f.Fate] {
			where += " AND state <> 'succeeded'"
		}
	}
	limit := fmt.Sprintf(" LIMIT %d", f.Limit) // as a parameter it would be taken for a tenth of the table
	return runsSQL(where+" ORDER BY run_id DESC"+limit) + limit, args
}

// trouble are fates with which a run has not simply succeeded.
var trouble = map[string]bool{"set_aside": true, "stopped": true, "may_have_been_sent": true}

// firstID is the least id that a run of this moment or later has (UUIDv7: the
// milliseconds come first).
func firstID(t time.Time) (id uuid.UUID) {
	binary.BigEndian.PutUint64(id[:8], uint64(t.UnixMilli())<<16)
	return id
}

// Run finds one run.
func (s *Store) Run(ctx context.Context, sc Scope, id uuid.UUID) (r Run, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, runsSQL("workspace_id = $1 AND run_id = $2")+" LIMIT 1", sc.workspace, id)
		if err != nil {
			return err
		}
		r, err = pgx.CollectExactlyOneRow(rows, scanRun)
		return err
	})
	return r, err
}

const (
	lastLiveSQL = `SELECT r.run_id, r.workflow_id, w.name, w.title, r.state, r.pass, r.trigger, r.label, r.revision, r.accepted, r.ended, r.reason, r.message, r.connection, r.wake, r.counts, r.cancel
		FROM (SELECT DISTINCT ON (workflow_id) run_id, workflow_id, state, pass, trigger, label, revision, accepted, NULL::timestamptz AS ended, reason, message, connection, wake, counts, cancel FROM live
			WHERE workspace_id = $1 AND workflow_id = ANY ($2) ORDER BY workflow_id, run_id DESC) r
		JOIN workflow w ON w.workspace_id = $1 AND w.id = r.workflow_id`
	// Between >= and <= only the index that begins with the workflow gives this
	// order; the planner would rather go through everybody's runs, in the hope of
	// coming upon one soon.
	lastEndedSQL = `SELECT r.run_id, r.workflow_id, w.name, w.title, r.state, r.pass, r.trigger, r.label, r.revision, r.accepted, r.ended, '', r.message, '', NULL::timestamptz, r.counts, 0
		FROM unnest($2::uuid[]) AS k(id) JOIN workflow w ON w.workspace_id = $1 AND w.id = k.id CROSS JOIN LATERAL (
			SELECT run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, message, counts FROM run
			WHERE workspace_id = $1 AND workflow_id >= k.id AND workflow_id <= k.id ORDER BY workflow_id, run_id DESC LIMIT 1) r`
)

// LastRuns finds the newest run of each of these workflows that has one.
func (s *Store) LastRuns(ctx context.Context, sc Scope, workflows []uuid.UUID) (map[uuid.UUID]Run, error) {
	out := map[uuid.UUID]Run{}
	err := s.within(ctx, sc, func(tx pgx.Tx) error {
		for _, sql := range []string{lastLiveSQL, lastEndedSQL} {
			rows, err := tx.Query(ctx, sql, sc.workspace, workflows)
			if err != nil {
				return err
			}
			list, err := pgx.CollectRows(rows, scanRun)
			if err != nil {
				return err
			}
			for _, r := range list {
				if known, ok := out[r.Workflow]; !ok || bytes.Compare(known.ID[:], r.ID[:]) < 0 {
					out[r.Workflow] = r
				}
			}
		}
		return nil
	})
	return out, err
}

// Pass is a stretch of a run.
type Pass struct {
	Number    int
	Workflow  uuid.UUID
	Revision  int
	Kind      string
	Chosen    []string
	Moves     map[string]string
	Mended    bool
	AtFirst   int // of the first: how many items it takes to its first write before a person has looked; 0: any number
	Started   time.Time
	StartedBy string

	Entries []*engine.Entry // that a person gave, for the items of a new pass
}

// Passes lists a run's passes in order.
func (s *Store) Passes(ctx context.Context, workspace, run uuid.UUID) (out []Pass, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT number, workflow_id, revision, kind, chosen, moves, mended,
				CASE WHEN number = 1 THEN coalesce((SELECT at_first FROM live WHERE run_id = $1), (SELECT at_first FROM run WHERE run_id = $1), 0) ELSE 0 END, started, started_by FROM pass WHERE run_id = $1 ORDER BY number`, run)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (p Pass, err error) {
			err = row.Scan(&p.Number, &p.Workflow, &p.Revision, &p.Kind, &p.Chosen, &p.Moves, &p.Mended, &p.AtFirst, &p.Started, &p.StartedBy)
			return p, err
		})
		return err
	})
	return out, err
}

// NewPass queues a further pass of a run that has ended: its kind, revision,
// chosen items and moves, with what a person gave for them. ErrNotFound: there is
// no such run, or it has not ended.
func (s *Store) NewPass(ctx context.Context, sc Scope, run uuid.UUID, p Pass) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		_, err := newPass(ctx, tx, sc.name, run, p)
		return err
	})
}

func newPass(ctx context.Context, tx pgx.Tx, by string, run uuid.UUID, p Pass) (number int, err error) {
	var workspace uuid.UUID
	err = tx.QueryRow(ctx, `WITH r AS (DELETE FROM run WHERE run_id = $1 AND state <> 'cancelled' RETURNING *)
		INSERT INTO live (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, library, accepted, lane, limited, deadline, hops, at_first)
		SELECT r.workspace_id, run_id, r.workflow_id, 'queued', pass + 1, trigger, label, v.number,
			(SELECT max(library) FROM revision v WHERE v.workflow_id = r.workflow_id AND (v.number IN ($2, r.revision) OR v.number IN (SELECT revision FROM pass WHERE run_id = $1))), accepted,
			lane, v.parallel_runs > 0, now() + v.deadline, hops, r.at_first
		FROM r JOIN revision v ON v.workspace_id = r.workspace_id AND v.workflow_id = r.workflow_id AND v.number = CASE WHEN $2 = 0 THEN r.revision ELSE $2 END RETURNING workspace_id, pass, revision`, run, p.Revision).Scan(&workspace, &number, &p.Revision)
	if err != nil {
		return 0, err
	}
	_, err = tx.Exec(ctx, `INSERT INTO pass (workspace_id, run_id, number, workflow_id, revision, kind, chosen, moves, mended, started, started_by)
		SELECT workspace_id, run_id, $2, workflow_id, $3, $4, $5, $6, $7, now(), $8 FROM live WHERE run_id = $1`, run, number, p.Revision, p.Kind, p.Chosen, p.Moves, len(p.Entries) > 0, by)
	if err != nil {
		return 0, err
	}
	var given entries
	for _, e := range p.Entries {
		e.Pass = number
		w := &entryWrite{workspace: workspace, run: run, entry: e}
		if err := w.pack(); err != nil {
			return 0, err
		}
		given = append(given, w)
	}
	if len(given) > 0 {
		if _, err := tx.Exec(ctx, "INSERT INTO journal ("+journalColumns+") "+journalUnnest, given.columns()...); err != nil {
			return 0, err
		}
	}
	_, err = tx.Exec(ctx, "NOTIFY trellis_queue")
	return number, err
}

// Halt lets a run try no further set-aside item again: those that have begun go on
// to their end.
func (s *Store) Halt(ctx context.Context, sc Scope, runs ...uuid.UUID) error {
	return s.within(ctx, sc, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE live SET halt = true WHERE run_id = ANY ($1) AND NOT halt", runs)
		if err == nil && tag.RowsAffected() > 0 {
			_, err = tx.Exec(ctx, "NOTIFY trellis_cancel")
		}
		return err
	})
}

// CancelRun flags a live run; a second time its calls are cut. A parked or queued
// one ends at once.
func (s *Store) CancelRun(ctx context.Context, sc Scope, run uuid.UUID) (ended bool, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		var state string
		if _, err := tx.Exec(ctx, "SELECT hold_line(l) FROM live l WHERE run_id = $1 AND (lane <> '' OR limited)", run); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, "UPDATE live SET cancel = least(cancel + 1, 2), cancelled_by = CASE WHEN cancel = 0 THEN $2 ELSE cancelled_by END WHERE run_id = $1 RETURNING state", run, sc.name).Scan(&state); err != nil {
			return err
		}
		if state == "running" {
			_, err := tx.Exec(ctx, "NOTIFY trellis_cancel")
			return err
		}
		ended = true
		_, err := tx.Exec(ctx, `WITH d AS (DELETE FROM live WHERE run_id = $1 RETURNING *)
			`+cancelledEndSQL, run)
		return err
	})
	return ended, err
}

// LatticeShape is a stored page of the lattice without its rows.
type LatticeShape struct {
	Pass, Page int
	Shape      []byte // packed
}

// LatticeShapes lists the pages of the newest pass of a run that has any.
func (s *Store) LatticeShapes(ctx context.Context, sc Scope, run uuid.UUID) (out []LatticeShape, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT pass, page, shape FROM lattice
			WHERE workspace_id = $1 AND run_id = $2 AND pass = (SELECT max(pass) FROM lattice WHERE workspace_id = $1 AND run_id = $2) ORDER BY page`, sc.workspace, run)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[LatticeShape])
		return err
	})
	return out, err
}

// LatticePageOf finds the pages on which the row with a key may stand.
func (s *Store) LatticePageOf(ctx context.Context, sc Scope, run uuid.UUID, pass int, key []byte) (out []int, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT page FROM lattice WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 AND position($4::bytea in keys) > 0 ORDER BY page", sc.workspace, run, pass, key)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowTo[int])
		return err
	})
	return out, err
}

// LatticeBodies reads the rows of some pages of a pass, packed, in the order of
// their pages.
func (s *Store) LatticeBodies(ctx context.Context, sc Scope, run uuid.UUID, pass int, pages []int) (out [][]byte, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT body FROM lattice WHERE workspace_id = $1 AND run_id = $2 AND pass = $3 AND page = ANY($4) ORDER BY page", sc.workspace, run, pass, pages)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowTo[[]byte])
		return err
	})
	return out, err
}
