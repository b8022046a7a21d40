package test

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/switchboard"
)

// place is a page of the console as it can be met.
type place struct {
	name, path string
	then       []chromedp.Action
}

// places are all pages, with something on them.
func places(t *testing.T, w *ottermere.World) []place {
	ctx := context.Background()
	sent, err := w.Report(ctx, switchboard.Fourteen(time.Now(), "axe")[:7])
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: accessible}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "accessible", nil))
	require.NoError(t, err)
	byClock(t, w)
	started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "accessible", client.Items{}))
	require.NoError(t, err)
	nested := started.Run
	for _, s := range sent {
		_, err := w.Wait(within(t, 20*time.Second), s.Run)
		require.NoError(t, err)
	}
	_, err = w.Wait(within(t, 20*time.Second), nested)
	require.NoError(t, err)
	run := "/runs/" + nested.String()
	rehearsed := []chromedp.Action{browser.Click("Rehearse"), browser.See("Nothing was sent.")}
	return []place{
		{"workflows", "/workflows", nil},
		{"a new workflow", "/workflows", []chromedp.Action{browser.Click("New workflow"), browser.Wait(`#title`)}},
		{"a workbench", "/workflows/counter-calls", append(rehearsed, browser.Press(`(//*[@role="treeitem"])[4]//button`))},
		{"a nested workbench", "/workflows/accessible", append(rehearsed, browser.Press(`[data-line="ways/tall"] button`))},
		{"a branch", "/workflows/accessible", []chromedp.Action{browser.Press(`[data-line="ways"] button`), browser.Click("More…")}},
		{"the menu of a line", "/workflows/accessible", []chromedp.Action{browser.Press(`[data-line="ways"] button`), browser.Keys("Shift+F10"), browser.Wait(`[role=menu]`)}},
		{"keys", "/workflows/accessible", []chromedp.Action{browser.Click("Keys"), browser.Wait(`[role=dialog]`)}},
		{"going live", "/workflows/accessible", []chromedp.Action{browser.Click("Go live…"), browser.See("Who gets something")}},
		{"the schedule", "/schedule", []chromedp.Action{browser.See("At the same minute")}},
		{"when it starts", "/workflows/watch?line=-", []chromedp.Action{browser.See("Next times, Europe/Lisbon")}},
		{"going live by the clock", "/workflows/watch/live", []chromedp.Action{browser.See("Who gets something")}},
		{"the finder", "/workflows/accessible?line=shelves", append(rehearsed, browser.Press(`[aria-label="Find a value for Fields to set: shelves"]`), browser.Wait(`[role=option]`))},
		{"starting by hand", "/workflows/counter-calls", []chromedp.Action{browser.Click("Start…"), browser.Choose("#start-from", "Hollowbank Pottery")}},
		{"samples with their profile", "/workflows/counter-calls?line=-", append(rehearsed, browser.Press(`[aria-label="say what is expected of sample 1, Hollowbank Pottery"]`), browser.Click("Profile of the fields"), browser.See("4 of 4"))},
		{"runs of which none fits", "/runs?fate=stopped&from=2031-01-01", []chromedp.Action{browser.See("No run fits these.")}},
		{"an account that is there", "/start?connector=tables", []chromedp.Action{browser.See("It is connected already")}},
		{"a workflow as text", "/workflows/accessible", []chromedp.Action{browser.Click("As text")}},
		{"runs", "/runs", nil},
		{"a run", "/runs/" + sent[6].Run.String(), nil},
		{"a nested run", run, []chromedp.Action{browser.See("set aside")}},
		{"a run as a list", run, []chromedp.Action{browser.Click("As a list")}},
		{"a run's times", run, []chromedp.Action{browser.Click("Times")}},
		{"to mend", "/mend", []chromedp.Action{browser.See("set aside")}},
		{"connections", "/connections", nil},
		{"connectors", "/connectors?connector=tables&try=append", nil},
		{"a first visit", "/start", nil},
	}
}

const accessible = `format: young-trellis/1
name: accessible
title: A bench with everything
label: item.piece
trigger: {type: manual}
steps:
  - name: rows
    type: tables.rows
    connection: tables
    input: {workbook: {id: wb_p91zsu, name: Kiln hall}, tab: {id: tb_c0w8rn, name: Pieces}}
  - name: ways
    type: branch
    settings:
      cases:
        - name: tall
          when: item.height_cm > 20
          steps:
            - {name: rounds, type: loop, settings: {size: 2, steps: [{name: place, type: shape, settings: {set: {place: "(= round.number )"}}}]}}
        - {name: flat, when: item.height_cm < 6, steps: []}
      else: []
  - name: shelves
    type: shape
    on_error: set_aside
    settings: {set: {shelves: "(= 240 / (item.height_cm - 41) )"}}
  - name: all
    type: gather
    settings: {fields: {pieces: {how: count}}}
`

func visit(t *testing.T, page context.Context, w *ottermere.World, p place, theme string) {
	t.Helper()
	do(t, page, chromedp.Evaluate(`localStorage.setItem("trellis-theme", "`+theme+`")`, nil), chromedp.Navigate(w.Service.Address+p.path), browser.Wait("main"), browser.Settle())
	do(t, page, append(p.then, browser.Settle())...)
}

// No page has an accessibility fault that axe can find, in either theme.
func TestPagesAreAccessible(t *testing.T) {
	t.Parallel()
	w := world(t)
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	list := places(t, w)
	page := console(t, w)
	for _, theme := range []string{"light", "dark"} {
		for _, p := range list {
			var faults []string
			visit(t, page, w, p, theme)
			do(t, page, chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(`axe.run({runOnly: ["wcag2a", "wcag2aa"]}).then((r) => r.violations.map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | ")))`, &faults, chromedp.EvalAsValue, awaiting))
			require.Empty(t, faults, "%s, %s", p.name, theme)
		}
	}
}

// Every page works by keyboard alone: Tab comes to everything that can be used,
// shows where it is, and leaves again. What stands in a tree, a grid or a menu is
// reached by its own keys, which have tests of their own.
func TestPagesByKeyboardAlone(t *testing.T) {
	t.Parallel()
	w := world(t)
	list := places(t, w)
	page := console(t, w)
	for _, p := range list {
		visit(t, page, w, p, "light")
		var stops int
		do(t, page, chromedp.Evaluate(`(() => {
			const within = document.querySelector("[role=dialog], [role=menu]") ?? document.body;
			window.stops = [...within.querySelectorAll("a[href], button, input, select, textarea, [tabindex], [contenteditable=true]")].filter((e) => e.tabIndex >= 0 && !e.disabled && !(e.type === "radio" && !e.checked) && e.getClientRects().length > 0 && getComputedStyle(e).visibility !== "hidden" && !e.closest("[aria-hidden=true], [inert]") && !e.matches("[role=tablist]")); // what comes to a list of tabs goes on to the tab that is open
			window.unmarked = new Set();
			return window.stops.length;
		})()`, &stops))
		if p.name != "the menu of a line" {
			require.NotZero(t, stops, p.name)
		}
		for range stops + 8 {
			do(t, page, browser.Keys("Tab"), chromedp.Evaluate(`(() => {
				const e = document.activeElement;
				if (!e || e === document.body) return;
				e.met = true;
				const s = getComputedStyle(e.closest(".cm-editor") ?? e);
				if (s.outlineStyle === "none" && s.boxShadow === "none" && window.stops.includes(e)) window.unmarked.add(e.outerHTML.slice(0, 200));
			})()`, nil))
		}
		var missed, unmarked []string
		do(t, page, chromedp.Evaluate(`window.stops.filter((e) => e.isConnected && !e.met).map((e) => e.outerHTML.slice(0, 200))`, &missed), chromedp.Evaluate(`[...window.unmarked]`, &unmarked))
		require.Empty(t, missed, "%s: Tab does not come to these", p.name)
		require.Empty(t, unmarked, "%s: these do not show that they have the focus", p.name)
	}
}
