package server

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

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
