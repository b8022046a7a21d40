package test

import (
	"context"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/switchboard"
	"youngtrellis/internal/standins/tables"
)

// newcomer is somebody before an empty workspace. Each thing that they press,
// choose or type counts as one interaction.
type newcomer struct {
	t    *testing.T
	page context.Context
	did  int
}

func (n *newcomer) act(a chromedp.Action, then ...chromedp.Action) {
	n.t.Helper()
	n.did++
	do(n.t, n.page, append([]chromedp.Action{a}, then...)...)
}

// pick chooses by name in a picker: it is opened, and one is taken.
func (n *newcomer) pick(id, name string) {
	n.t.Helper()
	n.act(browser.Press(`#` + id))
	n.act(browser.Press(`//*[@cmdk-item][contains(., "`+name+`")]`), browser.Gone(`[cmdk-item]`))
}

// line adds a line by what it should do: typed, and taken with Enter.
func (n *newcomer) line(what string) {
	n.t.Helper()
	n.act(browser.Type(`input[placeholder^="Say what"]`, what), browser.Wait(`[cmdk-item]`))
	n.act(browser.Keys("Enter"), browser.Wait(`[role=treeitem][aria-selected=true]`))
}

// From an empty workspace and the page of another application to a live workflow
// that has run on a real event: nothing is read but what is on the screen.
func TestANewcomerGoesLiveOnARealEvent(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	n := &newcomer{t: t, page: console(t, w)}
	do(t, n.page, browser.See("What should happen?"))
	n.act(browser.Type("#happens", "Note every call"))
	n.act(browser.Press(`//button[contains(., "Something calls me")]`), browser.See("Its address"))
	n.act(browser.Click("Make its secret"))
	do(t, n.page, browser.Text(`[data-testid=hook-secret]`, &w.HookSecret), browser.Text(`[data-testid=hook-address]`, &w.HookAddress))
	n.act(browser.Click("Take the next call"), browser.See("Waiting for the next call"))
	calls := switchboard.Fourteen(time.Now(), "new")
	sent, err := w.Report(within(t, time.Minute), calls[:1])
	require.NoError(t, err)
	require.Equal(t, 202, sent[0].Status)
	do(t, n.page, browser.See("Xxxxxxxxxx Xxxxxxx"), browser.Wait(`//li[contains(., "A sample")][contains(., "done")]`))

	n.line("new row")
	n.act(browser.Click("Connect Tables"))
	n.act(browser.Type(`#account-address`, w.TablesBase))
	n.act(browser.Type(`#secret-secret`, w.TablesKey))
	n.act(browser.Click("Store and check"), browser.Gone(`#secret-secret`), browser.See("signed in as Ottermere Clayworks"))
	n.pick("append-workbook", "Counter")
	n.pick("append-tab", "Calls")
	n.act(browser.Press(`//*[@role="group"][@aria-label="Suggested"]//button[starts-with(normalize-space(.), "take all")]`), browser.See("Draft saved"))
	n.act(browser.Click("Rehearse"), browser.See("Nothing was sent."), browser.See("+440000000000"))
	require.Empty(t, w.Tables.Rows(tables.CallsTab), "a rehearsal sends nothing")
	n.act(browser.Click("Go live…"), browser.See("What it will do"))
	n.act(browser.Click("Put it live"), browser.See("Live, revision 1"))

	sent, err = w.Report(within(t, time.Minute), calls[1:2])
	require.NoError(t, err)
	require.Equal(t, 202, sent[0].Status)
	w.Client, err = w.NewClient(w.Token)
	require.NoError(t, err)
	ended, err := w.Wait(within(t, 20*time.Second), sent[0].Run)
	require.NoError(t, err)
	require.Equal(t, "succeeded", string(ended.Run.State))
	require.Len(t, w.Tables.Rows(tables.CallsTab), 1)
	n.act(browser.Click("Runs"), browser.See("Succeeded"))
	t.Logf("%d interactions", n.did)
	require.LessOrEqual(t, n.did, 60)
}

// The same from a call that was pasted out of documentation.
func TestANewcomerGoesLiveOnAPastedCall(t *testing.T) {
	t.Parallel()
	w := world(t, everything, func(o *ottermere.Options) { o.Bare = true })
	n := &newcomer{t: t, page: console(t, w)}
	figures := w.Stand("statistics")
	n.act(browser.Press(`//a[contains(., "I have a key")]`), browser.See("Find the application"))
	n.act(browser.Click("Paste a call from its documentation"))
	n.act(browser.Type("#pasted", "curl '"+figures.Base+"/v1/series/gas?days=7' -H 'Authorization: Bearer "+figures.Values["secret"]+"'"))
	n.act(browser.Click("Read it"), browser.See("Found and taken out"))
	n.act(browser.Click("Keep it"), browser.See("The secret is kept in the connection"))
	n.act(browser.Click("Try it"), browser.See("That is real data"))
	n.act(browser.Click("Make a workflow that begins with it"), browser.See("When somebody starts it"))
	n.act(browser.Click("Rehearse"), browser.See("Nothing was sent."), browser.See("1 real read"))
	n.act(browser.Click("Go live…"), browser.See("What it will do"))
	n.act(browser.Click("Put it live"), browser.See("Live, revision 1"))
	n.act(browser.Click("Start"), browser.Wait(`[role=gridcell]`), browser.See("Succeeded"))
	t.Logf("%d interactions", n.did)
	require.LessOrEqual(t, n.did, 60)
	client, err := w.NewClient(w.Token)
	require.NoError(t, err)
	runs, err := ottermere.Answer[api.RunPage](client.ListRuns(within(t, 10*time.Second), nil))
	require.NoError(t, err)
	require.Len(t, runs.Runs, 1)
	require.EqualValues(t, "succeeded", runs.Runs[0].State)
}
