package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	client "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/tables"
)

// hands are what somebody does on a page, counted.
type hands struct {
	t    *testing.T
	page context.Context
	did  int
}

func (h *hands) do(actions ...chromedp.Action) {
	h.t.Helper()
	h.did += len(actions)
	do(h.t, h.page, actions...)
}

func (h *hands) sees(texts ...string) {
	h.t.Helper()
	for _, text := range texts {
		do(h.t, h.page, browser.See(text))
	}
}

// add types into the field that asks what should happen, and takes what is found.
func (h *hands) add(prompt, what string) {
	h.t.Helper()
	var chosen string
	do(h.t, h.page, chromedp.Evaluate(`document.querySelector("[role=treeitem][aria-selected=true]")?.dataset.line ?? ""`, &chosen))
	h.do(browser.Type(`input[placeholder="`+prompt+`"]`, what))
	do(h.t, h.page, browser.Wait(`[cmdk-item]`))
	h.do(browser.Keys("Enter"))
	do(h.t, h.page, browser.Wait(`[role=treeitem][aria-selected=true]:not([data-line="`+chosen+`"])`)) // the new line, not the one before
}

func (h *hands) pick(id, name string) {
	h.t.Helper()
	h.do(browser.Press(`#`+id), browser.Press(`//*[@cmdk-item][contains(., "`+name+`")]`))
	do(h.t, h.page, browser.Gone(`[cmdk-item]`))
}

// field sets a field by a name that is typed.
func (h *hands) field(name, value string) {
	h.t.Helper()
	h.do(browser.Type(`[aria-label="New name in Fields to set"]`, name), browser.Click("Add"), browser.Type(editor("Fields to set: "+name), value))
}

func (h *hands) choose(id, value string) {
	h.t.Helper()
	h.do(chromedp.Evaluate(`(() => { const s = document.querySelector('#`+id+`'); const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set; set.call(s, '`+value+`'); s.dispatchEvent(new Event('change', {bubbles: true})); })()`, nil))
}

const next = "Say what should happen next…"

// A workflow with a branch of three cases, a loop in one of them, a fallback and a
// batch is built from nothing by what is visible, rehearsed, put live and run; the
// one item that fails is edited and retried alone, and arrives once.
func TestANestedWorkflowIsBuiltByHand(t *testing.T) {
	t.Parallel()
	w := world(t)
	h := &hands{t: t, page: console(t, w)}
	h.do(browser.Click("New workflow"), browser.Type(`#title`, "Loads by hand"), browser.Press(`//label[contains(., "Somebody starts it")]`), browser.Click("Make it"))
	h.sees("When somebody starts it")
	h.add(next, "Read the rows")
	h.pick("rows-workbook", "Kiln hall")
	h.pick("rows-tab", "Pieces")

	h.add(next, "Go different ways")
	h.do(browser.Type(editor("Name of case 1"), "hot"), browser.Type(editor("Condition of case 1"), `item.cone == "9"`), browser.Click("Another case"))
	do(t, h.page, browser.Wait(editor("Name of case 2")))
	h.do(browser.Type(editor("Name of case 2"), "middle"), browser.Type(editor("Condition of case 2"), `item.cone == "6"`), browser.Click("Another case"))
	do(t, h.page, browser.Wait(editor("Name of case 3")))
	h.do(browser.Type(editor("Name of case 3"), "low"), browser.Type(editor("Condition of case 3"), `item.cone == "04"`))
	h.sees("hot, where cone is 9", "middle, where cone is 6", "low, where cone is 04")

	h.add("What happens in the case hot…", "Do steps in rounds")
	h.add("What happens in each round…", "Build the fields")
	h.field("place", "(= round.number )")

	h.add(next, "Build the fields")
	h.field("shelves", "(= 240 / (item.height_cm - 41) )")
	h.do(browser.Click("More…"))
	h.choose("shape_2-on_error", "set_aside")

	h.add(next, "Add a row")
	h.pick("append-workbook", "Kiln hall")
	h.pick("append-tab", "Loads")
	h.do(browser.Press(`//*[@role="treeitem"][@aria-selected="true"]//button[normalize-space(.)="piece"]`), browser.Type(editor("Values: piece"), "(= item.piece )"), browser.Click("More…"))
	h.choose("append-on_error", "fallback")
	h.add("What happens if it fails…", "Build the fields")
	h.field("why", "(= error.message )")

	h.add(next, "Put items together")
	h.do(browser.Type(`#batch-size`, "20"))
	do(t, h.page, browser.Settle())
	h.do(browser.Click("Rehearse"))
	h.sees("Nothing was sent.", "writes only prepared")
	do(t, h.page, browser.Wait(`//*[@data-line="branch/hot"]//*[@title="rows of the samples"][normalize-space(.)="4"]`))
	require.Empty(t, w.Tables.Rows(tables.LoadsTab), "a rehearsal sends nothing")

	h.do(browser.Click("Go live…"))
	h.sees("What it will do")
	h.do(browser.Click("Put it live"))
	h.sees("Live, revision 1")
	require.Less(t, h.did, 60, "interactions")
	t.Logf("built, rehearsed and live in %d interactions", h.did)

	h.do(browser.Click("Start"))
	h.sees("Partial", "Tall jug", "1 set aside")
	require.Len(t, w.Tables.Rows(tables.LoadsTab), 10)
	h.do(browser.Click("Edit and retry"))
	do(t, h.page, browser.Wait(`//label[span="height_cm"]//input`))
	h.do(browser.Type(`//label[span="height_cm"]//input`, "40"), browser.Click("Retry with these"))
	require.Eventually(t, func() bool { return len(w.Tables.Rows(tables.LoadsTab)) == 11 }, 15*time.Second, 50*time.Millisecond)
	count := 0
	for _, r := range w.Tables.Rows(tables.LoadsTab) {
		if r.Values["piece"] == "Tall jug" {
			count++
		}
	}
	require.Equal(t, 1, count)
}

const bench = `format: young-trellis/1
name: bench
title: A bench to try on
trigger: {type: manual}
steps:
  - {name: first, type: shape, settings: {set: {a: 1}}}
  - name: ways
    type: branch
    settings:
      cases:
        - {name: much, when: item.a > 2, steps: [{name: inner, type: shape, settings: {set: {b: "(= steps.first.a )"}}}]}
        - {name: few, when: item.a < 3, steps: []}
  - {name: last, type: filter, settings: {where: item.a != 9}}
`

// Lines are gone through, added, moved, nested, copied, removed and put back by
// keys alone, and dragged by the mouse; nothing happens unasked that breaks others.
func TestTheOutlineByKeysAndByDragging(t *testing.T) {
	t.Parallel()
	w := world(t)
	for _, text := range []string{bench, "format: young-trellis/1\nname: other\ntitle: Another bench\ntrigger: {type: manual}\nsteps: []\n"} {
		_, err := ottermere.Answer[client.Workflow](w.Client.CreateWorkflow(context.Background(), client.Document{Document: text}))
		require.NoError(t, err)
	}
	page := console(t, w)
	outline := func(name string) []string {
		got, err := ottermere.Answer[client.Workflow](w.Client.GetWorkflow(context.Background(), name))
		require.NoError(t, err)
		var out []string
		for _, l := range got.Lines {
			out = append(out, strings.Repeat(" ", val(l.Depth))+l.Name)
		}
		return out
	}
	becomes := func(name string, lines ...string) {
		t.Helper()
		require.EventuallyWithT(t, func(c *assert.CollectT) { assert.Equal(c, lines, outline(name)) }, 10*time.Second, 50*time.Millisecond)
		do(t, page, browser.Settle())
	}
	is := func(lines ...string) {
		t.Helper()
		becomes("bench", lines...)
	}
	focused := func(key string) {
		t.Helper()
		do(t, page, browser.Wait(`[data-line="`+key+`"]:has(> div > button:focus)`))
	}
	keys := func(list ...string) {
		t.Helper()
		for _, k := range list {
			do(t, page, browser.Keys(k))
		}
	}
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/bench"), browser.See("Go one way"), browser.Press(`[data-line="-"] button`))
	focused("-")
	keys("ArrowLeft", "End")
	focused("last")
	keys("Alt+ArrowUp")
	is("first", "last", "ways", " much", "  inner", " few")
	focused("last")
	keys("Alt+ArrowDown", "Alt+ArrowRight")
	is("first", "ways", " much", "  inner", " few", "  last")
	keys("Alt+ArrowLeft")
	is("first", "ways", " much", "  inner", " few", "last")
	focused("last")

	keys("Delete")
	is("first", "ways", " much", "  inner", " few")
	do(t, page, browser.See("Gone: Keep items"), browser.Click("Undo"))
	is("first", "ways", " much", "  inner", " few", "last")

	do(t, page, browser.Press(`[data-line="first"] button`))
	keys("ArrowLeft", "Delete")
	do(t, page, browser.See("This would no longer work"), browser.See(`There is no step "first"`), browser.Click("Leave it as it is"))
	is("first", "ways", " much", "  inner", " few", "last")

	do(t, page, browser.Press(`[data-line="ways/few"] button`))
	keys("Alt+ArrowUp")
	is("first", "ways", " few", " much", "  inner", "last")
	keys("Control+z")
	is("first", "ways", " much", "  inner", " few", "last")
	keys("Control+Shift+z")
	is("first", "ways", " few", " much", "  inner", "last")

	focused("ways/few")
	keys("Enter")
	do(t, page, browser.Wait(`input[placeholder="What happens in the case few…"]:focus`), browser.Type(`input[placeholder="What happens in the case few…"]`, "End the run"), browser.Wait(`[cmdk-item]`))
	keys("Enter")
	is("first", "ways", " few", "  stop", " much", "  inner", "last")
	keys("Escape")
	focused("stop")
	keys("Control+d")
	is("first", "ways", " few", "  stop", "  stop_2", " much", "  inner", "last")

	do(t, page, browser.Press(`[data-line="ways/much"] button`))
	keys("ArrowLeft", "Control+c")
	do(t, page, browser.See("Copied: much"), browser.Press(`[data-line="ways"] button`))
	keys("ArrowLeft", "Control+v")
	is("first", "ways", " few", "  stop", "  stop_2", " much", "  inner", " much_2", "  inner_2", "last")

	keys("Shift+F10")
	do(t, page, browser.Wait(`[role=menu]`))
	keys("Escape")
	focused("ways/much_2")
	keys("?")
	do(t, page, browser.See("Keys, while a line has the focus"), browser.Click("Close"), browser.Press(`[data-line="ways"] button`))
	keys("ArrowLeft", "Control+c")
	do(t, page, browser.See("Copied: Go one way"), browser.Press(`//nav//a[normalize-space(.)="Workflows"]`), browser.Click("Another bench"), browser.Press(`[data-line="-"] button`))
	keys("ArrowLeft", "Control+v")
	becomes("other", "ways", " few", "  stop", "  stop_2", " much", "  inner", " much_2", "  inner_2")

	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/bench"), browser.See("Go one way"), browser.Drag(`[data-line="last"] button`, `[data-line="stop"] button`))
	is("first", "ways", " few", "  last", "  stop", "  stop_2", " much", "  inner", " much_2", "  inner_2")
}

func val(n *int) int {
	if n == nil {
		return 0
	}
	return *n
}
