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

func serve(t *testing.T, database, data string, more ...string) *process {
	t.Helper()
	// The password goes by file: no flag takes a secret.
	plain, password := split(t, database, data)
	cmd := exec.Command(trellis(t), append([]string{"serve", "--database-url", plain, "--database-password-file", password, "--data", data, "--listen", "127.0.0.1:0", "--log", "warn"}, more...)...)
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

// outside is a service in processes of its own, with the tables beside it.
type outside struct {
	database, folder, token string
	side                    *tables.Tables
	run                     api.Started
}

// prepared starts a first process, makes the workspace, and starts a run over
// so many rows.
func prepared(t *testing.T, ctx context.Context, rows int) (*outside, *process) {
	t.Helper()
	o := &outside{database: clustertest.Database(t), folder: clustertest.Folder(t), side: tables.New("key-of-the-tables", time.Now(), standins.Saved{})}
	o.side.Fill(rows, time.Now())
	other := httptest.NewServer(o.side.Engine)
	t.Cleanup(other.Close)
	first := serve(t, o.database, o.data("one"))
	s, err := store.Open(ctx, o.database, "")
	require.NoError(t, err)
	t.Cleanup(s.Close)
	sc, err := s.CreateOwner(ctx, "Ottermere Clayworks", "mara@ottermere.example", "Mara Quill", "a password to test")
	require.NoError(t, err)
	o.token, _, err = s.CreateToken(ctx, sc, store.NewToken{Name: "test", Role: store.Owner})
	require.NoError(t, err)
	require.NoError(t, s.Allow(ctx, sc, strings.TrimPrefix(other.URL, "http://")))
	client := clientOf(t, first.address, o.token)
	account, err := json.Marshal(map[string]string{"address": other.URL})
	require.NoError(t, err)
	added, err := ottermere.Answer[api.Connection](client.AddConnection(ctx, api.NewConnection{Name: "tables", Connector: "tables", Account: account, Secret: &theKey}))
	require.NoError(t, err)
	require.Equal(t, api.ConnectionState("ok"), added.State, added.Said)
	_, err = ottermere.Answer[api.Workflow](client.CreateWorkflow(ctx, api.Document{Document: manyRows}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](client.GoLive(ctx, "many-rows", &api.GoLiveParams{}))
	require.NoError(t, err)
	o.run, err = ottermere.Answer[api.Started](client.StartWorkflow(ctx, "many-rows", api.Items{}))
	require.NoError(t, err)
	return o, first
}

func (o *outside) data(name string) string { return filepath.Join(o.folder, name) }

func (o *outside) written() int { return len(o.side.Rows(tables.LoadsTab)) }

// finished waits for the run's end and holds that each row was written once.
func (o *outside) finished(t *testing.T, ctx context.Context, p *process, rows int) {
	t.Helper()
	done, err := (&ottermere.World{Client: clientOf(t, p.address, o.token)}).Wait(ctx, o.run.Run)
	require.NoError(t, err)
	require.Equal(t, api.RunStateSucceeded, done.Run.State, done.Run.Message)
	require.Equal(t, rows, done.Run.Counts.Through)
	seen := map[any]int{}
	for _, r := range o.side.Rows(tables.LoadsTab) {
		seen[r.Values["piece"]]++
	}
	require.Len(t, seen, rows, "none is missing")
	for piece, n := range seen {
		require.Equal(t, 1, n, "%v was written once", piece)
	}
}

// A service killed at a random moment of a run with 2,000 writes, and started
// again, finishes the run with each row written once.
func TestAKilledServiceFinishesItsRunWithoutLossOrDouble(t *testing.T) {
	t.Parallel()
	const rows = 2000
	ctx := within(t, 3*time.Minute)
	o, p := prepared(t, ctx, rows)
	kills := 0
	for at := rand.IntN(rows - 50); kills < 3; at += 1 + rand.IntN(max(1, rows-at)) {
		eventually(t, "rows written before the kill", time.Minute, func() bool { return o.written() >= min(at, rows) })
		if o.written() == rows {
			break
		}
		require.NoError(t, p.Process.Kill())
		_ = p.Wait()
		kills++
		p = serve(t, o.database, o.data("one"))
	}
	require.Positive(t, kills)
	o.finished(t, ctx, p, rows)
	t.Logf("killed %d times; %d writes reached the other side twice and were known there by their key", kills, o.side.Repeats())
	require.LessOrEqual(t, o.side.Repeats(), 8*kills, "only calls in flight are repeated")
}

// A service that is told to stop hands its run over at the next effect.
func TestAStoppedServiceRepeatsNothing(t *testing.T) {
	t.Parallel()
	const rows = 600
	ctx := within(t, 2*time.Minute)
	o, p := prepared(t, ctx, rows)
	eventually(t, "some rows", time.Minute, func() bool { return o.written() > 100 })
	require.NoError(t, p.Process.Signal(os.Interrupt))
	require.NoError(t, p.Wait(), "it ends in order")
	before := o.written()
	require.Less(t, before, rows)
	o.finished(t, ctx, serve(t, o.database, o.data("one")), rows)
	require.Zero(t, o.side.Repeats())
}

// Of two nodes on one database, one is killed; the other takes its run over.
func TestAnotherNodeTakesADeadOnesRunOver(t *testing.T) {
	t.Parallel()
	const rows = 1500
	ctx := within(t, 3*time.Minute)
	o, p := prepared(t, ctx, rows)
	sameVault(t, o.data("one"), o.data("two"))
	second := serve(t, o.database, o.data("two"))
	eventually(t, "some rows", time.Minute, func() bool { return o.written() > 50 })
	require.NoError(t, p.Process.Kill())
	_ = p.Wait()
	require.Less(t, o.written(), rows)
	o.finished(t, ctx, second, rows)
	require.LessOrEqual(t, o.side.Repeats(), 8)
}

// sameVault lets a second node have the first one's vault key.
func sameVault(t *testing.T, first, second string) {
	t.Helper()
	key, err := os.ReadFile(filepath.Join(first, "vault.key"))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(second, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(second, "vault.key"), key, 0o600))
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

var theKey = "key-of-the-tables"
