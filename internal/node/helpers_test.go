package node

import (
	"bytes"
	"context"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/store"
)

// dial is a connection of the test's own to a database.
func dial(t *testing.T, database string) *pgx.Conn {
	t.Helper()
	c, err := pgx.Connect(context.Background(), database)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close(context.Background()) })
	return c
}

func ready(*held) bool { return true }

func TestWorkspacesTakeTurnsInMemory(t *testing.T) {
	t.Parallel()
	q := newTaken(10)
	a, b := uuid.New(), uuid.New()
	push := func(w uuid.UUID, n int) {
		for i := range n {
			q.push(store.Claimed{Workspace: w, Claim: i})
		}
	}
	push(a, 4)
	push(b, 2)
	require.True(t, q.room(0, 1))
	require.False(t, q.room(0, takenBytes))
	require.Equal(t, []uuid.UUID{a, b}, q.workspaces())
	require.False(t, q.suspects())
	q.push(store.Claimed{Workspace: b, Claim: 7, Takeovers: store.Suspect})
	require.Equal(t, 7, q.len())
	require.True(t, q.suspects())
	first, ok := q.popSuspect()
	require.True(t, ok)
	require.Equal(t, 7, first.Claim)
	_, ok = q.popSuspect()
	require.False(t, ok)
	require.Equal(t, 6, q.len())
	var got []uuid.UUID
	var claims []int
	for {
		c, ok := q.pop(ready)
		if !ok {
			break
		}
		got, claims = append(got, c.Workspace), append(claims, c.Claim)
	}
	require.Equal(t, []uuid.UUID{a, b, a, b, a, a}, got)
	require.Equal(t, []int{0, 0, 1, 1, 2, 3}, claims)
	push(a, 10)
	require.False(t, q.room(0, 1), "no more than fit")
	q.clear()
	require.Zero(t, q.len())
}

func TestTheTurnGoesOnBehindTheLastServed(t *testing.T) {
	t.Parallel()
	id := func(b byte) uuid.UUID { return uuid.UUID(bytes.Repeat([]byte{b}, 16)) }
	served := func(ids ...byte) (out []store.Claimed) {
		for _, b := range ids {
			out = append(out, store.Claimed{Workspace: id(b)})
		}
		return out
	}
	require.Equal(t, id(5), lastServed(id(5), nil))
	require.Equal(t, id(9), lastServed(id(5), served(7, 9, 6)))
	require.Equal(t, id(2), lastServed(id(5), served(7, 1, 9, 2)), "it went round the end")
	require.Equal(t, id(5), lastServed(id(5), served(7, 5)), "all the way round")
}
