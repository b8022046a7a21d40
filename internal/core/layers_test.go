package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"

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

// goesOut are the names by which code reaches another program.
var goesOut = map[string][]string{
	"net/http":                    {"DefaultClient", "DefaultTransport", "Get", "Post", "Head", "PostForm", "Client", "Transport"},
	"net":                         {"Dial", "DialTimeout", "DialTCP", "DialUDP", "DialUnix", "DialIP", "Dialer"},
	"net/smtp":                    {"Dial", "SendMail"},
	"crypto/tls":                  {"Dial", "DialWithDialer", "Dialer"},
	"github.com/jackc/pgx/v5":     {"Connect", "ConnectConfig", "ConnectWithOptions"},
	"github.com/emersion/go-smtp": {"Dial", "DialTLS", "DialStartTLS"},
}

// mayGoOut are the folders that do: the one way out, our own database, and the
// worlds of the demo and the tests.
var mayGoOut = []string{"outbound", "store", "cluster", "standins", "ottermere", "browser"}

func TestOnlyOutboundOpensConnections(t *testing.T) {
	t.Parallel()
	seen := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		if folder := strings.Split(filepath.ToSlash(path), "/")[1]; slices.Contains(mayGoOut, folder) {
			return nil
		}
		seen++
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		imported := map[string]string{} // local name to path
		for _, i := range file.Imports {
			p, _ := strconv.Unquote(i.Path.Value)
			name := strings.TrimSuffix(p, "/v5")
			name = strings.TrimPrefix(name[strings.LastIndex(name, "/")+1:], "go-")
			if i.Name != nil {
				name = i.Name.Name
			}
			imported[name] = p
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && slices.Contains(goesOut[imported[x.Name]], s.Sel.Name) {
					t.Errorf("only internal/outbound goes out: %s uses %s.%s", path, x.Name, s.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, seen, 100, "the files were looked at")
}

func TestArrowsPointDownward(t *testing.T) {
	t.Parallel()
	surfaces := []string{"youngtrellis/internal/server", "youngtrellis/internal/cli", "youngtrellis/internal/service", "youngtrellis/internal/ottermere"}
	for _, d := range deps(t, "youngtrellis/internal/store", "youngtrellis/internal/vault", "youngtrellis/internal/outbound", "youngtrellis/internal/intake", "youngtrellis/internal/node", "youngtrellis/internal/connections", "youngtrellis/internal/runs", "youngtrellis/internal/workflows") {
		require.NotContains(t, surfaces, d, "a service package is built from a surface")
		require.False(t, strings.HasPrefix(d, "github.com/gin-gonic") || strings.HasPrefix(d, "github.com/spf13/cobra"), "a service package is built from %s", d)
	}
}

// A call is built, sent and judged by packages that know nothing of runs.
func TestCallsKnowNothingOfTheEngine(t *testing.T) {
	t.Parallel()
	for _, d := range deps(t, "youngtrellis/internal/outbound", "youngtrellis/internal/core/connector", "youngtrellis/internal/core/call") {
		require.NotEqual(t, "youngtrellis/internal/core/engine", d)
	}
}

// A kind of step or trigger is named in its own file, and nowhere else is anything
// decided by its name.
func TestKindsAreNamedOnlyInTheirOwnFiles(t *testing.T) {
	t.Parallel()
	names := map[string]string{}
	for _, k := range steps.Types() {
		names[k] = "core/steps/" + k + ".go"
	}
	for _, k := range triggers.Types() {
		names[k] = "core/triggers/" + k + ".go"
	}
	delete(names, "http")   // a scheme of addresses, too
	delete(names, "wait")   // and a setting
	delete(names, "stop")   // and what may follow an error
	delete(names, "after")  // and where a page begins
	delete(names, "form")   // and what a call sends
	delete(names, "answer") // and what it gets
	require.NotEmpty(t, names)
	decides := regexp.MustCompile(`trigger(_type)?\??\s*[!=]==?\s*"`)
	require.NoError(t, filepath.WalkDir("../../web/src", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(path, ".test.") {
			return err
		}
		text, err := os.ReadFile(path)
		require.False(t, decides.Match(text), "%s decides something by the name of a kind of trigger", path)
		return err
	}))
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "enginetest") || strings.Contains(path, "core/expr/") { // which has functions of these names
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			if _, ok := n.(*ast.ImportSpec); ok {
				return false
			}
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				value, _ := strconv.Unquote(lit.Value)
				own, isKind := names[value]
				require.True(t, !isKind || strings.HasSuffix(filepath.ToSlash(path), own), "%s names the kind %q, which belongs to %s", path, value, own)
			}
			return true
		})
		return nil
	}))
}
