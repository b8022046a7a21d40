package node

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/store"
)

// A start that was queued may be claimed before its caller hears so; what it
// hears then takes nothing away from the claim.
func TestAStartsEndLeavesAClaimAlone(t *testing.T) {
	t.Parallel()
	r, run := newRegister(), uuid.New()
	r.add(uuid.Nil, run, 1, starting)
	r.add(uuid.Nil, run, 1, waiting) // claimed
	r.notStarted(run)
	require.False(t, r.started(run, 1), "it is not taken a second time")
	require.True(t, r.begin(run, 1, &engine.Stop{}, nil))
	require.False(t, r.started(run, 1))
	r.remove(run, 1)
	require.Empty(t, r.list())
	require.False(t, r.started(run, 1), "nor once it is over")

	r.add(uuid.Nil, run, 1, starting)
	r.notStarted(run)
	require.Empty(t, r.list())

	r.add(uuid.Nil, run, 1, starting)
	require.True(t, r.started(run, 1))
	require.Equal(t, []Executing{{uuid.Nil, run, 1, "taken"}}, r.list())
}

// A wish that is heard before the execution begins is kept for it; a former
// claim has no say.
func TestTheRegisterGoesByTheClaim(t *testing.T) {
	t.Parallel()
	r, run := newRegister(), uuid.New()
	r.add(uuid.Nil, run, 2, waiting)
	r.cancel([]store.Cancelled{{Run: run, Cancel: 1}})
	r.remove(run, 1)
	r.set(run, 1, ending)
	require.Equal(t, []Executing{{uuid.Nil, run, 2, "taken"}}, r.list())
	stop := &engine.Stop{}
	require.False(t, r.begin(run, 1, stop, nil))
	ctx, drop := context.WithCancelCause(context.Background())
	require.True(t, r.begin(run, 2, stop, drop))
	require.Equal(t, []Executing{{uuid.Nil, run, 2, "executing"}}, r.list())
	r.dropIf(run, 1)
	require.NoError(t, ctx.Err())
	r.dropIf(run, 2)
	require.ErrorIs(t, context.Cause(ctx), engine.ErrDropped)
	all, certain := r.claims()
	require.Empty(t, all)
	require.Empty(t, certain)
}

// Whoever is not ready is passed over and stays first; memory is bounded, not
// only the number.
func TestWhatIsNotReadyIsPassedOver(t *testing.T) {
	t.Parallel()
	q := newTaken(5)
	a, b := uuid.New(), uuid.New()
	q.push(store.Claimed{Workspace: a})
	q.push(store.Claimed{Workspace: b})
	c, ok := q.pop(func(h *held) bool { return h.Workspace == b })
	require.True(t, ok)
	require.Equal(t, b, c.Workspace)
	_, ok = q.pop(func(*held) bool { return false })
	require.False(t, ok)
	c, ok = q.pop(ready)
	require.True(t, ok)
	require.Equal(t, a, c.Workspace)
	q.push(store.Claimed{Workspace: a, First: [][]byte{make([]byte, takenBytes)}})
	require.False(t, q.room(0, 1))
	q.clear()
	require.True(t, q.room(0, 1))
}

// Runs wait behind the starts of their own workspace only, and only while there
// are many of these.
func TestAFloodDefersOnlyItsOwn(t *testing.T) {
	t.Parallel()
	f := newFloods()
	a, b := uuid.New(), uuid.New()
	for range flood - 1 {
		f.arrives(a)
	}
	require.False(t, f.defers(a))
	f.arrives(a)
	f.arrives(b)
	require.True(t, f.defers(a))
	require.False(t, f.defers(b))
	for range flood {
		f.arrived(a)
	}
	f.arrived(b)
	require.Eventually(t, func() bool { return !f.defers(a) }, time.Minute, time.Millisecond)
	require.Empty(t, f.under, "nothing is remembered of those who have gone")
}

// What is about to begin when everything is told to hand over is told too; what
// only waits is not.
func TestWhatIsAboutToBeginIsHandedOver(t *testing.T) {
	t.Parallel()
	r := newRegister()
	begins, waits := uuid.New(), uuid.New()
	for _, run := range []uuid.UUID{begins, waits} {
		r.add(uuid.New(), run, 1, waiting)
	}
	r.set(begins, 1, executing)
	r.handOver()
	for run, handed := range map[uuid.UUID]bool{begins: true, waits: false} {
		stop := &engine.Stop{}
		require.True(t, r.begin(run, 1, stop, nil))
		select {
		case <-stop.Done():
			require.True(t, handed)
		default:
			require.False(t, handed)
		}
	}
}
