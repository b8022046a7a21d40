package test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/browser"
)

// What is as it should be writes no error into the browser's console: a page
// before anybody signed in, and a workflow that was never rehearsed.
func TestNothingIsLoggedWhereNothingIsWrong(t *testing.T) {
	t.Parallel()
	w := world(t)
	page, stop, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	t.Cleanup(stop)
	var mu sync.Mutex
	var logged []string
	chromedp.ListenTarget(page, func(e any) {
		mu.Lock()
		defer mu.Unlock()
		switch e := e.(type) {
		case *log.EventEntryAdded:
			if e.Entry.Level == log.LevelError {
				logged = append(logged, e.Entry.Text+" "+e.Entry.URL)
			}
		case *runtime.EventConsoleAPICalled:
			if e.Type == runtime.APITypeError {
				logged = append(logged, "an error of the page")
			}
		case *runtime.EventExceptionThrown:
			logged = append(logged, e.ExceptionDetails.Error())
		}
	})
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows"), browser.Wait("input[type=password]"))
	do(t, page, browser.SignIn(w.Service.Address, w.Email, w.Password))
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/kiln-list"), browser.See("Rehearse"), browser.Wait(`[role=treeitem]`))
	// What is logged arrives in order: this one closes the list.
	do(t, page, chromedp.Evaluate(`console.error("the end")`, nil))
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(logged) > 0 && logged[len(logged)-1] == "an error of the page"
	}, 10*time.Second, 20*time.Millisecond)
	mu.Lock()
	defer mu.Unlock()
	require.Len(t, logged, 1, "%v", logged)
}
