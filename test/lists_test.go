package test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/browser"
	"youngtrellis/internal/ottermere"
)

const toReaders = `format: young-trellis/1
name: day-plan
trigger:
  type: schedule
  settings: {every: 5 seconds, readers: hearers, only: item.wants}
steps:
  - {name: told, type: shape, settings: {set: {to: (= item.reader.address ), called: "(= find(list('hearers'), .address == item.reader.address).name )"}}}
`

// Each row of a list starts runs of its own, and whoever is taken out gets none: nobody
// touches the workflow.
func TestEachRowOfAListStartsRunsOfItsOwn(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, 2*time.Minute)
	csv := "address,name,wants\nmara@ottermere.example,Mara Quill,yes\nwren@ottermere.example,Wren Castleton,yes\nash@ottermere.example,Ash,no"
	_, err := ottermere.Answer[api.WorkspaceList](w.Client.AddList(ctx, api.NewList{Name: "hearers", Csv: &csv}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: toReaders}))
	require.NoError(t, err)
	ahead, err := ottermere.Answer[api.Ahead](w.Client.LookAhead(ctx, "day-plan"))
	require.NoError(t, err)
	require.Contains(t, ahead.Cadence.Sentence, "for each row of hearers at its own hour")
	require.Equal(t, "mara@ottermere.example and wren@ottermere.example", *ahead.Cadence.Times[0].Who)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "day-plan", &api.GoLiveParams{}))
	require.NoError(t, err)

	name := "day-plan"
	told := func() map[string]int {
		out := map[string]int{}
		page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name}))
		require.NoError(t, err)
		for _, r := range page.Runs {
			if r.State != "succeeded" {
				continue
			}
			rows, err := w.Rows(ctx, r.Id, 10)
			require.NoError(t, err)
			require.Len(t, rows.Rows, 1)
			for _, cell := range rows.Rows[0].Cells {
				for _, who := range []string{"Mara Quill", "Wren Castleton", "Ash"} {
					if strings.Contains(cell.Text, who) {
						out[who]++
					}
				}
			}
		}
		return out
	}
	eventually(t, "both get theirs", 40*time.Second, func() bool { x := told(); return x["Mara Quill"] > 0 && x["Wren Castleton"] > 0 })
	schedule, err := ottermere.Answer[api.Schedule](w.Client.GetSchedule(ctx, &api.GetScheduleParams{Workflow: &name}))
	require.NoError(t, err)
	require.Len(t, schedule.Entries, 2)

	// Who reads it is told to whoever may see the list.
	viewer, status := newToken(t, w, w.Token, `{"name": "looks", "role": "viewer"}`)
	require.Equal(t, 201, status)
	for _, path := range []string{"/schedule", "/workflows", "/workflows/day-plan"} {
		status, shown := request(t, "GET", w.Service.Address+"/api/v1"+path, viewer.Secret, nil)
		require.Equal(t, 200, status)
		require.NotContains(t, shown, "@ottermere.example", path)
	}

	gone, key := true, "wren@ottermere.example"
	fields := json.RawMessage(`{"wants": "yes"}`)
	ash := "ash@ottermere.example"
	_, err = ottermere.Answer[api.ListOutcome](w.Client.EditList(ctx, "hearers", nil, api.ListEdits{Edits: []api.ListEdit{{Key: &key, Remove: &gone}, {Key: &ash, Fields: &fields}}}))
	require.NoError(t, err)
	eventually(t, "whoever wants it gets it", 40*time.Second, func() bool { return told()["Ash"] > 0 })
	before := told()
	eventually(t, "the others go on", 40*time.Second, func() bool { return told()["Ash"] >= before["Ash"]+2 })
	require.LessOrEqual(t, told()["Wren Castleton"], before["Wren Castleton"]+1, "one may have been on its way")

	_, err = ottermere.Answer[json.RawMessage](w.Client.RemoveList(ctx, "hearers"))
	var refused *ottermere.Status
	require.ErrorAs(t, err, &refused)
	require.Equal(t, 409, refused.Code)
}

// A newcomer makes a list, types into it, and finds what was there before.
func TestAListIsKeptInTheConsole(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	n := &newcomer{t: t, page: console(t, w)}
	n.act(browser.Click("Lists"), browser.See("There is no list yet."))
	n.act(browser.Click("Add a list"), browser.Type("#list-title", "On duty"), browser.Type("textarea", "Short,Phone,Floor\nwren,0107,1\ntam,0112,2"))
	n.act(browser.Click("Make it"), browser.See(`list("on-duty")`), browser.See("2 rows"))
	n.act(browser.Type(`[aria-label="Phone of tam"]`, "0999"), browser.Press(`[aria-label="Find rows"]`), browser.See("1 row changed."))
	n.act(browser.Click("History"), browser.See("created with 2 rows"), browser.Press("(//ol[starts-with(@aria-label, 'History')]//li/button)[1]"), browser.See("0112"))
	n.act(browser.Press("(//ol[starts-with(@aria-label, 'History')]//li/button)[last()]"), browser.Click("Put it back as it was after this"), browser.See("put back as it was after change 1"))
	table, err := ottermere.Answer[api.ListRows](w.Client.ListRows(within(t, time.Minute), "on-duty", &api.ListRowsParams{}))
	require.NoError(t, err)
	require.JSONEq(t, `{"short": "tam", "phone": "0112", "floor": 2}`, string(table.Rows[1].Fields))
}

const eachOne = `format: young-trellis/1
name: each-one
trigger: {type: webhook, settings: {verify: none, key: item.id, runs: each}}
steps:
  - {name: told, type: shape, settings: {set: {of: (= item.id )}}}
`

// A call with a list starts a run for each item, and a repeat of it none again.
func TestACallWithAListStartsARunForEach(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, time.Minute)
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: eachOne}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "each-one", &api.GoLiveParams{}))
	require.NoError(t, err)
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "each-one"))
	require.NoError(t, err)
	call := func(body string) (status int, said map[string]any) {
		res, err := http.Post(sheet.Address, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		defer res.Body.Close()
		require.NoError(t, json.NewDecoder(res.Body).Decode(&said))
		return res.StatusCode, said
	}
	status, said := call(`[{"id": 1}, {"id": 2}, {"id": 3}]`)
	require.Equal(t, 202, status)
	require.EqualValues(t, 3, said["runs"])
	_, said = call(`[{"id": 3}, {"id": 4}]`)
	require.EqualValues(t, 1, said["runs"])
	require.EqualValues(t, 1, said["known"])
	_, said = call(`{"id": 4}`)
	require.Equal(t, true, said["duplicate"])
	status, said = call(`[{"id": 5}, {"id": ""}]`)
	require.Equal(t, 422, status)
	require.Contains(t, said["title"], "item 2: the key is empty")
	name := "each-one"
	eventually(t, "each has run", 20*time.Second, func() bool {
		page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name}))
		require.NoError(t, err)
		done := 0
		for _, r := range page.Runs {
			if r.State == "succeeded" {
				done++
			}
		}
		require.LessOrEqual(t, len(page.Runs), 4)
		return done == 4
	})
}
