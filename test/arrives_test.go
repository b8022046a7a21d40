package test

import (
	"net/http"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

// A sample of a real call is without what is personal in it, unless somebody wants that.
func TestASampleOfARealCallIsMasked(t *testing.T) {
	t.Parallel()
	ctx := within(t, time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	at := answers(ctx, t, w, "calls", "", "  - {name: told, type: answer, settings: {body: \"(= item.caller )\"}}")
	body := `{"call_id": "c1", "caller": "Hollowbank Pottery", "number": "+441632960141", "mail": "ada@ottermere.example", "duration_s": 184}`
	kept := api.TakeSampleParamsPersonalKept
	for _, c := range []struct {
		params api.TakeSampleParams
		want   string
		source string
	}{
		{api.TakeSampleParams{}, `{"call_id":"c1","caller":"Xxxxxxxxxx Xxxxxxx","duration_s":184,"mail":"xxx@example.com","number":"+440000000000"}`, "taken from a real call, masked: caller, mail and number"},
		{api.TakeSampleParams{Personal: &kept}, `{"call_id":"c1","caller":"Hollowbank Pottery","duration_s":184,"mail":"ada@ottermere.example","number":"+441632960141"}`, "taken from a real call"},
	} {
		res, err := w.Client.TakeSample(ctx, "calls", &c.params)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, 202, res.StatusCode)
		require.Equal(t, "Hollowbank Pottery", ask(ctx, t, http.MethodPost, at, body).body, "its run gets what came")
		list, err := ottermere.Answer[api.Samples](w.Client.ListSamples(ctx, "calls"))
		require.NoError(t, err)
		newest := list.Samples[len(list.Samples)-1]
		require.JSONEq(t, c.want, string(newest.Fields))
		require.Equal(t, c.source, newest.Source)
	}
}

// A test call comes in as any call does, proven in each way.
func TestATestCallComesThroughTheSameDoor(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, apart)
	for name, settings := range map[string]string{"by-bearer": "{}", "by-password": "{verify: basic, user: kiln}", "by-signature": `{verify: signature, header: X-Kiln-Signature, signed: "{time}.{id}.{body}", time_header: X-Kiln-Time, id_header: X-Kiln-Delivery}`, "by-a-standard": "{verify: standard}", "put": "{methods: [PUT]}"} {
		called(ctx, t, w, name, settings)
		_, err := ottermere.Answer[api.TestedCall](w.Client.TestCall(ctx, name, api.TestCallJSONRequestBody{}))
		require.ErrorContains(t, err, "none has been made yet", name)
		_, err = ottermere.Answer[api.MadeSecret](w.Client.MakeHookSecret(ctx, name, api.MakeHookSecretJSONRequestBody{}))
		require.NoError(t, err)
		got, err := ottermere.Answer[api.TestedCall](w.Client.TestCall(ctx, name, api.TestCallJSONRequestBody{}))
		require.NoError(t, err, name)
		require.Equal(t, 202, got.Status, "%s: %s", name, got.Said)
		require.NotNil(t, got.Run, name)
		_, err = w.Wait(ctx, *got.Run)
		require.NoError(t, err)
	}
	out, code := command(t, w, `{"who": "Ada"}`, "workflow", "call", "by-bearer", "--file", "-")
	require.Zero(t, code, out)
	require.Contains(t, out, `{"who":"Ada"}`)
	require.Contains(t, out, "answered  202")
	out, code = command(t, w, "", "workflow", "call", "by-bearer", "--sample", "x")
	require.Equal(t, 2, code, out)
	formed(ctx, t, w, "hall", "fields: [{name: who, type: string}]", answered)
	_, err := ottermere.Answer[api.TestedCall](w.Client.TestCall(ctx, "hall", api.TestCallJSONRequestBody{}))
	require.ErrorContains(t, err, "A form is opened at its address")
}

// Who builds for the first time has a sample of a real call within a minute, told what to
// try while none comes, and why one was refused.
func TestANewcomerGetsASampleOfARealCall(t *testing.T) {
	t.Parallel()
	ctx := within(t, 3*time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	p := console(t, w)
	began := time.Now()
	do(t, p, browser.Press(`//button[contains(., "Something calls me")]`), browser.See("Its address"))
	do(t, p, browser.Click("Make its secret"), browser.See("The secret, shown this once"))
	var address, secret string
	do(t, p, browser.Text(`[data-testid="hook-address"]`, &address), browser.Text(`[data-testid="hook-secret"]`, &secret))
	do(t, p, browser.Click("Take the next call"), browser.See("Waiting for the next call"), browser.See("Nothing comes? Send a test call above."))
	require.Equal(t, 404, ask(ctx, t, http.MethodPost, address, `{"call_id": "c1"}`).status)
	do(t, p, browser.See("A call was refused, the call had no Authorization header"))
	require.Equal(t, 202, ask(ctx, t, http.MethodPost, address, `{"call_id": "c-one", "caller": "Ada Fen"}`, "Authorization", "Bearer "+secret).status)
	do(t, p, browser.See("c-one"), browser.Gone(`//*[contains(., "Waiting for the next call") and @role="status"]`))
	require.Less(t, time.Since(began), time.Minute)
	var shown string
	do(t, p, chromedp.Evaluate(`document.body.innerText`, &shown))
	require.NotContains(t, shown, "Ada Fen", "it is masked")

	// And with nobody on the other side at all.
	do(t, p, browser.Click("Take the next call"), browser.See("Waiting for the next call"), browser.Click("Send a test call"), browser.See("Answered 202"))
	eventually(t, "the second sample", 20*time.Second, func() bool {
		list, err := ottermere.Answer[api.WorkflowPage](w.Client.ListWorkflows(ctx, nil))
		if err != nil || len(list.Workflows) != 1 {
			return false
		}
		samples, err := ottermere.Answer[api.Samples](w.Client.ListSamples(ctx, list.Workflows[0].Name))
		return err == nil && len(samples.Samples) == 2
	})
}
