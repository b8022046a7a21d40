package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/expr"
)

// Claimed is a run that a node has taken on.
type Claimed struct {
	Workspace, Run, Workflow uuid.UUID
	Pass                     int
	Claim                    int
	Revision                 int
	Takeovers                int
	Interrupted              time.Time // zero: no owner died since it last got further
	Accepted                 time.Time
	Unbegun                  bool             // its death does not count against it until it says that it begins
	First                    [][]byte         // pages of its items that are at hand
	Decoded                  []map[string]any // the first of these pages, where it is at hand
	Whole                    bool             // First are all of them
	Woken                    bool             // it had parked in good order; only what is due need be looked at
	Counts                   []byte           // with which it had parked, where it was woken
	Halt                     bool             // no further set-aside item is to be tried again
	Line                     Line
	AtFirst                  int       // how many items it takes to its first write before a person has looked; 0: any number
	Deadline                 time.Time // when it is to be over; zero: whenever
}

// Begins tells whether nobody has carried the run out before: it can have no
// entries but its items.
func (c *Claimed) Begins() bool { return c.Claim == 1 }

// Suspect is from how many takeovers without getting any further a run is
// carried out with nothing beside it.
const Suspect = 2

// claimSQL takes up to $3 queued runs: the oldest of each workspace in turn,
// beginning with the workspace after $2, and none of those in $4,
// with functions that are known here. Its cost depends on how many are taken, not
// on how many wait. What somebody cancelled is not taken, but over. Where a
// suspect is among them, none has begun by being taken: they wait for one another.
const claimSQL = `WITH RECURSIVE
	w AS (SELECT (SELECT workspace_id FROM live WHERE state = 'queued' AND workspace_id > $2 ORDER BY workspace_id LIMIT 1) AS id, 1 AS n
		UNION ALL
		SELECT (SELECT workspace_id FROM live WHERE state = 'queued' AND workspace_id > w.id ORDER BY workspace_id LIMIT 1), n + 1 FROM w WHERE id IS NOT NULL AND n < $3),
	-- Round the end, and on from the beginning up to where it began.
	r AS (SELECT (SELECT workspace_id FROM live WHERE state = 'queued' ORDER BY workspace_id LIMIT 1) AS id, 1 AS n WHERE (SELECT count(id) FROM w) < $3
		UNION ALL
		SELECT (SELECT workspace_id FROM live WHERE state = 'queued' AND workspace_id > r.id ORDER BY workspace_id LIMIT 1), n + 1 FROM r WHERE id <= $2 AND n < $3),
	spaces AS (SELECT id, row_number() OVER () AS place FROM (SELECT id FROM w WHERE id IS NOT NULL UNION ALL SELECT id FROM r WHERE id <= $2) x WHERE id <> ALL ($4) LIMIT $3),
	due AS (SELECT s.place, q.workspace_id, q.run_id, q.cancel, q.takeovers, row_number() OVER (PARTITION BY s.place ORDER BY q.run_id) AS turn
		FROM spaces s CROSS JOIN LATERAL (SELECT workspace_id, run_id, cancel, takeovers FROM live WHERE workspace_id = s.id AND state = 'queued' AND library <= $6 ORDER BY run_id
			LIMIT ($3 + (SELECT count(*) FROM spaces) - 1) / greatest((SELECT count(*) FROM spaces), 1) FOR UPDATE SKIP LOCKED) q),
	chosen AS (SELECT workspace_id, run_id, cancel, takeovers, turn, place FROM due ORDER BY turn, place LIMIT $3),
	d AS (DELETE FROM live l USING chosen c WHERE c.cancel > 0 AND l.workspace_id = ANY (ARRAY[c.workspace_id]) AND l.run_id = c.run_id RETURNING l.*),
	i AS (` + cancelledEndSQL + `)
	UPDATE live l SET state = 'running', session_id = $1, claim = claim + 1, begun = (SELECT max(takeovers) FROM chosen) < $5, wake = NULL, reason = '', message = '', connection = '' FROM chosen c
	WHERE c.cancel = 0 AND l.workspace_id = ANY (ARRAY[c.workspace_id]) AND l.run_id = c.run_id
	RETURNING l.workspace_id, l.run_id, l.workflow_id, l.pass, l.claim, l.revision, l.takeovers, l.interrupted, l.accepted, NOT l.begun, l.woken, CASE WHEN l.woken THEN l.counts END, l.halt, l.lane, l.limited, l.deadline, l.at_first`

// Turn says whose turn it is.
type Turn struct {
	After   uuid.UUID   // the workspace that was served last
	Without []uuid.UUID // workspaces that have enough in hand
}

// Claim takes up to n queued runs for a session, fairly between workspaces.
func (s *Store) Claim(ctx context.Context, session uuid.UUID, t Turn, n int) (out []Claimed, err error) {
	if t.Without == nil {
		t.Without = []uuid.UUID{}
	}
	err = pgx.BeginFunc(ctx, s.node, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT hold_session($1)", session); err != nil {
			return fenced(err)
		}
		rows, err := tx.Query(ctx, claimSQL, session, t.After, n, t.Without, Suspect, expr.Library)
		if err != nil {
			return err
		}
		if out, err = pgx.CollectRows(rows, scanClaimed); err != nil {
			return err
		}
		return firstPages(ctx, tx, out)
	})
	if err != nil {
		return nil, unavailable(err)
	}
	return out, nil
}

func scanClaimed(row pgx.CollectableRow) (c Claimed, err error) {
	var interrupted *time.Time
	var deadline *time.Time
	err = row.Scan(&c.Workspace, &c.Run, &c.Workflow, &c.Pass, &c.Claim, &c.Revision, &c.Takeovers, &interrupted, &c.Accepted, &c.Unbegun, &c.Woken, &c.Counts, &c.Halt, &c.Line.Lane, &c.Line.Limited, &deadline, &c.AtFirst)
	if interrupted != nil {
		c.Interrupted = *interrupted
	}
	if deadline != nil {
		c.Deadline = *deadline
	}
	return c, err
}

// Begin says that a run that a session has claimed is carried out from now on:
// if the session dies, it counts against the run. ErrFenced: it is not its own.
func (s *Store) Begin(ctx context.Context, session uuid.UUID, o Owned) error {
	tag, err := s.node.Exec(ctx, "UPDATE live SET begun = true WHERE workspace_id = $1 AND run_id = $2 AND claim = $3 AND session_id = $4 AND state = 'running'", o.Workspace, o.Run, o.Claim, session)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrFenced
	}
	return unavailable(err)
}

const firstPagesSQL = `SELECT k.run_id, j.part, CASE WHEN j.part = 0 THEN j.result END FROM unnest($1::uuid[], $2::uuid[]) AS k(workspace_id, run_id)
	CROSS JOIN LATERAL (SELECT part, result FROM journal WHERE workspace_id = k.workspace_id AND run_id = k.run_id AND pass = 1 AND step = 0 AND rounds = '' AND address = '' ORDER BY part LIMIT 2) j`

// firstPages reads the first page of items of runs that begin, together; the
// second, where there is one, tells that there are more.
func firstPages(ctx context.Context, tx pgx.Tx, claimed []Claimed) error {
	var workspace, run [][16]byte
	byRun := map[uuid.UUID]*Claimed{}
	for i, c := range claimed {
		if c.Begins() && c.Pass == 1 {
			workspace, run = append(workspace, c.Workspace), append(run, c.Run)
			byRun[c.Run] = &claimed[i]
		}
	}
	if len(run) == 0 {
		return nil
	}
	rows, err := tx.Query(ctx, firstPagesSQL, workspace, run)
	if err != nil {
		return err
	}
	for _, c := range byRun {
		c.Whole = true
	}
	var id uuid.UUID
	var part int
	var result []byte
	_, err = pgx.ForEachRow(rows, []any{&id, &part, &result}, func() error {
		if part > 0 {
			byRun[id].Whole = false
			return nil
		}
		text, err := unpack(result)
		byRun[id].First = [][]byte{text}
		return err
	})
	return err
}

// Owned lists what the database says that a session owns: runs and claims.
func (s *Store) Owned(ctx context.Context, session uuid.UUID) (map[uuid.UUID]Owned, error) {
	rows, err := s.node.Query(ctx, "SELECT workspace_id, run_id, claim FROM live WHERE session_id = $1 AND state = 'running'", session)
	if err != nil {
		return nil, unavailable(err)
	}
	out := map[uuid.UUID]Owned{}
	var o Owned
	_, err = pgx.ForEachRow(rows, []any{&o.Workspace, &o.Run, &o.Claim}, func() error { out[o.Run] = o; return nil })
	return out, unavailable(err)
}

// Owned is a run that a session owns.
type Owned struct {
	Workspace, Run uuid.UUID
	Claim          int
}

// HandBack queues runs that a session owns and does not carry out: the answer
// to their claim or start was lost. It counts no takeover.
func (s *Store) HandBack(ctx context.Context, session uuid.UUID, runs []Owned) error {
	var workspace, run [][16]byte
	var claim []int32
	for _, o := range runs {
		workspace, run, claim = append(workspace, o.Workspace), append(run, o.Run), append(claim, int32(o.Claim))
	}
	_, err := s.node.Exec(ctx, `WITH e AS (SELECT * FROM unnest($2::uuid[], $3::uuid[], $4::int[]) AS e(workspace_id, run_id, claim)),
		u AS (UPDATE live l SET state = 'queued', session_id = NULL, begun = false FROM e
			WHERE l.workspace_id = ANY (ARRAY[e.workspace_id]) AND l.run_id = e.run_id AND l.claim = e.claim AND l.session_id IS NOT DISTINCT FROM $1 AND l.state = 'running' RETURNING l.run_id)
		SELECT pg_notify('trellis_queue', '') FROM u LIMIT 1`, session, workspace, run, claim)
	return unavailable(err)
}
