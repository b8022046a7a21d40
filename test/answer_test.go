package test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// answers makes a workflow live with an open webhook and these steps, and gives its
// address.
func answers(ctx context.Context, t *testing.T, w *ottermere.World, name, settings, steps string) string {
	t.Helper()
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: "format: young-trellis/1\nname: " + name + "\ntrigger: {type: webhook, settings: {verify: none" + settings + "}}\nsteps:\n" + steps}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{}))
	require.NoError(t, err)
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, name))
	require.NoError(t, err)
	return sheet.Address
}

// followsNothing calls without following where it is sent.
var followsNothing = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

type heard struct {
	status int
	header http.Header
	body   string
}

func ask(ctx context.Context, t *testing.T, method, address, body string, header ...string) heard {
	t.Helper()
	r, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	got, err := followsNothing.Do(r)
	require.NoError(t, err)
	defer got.Body.Close()
	text, err := io.ReadAll(got.Body)
	require.NoError(t, err)
	return heard{got.StatusCode, got.Header, string(text)}
}

func TestACallerIsAnsweredByItsRun(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	at := answers(ctx, t, w, "glaze-price", ", key: item.n", `
  - {name: far, type: filter, settings: {where: item.n < 100}}
  - {name: fail, type: stop, off: true, settings: {as: failure, message: no}}
  - name: way
    type: branch
    settings:
      cases:
        - {name: redirect, when: item.n == 1, steps: [{name: there, type: answer, settings: {status: 303, headers: {Location: "https://ottermere.example/(= item.n )"}}}]}
        - {name: text, when: item.n == 2, steps: [{name: said, type: answer, settings: {status: 418, headers: {X-Kiln: "(= item.n )", Retry-After: 7, Cache-Control: no-cache}, body: "a (= item.n )"}}]}
        - {name: xml, when: item.n == 3, steps: [{name: xml, type: answer, settings: {headers: {content-type: application/xml}, body: "<n>3</n>"}}]}
        - {name: none, when: item.n == 4, steps: [{name: none, type: answer, settings: {status: 204}}]}
        - {name: page, when: item.n == 5, steps: [{name: page, type: answer, settings: {page: "Hello <b>5</b>", text: "**bold** <script>document.title = 'x'</script> [run](javascript:1)", rows: [{text: Fri, link: "https://ottermere.example/"}]}}]}
        - {name: fails, when: item.n == 6, steps: [{name: ends, type: stop, settings: {as: failure, message: no glaze}}]}
      else: [{name: json, type: answer, settings: {body: {n: "(= item.n )", big: 9007199254740993, when: "(= time(\"2026-12-04\") )"}}}]`)
	call := func(n int) heard { return ask(ctx, t, http.MethodPost, at, fmt.Sprintf(`{"n": %d}`, n)) }

	got := call(0)
	require.Equal(t, 200, got.status)
	require.Equal(t, "application/json", got.header.Get("Content-Type"))
	require.Equal(t, `{"big":9007199254740993,"n":0,"when":"2026-12-04T00:00:00Z"}`, got.body, "whole numbers as they are")
	require.Equal(t, "nosniff", got.header.Get("X-Content-Type-Options"))
	require.Contains(t, got.header.Get("Content-Security-Policy"), "sandbox")
	require.Equal(t, "no-store", got.header.Get("Cache-Control"))
	require.Equal(t, got.body, call(0).body, "a repeat gets the same")

	told, err := ottermere.Answer[api.Run](w.Client.GetRun(ctx, latestRun(ctx, t, w, "glaze-price").Id))
	require.NoError(t, err)
	require.NotNil(t, told.Answer)
	require.Equal(t, "200 0 json", fmt.Sprint(told.Answer.Status, " ", told.Answer.Item, " ", told.Answer.Step), "and whoever looks at the run sees it")

	got = call(1)
	require.Equal(t, 303, got.status)
	require.Equal(t, "https://ottermere.example/1", got.header.Get("Location"))
	got = call(2)
	require.Equal(t, 418, got.status)
	require.Equal(t, []string{"2", "7", "no-cache", "a 2", "text/plain; charset=utf-8"}, []string{got.header.Get("X-Kiln"), got.header.Get("Retry-After"), got.header.Get("Cache-Control"), got.body, got.header.Get("Content-Type")})
	got = call(3)
	require.Equal(t, "application/xml", got.header.Get("Content-Type"))
	require.Equal(t, "<n>3</n>", got.body)
	got = call(4)
	require.Equal(t, 204, got.status)
	require.Empty(t, got.body)
	got = call(5)
	require.Equal(t, 200, got.status)
	require.Equal(t, "text/html; charset=utf-8", got.header.Get("Content-Type"))
	require.Contains(t, got.header.Get("Content-Security-Policy"), "sandbox allow-forms")
	require.NotContains(t, got.header.Get("Content-Security-Policy"), "script-src", "nothing runs beside the console")
	require.Contains(t, got.body, "Hello &lt;b&gt;5&lt;/b&gt;")
	require.Contains(t, got.body, "<strong>bold</strong>")
	require.NotContains(t, got.body, "<script>document")
	require.NotContains(t, got.body, "javascript:")
	got = call(6)
	require.Equal(t, 500, got.status)
	run := latestRun(ctx, t, w, "glaze-price")
	require.Contains(t, got.body, run.Id.String(), "it names the run")
	require.Equal(t, got.body, call(6).body)
	require.Equal(t, 204, call(100).status, "no item came to an answer")
}

// latestRun is the newest run of a workflow.
func latestRun(ctx context.Context, t *testing.T, w *ottermere.World, name string) api.RunSummary {
	t.Helper()
	list, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name}))
	require.NoError(t, err)
	require.NotEmpty(t, list.Runs)
	return list.Runs[0]
}

// What takes longer, and what waits by itself, is answered at an address of its own.
func TestAnAnswerThatTakesLongerIsFoundAtItsAddress(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	slow := answers(ctx, t, w, "slow", ", key: item.n, answer_within: 30s", `
  - {name: later, type: wait, settings: {until: item.until}}
  - {name: told, type: answer, settings: {body: "(= item.n )"}}`)
	until := time.Now().Add(40 * time.Second).UTC()
	body := fmt.Sprintf(`{"n": 7, "until": %q}`, until.Format(time.RFC3339))
	began := time.Now()
	got := ask(ctx, t, http.MethodPost, slow, body)
	require.Equal(t, 202, got.status)
	require.Less(t, time.Since(began), 25*time.Second, "it waits itself, so nobody waits for it")
	at := got.header.Get("Location")
	require.Contains(t, got.body, at)
	require.Equal(t, "2", got.header.Get("Retry-After"))
	require.Equal(t, at, ask(ctx, t, http.MethodPost, slow, body).header.Get("Location"), "a repeat is told the same address")
	eventually(t, "the answer", 90*time.Second, func() bool {
		got = ask(ctx, t, http.MethodGet, at, "")
		return got.status != 202
	})
	require.Equal(t, 200, got.status)
	require.Equal(t, "7", got.body)
	require.Equal(t, "7", ask(ctx, t, http.MethodPost, slow, body).body, "and a repeat now gets it at once")
	require.Equal(t, 404, ask(ctx, t, http.MethodGet, at[:len(at)-1]+"x", "").status)

	quick := answers(ctx, t, w, "quick", ", answer_within: 0s", `
  - {name: told, type: answer, settings: {body: "(= item.n )"}}`)
	got = ask(ctx, t, http.MethodPost, quick, `{"n": 8}`)
	require.Equal(t, 202, got.status, "it is answered at once")
	require.Equal(t, "8", ask(ctx, t, http.MethodGet, got.header.Get("Location"), "").body)
}

// The same start at the same time, from many sides, has one run and one answer.
func TestManyCallersOfOneKeyGetOneAnswer(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	at := answers(ctx, t, w, "many", ", key: item.n", `
  - {name: told, type: answer, settings: {body: "(= item.n ) (= run.id )"}}`)
	var mu sync.Mutex
	said := map[string]int{}
	var wait sync.WaitGroup
	for i := range 200 {
		wait.Go(func() {
			got := ask(ctx, t, http.MethodPost, at, fmt.Sprintf(`{"n": %d}`, i%10))
			mu.Lock()
			defer mu.Unlock()
			said[fmt.Sprint(got.status, " ", got.body)]++
		})
	}
	wait.Wait()
	require.Len(t, said, 10, "%v", said)
	for text, n := range said {
		require.Equal(t, 20, n, text)
	}
}

// A check warns of an answer that nobody waits for.
func TestAnAnswerThatNobodyHearsIsWarnedOf(t *testing.T) {
	t.Parallel()
	ctx := within(t, time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	made, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: "format: young-trellis/1\nname: unheard\ntrigger: {type: manual}\nsteps:\n  - {name: told, type: answer, settings: {body: x}}\n"}))
	require.NoError(t, err)
	require.Len(t, made.Problems, 1)
	require.Contains(t, made.Problems[0].Message, "nobody waits for an answer")
}

// A workflow is called by a path of its own, once it is live, by callers who prove
// themselves; no other workflow can have it.
func TestAnAddressMayHaveAPathOfItsOwn(t *testing.T) {
	t.Parallel()
	ctx := within(t, time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	at := answers(ctx, t, w, "glaze-price", "", "  - {name: told, type: answer, settings: {body: x}}")
	require.NotContains(t, at, "glaze-price")
	text := func(name, trigger string) api.Document {
		return api.Document{Document: "format: young-trellis/1\nname: " + name + "\ntrigger: " + trigger + "\nsteps:\n  - {name: told, type: answer, settings: {body: \"from " + name + "\", page: \"from " + name + "\"}}\n"}
	}
	live := func(name, trigger string) error {
		_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, text(name, trigger)))
		require.NoError(t, err)
		_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{}))
		return err
	}
	require.NoError(t, live("prices", "{type: webhook, settings: {path: prices}}"))
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "prices"))
	require.NoError(t, err)
	require.Contains(t, sheet.Address, "/hooks/prices")
	made, err := ottermere.Answer[api.MadeSecret](w.Client.MakeHookSecret(ctx, "prices", api.MakeHookSecretJSONRequestBody{}))
	require.NoError(t, err)
	got := ask(ctx, t, http.MethodPost, sheet.Address, `{}`, "Authorization", "Bearer "+*made.Secret)
	require.Equal(t, "from prices", got.body)
	wrong := ask(ctx, t, http.MethodPost, sheet.Address, `{}`, "Authorization", "Bearer wrong")
	nobody := ask(ctx, t, http.MethodPost, sheet.Address+"-too", `{}`)
	require.Equal(t, 404, wrong.status)
	require.Equal(t, wrong.body, nobody.body, "nobody learns which paths there are")

	require.ErrorContains(t, live("others", "{type: form, settings: {path: prices, fields: [{name: who, type: string}]}}"), "Another workflow has the path")
	require.ErrorContains(t, live("open", "{type: webhook, settings: {path: open, verify: none}}"), "errors")
	require.NoError(t, live("hall", "{type: form, settings: {path: kiln-hall, fields: [{name: who, type: string}]}}"))
	sheet, err = ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "hall"))
	require.NoError(t, err)
	require.Contains(t, sheet.Address, "/forms/kiln-hall")
	sent := sends(ctx, t, sheet.Address, opens(ctx, t, sheet.Address), "who", "Ada")
	require.Contains(t, ask(ctx, t, http.MethodGet, sent.header.Get("Location"), "", "Accept", "text/html").body, "from hall")
}
