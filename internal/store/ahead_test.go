package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
)

// What is to be expected of a run is what those gave that came to their end; the
// others count as runs.
func TestHowAWorkflowRanOfLate(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	since := time.Now().Add(-time.Hour)
	ended := func(state engine.State, counts string) {
		s, err := b.begin(ctx, b.claimed(""))
		require.NoError(t, err)
		require.True(t, b.end(t, &End{Run: s.Run, Claim: 1, State: state, Counts: []byte(counts)}))
	}
	l, err := b.Lately(ctx, b.sc, b.workflow.ID, since)
	require.NoError(t, err)
	require.Zero(t, l)
	ended(engine.FailedRun, `{"in": 90}`)
	l, err = b.Lately(ctx, b.sc, b.workflow.ID, since)
	require.NoError(t, err)
	require.Equal(t, LatelyRun{Runs: 1}, l)
	ended(engine.Succeeded, `{"in": 2}`)
	ended(engine.Partial, `{"in": 5}`)
	l, err = b.Lately(ctx, b.sc, b.workflow.ID, since)
	require.NoError(t, err)
	require.Equal(t, 3, l.Runs)
	require.Equal(t, 2, l.Whole)
	require.InDelta(t, 3.5, l.Items, 0.01)
	require.Less(t, l.Took, time.Minute)

	s, err := b.begin(ctx, b.claimed(""))
	require.NoError(t, err)
	onWay, err := b.OnTheirWay(ctx, b.sc, b.workflow.ID)
	require.NoError(t, err)
	require.Equal(t, map[int]int{1: 1}, onWay, s.Run)
}
