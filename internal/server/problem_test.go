package server

import (
	"fmt"
	"testing"
	"time"

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

	type inner struct {
		Names  []string
		Maybe  *[]string
		hidden []string
	}
	type outer struct {
		Inner  inner
		List   []inner
		To     *inner
		None   *inner
		At     time.Time
		Any    any
		Counts map[string][]string
	}
	shared := &inner{}
	kept := outer{List: []inner{{Names: []string{"a"}}, {}}, To: shared, At: time.Now()}
	full := whole(kept)
	require.Equal(t, []string{}, full.Inner.Names)
	require.Equal(t, []inner{{Names: []string{"a"}}, {Names: []string{}}}, full.List)
	require.Equal(t, []string{}, full.To.Names)
	require.Nil(t, full.To.Maybe, "what is optional stays away")
	require.Nil(t, full.To.hidden)
	require.Nil(t, full.None)
	require.Equal(t, kept.At, full.At)
	require.Nil(t, shared.Names, "nothing changes that others hold too")
	require.Nil(t, kept.List[1].Names)
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
