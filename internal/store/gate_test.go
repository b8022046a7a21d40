package store

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/core/item"
)

// gated is a connection of the bench's workspace.
func (b *bench) gated(ctx context.Context, t *testing.T) uuid.UUID {
	t.Helper()
	require.NoError(t, b.AddConnection(ctx, b.sc, Connection{ID: NewID(), Name: "kiln", Connector: "http", Method: "key", Secret: []byte("{}"), State: "unchecked"}))
	c, err := b.ConnectionForRun(ctx, b.sc.workspace, "kiln")
	require.NoError(t, err)
	return c.ID
}

func (b *bench) gate(connection uuid.UUID) Gate {
	return Gate{Permitted: Permitted{b.sc.workspace, connection, NewID()}, Session: &b.session, Parallel: 1, Lasts: time.Hour, Patience: time.Second}
}

// A leave comes back with the entry of its call, through whatever happens to
// the database meanwhile: the next call need not wait until it would run out.
func TestALeaveComesBackThroughAHiccup(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		cut  clustertest.Cut
	}{{"before the server hears of it", clustertest.Before}, {"within the answer", clustertest.Within}, {"when the answer to its commit is lost", clustertest.After}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			b, p, _ := proxied(t)
			ctx := within(t, time.Minute)
			connection := b.gated(ctx, t)
			s, err := b.begin(ctx, b.claimed(""))
			require.NoError(t, err)
			for i := range uint32(3) {
				g := b.gate(connection)
				got, err := b.Ask(ctx, g)
				require.NoError(t, err)
				require.Equal(t, Permit{}, got)
				full, err := b.Ask(ctx, b.gate(connection))
				require.NoError(t, err)
				require.True(t, full.Full)
				p.On("connection_permit", c.cut, 1)
				require.NoError(t, b.writer.Return(g.Permitted))
				require.NoError(t, b.append(ctx, s.Run, entry(i, "{}")))
			}
			j := &RunJournal{Store: b.Store, Workspace: b.sc.workspace, Run: s.Run}
			list, err := j.Entries(ctx, 1, 2, "", []item.Address{item.Root(0), item.Root(1), item.Root(2)})
			require.NoError(t, err)
			require.Len(t, list, 3)
			require.Zero(t, b.count(t, "SELECT count(*) FROM connection_permit"))
		})
	}
}

// Whoever asks names the leave, so that one whose answer was lost can be given
// back too.
func TestALeaveWhoseAnswerIsLostIsGivenBack(t *testing.T) {
	t.Parallel()
	b, p, _ := proxied(t)
	ctx := within(t, time.Minute)
	connection := b.gated(ctx, t)
	g := b.gate(connection)
	p.On("INSERT INTO connection_permit", clustertest.After, 1)
	_, err := b.Ask(ctx, g)
	if err == nil { // the COMMIT went on another way
		t.Log("the answer was not lost to the caller")
	}
	require.NoError(t, b.writer.Return(g.Permitted))
	require.Eventually(t, func() bool {
		got, err := b.Ask(ctx, b.gate(connection))
		return err == nil && !got.Full
	}, 10*time.Second, 10*time.Millisecond)
}

// Holds and spacing are the same for everybody who asks.
func TestAGateSpacesAndHolds(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	connection := b.gated(ctx, t)
	spaced := func(patience time.Duration) Permit {
		got, err := b.Ask(ctx, Gate{Permitted: Permitted{b.sc.workspace, connection, NewID()}, Session: &b.session, Spacing: time.Minute, Patience: patience})
		require.NoError(t, err)
		return got
	}
	require.Zero(t, spaced(time.Hour).Wait, "the first need not wait")
	second := spaced(time.Hour)
	require.InDelta(t, time.Minute, second.Wait, float64(10*time.Second))
	impatient := spaced(time.Second)
	require.Greater(t, impatient.Held, time.Minute, "nor is a place taken by one who would not wait for it")
	third := spaced(time.Hour)
	require.InDelta(t, 2*time.Minute, third.Wait, float64(10*time.Second))

	require.NoError(t, b.Hold(ctx, b.sc.workspace, connection, time.Hour, "the other side asked for it"))
	require.NoError(t, b.Hold(ctx, b.sc.workspace, connection, time.Minute, "a shorter one"))
	held := spaced(24 * time.Hour)
	require.InDelta(t, time.Hour, held.Held, float64(time.Minute), "a shorter hold does not shorten a longer one")
	until, why, err := b.HeldUntil(ctx, b.sc.workspace, connection)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(time.Hour), until, time.Minute)
	require.NotEmpty(t, why)
	all, err := b.Held(ctx, b.sc)
	require.NoError(t, err)
	require.Contains(t, all, connection)
	_, err = b.Ask(ctx, Gate{Permitted: Permitted{b.sc.workspace, NewID(), NewID()}})
	require.Error(t, err, "a connection that is gone gives no leave")
}

// Leave that nobody gives back runs out, and the sweep forgets it; that of a
// process that was started anew goes with its session. What another node took
// over may have calls in the air still: its leave counts until it runs out.
func TestLeaveOfTheDeadIsFreed(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	connection := b.gated(ctx, t)
	dead := mustSession(t, b, "node-b")
	g := b.gate(connection)
	g.Session = &dead
	_, err := b.Ask(ctx, g)
	require.NoError(t, err)
	full, err := b.Ask(ctx, b.gate(connection))
	require.NoError(t, err)
	require.True(t, full.Full)
	taken, err := b.TakeOver(ctx, dead, 0)
	require.NoError(t, err)
	require.True(t, taken)
	full, err = b.Ask(ctx, b.gate(connection))
	require.NoError(t, err)
	require.True(t, full.Full)
	require.NoError(t, b.Return(ctx, g.Permitted))

	old := mustSession(t, b, "node-c")
	g = b.gate(connection)
	g.Session = &old
	_, err = b.Ask(ctx, g)
	require.NoError(t, err)
	mustSession(t, b, "node-c")
	mine := b.gate(connection)
	got, err := b.Ask(ctx, mine)
	require.NoError(t, err)
	require.False(t, got.Full, "its process is gone, and so are its calls")
	require.NoError(t, b.Return(ctx, mine.Permitted))
	short := b.gate(connection)
	short.Lasts = time.Millisecond
	_, err = b.Ask(ctx, short)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		got, err := b.Ask(ctx, b.gate(connection))
		return err == nil && !got.Full
	}, 10*time.Second, 5*time.Millisecond)
	require.NoError(t, b.Sweep(ctx))
	require.Zero(t, b.count(t, "SELECT count(*) FROM connection_permit WHERE until < now()"))
}
