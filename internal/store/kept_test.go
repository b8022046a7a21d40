package store

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
)

// pausedHook is that of the bench's workflow, which is paused.
func (b *bench) pausedHook(t *testing.T) Hook {
	t.Helper()
	w, err := b.SetState(within(t, time.Minute), b.sc, "loads", "paused", GoingLive{})
	require.NoError(t, err)
	h, err := b.HookByAddress(within(t, time.Minute), w.Hook)
	require.NoError(t, err)
	return h
}

func TestWhatIsKeptStartsInItsOrderOrIsDismissed(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	h := b.pausedHook(t)
	for i := range 5 {
		require.NoError(t, b.KeepEvent(ctx, h, fmt.Appendf(nil, `[{"n":%d}]`, i)))
	}
	of, err := b.KeptOf(ctx, b.sc, []uuid.UUID{h.Workflow})
	require.NoError(t, err)
	require.Equal(t, 5, of[h.Workflow])
	found, err := b.ClaimKept(ctx, nil)
	require.NoError(t, err)
	require.False(t, found, "it waits for somebody")

	var kept *KeptError
	_, err = b.SetState(ctx, b.sc, "loads", "live", GoingLive{})
	require.ErrorAs(t, err, &kept)
	require.Equal(t, 5, kept.Events)
	_, err = b.GoLive(ctx, b.sc, "loads", GoingLive{})
	require.ErrorAs(t, err, &kept)
	_, err = b.PutBack(ctx, b.sc, "loads", 1, GoingLive{})
	require.ErrorAs(t, err, &kept)
	_, err = b.SetState(ctx, b.sc, "loads", "live", GoingLive{Kept: KeptStart})
	require.NoError(t, err)
	require.ErrorIs(t, b.KeepEvent(ctx, h, []byte(`[{}]`)), ErrConflict, "it is not paused any more")

	// Several look; one event after the other is handed out, the first first.
	var mu sync.Mutex
	var seen []string
	tries := map[string]int{}
	look := func() bool {
		found, err := b.ClaimKept(ctx, func(k Kept) bool {
			mu.Lock()
			defer mu.Unlock()
			require.Equal(t, 1, k.Live)
			tries[string(k.Items)]++
			seen = append(seen, string(k.Items))
			return true
		})
		require.NoError(t, err)
		return found
	}
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for len(seenOf(&mu, &seen)) < 3 {
				look()
			}
		})
	}
	all.Wait()
	require.Equal(t, `[{"n":0}] [{"n":1}] [{"n":2}]`, strings.Join(seenOf(&mu, &seen)[:3], " "))

	// Paused anew, what has not started is kept again, and can be dismissed.
	_, err = b.SetState(ctx, b.sc, "loads", "paused", GoingLive{})
	require.NoError(t, err)
	left := 5 - len(seen)
	of, err = b.KeptOf(ctx, b.sc, []uuid.UUID{h.Workflow})
	require.NoError(t, err)
	require.Equal(t, left, of[h.Workflow])
	require.False(t, look())
	_, err = b.GoLive(ctx, b.sc, "loads", GoingLive{Kept: KeptDismiss})
	require.NoError(t, err)
	require.False(t, look())
	for items, n := range tries {
		require.Equal(t, 1, n, items)
	}
}

func seenOf(mu *sync.Mutex, seen *[]string) []string {
	mu.Lock()
	defer mu.Unlock()
	return *seen
}

func TestAKeptEventThatCannotStartHoldsThoseBehindIt(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	h := b.pausedHook(t)
	for i := range 2 {
		require.NoError(t, b.KeepEvent(ctx, h, fmt.Appendf(nil, `[{"n":%d}]`, i)))
	}
	_, err := b.SetState(ctx, b.sc, "loads", "live", GoingLive{Kept: KeptStart})
	require.NoError(t, err)
	found, err := b.ClaimKept(ctx, func(Kept) bool { return false })
	require.NoError(t, err)
	require.True(t, found)
	found, err = b.ClaimKept(ctx, nil)
	require.NoError(t, err)
	require.False(t, found, "the second waits until the first is tried again")
	require.Equal(t, 2, b.count(t, "SELECT count(*) FROM kept_event"))
}

func TestWhatIsKeptIsBoundedAndForgotten(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	h := b.pausedHook(t)
	require.ErrorIs(t, b.KeepEvent(ctx, h, make([]byte, MaxKeptBytes+1)), ErrFull)
	owner := admin(t, b.node.Config().ConnString())
	fill := func(n int, at time.Time) {
		for i := range n {
			_, err := owner.Exec(ctx, "INSERT INTO kept_event (workspace_id, workflow_id, id, items, bytes) VALUES ($1, $2, $3, $4, 2)", h.Workspace, h.Workflow, idAt(at.Add(time.Duration(i)*time.Millisecond)), pack([]byte("[]")))
			require.NoError(t, err)
		}
	}
	old := time.Now().Add(-KeptFor - time.Hour)
	fill(10, old)
	of, err := b.KeptOf(ctx, b.sc, []uuid.UUID{h.Workflow})
	require.NoError(t, err)
	require.Zero(t, of[h.Workflow], "what is too old is not counted")
	fill(MaxKept-1, time.Now().Add(-time.Hour))
	require.NoError(t, b.KeepEvent(ctx, h, []byte(`[{}]`)), "what was too old made room")
	require.ErrorIs(t, b.KeepEvent(ctx, h, []byte(`[{}]`)), ErrFull)
	require.Equal(t, MaxKept, b.count(t, "SELECT count(*) FROM kept_event"))
	fill(3, old)
	require.NoError(t, b.ForgetKept(ctx))
	require.Equal(t, MaxKept, b.count(t, "SELECT count(*) FROM kept_event"))
	require.ErrorIs(t, b.KeepEvent(ctx, h, nil), ErrFull)
}
