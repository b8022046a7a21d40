package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/lists"
)

// DueNow is a schedule that is due, with the revision that its run begins with.
type DueNow struct {
	Scheduled
	Live int
}

// claimIdle is how long whoever claimed schedules may be silent: a node that stands
// still lets go of them.
const claimIdle = "10s"

// claimDueSQL leaves those to newer nodes whose revision was made with functions that
// are not known here.
const claimDueSQL = `SELECT ` + scheduledColumns + `, w.live FROM schedule s
	JOIN workflow w ON w.workspace_id = s.workspace_id AND w.id = s.workflow_id
	JOIN revision r ON r.workspace_id = w.workspace_id AND r.workflow_id = w.id AND r.number = w.live AND r.library <= $2
	WHERE s.next <= clock_timestamp() ORDER BY s.next LIMIT $1 FOR UPDATE OF s SKIP LOCKED`

// ClaimDue claims schedules that are due by the database's clock, for as long as work
// takes, and stores what it gives: each claimed one as it goes on, and what was missed.
// It gives how many were claimed, and how long it is until the next is due; nobody
// else claims the same meanwhile.
func (s *Store) ClaimDue(ctx context.Context, most int, work func(now time.Time, due []DueNow) ([]Scheduled, []MissedTimes)) (claimed int, wait time.Duration, err error) {
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL idle_in_transaction_session_timeout = '"+claimIdle+"'"); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, claimDueSQL, most, expr.Library)
		if err != nil {
			return err
		}
		due, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (x DueNow, err error) {
			err = row.Scan(append(x.into(), &x.Live)...)
			return x, err
		})
		if err != nil {
			return err
		}
		var now time.Time
		var next *time.Time
		if err := tx.QueryRow(ctx, "SELECT clock_timestamp(), (SELECT min(next) FROM schedule WHERE next > clock_timestamp())").Scan(&now, &next); err != nil {
			return err
		}
		if wait = time.Hour; next != nil {
			wait = next.Sub(now)
		}
		if claimed = len(due); claimed == 0 {
			return nil
		}
		on, missed := work(now, due)
		return moveOn(ctx, tx, on, missed)
	})
	return claimed, wait, unavailable(err)
}

// moveOn stores how claimed schedules go on.
func moveOn(ctx context.Context, tx pgx.Tx, on []Scheduled, missed []MissedTimes) error {
	if len(on) > 0 {
		_, err := tx.Exec(ctx, `UPDATE schedule s SET rules = n.rules, previous = n.previous, due = n.due, due_key = n.due_key, next = n.next, trouble = n.trouble FROM (`+scheduledUnnest+`)
			AS n(workspace_id, workflow_id, reader, cadence, zone, rules, anchor, previous, due, due_key, next, missed, most, trouble, list, list_version)
			WHERE s.workspace_id = n.workspace_id AND s.workflow_id = n.workflow_id AND s.reader = n.reader`, scheduledArrays(on)...)
		if err != nil {
			return err
		}
	}
	for _, m := range missed {
		if _, err := tx.Exec(ctx, "INSERT INTO missed_time (workspace_id, workflow_id, reader, first, last, times, started) VALUES ($1, $2, $3, $4, $5, $6, $7)", m.Workspace, m.Workflow, m.Reader, m.First, m.Last, m.Times, m.Started); err != nil {
			return err
		}
	}
	return nil
}

// ZoneRules are the rules by which schedules of a zone were worked out.
type ZoneRules struct{ Zone, Rules string }

// ZonesInUse lists the zones of schedules that are due some time, with the rules by
// which they were worked out.
func (s *Store) ZonesInUse(ctx context.Context) ([]ZoneRules, error) {
	rows, err := s.node.Query(ctx, "SELECT DISTINCT zone, rules FROM schedule WHERE next IS NOT NULL")
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[ZoneRules])
	return out, unavailable(err)
}

// Rework claims schedules that were worked out by other rules of their zone, and
// stores them as work gives them. It gives how many there were.
func (s *Store) Rework(ctx context.Context, z ZoneRules, most int, work func([]Scheduled) []Scheduled) (n int, err error) {
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT "+scheduledColumns+" FROM schedule s WHERE s.zone = $1 AND s.rules = $2 AND s.next IS NOT NULL LIMIT $3 FOR UPDATE SKIP LOCKED", z.Zone, z.Rules, most)
		if err != nil {
			return err
		}
		list, err := pgx.CollectRows(rows, scanScheduled)
		if err != nil {
			return err
		}
		n = len(list)
		return moveOn(ctx, tx, work(list), nil)
	})
	return n, unavailable(err)
}

// Readers are the schedules of a workflow that each row of a list has for itself.
type Readers struct {
	Workspace, Workflow uuid.UUID
	Live                int
	Version             int         // of the list; 0: there is none
	Known               []Scheduled // with that of the workflow itself
}

// SyncReaders finds a live workflow whose list of readers has changed since their
// schedules were made, holds its schedules, and makes those that work gives its
// schedules. Found is false where there is none.
func (s *Store) SyncReaders(ctx context.Context, work func(now time.Time, r Readers) ([]Scheduled, error)) (found bool, err error) {
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SET LOCAL idle_in_transaction_session_timeout = '"+claimIdle+"'"); err != nil {
			return err
		}
		var r Readers
		err := tx.QueryRow(ctx, `SELECT s.workspace_id, s.workflow_id, w.live, coalesce(l.version, 0) FROM schedule s
			JOIN workflow w ON w.workspace_id = s.workspace_id AND w.id = s.workflow_id AND w.state = 'live'
			JOIN revision r ON r.workspace_id = w.workspace_id AND r.workflow_id = w.id AND r.number = w.live AND r.library <= $1
			LEFT JOIN list l ON l.workspace_id = s.workspace_id AND l.name = s.list
			WHERE s.list <> '' AND s.list_version <> coalesce(l.version, 0) LIMIT 1 FOR UPDATE OF s SKIP LOCKED`, expr.Library).Scan(&r.Workspace, &r.Workflow, &r.Live, &r.Version)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		found = true
		rows, err := tx.Query(ctx, "SELECT "+scheduledColumns+" FROM schedule s WHERE s.workspace_id = $1 AND s.workflow_id = $2 ORDER BY s.reader FOR UPDATE", r.Workspace, r.Workflow)
		if err != nil {
			return err
		}
		if r.Known, err = pgx.CollectRows(rows, scanScheduled); err != nil {
			return err
		}
		var now time.Time
		if err := tx.QueryRow(ctx, "SELECT clock_timestamp() FROM set_config('trellis.workspace', $1, true)", r.Workspace.String()).Scan(&now); err != nil {
			return err
		}
		list, err := work(now, r)
		if err != nil {
			return err
		}
		return setSchedules(ctx, tx, Workflow{ID: r.Workflow}, list)
	})
	return found, unavailable(err)
}

// ReaderRow gives the fields of one row of a list. ErrNotFound: there is none.
func (s *Store) ReaderRow(ctx context.Context, workspace uuid.UUID, list, key string) (fields map[string]any, err error) {
	err = s.within(ctx, s.forWorkspace(workspace), func(tx pgx.Tx) error {
		l, err := listOf(ctx, tx, list, "")
		if err != nil {
			return err
		}
		var text string
		if err := tx.QueryRow(ctx, "SELECT fields FROM list_row WHERE list_id = $1 AND key = $2 AND until IS NULL", l.ID, key).Scan(&text); err != nil {
			return err
		}
		row := lists.Row{Key: key}
		if row.Fields, err = item.DecodeObject([]byte(text)); err != nil {
			return err
		}
		fields = row.Item(l.Columns)
		return nil
	})
	return fields, err
}
