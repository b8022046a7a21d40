// Package test drives the whole product: the service over HTTP and its client,
// the command line, the console in a browser, and faults.
package test

import (
	"context"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/ottermere/ottermeretest"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

// world starts Ottermere for one test.
func world(t *testing.T, change ...func(*ottermere.Options)) *ottermere.World {
	t.Helper()
	few := func(o *ottermere.Options) {
		o.Few, o.Log = true, slog.New(slog.NewTextHandler(logged{t}, &slog.HandlerOptions{Level: slog.LevelWarn}))
	}
	return ottermeretest.World(t, append([]func(*ottermere.Options){few}, change...)...)
}

// logged writes the service's log into the test's.
type logged struct{ t *testing.T }

func (l logged) Write(b []byte) (int, error) {
	l.t.Log(string(b))
	return len(b), nil
}

func within(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), d)
	t.Cleanup(cancel)
	return ctx
}

var (
	buildOnce sync.Once
	binary    string
	buildErr  error
)

// trellis builds the binary once.
func trellis(t *testing.T) string {
	t.Helper()
	buildOnce.Do(func() {
		var dir string
		if dir, buildErr = os.MkdirTemp("", "trellis-bin-"); buildErr != nil {
			return
		}
		binary = filepath.Join(dir, "trellis")
		var out []byte
		if out, buildErr = exec.Command("go", "build", "-o", binary, "youngtrellis/cmd/trellis").CombinedOutput(); buildErr != nil {
			t.Log(string(out))
		}
	})
	require.NoError(t, buildErr)
	return binary
}

// eventually waits for something to become true, without sleeping for luck.
func eventually(t *testing.T, what string, d time.Duration, holds func() bool) {
	t.Helper()
	deadline := time.Now().Add(d)
	for !holds() {
		if time.Now().After(deadline) {
			require.Fail(t, "it did not become so", what)
		}
		time.Sleep(10 * time.Millisecond)
	}
}
