package near

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheNearestNameIsOfferedIfItIsNearEnough(t *testing.T) {
	t.Parallel()
	known := []string{"connection", "settings", "type", "where"}
	for name, want := range map[string]string{"conection": "connection", "Setings": "settings", "typ": "type", "wehre": "where", "zzz": "", "": "", "quite another": ""} {
		require.Equal(t, want, Of(name, known), name)
	}
	require.Equal(t, " Did you mean type?", Hint("tipe", known))
	require.Empty(t, Hint("xxxxxxxx", known))
}
