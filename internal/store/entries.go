package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"youngtrellis/internal/core/engine"
)

// entryWrite is a journal entry on its way.
type entryWrite struct {
	workspace, run           uuid.UUID
	entry                    *engine.Entry
	result, request, failure []byte // packed
	writes                   []Write
	stands                   *engine.Entry
	err                      error
}

func (w *entryWrite) size() int {
	return 200 + len(w.result) + len(w.entry.Sealed) + len(w.request) + len(w.failure)
}
func (w *entryWrite) of() uuid.UUID    { return w.workspace }
func (w *entryWrite) join(b *batch)    { b.entries = append(b.entries, w) }
func (w *entryWrite) settle(err error) { w.err = err }

// Write is a change of our own state that applies only together with the
// insertion of its entry: one statement over e, the entries that were inserted,
// whose parameters begin after the first ones.
type Write interface {
	engine.Write
	statement(first int) (sql string, args []any)
}

// Progress records that a run that was taken over has got further.
type Progress struct{ Workspace, Run uuid.UUID }

// JournalWrite implements engine.Write.
func (Progress) JournalWrite() {}

func (p Progress) statement(first int) (string, []any) {
	return fmt.Sprintf("UPDATE live SET takeovers = 0, interrupted = NULL WHERE workspace_id = $%d AND run_id = $%d AND EXISTS (SELECT FROM e)", first, first+1), []any{p.Workspace, p.Run}
}

// Append makes a journal entry durable, with the writes that belong to it, and
// gives what stands under its key.
func (c *Committer) Append(ctx context.Context, workspace, run uuid.UUID, e *engine.Entry, writes ...engine.Write) (*engine.Entry, error) {
	w := &entryWrite{workspace: workspace, run: run, entry: e, stands: e}
	for _, x := range writes {
		own, ok := x.(Write)
		switch x := x.(type) {
		case engine.Waits:
			own, ok = waits{workspace, run, x}, true
		case engine.Wakes:
			own, ok = wakes{workspace, run, x}, true
		case engine.Answers:
			own, ok = answers{workspace, run, x}, true
		}
		if !ok {
			return nil, fmt.Errorf("%T is not a change of our own state", x)
		}
		w.writes = append(w.writes, own)
	}
	if err := w.pack(); err != nil {
		return nil, err
	}
	if err := c.await(ctx, w); err != nil {
		return nil, err
	}
	return w.stands, w.err
}

func (w *entryWrite) pack() (err error) {
	w.result = pack(w.entry.Result)
	if w.entry.Request != nil {
		text, err := json.Marshal(w.entry.Request)
		if err != nil {
			return err
		}
		w.request = pack(text)
	}
	if w.entry.Failure != nil {
		w.failure, err = json.Marshal(w.entry.Failure)
	}
	return err
}

// entries are all those of a batch.
type entries []*entryWrite

const journalColumns = "workspace_id, run_id, pass, step, rounds, address, part, outcome, generation, input_hash, attempts, started, ended, units, first, result, sealed, request, failure"

const journalUnnest = `SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::int[], $4::int[], $5::bytea[], $6::bytea[], $7::int[], $8::text[], $9::int[], $10::bytea[], $11::int[],
		$12::timestamptz[], $13::timestamptz[], $14::float8[], $15::bigint[], $16::bytea[], $17::bytea[], $18::bytea[], $19::bytea[])`

// columns gives the entries as one array for each column.
func (p entries) columns() []any {
	var (
		workspace, run                   [][16]byte
		pass, step, part, gen, attempts  []int32
		rounds, address, hash            [][]byte
		outcome                          []string
		started, ended                   []time.Time
		units                            []float64
		first                            []int64
		result, sealed, request, failure [][]byte
	)
	for _, w := range p {
		e := w.entry
		workspace, run = append(workspace, w.workspace), append(run, w.run)
		pass, step, part = append(pass, int32(e.Pass)), append(step, int32(e.Step)), append(part, int32(e.Part))
		gen, attempts = append(gen, int32(e.Generation)), append(attempts, int32(e.Attempts))
		rounds, address, hash = append(rounds, []byte(e.Rounds)), append(address, []byte(e.Address)), append(hash, e.InputHash)
		outcome = append(outcome, string(e.Outcome))
		started, ended, units = append(started, e.Started), append(ended, e.Ended), append(units, e.Units)
		first = append(first, int64(e.First))
		result, sealed, request, failure = append(result, w.result), append(sealed, e.Sealed), append(request, w.request), append(failure, w.failure)
	}
	return []any{workspace, run, pass, step, rounds, address, part, outcome, gen, hash, attempts, started, ended, units, first, result, sealed, request, failure}
}

// queue inserts the entries; those with writes each in a statement of its own.
func (p entries) queue(q *pgx.Batch) {
	var plain, waiting, waking entries
	for _, w := range p {
		w.stands = nil
		if len(w.writes) == 0 {
			plain = append(plain, w)
			continue
		}
		if len(w.writes) == 1 { // of these there are many, so they go together
			switch w.writes[0].(type) {
			case waits:
				waiting = append(waiting, w)
				continue
			case wakes:
				waking = append(waking, w)
				continue
			}
		}
		args := entries{w}.columns()
		var sql strings.Builder
		sql.WriteString("WITH e AS (INSERT INTO journal (" + journalColumns + ") " + journalUnnest + " ON CONFLICT DO NOTHING RETURNING run_id)")
		for i, x := range w.writes {
			text, more := x.statement(len(args) + 1)
			fmt.Fprintf(&sql, ", w%d AS (%s)", i, text)
			args = append(args, more...)
		}
		sql.WriteString(" SELECT count(*) FROM e")
		q.Queue(sql.String(), args...).QueryRow(func(row pgx.Row) error {
			var n int
			err := row.Scan(&n)
			if n == 1 {
				w.stands = w.entry
			}
			return err
		})
	}
	waiting.queueWaits(q)
	waking.queueWakes(q)
	if len(plain) == 0 {
		return
	}
	q.Queue("INSERT INTO journal ("+journalColumns+") "+journalUnnest+" ON CONFLICT DO NOTHING", plain.columns()...).Exec(func(tag pgconn.CommandTag) error {
		if tag.RowsAffected() == int64(len(plain)) {
			for _, w := range plain {
				w.stands = w.entry
			}
		}
		return nil
	})
}

// queueStray puts the entries where the run's owner finds them.
func (p entries) queueStray(q *pgx.Batch) {
	if len(p) > 0 {
		q.Queue("INSERT INTO stray ("+journalColumns+") "+journalUnnest+" ON CONFLICT DO NOTHING", p.columns()...)
		q.Queue("NOTIFY trellis_stray")
	}
}

// readStanding finds what stands in place of entries that were not inserted:
// an earlier try of the same, or what another brought first.
func (p entries) readStanding(ctx context.Context, conn *pgxpool.Conn) error {
	var (
		missing        entries
		workspace, run [][16]byte
		pass, step     []int32
		rounds         [][]byte
		address        [][]byte
		part           []int32
	)
	for _, w := range p {
		if w.stands == nil {
			e := w.entry
			missing = append(missing, w)
			workspace, run = append(workspace, w.workspace), append(run, w.run)
			pass, step, part = append(pass, int32(e.Pass)), append(step, int32(e.Step)), append(part, int32(e.Part))
			rounds, address = append(rounds, []byte(e.Rounds)), append(address, []byte(e.Address))
		}
	}
	if len(missing) == 0 {
		return nil
	}
	rows, err := conn.Query(ctx, "SELECT j.run_id, "+entryColumns("j")+` FROM unnest($1::uuid[], $2::uuid[], $3::int[], $4::int[], $5::bytea[], $6::bytea[], $7::int[]) AS k(workspace_id, run_id, pass, step, rounds, address, part)
		CROSS JOIN LATERAL (SELECT * FROM journal WHERE workspace_id = k.workspace_id AND run_id = k.run_id AND pass = k.pass AND step = k.step AND rounds = k.rounds AND address = k.address AND part = k.part LIMIT 1) j`, workspace, run, pass, step, rounds, address, part)
	if err != nil {
		return err
	}
	type place struct {
		run uuid.UUID
		key engine.Key
	}
	found := map[place]*engine.Entry{}
	for rows.Next() {
		var id uuid.UUID
		e, err := scanEntryAfter(rows, &id)
		if err != nil {
			rows.Close()
			return err
		}
		found[place{id, e.Key}] = e
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, w := range missing {
		if w.stands = found[place{w.run, w.entry.Key}]; w.stands == nil {
			return fmt.Errorf("the entry %v of run %s is not there after it was written", w.entry.Key, w.run)
		}
	}
	return nil
}
