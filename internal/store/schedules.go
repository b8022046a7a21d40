package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype/zeronull"
)

// Scheduled is when a workflow, or one reader of it, is due next.
type Scheduled struct {
	Workspace, Workflow uuid.UUID
	Reader              string // "" for the workflow itself
	Cadence             string // its sentence
	Zone, Rules         string
	Anchor, Previous    time.Time
	Due                 time.Time // zero: never again, or paused
	Key                 string
	Next                time.Time // when it starts; zero where Due is
	Missed              string
	Most                int
	Trouble             string // why it could not start the last time
	// List is that of the workspace whose rows are readers; the schedule itself is never
	// due then. Those of its readers were made by ListVersion of it.
	List        string
	ListVersion int
}

// NoVersion is the ListVersion of a schedule whose readers have none yet.
const NoVersion = -1

const scheduledColumns = "s.workspace_id, s.workflow_id, s.reader, s.cadence, s.zone, s.rules, s.anchor, s.previous, s.due, s.due_key, s.next, s.missed, s.most, s.trouble, s.list, s.list_version"

func scanScheduled(row pgx.CollectableRow) (x Scheduled, err error) {
	err = row.Scan(x.into()...)
	return x, err
}

// into are where a row's columns go.
func (x *Scheduled) into() []any {
	return []any{&x.Workspace, &x.Workflow, &x.Reader, &x.Cadence, &x.Zone, &x.Rules, &x.Anchor, &x.Previous, (*zeronull.Timestamptz)(&x.Due), &x.Key, (*zeronull.Timestamptz)(&x.Next), &x.Missed, &x.Most, &x.Trouble, &x.List, &x.ListVersion}
}

// Schedules lists those of a workflow, with the time by the database's clock.
func (s *Store) Schedules(ctx context.Context, sc Scope, workflow uuid.UUID) (out []Scheduled, now time.Time, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&now); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, "SELECT "+scheduledColumns+" FROM schedule s WHERE s.workflow_id = $1 ORDER BY s.reader", workflow)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, scanScheduled)
		return err
	})
	return out, now, err
}

// SchedulesOf lists the first due schedule of each of these workflows that has any, and
// the first that has some trouble.
func (s *Store) SchedulesOf(ctx context.Context, sc Scope, workflows []uuid.UUID) (map[uuid.UUID][]Scheduled, error) {
	out := map[uuid.UUID][]Scheduled{}
	err := s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT DISTINCT ON (s.workflow_id, s.trouble = '') "+scheduledColumns+" FROM schedule s WHERE s.workflow_id = ANY ($1) ORDER BY s.workflow_id, s.trouble = '', s.next NULLS LAST", workflows)
		if err != nil {
			return err
		}
		list, err := pgx.CollectRows(rows, scanScheduled)
		for _, x := range list {
			out[x.Workflow] = append(out[x.Workflow], x)
		}
		return err
	})
	return out, err
}

// Soon is a schedule with the workflow that it starts.
type Soon struct {
	Scheduled
	Name, Title, State string
}

// ScheduleList lists the schedules of a workspace, or of one workflow, those that are
// due first first, with the time by the database's clock.
func (s *Store) ScheduleList(ctx context.Context, sc Scope, workflow uuid.UUID, limit int) (out []Soon, now time.Time, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&now); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, "SELECT "+scheduledColumns+", w.name, w.title, w.state FROM schedule s JOIN workflow w ON w.workspace_id = s.workspace_id AND w.id = s.workflow_id WHERE s.list = '' AND ($1::uuid = '00000000-0000-0000-0000-000000000000' OR s.workflow_id = $1) ORDER BY s.next NULLS LAST, w.name, s.reader LIMIT $2", workflow, limit)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (x Soon, err error) {
			err = row.Scan(append(x.into(), &x.Name, &x.Title, &x.State)...)
			return x, err
		})
		return err
	})
	return out, now, err
}

// holdSchedules holds the schedules of a workflow, before anything else of it is:
// whoever has claimed one starts runs first.
func holdSchedules(ctx context.Context, tx pgx.Tx, name string) ([]Scheduled, error) {
	rows, err := tx.Query(ctx, "SELECT "+scheduledColumns+" FROM schedule s WHERE s.workflow_id = (SELECT id FROM workflow WHERE name = $1) ORDER BY s.reader FOR UPDATE", name)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, scanScheduled)
}

// retime gives a workflow the schedules that a timer makes of those that it has.
func retime(ctx context.Context, tx pgx.Tx, w Workflow, known []Scheduled, times Timer) error {
	if times == nil && len(known) == 0 {
		return nil
	}
	var now time.Time
	if err := tx.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&now); err != nil {
		return err
	}
	var list []Scheduled
	if times != nil {
		list = times(w.ID, known, now)
	}
	return setSchedules(ctx, tx, w, list)
}

// setSchedules makes these the schedules of a workflow; the others go.
func setSchedules(ctx context.Context, tx pgx.Tx, w Workflow, list []Scheduled) error {
	readers := make([]string, 0, len(list))
	for _, x := range list {
		readers = append(readers, x.Reader)
	}
	if _, err := tx.Exec(ctx, "DELETE FROM schedule WHERE workflow_id = $1 AND NOT reader = ANY ($2)", w.ID, readers); err != nil {
		return err
	}
	if len(list) == 0 {
		return nil
	}
	for i := range list {
		list[i].Workflow = w.ID
	}
	_, err := tx.Exec(ctx, `INSERT INTO schedule AS s (workspace_id, workflow_id, reader, cadence, zone, rules, anchor, previous, due, due_key, next, missed, most, trouble, list, list_version)
			SELECT nullif(current_setting('trellis.workspace', true), '')::uuid, n.workflow_id, n.reader, n.cadence, n.zone, n.rules, n.anchor, n.previous, n.due, n.due_key, n.next, n.missed, n.most, n.trouble, n.list, n.list_version
			FROM (`+scheduledUnnest+`) AS n(workspace_id, workflow_id, reader, cadence, zone, rules, anchor, previous, due, due_key, next, missed, most, trouble, list, list_version)
		ON CONFLICT (workspace_id, workflow_id, reader) DO UPDATE SET cadence = EXCLUDED.cadence, zone = EXCLUDED.zone, rules = EXCLUDED.rules, anchor = EXCLUDED.anchor, previous = EXCLUDED.previous,
			due = EXCLUDED.due, due_key = EXCLUDED.due_key, next = EXCLUDED.next, missed = EXCLUDED.missed, most = EXCLUDED.most, trouble = EXCLUDED.trouble, list = EXCLUDED.list, list_version = EXCLUDED.list_version`, scheduledArrays(list)...)
	return err
}

const scheduledUnnest = "SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::text[], $7::timestamptz[], $8::timestamptz[], $9::timestamptz[], $10::text[], $11::timestamptz[], $12::text[], $13::int[], $14::text[], $15::text[], $16::int[])"

func scheduledArrays(list []Scheduled) []any {
	var (
		workspace, workflow                                    [][16]byte
		reader, cadence, zone, rules, key, missed, trouble, of []string
		anchor, previous                                       []time.Time
		due, next                                              []zeronull.Timestamptz
		most, version                                          []int32
	)
	for _, x := range list {
		workspace, workflow, reader = append(workspace, x.Workspace), append(workflow, x.Workflow), append(reader, x.Reader)
		cadence, zone, rules, key = append(cadence, x.Cadence), append(zone, x.Zone), append(rules, x.Rules), append(key, x.Key)
		missed, most, trouble = append(missed, x.Missed), append(most, int32(x.Most)), append(trouble, x.Trouble)
		anchor, previous = append(anchor, x.Anchor), append(previous, x.Previous)
		of, version = append(of, x.List), append(version, int32(x.ListVersion))
		due, next = append(due, zeronull.Timestamptz(x.Due)), append(next, zeronull.Timestamptz(x.Next))
	}
	return []any{workspace, workflow, reader, cadence, zone, rules, anchor, previous, due, key, next, missed, most, trouble, of, version}
}

// MissedTimes are times of a schedule at which nobody could start anything.
type MissedTimes struct {
	Workspace, Workflow uuid.UUID
	Reader              string
	Name, Title         string // of the workflow
	Noted               time.Time
	First, Last         time.Time
	Times, Started      int
}

// Missed lists what was missed in a workspace, the newest first; of one workflow, or
// of all.
func (s *Store) Missed(ctx context.Context, sc Scope, workflow uuid.UUID, limit int) (out []MissedTimes, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT m.workspace_id, m.workflow_id, m.reader, w.name, w.title, m.noted, m.first, m.last, m.times, m.started FROM missed_time m JOIN workflow w ON w.workspace_id = m.workspace_id AND w.id = m.workflow_id
			WHERE $1::uuid = '00000000-0000-0000-0000-000000000000' OR m.workflow_id = $1 ORDER BY m.noted DESC LIMIT $2`, workflow, limit)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, pgx.RowToStructByPos[MissedTimes])
		return err
	})
	return out, err
}

// missedKept is how long what was missed is told.
const missedKept = 90 * 24 * time.Hour
