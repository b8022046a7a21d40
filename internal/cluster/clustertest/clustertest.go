// Package clustertest gives tests databases of their own in one private
// cluster for each test process.
package clustertest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster"
)

var (
	once   sync.Once
	shared *cluster.Cluster
	failed error
	folder string
	count  atomic.Int64
)

// Main runs the tests of a package and stops the cluster that they used.
func Main(m *testing.M) {
	code := m.Run()
	if shared != nil {
		_ = shared.Stop(true)
	}
	if folder != "" {
		_ = os.RemoveAll(folder)
	}
	os.Exit(code)
}

// Cluster gives the process's cluster.
func Cluster(t testing.TB) *cluster.Cluster {
	once.Do(func() {
		if folder, failed = os.MkdirTemp("", "trellis-test-"); failed != nil {
			return
		}
		if failed = os.Chmod(folder, 0o755); failed != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		shared, failed = cluster.Start(ctx, cluster.Options{Dir: folder + "/postgres", Fast: true})
	})
	require.NoError(t, failed)
	return shared
}

// Name gives a name for a new database.
func Name() string { return fmt.Sprintf("t%d_%d", os.Getpid(), count.Add(1)) }

// Database makes one for a test and gives its address.
func Database(t testing.TB) string {
	c, name := Cluster(t), Name()
	address, err := c.Database(context.Background(), name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Drop(context.Background(), name) })
	return address
}

// Folder makes one that PostgreSQL's user and ours can reach.
func Folder(t testing.TB) string {
	dir, err := os.MkdirTemp("", "trellis-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// ReadOnly turns a database read-only, or back: its sessions are ended, and new
// ones begin so.
func ReadOnly(t testing.TB, address string, on bool) {
	u, err := url.Parse(address)
	require.NoError(t, err)
	require.NoError(t, Cluster(t).SetReadOnly(context.Background(), strings.TrimPrefix(u.Path, "/"), on))
}
