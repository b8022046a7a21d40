package test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

// An owner before an address that is not public, typed without its scheme: what
// was meant is offered, and who may allow it does so there and then.
func TestAnAddressOfOnesOwnIsAllowedWhereItIsMet(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	status, answer := request(t, "PUT", w.Service.Address+"/api/v1/allowances", w.Token, []byte(`{"addresses": []}`))
	require.Equal(t, 200, status, answer)
	page := console(t, w)
	do(t, page, browser.Press(`//a[contains(., "I have a key")]`), browser.See("Find the application"))
	do(t, page, browser.Press(`//button[contains(., "Tables")]`))
	bare := strings.TrimPrefix(w.TablesBase, "http://")
	do(t, page, browser.Type(`#account-address`, bare), browser.Click("Use http://"+bare), browser.Type(`#secret-secret`, w.TablesKey), browser.Click("Store and check"))
	do(t, page, browser.See("belongs to a network of your own"), browser.See("Connections 1"))
	do(t, page, browser.Click("Allow it and check again"), browser.Gone(`[aria-label="Not a public address"]`), browser.See("real"))
	status, answer = request(t, "GET", w.Service.Address+"/api/v1/connections", w.Token, nil)
	require.Equal(t, 200, status)
	require.Contains(t, answer, `"state":"ok"`)
	require.NotContains(t, answer, `"guarded"`)
}

// A call that nobody stored an account for meets the guard where it is tried, in a
// rehearsal and in a run: each says which address it is, and offers to allow it.
func TestAnAddressOfOnesOwnIsAllowedWhereverItIsCalled(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	own := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		rw.Header().Set("Content-Type", "application/json")
		_, _ = rw.Write([]byte(`{"piece": "Tall vase"}`))
	}))
	t.Cleanup(own.Close)
	host := strings.TrimPrefix(own.URL, "http://")

	status, answer := request(t, "POST", w.Service.Address+"/api/v1/try", w.Token, []byte(`{"action": "http", "input": {"method": "GET", "url": "`+own.URL+`/pieces"}, "send": true}`))
	require.Equal(t, 200, status, answer)
	require.Contains(t, answer, `"guarded":"`+host+`"`)
	require.Contains(t, answer, "this address is not public")

	ctx := within(t, time.Minute)
	_, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: "format: young-trellis/1\nname: pieces\ntitle: Pieces\ntrigger: {type: manual}\nsteps:\n  - {name: pieces, type: http, on_error: set_aside, settings: {method: GET, url: '" + own.URL + "/pieces'}}\n"}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "pieces", nil))
	require.NoError(t, err)
	started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "pieces", client.Items{}))
	require.NoError(t, err)
	_, err = w.Wait(ctx, started.Run)
	require.NoError(t, err)
	page := console(t, w)
	do(t, page, chromedp.Navigate(w.Service.Address+"/runs/"+started.Run.String()), browser.Wait(`[aria-label="Not a public address"]`), browser.See(host+" belongs to a network of your own"))

	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/pieces"), browser.Click("Rehearse"))
	do(t, page, browser.Click("Allow it and rehearse again"), browser.Gone(`[aria-label="Not a public address"]`), browser.See("Tall vase"))

	// What was allowed is so for the run, too: the item that was set aside goes through.
	do(t, page, chromedp.Navigate(w.Service.Address+"/runs/"+started.Run.String()), browser.Click("Retry 1 item set aside"), browser.Click("Do it"), browser.See("Tall vase"))
}
