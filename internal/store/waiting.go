package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
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

// postponed are items that wait without an entry that says until when.
type postponed []*postponeWrite

// postponeWrite are those of a run, on their way.
type postponeWrite struct {
	workspace, run uuid.UUID
	list           []engine.Waits
	err            error
}

func (w *postponeWrite) size() int        { return 100 * len(w.list) }
func (w *postponeWrite) of() uuid.UUID    { return w.workspace }
func (w *postponeWrite) join(b *batch)    { b.later = append(b.later, w) }
func (w *postponeWrite) settle(err error) { w.err = err }

// postpone says until when items wait.
func (c *Committer) postpone(ctx context.Context, workspace, run uuid.UUID, list []engine.Waits) error {
	if len(list) == 0 {
		return nil
	}
	w := &postponeWrite{workspace: workspace, run: run, list: list}
	if err := c.await(ctx, w); err != nil {
		return err
	}
	return w.err
}

func (p postponed) queue(q *pgx.Batch) {
	for _, w := range p {
		var (
			step            []int32
			rounds, address [][]byte
			due             []time.Time
		)
		for _, x := range w.list {
			step, rounds, address, due = append(step, int32(x.Step)), append(rounds, []byte(x.Rounds)), append(address, []byte(x.Address)), append(due, x.Due)
		}
		q.Queue(`INSERT INTO waiting (workspace_id, run_id, step, rounds, address, due) SELECT $1, $2, * FROM unnest($3::int[], $4::bytea[], $5::bytea[], $6::timestamptz[])
			ON CONFLICT (workspace_id, run_id, step, rounds, address) DO UPDATE SET due = EXCLUDED.due`, w.workspace, w.run, step, rounds, address, due)
	}
}

// Due are the items of a run whose time has come, and where their rows stand.
type Due struct {
	Items []engine.Place
	Pages []int // of the lattice, one for each item
	Next  engine.Place
	At    time.Time // when the next of the others is due; zero: there is none
}

// dueMost is how many items are woken together without looking at all of the run.
const dueMost = 5000

// Due finds the items of a run that are due by the database's clock. Nil: they
// are too many, or nobody knows where their rows stand, or no others wait; or
// none is, as when a callback came before its item waited.
func (s *Store) Due(ctx context.Context, workspace, run uuid.UUID) (*Due, error) {
	var now time.Time
	if err := s.node.QueryRow(ctx, "SELECT now()").Scan(&now); err != nil {
		return nil, unavailable(err)
	}
	rows, err := s.node.Query(ctx, "SELECT step, rounds, address, page FROM waiting WHERE workspace_id = $1 AND run_id = $2 AND due <= $3 ORDER BY due LIMIT $4", workspace, run, now, dueMost+1)
	if err != nil {
		return nil, unavailable(err)
	}
	d, known := &Due{}, true
	var step int
	var rounds, address []byte
	var page *int
	_, err = pgx.ForEachRow(rows, []any{&step, &rounds, &address, &page}, func() error {
		if page == nil || len(rounds) > 0 {
			known = false
			return nil
		}
		d.Items, d.Pages = append(d.Items, engine.Place{Step: uint16(step), Address: item.Address(address)}), append(d.Pages, *page)
		return nil
	})
	if err != nil || !known || len(d.Items) == 0 || len(d.Items) > dueMost {
		return nil, unavailable(err)
	}
	err = s.node.QueryRow(ctx, "SELECT step, address, due FROM waiting WHERE workspace_id = $1 AND run_id = $2 AND due > $3 ORDER BY due LIMIT 1", workspace, run, now).Scan(&step, &address, &d.At)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	d.Next = engine.Place{Step: uint16(step), Address: item.Address(address)}
	return d, unavailable(err)
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
