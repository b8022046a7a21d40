package intake

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/workflow"
)

func TestTheKeyOfACallIsWorkedOutAndHasItsTerm(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	trigger := func(settings map[string]any) *workflow.Plan {
		p, err := workflow.Compile(&workflow.Workflow{Name: "calls", Trigger: workflow.Trigger{Type: "webhook", Settings: settings}}, &workflow.Catalog{})
		require.NoError(t, err)
		return p
	}
	fields := map[string]any{"call_id": int64(17)}
	key, expires, err := startKey(context.Background(), trigger(map[string]any{"key": "item.call_id"}), fields, at)
	require.NoError(t, err)
	require.Equal(t, "17", key)
	require.Equal(t, at.Add(7*24*time.Hour), expires)
	_, expires, err = startKey(context.Background(), trigger(map[string]any{"key": "item.call_id", "for": "2h"}), fields, at)
	require.NoError(t, err)
	require.Equal(t, at.Add(2*time.Hour), expires)
	keys := map[string]bool{}
	for _, v := range []any{int64(17), 17.0, "17", "17.0", []any{int64(17)}, []any{"17"}, 1234567.5} {
		key, _, err := startKey(context.Background(), trigger(map[string]any{"key": "item.call_id"}), map[string]any{"call_id": v}, at)
		require.NoError(t, err)
		keys[key] = true
	}
	require.Equal(t, map[string]bool{"17": true, `"17`: true, `"17.0`: true, "[17]": true, `["17"]`: true, "1234567.5": true}, keys, "a number is not the text that it is written as, and is one key however it is written")
	key, _, err = startKey(context.Background(), trigger(nil), fields, at)
	require.NoError(t, err)
	require.Empty(t, key)
	for _, empty := range []any{nil, ""} {
		_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.call_id"}), map[string]any{"call_id": empty}, at)
		require.ErrorContains(t, err, "the key is empty", "what has no key would start again with each repeat")
	}
	_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.call_id > 'x'"}), fields, at)
	require.ErrorContains(t, err, "cannot be told")
	_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.x"}), map[string]any{"x": strings.Repeat("y", 501)}, at)
	require.ErrorContains(t, err, "longer than 500")
	_, _, err = startKey(context.Background(), trigger(map[string]any{"key": "item.x"}), map[string]any{"x": "a\x00b"}, at)
	require.ErrorContains(t, err, "cannot be stored")
}
