package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/ottermere"
)

const carried = `format: young-trellis/1
name: carried
label: item.said
trigger: {type: manual}
steps:
  - {name: told, type: http, settings: {method: POST, url: "http://OTHER/told?said=(= item.said )", header: {X-Said: "(= item.said )"}, repeat: keyed, json: {said: "(= 'it is ' + item.said )"}}, output: under got}
  - {name: kept, type: tables.append, connection: tables, input: {workbook: wb_7q2kd0, tab: tb_h4m9xa, values: {name: (= item.said )}}, output: keep, on_error: set_aside}
`

// The secret of one connection that comes in as data is sent where the steps send it,
// and shown nowhere in a call, in no form, whichever connection or none made that call.
func TestAnotherConnectionsSecretIsShownInNoCall(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	var mu sync.Mutex
	var came []string
	other := host(serveFunc(t, func(rw http.ResponseWriter, r *http.Request) {
		var in struct{ Said string }
		_ = json.NewDecoder(r.Body).Decode(&in)
		mu.Lock()
		defer mu.Unlock()
		came = append(came, in.Said, r.URL.Query().Get("said"), r.Header.Get("X-Said"))
		_ = json.NewEncoder(rw).Encode(in)
	}))
	const secret = "own+secret/of another~connection"
	known, err := ottermere.Answer[struct{ Addresses []string }](w.Client.ListAllowances(ctx))
	require.NoError(t, err)
	_, err = ottermere.Answer[struct{}](w.Client.SetAllowances(ctx, client.SetAllowancesJSONRequestBody{Addresses: append(known.Addresses, other)}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Connection](w.Client.AddConnection(ctx, client.NewConnection{Name: "beside", Connector: "contacts", Account: client.Fields(`{"address": "` + w.ContactsBase + `"}`), Secret: some(secret)}))
	require.NoError(t, err)

	var seen strings.Builder
	look := func(method, path, body string) string {
		t.Helper()
		var b []byte
		if body != "" {
			b = []byte(body)
		}
		status, answer := request(t, method, w.Service.Address+"/api/v1"+path, w.Token, b)
		require.Less(t, status, 300, "%s %s: %s", method, path, answer)
		seen.WriteString(method + " " + path + "\n" + answer + "\n")
		return answer
	}
	input := fmt.Sprintf(`{"method": "POST", "url": "http://%s/told?said=own%%2Bsecret/of%%20another~connection", "json": {"said": %q}}`, other, secret)
	for _, send := range []string{"false", "true"} {
		require.Contains(t, look("POST", "/try", `{"action": "http", "input": `+input+`, "send": `+send+`}`), call.Masked)
		look("POST", "/try", fmt.Sprintf(`{"action": "append", "connection": "tables", "input": {"workbook": "wb_7q2kd0", "tab": "tb_h4m9xa", "values": {"name": %q}}, "send": %s}`, secret, send))
	}
	made, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: strings.ReplaceAll(carried, "OTHER", other)}))
	require.NoError(t, err)
	require.Empty(t, made.Problems)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "carried", &client.GoLiveParams{}))
	require.NoError(t, err)
	run, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "carried", client.Items{Items: &[]client.Fields{client.Fields(fmt.Sprintf(`{"said": %q}`, secret))}}))
	require.NoError(t, err)
	_, err = w.Wait(ctx, run.Run)
	require.NoError(t, err)
	at := "/runs/" + run.Run.String()
	look("GET", at, "")
	look("GET", at+"/lattice?rows=10", "")
	for _, step := range []string{"told", "kept"} {
		cell := look("GET", at+"/cells/0/"+step, "")
		require.Contains(t, cell, call.Masked, step)
	}
	look("GET", "/connections/tables/calls", "")
	mu.Lock()
	defer mu.Unlock()
	require.Equal(t, []string{secret, "own+secret/of another~connection", "", "it is " + secret, secret, secret}, came, "what is sent is what was meant")
	all := seen.String()
	for _, form := range call.Forms(secret) {
		i := strings.Index(all, form)
		require.Negative(t, i, "%q is in: %s", form, all[max(0, i-400):min(len(all), max(0, i)+200)])
	}
}
