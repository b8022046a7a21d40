package test

import (
	"context"
	"testing"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/browser"
)

// The console needs nothing that its policy forbids: no style or script that stands in
// the page or is put into it by script without the nonce of this answer. What is made
// while it runs looks as it should all the same.
func TestTheConsoleKeepsItsPolicy(t *testing.T) {
	t.Parallel()
	w := world(t)
	tab, stop, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(stop)
	do(t, tab, chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(`window.forbidden = []; document.addEventListener("securitypolicyviolation", (e) => window.forbidden.push(e.violatedDirective + " " + e.blockedURI + " " + e.sample))`).Do(ctx)
		return err
	}))
	kept := func(where string) {
		t.Helper()
		var forbidden []string
		do(t, tab, browser.Settle(), chromedp.Evaluate("window.forbidden", &forbidden))
		require.Empty(t, forbidden, where)
	}
	is := func(what, script, want string) {
		t.Helper()
		var got string
		do(t, tab, chromedp.Evaluate(script, &got))
		require.Equal(t, want, got, what)
	}
	byClock(t, w)
	do(t, tab, browser.SignIn(w.Service.Address, w.Email, w.Password))
	kept("signing in")
	do(t, tab, chromedp.Navigate(w.Service.Address+"/workflows/counter-calls"), browser.Press(`(//*[@role="treeitem"])[1]//button`), browser.Wait(editor("Once for each")))
	is("an expression's cursor", `getComputedStyle(document.querySelector(".cm-editor")).position`, "relative")
	kept("a line that is open")
	do(t, tab, browser.Press(`button[aria-label="Copy the address"]`), browser.Wait("[data-sonner-toast]"))
	is("a notice", `getComputedStyle(document.querySelector("[data-sonner-toaster]")).position`, "fixed")
	kept("a notice")
	do(t, tab, browser.Click("Go live…"), browser.See("Put “Calls at the counter” live"))
	kept("going live")
	do(t, tab, browser.Click("Schedule"), browser.See("At the same minute"))
	kept("the schedule")
	do(t, tab, chromedp.Navigate(w.Service.Address+"/workflows/counter-calls"), browser.Click("Keys"), browser.Wait("[role=dialog]"))
	is("the page behind a dialog", `getComputedStyle(document.body).overflow`, "hidden")
	kept("a dialog")
	do(t, tab, browser.Keys("Escape"), browser.Click("As text"), browser.Wait(`[aria-label="The document"]`))
	is("the text of the document", `getComputedStyle(document.querySelector(".cm-gutters")).display`, "flex")
	kept("the document as text")
	for _, at := range []string{"/runs", "/mend", "/connections", "/connectors", "/start"} {
		do(t, tab, chromedp.Navigate(w.Service.Address+at), browser.Wait(`nav[aria-label="Pages"]`))
		kept(at)
	}
	var nonces []string
	for range 2 {
		var nonce string
		do(t, tab, chromedp.Reload(), browser.Wait(`nav[aria-label="Pages"]`), chromedp.Evaluate(`document.querySelector("meta[name=style-nonce]").content`, &nonce))
		nonces = append(nonces, nonce)
	}
	require.NotEqual(t, nonces[0], nonces[1], "each answer has a nonce of its own")
	// And the policy does forbid.
	var refused bool
	do(t, tab, chromedp.Evaluate(`document.head.appendChild(Object.assign(document.createElement("style"), {textContent: "body { opacity: 0.5 }"})); new Promise((done) => setTimeout(() => done(getComputedStyle(document.body).opacity === "1" && window.forbidden.length > 0), 100))`, &refused, awaiting))
	require.True(t, refused)
}
