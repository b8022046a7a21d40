package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

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
	do(t, page, browser.See("belongs to a network of your own"), browser.See("Connections1"))
	do(t, page, browser.Click("Allow it and check again"), browser.Gone(`[aria-label="Not a public address"]`), browser.See("real"))
	status, answer = request(t, "GET", w.Service.Address+"/api/v1/connections", w.Token, nil)
	require.Equal(t, 200, status)
	require.Contains(t, answer, `"state":"ok"`)
	require.NotContains(t, answer, `"guarded"`)
}
