package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// keyed are the keys of the items of starts that take several: each start is made
// only if all of its keys are free.
type keyed struct {
	workspace, workflow, run [][16]byte
	key                      []string
	expires                  []time.Time
}

func (k *keyed) add(s *startWrite) {
	for _, key := range s.keys() {
		k.workspace, k.workflow, k.run = append(k.workspace, s.Workspace), append(k.workflow, s.Workflow), append(k.run, s.Run)
		until, other := s.Until[key]
		if !other {
			until = s.Expires
		}
		k.key, k.expires = append(k.key, key), append(k.expires, until)
	}
}

// takeSQL takes what is free of these keys, before anything else of their starts.
const takeSQL = `INSERT INTO start_key (workspace_id, workflow_id, key, run_id, expires)
	SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::uuid[], $5::timestamptz[]) AS s(workspace_id, workflow_id, key, run_id, expires) ORDER BY 1, 2, 3
	ON CONFLICT (workspace_id, workflow_id, key) DO UPDATE SET run_id = EXCLUDED.run_id, expires = EXCLUDED.expires
		WHERE start_key.expires < now() OR start_key.run_id = EXCLUDED.run_id`

// allOfThem holds of starts of a batch that have all of their keys, or none to have.
const allOfThem = `run_id NOT IN (SELECT u.run_id FROM unnest($23::uuid[], $24::uuid[], $25::text[], $26::uuid[]) AS u(workspace_id, workflow_id, key, run_id)
		LEFT JOIN LATERAL (SELECT run_id FROM start_key WHERE workspace_id = u.workspace_id AND workflow_id = u.workflow_id AND key = u.key LIMIT 1) x ON true
		WHERE x.run_id IS DISTINCT FROM u.run_id)`

// giveBackSQL gives back those of starts that were not made, as others had some.
const giveBackSQL = `DELETE FROM start_key k USING unnest($1::uuid[], $2::uuid[], $3::text[], $4::uuid[]) AS s(workspace_id, workflow_id, key, run_id)
	WHERE k.workspace_id = s.workspace_id AND k.workflow_id = s.workflow_id AND k.key = s.key AND k.run_id = s.run_id
		AND (SELECT number FROM pass x WHERE x.workspace_id = s.workspace_id AND x.run_id = s.run_id AND x.number = 1 LIMIT 1) IS NULL`

func (k *keyed) take(q *pgx.Batch) {
	q.Queue(takeSQL, k.workspace, k.workflow, k.key, k.run, k.expires)
}

func (k *keyed) giveBack(q *pgx.Batch) {
	q.Queue(giveBackSQL, k.workspace, k.workflow, k.key, k.run)
}

// KnownKeys tells which of these keys have started runs of a workflow, and which.
func (s *Store) KnownKeys(ctx context.Context, workspace, workflow uuid.UUID, keys []string) (map[string]uuid.UUID, error) {
	out := map[string]uuid.UUID{}
	rows, err := s.node.Query(ctx, `SELECT k.key, k.run_id FROM unnest($3::text[]) AS s(key)
		CROSS JOIN LATERAL (SELECT key, run_id FROM start_key WHERE workspace_id = $1 AND workflow_id = $2 AND key = s.key AND expires >= now() LIMIT 1) k`, workspace, workflow, keys)
	if err != nil {
		return nil, unavailable(err)
	}
	var key string
	var run uuid.UUID
	_, err = pgx.ForEachRow(rows, []any{&key, &run}, func() error { out[key] = run; return nil })
	return out, unavailable(err)
}
