package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// Lists of items with keys come from many at once: each key starts one run, with what
// else was new in its list.
func TestListsOfItemsWithKeys(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, 2*time.Minute)
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: `format: young-trellis/1
name: lots
label: item.id
trigger: {type: webhook, settings: {verify: none, key: item.id}}
steps:
  - {name: seen, type: shape, settings: {set: {id: (= item.id )}}}
`}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "lots", &api.GoLiveParams{}))
	require.NoError(t, err)
	sheet, err := ottermere.Answer[api.CallSheet](w.Client.CallSheet(ctx, "lots"))
	require.NoError(t, err)
	call := func(ids ...int) (status int, said struct {
		Run         string
		Runs, Known int
	}) {
		items := make([]string, len(ids))
		for i, id := range ids {
			items[i] = fmt.Sprintf(`{"id": "lot-%d"}`, id)
		}
		status, answer := request(t, "POST", sheet.Address, "", []byte("["+strings.Join(items, ",")+"]"))
		require.NoError(t, json.Unmarshal([]byte(answer), &said), answer)
		return status, said
	}
	status, first := call(1, 2, 1)
	require.Equal(t, 202, status)
	require.NotEmpty(t, first.Run)
	require.Zero(t, first.Known, "two of one key were both not there before")
	_, again := call(2, 1)
	require.Zero(t, again.Runs)
	require.Equal(t, 2, again.Known)
	require.Equal(t, first.Run, again.Run)

	var wait sync.WaitGroup
	for n := range 30 {
		wait.Go(func() { call(n%7+10, n%5+20, 30+n%3) })
	}
	wait.Wait()
	name := "lots"
	seen := map[string]int{}
	page, err := ottermere.Answer[api.RunPage](w.Client.ListRuns(ctx, &api.ListRunsParams{Workflow: &name}))
	require.NoError(t, err)
	for _, r := range page.Runs {
		_, err := w.Wait(ctx, r.Id)
		require.NoError(t, err)
		rows, err := w.Rows(ctx, r.Id, 20)
		require.NoError(t, err)
		for _, row := range rows.Rows {
			seen[row.Label]++
		}
	}
	require.Len(t, seen, 2+7+5+3)
	require.Equal(t, 2, seen["lot-1"], "as its list had it")
	delete(seen, "lot-1")
	for id, n := range seen {
		require.Equal(t, 1, n, id)
	}
}

// A start by hand of a list comes apart as the workflow says, and tells how.
func TestAListStartedByCommandComesApart(t *testing.T) {
	t.Parallel()
	w := world(t, func(o *ottermere.Options) { o.Bare = true })
	ctx := within(t, time.Minute)
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: `format: young-trellis/1
name: lots
label: item.id
trigger: {type: manual, settings: {runs: by, by: item.studio, key: item.id}}
steps:
  - {name: seen, type: shape, settings: {set: {id: (= item.id )}}}
`}))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "lots", &api.GoLiveParams{}))
	require.NoError(t, err)
	file := func(text string) string {
		path := filepath.Join(t.TempDir(), "items.json")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	three := file(`[{"id": 1, "studio": "ash"}, {"id": 2, "studio": "oak"}, {"id": 3, "studio": "ash"}]`)
	out, code := said(t, w, "", "workflow", "start", "lots", "--items", three)
	require.Zero(t, code, out)
	require.Contains(t, out, "started 2 runs, the first is ")
	require.Contains(t, out, "trellis run list --workflow lots")
	out, code = said(t, w, "", "workflow", "start", "lots", "--items", three, "--watch")
	require.Zero(t, code, out)
	require.Contains(t, out, "nothing was started: the key has started run ")
	out, code = said(t, w, "", "workflow", "start", "lots", "--items", file(`[{"id": 3, "studio": "ash"}, {"id": 4, "studio": "ash"}]`))
	require.Zero(t, code, out)
	require.Contains(t, out, "started run ")
	require.Contains(t, out, "1 item left out, known by key")
	out, code = said(t, w, "", "workflow", "start", "lots", "--items", file(`[{"studio": "ash"}]`))
	require.NotZero(t, code)
	require.Contains(t, out, "The key is empty: item.id gives nothing.")
}
