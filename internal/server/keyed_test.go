package server

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFloodOfOneKeyLeavesOthersAlone(t *testing.T) {
	t.Parallel()
	k := newKeyed(0, 3)
	for range 3 {
		require.True(t, k.allow("a"))
	}
	require.False(t, k.allow("a"))
	require.True(t, k.allow("b"))
	for i := range 20_000 {
		k.allow(fmt.Sprint(i))
		if i%1000 == 0 {
			require.False(t, k.allow("a"), "a flood of others frees nobody who is held back")
		}
	}
	require.LessOrEqual(t, k.kept.Len(), keyedMost, "it never remembers without bound")
}

func TestAnswersPromiseListsNeverNull(t *testing.T) {
	t.Parallel()
	type answer struct {
		List []string
		Raw  []byte
		N    int
	}
	got := whole(answer{N: 3})
	require.NotNil(t, got.List)
	require.Nil(t, got.Raw)
	require.Equal(t, 3, got.N)
}

func TestProblemsSayWhatToDo(t *testing.T) {
	t.Parallel()
	require.Nil(t, problemOf(fmt.Errorf("something of ours")), "what is not meant for callers is only logged")
	f := problemOf(fmt.Errorf("wrapped: %w", refuse(409, "taken", "The name is taken.")))
	require.Equal(t, 409, f.status)
	v, err := version(nil)
	require.NoError(t, err)
	require.Zero(t, v)
	quoted := `"17"`
	v, err = version(&quoted)
	require.NoError(t, err)
	require.EqualValues(t, 17, v)
	bad := "x"
	_, err = version(&bad)
	require.Error(t, err)
}
