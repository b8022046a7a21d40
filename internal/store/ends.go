package store

import (
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
)

// End is how a run's pass ended, why it waits, or that it is handed back.
// It applies only while the run is ours by this claim.
type End struct {
	Workspace, Run uuid.UUID
	Workflow       uuid.UUID
	Pass, Claim    int
	State          engine.State
	Message        string
	Label          string
	Counts         []byte
	Wake           *time.Time // for waiting
	Reason         string
	Connection     string
	Pages          []*LatticePage // the last of its lattice
	Whole          bool           // the rows of all items were written
	Line           Line           // in which the run stands
	Total          int            // pages of its lattice; those beyond are of an earlier execution. -1: none was written
}

// final tells whether the run is over, and not only waiting or handed back.
func (e *End) final() bool { return e.State != engine.WaitingOn && e.State != engine.Queued }

// endWrite is an end on its way.
type endWrite struct {
	*End
	applied bool
	err     error
	settled func(applied bool, err error)
}

func (w *endWrite) size() int {
	n := 300 + len(w.Message) + len(w.Counts)
	for _, p := range w.Pages {
		n += len(p.Body)
	}
	return n
}

func (w *endWrite) of() uuid.UUID { return w.Workspace }

func (w *endWrite) join(b *batch) {
	b.ends = append(b.ends, w)
	b.pages = append(b.pages, w.Pages...)
}

func (w *endWrite) settle(err error) {
	w.err = err
	if w.settled != nil {
		w.settled(w.applied, err)
	}
}

// End ends a run, lets it wait, or hands it back, together with its last
// lattice pages. Settled hears whether it applied: where it did not, an earlier
// try of it has, or the run is another's by now. A run that somebody cancelled
// ends as cancelled, whatever its end was to be. End does not wait.
func (c *Committer) End(e *End, settled func(applied bool, err error)) error {
	return c.hand(&write{part: &endWrite{End: e, settled: settled}})
}

// ends are all those of a batch.
type ends []*endWrite

// endsSQL moves what is over from live to run. E is what is to end; only what
// is still ours by the same claim does.
const endsSQL = `WITH e AS (SELECT * FROM unnest($2::uuid[], $3::uuid[], $4::int[], $5::int[], $6::text[], $7::text[], $8::text[], $9::bytea[], $10::bool[])
		AS e(workspace_id, run_id, pass, claim, state, message, label, counts, final)),
	d AS (DELETE FROM live l USING e WHERE l.workspace_id = ANY (ARRAY[e.workspace_id]) AND l.run_id = e.run_id AND l.session_id IS NOT DISTINCT FROM $1 AND l.pass = e.pass AND l.claim = e.claim AND (e.final OR l.cancel > 0)
		RETURNING l.workspace_id, l.run_id, l.workflow_id, l.pass, l.trigger, CASE WHEN e.label = '' THEN l.label ELSE e.label END AS label, l.revision, l.accepted, l.lane, l.hops, l.at_first,
			CASE WHEN l.cancel > 0 THEN 'cancelled' ELSE e.state END AS state, CASE WHEN l.cancel > 0 THEN 'cancelled by ' || l.cancelled_by ELSE e.message END AS message, coalesce(e.counts, l.counts) AS counts),
	i AS (INSERT INTO run (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, message, counts, lane, hops, at_first)
		SELECT workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, now(), message, counts, lane, hops, at_first FROM d ON CONFLICT DO NOTHING),
	-- What starts after it is told in the same transaction.
	o AS (INSERT INTO outcome (workspace_id, workflow_id, source_id, run_id, pass, state, message, counts, began, hops)
		SELECT f.workspace_id, f.workflow_id, d.workflow_id, d.run_id, d.pass, d.state, d.message, d.counts, d.accepted, d.hops + 1 FROM d JOIN follower f ON f.workspace_id = d.workspace_id AND f.source_id = d.workflow_id AND d.state = ANY (f.states) ON CONFLICT DO NOTHING)
	SELECT run_id FROM d`

// cancelledEndSQL makes ended runs of rows of live in d that somebody cancelled.
const cancelledEndSQL = `INSERT INTO run (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, message, counts, lane, hops, at_first)
		SELECT workspace_id, run_id, workflow_id, 'cancelled', pass, trigger, label, revision, accepted, now(), 'cancelled by ' || cancelled_by, counts, lane, hops, at_first FROM d ON CONFLICT DO NOTHING`

// parksSQL lets runs wait, or hands them back.
const parksSQL = `WITH e AS (SELECT * FROM unnest($2::uuid[], $3::uuid[], $4::int[], $5::int[], $6::text[], $7::text[], $8::text[], $9::timestamptz[], $10::text[], $11::bytea[], $12::text[], $13::bool[])
		AS e(workspace_id, run_id, pass, claim, state, message, label, wake, reason, counts, connection, final) ORDER BY 1, 2),
	u AS (UPDATE live l SET state = e.state, session_id = NULL, wake = CASE WHEN l.called AND e.reason IN ('job_running', 'items_wait') THEN now() WHEN e.state = 'waiting' THEN least(e.wake, l.deadline) END, called = l.called AND e.state = 'queued', begun = false, woken = false,
			takeovers = CASE WHEN e.reason IN ('job_running', 'items_wait') THEN 0 ELSE l.takeovers END, -- it came to its end without harm
			reason = e.reason, message = e.message, connection = e.connection, label = CASE WHEN e.label = '' THEN l.label ELSE e.label END, counts = coalesce(e.counts, l.counts)
		FROM e WHERE NOT e.final AND l.workspace_id = ANY (ARRAY[e.workspace_id]) AND l.run_id = e.run_id AND l.session_id IS NOT DISTINCT FROM $1 AND l.pass = e.pass AND l.claim = e.claim AND l.cancel = 0
		RETURNING l.run_id, l.state)
	SELECT run_id, CASE WHEN state = 'queued' THEN pg_notify('trellis_queue', '') END FROM u`

// leftoverSQL forgets pages of the lattice beyond those that this execution wrote.
const leftoverSQL = `DELETE FROM lattice x USING unnest($2::uuid[], $3::uuid[], $4::int[], $5::int[], $6::int[]) AS e(workspace_id, run_id, pass, claim, total), live l
	WHERE e.total >= 0 AND l.workspace_id = ANY (ARRAY[e.workspace_id]) AND l.run_id = e.run_id AND l.session_id IS NOT DISTINCT FROM $1 AND l.claim = e.claim
		AND x.workspace_id = ANY (ARRAY[e.workspace_id]) AND x.run_id = e.run_id AND x.pass = e.pass AND x.page >= e.total`

func (p ends) queue(q *pgx.Batch, session uuid.UUID) {
	var (
		workspace, run                            [][16]byte
		pass, claim, total                        []int32
		state, message, label, reason, connection []string
		counts                                    [][]byte
		wake                                      []*time.Time
		final                                     []bool
		parks, leftovers                          bool
	)
	byRun := map[uuid.UUID]*endWrite{}
	for _, e := range p {
		e.applied = false
		byRun[e.Run] = e
		workspace, run = append(workspace, e.Workspace), append(run, e.Run)
		pass, claim, total = append(pass, int32(e.Pass)), append(claim, int32(e.Claim)), append(total, int32(e.Total))
		state, message, label = append(state, string(e.State)), append(message, e.Message), append(label, e.Label)
		reason, connection = append(reason, e.Reason), append(connection, e.Connection)
		counts, wake, final = append(counts, e.Counts), append(wake, e.Wake), append(final, e.final())
		parks, leftovers = parks || !e.final(), leftovers || e.Total >= 0
	}
	if len(run) == 0 {
		return
	}
	applied := func(rows pgx.Rows) error {
		for rows.Next() {
			var id uuid.UUID
			if err := rows.Scan(append([]any{&id}, make([]any, len(rows.FieldDescriptions())-1)...)...); err != nil {
				return err
			}
			byRun[id].applied = true
		}
		return rows.Err()
	}
	if leftovers {
		q.Queue(leftoverSQL, session, workspace, run, pass, claim, total)
	}
	q.Queue(endsSQL, session, workspace, run, pass, claim, state, message, label, counts, final).Query(applied)
	p.queueStale(q)
	if parks {
		q.Queue(parksSQL, session, workspace, run, pass, claim, state, message, label, wake, reason, counts, connection, final).Query(applied)
	}
}

// permits are leaves to call that are given back.
type permits []Permitted

// Permitted names a leave that was given.
type Permitted struct{ Workspace, Connection, ID uuid.UUID }

type permitWrite struct{ Permitted }

func (w *permitWrite) size() int     { return 48 }
func (w *permitWrite) of() uuid.UUID { return w.Workspace }
func (w *permitWrite) join(b *batch) { b.permits = append(b.permits, w.Permitted) }
func (w *permitWrite) settle(error)  {}

// Return gives leave to call back, together with the entry of the call, which
// is handed in after it. It does not wait; it is repeated like all that is
// written until it is durable.
func (c *Committer) Return(p Permitted) error { return c.hand(&write{part: &permitWrite{p}}) }

const returnSQL = `DELETE FROM connection_permit p USING unnest($1::uuid[], $2::uuid[], $3::uuid[]) AS r(workspace_id, connection_id, id)
	WHERE p.workspace_id = ANY (ARRAY[r.workspace_id]) AND p.connection_id = r.connection_id AND p.id = r.id`

func (p permits) columns() []any {
	var workspace, connection, id [][16]byte
	for _, x := range p {
		workspace, connection, id = append(workspace, x.Workspace), append(connection, x.Connection), append(id, x.ID)
	}
	return []any{workspace, connection, id}
}

func (p permits) queue(q *pgx.Batch) {
	if len(p) > 0 {
		q.Queue(returnSQL, p.columns()...)
	}
}
