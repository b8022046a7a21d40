// Package ottermeretest starts Ottermere for tests.
package ottermeretest

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
)

// World starts Ottermere for one test, in a database and a folder of its own, and ends
// it with the test.
func World(t *testing.T, change ...func(*ottermere.Options)) *ottermere.World {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	o := ottermere.Options{Data: clustertest.Folder(t), Cluster: clustertest.Cluster(t), Database: clustertest.Name(), Log: slog.New(slog.DiscardHandler)}
	for _, c := range change {
		c(&o)
	}
	w, err := ottermere.Start(ctx, o)
	require.NoError(t, err)
	t.Cleanup(func() {
		w.Close()
		_ = o.Cluster.Drop(context.Background(), o.Database)
	})
	return w
}
