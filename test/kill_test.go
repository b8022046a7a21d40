package test

import (
	"bufio"
	"context"
	"encoding/json"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins"
	"youngtrellis/internal/standins/tables"
	"youngtrellis/internal/store"
)

// process is a service in a process of its own.
type process struct {
	*exec.Cmd
	address string
}

func serve(t *testing.T, database, data string) *process {
	t.Helper()
	// The password goes by file: no flag takes a secret.
	plain, password := split(t, database, data)
	cmd := exec.Command(trellis(t), "serve", "--database-url", plain, "--database-password-file", password, "--data", data, "--listen", "127.0.0.1:0", "--log", "warn")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return &process{cmd, strings.TrimSpace(strings.TrimPrefix(line, "Young Trellis serves at "))}
}

func split(t *testing.T, database, data string) (plain, passwordFile string) {
	t.Helper()
	before, rest, _ := strings.Cut(database, "://")
	credentials, host, _ := strings.Cut(rest, "@")
	user, password, _ := strings.Cut(credentials, ":")
	passwordFile = filepath.Join(data, "database-password")
	require.NoError(t, os.MkdirAll(data, 0o700))
	require.NoError(t, os.WriteFile(passwordFile, []byte(password+"\n"), 0o600))
	return before + "://" + user + "@" + host, passwordFile
}

const manyRows = `format: young-trellis/1
name: many-rows
trigger: {type: manual}
steps:
  - name: pieces
    type: tables.rows
    connection: tables
    input: {workbook: wb_p91zsu, tab: tb_c0w8rn}
  - name: short
    type: shape
    settings: {keep: [piece, studio]}
  - name: listed
    type: tables.append
    connection: tables
    parallel: 8
    input: {workbook: wb_p91zsu, tab: tb_e5j3vy, values: {piece: (= item.piece ), studio: (= item.studio )}}
`

// A service killed at a random moment of a run with 2,000 writes, and started
// again, finishes the run with each row written once.
func TestAKilledServiceFinishesItsRunWithoutLossOrDouble(t *testing.T) {
	t.Parallel()
	const rows = 2000
	ctx := within(t, 3*time.Minute)
	database, data := clustertest.Database(t), filepath.Join(clustertest.Folder(t), "service")
	side := tables.New("key-of-the-tables", time.Now(), standins.Saved{})
	side.Fill(rows, time.Now())
	other := httptest.NewServer(side.Engine)
	t.Cleanup(other.Close)

	first := serve(t, database, data)
	s, err := store.Open(ctx, database)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	sc, err := s.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to test")
	require.NoError(t, err)
	token, _, err := s.CreateToken(ctx, sc, "test", store.Owner)
	require.NoError(t, err)
	require.NoError(t, s.Allow(ctx, sc, strings.TrimPrefix(other.URL, "http://")))
	client := clientOf(t, first.address, token)
	account, err := json.Marshal(map[string]string{"address": other.URL})
	require.NoError(t, err)
	added, err := ottermere.Answer[api.Connection](client.AddConnection(ctx, api.NewConnection{Name: "tables", Connector: "tables", Account: account, Secret: "key-of-the-tables"}))
	require.NoError(t, err)
	require.Equal(t, api.ConnectionState("ok"), added.State, added.Said)
	_, err = ottermere.Answer[api.Workflow](client.CreateWorkflow(ctx, api.Document{Document: manyRows}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](client.GoLive(ctx, "many-rows", &api.GoLiveParams{}))
	require.NoError(t, err)
	run, err := ottermere.Answer[api.Started](client.StartWorkflow(ctx, "many-rows", api.Items{}))
	require.NoError(t, err)

	kills := 0
	for at := rand.IntN(rows - 50); kills < 3; at += 1 + rand.IntN(max(1, rows-at)) {
		eventually(t, "rows written before the kill", time.Minute, func() bool { return len(side.Rows(tables.LoadsTab)) >= min(at, rows) })
		if len(side.Rows(tables.LoadsTab)) == rows {
			break
		}
		require.NoError(t, first.Process.Kill())
		_ = first.Wait()
		kills++
		first = serve(t, database, data)
		client = clientOf(t, first.address, token)
	}
	require.Positive(t, kills)
	w := &ottermere.World{Client: client}
	done, err := w.Wait(ctx, run.Run)
	require.NoError(t, err)
	require.Equal(t, api.RunStateSucceeded, done.Run.State, done.Run.Message)
	require.Equal(t, rows, done.Run.Counts.Through)

	seen := map[any]int{}
	for _, r := range side.Rows(tables.LoadsTab) {
		seen[r.Values["piece"]]++
	}
	require.Len(t, seen, rows, "none is missing")
	for piece, n := range seen {
		require.Equal(t, 1, n, "%v was written once", piece)
	}
	t.Logf("killed %d times; %d writes reached the other side twice and were known there by their key", kills, side.Repeats())
	require.LessOrEqual(t, side.Repeats(), 8*kills, "only calls in flight are repeated")
}

func clientOf(t *testing.T, address, token string) *api.Client {
	t.Helper()
	c, err := api.NewClient(address+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	require.NoError(t, err)
	return c
}
