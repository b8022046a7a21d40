package triggers

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/form"
)

func TestWhatFollowsAnotherWorkflow(t *testing.T) {
	t.Parallel()
	k, ok := Find(After)
	require.True(t, ok)
	require.True(t, k.Follows && k.Alone && !k.Called && !k.Timed)
	for when, want := range map[string]struct {
		states   []string
		sentence string
	}{
		"":          {[]string{"succeeded"}, "After gas-price has succeeded"},
		"succeeded": {[]string{"succeeded"}, "After gas-price has succeeded"},
		"set_aside": {[]string{"partial"}, "After gas-price has set items aside"},
		"failed":    {[]string{"failed"}, "After gas-price has failed"},
		"ended":     {[]string{"succeeded", "partial", "failed"}, "After gas-price has ended"},
	} {
		settings := map[string]any{"workflow": "gas-price"}
		if when != "" {
			settings["when"] = when
		}
		s, errs := k.Start(settings)
		require.Empty(t, errs, when)
		require.Equal(t, &Following{"gas-price", want.states}, s.Follows)
		require.Equal(t, want.sentence, k.Sentence(settings))
	}
	require.Equal(t, "After another workflow", k.Sentence(nil))
	for field, settings := range map[string]map[string]any{"workflow": {"workflow": "Not A Name"}, "when": {"workflow": "x", "when": "tired"}} {
		_, errs := k.Start(settings)
		require.Len(t, errs, 1, field)
		var placed *form.Error
		require.ErrorAs(t, errs[0], &placed)
		require.Equal(t, field, placed.Field)
	}
	_, errs := k.Start(nil)
	var gap *form.Gap
	require.ErrorAs(t, errs[0], &gap)
}

func TestTheItemOfAnEndTellsWhichRunItWas(t *testing.T) {
	t.Parallel()
	f := &Following{Workflow: "gas-price", States: []string{"partial"}}
	at := time.Date(2026, 11, 27, 18, 40, 0, 0, time.UTC)
	require.Equal(t, map[string]any{
		"workflow": "gas-price", "title": "The gas price", "run": "r1", "pass": int64(2), "outcome": "set_aside", "message": "1 item was set aside",
		"began": "2026-11-27T18:40:00Z", "ended": "2026-11-27T18:41:00Z", "items": int64(3), "set_aside": int64(1),
	}, f.Item(Ended{"gas-price", "The gas price", "r1", 2, "partial", "1 item was set aside", at, at.Add(time.Minute), 3, 1}))
	require.Equal(t, "set_aside", f.Sample(at)["outcome"], "a start by hand is as if a run had ended now")
	require.Equal(t, "gas price", f.Sample(at)["title"])
}
