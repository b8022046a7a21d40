package workflow

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestADocumentIsRenamedAndElseStays(t *testing.T) {
	t.Parallel()
	out, err := Renamed([]byte("format: young-trellis/1\nname: kiln # the first\n\n# What it does.\ntitle: Kiln\n"), "kiln-2")
	require.NoError(t, err)
	require.Equal(t, "format: young-trellis/1\nname: kiln-2 # the first\n\n# What it does.\ntitle: Kiln\n", string(out))
	for name, text := range map[string]string{"Kiln 2": "name: a", "kiln": "a: [", "": "name: a"} {
		_, err := Renamed([]byte(text), name)
		require.Error(t, err)
	}
}
