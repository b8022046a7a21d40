package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

const ticks = `format: young-trellis/1
name: ticks
trigger: {type: schedule, settings: {every: 5 seconds}}
steps:
  - {name: told, type: shape, settings: {set: {from: (= item.previous ), to: (= item.due )}}}
`

// A workflow that is live starts by the clock, each window where the last one ended;
// paused it rests, and goes on from there.
func TestALiveWorkflowStartsByTheClock(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, time.Minute)
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: ticks}))
	require.NoError(t, err)
	live, err := ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "ticks", &api.GoLiveParams{}))
	require.NoError(t, err)
	require.NotNil(t, live.Standing.At)
	due := *live.Standing.At
	windows := func(n int) []map[string]any {
		var items []map[string]any
		name := "ticks"
		require.Eventually(t, func() bool {
			page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name}))
			if err != nil || len(page.Runs) < n {
				return false
			}
			items = nil
			for i := len(page.Runs) - 1; i >= 0; i-- {
				require.Equal(t, "by the clock", page.Runs[i].Began)
				items = append(items, map[string]any{"label": page.Runs[i].Label, "run": page.Runs[i].Id})
			}
			return true
		}, 40*time.Second, 50*time.Millisecond)
		return items
	}
	first := windows(2)
	require.Equal(t, "due "+due.UTC().Format(time.RFC3339), first[0]["label"])
	require.Equal(t, "due "+due.Add(5*time.Second).UTC().Format(time.RFC3339), first[1]["label"])
	paused, err := ottermere.Answer[api.Workflow](w.Client.PauseWorkflow(ctx, "ticks"))
	require.NoError(t, err)
	require.Equal(t, "Paused by Mara Quill, token demo, since", paused.Standing.Words)
	on, err := ottermere.Answer[api.Workflow](w.Client.UnpauseWorkflow(ctx, "ticks", nil))
	require.NoError(t, err)
	require.Equal(t, "Next", on.Standing.Words)
	require.Zero(t, on.Standing.At.Sub(due)%(5*time.Second), "it counts from the same anchor")
	windows(len(first) + 1)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoBack(ctx, "ticks", 1, nil))
	require.NoError(t, err)
	next, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, "ticks", api.Items{}))
	require.NoError(t, err)
	run, err := w.Wait(ctx, next.Run)
	require.NoError(t, err)
	require.Equal(t, "by hand", run.Run.Began)
	require.True(t, strings.HasPrefix(run.Run.Label, "due "), "a start by hand is due now: %s", run.Run.Label)
}

// A schedule by a phrase, checked by its next times, put live, paused and unpaused:
// by what is on the screen.
func TestAScheduleIsSetUpByALine(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	n := &newcomer{t: t, page: console(t, w)}
	do(t, n.page, browser.See("What should happen?"))
	n.act(browser.Click("New workflow"), browser.See("In a few words"))
	n.act(browser.Type("#title", "The plan of the day"))
	n.act(browser.Press(`//label[contains(., "By the clock")]`))
	n.act(browser.Click("Make it"), browser.Wait("[role=treeitem]"))
	n.act(browser.Press(`(//*[@role="treeitem"])[1]//button`), browser.Wait("#trigger-when"), browser.See("As you would say it"))
	n.act(browser.Type("#trigger-when", "every wekday at 8"), browser.See("Did you mean weekday?"))
	n.act(browser.Type("#trigger-when", "every working day at 8 in Lisbon"), browser.See("Every weekday at 08:00 in Europe/Lisbon: 5 times within seven days."))
	var times string
	do(t, n.page, browser.Text(`[aria-label="Next times"]`, &times))
	require.Equal(t, 5, strings.Count(times, ", 08:00"), times)
	require.NotContains(t, times, "Saturday")
	require.NotContains(t, times, "Sunday")
	n.act(browser.Keys("Enter"), browser.Wait(`//*[@role="treeitem"][1][contains(., "weekday at 08:00 in Europe/Lisbon")]`), browser.See("Draft saved"))
	n.line("set fields")
	do(t, n.page, browser.See("Draft saved"))
	n.act(browser.Click("Go live…"), browser.See("Every weekday at 08:00 in Europe/Lisbon."), browser.See("What was due before it goes live"), browser.Wait(`[aria-label="Next times"] li:nth-child(10)`))
	do(t, n.page, browser.Tick())
	n.act(browser.Click("Put it live"), browser.See("Live, revision 1"), browser.See("Next "))
	n.act(browser.Click("Schedule"), browser.See("The plan of the day"))
	n.act(browser.Press(`//a[normalize-space(.)="The plan of the day"]`), browser.Wait("[role=treeitem]"))
	n.act(browser.Click("Pause"), browser.See("Paused by Mara Quill since"))
	n.act(browser.Click("Let it go on"), browser.See("Live, revision 1"), browser.See("Next "))
	require.LessOrEqual(t, n.did, 20, "interactions")
	list, err := ottermere.Answer[api.Schedule](w.Client.GetSchedule(context.Background(), &api.GetScheduleParams{}))
	require.NoError(t, err)
	require.Len(t, list.Entries, 1)
	require.Equal(t, "every weekday at 08:00 in Europe/Lisbon", list.Entries[0].Cadence)
}

// byClock makes two workflows live that start at the same minutes.
func byClock(t *testing.T, w *ottermere.World) {
	t.Helper()
	ctx := within(t, 20*time.Second)
	for _, name := range []string{"watch", "digest"} {
		text := "format: young-trellis/1\nname: " + name + "\ntitle: The " + name + "\ntrigger: {type: schedule, settings: {every: day, at: \"08:00\", zone: Europe/Lisbon}}\nsteps:\n  - {name: told, type: shape, settings: {keep: all}}\n"
		_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: text}))
		require.NoError(t, err)
		_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{}))
		require.NoError(t, err)
	}
}
