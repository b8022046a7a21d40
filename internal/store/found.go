package store

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/item"
)

// Found is by what an item is found again over all history.
type Found struct {
	Address item.Address
	Key     string
}

// foundKept is how long items are found again.
const foundKept = 400 * 24 * time.Hour

// foundKey is a key as it is kept: what it was is nobody's to read.
func foundKey(key string) []byte {
	sum := sha256.Sum256([]byte(key))
	return sum[:16]
}

// queueFound writes by what the items of rows are found again.
func (p pages) queueFound(q *pgx.Batch) {
	var (
		workspace, workflow, run [][16]byte
		key, address             [][]byte
	)
	for _, x := range p {
		for _, f := range x.Found {
			workspace, workflow, run = append(workspace, x.Workspace), append(workflow, x.Workflow), append(run, x.Run)
			key, address = append(key, foundKey(f.Key)), append(address, []byte(f.Address))
		}
	}
	if len(run) > 0 {
		q.Queue(`INSERT INTO found (workspace_id, workflow_id, key, run_id, address) SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::bytea[], $4::uuid[], $5::bytea[]) ON CONFLICT DO NOTHING`, workspace, workflow, key, run, address)
	}
}

// Seen is a run through which an item went.
type Seen struct {
	Run      uuid.UUID
	Address  item.Address
	Title    string
	State    string
	Accepted time.Time
}

// seenMost is how many runs of an item are listed.
const seenMost = 20

// History finds the other runs through which an item went, newest first.
func (s *Store) History(ctx context.Context, sc Scope, run uuid.UUID, a item.Address) (out []Seen, err error) {
	err = s.within(ctx, sc, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT DISTINCT ON (r.run_id) r.run_id, f.address, w.title, r.state, r.accepted
			FROM found own JOIN found f ON f.workspace_id = own.workspace_id AND f.workflow_id = own.workflow_id AND f.key = own.key AND f.run_id <> own.run_id
			JOIN LATERAL (SELECT run_id, state, accepted FROM run WHERE workspace_id = f.workspace_id AND run_id = f.run_id
				UNION ALL SELECT run_id, state, accepted FROM live WHERE workspace_id = f.workspace_id AND run_id = f.run_id LIMIT 1) r ON true
			JOIN workflow w ON w.workspace_id = f.workspace_id AND w.id = f.workflow_id
			WHERE own.workspace_id = $1 AND own.run_id = $2 AND own.address = $3 ORDER BY r.run_id DESC, f.address LIMIT $4`, sc.workspace, run, []byte(a), seenMost)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (x Seen, err error) {
			var address []byte
			err = row.Scan(&x.Run, &address, &x.Title, &x.State, &x.Accepted)
			x.Address = item.Address(address)
			return x, err
		})
		return err
	})
	return out, err
}

// firstOf is the least id of a run that was accepted at a time (UUIDv7: its first
// 48 bits are milliseconds).
func firstOf(t time.Time) (id uuid.UUID) {
	binary.BigEndian.PutUint64(id[:8], uint64(t.UnixMilli())<<16)
	return id
}
