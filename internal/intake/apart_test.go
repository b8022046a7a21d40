package intake

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/store"
)

func (d *door) texts() (out []string) {
	for _, s := range d.started {
		out = append(out, string(s.Items[0]))
	}
	return out
}

func TestEachItemStartsARunOfItsOwn(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"key": "item.id", "runs": "each"})
	first, err := d.receive(proven(), `{"id": "b"}`)
	require.NoError(t, err)
	got, err := d.receive(proven(), `[{"id": "a"}, {"id": "b"}, {"id": "c"}]`)
	require.NoError(t, err)
	require.Equal(t, []string{`[{"id":"b"}]`, `[{"id":"a"}]`, `[{"id":"c"}]`}, d.texts())
	require.Equal(t, Received{Run: d.started[1].Run, Runs: 2, Known: 1}, got, "what is known is left out and counted")
	require.Equal(t, first.Run, *d.noted[0].Run)
	require.Equal(t, `"b`, d.started[0].Key)

	again, err := d.receive(proven(), `[{"id": "a"}, {"id": "b"}, {"id": "c"}]`)
	require.NoError(t, err)
	require.Equal(t, Received{Run: d.started[1].Run, Known: 3, Duplicate: true}, again)
	require.Len(t, d.started, 3)

	_, err = d.receive(proven(), `[{"id": "x"}, {"n": 1}]`)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "item 2: the key is empty: item.id gives nothing")
	require.Len(t, d.started, 3, "nothing of it was started")
	require.Equal(t, "refused", d.noted[len(d.noted)-1].Verdict)

	many := func(n int) string {
		out := make([]string, n)
		for i := range out {
			out[i] = fmt.Sprintf(`{"id": "m%d"}`, i)
		}
		return "[" + strings.Join(out, ",") + "]"
	}
	_, err = d.receive(proven(), many(MaxRuns+1))
	status, text = refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "it would start 1001 runs, and one delivery starts at most 1000")
	got, err = d.receive(proven(), many(MaxRuns))
	require.NoError(t, err)
	require.Equal(t, MaxRuns, got.Runs)
}

func TestItemsOfOneValueRunTogether(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"runs": "by", "by": "item.studio"})
	got, err := d.receive(proven(), `[{"studio": "ash", "n": 1}, {"studio": 7}, {"studio": "ash", "n": 2}, {}, {"studio": "7"}, {"studio": 7.0}, {"studio": null}]`)
	require.NoError(t, err)
	require.Equal(t, 4, got.Runs)
	require.Equal(t, []string{`[{"n":1,"studio":"ash"},{"n":2,"studio":"ash"}]`, `[{"studio":7},{"studio":7}]`, `[{},{"studio":null}]`, `[{"studio":"7"}]`}, d.texts())
	_, err = d.receive(proven(), `[{"studio": "ash"}, {"studio": "oak"}]`)
	require.NoError(t, err)
	d.startErr = store.ErrUncertain
	_, err = d.receive(proven(), `[{"studio": "ash"}, {"studio": "oak"}]`)
	require.ErrorIs(t, err, store.ErrUncertain)
	d.plan.Start.Runs.By = mustCompile(t, "1 + item.studio.x > {}")
	_, err = d.receive(proven(), `[{"studio": "ash"}, {"studio": "oak"}]`)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "item 1: with which others it runs cannot be told")
}

func TestHowManyRunsStartIsSaidOnce(t *testing.T) {
	t.Parallel()
	k, _ := triggers.Find(triggers.Webhook)
	for want, settings := range map[string]map[string]any{
		"say of what there is one run for each": {"runs": "by"},
		"it counts only with runs: by":          {"by": "item.a"},
		"a key belongs to each item":            {"runs": "by", "by": "item.a", "key": "item.b"},
	} {
		_, errs := k.Start(settings)
		require.Len(t, errs, 1)
		require.ErrorContains(t, errs[0], want)
		var placed *form.Error
		require.ErrorAs(t, errs[0], &placed)
	}
	require.Equal(t, "Whenever its address is called, a run for each item", k.Sentence(map[string]any{"runs": "each"}))
	require.Equal(t, "Whenever its address is called, a run for each studio", k.Sentence(map[string]any{"runs": "by", "by": "item.studio"}))
	require.Equal(t, "Whenever its address is called", k.Sentence(nil))
}

func mustCompile(t *testing.T, source string) *expr.Program {
	t.Helper()
	p, err := expr.Compile(source, expr.Names{"item"})
	require.NoError(t, err)
	return p
}
