package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// What calls while a workflow is paused is kept; once it goes on it starts in its order,
// or is dismissed, as somebody says.
func TestCallsAreKeptWhileAWorkflowIsPaused(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, time.Minute)
	const document = "format: young-trellis/1\nname: calls\nlabel: item.n\ntrigger: {type: webhook, settings: {verify: none}}\nsteps:\n  - {name: told, type: shape, settings: {set: {n: (= item.n )}}}\n"
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: document}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "calls", &api.GoLiveParams{}))
	require.NoError(t, err)
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "calls"))
	require.NoError(t, err)
	call := func(n int) string {
		res, err := http.Post(sheet.Address, "application/json", strings.NewReader(fmt.Sprintf(`{"n": %d}`, n)))
		require.NoError(t, err)
		defer res.Body.Close()
		var said map[string]any
		require.NoError(t, json.NewDecoder(res.Body).Decode(&said))
		require.Equal(t, 202, res.StatusCode, said)
		return fmt.Sprint(said)
	}
	labels := func() (out []string) {
		name := "calls"
		page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name}))
		require.NoError(t, err)
		for i := len(page.Runs) - 1; i >= 0; i-- {
			out = append(out, page.Runs[i].Label)
		}
		return out
	}
	_, code := said(t, w, "", "workflow", "pause", "calls")
	require.Zero(t, code)
	for n := range 6 {
		require.Contains(t, call(n), "kept")
	}
	shown, err := ottermere.Answer[api.Workflow](w.Client.GetWorkflow(ctx, "calls"))
	require.NoError(t, err)
	require.Equal(t, 6, *shown.Kept)
	require.Equal(t, "6 calls kept meanwhile", *shown.Standing.Why)
	out, code := said(t, w, "", "workflow", "start", "calls", "--set", "n=9")
	require.Equal(t, 5, code)
	require.Contains(t, out, "is paused. To start it all the same say so: while_paused, on the command line --while-paused. It stays paused.")
	out, code = said(t, w, "", "workflow", "start", "calls", "--set", "n=9", "--while-paused", "--watch")
	require.Zero(t, code, out)
	out, code = said(t, w, "", "workflow", "unpause", "calls")
	require.Equal(t, 5, code)
	require.Contains(t, out, "6 calls were kept while it was paused. Say whether they start now")
	_, code = said(t, w, "", "workflow", "unpause", "calls", "--kept", "both")
	require.Equal(t, 2, code)
	_, code = said(t, w, "", "workflow", "unpause", "calls", "--kept", "start")
	require.Zero(t, code)
	eventually(t, "they start in their order", 20*time.Second, func() bool { return strings.Join(labels(), " ") == "9 0 1 2 3 4 5" })

	_, code = said(t, w, "", "workflow", "pause", "calls")
	require.Zero(t, code)
	require.Contains(t, call(6), "kept")
	out, code = said(t, w, "", "workflow", "live", "calls", "--kept", "dismiss")
	require.Zero(t, code, out)
	require.Contains(t, call(7), "run")
	eventually(t, "what is new starts", 20*time.Second, func() bool { return strings.Join(labels(), " ") == "9 0 1 2 3 4 5 7" })
}
