package test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

func value(t *testing.T, v any) *api.Value {
	t.Helper()
	b, err := json.Marshal(v)
	require.NoError(t, err)
	out := api.Value(b)
	return &out
}

// setting is an edit of one setting of a step.
func setting(t *testing.T, step, key string, v any) api.Edit {
	t.Helper()
	return api.Edit{Op: "set", Step: &step, Key: &key, Value: value(t, v)}
}

func ends(r api.Rehearsal, column int) map[string]int {
	out := map[string]int{}
	for _, row := range r.Rows {
		out[string(row.Cells[column].Fate)]++
	}
	return out
}

// What the last rehearsal has read is enough to show every edit: nobody is asked
// again, nothing is kept, and what was not read says so.
func TestRowsAreComputedAnewFromWhatWasRead(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	_, err := ottermere.Answer[api.Rehearsal](w.Client.FollowRehearsal(ctx, "kiln-list", api.Follow{}))
	require.ErrorContains(t, err, "never rehearsed")
	first, err := ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, "kiln-list", api.Rehearse{}))
	require.NoError(t, err)
	calls := func() int {
		list, err := ottermere.Answer[struct{ Calls []api.Called }](w.Client.ListCalls(ctx, "tables"))
		require.NoError(t, err)
		return len(list.Calls)
	}
	// Calls are written down beside the work: those of the check and of the rehearsal.
	require.Eventually(t, func() bool { return calls() == 2 }, 20*time.Second, 10*time.Millisecond)
	before := calls()
	follow := func(edits ...api.Edit) api.Rehearsal {
		edits = append([]api.Edit{}, edits...)
		r, err := ottermere.Answer[api.Rehearsal](w.Client.FollowRehearsal(ctx, "kiln-list", api.Follow{Edits: &edits}))
		require.NoError(t, err)
		return r
	}
	same := follow()
	require.Equal(t, first.Rows, same.Rows, "the same draft gives the same rows, to the letter")
	none := follow(setting(t, "dry", "settings.where", `age(item.dry_since) >= duration("600d")`))
	require.Equal(t, map[string]int{"held_back": len(first.Rows)}, ends(none, 1))
	require.Zero(t, none.Prepared)
	other := follow(setting(t, "pieces", "input.tab", map[string]string{"id": "tb_e5j3vy", "name": "Loads"}))
	require.Equal(t, map[string]int{"waiting": 1}, ends(other, 0))
	require.Equal(t, 1, *other.Unread)
	require.Nil(t, other.Message)
	half := follow(setting(t, "load", "settings.set.dried", "(= round( )"))
	require.Equal(t, "load", *half.Until)
	require.Len(t, half.Columns, 2)
	require.Equal(t, ends(first, 1), ends(half, 1))
	require.Equal(t, before, calls(), "nobody was asked")
	last, err := ottermere.Answer[api.Rehearsal](w.Client.LastRehearsal(ctx, "kiln-list"))
	require.NoError(t, err)
	require.Equal(t, first.Rows, last.Rows, "and the rehearsal is kept as it was")

	// One that goes only so far leaves what was read beyond; what is read is sealed.
	to := "dry"
	_, err = ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, "kiln-list", api.Rehearse{To: &to}))
	require.NoError(t, err)
	require.Equal(t, ends(first, 3), ends(follow(), 3))
	bad := []api.Edit{setting(t, "nowhere", "settings.where", "true")}
	_, err = ottermere.Answer[api.Rehearsal](w.Client.FollowRehearsal(ctx, "kiln-list", api.Follow{Edits: &bad}))
	require.ErrorContains(t, err, "nowhere")
}

// In the console the rows follow while one types, without a button; what is not
// finished does not make them jump; and a page that is opened again follows too.
func TestTheLatticeFollowsWhatIsTyped(t *testing.T) {
	t.Parallel()
	w := world(t)
	page := console(t, w)
	where := editor("Keep an item where")
	open := browser.Press(`//*[@role="treeitem"][contains(., "Keep items")]//button`)
	do(t, page, chromedp.Navigate(w.Service.Address+"/workflows/kiln-list"), browser.Click("Rehearse"), browser.See("Rows from the last rehearsal"), open,
		browser.Type(where, `age(item.dry_since) >= duration("70d")`), browser.See("needs 70 days"), browser.See("Rows of the draft"))
	do(t, page, browser.Type(where, `age(item.dry_since) >= `), browser.See("up to line 2, which is not finished"),
		browser.Wait(`//*[@role="columnheader"][contains(., "Add a row")]`), // the lines below stay where they are
		browser.Type(where, `age(item.dry_since) >= duration("80d")`), browser.See("needs 80 days"), browser.See("Draft saved"))
	do(t, page, chromedp.Reload(), browser.See("needs 80 days"), browser.See("Rows of the draft"))
	do(t, page, browser.Press(`//h1 | //input[@aria-label="Title"]`), browser.Press(`[data-testid=rows-of]`), browser.Click("Rehearse"), browser.See("Rows from the last rehearsal"))
}
