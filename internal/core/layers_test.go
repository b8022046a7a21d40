package core

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// deps lists everything that packages are built from.
func deps(t *testing.T, patterns ...string) []string {
	t.Helper()
	out, err := exec.Command("go", append([]string{"list", "-deps"}, patterns...)...).Output()
	require.NoError(t, err)
	return strings.Fields(string(out))
}

func TestCoreReachesNothingOutside(t *testing.T) {
	t.Parallel()
	for _, d := range deps(t, "youngtrellis/internal/core/...") {
		for _, banned := range []string{"github.com/gin-gonic", "github.com/spf13/cobra", "github.com/jackc/pgx", "database/sql", "os/exec"} {
			// database/sql/driver holds only the interfaces that value types implement.
			require.False(t, strings.HasPrefix(d, banned) && d != "database/sql/driver", "core is built from %s", d)
		}
		if strings.HasPrefix(d, "youngtrellis/") {
			require.True(t, strings.HasPrefix(d, "youngtrellis/internal/core"), "core is built from %s", d)
		}
	}
}

// Types of net/http may describe a request; nothing in core sends one.
func TestOnlyOutboundOpensConnections(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("grep", "-rnE", `http\.(DefaultClient|Get|Post|Head|PostForm)\b|net\.Dial|net\.Listen|\bhttp\.Client\{`, "..", "--include=*.go").CombinedOutput()
	if err != nil && len(out) == 0 {
		return
	}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		allowed := strings.Contains(line, "_test.go:") || strings.HasPrefix(line, "../outbound/") || strings.HasPrefix(line, "../standins/") || strings.HasPrefix(line, "../ottermere/") ||
			strings.HasPrefix(line, "../cluster/") || strings.Contains(line, "net.Listen(")
		require.True(t, allowed, "only internal/outbound goes out: %s", line)
	}
}

func TestArrowsPointDownward(t *testing.T) {
	t.Parallel()
	surfaces := []string{"youngtrellis/internal/server", "youngtrellis/internal/cli", "youngtrellis/internal/service", "youngtrellis/internal/ottermere"}
	for _, d := range deps(t, "youngtrellis/internal/store", "youngtrellis/internal/vault", "youngtrellis/internal/outbound", "youngtrellis/internal/intake", "youngtrellis/internal/node") {
		require.NotContains(t, surfaces, d, "a service package is built from a surface")
		require.False(t, strings.HasPrefix(d, "github.com/gin-gonic") || strings.HasPrefix(d, "github.com/spf13/cobra"), "a service package is built from %s", d)
	}
}
