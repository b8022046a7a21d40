package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

// Two people on one draft: different settings are merged; of the same, both
// versions are shown with who has changed it, and nothing is lost silently.
func TestTwoPeopleOnOneDraft(t *testing.T) {
	t.Parallel()
	w := world(t)
	one, two := console(t, w), console(t, w)
	at := chromedp.Navigate(w.Service.Address + "/workflows/kiln-list?line=dry")
	where := editor("Keep an item where")
	do(t, one, at, browser.Wait(where))
	do(t, two, at, browser.Wait(where))
	do(t, one, browser.Type(where, `age(item.dry_since) >= duration("8d")`), browser.See("at least 8 days"), browser.See("Draft saved"))

	do(t, two, browser.Press(`//*[@role="treeitem"][contains(., "Add a row")]//button`), browser.Press(`#listed-tab`), browser.Press(`//*[@cmdk-item][contains(., "Pieces")]`), browser.Gone(`[cmdk-item]`), browser.See("Add a row to Pieces"), browser.See("at least 8 days"))
	document := func() string {
		x, err := ottermere.Answer[api.Workflow](w.Client.GetWorkflow(within(t, 10*time.Second), "kiln-list"))
		require.NoError(t, err)
		return x.Document
	}
	require.Contains(t, document(), `duration("8d")`)
	require.NotContains(t, document(), "tb_e5j3vy")

	// The same setting: whoever is later is asked.
	do(t, two, browser.Press(`//*[@role="treeitem"][contains(., "Keep items")]//button`), browser.Wait(where))
	do(t, one, browser.Type(where, `age(item.dry_since) >= duration("9d")`), browser.See("at least 9 days"), browser.See("Draft saved"))
	do(t, two, browser.Type(where, `age(item.dry_since) >= duration("10d")`), browser.See("has changed the same"), browser.See(`duration("9d")`), browser.See(`duration("10d")`))
	require.Contains(t, document(), `duration("9d")`)
	do(t, two, browser.Click("Use mine"), browser.See("at least 10 days"), browser.See("Draft saved"))
	require.Contains(t, document(), `duration("10d")`)
	do(t, one, browser.Type(where, `age(item.dry_since) >= duration("11d")`), browser.See("has changed the same"), browser.Press(`//button[starts-with(normalize-space(.), "Leave ")]`), browser.See("at least 10 days"), browser.See(`duration("10d")`))
	require.Contains(t, document(), `duration("10d")`)

	// Lines are named: what is done with them goes on what the other has left.
	do(t, one, browser.Type(where, `age(item.dry_since) >= duration("12d")`), browser.See("at least 12 days"), browser.See("Draft saved"))
	do(t, two, browser.Type(`input[placeholder^="Say what"]`, "sort"), browser.Wait(`[cmdk-item]`), browser.Keys("Enter"), browser.See("at least 12 days"))
	require.Eventually(t, func() bool { return strings.Contains(document(), "type: sort") }, 20*time.Second, 50*time.Millisecond, "what the other has done may be in view before the line is kept")
	require.Contains(t, document(), `duration("12d")`)
}
