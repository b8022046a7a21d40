package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/vault"
)

// Keys are changed five times while two processes make calls: none fails, and
// what the first key opened does not open any more.
func TestRotationUnderLoadLosesNoCall(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	second := another(t, w)
	path := filepath.Join(w.Data, "service", "vault.key")
	var calls atomic.Int64
	done := make(chan struct{})
	var wait sync.WaitGroup
	for i, cl := range []*client.Client{w.Client, w.Client, w.Client} {
		wait.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
				}
				c := []struct{ connection, action, input string }{{"tables", "rows", `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`}, {"documents", "list", `{}`}, {"sms", "sent", `{}`}}[i]
				if err := tries(ctx, cl, c.connection, c.action, c.input); err != nil {
					t.Errorf("%s: %v", c.connection, err)
					return
				}
				calls.Add(1)
			}
		})
	}
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	var before, old []byte
	require.NoError(t, conn.QueryRow(ctx, "SELECT secret FROM connection WHERE name = 'tables'").Scan(&before))
	require.NoError(t, conn.QueryRow(ctx, "SELECT sealed FROM data_key").Scan(&old))
	prints := map[string]bool{}
	for range 5 {
		r, err := vault.Rotate(ctx, w.Service.Store, path)
		require.NoError(t, err)
		require.GreaterOrEqual(t, r.Secrets, 20)
		prints[r.Fingerprint] = true
		n := calls.Load()
		eventually(t, "calls go on", 10*time.Second, func() bool { return calls.Load() > n+10 || t.Failed() })
	}
	close(done)
	wait.Wait()
	require.Len(t, prints, 5)
	var after []byte
	require.NoError(t, conn.QueryRow(ctx, "SELECT secret FROM connection WHERE name = 'tables'").Scan(&after))
	require.NotEqual(t, before, after)

	// The other process has a key file of its own, which was not copied to it: it
	// says so in words and marks nothing as gone.
	require.ErrorContains(t, tries(ctx, second, "tables", "rows", `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`), "the vault key is not the right one")

	n, err := vault.DropOld(ctx, w.Service.Store, path)
	require.NoError(t, err)
	require.Equal(t, 5, n)
	_, err = conn.Exec(ctx, "UPDATE data_key SET sealed = $1", old)
	require.NoError(t, err)
	fresh, err := vault.Open(ctx, w.Service.Store, path)
	require.NoError(t, err)
	sc, err := w.Service.Store.ScopeOfToken(ctx, w.Token)
	require.NoError(t, err)
	_, err = fresh.Seal(ctx, sc.Workspace(), "connection", "secret", sc.Workspace(), []byte("x"))
	require.ErrorContains(t, err, "the workspace's data key does not open", "a data key that the dropped key wrapped opens no more")
}

// What was changed, moved or belongs to another key is refused in words.
func TestTamperedSecretsAreRefusedInWords(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	check := func(name string) string {
		c, err := ottermere.Answer[client.Connection](w.Client.CheckConnection(ctx, name))
		require.NoError(t, err)
		return c.Words
	}
	_, err = conn.Exec(ctx, "UPDATE connection SET secret = set_byte(secret, length(secret) - 1, get_byte(secret, length(secret) - 1) # 1) WHERE name = 'tables'")
	require.NoError(t, err)
	require.Contains(t, check("tables"), "the stored secret does not open: it was changed, or moved from another row; enter it again")
	_, err = conn.Exec(ctx, "UPDATE connection SET secret = (SELECT secret FROM connection WHERE name = 'tables') WHERE name = 'contacts'")
	require.NoError(t, err)
	require.Contains(t, check("contacts"), "does not open")
	_, err = ottermere.Answer[client.Connection](w.Client.MendConnection(ctx, "tables", client.MendConnection{Secret: &w.TablesKey}))
	require.NoError(t, err)
	require.Contains(t, check("tables"), "Works")

	data := t.TempDir()
	_, err = vault.Open(ctx, w.Service.Store, filepath.Join(data, "vault.key"))
	require.ErrorContains(t, err, "there is no key file at")
	require.NoFileExists(t, filepath.Join(data, "vault.key"), "a new one is never made over existing data")
	require.NoError(t, os.WriteFile(filepath.Join(data, "vault.key"), []byte("{"), 0o600))
	_, err = vault.Open(ctx, w.Service.Store, filepath.Join(data, "vault.key"))
	require.ErrorContains(t, err, "is not a keyset")
	elsewhere := world(t, func(o *ottermere.Options) { o.Bare = true })
	_, err = vault.Open(ctx, w.Service.Store, filepath.Join(elsewhere.Data, "service", "vault.key"))
	require.ErrorContains(t, err, "the database was filled with")
	require.NoError(t, os.Chmod(filepath.Join(elsewhere.Data, "service", "vault.key"), 0o644))
	_, err = vault.Open(ctx, w.Service.Store, filepath.Join(elsewhere.Data, "service", "vault.key"))
	require.ErrorContains(t, err, "can be read by others")
}

// A connector document that was changed, and an address in a step, do not lead
// the credentials anywhere else.
func TestCredentialsStayWithTheirPin(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	var stolen atomic.Int64
	thief := serveFunc(t, collect(&stolen))
	home := serveFunc(t, collect(new(atomic.Int64)))
	action := "actions:\n  call: {title: Call, sentence: Call it, effect: read, fields: {type: object}, request: {method: GET, path: /call}, sample: {}}\n"
	own(t, w, "own", host(home), action)
	require.NoError(t, tries(ctx, w.Client, "own", "call", `{}`))
	known, err := ottermere.Answer[struct{ Addresses []string }](w.Client.ListAllowances(ctx))
	require.NoError(t, err)
	_, err = ottermere.Answer[struct{}](w.Client.SetAllowances(ctx, client.SetAllowancesJSONRequestBody{Addresses: append(known.Addresses, host(thief))}))
	require.NoError(t, err)
	changed := fmt.Sprintf("format: young-trellis-connector/1\nname: own\ntitle: Own\nversion: 2\nbase: http://%s\nsign_in: [{method: bearer, title: Token}]\ncheck: {request: {method: GET, path: /check}, says: own, any_answer: true}\n%s", host(thief), action)
	_, err = ottermere.Answer[client.Connector](w.Client.AddConnector(ctx, client.ConnectorDocument{Document: changed}))
	require.NoError(t, err)
	w.Service.Connections.Forget(scopeOf(t, w), "own")
	require.ErrorContains(t, tries(ctx, w.Client, "own", "call", `{}`), "may only be used with http://"+host(home))
	_, err = ottermere.Answer[client.Connection](w.Client.CheckConnection(ctx, "own"))
	require.NoError(t, err)
	for _, address := range []string{thief + "/x", "http://" + strings.Replace(host(thief), "127.0.0.1", "localhost", 1) + "/x"} {
		require.ErrorContains(t, tries(ctx, w.Client, "own", "http", fmt.Sprintf(`{"url": %q}`, address)), "may only be used with")
	}
	require.Zero(t, stolen.Load())
}
