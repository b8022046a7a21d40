package test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/demo"
	"youngtrellis/internal/ottermere"
	"youngtrellis/internal/standins/tables"
)

// all keeps every shipped workflow.
func all(o *ottermere.Options) { o.Few = false }

// began starts a workflow with its samples and waits for its end.
func began(t *testing.T, ctx context.Context, w *ottermere.World, name string) api.Run {
	t.Helper()
	items := []api.Fields{}
	for _, s := range demo.Samples[name] {
		items = append(items, api.Fields(s))
	}
	s, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, name, api.Items{Items: &items}))
	require.NoError(t, err)
	return ended(t, ctx, w, s.Run)
}

func ended(t *testing.T, ctx context.Context, w *ottermere.World, run uuid.UUID) api.Run {
	t.Helper()
	r, err := w.Wait(ctx, run)
	require.NoError(t, err)
	return r
}

// fates counts the cells of a column by what became of the items.
func fates(t *testing.T, ctx context.Context, w *ottermere.World, r api.Run, step string) map[string]int {
	t.Helper()
	l, err := w.Rows(ctx, r.Run.Id, 500)
	require.NoError(t, err)
	at := slices.IndexFunc(r.Columns, func(c api.Column) bool { return c.Name == step })
	out := map[string]int{}
	for _, row := range l.Rows {
		if f := row.Cells[at].Fate; f != "not_reached" {
			out[string(f)]++
		}
	}
	return out
}

func TestTheShippedWorkflowsWithNestsEndAsTheyShould(t *testing.T) {
	t.Parallel()
	w := world(t, all)
	ctx := within(t, time.Minute)

	loads := began(t, ctx, w, "kiln-loads")
	require.Equal(t, api.RunState("succeeded"), loads.Run.State, loads.Run.Message)
	require.Equal(t, map[string]int{"passed": 3, "joined": 8}, fates(t, ctx, w, loads, "loads"))
	require.Equal(t, map[string]int{"written": 3}, fates(t, ctx, w, loads, "told"))

	notes := began(t, ctx, w, "studio-notes")
	require.Equal(t, api.RunState("succeeded"), notes.Run.State, notes.Run.Message)
	mailed, texted := fates(t, ctx, w, notes, "mailed"), fates(t, ctx, w, notes, "texted")
	require.Equal(t, len(texted), 1)
	require.Equal(t, notes.Run.Counts.Through, mailed["written"]+texted["written"])
	require.Equal(t, "2.3", *notes.Columns[slices.IndexFunc(notes.Columns, func(c api.Column) bool { return c.Name == "way" })].Line)

	order := began(t, ctx, w, "glaze-order")
	require.Equal(t, api.RunState("succeeded"), order.Run.State, order.Run.Message)
	rows := w.Tables.Rows(tables.OrdersTab)
	require.Len(t, rows, 2)
	require.Equal(t, "Celadon 4, Barium blue, Tenmoku", rows[0].Values["glazes"])
	require.Equal(t, "263.75", fmt.Sprint(rows[0].Values["price"]))
	require.Equal(t, "114", fmt.Sprint(rows[1].Values["price"]))

	// A cell of what was made of many opens, and says of what.
	l, err := w.Rows(ctx, order.Run.Id, 50)
	require.NoError(t, err)
	group := l.Rows[slices.IndexFunc(l.Rows, func(r api.Row) bool { return r.Members != nil })]
	o, err := ottermere.Answer[api.OpenedCell](w.Client.OpenCell(ctx, order.Run.Id, group.Address, "order"))
	require.NoError(t, err)
	require.Equal(t, 3, *o.MadeOf)
	require.Contains(t, string(*o.After), `"litres":29.5`)
	out, code := command(t, w, "", "run", "item", order.Run.Id.String(), "@"+group.Address, "noted")
	require.Zero(t, code, out)
	require.Contains(t, out, "made of 3 items: @0-1.0, @0-1.1, @0-1.2")
	rowed, code := command(t, w, "", "run", "item", order.Run.Id.String(), "order:row1", "noted")
	require.Zero(t, code, rowed)
	require.Equal(t, out, rowed, "an item is known by its row as well")
	for given, says := range map[string]string{"row999": "the run has no row 999: it has", "rowx": "rows are numbered from 1", "7": "the run has no row 7", "@0": ""} {
		step := "noted"
		if says == "" {
			step, says = "nosuch", `there is no step nosuch`
		}
		out, code := command(t, w, "", "run", "item", order.Run.Id.String(), given, step)
		require.NotZero(t, code)
		require.Contains(t, out, says)
	}
	out, code = command(t, w, "", "workflow", "show", "studio-notes")
	require.Zero(t, code, out)
	require.Contains(t, out, "2.3.2  Send a text message")
	require.Contains(t, out, "For each studio, one after the other.")
	require.Contains(t, out, "several, where n is more than 1:")
}

// They are rehearsed as well: nothing is sent, and every way is seen.
func TestNestedWorkflowsAreRehearsed(t *testing.T) {
	t.Parallel()
	w := world(t, all)
	ctx := within(t, time.Minute)
	for name, prepared := range map[string]int{"kiln-loads": 6, "glaze-order": 2} {
		r, err := ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, name, api.Rehearse{}))
		require.NoError(t, err)
		require.Equal(t, api.RunState("succeeded"), r.State, "%s: %v", name, r.Message)
		require.Equal(t, prepared, r.Prepared, name)
	}
	require.Empty(t, w.Tables.Rows(tables.OrdersTab))
	to := "studio"
	r, err := ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, "studio-notes", api.Rehearse{To: &to}))
	require.NoError(t, err)
	require.Equal(t, "studio", r.Columns[len(r.Columns)-1].Name, "up to a line within another")
}

// edited makes a workflow's next revision of a text in which things are replaced.
func edited(t *testing.T, ctx context.Context, w *ottermere.World, name string, replace ...string) {
	t.Helper()
	now, err := ottermere.Answer[api.Workflow](w.Client.GetWorkflow(ctx, name))
	require.NoError(t, err)
	text := strings.NewReplacer(replace...).Replace(now.Document)
	require.NotEqual(t, now.Document, text)
	_, err = ottermere.Answer[api.Workflow](w.Client.SaveDraft(ctx, name, &api.SaveDraftParams{}, api.Document{Document: text}))
	require.NoError(t, err)
	live, err := ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, name, &api.GoLiveParams{}))
	require.NoError(t, err)
	require.NotNil(t, live.Live)
}

// A run that failed goes on with a changed workflow: right, or refused in words.
func TestResumeWithAChangedWorkflow(t *testing.T) {
	t.Parallel()
	w := world(t, all)
	ctx := within(t, time.Minute)
	failing := func(name string, replace ...string) api.Run {
		edited(t, ctx, w, name, replace...)
		r := began(t, ctx, w, name)
		require.Equal(t, api.RunState("failed"), r.Run.State)
		return r
	}
	newest := true
	resume := func(r api.Run) (api.Run, error) {
		next, err := ottermere.Answer[api.Run](w.Client.ResumeRun(ctx, r.Run.Id, api.Onward{Newest: &newest}))
		if err != nil {
			return next, err
		}
		return ended(t, ctx, w, r.Run.Id), nil
	}
	failed := failing("glaze-order", "tb_q2w6oe", "tb_gone")
	require.Equal(t, 2, failed.Run.Counts.Stopped+failed.Run.Counts.NotDone)

	// A step that was renamed, and one that is new below it.
	edited(t, ctx, w, "glaze-order", "tb_gone", "tb_q2w6oe", "name: noted", "name: written\n    was: noted", "    output: under row\n", "    output: under row\n  - name: last\n    type: shape\n    settings: {set: {done: true}}\n")
	plan, err := ottermere.Answer[api.Plan](w.Client.PlanRun(ctx, failed.Run.Id, &api.PlanRunParams{Newest: &newest}))
	require.NoError(t, err)
	require.Nil(t, plan.Refused)
	require.Equal(t, "noted", plan.Steps[0].Step)
	require.Equal(t, "written", plan.Steps[0].Into)
	require.NotEmpty(t, *plan.Changes)
	done, err := resume(failed)
	require.NoError(t, err)
	require.Equal(t, api.RunState("succeeded"), done.Run.State, done.Run.Message)
	require.Len(t, w.Tables.Rows(tables.OrdersTab), 2)
	require.Equal(t, map[string]int{"passed": 2}, fates(t, ctx, w, done, "last"))

	// One that reads what the items never came through is refused by name.
	failed = failing("glaze-order", "tb_q2w6oe", "tb_gone")
	edited(t, ctx, w, "glaze-order", "tb_gone", "tb_q2w6oe", "  - name: order\n", "  - name: fresh\n    type: shape\n    settings: {set: {x: 1}}\n  - name: order\n", "{done: true}", `{done: "(= len(column(\"fresh\")) )"}`)
	_, err = resume(failed)
	require.NoError(t, err, "a column may be empty")

	failed = failing("glaze-order", "tb_q2w6oe", "tb_gone")
	edited(t, ctx, w, "glaze-order", "name: written", "name: elsewhere", "    was: noted\n", "")
	_, err = resume(failed)
	require.ErrorContains(t, err, "they stand before the step written, which is not there any more")

	// A step that was done already may not come below.
	failed = failing("kiln-loads", "from: Ottermere", `from: (= "Ottermere, the kiln hall" )`)
	_, err = ottermere.Answer[api.Workflow](w.Client.EditDraft(ctx, "kiln-loads", &api.EditDraftParams{}, edits(`[{"op": "move", "step": "slot", "to": 4}, {"op": "set", "step": "told", "key": "input.from", "value": "Ottermere"}]`)))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "kiln-loads", &api.GoLiveParams{}))
	require.NoError(t, err)
	_, err = resume(failed)
	require.ErrorContains(t, err, "slot was done for these items already and stands below told now, so it would be done a second time")
	out, code := command(t, w, "", "run", "plan", failed.Run.Id.String(), "--newest")
	require.Zero(t, code, out)
	require.Contains(t, out, "This cannot be done")
	require.Contains(t, out, "Moved to line 5")
	_, err = ottermere.Answer[api.Workflow](w.Client.EditDraft(ctx, "kiln-loads", &api.EditDraftParams{}, edits(`[{"op": "move", "step": "slot", "to": 3}]`)))
	require.NoError(t, err)
	_, err = ottermere.Answer[api.Workflow](w.Client.GoLive(ctx, "kiln-loads", &api.GoLiveParams{}))
	require.NoError(t, err)
	done, err = resume(failed)
	require.NoError(t, err)
	require.Equal(t, api.RunState("succeeded"), done.Run.State, done.Run.Message)
	require.Equal(t, map[string]int{"written": 3}, fates(t, ctx, w, done, "slot"))
}

// columnsOf are the fates of every column of a run.
func columnsOf(t *testing.T, ctx context.Context, w *ottermere.World, run uuid.UUID) map[string]map[string]int {
	t.Helper()
	r, err := w.Wait(ctx, run)
	require.NoError(t, err)
	require.NotEqual(t, api.RunStateFailed, r.Run.State, r.Run.Message)
	out := map[string]map[string]int{}
	for _, c := range r.Columns {
		out[c.Name] = fates(t, ctx, w, r, c.Name)
	}
	return out
}

// Killed in the middle, and more than once, the shipped workflows with nests end
// as they do where nothing happens to them.
func TestNestedWorkflowsSurviveKills(t *testing.T) {
	t.Parallel()
	ctx := within(t, 3*time.Minute)
	lines := []api.Fields{}
	for i := range 150 {
		var f api.Fields
		require.NoError(t, json.Unmarshal([]byte(fmt.Sprintf(`{"order": "GO-%d", "studio": "Rill Pottery", "lines": [{"glaze": "Tenmoku", "litres": %d}, {"glaze": "Celadon 4", "litres": 0.5}]}`, 500+i/2, 1+i%30)), &f))
		lines = append(lines, f)
	}
	prepare := func() *ottermere.World {
		w := world(t, all)
		w.Tables.Fill(150, time.Now())
		edited(t, ctx, w, "studio-notes", "by: item.studio", "by: item.piece")
		edited(t, ctx, w, "kiln-loads", "size: 24", "size: 2", "duration(number(item.cone) * 8 + \"h\")", "duration(item.pieces[0].height_cm + \"m\")", "duration(number(item.cone) * 8 + 7 + \"h\")", "duration(item.pieces[0].height_cm + 1 + \"m\")")
		return w
	}
	begin := func(w *ottermere.World, name string) uuid.UUID {
		body := api.Items{}
		if name == "glaze-order" {
			body.Items = &lines
		}
		s, err := ottermere.Answer[api.Started](w.Client.StartWorkflow(ctx, name, body))
		require.NoError(t, err)
		return s.Run
	}
	names := []string{"kiln-loads", "studio-notes", "glaze-order"}
	calm, want := prepare(), map[string]map[string]map[string]int{}
	for _, name := range names {
		want[name] = columnsOf(t, ctx, calm, begin(calm, name))
	}

	w := prepare()
	w.Service.Close()
	w.Service = nil
	data := filepath.Join(w.Data, "service")
	p := serve(t, w.DatabaseURL, data)
	w.Client = clientOf(t, p.address, w.Token)
	started := map[string]uuid.UUID{}
	kills := 0
	for _, name := range names {
		started[name] = begin(w, name)
		for range 2 {
			calls := 0
			eventually(t, "some calls, or the end", time.Minute, func() bool {
				r, err := ottermere.Answer[api.Run](w.Client.GetRun(ctx, started[name]))
				require.NoError(t, err)
				if r.Run.Counts == nil {
					return r.Run.Ended != nil
				}
				if calls == 0 {
					calls = r.Run.Counts.Calls + 1 + rand.IntN(60)
				}
				return r.Run.Ended != nil || r.Run.Counts.Calls >= calls
			})
			r, err := ottermere.Answer[api.Run](w.Client.GetRun(ctx, started[name]))
			require.NoError(t, err)
			if r.Run.Ended == nil {
				kills++
			}
			require.NoError(t, p.Process.Kill())
			_ = p.Wait()
			p = serve(t, w.DatabaseURL, data)
			w.Client = clientOf(t, p.address, w.Token)
		}
	}
	for _, name := range names {
		require.Equal(t, want[name], columnsOf(t, ctx, w, started[name]), name)
	}
	require.Positive(t, kills)
	require.Len(t, w.Tables.Rows(tables.OrdersTab), len(calm.Tables.Rows(tables.OrdersTab)))
	t.Logf("killed %d times", kills)
}

func edits(list string) api.Edits {
	var e api.Edits
	_ = json.Unmarshal([]byte(`{"edits": `+list+`}`), &e)
	return e
}
