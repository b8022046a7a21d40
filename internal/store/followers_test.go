package store

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
)

// followed makes a workflow live that starts after the bench's own.
func (b *bench) followed(t *testing.T, name string, states ...string) Workflow {
	t.Helper()
	ctx := context.Background()
	_, err := b.CreateWorkflow(ctx, b.sc, name, name, "format: young-trellis/1\n")
	require.NoError(t, err)
	w, err := b.GoLive(ctx, b.sc, name, GoingLive{Follows: []Follow{{Source: b.workflow.ID, States: states}}})
	require.NoError(t, err)
	return w
}

func (b *bench) exec(t *testing.T, sql string, args ...any) {
	t.Helper()
	_, err := b.node.Exec(within(t, 20*time.Second), sql, args...)
	require.NoError(t, err)
}

func (b *bench) over(t *testing.T, hops int, state engine.State) uuid.UUID {
	t.Helper()
	s := b.claimed("")
	s.Hops = hops
	_, err := b.begin(within(t, 20*time.Second), s)
	require.NoError(t, err)
	require.True(t, b.end(t, &End{Workspace: b.sc.workspace, Run: s.Run, Workflow: b.workflow.ID, Pass: 1, Claim: 1, State: state, Message: "so it ended", Counts: []byte(`{"in": 4, "set_aside": 1}`), Total: -1}))
	return s.Run
}

func (b *bench) outcomes(t *testing.T, keep bool) (out []Outcome) {
	t.Helper()
	_, err := b.ClaimOutcomes(within(t, 20*time.Second), 100, func(list []Outcome) []Outcome {
		out = list
		if keep {
			return nil
		}
		return list
	})
	require.NoError(t, err)
	return out
}

func TestAnEndTellsThoseThatFollowIt(t *testing.T) {
	t.Parallel()
	b := open(t)
	good, bad := b.followed(t, "good", "succeeded"), b.followed(t, "bad", "failed", "partial")
	names, err := b.Followers(context.Background(), b.sc, b.workflow.ID)
	require.NoError(t, err)
	require.Equal(t, []string{"bad", "good"}, names)
	run := b.over(t, 2, engine.Succeeded)
	got := b.outcomes(t, true)
	require.Len(t, got, 1)
	require.Equal(t, good.ID, got[0].Workflow)
	require.Equal(t, run, got[0].Run)
	require.Equal(t, "loads", got[0].Name)
	require.Equal(t, 3, got[0].Hops)
	require.Equal(t, 1, got[0].Live)
	require.Equal(t, engine.Counts{In: 4, SetAside: 1}, got[0].Counts)
	require.Equal(t, "so it ended", got[0].Message)
	require.Empty(t, b.outcomes(t, false), "what was not started keeps nobody else back")
	b.exec(t, "UPDATE outcome SET due = now()")
	b.exec(t, "UPDATE revision SET library = library + 1 WHERE workflow_id = $1", good.ID)
	require.Empty(t, b.outcomes(t, false), "a newer node starts what only that knows")
	b.exec(t, "UPDATE revision SET library = library - 1 WHERE workflow_id = $1", good.ID)
	require.Len(t, b.outcomes(t, false), 1, "it is told again")
	require.Empty(t, b.outcomes(t, false))
	b.over(t, 0, engine.Partial)
	b.over(t, 0, engine.FailedRun)
	for _, o := range b.outcomes(t, false) {
		require.Equal(t, bad.ID, o.Workflow)
	}

	// A further pass tells its own end, and the run is as far along as before.
	require.NoError(t, b.NewPass(context.Background(), b.sc, run, Pass{Kind: "resume"}))
	require.Equal(t, 2, b.count(t, "SELECT hops FROM live"))
	claimed, err := b.Claim(within(t, 20*time.Second), b.session, Turn{}, 5)
	require.NoError(t, err)
	require.Len(t, claimed, 1)
	require.True(t, b.end(t, &End{Workspace: b.sc.workspace, Run: run, Workflow: b.workflow.ID, Pass: 2, Claim: claimed[0].Claim, State: engine.Succeeded, Total: -1}))
	got = b.outcomes(t, false)
	require.Len(t, got, 1)
	require.Equal(t, 2, got[0].Pass)
}

// Paused nothing follows; what follows a workflow that is removed is told of no more,
// and an outcome for a follower that is gone is forgotten.
func TestWhatIsPausedOrGoneFollowsNothing(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	w := b.followed(t, "good", "succeeded")
	_, err := b.SetState(ctx, b.sc, "good", "paused", GoingLive{})
	require.NoError(t, err)
	b.over(t, 0, engine.Succeeded)
	require.Empty(t, b.outcomes(t, false))
	_, err = b.SetState(ctx, b.sc, "good", "live", GoingLive{Follows: []Follow{{Source: b.workflow.ID, States: []string{"succeeded"}}}})
	require.NoError(t, err)
	b.over(t, 0, engine.Succeeded)
	require.Equal(t, 1, b.count(t, "SELECT count(*) FROM outcome WHERE workflow_id = $1", w.ID))
	require.NoError(t, b.DeleteWorkflow(ctx, b.sc, "good"))
	require.Empty(t, b.outcomes(t, false))
	require.Zero(t, b.count(t, "SELECT count(*) FROM outcome"))
	b.followed(t, "again", "succeeded")
	require.NoError(t, b.DeleteWorkflow(ctx, b.sc, "loads"))
	require.Zero(t, b.count(t, "SELECT count(*) FROM follower"))
}
