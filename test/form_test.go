package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

// apart serves forms at a host name of their own, as the demo does.
func apart(o *ottermere.Options) { o.Bare, o.Pages = true, "localhost" }

const askedOfPotters = `[{name: who, title: Your name, type: string, required: true}, {name: mail, title: Mail, type: string, format: email}, {name: cone, title: Cone, enum: [6, 9]},
      {name: day, title: Day, type: string, format: date}, {name: hour, title: Hour, type: string, hint: time, earliest: "08:00", latest: "20:00"}, {name: days, title: Days, type: array, items: {enum: [Mon, Fri]}},
      {name: about, title: About it, type: string, hint: lines, description: What we should know.}, {name: picture, title: A picture, hint: file, up_to: 500}, {name: agreed, title: I keep to the rules, type: boolean, const: true, required: true}]`

const answered = `
  - {name: told, type: answer, settings: {page: "Thank you, (= item.who )", text: "<img src=x onerror=\"document.title='run'\"> **(= item.cone ?? \"no cone\" )**", rows: "(= [{text: \"Fri 4 Dec\", link: \"https://ottermere.example/book\", label: \"Book\"}] )", note: Lisbon time.}}`

// formed makes a workflow with a form live, and gives its address.
func formed(ctx context.Context, t *testing.T, w *ottermere.World, name, settings, steps string) string {
	t.Helper()
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: formText(name, settings, steps)}))
	require.NoError(t, err)
	return openForm(ctx, t, w, name)
}

func formText(name, settings, steps string) string {
	return "format: young-trellis/1\nname: " + name + "\ntitle: Time in the hall\ntrigger: {type: form, settings: {" + settings + "}}\nsteps:\n" + steps + "\n"
}

func openForm(ctx context.Context, t *testing.T, w *ottermere.World, name string) string {
	t.Helper()
	_, err := ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{}))
	require.NoError(t, err)
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, name))
	require.NoError(t, err)
	require.True(t, *sheet.Page && *sheet.Open)
	return sheet.Address
}

// visitor opens a browser that nobody has signed in with.
func visitor(t *testing.T, width, height int) context.Context {
	t.Helper()
	page, stop, err := browser.Open(context.Background(), width, height)
	require.NoError(t, err)
	t.Cleanup(stop)
	return page
}

var submissionID = regexp.MustCompile(`name="form-submission" value="([^"]+)"`)

// opens gives the id of a view of a form.
func opens(ctx context.Context, t *testing.T, address string) string {
	t.Helper()
	got := ask(ctx, t, http.MethodGet, address, "", "Accept", "text/html")
	require.Equal(t, 200, got.status, got.body)
	require.Equal(t, "no-store", got.header.Get("Cache-Control"))
	return submissionID.FindStringSubmatch(got.body)[1]
}

// sends fills a form in as a browser without script does.
func sends(ctx context.Context, t *testing.T, address, id string, pairs ...string) heard {
	t.Helper()
	values := url.Values{"form-submission": {id}}
	for i := 0; i < len(pairs); i += 2 {
		values.Add(pairs[i], pairs[i+1])
	}
	return ask(ctx, t, http.MethodPost, address, values.Encode(), "Content-Type", "application/x-www-form-urlencoded", "Accept", "text/html")
}

func runsOf(ctx context.Context, t *testing.T, w *ottermere.World, name string) int {
	t.Helper()
	list, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name}))
	require.NoError(t, err)
	return len(list.Runs)
}

// A person fills a form in, mends what was wrong, and reads the answer; with script and
// without.
func TestAFormInABrowserWithAndWithoutScript(t *testing.T) {
	t.Parallel()
	ctx := within(t, 3*time.Minute)
	w := world(t, apart)
	at := formed(ctx, t, w, "hall", "fields: "+askedOfPotters, answered)
	require.Contains(t, at, "http://localhost:")
	for i, script := range []bool{true, false} {
		p := visitor(t, 400, 800)
		do(t, p, emulation.SetScriptExecutionDisabled(!script), chromedp.Navigate(at), browser.See("Time in the hall"), browser.See("Ottermere Clayworks"), browser.See("UTC time."))
		// What the browser itself would not let through, the service does not either.
		do(t, p, chromedp.Evaluate(`document.querySelector("form").noValidate = true`, nil),
			chromedp.SetValue("#who", "Ada Fen"), chromedp.SetValue("#mail", "ada at home"), chromedp.SetValue("#cone", "9"), chromedp.SetValue("#hour", "22:30"), chromedp.SetValue("#about", "two\nlines"), chromedp.Click("button"),
			browser.See("3 things to mend"), browser.See("Mail is no mail address"), browser.See("Hour is 22:30; the latest is 20:00"), browser.See("“I keep to the rules” has to be ticked"))
		var who, about, cone string
		var focused, invalid bool
		do(t, p, chromedp.Value("#who", &who), chromedp.Value("#about", &about), chromedp.Value("#cone", &cone),
			chromedp.Evaluate(`document.activeElement.id === "wrongs"`, &focused), chromedp.Evaluate(`document.querySelector("#mail").getAttribute("aria-invalid") === "true" && document.querySelector("#mail").getAttribute("aria-describedby") === "mail-wrong"`, &invalid))
		require.Equal(t, []string{"Ada Fen", "two\nlines", "9"}, []string{who, strings.ReplaceAll(about, "\r", ""), cone}, "what was typed stays")
		require.Equal(t, script, focused, "the summary has the focus where a script can give it")
		require.True(t, invalid)
		do(t, p, chromedp.SetValue("#mail", "ada@ottermere.example"), chromedp.SetValue("#hour", "18:30"), chromedp.Click("label.tick:has(#agreed)"), chromedp.Click("button"), browser.See("Thank you, Ada Fen"), browser.See("9"), browser.See("Lisbon time."))
		var title, link, where string
		do(t, p, chromedp.Title(&title), chromedp.AttributeValue(".rows a", "href", &link, nil), chromedp.Location(&where))
		require.Contains(t, title, "Thank you, Ada Fen", "nothing of the answer runs")
		require.Equal(t, "https://ottermere.example/book", link)
		require.Contains(t, where, "/answers/")
		require.Equal(t, i+1, runsOf(ctx, t, w, "hall"))
		do(t, p, chromedp.Reload(), browser.See("Thank you, Ada Fen"))
		require.Equal(t, i+1, runsOf(ctx, t, w, "hall"), "loading it again sends nothing")
	}
}

// However often a form is sent, and from however many sides, it starts one run.
func TestADoubleTapOnAFormStartsOneRun(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, apart)
	at := formed(ctx, t, w, "hall", "fields: [{name: who, type: string}]", answered)
	id := opens(ctx, t, at)
	var wait sync.WaitGroup
	var mu sync.Mutex
	where := map[string]int{}
	for range 25 {
		wait.Go(func() {
			got := sends(ctx, t, at, id, "who", "Ada")
			mu.Lock()
			defer mu.Unlock()
			where[fmt.Sprint(got.status, " ", got.header.Get("Location"))]++
		})
	}
	wait.Wait()
	require.Len(t, where, 1, "%v", where)
	require.Equal(t, 1, runsOf(ctx, t, w, "hall"))

	p := visitor(t, 1280, 800)
	do(t, p, chromedp.Navigate(at), browser.Type("#who", "Mara"),
		chromedp.Evaluate(`(() => { const b = document.querySelector("button"); b.click(); b.click(); b.click(); })()`, nil), browser.See("Thank you, Mara"))
	require.Equal(t, 2, runsOf(ctx, t, w, "hall"))
}

func TestAPageThatIsOlderThanTheFormKeepsWhatWasTyped(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, apart)
	at := formed(ctx, t, w, "hall", "fields: [{name: who, title: Who, type: string, required: true}, {name: gone, type: string}]", answered)
	id := opens(ctx, t, at)
	before, err := ottermere.Answer[api.Workflow](w.Client.GetWorkflow(ctx, "hall"))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.SaveDraft(ctx, "hall", &api.SaveDraftParams{IfMatch: some(fmt.Sprint(before.Version))}, api.Document{Document: formText("hall", "fields: [{name: who, title: Who, type: string, required: true}, {name: cone, title: Cone, enum: [6, 9], required: true}]", answered)}))
	require.NoError(t, err)
	openForm(ctx, t, w, "hall")
	eventually(t, "the new form", 20*time.Second, func() bool {
		return strings.Contains(ask(ctx, t, http.MethodGet, at, "").body, "cone")
	})
	got := sends(ctx, t, at, id, "who", "Ada", "gone", "is not asked for any more")
	require.Equal(t, 422, got.status)
	require.Contains(t, got.body, "Cone: nothing is chosen")
	require.Contains(t, got.body, `value="Ada"`)
	got = sends(ctx, t, at, submissionID.FindStringSubmatch(got.body)[1], "who", "Ada", "cone", "9")
	require.Equal(t, 303, got.status)
	require.Contains(t, ask(ctx, t, http.MethodGet, got.header.Get("Location"), "", "Accept", "text/html").body, "Thank you, Ada")
}

// A page from a cache is filled in by two people: both are heard.
func TestACachedPageGivenToTwoPeople(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, apart)
	at := formed(ctx, t, w, "hall", "fields: [{name: who, title: Who, type: string, required: true}]", answered)
	id := opens(ctx, t, at)
	first := sends(ctx, t, at, id, "who", "Ada")
	require.Equal(t, 303, first.status)
	second := sends(ctx, t, at, id, "who", "Mara")
	require.Equal(t, 422, second.status)
	require.Contains(t, second.body, "with other words")
	require.NotContains(t, second.body, "Ada", "and nothing is told of the other's")
	second = sends(ctx, t, at, submissionID.FindStringSubmatch(second.body)[1], "who", "Mara")
	require.Equal(t, 303, second.status)
	require.NotEqual(t, first.header.Get("Location"), second.header.Get("Location"))
	require.Equal(t, first.header.Get("Location"), sends(ctx, t, at, id, "who", "Ada").header.Get("Location"), "who sends the same sees the same")
	require.Equal(t, 2, runsOf(ctx, t, w, "hall"))
}

// Forms and the console are at hosts of their own, and neither is found at the other's.
func TestHostedPagesAreServedApart(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, apart)
	at := formed(ctx, t, w, "hall", "fields: [{name: who, type: string}]", answered)
	u, err := url.Parse(at)
	require.NoError(t, err)
	require.NotEqual(t, w.Service.Address, u.Scheme+"://"+u.Host)
	for _, address := range []string{w.Service.Address + u.Path, w.Service.Address + "/answers/x", w.Service.Address + "/hooks/x", w.Service.Address + "/pages/pages.css", "http://" + u.Host + "/", "http://" + u.Host + "/api/v1/me", "http://" + u.Host + "/assets/x.js"} {
		require.Equal(t, 421, ask(ctx, t, http.MethodGet, address, "").status, address)
	}
	for _, address := range []string{at, at + "/sent", "http://" + u.Host + "/answers/x"} {
		got := ask(ctx, t, http.MethodGet, address, "", "Accept", "text/html", "Cookie", "session=a")
		require.Contains(t, got.header.Get("Content-Security-Policy"), "default-src 'none'", address)
		require.Contains(t, got.header.Get("Content-Security-Policy"), "frame-ancestors 'none'", address)
		require.Empty(t, got.header.Get("Set-Cookie"), address)
		require.Equal(t, "no-referrer", got.header.Get("Referrer-Policy"), address)
		require.Equal(t, "noindex", got.header.Get("X-Robots-Tag"), address)
	}
	for _, name := range []string{"pages.css", "pages.js", "figtree-400.woff2", "figtree-600.woff2", "source-serif-600.woff2"} {
		require.Equal(t, 200, ask(ctx, t, http.MethodGet, "http://"+u.Host+"/pages/"+name, "").status, name)
	}
	require.Equal(t, 404, ask(ctx, t, http.MethodGet, "http://"+u.Host+"/pages/layout.tmpl", "").status)

	// Who has signed in to the console brings nothing of that along.
	p := console(t, w)
	var cookies string
	do(t, p, chromedp.Navigate(at), browser.See("Time in the hall"), chromedp.Evaluate("document.cookie", &cookies))
	require.Empty(t, cookies)
}

// Without a host of their own pages are of no origin, and still work.
func TestAFormBesideTheConsoleIsOfNoOrigin(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	at := formed(ctx, t, w, "hall", "fields: [{name: who, type: string}]", answered)
	require.Contains(t, at, w.Service.Address)
	p := console(t, w)
	var origin, font string
	do(t, p, chromedp.Navigate(at), browser.See("Time in the hall"), chromedp.Evaluate("String(self.origin)", &origin),
		chromedp.Evaluate(`document.fonts.ready.then(() => [...document.fonts].filter((f) => f.status === "loaded").map((f) => f.family).join())`, &font, chromedp.EvalAsValue, awaiting))
	require.Equal(t, "null", origin)
	require.Contains(t, font, "Figtree")
	do(t, p, chromedp.SendKeys("#who", "Ada"), chromedp.Click("button"), browser.See("Thank you, Ada"))
}

// Forms, waits and answers are read and used at 320 px, at twice the size, in the dark,
// and by keyboard alone; axe finds nothing.
func TestHostedPagesForEverybody(t *testing.T) {
	t.Parallel()
	ctx := within(t, 4*time.Minute)
	w := world(t, apart)
	long := strings.Repeat("Verylongwordwithoutanyspace", 5)
	at := formed(ctx, t, w, "hall", `intro: "Say **when**: `+long+`", colour: "#7a4a2a", fields: `+askedOfPotters, strings.Replace(answered, "Fri 4 Dec", long, 1))
	slow := formed(ctx, t, w, "slow", "fields: [{name: who, type: string}]", `
  - {name: later, type: wait, settings: {for: 1h}}`+answered)
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	sent := sends(ctx, t, at, opens(ctx, t, at), "who", "Ada", "agreed", "yes")
	require.Equal(t, 303, sent.status)
	waits := sends(ctx, t, slow, opens(ctx, t, slow), "who", "Ada")
	for _, size := range []struct{ width, height int }{{320, 640}, {640, 800}} {
		p := visitor(t, size.width, size.height)
		for _, theme := range []string{"light", "dark"} {
			do(t, p, emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: theme}}))
			for name, open := range map[string]chromedp.Tasks{
				"a form":   {chromedp.Navigate(at), browser.See("Time in the hall")},
				"wrong":    {chromedp.Navigate(at), chromedp.Evaluate(`document.querySelector("form").noValidate = true`, nil), browser.Click("Send"), browser.See("2 things to mend")},
				"the wait": {chromedp.Navigate(waits.header.Get("Location")), browser.See("One moment")},
				"answer":   {chromedp.Navigate(sent.header.Get("Location")), browser.See("Thank you, Ada")},
				"nothing":  {chromedp.Navigate(at[:len(at)-2] + "xx"), browser.See("Nothing is here")},
			} {
				var faults []string
				var wide bool
				do(t, p, append(open, chromedp.Evaluate(string(axe), nil), chromedp.Evaluate(`axe.run({runOnly: ["wcag2a", "wcag2aa"]}).then((r) => r.violations.map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | ")))`, &faults, chromedp.EvalAsValue, awaiting),
					chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`, &wide))...)
				require.Empty(t, faults, "%s, %s, %d px", name, theme, size.width)
				require.False(t, wide, "%s is wider than %d px", name, size.width)
			}
		}
	}
	p := visitor(t, 320, 640)
	do(t, p, chromedp.Navigate(at), browser.See("Time in the hall"))
	var order []string
	for range 16 {
		var id string
		do(t, p, browser.Keys("Tab"), chromedp.Evaluate(`(() => { const e = document.activeElement; const marked = getComputedStyle(e).outlineStyle !== "none" || /^(date|time)$/.test(e.type); return (e.id || e.name || e.textContent) + (marked ? "" : " is not marked"); })()`, &id))
		if len(order) == 0 || order[len(order)-1] != id {
			order = append(order, id)
		}
	}
	require.Equal(t, []string{"who", "mail", "cone", "day", "hour"}, order[:5], "in the order in which they stand; what people do not see is passed by")
	do(t, p, chromedp.Focus("#who"), browser.Type("#who", "Ada"), chromedp.Focus("#agreed"), browser.Keys(" "), chromedp.Focus("button"), browser.Keys("Enter"), browser.See("Thank you, Ada"))
}

// What was sent need not be sent again while the rest is mended.
func TestAFormKeepsFilesThatWereSent(t *testing.T) {
	t.Parallel()
	ctx := within(t, 4*time.Minute)
	w := world(t, apart)
	at := formed(ctx, t, w, "hall", "fields: "+askedOfPotters, `
  - {name: told, type: answer, settings: {page: "(= item.picture.name ), (= item.picture.size ), (= item.picture.type )"}}`)
	id := opens(ctx, t, at)
	from, into := io.Pipe()
	form := multipart.NewWriter(into)
	const size = 3 << 20
	go func() {
		_ = form.WriteField("form-submission", id)
		part, _ := form.CreateFormFile("picture", "../../kiln.bin")
		chunk := bytes.Repeat([]byte("kiln"), 64<<10)
		for n := 0; n < size; n += len(chunk) {
			if _, err := part.Write(chunk); err != nil {
				return
			}
		}
		_ = form.WriteField("agreed", "yes")
		_ = form.Close()
		into.Close()
	}()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, at, from)
	require.NoError(t, err)
	r.Header.Set("Content-Type", form.FormDataContentType())
	got, err := followsNothing.Do(r)
	require.NoError(t, err)
	text, err := io.ReadAll(got.Body)
	got.Body.Close()
	require.NoError(t, err)
	require.Equal(t, 422, got.StatusCode, "the name is missing")
	require.Contains(t, string(text), "kiln.bin, 3.1 MB is kept")
	kept := regexp.MustCompile(`type="hidden" name="picture" value="([^"]+)"`).FindSubmatch(text)
	require.NotNil(t, kept)
	again := sends(ctx, t, at, submissionID.FindStringSubmatch(string(text))[1], "picture", string(kept[1]), "who", "Ada", "agreed", "yes")
	require.Equal(t, 303, again.status, again.body)
	require.Contains(t, ask(ctx, t, http.MethodGet, again.header.Get("Location"), "", "Accept", "text/html").body, "kiln.bin, 3145728, text/plain")
}

// Who waits for an answer sees it as soon as it is there, without doing anything; without
// script by looking again.
func TestTheWaitForAnAnswerEnds(t *testing.T) {
	t.Parallel()
	ctx := within(t, 2*time.Minute)
	w := world(t, apart)
	at := formed(ctx, t, w, "slow", "fields: [{name: who, type: string, required: true}, {name: until, type: string}]", `
  - {name: later, type: wait, settings: {until: item.until}}`+answered)
	for _, script := range []bool{true, false} {
		p := visitor(t, 400, 800)
		sent := sends(ctx, t, at, opens(ctx, t, at), "who", "Ada", "until", time.Now().Add(5*time.Second).UTC().Format(time.RFC3339))
		where := sent.header.Get("Location")
		got := ask(ctx, t, http.MethodGet, where, "", "Accept", "text/html")
		require.Equal(t, 202, got.status)
		require.Contains(t, got.body, where, "its address is told, to come back to")
		do(t, p, emulation.SetScriptExecutionDisabled(!script), chromedp.Navigate(where), browser.See("One moment"))
		if !script {
			eventually(t, "the answer", 60*time.Second, func() bool { return ask(ctx, t, http.MethodGet, where, "", "Accept", "text/html").status == 200 })
			do(t, p, chromedp.Click("a.button"))
		}
		require.NoError(t, browser.Within(60*time.Second, p, browser.See("Thank you, Ada")))
	}
}
