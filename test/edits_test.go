package test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// What edits would break is told before they are made, what they make good
// follows by itself, and what cannot be meant is refused in words.
func TestEditsOfADraftArePlannedAndFollowed(t *testing.T) {
	t.Parallel()
	w := world(t, all)
	ctx := within(t, time.Minute)
	const name = "oldest-pieces"
	text := func() string {
		now, err := ottermere.Answer[api.Workflow](w.Client.GetWorkflow(ctx, name))
		require.NoError(t, err)
		return now.Document
	}
	one := func(e map[string]any) api.Edits {
		raw, err := json.Marshal([]any{e})
		require.NoError(t, err)
		return edits(string(raw))
	}
	change := func(e map[string]any) (api.Workflow, error) {
		return ottermere.Answer[api.Workflow](w.Client.EditDraft(ctx, name, &api.EditDraftParams{}, one(e)))
	}
	before := text()

	// A step that the message reads, and a step that reads it.
	_, err := change(map[string]any{"op": "set", "step": "mailed", "key": "input.text", "value": "(= steps.two.piece ) of (= steps.once.studio )"})
	require.NoError(t, err)
	read := text()
	plan, err := ottermere.Answer[api.DraftPlan](w.Client.PlanEdits(ctx, name, one(map[string]any{"op": "remove", "step": "two"})))
	require.NoError(t, err)
	require.Len(t, plan.Problems, 1)
	require.Contains(t, plan.Problems[0].Message, "two")
	require.Equal(t, "mailed", *plan.Problems[0].Step)
	require.Equal(t, read, text(), "a plan changes nothing")
	plan, err = ottermere.Answer[api.DraftPlan](w.Client.PlanEdits(ctx, name, one(map[string]any{"op": "set", "step": "two", "key": "name", "value": "pair"})))
	require.NoError(t, err)
	require.Empty(t, plan.Problems)
	require.Equal(t, 1, plan.Followed)

	changed, err := change(map[string]any{"op": "set", "step": "two", "key": "name", "value": "pair"})
	require.NoError(t, err)
	require.Equal(t, 1, *changed.Followed)
	require.Contains(t, changed.Document, "(= steps.pair.piece ) of (= steps.once.studio )")
	require.Equal(t, strings.Count(before, "#"), strings.Count(changed.Document, "#"))

	// Lines that come as text get names that are free, and read each other by
	// those; the line that was there is read as before.
	changed, err = change(map[string]any{"op": "paste", "to": 4, "value": `
- name: pair
  type: shape
  settings: {set: {seen: true}}
- name: named
  type: shape
  settings: {set: {again: (= steps.pair.seen )}}
`})
	require.NoError(t, err)
	require.Equal(t, 1, *changed.Followed)
	require.Contains(t, changed.Document, "name: pair_2")
	require.Contains(t, changed.Document, "steps.pair_2.seen")
	require.Contains(t, changed.Document, "steps.pair.piece")

	require.Empty(t, changed.Problems)

	now := text()
	for _, c := range []struct {
		edit map[string]any
		says string
	}{
		{map[string]any{"op": "paste", "value": ""}, "nothing to paste"},
		{map[string]any{"op": "paste", "value": "kiln"}, "no text of lines"},
		{map[string]any{"op": "paste", "value": "- name: x\n\t- y"}, "no text of lines"},
		{map[string]any{"op": "paste", "value": "- name: x\n  when: true\n  steps: []"}, "these are cases"},
		{map[string]any{"op": "paste", "in": "pair", "value": "- type: filter"}, "pair"},
		{map[string]any{"op": "paste", "value": strings.Repeat("- type: filter\n", 501)}, "at most 500"},
		{map[string]any{"op": "move", "step": "way", "in": "way/by_phone"}, "into itself"},
		{map[string]any{"op": "remove", "step": "nosuch"}, "nosuch"},
		{map[string]any{"op": "grow", "step": "pair"}, "grow"},
	} {
		_, err := change(c.edit)
		require.ErrorContains(t, err, c.says, "%v", c.edit)
	}
	require.Equal(t, now, text(), "what is refused changes nothing")
}

// A rehearsal answers for a write with what would have been sent, marks what was
// made from a sample answer, and holds the rules of fields against every sample.
func TestARehearsalAnswersWithWhatWouldBeSent(t *testing.T) {
	t.Parallel()
	w := world(t, all)
	ctx := within(t, time.Minute)
	r, err := ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, "counter-calls", api.Rehearse{}))
	require.NoError(t, err)
	require.Equal(t, []string{"real", "call", "studio", "noted"}, []string{r.Columns[0].Name, r.Columns[1].Name, r.Columns[2].Name, r.Columns[3].Name})
	seen := map[string]bool{}
	for _, row := range r.Rows {
		if row.Cells[0].Fate == "held_back" {
			require.Nil(t, row.Cells[2].Simulated)
			continue
		}
		if row.Label == "Saltgrass Studio" { // half a number
			require.EqualValues(t, "set_aside", row.Cells[2].Fate)
			require.Equal(t, "Telephone number is “+44 1632”; it is written as +441632960142", row.Cells[2].Text)
			continue
		}
		var written struct {
			Values struct{ Name, Number string }
		}
		require.NoError(t, json.Unmarshal([]byte(*row.Cells[3].Sent.Body), &written))
		require.Equal(t, row.Label, written.Values.Name, "the row that would be written is that of this call")
		seen[written.Values.Name] = true
		for i, want := range []bool{false, false, true, true} {
			require.Equal(t, want, row.Cells[i].Simulated != nil && *row.Cells[i].Simulated, "%s, column %d", row.Label, i)
		}
	}
	require.True(t, seen["Fernhill Pots"])
	out, code := command(t, w, "", "workflow", "rehearse", "counter-calls")
	require.Zero(t, code, out)
	require.Contains(t, out, "≈ was made from a sample answer")

	// The number is none, by the rule of the field: told before anything is sent.
	r, err = ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, "oldest-pieces", api.Rehearse{}))
	require.NoError(t, err)
	require.NotEmpty(t, r.Rows)
	told := false
	for _, row := range r.Rows {
		for _, c := range row.Cells {
			told = told || strings.Contains(c.Text, "ask at the gate") && strings.Contains(c.Text, "not in the form expected")
		}
	}
	require.True(t, told)
}

// A document that is checked from a file is held against the samples that the
// service has of its workflow, also where something else is wrong with it.
func TestAFileIsCheckedWithTheSamplesThatAreHeld(t *testing.T) {
	t.Parallel()
	w := world(t)
	text := "format: young-trellis/1\nname: weighed\ntrigger: {type: manual}\nlabel: item.cal_id\nsteps:\n" +
		"  - {name: long, type: filter, settings: {where: item.durration > 20}}\n" +
		"  - {name: price, type: shape, settings: {set: {price: \"(= item.weight * 2 )\"}}}\n"
	out, code := command(t, w, text, "workflow", "apply", "-")
	require.Zero(t, code, out)
	_, err := ottermere.Answer[api.Sample](w.Client.AddSample(within(t, time.Minute), "weighed", api.NewSample{Fields: fieldsOf(t, `{"call_id": "a", "duration": 30, "weight": "two"}`)}))
	require.NoError(t, err)
	out, _ = command(t, w, text, "workflow", "check", "-")
	for _, want := range []string{`No sample has a field "durration" here.`, "Did you mean item.duration?", `No sample has a field "cal_id"`} {
		require.Contains(t, out, want)
	}
	mended := strings.Replace(text, "durration", "duration", 1)
	out, _ = command(t, w, mended, "workflow", "check", "-")
	require.Contains(t, out, "1 of 1 sample would fail here")
	out, code = command(t, w, strings.Replace(text, "type: shape", "type: shap", 1), "workflow", "check", "-")
	require.NotZero(t, code)
	require.Contains(t, out, `There is no step kind "shap".`)
	require.Contains(t, out, `No sample has a field "durration" here.`, "everything at once")
}

// A workflow that was never rehearsed says so without an error.
func TestAWorkflowThatWasNeverRehearsedIsNoError(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := within(t, time.Minute)
	_, err := ottermere.Answer[api.Workflow](w.Client.CreateWorkflow(ctx, api.Document{Document: "format: young-trellis/1\nname: fresh\ntrigger: {type: manual}\nsteps: []\n"}))
	require.NoError(t, err)
	res, err := w.Client.LastRehearsal(ctx, "fresh")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, 204, res.StatusCode)
	_, err = ottermere.Answer[api.Rehearsal](w.Client.Rehearse(ctx, "fresh", api.Rehearse{}))
	require.NoError(t, err)
	res, err = w.Client.LastRehearsal(ctx, "fresh")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, 200, res.StatusCode)
}

// Samples are shown, changed and removed by their numbers.
func TestSamplesAreChangedByTheirNumbers(t *testing.T) {
	t.Parallel()
	w := world(t)
	text := "format: young-trellis/1\nname: weighed\ntrigger: {type: manual}\nsteps: []\n"
	out, code := command(t, w, text, "workflow", "apply", "-")
	require.Zero(t, code, out)
	out, code = command(t, w, `[{"n": 1}, {"n": 9223372036854775807}]`, "sample", "add", "weighed", "-")
	require.Zero(t, code, out)
	out, code = command(t, w, "", "sample", "show", "weighed", "2")
	require.Zero(t, code, out)
	require.Contains(t, out, `"n": 9223372036854775807`)
	out, code = command(t, w, `{"n": 3}`, "sample", "edit", "weighed", "1", "-")
	require.Zero(t, code, out)
	require.Contains(t, out, "changed sample 1 of weighed")
	out, code = command(t, w, `[{"n": 3}, {"n": 4}]`, "sample", "edit", "weighed", "1", "-")
	require.Equal(t, 2, code, out)
	require.Contains(t, out, "does not hold a JSON object")
	out, code = command(t, w, "", "sample", "show", "weighed", "7")
	require.Equal(t, 3, code, out)
	require.Contains(t, out, "there is no sample 7 of weighed; it has 2 samples")
	out, code = command(t, w, "", "sample", "remove", "weighed", "2")
	require.Zero(t, code, out)
	s, err := ottermere.Answer[api.Samples](w.Client.ListSamples(within(t, time.Minute), "weighed"))
	require.NoError(t, err)
	require.Len(t, s.Samples, 1)
	require.JSONEq(t, `{"n": 3}`, string(s.Samples[0].Fields))
	require.Contains(t, s.Samples[0].Source, "changed by")
	res, err := w.Client.ChangeSample(within(t, time.Minute), "weighed", uuid.New(), api.NewSample{Fields: fieldsOf(t, `{"n": 1}`)})
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, 404, res.StatusCode)
}
