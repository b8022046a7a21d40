package test

import (
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/switchboard"
)

// Runs are found by what became of their items and by when they began, by every
// door.
func TestRunsAreFoundByFateAndTime(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	sent, err := w.Report(ctx, switchboard.Fourteen(time.Now(), "found"))
	require.NoError(t, err)
	for _, s := range sent {
		_, err := w.Wait(ctx, s.Run)
		require.NoError(t, err)
	}
	list := func(p api.ListRunsParams) []api.RunSummary {
		page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &p))
		require.NoError(t, err)
		return page.Runs
	}
	all := list(api.ListRunsParams{})
	fate := func(f api.ListRunsParamsFate) []api.RunSummary { return list(api.ListRunsParams{Fate: &f}) }
	held, aside := fate("held_back"), fate("set_aside")
	require.NotEmpty(t, held)
	require.Len(t, aside, 1)
	require.Equal(t, "Saltgrass Studio", aside[0].Label)
	for _, r := range held {
		require.Positive(t, r.Counts.HeldBack)
	}
	require.Empty(t, fate("stopped"))
	hourAgo, now := time.Now().Add(-time.Hour), time.Now().Add(time.Second)
	require.Len(t, list(api.ListRunsParams{From: &hourAgo, To: &now}), len(all))
	require.Empty(t, list(api.ListRunsParams{To: &hourAgo}))
	require.Empty(t, list(api.ListRunsParams{From: &now}))
	middle := all[len(all)/2].Accepted
	early, late := list(api.ListRunsParams{To: &middle}), list(api.ListRunsParams{From: &middle})
	require.Equal(t, len(all), len(early)+len(late), "each run is on one side of a moment")

	out, code := command(t, w, "", "run", "list", "--fate", "set_aside", "--since", "1h")
	require.Zero(t, code, out)
	require.Contains(t, out, "Saltgrass Studio")
	require.NotContains(t, out, "succeeded")
	out, code = command(t, w, "", "run", "list", "--since", "last week")
	require.Equal(t, 2, code)
	require.Contains(t, out, "it is written as 7d")

	page := console(t, w)
	do(t, page, chromedp.Navigate(w.Service.Address+"/runs"), browser.See("Hollowbank Pottery"), browser.Choose(`[aria-label="Fate of an item"]`, "set aside"), browser.See("Saltgrass Studio"),
		browser.Gone(`//tr[contains(., "Hollowbank Pottery")]`), chromedp.Reload(), browser.See("Saltgrass Studio"), browser.Gone(`//tr[contains(., "Hollowbank Pottery")]`))
	tomorrow := time.Now().Add(24 * time.Hour).Format("2006-01-02")
	do(t, page, chromedp.Navigate(w.Service.Address+"/runs?from="+tomorrow), browser.See("No run fits these."))
}
