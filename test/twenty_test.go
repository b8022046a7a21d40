package test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/media"
)

// one action of each application, in an order in which what gives lists comes
// last, with what is filled in: by the field's name.
var twenty = []struct {
	connector, action string
	with              map[string]string
}{
	{"calendar", "book", map[string]string{"title": "Kiln 2, cone 9", "starts": "2031-03-03T09:00", "ends": "2031-03-03T15:00"}},
	{"contacts", "find_or_make", map[string]string{"phone": "+441632960142", "name": "Tern & Tide"}},
	{"documents", "append", map[string]string{"document": "Firing log", "heading": "Tests", "text": "Nothing cracked."}},
	{"feedback", "reply", map[string]string{"mark": "fb_001", "text": "Thank you; we look into it."}},
	{"files", "download", map[string]string{"folder": "memos", "name": "kiln-2-morning.wav"}},
	{"forum", "read", map[string]string{"post": "Crawling on rims"}},
	{"helpdesk", "raise", map[string]string{"subject": "Kiln 2 does not come up", "text": "It stays at 900 degrees.", "priority": "2", "name": "Mara", "email": "mara@ottermere.example"}},
	{"lab", "test", map[string]string{"glaze": "Celadon 4", "cone": "9"}},
	{"mail", "send", map[string]string{"to": "hall@ottermere.example", "cc": "lab@ottermere.example", "bcc": "mara@ottermere.example", "reply_to": "hall@ottermere.example", "subject": "Loads of tomorrow", "text": "Kiln 2 is full.", "html": "<p>Kiln 2 is full.</p>", "files": "[]"}},
	{"pages", "fetch", map[string]string{"path": "clean"}},
	{"register", "by_domain", map[string]string{"domain": "hollowbank-pottery.example"}},
	{"search", "outline", map[string]string{"address": "https://kilns.example/"}},
	{"sms", "send", map[string]string{"from": "Ottermere", "to": "+441632960107", "text": "Kiln 2 is ready."}},
	{"speech", "transcribe", map[string]string{"sound": "memo.wav", "words": "cone, Osierbed"}},
	{"tables", "append", map[string]string{"workbook": "Counter", "tab": "Calls", "values": "name=Hollowbank Pottery;minutes=3.1"}},
	{"team-chat", "post", map[string]string{"channel": "", "text": "Ready to unload.", "blocks": `[{"kind": "text", "text": "Ready"}]`}},
	{"text-model", "summarise", map[string]string{"text": "Kiln two came down to ninety degrees at seven.", "sentences": "1", "model": ""}},
	{"suppliers", "near", map[string]string{"place": "Ottermere", "km": "4.5", "groups": "clay,glazes"}},
	{"statistics", "series", map[string]string{"series": "gas", "days": "1"}},
	{"postgres", "rows", map[string]string{"table": ""}},
}

// fillIn fills in a field of the chosen line by the control that stands there.
func (n *newcomer) fillIn(line string, p api.Property, with, file string) {
	n.t.Helper()
	schema, err := item.DecodeObject(p.Schema)
	require.NoError(n.t, err)
	at := "#" + line + "-" + p.Name
	title, _ := schema["title"].(string)
	inner, _ := schema["items"].(map[string]any)
	kind, _ := schema["type"].(string)
	format, _ := schema["format"].(string)
	switch {
	case schema["choices"] != nil:
		n.act(browser.Press(at))
		n.act(browser.Press(`//*[@cmdk-item][contains(., "`+with+`")]`), browser.Gone(`[cmdk-item]`))
	case schema["hint"] == "file":
		n.act(chromedp.SetUploadFiles(at, []string{file}, chromedp.ByQuery), browser.See(filepath.Base(file)+", "))
	case schema["enum"] != nil:
		option := with
		if words, ok := schema["words"].(map[string]any); ok {
			option += fmt.Sprintf(", %v", words[with])
		}
		n.act(browser.Choose(at, option))
	case kind == "integer" || kind == "number":
		n.act(browser.Type(at, with))
	case inner["enum"] != nil:
		for _, one := range strings.Split(with, ",") {
			n.act(browser.Press(`//*[@role="treeitem"][@aria-selected="true"]//label[normalize-space(.)="` + one + `"]`))
		}
	case kind == "array" || kind == "object" && schema["keys"] == nil:
		n.act(browser.Type(at, with))
	case kind == "object":
		for _, pair := range strings.Split(with, ";") {
			column, value, _ := strings.Cut(pair, "=")
			n.act(browser.Press(`//*[@role="treeitem"][@aria-selected="true"]//button[normalize-space(.)="` + column + `"]`))
			n.act(browser.Type(editor(title+": "+column), value))
		}
	case format == "date-time" || format == "date":
		n.act(browser.Enter(at, with))
	default:
		n.act(browser.Type(editor(title), with))
	}
}

// One action of each of the twenty applications, found by its words, every field
// filled in by its control, rehearsed without an error, put live, and run: with
// what is visible and nothing else.
func TestAnActionOfEachApplicationIsBuiltByHand(t *testing.T) {
	t.Parallel()
	w := world(t, everything)
	ctx := within(t, 4*time.Minute)
	n := &newcomer{t: t, page: console(t, w)}
	list, err := ottermere.Answer[struct{ Connectors []api.Connector }](w.Client.ListConnectors(ctx))
	require.NoError(t, err)
	require.Len(t, list.Connectors, len(twenty))
	memo := filepath.Join(t.TempDir(), "memo.wav")
	require.NoError(t, os.WriteFile(memo, media.Memo("Kiln two came down to ninety degrees at seven.", 14), 0o600))

	n.act(browser.Click("New workflow"))
	n.act(browser.Type("#title", "Everything at once"))
	n.act(browser.Press(`//label[contains(., "Somebody starts it")]`))
	n.act(browser.Click("Make it"), browser.See("When somebody starts it"))
	line := "-"
	for _, x := range twenty {
		c := list.Connectors[slices.IndexFunc(list.Connectors, func(c api.Connector) bool { return c.Name == x.connector })]
		a := c.Actions[slices.IndexFunc(c.Actions, func(a api.Action) bool { return a.Name == x.action })]
		n.act(browser.Type(`input[placeholder^="Say what"]`, a.Title+" "+c.Title))
		n.act(browser.Press(`//*[@cmdk-item][.//div[normalize-space(.)="`+a.Title+`"]][contains(., "`+c.Title+`")]`), browser.Gone(`[cmdk-item]`), browser.Wait(`[role=treeitem][aria-selected=true]:not([data-line="`+line+`"])`))
		do(t, n.page, chromedp.AttributeValue(`[role=treeitem][aria-selected=true]`, "data-line", &line, nil, chromedp.ByQuery))
		for _, p := range a.Fields {
			with, known := x.with[p.Name]
			require.True(t, known, "%s.%s: nothing is said of %s", x.connector, x.action, p.Name)
			n.fillIn(line, p, with, memo)
		}
		do(t, n.page, browser.See("Draft saved"))
	}
	draft, err := ottermere.Answer[api.Workflow](w.Client.GetWorkflow(ctx, "everything-at-once"))
	require.NoError(t, err)
	for _, p := range draft.Problems {
		require.NotEqual(t, "error", string(p.Severity), "%s: %s", p.Path, p.Message)
	}
	n.act(browser.Click("Rehearse"), browser.See("Nothing was sent."))
	r, err := ottermere.Answer[api.Rehearsal](w.Client.LastRehearsal(ctx, "everything-at-once"))
	require.NoError(t, err)
	for _, row := range r.Rows {
		for i, c := range row.Cells {
			require.NotContains(t, []string{"set_aside", "stopped", "may_have_been_sent", "waiting"}, string(c.Fate), "%s: %s", r.Columns[i].Sentence, c.Text)
		}
	}
	require.EqualValues(t, "succeeded", r.State)
	n.act(browser.Click("Go live…"), browser.See("What it will do"))
	if len(draft.Problems) > 0 {
		n.act(browser.Tick())
	}
	n.act(browser.Click("Put it live"), browser.See("Live, revision 1"))
	n.act(browser.Click("Start"), browser.Wait(`h1 a[href="/workflows/everything-at-once"]`))
	ended, err := w.Wait(ctx, runShown(t, n.page))
	require.NoError(t, err)
	require.EqualValues(t, "succeeded", ended.Run.State, fmt.Sprintf("%v", ended.Run.Message))
	for _, c := range ended.Columns {
		require.Positive(t, c.Calls, "%s was called", c.Sentence)
	}
	t.Logf("%d interactions for %d lines", n.did, len(twenty))
}
