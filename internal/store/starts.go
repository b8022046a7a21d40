package store

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/expr"
)

// Start is a run to be started.
type Start struct {
	Workspace, Workflow, Run uuid.UUID
	Revision                 int
	Trigger                  string
	By                       string
	Label                    string
	Items                    [][]byte             // pages of the trigger's items, JSON lists
	Ordinals                 []uint32             // of the first item of each page; nil where there is one page
	Decoded                  []map[string]any     // the first of these pages, where it is at hand; it is not changed
	Key                      string               // starts nothing if it stands already; "" for none
	Keys                     []string             // in place of Key, where its items have one each, all of them different: it starts only if all are free
	Expires                  time.Time            // of these
	Until                    map[string]time.Time // when those of Keys expire that do at another time
	Accepted                 time.Time
	Line                     Line
	AtFirst                  int  // how many items it takes to its first write before a person has looked; 0: what going live said
	Hops                     int  // how many runs led to this one, each started by the one before
	Claim                    bool // this node carries it out, unless others of its workspace wait
}

// Bytes is about how much memory the start takes.
func (s *Start) Bytes() int {
	n := 1000
	for _, p := range s.Items {
		n += len(p)
	}
	for _, k := range s.Keys {
		n += 100 + len(k)
	}
	return n
}

// Started tells whether the start was taken, or which run its key belongs to.
type Started struct {
	Run       uuid.UUID
	Duplicate bool
	Conflict  bool      // a duplicate of which nobody can say whose: another start had some of its keys, or may have
	Claimed   bool      // this node owns it, by the claim 1
	AtFirst   int       // of a claimed one: how many items it takes at first; 0: any number
	Deadline  time.Time // of a claimed one: when it is to be over; zero: whenever
}

// startWrite is a start on its way.
type startWrite struct {
	*Start
	started Started
	err     error
	settled func(Started, error)
}

func (w *startWrite) size() int     { return w.Bytes() }
func (w *startWrite) of() uuid.UUID { return w.Workspace }
func (w *startWrite) join(b *batch) { b.starts = append(b.starts, w) }
func (w *startWrite) settle(err error) {
	w.err = err
	w.settled(w.started, err)
}

// Start makes a run durable. Settled hears how that ended, also where the
// caller has gone: from the moment of the commit the run is somebody's to carry
// out. Only then Start returns, or when ctx ends.
func (c *Committer) Start(ctx context.Context, s *Start, settled func(Started, error)) (Started, error) {
	w := &startWrite{Start: s, settled: settled}
	if err := c.await(ctx, w); err != nil {
		return Started{}, err
	}
	return w.started, w.err
}

// startsWrite are starts on their way together: all of them are made, or none.
type startsWrite []*startWrite

func (w startsWrite) size() (n int) {
	for _, s := range w {
		n += s.size()
	}
	return n
}
func (w startsWrite) of() uuid.UUID { return w[0].Workspace }
func (w startsWrite) join(b *batch) { b.starts = append(b.starts, w...) }
func (w startsWrite) settle(err error) {
	for _, s := range w {
		s.settle(err)
	}
}

// isStart tells whether a part is made of starts.
func isStart(p part) bool {
	switch p.(type) {
	case *startWrite, startsWrite:
		return true
	}
	return false
}

// StartAll makes runs of one workspace durable, all of them or none. Settled hears how
// each ended, as with Start.
func (c *Committer) StartAll(ctx context.Context, list []*Start, settled func(i int, s Started, err error)) ([]Started, error) {
	if len(list) == 0 {
		return nil, nil
	}
	w := make(startsWrite, len(list))
	for i, s := range list {
		w[i] = &startWrite{Start: s, settled: func(s Started, err error) { settled(i, s, err) }}
	}
	if err := c.await(ctx, w); err != nil {
		return nil, err
	}
	out := make([]Started, len(list))
	for i, s := range w {
		if s.err != nil {
			return nil, s.err
		}
		out[i] = s.started
	}
	return out, nil
}

// starts are all those of a batch.
type starts []*startWrite

const (
	startsOf = `WITH s AS (SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::int[], $5::text[], $6::text[], $7::text[], $8::text[], $9::timestamptz[], $10::timestamptz[], $11::bool[], $20::text[], $21::smallint[], $22::int[])
		WITH ORDINALITY AS s(workspace_id, workflow_id, run_id, revision, trigger, started_by, label, key, expires, accepted, claims, lane, hops, at_first, place)),
	-- The keys first: a start whose key stands already inserts nothing else.
	k AS (INSERT INTO start_key (workspace_id, workflow_id, key, run_id, expires) SELECT workspace_id, workflow_id, key, run_id, expires FROM s WHERE key <> '' ORDER BY 1, 2, 3
		ON CONFLICT (workspace_id, workflow_id, key) DO UPDATE SET run_id = EXCLUDED.run_id, expires = EXCLUDED.expires
			WHERE start_key.expires < now() OR start_key.run_id = EXCLUDED.run_id RETURNING run_id),
	-- The first pass tells whether the start is new: what was there before may have ended since, and is not started again.
	p AS (INSERT INTO pass (workspace_id, run_id, number, workflow_id, revision, kind, started, started_by)
		SELECT workspace_id, run_id, 1, workflow_id, revision, 'first', accepted, started_by FROM s WHERE `
	free      = `(key = '' OR run_id IN (SELECT run_id FROM k))`
	startsAre = `
		ON CONFLICT DO NOTHING RETURNING run_id),
	-- It is carried out here at once only where none of its workspace waits, and its functions are known here.
	v AS (SELECT s.*, r.library, r.parallel_runs > 0 AS limited, s.accepted + r.deadline AS deadline, r.at_first AS mark FROM s JOIN p USING (run_id)
		LEFT JOIN LATERAL (SELECT library, parallel_runs, deadline, at_first FROM revision WHERE workspace_id = s.workspace_id AND workflow_id = s.workflow_id AND number = s.revision LIMIT 1) r ON true),
	-- The first run of a revision takes what going live said of it, once.
	f AS (UPDATE revision r SET at_first = 0 FROM (SELECT DISTINCT ON (workspace_id, workflow_id, revision) workspace_id, workflow_id, revision, run_id, mark FROM v WHERE mark > 0 AND at_first = 0 ORDER BY 1, 2, 3, place) x
		WHERE r.workspace_id = ANY (ARRAY[x.workspace_id]) AND r.workflow_id = x.workflow_id AND r.number = x.revision AND r.at_first > 0 RETURNING x.run_id, x.mark),
	n AS (SELECT v.*, claims AND library <= $19 AND NOT EXISTS (SELECT FROM live q WHERE q.workspace_id = v.workspace_id AND q.state = 'queued') AS ours, coalesce((SELECT f.mark FROM f WHERE f.run_id = v.run_id), at_first) AS most FROM v),
	-- In the order in which they came: so they line up.
	l AS (INSERT INTO live (workspace_id, run_id, workflow_id, state, session_id, claim, trigger, label, revision, library, accepted, lane, limited, deadline, hops, at_first)
		SELECT workspace_id, run_id, workflow_id, CASE WHEN ours THEN 'running' ELSE 'queued' END, CASE WHEN ours THEN $12::uuid END, CASE WHEN ours THEN 1 ELSE 0 END, trigger, label, revision, library, accepted,
			lane, coalesce(limited, false), deadline, hops, most
		FROM n ORDER BY place RETURNING run_id, state = 'running' AS ours, live.deadline, live.at_first),
	j AS (INSERT INTO journal (workspace_id, run_id, pass, step, rounds, address, part, outcome, attempts, started, ended, units, first, result)
		SELECT j.workspace_id, j.run_id, 1, 0, '', '', j.part, 'done', 1, j.at, j.at, 0, j.first, j.result
		FROM unnest($13::uuid[], $14::uuid[], $15::int[], $16::bytea[], $17::timestamptz[], $18::bigint[]) AS j(workspace_id, run_id, part, result, at, first)
		WHERE j.run_id IN (SELECT run_id FROM p))
	SELECT run_id, ours, deadline, at_first, CASE WHEN NOT ours THEN pg_notify('trellis_queue', '') END FROM l`

	startsSQL = startsOf + free + startsAre
	// Some of these have several keys, and start only if they have got all of them.
	startsOfKeysSQL = startsOf + free + " AND " + allOfThem + startsAre
)

// standingSQL tells what stands of starts that were there before: whose their
// keys are, and whether their runs are still ours by their first claim.
const standingSQL = `SELECT s.run_id, k.run_id, coalesce(l.state = 'running' AND l.session_id = $5 AND l.claim = 1, false), l.deadline, coalesce(l.at_first, 0)
	FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::uuid[]) AS s(workspace_id, workflow_id, key, run_id)
	LEFT JOIN LATERAL (SELECT run_id FROM start_key WHERE workspace_id = s.workspace_id AND workflow_id = s.workflow_id AND key = s.key AND s.key <> '' LIMIT 1) k ON true
	LEFT JOIN LATERAL (SELECT state, session_id, claim, deadline, at_first FROM live WHERE workspace_id = s.workspace_id AND run_id = s.run_id LIMIT 1) l ON true`

// keys are those of the start.
func (s *Start) keys() []string {
	if s.Key != "" {
		return []string{s.Key}
	}
	return s.Keys
}

// firstKey is the first of them; "" where there is none.
func (s *Start) firstKey() string {
	for _, key := range s.keys() {
		return key
	}
	return ""
}

// meets notes the keys of a start, and gives the one of its batch that had one of them
// before; nil for none.
func (w *startWrite) meets(first map[string]*startWrite) *startWrite {
	list, of := w.keys(), w.Workflow.String()+"/"
	for _, key := range list {
		if leader, ok := first[of+key]; ok && leader.Run != w.Run {
			return leader
		}
	}
	for _, key := range list {
		first[of+key] = w
	}
	return nil
}

func (p starts) queue(q *pgx.Batch, session uuid.UUID, repeated bool) {
	var (
		workspace, workflow, run [][16]byte // as pgx encodes them without a detour over text
		revision                 []int32
		trigger, by, label, key  []string
		lane                     []string
		expires, accepted        []time.Time
		claims                   []bool
		hops                     []int16
		atFirst                  []int32
		keys                     keyed
		asked                    []string // by which it is told whose they are
		jw, jr                   [][16]byte
		jpart                    []int32
		jresult                  [][]byte
		jat                      []time.Time
		jfirst                   []int64
	)
	first, byRun := map[string]*startWrite{}, make(map[uuid.UUID]*startWrite, len(p))
	type follower struct{ w, leader *startWrite }
	var followers []follower
	tells, together := false, slices.ContainsFunc(p, func(w *startWrite) bool { return len(w.Keys) > 0 })
	for _, s := range p {
		leader := s.meets(first)
		switch {
		case leader != nil && len(s.Keys)+len(leader.Keys) > 0: // neither can tell what becomes of the other
			s.started = Started{Run: leader.Run, Duplicate: true, Conflict: true}
			continue
		case leader != nil:
			followers = append(followers, follower{s, leader})
			continue
		}
		tells = tells || s.Key != "" || len(s.Keys) > 0
		if together { // all of them at once and in one order, so that no two batches wait for one another
			keys.add(s)
		}
		byRun[s.Run] = s
		s.started = Started{Run: s.Run}
		workspace, workflow, run = append(workspace, s.Workspace), append(workflow, s.Workflow), append(run, s.Run)
		revision = append(revision, int32(s.Revision))
		trigger, by, label, key = append(trigger, s.Trigger), append(by, s.By), append(label, s.Label), append(key, s.Key)
		asked = append(asked, s.firstKey())
		lane, hops = append(lane, s.Line.Lane), append(hops, int16(s.Hops))
		atFirst = append(atFirst, int32(s.AtFirst))
		expires, accepted, claims = append(expires, s.Expires), append(accepted, s.Accepted), append(claims, s.Claim)
		for i, page := range s.Items {
			jw, jr, jpart, jresult, jat = append(jw, s.Workspace), append(jr, s.Run), append(jpart, int32(i)), append(jresult, pack(page)), append(jat, s.Accepted)
			first := int64(0)
			if i < len(s.Ordinals) {
				first = int64(s.Ordinals[i])
			}
			jfirst = append(jfirst, first)
		}
	}
	if len(byRun) == 0 {
		return
	}
	sql, args := startsSQL, []any{workspace, workflow, run, revision, trigger, by, label, key, expires, accepted, claims, session, jw, jr, jpart, jresult, jat, jfirst, expr.Library, lane, hops, atFirst}
	if together {
		keys.take(q)
		sql, args = startsOfKeysSQL, append(args, keys.workspace, keys.workflow, keys.key, keys.run)
	}
	q.Queue(sql, args...).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var id uuid.UUID
			var ours bool
			var deadline *time.Time
			var most int
			if err := rows.Scan(&id, &ours, &deadline, &most, nil); err != nil {
				return err
			}
			byRun[id].started.Claimed, byRun[id].started.AtFirst = ours, most
			if deadline != nil {
				byRun[id].started.Deadline = *deadline
			}
		}
		return rows.Err()
	})
	if together {
		keys.giveBack(q)
	}
	if !tells && !repeated {
		return
	}
	q.Queue(standingSQL, workspace, workflow, asked, run, session).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var own uuid.UUID
			var holder *uuid.UUID
			var ours bool
			var deadline *time.Time
			var most int
			if err := rows.Scan(&own, &holder, &ours, &deadline, &most); err != nil {
				return err
			}
			w := byRun[own]
			switch is := holder == nil || *holder == own; {
			case len(w.Keys) > 0 && (holder == nil || !is):
				w.started = Started{Run: own, Duplicate: true, Conflict: true}
				continue
			case is:
				w.started = Started{Run: own, Claimed: ours, AtFirst: most}
			default:
				w.started = Started{Run: *holder, Duplicate: true}
			}
			if deadline != nil {
				w.started.Deadline = *deadline
			}
		}
		for _, f := range followers {
			f.w.started = Started{Run: f.leader.started.Run, Duplicate: true}
		}
		return rows.Err()
	})
}
