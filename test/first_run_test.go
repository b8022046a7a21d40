package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/tables"
)

// A workflow goes live so that its first run writes five items and asks: somebody
// looks, and lets the others go on. The next run takes all.
func TestTheFirstRunTakesFiveAndAsks(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	page := console(t, w)
	before := len(w.Tables.Rows(tables.NearTab))
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/near-suppliers/live"), browser.See("Who gets something"),
		browser.Press(`//label[contains(., "It takes the first 5 items on from line 3")]`))
	do(t, page, browser.Tick(), browser.Click("Put it live"), browser.See("The next run takes 5 items at first"))
	do(t, page, browser.Click("Start"), browser.Wait(`h1 a[href="/workflows/near-suppliers"]`), browser.See("It takes the first 5 items to its first write"))
	ended, err := w.Wait(ctx, runShown(t, page))
	require.NoError(t, err)
	require.Equal(t, "partial", string(ended.Run.State))
	aside := ended.Run.Counts.SetAside
	require.Positive(t, aside)
	require.EqualValues(t, 5, ended.Run.Counts.Through)
	require.Equal(t, before+5, len(w.Tables.Rows(tables.NearTab)))
	do(t, page, browser.See("not among the first 5"), browser.Press(`//button[starts-with(normalize-space(.), "Retry")]`))
	do(t, page, browser.Press(`//*[@role="dialog"]//button[normalize-space(.)="Do it"]`), browser.Until("all are through", `!document.body.innerText.includes("not among the first")`))
	_, err = w.Wait(ctx, ended.Run.Id)
	require.NoError(t, err)
	require.Len(t, w.Tables.Rows(tables.NearTab), before+5+aside)

	out, code := said(t, w, "", "workflow", "start", "near-suppliers", "--watch")
	require.Zero(t, code, out)
	require.NotContains(t, out, "set aside", "later runs take all")
}

// The same from the command line, also for one run alone.
func TestTheFirstItemsByCommand(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, time.Minute)
	out, code := said(t, w, "", "workflow", "live", "near-suppliers", "--first", "0")
	require.Equal(t, 2, code)
	require.Contains(t, out, "--first is 0; it is how many items go on, from 1")
	out, code = said(t, w, "", "workflow", "live", "near-suppliers", "--first", "3")
	require.Zero(t, code, out)
	require.Contains(t, out, "Its next run takes 3 items to the first write and sets the others aside; trellis run retry RUN lets them go on.")

	out, _ = said(t, w, "", "workflow", "start", "near-suppliers", "--first", "2", "--watch")
	require.Contains(t, out, "It takes the first 2 items to its first write")
	shown, err := ottermere.Answer[client.Workflow](w.Client.GetWorkflow(ctx, "near-suppliers"))
	require.NoError(t, err)
	require.Equal(t, 3, *shown.First, "what was said of one run leaves the next as it is")
	out, _ = said(t, w, "", "workflow", "start", "near-suppliers", "--watch")
	require.Contains(t, out, "It takes the first 3 items to its first write")
	name, one := "near-suppliers", 1
	list, err := ottermere.Answer[client.RunPage](w.Client.ListRuns(ctx, &client.ListRunsParams{Workflow: &name, Limit: &one}))
	require.NoError(t, err)
	run := list.Runs[0].Id.String()
	out, code = said(t, w, "", "run", "retry", run, "--watch")
	require.Zero(t, code, out)
	require.NotContains(t, strings.ToLower(out), "not among")
	shown, err = ottermere.Answer[client.Workflow](w.Client.GetWorkflow(ctx, "near-suppliers"))
	require.NoError(t, err)
	require.Nil(t, shown.First)
}
