package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// LatelyRun is how a workflow ran of late.
type LatelyRun struct {
	Runs  int           // begun within the time, counted up to a bound
	Whole int           // how many of the newest of these came to their end; the following are of them
	Items float64       // that one starts with
	Took  time.Duration // that one takes
}

// latelyMost bounds how many runs are counted.
const latelyMost = 100_000

// Lately tells how a workflow ran since a moment.
func (s *Store) Lately(ctx context.Context, sc Scope, workflow uuid.UUID, since time.Time) (l LatelyRun, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		var seconds float64
		from := firstOf(since)
		err := tx.QueryRow(ctx, `SELECT (SELECT count(*) FROM (SELECT FROM run WHERE workspace_id = $1 AND workflow_id = $2 AND run_id >= $3 LIMIT $4) x), count(*), coalesce(avg(n.items), 0), coalesce(extract(epoch FROM avg(n.took)), 0)
			FROM (SELECT (convert_from(counts, 'UTF8')::jsonb ->> 'in')::float8 AS items, ended - accepted AS took FROM run WHERE workspace_id = $1 AND workflow_id = $2 AND run_id >= $3 AND state IN ('succeeded', 'partial') ORDER BY run_id DESC LIMIT 200) n`,
			sc.workspace, workflow, from, latelyMost).Scan(&l.Runs, &l.Whole, &l.Items, &seconds)
		l.Took = time.Duration(seconds * float64(time.Second))
		return err
	})
	return l, err
}

// OnTheirWay counts the runs of a workflow that have not ended, by their revision.
func (s *Store) OnTheirWay(ctx context.Context, sc Scope, workflow uuid.UUID) (map[int]int, error) {
	out := map[int]int{}
	err := s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "SELECT revision, count(*) FROM live WHERE workspace_id = $1 AND workflow_id = $2 GROUP BY 1", sc.workspace, workflow)
		if err != nil {
			return err
		}
		var revision, n int
		_, err = pgx.ForEachRow(rows, []any{&revision, &n}, func() error { out[revision] = n; return nil })
		return err
	})
	return out, err
}
