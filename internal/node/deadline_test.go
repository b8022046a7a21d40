package node

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
)

const told = "\non_failure:\n  - {name: told, type: hall.send, connection: hall, input: {n: 99}}\nlimits: {deadline: 1s}"

// At its deadline a run begins nothing more: what is on its way comes to its end, the
// rest is not tried, and what is to be done when a run fails is done.
func TestARunFailsAtItsDeadline(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live("slowly", keyedSteps+told)
	arrived, open := make(chan int, 10), make(chan struct{})
	w.side.set(func(_ context.Context, n int, _ string) (*call.Answer, error) {
		if n == 2 {
			arrived <- n
			<-open
		}
		return nil, nil
	})
	n := w.node("one", Config{})
	s := w.start("slowly", 10)
	_, err := n.Accept(within(t, 10*time.Second), s)
	require.NoError(t, err)
	<-arrived
	time.Sleep(time.Until(s.Accepted.Add(1100 * time.Millisecond))) // the deadline itself
	close(open)
	r := w.ended(s.Run, 20*time.Second)
	require.Equal(t, "failed", r.State)
	require.Contains(t, r.Message, "It was to be over by")
	require.Contains(t, r.Message, "limits.deadline")
	require.Equal(t, map[int]int{0: 1, 1: 1, 2: 1, 99: 1}, w.side.byN, "the others were not begun")
}

// One that waits fails when its time is over, and one that comes to its turn too late
// at once.
func TestARunThatWaitsFailsAtItsDeadline(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.live("waits", "  - {name: rest, type: wait, settings: {for: 30d}}\n"+keyedSteps+told)
	w.live("late", keyedSteps+told)
	n := w.node("one", Config{})
	waits, late := w.start("waits", 3), w.start("late", 3)
	late.Accepted = late.Accepted.Add(-time.Minute)
	ctx := within(t, 10*time.Second)
	_, err := n.Accept(ctx, waits)
	require.NoError(t, err)
	_, err = n.Accept(ctx, late)
	require.NoError(t, err)
	require.Contains(t, w.ended(late.Run, 20*time.Second).Message, "It was to be over by")
	r := w.ended(waits.Run, 20*time.Second)
	require.Equal(t, "failed", r.State)
	require.Contains(t, r.Message, "It was to be over by")
	require.WithinDuration(t, waits.Accepted.Add(time.Second), *r.Ended, 10*time.Second)
	require.Equal(t, map[int]int{99: 2}, w.side.byN, "nothing but what is done then")
}
