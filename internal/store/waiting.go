package store

import (
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
)

// waits puts an item into the table of those that wait.
type waits struct {
	workspace, run uuid.UUID
	engine.Waits
}

func (w waits) statement(first int) (string, []any) {
	return fmt.Sprintf(`INSERT INTO waiting (workspace_id, run_id, step, rounds, address, due) SELECT $%d, $%d, $%d, $%d, $%d, $%d WHERE EXISTS (SELECT FROM e)
		ON CONFLICT (workspace_id, run_id, step, rounds, address) DO UPDATE SET due = EXCLUDED.due`, first, first+1, first+2, first+3, first+4, first+5),
		[]any{w.workspace, w.run, int32(w.Step), []byte(w.Rounds), []byte(w.Address), w.Due}
}

// wakes takes an item out of it.
type wakes struct {
	workspace, run uuid.UUID
	engine.Wakes
}

func (w wakes) statement(first int) (string, []any) {
	return fmt.Sprintf("DELETE FROM waiting WHERE workspace_id = $%d AND run_id = $%d AND step = $%d AND rounds = $%d AND address = $%d AND EXISTS (SELECT FROM e)", first, first+1, first+2, first+3, first+4),
		[]any{w.workspace, w.run, int32(w.Step), []byte(w.Rounds), []byte(w.Address)}
}

const insertedSQL = "WITH e AS (INSERT INTO journal (" + journalColumns + ") " + journalUnnest + " ON CONFLICT DO NOTHING RETURNING workspace_id, run_id, step, rounds, address)"

// queueWaits inserts entries by which items begin to wait, with their rows.
func (p entries) queueWaits(q *pgx.Batch) {
	if len(p) == 0 {
		return
	}
	due := make([]time.Time, len(p))
	for i, w := range p {
		due[i] = w.writes[0].(waits).Due
	}
	q.Queue(insertedSQL+`, w AS (INSERT INTO waiting (workspace_id, run_id, step, rounds, address, due)
			SELECT e.workspace_id, e.run_id, e.step, e.rounds, e.address, d.due
			FROM e JOIN unnest($2::uuid[], $4::int[], $5::bytea[], $6::bytea[], $20::timestamptz[]) AS d(run_id, step, rounds, address, due) USING (run_id, step, rounds, address)
			ON CONFLICT (workspace_id, run_id, step, rounds, address) DO UPDATE SET due = EXCLUDED.due)
		SELECT count(*) FROM e`, append(p.columns(), due)...).QueryRow(p.stood)
}

// queueWakes inserts entries by which items go on, and removes their rows.
func (p entries) queueWakes(q *pgx.Batch) {
	if len(p) == 0 {
		return
	}
	q.Queue(insertedSQL+`, w AS (DELETE FROM waiting w USING e
			WHERE w.workspace_id = e.workspace_id AND w.run_id = e.run_id AND w.step = e.step AND w.rounds = e.rounds AND w.address = e.address)
		SELECT count(*) FROM e`, p.columns()...).QueryRow(p.stood)
}

// stood hears how many of the entries were inserted; where not all were, what
// stands is read.
func (p entries) stood(row pgx.Row) error {
	var n int
	err := row.Scan(&n)
	if err == nil && n == len(p) {
		for _, w := range p {
			w.stands = w.entry
		}
	}
	return err
}
