package test

import (
	"context"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/switchboard"
	"youngtrellis/internal/standins/tables"
)

// console opens the console of a world, signed in.
func console(t *testing.T, w *ottermere.World) context.Context {
	t.Helper()
	page, stop, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(func() {
		if t.Failed() && os.Getenv("TRELLIS_PICTURE") != "" {
			var png []byte
			if browser.Within(5*time.Second, page, chromedp.CaptureScreenshot(&png)) == nil {
				_ = os.WriteFile(os.Getenv("TRELLIS_PICTURE"), png, 0o600)
			}
		}
		stop()
	})
	do(t, page, browser.SignIn(w.Service.Address, w.Email, w.Password))
	return page
}

func do(t *testing.T, page context.Context, actions ...chromedp.Action) {
	t.Helper()
	require.NoError(t, browser.Within(25*time.Second, page, actions...))
}

// within the chosen line, by the label of a field.
func editor(label string) string {
	return `[role=treeitem][aria-selected=true] [aria-label="` + label + `"]`
}

// A newcomer connects the accounts, builds the counter's workflow from nothing,
// rehearses it, puts it live, and sees calls arrive.
func TestANewcomerBuildsTheSliceByHand(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	page := console(t, w)
	connect := func(title, base, secret string) {
		do(t, page, browser.Click("Add a connection"), browser.Press(`//button[.//span[normalize-space(.)="`+title+`"]]`),
			browser.Type(`#account-address`, base), browser.Type(`#secret-secret`, secret), browser.Click("Store and check"), browser.Gone(`#secret-secret`))
	}
	do(t, page, browser.Click("Connections"), browser.See("No account is connected yet"))
	connect("Tables", w.TablesBase, w.TablesKey)
	do(t, page, browser.See("signed in as Ottermere Clayworks, plan workshop"))
	connect("Contacts", w.ContactsBase, w.ContactsKey)
	do(t, page, browser.See("signed in as Ottermere Clayworks, front desk"))

	do(t, page, browser.Click("Workflows"), browser.See("What should happen?"), browser.Click("New workflow"), browser.Type(`#title`, "Counter calls"), browser.Click("Make it"), browser.See("Whenever"))
	do(t, page, browser.Press(`(//*[@role="treeitem"])[1]//button`), browser.Click("Make its secret"))
	require.NoError(t, browser.Within(20*time.Second, page, browser.Text(`[data-testid=hook-secret]`, &w.HookSecret), browser.Text(`[data-testid=hook-address]`, &w.HookAddress)))
	do(t, page, browser.Click("Take the next call"), browser.See("Waiting for the next call"))
	calls := switchboard.Fourteen(time.Now(), "hand")
	sent, err := w.Report(context.Background(), calls[:1])
	require.NoError(t, err)
	require.Equal(t, 202, sent[0].Status)
	do(t, page, browser.See("call-hand-01"), browser.Type(editor("Once for each"), "item.call_id"), browser.See("call-hand-01"))

	add := func(what string) {
		do(t, page, browser.Type(`input[placeholder^="Say what"]`, what), browser.Wait(`[cmdk-item]`), browser.Keys("Enter"), browser.Wait(`[role=treeitem][aria-selected=true]`))
	}
	add("Keep only some")
	do(t, page, browser.Type(editor("Keep an item where"), "item.duration_s >= 20"), browser.See("Keep items where duration s is at least 20"))
	add("Find or make")
	do(t, page, browser.Type(editor("Telephone number"), "(= item.number ?? item.shown_number )"), browser.Type(editor("Name if it is new"), "(= item.caller )"), browser.Click("More…"))
	choose := func(id, value string) {
		do(t, page, chromedp.Evaluate(`(() => { const s = document.querySelector('#`+id+`'); const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set; set.call(s, '`+value+`'); s.dispatchEvent(new Event('change', {bubbles: true})); })()`, nil))
	}
	choose("find_or_make-output", "under")
	choose("find_or_make-on_error", "set_aside")
	do(t, page, browser.Wait(`#find_or_make-under`))
	add("Add a row")
	pick := func(id, name string) {
		do(t, page, browser.Press(`#`+id), browser.Press(`//*[@cmdk-item][contains(., "`+name+`")]`), browser.Gone(`[cmdk-item]`))
	}
	pick("append-workbook", "Counter")
	pick("append-tab", "Calls")
	for column, expression := range map[string]string{"number": "(= item.find_or_make.phone )", "name": "(= item.find_or_make.name )"} {
		do(t, page, browser.Press(`//*[@role="treeitem"][@aria-selected="true"]//button[normalize-space(.)="`+column+`"]`), browser.Type(editor("Values: "+column), expression))
	}
	do(t, page, browser.Settle(), browser.Click("Rehearse"), browser.See("Nothing was sent."), browser.See("Add a row to Calls in Counter"))
	require.Empty(t, w.Tables.Rows(tables.CallsTab), "a rehearsal sends nothing")
	do(t, page, browser.See(`{"values":{"name":"Xxxxxxxxxx Xxxxxxx"`))
	do(t, page, browser.Click("Go live…"), browser.See("What it will do"), browser.See("No sample has a field"), browser.Tick(), browser.Click("Put it live"), browser.See("Live, revision 1"))

	sent, err = w.Report(context.Background(), calls)
	require.NoError(t, err)
	w.Client, err = w.NewClient(w.Token)
	require.NoError(t, err)
	for _, s := range sent {
		require.Equal(t, 202, s.Status)
		_, err := w.Wait(within(t, 20*time.Second), s.Run)
		require.NoError(t, err)
	}
	require.Len(t, w.Tables.Rows(tables.CallsTab), 9)
	document, err := ottermere.Answer[client.Workflow](w.Client.GetWorkflow(context.Background(), "counter-calls"))
	require.NoError(t, err)
	require.Contains(t, document.Document, "name: Counter", "a picked value keeps id and name")

	do(t, page, browser.Press(`//nav//a[normalize-space(.)="Runs"]`), browser.See("Partial: 1 set aside"), browser.Press(`//tr[.//*[contains(text(), "1 set aside")]]//a`),
		browser.See("Started by a call"), browser.Press(`[aria-label*="set aside"][role=gridcell]`), browser.See("it is written as +441632960142"))
}

// The lattice of a long run is read in windows and moves by keyboard.
func TestTheLatticeOfALongRun(t *testing.T) {
	t.Parallel()
	w := world(t)
	w.Tables.Fill(1200, time.Now())
	page := console(t, w)
	started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(context.Background(), "kiln-list", client.Items{}))
	require.NoError(t, err)
	do(t, page, chromedp.Navigate(w.Service.Address+"/runs/"+started.Run.String()), browser.See("Tile 1"))
	r, err := w.Wait(within(t, time.Minute), started.Run)
	require.NoError(t, err)
	require.Equal(t, 1200, r.Run.Counts.Through)
	do(t, page, browser.See("Succeeded"), browser.See("all 1,200"), browser.See("and 1,199 alike"), browser.Click("+1,200"), browser.Settle(), browser.Press(`[role=grid] [role=gridcell]`), browser.Keys("ArrowDown"), browser.See("Tile 2, Lowlight Tileworks when it came here"))
	do(t, page, browser.Keys("End"), browser.See("Tile 1200"), browser.See("Tile 1200, Lowlight Tileworks when it came here"))
	var rendered int
	do(t, page, chromedp.Evaluate(`document.querySelectorAll("[role=row]").length`, &rendered))
	require.Less(t, rendered, 80, "only rows in sight are in the page")
}

// Trouble far down a long lattice is one key away, wherever the focus is.
func TestTroubleIsOneKeyAway(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	text := "format: young-trellis/1\nname: far\nlabel: item.name\ntrigger: {type: manual}\nsteps:\n  - {name: a, type: filter, settings: {where: item.n % 2 == 0}}\n  - {name: b, type: shape, on_error: set_aside, settings: {set: {y: \"(= 1 / (item.n - 2500) )\"}}}\n"
	_, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(ctx, client.Document{Document: text}))
	require.NoError(t, err)
	_, err = ottermere.Answer[client.Workflow](w.Client.GoLive(ctx, "far", nil))
	require.NoError(t, err)
	items := make([]client.Fields, 3000)
	for i := range items {
		items[i] = client.Fields(fmt.Sprintf(`{"n": %d, "name": "Piece %d"}`, i, i))
	}
	started, err := ottermere.Answer[client.Started](w.Client.StartWorkflow(ctx, "far", client.Items{Items: &items}))
	require.NoError(t, err)
	_, err = w.Wait(within(t, time.Minute), started.Run)
	require.NoError(t, err)
	page := console(t, w)
	do(t, page, chromedp.Navigate(w.Service.Address+"/runs/"+started.Run.String()), browser.See("Piece 2500 when it came here"), browser.See("division by 0"))
	do(t, page, browser.Press(`[role=grid] [role=gridcell]`), browser.Keys("Home"), browser.See("As it arrived"), browser.See("Piece 0"), browser.Keys("n"), browser.See("Piece 2500 when it came here"))
	do(t, page, browser.Keys("Home"), browser.See("Piece 0 when it came here"), browser.Keys("Tab"), browser.Keys("n"), browser.See("Piece 2500 when it came here"))
}
