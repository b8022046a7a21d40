package workflow

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
)

// Every workflow that is shipped has nothing to mend.
func TestEveryShippedWorkflowIsInOrder(t *testing.T) {
	t.Parallel()
	c := &Catalog{Connectors: map[string]*connector.Connector{}}
	documents, err := filepath.Glob("../../../connectors/*.yaml")
	require.NoError(t, err)
	for _, path := range documents {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		con, err := connector.Parse(b)
		require.NoError(t, err, path)
		c.Connectors[con.Name] = con
		c.Connections = append(c.Connections, Connection{Name: con.Name, Connector: con.Name, State: "ok"})
	}
	lists, err := filepath.Glob("../../../demo/lists/*.csv")
	require.NoError(t, err)
	for _, path := range lists {
		c.Lists = append(c.Lists, List{Name: strings.TrimSuffix(filepath.Base(path), ".csv")})
	}
	workflows, err := filepath.Glob("../../../demo/workflows/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, workflows)
	for _, path := range workflows {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".yaml"), func(t *testing.T) {
			t.Parallel()
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			w, problems := Check(b, c)
			require.Empty(t, problems)
			_, err = Compile(w, c)
			require.NoError(t, err)
		})
	}
}
