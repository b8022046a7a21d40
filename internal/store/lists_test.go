package store

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
)

// past fills the history with so many runs of 19 of the 20 workflows over the
// last two weeks; few have failed, and very few have come in part.
func (b *bench) past(ctx context.Context, t *testing.T, root *pgx.Conn, n int) (workflows []uuid.UUID) {
	t.Helper()
	for i := range 20 {
		w, err := b.CreateWorkflow(ctx, b.sc, fmt.Sprintf("past-%02d", i), "Past", "format: young-trellis/1\n")
		require.NoError(t, err)
		_, err = b.GoLive(ctx, b.sc, w.Name, GoingLive{})
		require.NoError(t, err)
		workflows = append(workflows, w.ID)
	}
	for d := range 14 {
		_, err := root.Exec(ctx, "SELECT ensure_partitions(((now() AT TIME ZONE 'UTC')::date) - $1::int)", d)
		require.NoError(t, err)
	}
	_, err := root.Exec(ctx, `WITH n AS (SELECT i, now() - make_interval(secs => 60 + i * 13.0 * 86400 / $2::int) AS at FROM generate_series(1, $2::int) i)
		INSERT INTO run (workspace_id, run_id, workflow_id, state, pass, trigger, label, revision, accepted, ended, message)
		SELECT $1, (lpad(to_hex((extract(epoch FROM at) * 1000)::bigint), 12, '0') || '7' || substr(md5(i::text), 1, 3) || '8' || substr(md5(i::text || 'x'), 1, 15))::uuid,
			($3::uuid[])[1 + (i % 19)], CASE WHEN i % 5000 = 0 THEN 'partial' WHEN i % 300 = 0 THEN 'failed' ELSE 'succeeded' END, 1, 'webhook', 'Studio ' || i, 1, at, at + interval '1 second', '' FROM n`, b.sc.workspace, n, workflows)
	require.NoError(t, err)
	return workflows
}

// Every list of runs touches few blocks, whatever it is narrowed to: also for a
// workflow that never ran, and a state that is rare.
func TestListsOfRunsTouchFewBlocks(t *testing.T) {
	t.Parallel()
	database := clustertest.Database(t)
	b := openAt(t, database, slog.New(slog.DiscardHandler))
	root := admin(t, database)
	ctx := within(t, 2*time.Minute)
	workflows := b.past(ctx, t, root, 50_000)
	_, err := root.Exec(ctx, "VACUUM ANALYZE run")
	require.NoError(t, err)
	modes := []string{"force_custom_plan", "force_generic_plan"}
	prepared := map[string]string{}
	tx, err := b.api.Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = tx.Rollback(ctx) }()
	_, err = tx.Exec(ctx, "SELECT set_config('trellis.workspace', $1, true)", b.sc.workspace.String())
	require.NoError(t, err)
	touched := func(mode, sql string, args ...any) int {
		_, err := tx.Exec(ctx, "SET LOCAL plan_cache_mode = "+mode)
		require.NoError(t, err)
		if prepared[sql] == "" {
			prepared[sql] = fmt.Sprintf("list%d", len(prepared))
			_, err := tx.Exec(ctx, "PREPARE "+prepared[sql]+" AS "+sql)
			require.NoError(t, err)
		}
		values := make([]string, len(args))
		for i, a := range args {
			values[i] = fmt.Sprintf("'%v'", a)
			if list, ok := a.([]uuid.UUID); ok {
				values[i] = array(list)
			}
		}
		var text string
		require.NoError(t, tx.QueryRow(ctx, "EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON) EXECUTE "+prepared[sql]+"("+strings.Join(values, ", ")+")").Scan(&text))
		return blocksOf(t, text)
	}
	for _, workflow := range []uuid.UUID{uuid.Nil, workflows[3], workflows[19]} {
		for _, state := range []string{"", "succeeded", "failed", "partial", "cancelled"} {
			for _, mode := range modes {
				sql, args := RunFilter{Workflow: workflow, State: state, Limit: 50}.query(b.sc)
				require.Less(t, touched(mode, sql, args...), 400, "workflow %v, state %q, %s", workflow, state, mode)
			}
		}
	}
	for _, mode := range modes {
		require.Less(t, touched(mode, lastLiveSQL, b.sc.workspace, workflows)+touched(mode, lastEndedSQL, b.sc.workspace, workflows), 2000, mode)
	}
	last, err := b.LastRuns(ctx, b.sc, workflows)
	require.NoError(t, err)
	require.Len(t, last, 19)
	for i, id := range workflows[:19] {
		list, err := b.Runs(ctx, b.sc, RunFilter{Workflow: id, Limit: 1})
		require.NoError(t, err)
		require.Equal(t, list[0].ID, last[id].ID, i)
	}
	// What is still under way counts as the last.
	live := b.start("")
	live.Workflow = workflows[5]
	_, err = b.begin(ctx, live)
	require.NoError(t, err)
	last, err = b.LastRuns(ctx, b.sc, workflows)
	require.NoError(t, err)
	require.Equal(t, live.Run, last[workflows[5]].ID)
}
