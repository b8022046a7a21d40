package test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

// What should become of a sample is noted beside it, and every rehearsal says
// whether it did, also while one types.
func TestSamplesBecomeWhatIsExpected(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	out, code := command(t, w, `{"fate": "held_back"}`, "sample", "expect", "counter-calls", "2", "-")
	require.Zero(t, code, out)
	out, code = command(t, w, `{"fate": "held_bak"}`, "sample", "expect", "counter-calls", "1", "-")
	require.NotZero(t, code)
	require.Contains(t, out, "Did you mean held_back?")
	out, code = command(t, w, "", "workflow", "rehearse", "counter-calls")
	require.Zero(t, code, out)
	require.Contains(t, out, "sample 2, +441632960158: as expected")
	out, code = command(t, w, `{"fate": "passed", "fields": {"number": "+44"}}`, "sample", "expect", "counter-calls", "2", "-")
	require.Zero(t, code, out)
	out, code = command(t, w, "", "workflow", "rehearse", "counter-calls")
	require.Equal(t, 1, code, "a check that fails is told by the exit code too")
	require.Contains(t, out, "it ends as held back, expected is passed; number is +441632960158, expected is +44")
	out, code = command(t, w, "", "sample", "list", "counter-calls")
	require.Zero(t, code)
	require.Contains(t, out, `expected {"fate":"passed"`)
	out, code = command(t, w, "{}", "sample", "expect", "counter-calls", "2", "-")
	require.Zero(t, code)
	require.Contains(t, out, "nothing is expected")

	out, code = command(t, w, "", "sample", "profile", "counter-calls")
	require.Zero(t, code, out)
	require.Regexp(t, `duration_s +whole number +4 of 4 +4 +4 to 241`, out)
	require.Regexp(t, `caller +text +3 of 4`, out)

	page := console(t, w)
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/counter-calls?line=-"), browser.Click("Rehearse"), browser.See("Nothing was sent."),
		browser.Press(`[aria-label="say what is expected of sample 2, +441632960158"]`), browser.Click("Keep it"), browser.See("1 of 1 as expected"), browser.See("● as expected"),
		browser.Click("Profile of the fields"), browser.See("4 to 241"))
	do(t, page, browser.Press(`//*[@role="treeitem"][contains(., "Keep items")]//button`), browser.Type(editor("Keep an item where"), "item.duration_s >= 2"), browser.See("0 of 1 as expected"))

	// What a run began with becomes a sample.
	sent, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, "counter-calls", api.Items{Items: &[]api.Fields{[]byte(`{"call_id": "kept", "caller": "Lowlight Tileworks", "number": "+441632960145", "duration_s": 50}`)}}))
	require.NoError(t, err)
	_, err = w.Wait(ctx, sent.Run)
	require.NoError(t, err)
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/counter-calls?line=-"), browser.Click("From a run"), browser.Press(`//*[@role="menuitem"][contains(., "Lowlight Tileworks")]`), browser.See("Kept as a sample"), browser.Wait(`[aria-label="edit sample 5, Lowlight Tileworks"]`))
}
