package runs

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/store"
)

// counting tells how often shapes were read.
type counting struct {
	ShapesOf
	reads int
}

func (c *counting) LatticeShapes(ctx context.Context, sc store.Scope, run uuid.UUID) ([]store.LatticeShape, error) {
	c.reads++
	return c.ShapesOf.LatticeShapes(ctx, sc, run)
}

// The shapes of a run that has ended are read once, those of one that goes on each
// time; and once it has gone on, anew.
func TestLatticesOfEndedRunsAreKept(t *testing.T) {
	t.Parallel()
	l := drawn(t, "  - {name: a, type: filter, settings: {where: item.n > 2}}\n", numbered(9))
	kept, ls, ctx := &counting{ShapesOf: l.kept}, NewLattices(), context.Background()
	ended := time.Now()
	run := store.Run{ID: uuid.New(), Pass: 1}
	open := func() *Lattice {
		l, err := ls.Open(ctx, kept, store.Scope{}, run, l.plan)
		require.NoError(t, err)
		return l
	}
	open()
	open()
	require.Equal(t, 2, kept.reads)
	run.Ended = &ended
	first, second := open(), open()
	require.Equal(t, 3, kept.reads)
	require.NotSame(t, first, second, "each reads in the name of whoever asks")
	require.Same(t, first.View(Filter{}), second.View(Filter{}))
	held := second.View(Filter{Fate: "held_back"})
	require.NotSame(t, first.View(Filter{}), held)
	require.Less(t, held.Matching, held.Total)
	band, other := 0, 7
	require.Equal(t, 9, first.View(Filter{Band: &band}).Matching)
	require.Zero(t, first.View(Filter{Band: &other}).Matching)
	rows, err := second.Rows(ctx, Filter{}, Range{From: 3, Count: 2})
	require.NoError(t, err)
	require.Len(t, rows, 2)
	run.Pass = 2
	open()
	require.Equal(t, 4, kept.reads)
}
