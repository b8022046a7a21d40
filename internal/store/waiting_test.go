package store

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
)

// A run that was woken though none of its items is due is looked at as a whole.
func TestDueIsWhatIsDueAndNothingWhereNothingIs(t *testing.T) {
	t.Parallel()
	b := open(t)
	ctx := context.Background()
	s, err := b.begin(ctx, b.start(""))
	require.NoError(t, err)
	wait := func(address, due string) {
		_, err := b.node.Exec(ctx, "INSERT INTO waiting (workspace_id, run_id, step, rounds, address, due, page) VALUES ($1, $2, 3, '', $3, now() + $4::interval, 0)", b.sc.workspace, s.Run, []byte(address), due)
		require.NoError(t, err)
	}
	d, err := b.Due(ctx, b.sc.workspace, s.Run)
	require.NoError(t, err)
	require.Nil(t, d, "nothing waits")
	wait("a", "1 hour")
	d, err = b.Due(ctx, b.sc.workspace, s.Run)
	require.NoError(t, err)
	require.Nil(t, d, "nothing is due")
	wait("b", "-1 second")
	d, err = b.Due(ctx, b.sc.workspace, s.Run)
	require.NoError(t, err)
	require.Len(t, d.Items, 1)
	require.Equal(t, "b", string(d.Items[0].Address))
	require.Equal(t, "a", string(d.Next.Address))
	wait("c", "-1 second")
	_, err = b.node.Exec(ctx, "UPDATE waiting SET page = NULL WHERE address = 'c'")
	require.NoError(t, err)
	d, err = b.Due(ctx, b.sc.workspace, s.Run)
	require.NoError(t, err)
	require.Nil(t, d, "nobody knows where its row stands")
}
