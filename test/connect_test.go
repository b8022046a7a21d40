package test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/cluster/clustertest"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/service"
)

func everything(o *ottermere.Options) { o.Few = false }

// Each stand-in is connected with what its page says, checked, and used.
func TestEveryStandInCanBeConnectedCheckedAndUsed(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	list, err := ottermere.Answer[struct{ Connections []client.Connection }](w.Client.ListConnections(ctx))
	require.NoError(t, err)
	require.Len(t, list.Connections, 20)
	for _, c := range list.Connections {
		require.Equal(t, client.ConnectionState("ok"), c.State, "%s: %s", c.Name, c.Words)
	}
	memo, err := w.Others.Files.Content("/memos/kiln-2-morning.wav")
	require.NoError(t, err)
	require.NotEmpty(t, memo)
	for _, c := range []struct{ connection, action, input, want string }{
		{"tables", "rows", `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`, "Tall jug"},
		{"contacts", "find", `{"phone": "+441632960141"}`, "Hollowbank Pottery"},
		{"documents", "list", `{}`, "Firing log"},
		{"documents", "append", `{"document": "doc_firinglog4kq", "heading": "Memos", "text": "Turned the shelves."}`, "Firing log"},
		{"files", "list", `{"folder": "memos"}`, "kiln-2-morning.wav"},
		{"files", "download", `{"folder": "memos", "name": "kiln-2-morning.wav"}`, "sha256-"},
		{"team-chat", "post", `{"channel": "ch_hall29", "blocks": [{"kind": "text", "text": "Kiln 2 is cold."}, {"kind": "button", "label": "Log", "address": "https://documents.example"}]}`, "ch_hall29"},
		{"team-chat", "conversations", `{"waiting": true}`, "Hollowbank"},
		{"sms", "send", `{"from": "Ottermere", "to": "+447700900123", "text": "Load at nine."}`, "accepted"},
		{"mail", "send", `{"to": "mara@ottermere.example", "subject": "Kiln plan", "text": "Cone 9 at eight."}`, "mara@ottermere.example"},
		{"helpdesk", "search", `{"words": "pinholes"}`, "Fire the biscuit slower"},
		{"helpdesk", "raise", `{"subject": "Damper", "text": "Stuck.", "priority": 3, "email": "hall@ottermere.example"}`, "1043"},
		{"calendar", "free", `{"day": "2031-01-06"}`, "T08:00:00"},
		{"text-model", "summarise", `{"text": "Kiln two is cold. Two shelves warped. The teapots are fine.", "sentences": 1}`, "used"},
		{"register", "search", `{"name": "Quern \"Lane\"", "town": "Lowlight"}`, "RG-"},
		{"forum", "posts", `{}`, "Crawling on rims"},
		{"forum", "feed", `{}`, "Crawling on rims"},
		{"pages", "fetch", `{"path": "clean"}`, "Celadon"},
		{"search", "search", `{"phrase": "cone"}`, "temperatures"},
		{"feedback", "marks", `{"shop": "sh_counter"}`, "well packed"},
		{"statistics", "series", `{"series": "gas", "days": 3}`, "price"},
		{"suppliers", "near", `{"place": "Ottermere", "km": 30}`, "Ashdown"},
		{"lab", "test", `{"glaze": "Celadon 4"}`, "submitted"},
		{"postgres", "rows", `{"table": "stock"}`, "glaze 1"},
		{"postgres", "sql", `{"query": "select number, total from orders where studio = $1 order by number", "params": ["Quern Lane"], "key": "number"}`, "9007199254740995"},
	} {
		tried, err := ottermere.Answer[client.Tried](w.Client.TryAction(ctx, client.Try{Connection: &c.connection, Action: c.action, Input: client.Fields(c.input), Send: some(true)}))
		require.NoError(t, err, "%s.%s", c.connection, c.action)
		b, _ := json.Marshal(tried)
		require.Nil(t, tried.Why, "%s.%s: %s", c.connection, c.action, b)
		require.Contains(t, string(b), c.want, "%s.%s", c.connection, c.action)
	}
	require.Contains(t, w.Others.Documents.Text("doc_firinglog4kq"), "Turned the shelves.")
	require.Len(t, w.Others.SMS.Messages(), 1)
	letter, err := w.Others.Mail.Find("Kiln plan")
	require.NoError(t, err)
	require.Contains(t, letter.Raw, "Auto-Submitted: auto-generated")
}

func some[T any](v T) *T { return &v }

// The documents that the stand-ins publish are imported whole, and connect to
// the same side.
func TestPublishedDocumentsAreImported(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	seen := 0
	for _, s := range w.Stands {
		status, document := request(t, "GET", s.Base+"/openapi.json", "", nil)
		require.Equal(t, 200, status)
		var paths struct{ Paths map[string]map[string]any }
		require.NoError(t, json.Unmarshal([]byte(document), &paths))
		operations := 0
		for _, p := range paths.Paths {
			operations += len(p)
		}
		if operations == 0 {
			continue // mail, files and databases are not described so
		}
		name := "im-" + s.Connector
		im, err := ottermere.Answer[client.Imported](w.Client.ImportConnector(ctx, client.ImportConnector{Document: document, Name: &name, Address: &s.Base}))
		require.NoError(t, err, s.Connector)
		require.Equal(t, operations, im.Actions, s.Connector)
		require.Empty(t, im.LeftOut, s.Connector)
		require.Equal(t, []string{s.Base}, im.Servers, s.Connector)
		_, err = ottermere.Answer[client.Connector](w.Client.AddConnector(ctx, client.ConnectorDocument{Document: im.Document}))
		require.NoError(t, err, s.Connector)
		if s.Values["client_id"] != "" || len(s.Values) == 0 {
			continue
		}
		c, err := ottermere.Answer[client.Connection](w.Client.AddConnection(ctx, client.NewConnection{Name: name, Connector: name, Account: client.Fields(`{}`), Values: &s.Values}))
		require.NoError(t, err, s.Connector)
		if s.Connector != "helpdesk" && s.Connector != "sms" { // its account is a part of the path; its key has a prefix that the document does not tell
			require.Equal(t, client.ConnectionState("ok"), c.State, "%s: %s", s.Connector, c.Words)
		}
		seen++
	}
	require.GreaterOrEqual(t, seen, 10)
}

// A code is made with the secret of a connection, which nobody sees: in a rehearsal
// and in a run, and what was made stays when the secret is changed.
func TestCodesAreMadeByTheSecretOfAConnection(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	text := "format: young-trellis/1\nname: signed\ntrigger: {type: manual}\nsteps:\n  - {name: code, type: shape, settings: {set: {code: '(= hmac(item.text, \"contacts\") )'}}}\n"
	made, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: text}))
	require.NoError(t, err)
	require.Empty(t, made.Problems)
	mac := hmac.New(sha256.New, []byte(w.ContactsKey))
	mac.Write([]byte("firing 17"))
	want := hex.EncodeToString(mac.Sum(nil))

	items := []client.Fields{fieldsOf(t, `{"text": "firing 17"}`)}
	r, err := ottermere.Answer[client.Rehearsal](w.Client.Rehearse(ctx, "signed", client.Rehearse{Items: &items}))
	require.NoError(t, err)
	require.Equal(t, client.RunState("succeeded"), r.State, "%v", r.Message)
	seen, _ := json.Marshal(r)
	require.Contains(t, string(seen), want)
	require.NotContains(t, string(seen), w.ContactsKey)

	c, err := ottermere.Answer[client.Connection](w.Client.GetConnection(ctx, "contacts"))
	require.NoError(t, err)
	require.Contains(t, c.UsedBy, "signed")
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "signed", &client.GoLiveParams{}))
	require.NoError(t, err)
	s, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "signed", client.Items{Items: &items}))
	require.NoError(t, err)
	run := ended(t, ctx, w, s.Run)
	require.Equal(t, client.RunState("succeeded"), run.Run.State, run.Run.Message)
	conn, err := pgx.Connect(ctx, w.DatabaseURL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(ctx, "UPDATE connection SET secret = (SELECT secret FROM connection WHERE name = 'tables'), state = 'broken' WHERE name = 'contacts'")
	require.NoError(t, err)
	o, err := ottermere.Answer[client.OpenedCell](w.Client.OpenCell(ctx, s.Run, "0", "code"))
	require.NoError(t, err)
	require.Contains(t, string(*o.After), want)
}

// A connector that one node has just stored can be connected at another one, which
// remembers the connectors of a workspace for a moment; one removed here is gone at
// once.
func TestAConnectorIsThereAtOnceAtEveryNode(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	second, err := service.Start(ctx, service.Config{DatabaseURL: w.DatabaseURL, Listen: "127.0.0.1:0", Data: filepath.Join(clustertest.Folder(t), "second"), VaultKey: filepath.Join(w.Data, "service", "vault.key"), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(second.Close)
	there, err := client.NewClient(second.Address+"/api/v1", client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+w.Token)
		return nil
	}))
	require.NoError(t, err)
	for i := range 5 {
		res, err := there.ListConnectors(ctx) // it remembers them as they are now
		require.NoError(t, err)
		require.Equal(t, 200, res.StatusCode)
		res.Body.Close()
		name := fmt.Sprintf("shelf-%d", i)
		im, err := ottermere.Answer[client.Imported](w.Client.ImportConnector(ctx, client.ImportConnector{Name: &name, Document: `{"openapi": "3.1.0", "info": {"title": "Shelf"}, "servers": [{"url": "` + w.TablesBase + `"}], "paths": {"/shelf": {"get": {"operationId": "look"}}}}`}))
		require.NoError(t, err)
		_, err = ottermere.Answer[client.Connector](w.Client.AddConnector(ctx, client.ConnectorDocument{Document: im.Document}))
		require.NoError(t, err)
		_, err = ottermere.Answer[client.Connection](there.AddConnection(ctx, client.NewConnection{Name: name, Connector: name, Account: client.Fields(`{}`)}))
		require.NoError(t, err)
	}
}
