package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/demo"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

// Every workflow of the demo starts from its page, by what is visible there: at
// once, or from a sample.
func TestEveryDemoWorkflowStartsFromItsPage(t *testing.T) {
	t.Parallel()
	w := world(t, all)
	ctx := within(t, 3*time.Minute)
	page := console(t, w)
	list, err := ottermere.Answer[client.WorkflowPage](w.Client.ListWorkflows(ctx, nil))
	require.NoError(t, err)
	require.Greater(t, len(list.Workflows), 10)
	for _, x := range list.Workflows {
		do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/"+x.Name))
		if len(demo.Samples[x.Name]) == 0 {
			do(t, page, browser.Click("Start"))
		} else {
			samples, err := ottermere.Answer[client.Samples](w.Client.ListSamples(ctx, x.Name))
			require.NoError(t, err)
			require.NotEmpty(t, samples.Samples[0].Label)
			do(t, page, browser.Click("Start…"), browser.Choose("#start-from", samples.Samples[0].Label), browser.Click("Start"))
		}
		do(t, page, browser.Wait(`h1 a[href="/workflows/`+x.Name+`"]`))
		ended, err := w.Wait(ctx, runShown(t, page))
		require.NoError(t, err)
		require.Equal(t, "succeeded", string(ended.Run.State), "%s: %+v", x.Name, ended.Run)
	}
}

// runShown is the run whose page is open. What follows in its address is the item
// that is chosen, which the page may choose by itself.
func runShown(t *testing.T, page context.Context) uuid.UUID {
	t.Helper()
	var at string
	do(t, page, chromedp.Evaluate("location.pathname", &at))
	id, err := uuid.Parse(strings.TrimPrefix(at, "/runs/"))
	require.NoError(t, err, at)
	return id
}

// What a start lacks is said beneath its field, nothing is lost, and a run can be
// started again with what it started with.
func TestAStartAsksForWhatItNeeds(t *testing.T) {
	t.Parallel()
	w := world(t, all)
	page := console(t, w)
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/glaze-lab"), browser.Click("Start…"),
		browser.Type("#start-glaze", "Ash white"), browser.Click("Start"), browser.See("Cone is required and empty"))
	var glaze string
	do(t, page, chromedp.Value("#start-glaze", &glaze, chromedp.ByQuery))
	require.Equal(t, "Ash white", glaze)
	do(t, page, browser.Choose("#start-cone", "9"), browser.Click("Start"), browser.Wait(`h1 a[href="/workflows/glaze-lab"]`), browser.See("Ash white"))
	first := runShown(t, page)
	do(t, page, browser.Click("Start again"), browser.Until("the page of another run", `location.pathname !== "/runs/`+first.String()+`"`), browser.See("Ash white"))
	require.NotEqual(t, first, runShown(t, page))

	base := w.Service.Address + "/api/v1/workflows/"
	refused := func(workflow, body string) string {
		status, answer := request(t, "POST", base+workflow+"/start", w.Token, []byte(body))
		require.GreaterOrEqual(t, status, 400, answer)
		return answer
	}
	require.Contains(t, refused("glaze-lab", `{}`), "Glaze is required and empty")
	require.Contains(t, refused("glaze-lab", `{"items": [{"glaze": "Tenmoku", "cone": "9"}, {"glaze": "Tenmoku", "cone": "7"}]}`), "Item 2: Cone is 7")
	run := first.String()
	require.Contains(t, refused("kiln-list", `{"again": "`+run+`"}`), "its own workflow")
	require.Contains(t, refused("glaze-lab", `{"again": "`+run+`", "items": [{}]}`), "no other items")
	require.Contains(t, refused("glaze-lab", `{"again": "`+uuid.NewString()+`"}`), "nothing with this name or id")
}
