package store

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
)

// A claim costs the same however long the queue is, also by plans that were
// made while the tables were empty. The measure is what the database itself
// counts: the blocks it touches. Trees of indexes that are one or two levels
// higher are all that may show.
func TestClaimingCostsTheSameAtAnyLength(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	b := openAt(t, database, slog.New(slog.DiscardHandler))
	root := admin(t, database)
	ctx := within(t, 2*time.Minute)
	c, err := b.node.Acquire(ctx)
	require.NoError(t, err)
	defer c.Release()
	for name, sql := range map[string]string{"claims": claimSQL, "pages": firstPagesSQL} {
		_, err := c.Exec(ctx, "PREPARE "+name+" AS "+sql)
		require.NoError(t, err)
	}
	blocks(ctx, t, c, fmt.Sprintf("claims('%s', '%s', 64, '{}', 2, 1)", b.session, uuid.Nil))
	blocks(ctx, t, c, "pages('{}', '{}')")
	from, cost := 1, map[string]map[int]int{}
	for _, known := range []string{"nothing", "everything"} {
		cost[known] = map[int]int{}
		for _, n := range []int{100, 50_000} {
			runs := b.pretendQueued(ctx, t, root, from, n)
			from += n
			if known == "everything" {
				_, err := root.Exec(ctx, "VACUUM ANALYZE live, journal")
				require.NoError(t, err)
			}
			workspaces := make([]uuid.UUID, len(runs))
			for i := range workspaces {
				workspaces[i] = b.sc.workspace
			}
			cost[known][n] = blocks(ctx, t, c, fmt.Sprintf("claims('%s', '%s', 64, '{}', 2, 1)", b.session, uuid.Nil)) +
				blocks(ctx, t, c, fmt.Sprintf("pages(%s, %s)", array(workspaces), array(runs)))
		}
		require.Less(t, float64(cost[known][50_000]), 2*float64(cost[known][100]), "the planner knows %s: %v", known, cost)
	}
}

func array(ids []uuid.UUID) string {
	text := "ARRAY["
	for i, id := range ids {
		if i > 0 {
			text += ","
		}
		text += "'" + id.String() + "'::uuid"
	}
	return text + "]"
}

// pretendQueued lets exactly n runs be queued, and gives the oldest 64.
func (b *bench) pretendQueued(ctx context.Context, t *testing.T, root *pgx.Conn, from, n int) []uuid.UUID {
	t.Helper()
	_, err := root.Exec(ctx, "DELETE FROM live")
	require.NoError(t, err)
	_, err = root.Exec(ctx, "VACUUM (ANALYZE false) live")
	require.NoError(t, err)
	base := NewID() // of today, so that its partition is there
	rows, err := root.Query(ctx, `WITH n AS (SELECT i, (left($4::text, 24) || lpad(to_hex(i), 12, '0'))::uuid AS id FROM generate_series($3::int, $3::int + $5::int - 1) i),
		j AS (INSERT INTO journal (workspace_id, run_id, pass, step, rounds, address, part, outcome, attempts, units, started, ended, result) SELECT $1, id, 1, 0, '', '', 0, 'done', 1, 0, now(), now(), '\x00'::bytea FROM n),
		l AS (INSERT INTO live (workspace_id, run_id, workflow_id, state, trigger, revision, library, accepted) SELECT $1, id, $2, 'queued', 'webhook', 1, 1, now() FROM n)
		SELECT id FROM n ORDER BY i LIMIT 64`, b.sc.workspace, b.workflow.ID, from, base, n)
	require.NoError(t, err)
	runs, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	require.NoError(t, err)
	return runs
}

// blocks is how many blocks a prepared statement touches; what it does is taken
// back.
func blocks(ctx context.Context, t *testing.T, c *pgxpool.Conn, execute string) int {
	t.Helper()
	tx, err := c.Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = tx.Rollback(ctx) }()
	var text string
	require.NoError(t, tx.QueryRow(ctx, "EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON) EXECUTE "+execute).Scan(&text))
	return blocksOf(t, text)
}

// blocksOf reads how many blocks an explained statement touched.
func blocksOf(t *testing.T, text string) int {
	t.Helper()
	var plan []struct {
		Plan struct {
			Hit  int `json:"Shared Hit Blocks"`
			Read int `json:"Shared Read Blocks"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text), &plan))
	return plan[0].Plan.Hit + plan[0].Plan.Read
}

// The plans of a node's statements are made once, maybe on empty tables; so
// whatever they read of the tables that grow must go by the key of a run, or by
// an index of just what is asked for.
func TestStatementsOfANodeGoByKey(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	b := openAt(t, database, slog.New(slog.DiscardHandler))
	ctx := within(t, time.Minute)
	b.sayEverything(ctx, t)
	b.requirePlansByKey(ctx, t)
	_, err := admin(t, database).Exec(ctx, "VACUUM ANALYZE") // now the planner knows for sure how little there is
	require.NoError(t, err)
	b.requirePlansByKey(ctx, t)
}

var (
	statement = regexp.MustCompile(`^(SELECT|INSERT|UPDATE|DELETE|WITH)`)
	grows     = regexp.MustCompile(`(?:Seq|Index|Index Only|Bitmap Heap) Scan (?:Backward )?(?:using (\S+) )?on ((?:live|run|pass|journal|lattice|start_key|callback|answer|connection_permit|file|file_chunk)(?:_\d+|_other)?)\b`)
	// A run, or one of the few other things that are found by their own key.
	byOwnKey = regexp.MustCompile(`Index Cond: .*\b(run_id|key|hash|id|connection_id) = `)
	// Indexes of just what is asked for.
	justThat = map[string]bool{"live_queued": true, "live_session": true, "live_cancel": true, "live_wake": true}
)

func (b *bench) requirePlansByKey(ctx context.Context, t *testing.T) {
	t.Helper()
	seen := 0
	for _, c := range b.node.AcquireAllIdle(ctx) {
		defer c.Release()
		rows, err := c.Query(ctx, "SELECT name, statement, cardinality(parameter_types) FROM pg_prepared_statements", pgx.QueryExecModeSimpleProtocol)
		require.NoError(t, err)
		type prepared struct {
			Name, Statement string
			Parameters      int
		}
		list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[prepared])
		require.NoError(t, err)
		for _, s := range list {
			sql := strings.TrimSpace(s.Statement)
			if !statement.MatchString(sql) {
				continue
			}
			execute := "EXPLAIN EXECUTE " + pgx.Identifier{s.Name}.Sanitize()
			if s.Parameters > 0 {
				execute += "(" + strings.TrimSuffix(strings.Repeat("NULL, ", s.Parameters), ", ") + ")"
			}
			rows, err := c.Query(ctx, execute, pgx.QueryExecModeSimpleProtocol)
			require.NoError(t, err, execute)
			plan, err := pgx.CollectRows(rows, pgx.RowTo[string])
			require.NoError(t, err, sql)
			for i, line := range plan {
				m := grows.FindStringSubmatch(line)
				if m == nil || justThat[m[1]] {
					continue
				}
				seen++
				if i+1 == len(plan) || !byOwnKey.MatchString(plan[i+1]) {
					t.Errorf("this goes through %s:\n%s\n%s", m[2], sql, strings.Join(plan, "\n"))
				}
			}
		}
	}
	require.Greater(t, seen, 20, "the statements were looked at")
}

// sayEverything lets a node say to the database whatever it has to say.
func (b *bench) sayEverything(ctx context.Context, t *testing.T) {
	t.Helper()
	keyed := b.claimed("a key")
	one, err := b.begin(ctx, keyed)
	require.NoError(t, err)
	_, err = b.begin(ctx, keyed)
	require.NoError(t, err)
	several, err := b.begin(ctx, b.several("one", "another"))
	require.NoError(t, err)
	_, err = b.KnownKeys(ctx, b.sc.workspace, b.workflow.ID, []string{"one"})
	require.NoError(t, err)
	require.True(t, b.end(t, &End{Run: several.Run, Claim: 1, State: engine.Succeeded}))
	require.NoError(t, b.append(ctx, one.Run, entry(0, "{}")))
	require.NoError(t, b.append(ctx, one.Run, entry(0, "{}")))
	require.NoError(t, b.writer.Lattice(ctx, &LatticePage{Workspace: b.sc.workspace, Run: one.Run, Pass: 1, Body: []byte("x"), Shape: []byte("y"), Keys: []byte("z")}))
	j := &RunJournal{Store: b.Store, Workspace: b.sc.workspace, Run: one.Run}
	_, err = j.Entries(ctx, 1, 2, "", []item.Address{item.Root(0)})
	require.NoError(t, err)
	_, err = j.Page(ctx, engine.Key{Pass: 1})
	require.NoError(t, err)
	past := time.Now().Add(-time.Second)
	require.True(t, b.end(t, &End{Run: one.Run, Claim: 1, State: engine.WaitingOn, Wake: &past, Total: 0}))
	_, err = b.WakeDue(ctx)
	require.NoError(t, err)
	claimed, err := b.Claim(ctx, b.session, Turn{}, 5)
	require.NoError(t, err)
	require.Len(t, claimed, 1)
	owned, err := b.Owned(ctx, b.session)
	require.NoError(t, err)
	require.NoError(t, b.HandBack(ctx, b.session, []Owned{owned[one.Run]}))
	_, err = b.Cancelled(ctx, b.session)
	require.NoError(t, err)
	_, err = b.Passes(ctx, b.sc.workspace, one.Run)
	require.NoError(t, err)
	_, err = b.Revision(ctx, b.sc.workspace, b.workflow.ID, 9)
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, b.AddConnection(ctx, b.sc, Connection{ID: NewID(), Name: "a", Connector: "http", Method: "key", Secret: []byte("{}"), State: "unchecked"}))
	connection, err := b.ConnectionForRun(ctx, b.sc.workspace, "a")
	require.NoError(t, err)
	gate := Gate{Permitted: Permitted{b.sc.workspace, connection.ID, NewID()}, Session: &b.session, Parallel: 1, Spacing: time.Millisecond, Lasts: time.Second}
	_, err = b.Ask(ctx, gate)
	require.NoError(t, err)
	require.NoError(t, b.writer.Return(Permitted{b.sc.workspace, connection.ID, gate.ID}))
	require.NoError(t, b.Return(ctx, Permitted{b.sc.workspace, connection.ID, gate.ID}))
	require.NoError(t, b.KeepCallback(ctx, "a token", Callback{Workspace: b.sc.workspace, Run: one.Run, Rounds: []byte{}, Address: []byte{}}))
	require.NoError(t, b.CalledBack(ctx, "a token"))
	b.says(t, one.Run, "a", "{}", 0)
	b.answer(t, one.Run)
	require.NoError(t, b.PlaceAnswer(ctx, Placed{Workspace: b.sc.workspace, Workflow: b.workflow.ID, Run: one.Run}, "its token"))
	_, err = b.AnswerPlaced(ctx, "its token")
	require.NoError(t, err)
	file := NewID()
	require.NoError(t, b.AddChunk(ctx, b.sc.workspace, file, 0, []byte("x")))
	require.NoError(t, b.SealFile(ctx, b.sc.workspace, file, []byte("hash"), 1))
	_, _, err = b.FindFile(ctx, b.sc.workspace, []byte("hash"))
	require.NoError(t, err)
	_, err = b.Chunk(ctx, b.sc.workspace, file, 0)
	require.NoError(t, err)
	require.NoError(t, b.DropChunks(ctx, b.sc.workspace, file))
	dead := mustSession(t, b, "node-b")
	_, err = b.TakeOver(ctx, dead, 0)
	require.NoError(t, err)
	require.NoError(t, b.Adopt(ctx, b.session))
	require.NoError(t, b.AdoptEnded(ctx))
}
