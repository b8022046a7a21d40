package test

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/cli"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins"
)

// From sign-in to real rows, with a key at hand, in at most twelve interactions.
func TestTheDoorForWhoHasAKey(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	page := console(t, w)
	interactions := 0
	act := func(a chromedp.Action, then ...chromedp.Action) {
		interactions++
		do(t, page, append([]chromedp.Action{a}, then...)...)
	}
	do(t, page, browser.See("What should happen?"))
	act(browser.Press(`//a[contains(., "I have a key")]`), browser.See("Find the application"))
	act(browser.Press(`//button[.//span[normalize-space(.)="Contacts"]]`), browser.See("Connect Contacts"))
	act(browser.Type(`#account-address`, w.ContactsBase))
	act(browser.Type(`#secret-secret`, "not the token"))
	act(browser.Click("Store and check"), browser.See("the token was refused: 401, this token is not valid here"))
	act(browser.Type(`#secret-secret`, w.ContactsKey))
	act(browser.Click("Store and check"), browser.See("Works, signed in as Ottermere Clayworks, front desk"))
	act(browser.Type(`#try-contacts-find-phone`, "+441632960141"))
	act(browser.Click("Try it"), browser.See("Hollowbank Pottery"), browser.See("That is real data"))
	require.LessOrEqual(t, interactions, 12)
}

// An account is added by OAuth in the browser: refused, then allowed, confirmed.
func TestConsentInTheBrowser(t *testing.T) {
	t.Parallel()
	w := world(t, everything, func(o *ottermere.Options) { o.Bare = true })
	page := console(t, w)
	forum := w.Stand("forum")
	do(t, page, browser.Click("Connections"), browser.Click("Add a connection"), browser.Type(`input[aria-label="Find the application"]`, "comments"), browser.Press(`//button[.//span[normalize-space(.)="Forum"]]`),
		browser.See("/oauth/callback"), browser.Type(`#account-address`, forum.Base), browser.Type(`#secret-client_id`, forum.Values["client_id"]), browser.Type(`#secret-secret`, forum.Values["secret"]), browser.Click("Store and go on"), browser.See("Not signed in yet"))
	do(t, page, browser.Click("Open the consent page"), browser.See("would like to"), browser.See("write comments in your name"), browser.Click("Refuse"), browser.See("consent was refused on the other side"))
	var at string
	do(t, page, chromedp.Location(&at))
	require.NotRegexp(t, `state=|code=`, at, "code and state do not stay in the address")
	do(t, page, browser.Click("Open the consent page"), browser.See("would like to"), browser.Click("Allow"), browser.See("Is that the right account?"), browser.See("Signed in as ottermere"), browser.Click("Yes, use it"), browser.See("Works, signed in as ottermere"))
	c := connectionOf(t, w, "forum")
	require.Equal(t, client.ConnectionState("ok"), c.State)
	require.Equal(t, []string{"posts.read", "comments.write"}, *c.Scopes)

	// the callback without the browser that began, and with a state made up
	res, err := http.Get(w.Service.Address + "/oauth/callback?state=x&code=y")
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, 200, res.StatusCode)
	require.Equal(t, "session", res.Request.URL.Query().Get("trouble"))
	do(t, page, chromedp.Navigate(w.Service.Address+"/oauth/callback?state=made-up&code=y"), browser.See("was not begun here"))
}

func TestConnectorsAreReadTriedPastedAndImported(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	page := console(t, w)
	do(t, page, browser.Click("Connectors"), browser.Type(`input[aria-label="Find a connector or an action"]`, "ticket"), browser.Press(`//button[.//span[normalize-space(.)="Helpdesk"]]`), browser.Press(`//button[contains(., "Raise a ticket")]`), browser.See("a repeat is known by its key"))
	do(t, page, browser.Click("Try one action"), browser.Type(`#try-helpdesk--words`, "pinholes"), browser.Click("Show the request"), browser.See("Would be sent"), browser.Click("Try it"), browser.See("Fire the biscuit slower"))
	do(t, page, browser.Click("Paste a call"), browser.Type(`#pasted`, "curl "+w.Stand("statistics").Base+"/v1/series/gas?days=2 -H 'X-Api-Key: planted-key-12345678'"), browser.Click("Read it"), browser.See("the header X-Api-Key"),
		browser.See("As it goes out"), browser.Click("Keep it"), browser.See("The secret is kept in the connection"), browser.Press(`//div[@role="dialog"]//button[normalize-space(.)="Try it"]`), browser.See("Came back"))
	document := `{"openapi": "3.1.0", "info": {"title": "Clay stock"}, "servers": [{"url": "https://stock.ottermere.example"}], "paths": {"/bags": {"get": {"operationId": "bags", "summary": "List the bags"}}}}`
	do(t, page, browser.Keys("Escape"), browser.Click("Import OpenAPI"), browser.Type(`textarea[aria-label="or its text"]`, document), browser.Click("Read it"), browser.See("https://stock.ottermere.example"),
		browser.Press(`//div[@role="dialog"]//label[contains(., "That is where they belong")]//input`), browser.Click("Add the connector"), browser.See("List the bags"), browser.See("made here"))
}

// said runs a command as a person would, and gives what it printed.
func said(t *testing.T, w *ottermere.World, in string, args ...string) (string, int) {
	t.Helper()
	var out bytes.Buffer
	code := cli.Run(within(t, 30*time.Second), append([]string{"--config", w.ConfigPath()}, args...), strings.NewReader(in), &out, &out)
	return out.String(), code
}

// From the command line alone, with what the stand-in's page says.
func TestConnectingFromTheCommandLine(t *testing.T) {
	t.Parallel()
	w := world(t, everything, func(o *ottermere.Options) { o.Bare = true })
	for _, c := range []struct {
		in   string
		args []string
		want string
		code int
	}{
		{w.TablesKey, []string{"connection", "add", "tables", "tables", "--account", "address=" + w.TablesBase}, "Works, signed in as Ottermere Clayworks, plan workshop", 0},
		{"wrong", []string{"connection", "mend", "tables"}, "the key was refused: 401", 1},
		{w.TablesKey, []string{"connection", "mend", "tables"}, "Works, signed in as", 0},
		{"x", []string{"connection", "add", "tables", "tables", "--account", "address=" + w.TablesBase}, "There is a connection called tables already", 5},
		{"x", []string{"connection", "add", "other", "tabels"}, "Did you mean tables?", 3},
		{"x", []string{"connection", "add", "other", "files", "--account", "address=" + w.Stand("files").Base}, "--value user=", 2},
		{"", []string{"connection", "add", "hmac", "sms", "--value", "secret=abc"}, "is a secret and is not given on the command line", 2},
		{`{"user": "hall", "secret": "` + w.Stand("files").Values["secret"] + `"}`, []string{"connection", "add", "files", "files", "--account", "address=" + w.Stand("files").Base, "--values-file", "-"}, "Works, signed in as the file store", 0},
		{"", []string{"connection", "list"}, "files", 0}, {"", []string{"connection", "show", "tables"}, "secret             ", 0},
		{"", []string{"connection", "choices", "tables", "tabs"}, "Choose the workbook first.", 0}, {"", []string{"connection", "choices", "tables", "tabs", "--input", "workbook=wb_p91zsu"}, "Pieces", 0},
		{"", []string{"connection", "limit", "tables", "--calls", "5"}, "5 calls in 1 s", 0}, {"", []string{"connection", "limit", "tables", "--off"}, "the connector's own", 0},
		{"", []string{"connection", "grant", "tables", w.Email, "--action", "rows"}, w.Email + " (rows)", 0}, {"", []string{"connection", "grant", "tables", "--everyone"}, "every builder", 0},
		{"", []string{"connection", "grant", "tables", "nobody@ottermere.example"}, "is not a member", 2},
		{"", []string{"connector", "list"}, "team-chat", 0}, {"", []string{"connector", "show", "lab"}, "takes a while", 0}, {"", []string{"connector", "show", "lab", "--document"}, "format: young-trellis-connector/1", 0},
		{"", []string{"connector", "try", "rows", "--connection", "tables", "--input", `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`}, "Nothing was sent.", 0},
		{"", []string{"connector", "try", "rows", "--connection", "tables", "--input", `{"workbook": "wb_p91zsu", "tab": "tb_c0w8rn"}`, "--send"}, "Tall jug", 0},
		{"", []string{"connector", "try", "rows", "--connection", "tables", "--input", `{}`, "--send"}, "Workbook is required", 2},
		{"", []string{"connector", "try", "rows", "--connection", "tables", "--input", `{`}, "is not JSON", 2},
		{"curl https://api.ottermere.example/v1/orders -H 'Authorization: Bearer tok_1234567890'", []string{"connector", "paste", "-"}, "secret taken out: the header Authorization ••••7890", 0},
		{"not a call", []string{"connector", "paste", "-"}, "neither a curl command nor", 2},
		{"format: x", []string{"connector", "check", "-"}, `"name" is missing here`, 1},
		{"", []string{"connector", "schema"}, "young-trellis-connector/1", 0},
		{"", []string{"connector", "remove", "lab"}, "comes with Young Trellis", 5},
		{"", []string{"connection", "remove", "files"}, "removed files", 0}, {"", []string{"connection", "remove", "files"}, "there is no connection files", 3},
		{"", []string{"workspace", "allow", "10.0.0.5:80"}, "10.0.0.5:80", 0}, {"", []string{"workspace", "allow", "10.0.0.0/8"}, "is not a host and port", 2}, {"", []string{"workspace", "disallow", "10.0.0.5:80"}, "127.0.0.1", 0},
	} {
		out, code := said(t, w, c.in, c.args...)
		require.Equal(t, c.code, code, "%v: %s", c.args, out)
		require.Contains(t, out, c.want, "%v", c.args)
	}
	eventually(t, "the calls are listed", 10*time.Second, func() bool {
		out, code := said(t, w, "", "connection", "calls", "tables")
		return code == 0 && strings.Contains(out, "/v1/me")
	})
	folder := t.TempDir()
	spec, err := http.Get(w.Stand("helpdesk").Base + "/openapi.json")
	require.NoError(t, err)
	defer spec.Body.Close()
	var b bytes.Buffer
	_, err = b.ReadFrom(spec.Body)
	require.NoError(t, err)
	out, code := said(t, w, b.String(), "connector", "import", "-", "--name", "desk", "--address", w.Stand("helpdesk").Base, "--to", filepath.Join(folder, "desk.yaml"))
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "would go to "+w.Stand("helpdesk").Base)
	out, code = said(t, w, "", "connector", "add", filepath.Join(folder, "desk.yaml"))
	require.Equal(t, 0, code, out)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "key"), []byte(w.Stand("helpdesk").Values["secret"]), 0o600))
	out, code = said(t, w, "", "connection", "add", "desk", "desk", "--secret-file", filepath.Join(folder, "key"))
	require.Contains(t, out, "desk: ", "%d", code)
	out, code = said(t, w, "", "connector", "try", "search_articles", "--connection", "desk", "--input", `{"desk": "ottermere", "q": "pinholes"}`, "--send")
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "Fire the biscuit slower", "an imported connector does what the shipped one does")
}

// The consent page's address is printed; what comes back to the loopback
// listener ends the command.
func TestSigningInFromTheCommandLine(t *testing.T) {
	t.Parallel()
	w := world(t, everything, func(o *ottermere.Options) { o.Bare = true })
	d := w.Stand("documents")
	out, code := said(t, w, d.Values["secret"], "connection", "add", "documents", "documents", "--account", "address="+d.Base, "--value", "client_id="+d.Values["client_id"])
	require.Equal(t, 0, code, out)
	require.Contains(t, out, "trellis connection sign-in documents")
	for _, c := range []struct{ decision, want string }{{"refuse", "consent was refused"}, {"allow", "Works, signed in as Mara Quill, Ottermere Clayworks"}} {
		printed := &lockedBuffer{}
		done := make(chan int, 1)
		var wait sync.WaitGroup
		wait.Go(func() {
			done <- cli.Run(within(t, 30*time.Second), []string{"--config", w.ConfigPath(), "connection", "sign-in", "documents", "--yes"}, strings.NewReader(""), printed, printed)
		})
		link := regexp.MustCompile(`http://\S+/oauth/authorize\S+`)
		eventually(t, "the link is printed", 10*time.Second, func() bool { return link.MatchString(printed.String()) })
		res, err := http.PostForm(link.FindString(printed.String()), url.Values{"decision": {c.decision}}) // and follows to the listener
		require.NoError(t, err)
		res.Body.Close()
		<-done
		wait.Wait()
		require.Contains(t, printed.String(), c.want)
	}
	w.Stand("documents").SetFaults(standins.Faults{})
	require.NoError(t, tries(context.Background(), w.Client, "documents", "list", `{}`))
}
