package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"youngtrellis/internal/core/engine"
)

// Committer is a node's one writer: it collects run starts, journal entries,
// lattice pages and run ends and makes them durable together. While one
// transaction commits the next gathers, so that nobody waits longer than for
// two of them and many share each.
//
// Every transaction begins by holding the node's session row; once that has
// ended, nothing of the node is written any more.
type Committer struct {
	store   *Store
	session uuid.UUID
	queue   chan *write
	done    chan struct{}
	stop    context.CancelFunc
	ctx     context.Context
}

const (
	batchMost = 512
	batchByte = 8 << 20
)

// Start is a run to be started.
type Start struct {
	Workspace, Workflow, Run uuid.UUID
	Revision                 int
	Trigger                  string
	By                       string
	Label                    string
	Items                    [][]byte // pages of the trigger's items, JSON lists
	Key                      string   // starts nothing if it stands already; "" for none
	Expires                  time.Time
	Accepted                 time.Time
	Claim                    bool // this node carries it out at once
}

// Started tells whether the start was taken, or which run its key belongs to.
type Started struct {
	Run       uuid.UUID
	Duplicate bool
}

// End is how a run's pass ended, or why it waits.
type End struct {
	Workspace, Run uuid.UUID
	State          engine.State
	Message        string
	Label          string
	Counts         []byte
	Wake           *time.Time // for waiting
	Reason         string
	Connection     string
	Pages          []*LatticePage // the last of its lattice
}

// LatticePage is a page of the lattice index.
type LatticePage struct {
	Workspace, Run  uuid.UUID
	Pass, Page      int
	FirstRow, Count int
	Fates           []byte
	Body            []byte
}

type journalRow struct {
	workspace, run uuid.UUID
	entry          *engine.Entry
	result         []byte
	request        []byte
	failure        []byte
}

// write is one thing to be made durable.
type write struct {
	start *Start
	entry *journalRow
	page  *LatticePage
	end   *End

	started Started
	err     error
	done    chan struct{}
	size    int
}

// NewCommitter starts the writer of a session.
func (s *Store) NewCommitter(session uuid.UUID) *Committer {
	ctx, stop := context.WithCancel(context.Background())
	c := &Committer{store: s, session: session, queue: make(chan *write, 4*batchMost), done: make(chan struct{}), stop: stop, ctx: ctx}
	go c.loop()
	return c
}

// Close waits until what was handed in is written, for a moment at most.
func (c *Committer) Close() {
	close(c.queue)
	select {
	case <-c.done:
	case <-time.After(10 * time.Second):
	}
	c.stop()
	<-c.done
}

func (c *Committer) submit(ctx context.Context, w *write) error {
	w.done = make(chan struct{})
	select {
	case c.queue <- w:
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case <-w.done:
		return w.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Start makes a run durable before it is acknowledged.
func (c *Committer) Start(ctx context.Context, s *Start) (Started, error) {
	w := &write{start: s}
	for _, p := range s.Items {
		w.size += len(p)
	}
	err := c.submit(ctx, w)
	return w.started, err
}

// Append makes a journal entry durable.
func (c *Committer) Append(ctx context.Context, workspace, run uuid.UUID, e *engine.Entry) error {
	r := &journalRow{workspace: workspace, run: run, entry: e, result: pack(e.Result)}
	var err error
	if e.Request != nil {
		if r.request, err = json.Marshal(e.Request); err != nil {
			return err
		}
		r.request = pack(r.request)
	}
	if e.Failure != nil {
		if r.failure, err = json.Marshal(e.Failure); err != nil {
			return err
		}
	}
	return c.submit(ctx, &write{entry: r, size: len(r.result) + len(r.request)})
}

// Adopt makes entries of what a former owner of a run left behind.
func (c *Committer) Adopt(ctx context.Context, workspace, run uuid.UUID) error {
	return unavailable(pgx.BeginFunc(ctx, c.store.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT hold_session($1)", c.session); err != nil {
			return fenced(err)
		}
		_, err := tx.Exec(ctx, `WITH s AS (DELETE FROM stray WHERE workspace_id = $1 AND run_id = $2 RETURNING *)
			INSERT INTO journal SELECT * FROM s ON CONFLICT DO NOTHING`, workspace, run)
		return err
	}))
}

// Lattice makes a page of the lattice durable.
func (c *Committer) Lattice(ctx context.Context, p *LatticePage) error {
	return c.submit(ctx, &write{page: p, size: len(p.Body)})
}

// End ends a run, or lets it wait, together with its last lattice pages.
func (c *Committer) End(ctx context.Context, e *End) error { return c.submit(ctx, &write{end: e}) }

func (c *Committer) loop() {
	defer close(c.done)
	for {
		first, ok := <-c.queue
		if !ok {
			return
		}
		batch, size := []*write{first}, first.size
	gather:
		for len(batch) < batchMost && size < batchByte {
			select {
			case w, more := <-c.queue:
				if !more {
					break gather
				}
				batch = append(batch, w)
				size += w.size
			default:
				break gather
			}
		}
		c.write(batch)
		for _, w := range batch {
			close(w.done)
		}
	}
}

// write makes a batch durable. While the database is away, starts are told so
// and results are held until it is back. A batch refused for its content is
// halved until the bad write is alone.
func (c *Committer) write(batch []*write) {
	pause := 50 * time.Millisecond
	for {
		err := c.transact(batch)
		switch {
		case err == nil:
			return
		case errors.Is(err, ErrFenced) || c.ctx.Err() != nil:
			c.leave(batch)
			fail(batch, ErrFenced)
			return
		case IsUnavailable(err):
			batch = refuseStarts(batch, err)
			if len(batch) == 0 {
				return
			}
			select {
			case <-c.ctx.Done():
			case <-time.After(pause):
				pause = min(2*pause, 2*time.Second)
			}
		case len(batch) > 1:
			c.write(batch[:len(batch)/2])
			c.write(batch[len(batch)/2:])
			return
		default:
			fail(batch, err)
			return
		}
	}
}

// leave puts the results that can no longer be written as entries where the
// run's new owner looks for them. It is best effort: without it a call in
// flight is repeated under its own key.
func (c *Committer) leave(batch []*write) {
	q := &pgx.Batch{}
	queueEntries(q, "stray", batch)
	if q.Len() == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = c.store.node.SendBatch(ctx, q).Close()
}

func fail(batch []*write, err error) {
	for _, w := range batch {
		w.err = err
	}
}

func refuseStarts(batch []*write, err error) []*write {
	kept := batch[:0:0]
	for _, w := range batch {
		if w.start != nil {
			w.err = fmt.Errorf("%w: %w", ErrUnavailable, err)
			continue
		}
		kept = append(kept, w)
	}
	return kept
}

func (c *Committer) transact(batch []*write) error {
	ctx, cancel := context.WithTimeout(c.ctx, 30*time.Second)
	defer cancel()
	q := &pgx.Batch{}
	q.Queue("BEGIN")
	q.Queue("SELECT hold_session($1)", c.session)
	c.queueStarts(q, batch)
	queueEntries(q, "journal", batch)
	queuePages(q, batch)
	queueEnds(q, batch)
	q.Queue("COMMIT")
	conn, err := c.store.node.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	err = conn.SendBatch(ctx, q).Close()
	if err != nil {
		if !conn.Conn().IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}
	return fenced(err)
}

// fenced recognises hold_session's refusal.
func fenced(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "YT001" {
		return ErrFenced
	}
	return err
}

func (c *Committer) queueStarts(q *pgx.Batch, batch []*write) {
	var col struct {
		workspace, workflow, run [][16]byte // as pgx encodes them without a detour over text
		revision                 []int32
		trigger, by, label, key  []string
		expires, accepted        []time.Time
		session                  []*[16]byte
		state                    []string
	}
	var jw, jr [][16]byte
	var jpart []int32
	var jresult [][]byte
	var jat []time.Time
	first, byRun := map[string]*write{}, map[uuid.UUID]*write{}
	type follower struct{ w, leader *write }
	var followers []follower
	for _, w := range batch {
		s := w.start
		if s == nil {
			continue
		}
		if s.Key != "" {
			id := s.Workflow.String() + "/" + s.Key
			if leader, ok := first[id]; ok && leader != w {
				followers = append(followers, follower{w, leader})
				continue
			}
			first[id] = w
		}
		byRun[s.Run] = w
		w.started = Started{Run: s.Run, Duplicate: s.Key != ""}
		col.workspace, col.workflow, col.run = append(col.workspace, s.Workspace), append(col.workflow, s.Workflow), append(col.run, s.Run)
		col.revision = append(col.revision, int32(s.Revision))
		col.trigger, col.by, col.label, col.key = append(col.trigger, s.Trigger), append(col.by, s.By), append(col.label, s.Label), append(col.key, s.Key)
		col.expires, col.accepted = append(col.expires, s.Expires), append(col.accepted, s.Accepted)
		if s.Claim {
			col.session, col.state = append(col.session, (*[16]byte)(&c.session)), append(col.state, "running")
		} else {
			col.session, col.state = append(col.session, nil), append(col.state, "queued")
		}
		for i, p := range s.Items {
			jw, jr, jpart, jresult, jat = append(jw, s.Workspace), append(jr, s.Run), append(jpart, int32(i)), append(jresult, pack(p)), append(jat, s.Accepted)
		}
	}
	if len(byRun) == 0 {
		return
	}
	// The keys first: a start whose key stands already inserts nothing else.
	q.Queue(`WITH s AS (SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::int[], $5::text[], $6::text[], $7::text[], $8::text[], $9::timestamptz[], $10::timestamptz[], $11::uuid[], $12::text[])
			AS s(workspace_id, workflow_id, run_id, revision, trigger, started_by, label, key, expires, accepted, session_id, state)),
		k AS (INSERT INTO start_key (workspace_id, workflow_id, key, run_id, expires) SELECT workspace_id, workflow_id, key, run_id, expires FROM s WHERE key <> '' ORDER BY 1, 2, 3
			ON CONFLICT (workspace_id, workflow_id, key) DO UPDATE SET run_id = EXCLUDED.run_id, expires = EXCLUDED.expires
				WHERE start_key.expires < now() OR start_key.run_id = EXCLUDED.run_id RETURNING run_id),
		ok AS (SELECT * FROM s WHERE key = '' OR run_id IN (SELECT run_id FROM k)),
		l AS (INSERT INTO live (workspace_id, run_id, workflow_id, state, session_id, trigger, label, revision, accepted)
			SELECT workspace_id, run_id, workflow_id, state, session_id, trigger, label, revision, accepted FROM ok ON CONFLICT DO NOTHING),
		p AS (INSERT INTO pass (workspace_id, run_id, number, workflow_id, revision, kind, started, started_by)
			SELECT workspace_id, run_id, 1, workflow_id, revision, 'first', accepted, started_by FROM ok ON CONFLICT DO NOTHING),
		j AS (INSERT INTO journal (workspace_id, run_id, pass, step, rounds, address, part, outcome, attempts, started, ended, units, result)
			SELECT j.workspace_id, j.run_id, 1, 0, '', '', j.part, 'done', 1, j.at, j.at, 0, j.result
			FROM unnest($13::uuid[], $14::uuid[], $15::int[], $16::bytea[], $17::timestamptz[]) AS j(workspace_id, run_id, part, result, at)
			WHERE j.run_id IN (SELECT run_id FROM ok) ON CONFLICT DO NOTHING)
		SELECT run_id FROM ok`,
		col.workspace, col.workflow, col.run, col.revision, col.trigger, col.by, col.label, col.key, col.expires, col.accepted, col.session, col.state,
		jw, jr, jpart, jresult, jat).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var run uuid.UUID
			if err := rows.Scan(&run); err != nil {
				return err
			}
			byRun[run].started = Started{Run: run}
		}
		return rows.Err()
	})
	q.Queue(`SELECT s.run_id, k.run_id FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::uuid[]) AS s(workspace_id, workflow_id, key, run_id)
		JOIN start_key k USING (workspace_id, workflow_id, key) WHERE s.key <> ''`, col.workspace, col.workflow, col.key, col.run).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var own, holder uuid.UUID
			if err := rows.Scan(&own, &holder); err != nil {
				return err
			}
			if own != holder {
				byRun[own].started = Started{Run: holder, Duplicate: true}
			}
		}
		for _, f := range followers {
			f.w.started = Started{Run: f.leader.started.Run, Duplicate: true}
		}
		return rows.Err()
	})
	if anyUnclaimed(col.session) {
		q.Queue("NOTIFY trellis_queue")
	}
}

func anyUnclaimed(sessions []*[16]byte) bool {
	for _, s := range sessions {
		if s == nil {
			return true
		}
	}
	return false
}

// queueEntries inserts the entries of a batch into journal or stray.
func queueEntries(q *pgx.Batch, table string, batch []*write) {
	var (
		workspace, run             [][16]byte
		pass, step, part, attempts []int32
		rounds, address, hash      [][]byte
		outcome                    []string
		started, ended             []time.Time
		units                      []float64
		result, request, failure   [][]byte
	)
	for _, w := range batch {
		if w.entry == nil {
			continue
		}
		e := w.entry.entry
		workspace, run = append(workspace, w.entry.workspace), append(run, w.entry.run)
		pass, step, part, attempts = append(pass, int32(e.Pass)), append(step, int32(e.Step)), append(part, int32(e.Part)), append(attempts, int32(e.Attempts))
		rounds, address, hash = append(rounds, []byte(e.Rounds)), append(address, []byte(e.Address)), append(hash, e.InputHash)
		outcome = append(outcome, string(e.Outcome))
		started, ended, units = append(started, e.Started), append(ended, e.Ended), append(units, e.Units)
		result, request, failure = append(result, w.entry.result), append(request, w.entry.request), append(failure, w.entry.failure)
	}
	if len(run) == 0 {
		return
	}
	q.Queue(`INSERT INTO `+table+` (workspace_id, run_id, pass, step, rounds, address, part, outcome, input_hash, attempts, started, ended, units, result, request, failure)
		SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::int[], $4::int[], $5::bytea[], $6::bytea[], $7::int[], $8::text[], $9::bytea[], $10::int[], $11::timestamptz[], $12::timestamptz[], $13::float8[], $14::bytea[], $15::bytea[], $16::bytea[])
		ON CONFLICT DO NOTHING`,
		workspace, run, pass, step, rounds, address, part, outcome, hash, attempts, started, ended, units, result, request, failure)
}

func queuePages(q *pgx.Batch, batch []*write) {
	for _, w := range batch {
		var pages []*LatticePage
		if w.page != nil {
			pages = append(pages, w.page)
		}
		if w.end != nil {
			pages = append(pages, w.end.Pages...)
		}
		for _, p := range pages {
			q.Queue(`INSERT INTO lattice (workspace_id, run_id, pass, page, first_row, row_count, fates, body) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
				ON CONFLICT (workspace_id, run_id, pass, page) DO UPDATE SET first_row = EXCLUDED.first_row, row_count = EXCLUDED.row_count, fates = EXCLUDED.fates, body = EXCLUDED.body`,
				p.Workspace, p.Run, p.Pass, p.Page, p.FirstRow, p.Count, p.Fates, p.Body)
		}
	}
}

func queueEnds(q *pgx.Batch, batch []*write) {
	var (
		workspace, run        [][16]byte
		state, message, label []string
		counts                []*string
	)
	for _, w := range batch {
		e := w.end
		switch {
		case e == nil:
		case e.State == engine.WaitingOn || e.State == engine.Queued:
			q.Queue(`UPDATE live SET state = $3, session_id = NULL, wake = CASE WHEN called AND $5 = 'job_running' THEN now() ELSE $4 END, called = false, reason = $5, connection = $6, message = $7, counts = $8::jsonb WHERE workspace_id = $1 AND run_id = $2`,
				e.Workspace, e.Run, string(e.State), e.Wake, e.Reason, e.Connection, e.Message, text(e.Counts))
			if e.State == engine.Queued {
				q.Queue("NOTIFY trellis_queue")
			}
		default:
			workspace, run = append(workspace, e.Workspace), append(run, e.Run)
			state, message, label = append(state, string(e.State)), append(message, e.Message), append(label, e.Label)
			counts = append(counts, text(e.Counts))
		}
	}
	if len(run) == 0 {
		return
	}
	q.Queue(`WITH e AS (SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::text[], $6::text[]) AS e(workspace_id, run_id, state, message, label, counts)),
		d AS (DELETE FROM live l USING e WHERE l.workspace_id = e.workspace_id AND l.run_id = e.run_id
			RETURNING l.workspace_id, l.run_id, l.workflow_id, e.state, l.pass, l.trigger, CASE WHEN e.label = '' THEN l.label ELSE e.label END AS label, l.revision, l.accepted, e.message, e.counts)
		INSERT INTO run (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, message, counts)
		SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, now(), message, counts::jsonb FROM d ON CONFLICT DO NOTHING`,
		workspace, run, state, message, label, counts)
}

func text(b []byte) *string {
	if b == nil {
		return nil
	}
	s := string(b)
	return &s
}
