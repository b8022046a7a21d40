package store

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
)

// firsts are how many items these runs take at first, as their passes say.
func (b *bench) firsts(t *testing.T, list ...Started) (out []int) {
	t.Helper()
	for _, s := range list {
		passes, err := b.Passes(context.Background(), b.sc.workspace, s.Run)
		require.NoError(t, err)
		out = append(out, passes[0].AtFirst)
	}
	return out
}

// Of all runs that start at once, wherever, one takes what going live said of the
// next.
func TestOneRunIsTheFirst(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	_, err := b.GoLive(ctx, b.sc, "loads", GoingLive{})
	require.NoError(t, err)
	_, err = b.SaveDraft(ctx, b.sc, "loads", 0, "Loads", "format: young-trellis/1\nname: loads\n")
	require.NoError(t, err)
	_, err = b.GoLive(ctx, b.sc, "loads", GoingLive{AtFirst: 5})
	require.NoError(t, err)
	w, err := b.Workflow(ctx, b.sc, "loads")
	require.NoError(t, err)
	require.Equal(t, 5, w.AtFirst)

	old := b.claimed("")
	old.Revision = *w.Live - 1
	s, err := b.begin(ctx, old)
	require.NoError(t, err)
	require.Equal(t, []int{0}, b.firsts(t, s), "one of another revision is none of them")

	own := b.claimed("")
	own.Revision, own.AtFirst = *w.Live, 3
	s, err = b.begin(ctx, own)
	require.NoError(t, err)
	require.Equal(t, []int{3}, b.firsts(t, s), "what somebody says of a run holds for that, and leaves the next as it is")
	require.Equal(t, 3, s.AtFirst)

	type heard struct {
		s   Started
		err error
	}
	got := make(chan heard)
	for range 20 {
		go func() {
			n := b.claimed("")
			n.Revision = *w.Live
			s, err := b.begin(ctx, n)
			got <- heard{s, err}
		}()
	}
	var list []Started
	told := 0
	for range 20 {
		h := <-got
		require.NoError(t, h.err)
		list, told = append(list, h.s), told+h.s.AtFirst
	}
	sum := 0
	for _, n := range b.firsts(t, list...) {
		sum += n
	}
	require.Equal(t, 5, sum, "one of them, and it alone")
	require.Equal(t, 5, told, "whoever carries it out is told")
	w, err = b.Workflow(ctx, b.sc, "loads")
	require.NoError(t, err)
	require.Zero(t, w.AtFirst)
}

// What going live said stays until a run takes it, or somebody goes live anew.
func TestTheFirstRunWaitsForItsEvent(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	says := func(want int) {
		t.Helper()
		w, err := b.Workflow(ctx, b.sc, "loads")
		require.NoError(t, err)
		require.Equal(t, want, w.AtFirst)
	}
	s, err := b.begin(ctx, b.claimed("call-1"))
	require.NoError(t, err)
	w, err := b.GoLive(ctx, b.sc, "loads", GoingLive{AtFirst: 5})
	require.NoError(t, err)
	for _, state := range []string{"paused", "live"} {
		_, err = b.SetState(ctx, b.sc, "loads", state, GoingLive{})
		require.NoError(t, err)
		says(5)
	}
	again := b.claimed("call-1")
	again.Revision = *w.Live
	dup, err := b.begin(ctx, again)
	require.NoError(t, err)
	require.True(t, dup.Duplicate)
	require.Equal(t, s.Run, dup.Run)
	says(5) // one that starts nothing takes nothing
	_, err = b.GoLive(ctx, b.sc, "loads", GoingLive{})
	require.NoError(t, err)
	says(0)
	for range 2 { // as often as somebody goes live
		w, err = b.GoLive(ctx, b.sc, "loads", GoingLive{AtFirst: 2})
		require.NoError(t, err)
		says(2)
	}
	_, err = b.PutBack(ctx, b.sc, "loads", 1, GoingLive{})
	require.NoError(t, err)
	says(0)
	_, err = b.GoLive(ctx, b.sc, "loads", GoingLive{AtFirst: 2})
	require.NoError(t, err)

	queued := b.start("")
	queued.Revision = 1
	s, err = b.begin(ctx, queued)
	require.NoError(t, err)
	says(0)
	claimed, err := b.Claim(ctx, b.session, Turn{}, 10)
	require.NoError(t, err)
	require.Len(t, claimed, 1)
	require.Equal(t, 2, claimed[0].AtFirst, "whoever takes it on from the queue is told too")
	require.True(t, b.end(t, &End{Run: s.Run, Claim: 1, State: engine.Partial}))
	require.NoError(t, b.NewPass(ctx, b.sc, s.Run, Pass{Kind: "retry", Revision: 1}))
	require.Equal(t, []int{2}, b.firsts(t, s), "and it stays what it was")
}
