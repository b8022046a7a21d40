package near

import (
	"strings"
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

// Whoever sends megabytes where a name is wanted costs nobody time.
func TestWhatIsLongIsNotCompared(t *testing.T) {
	long := strings.Repeat("ä", 1<<20)
	known := make([]string, 10_000)
	for i := range known {
		known[i] = strings.Repeat("b", 9_000)
	}
	known[7] = "kiln"
	made := testing.AllocsPerRun(1, func() {
		if got := Of(long, known); got != "" {
			t.Errorf("offered %q", got)
		}
		if got := Of("klin", known); got != "kiln" {
			t.Errorf("offered %q", got)
		}
	})
	if made > 100 { // each comparison makes some
		t.Errorf("%v allocations: the long ones were compared", made)
	}
}
