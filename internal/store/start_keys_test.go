package store

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
)

// several is a start whose items have these keys.
func (b *bench) several(keys ...string) *Start {
	s := b.claimed("")
	s.Keys, s.Expires = keys, time.Now().Add(time.Hour)
	return s
}

func TestAStartOfSeveralKeysTakesAllOrNone(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, time.Minute)
	first, err := b.begin(ctx, b.several("a", "b"))
	require.NoError(t, err)
	require.False(t, first.Duplicate)
	require.True(t, first.Claimed)

	got, err := b.begin(ctx, b.several("c", "b", "d"))
	require.NoError(t, err)
	require.True(t, got.Conflict)
	require.True(t, got.Duplicate)
	require.Equal(t, 1, b.count(t, "SELECT count(*) FROM live"))
	known, err := b.KnownKeys(ctx, b.sc.workspace, b.workflow.ID, []string{"a", "b", "c", "d", "e"})
	require.NoError(t, err)
	require.Equal(t, map[string]uuid.UUID{"a": first.Run, "b": first.Run}, known, "what the other would have taken is free")

	one, err := b.begin(ctx, b.claimed("a"))
	require.NoError(t, err)
	require.Equal(t, Started{Run: first.Run, Duplicate: true}, one, "one that comes alone is told whose its key is")
	second, err := b.begin(ctx, b.several("c", "d"))
	require.NoError(t, err)
	require.False(t, second.Duplicate)

	_, err = b.node.Exec(ctx, "UPDATE start_key SET expires = now() - interval '1 second' WHERE key = 'a'")
	require.NoError(t, err)
	third, err := b.begin(ctx, b.several("a", "f"))
	require.NoError(t, err)
	require.False(t, third.Duplicate, "what has expired is free")

	o := b.another(t)
	theirs := b.several("c")
	theirs.Workspace, theirs.Workflow = o.sc.workspace, o.workflow.ID
	other, err := b.begin(ctx, theirs)
	require.NoError(t, err)
	require.False(t, other.Duplicate, "another workspace has keys of its own")
}

// Wherever an answer is lost, a start of several keys is told once as what it is.
func TestAStartOfSeveralKeysIsThereOnceWhereverItIsCut(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		cut  clustertest.Cut
	}{{"before the server hears of it", clustertest.Before}, {"within the answer", clustertest.Within}, {"when the answer to its commit is lost", clustertest.After}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			b, p, _ := proxied(t)
			ctx := within(t, time.Minute)
			p.On("INSERT INTO start_key", c.cut, 1)
			s, err := b.begin(ctx, b.several("a", "b"))
			require.NoError(t, err)
			require.Equal(t, Started{Run: s.Run, Claimed: true}, s)
			p.On("INSERT INTO start_key", c.cut, 1)
			got, err := b.begin(ctx, b.several("b", "c"))
			require.NoError(t, err)
			require.True(t, got.Conflict)
			require.Equal(t, 2, b.count(t, "SELECT count(*) FROM start_key"))
			require.Equal(t, 1, b.count(t, "SELECT count(*) FROM live"))
		})
	}
}

// Whoever starts with keys of a few, however many at once, alone or several, and over
// two nodes: each key starts one run in the end, and no run has a key of another.
func TestKeysThatManyWantAreEachTakenOnce(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := within(t, 2*time.Minute)
	session, err := b.OpenSession(ctx, "node-b")
	require.NoError(t, err)
	o := &bench{Store: b.Store, sc: b.sc, workflow: b.workflow, session: session, writer: b.NewCommitter(session, slog.New(slog.DiscardHandler), nil)}
	t.Cleanup(o.writer.Close)
	var wait sync.WaitGroup
	for n := range 40 {
		from := b
		if n%2 == 1 {
			from = o
		}
		dice := rand.New(rand.NewPCG(7, uint64(n)))
		wait.Go(func() {
			want := map[string]bool{}
			for range 1 + dice.IntN(5) {
				want[fmt.Sprintf("k%d", dice.IntN(12))] = true
			}
			for len(want) > 0 {
				keys := make([]string, 0, len(want))
				for key := range want {
					keys = append(keys, key)
				}
				s := from.several(keys...)
				if len(keys) == 1 {
					s.Key, s.Keys = keys[0], nil
				}
				got, err := from.begin(ctx, s)
				if err != nil {
					t.Errorf("%v", err)
					return
				}
				if !got.Duplicate || !got.Conflict {
					return
				}
				known, err := from.KnownKeys(ctx, b.sc.workspace, b.workflow.ID, keys)
				if err != nil {
					t.Errorf("%v", err)
					return
				}
				for key := range known {
					delete(want, key)
				}
			}
		})
	}
	wait.Wait()
	require.Zero(t, b.count(t, "SELECT count(*) FROM start_key k WHERE NOT EXISTS (SELECT FROM live l WHERE l.run_id = k.run_id)"), "no key is held by what was never started")
	require.Zero(t, b.count(t, "SELECT count(*) FROM live l WHERE NOT EXISTS (SELECT FROM start_key k WHERE k.run_id = l.run_id)"), "and no run was started without one")
	require.Positive(t, b.count(t, "SELECT count(*) FROM live"))
}
