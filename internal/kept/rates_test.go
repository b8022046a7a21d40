package kept

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFloodOfOneKeyLeavesOthersAlone(t *testing.T) {
	t.Parallel()
	k := NewRates(0, 3)
	for range 3 {
		require.True(t, k.Allow("a"))
	}
	require.False(t, k.Allow("a"))
	require.True(t, k.Allow("b"))
	for i := range 20_000 {
		k.Allow(fmt.Sprint(i))
		if i%1000 == 0 {
			require.False(t, k.Allow("a"), "a flood of others frees nobody who is held back")
		}
	}
	require.LessOrEqual(t, k.kept.Len(), ratesMost, "it never remembers without bound")
}
