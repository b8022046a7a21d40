package intake

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"
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
	require.Contains(t, text, "it would start 1001 runs, and at most 1000 start at once")
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

// Items that run together have keys of their own: what is known is left out, the rest
// starts.
func TestItemsThatRunTogetherHaveKeysOfTheirOwn(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"key": "item.id"})
	first, err := d.receive(proven(), `{"id": "b"}`)
	require.NoError(t, err)
	require.Equal(t, `"b`, d.started[0].Key)
	got, err := d.receive(proven(), `[{"id": "a"}, {"id": "b"}, {"id": "c"}, {"id": "a", "n": 2}]`)
	require.NoError(t, err)
	require.Equal(t, Received{Run: d.started[1].Run, Runs: 1, Known: 1}, got)
	require.Equal(t, []string{`[{"id":"b"}]`, `[{"id":"a"},{"id":"c"},{"id":"a","n":2}]`}, d.texts(), "two of one key were both not there before")
	require.Equal(t, []string{`"a`, `"c`}, d.started[1].Keys)
	require.Equal(t, first.Run, *d.noted[0].Run)
	require.Contains(t, d.noted[0].Reason, "the key “b” has started run "+first.Run.String())

	all, err := d.receive(proven(), `[{"id": "c"}, {"id": "b"}]`)
	require.NoError(t, err)
	require.Equal(t, Received{Run: d.started[1].Run, Known: 2, Duplicate: true}, all)
	require.Len(t, d.started, 2)

	_, err = d.receive(proven(), `[{"id": "x"}, {"id": ""}]`)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "item 2: the key is empty: item.id gives nothing")
	require.Len(t, d.started, 2, "nothing of it was started")
}

// Somebody else may take a key between the look and the start: what is left starts.
func TestAKeyThatIsTakenMeanwhileIsLeftOut(t *testing.T) {
	t.Parallel()
	d := newDoor(t, map[string]any{"key": "item.id", "runs": "by", "by": "item.studio"})
	other := uuid.New()
	d.meanwhile = func(keys map[string]uuid.UUID) { keys[`"b`] = other }
	got, err := d.receive(proven(), `[{"id": "a", "studio": 1}, {"id": "b", "studio": 1}, {"id": "c", "studio": 2}]`)
	require.NoError(t, err)
	require.Equal(t, 2, got.Runs)
	require.Equal(t, 1, got.Known)
	require.ElementsMatch(t, []string{`[{"id":"a","studio":1}]`, `[{"id":"c","studio":2}]`}, d.texts())
	require.Equal(t, other, *d.noted[0].Run)

	got, err = d.receive(proven(), `[{"id": "d", "studio": 1}, {"id": "d", "studio": 2}, {"id": "e", "studio": 2}]`)
	require.NoError(t, err)
	require.Equal(t, 2, got.Runs)
	require.Equal(t, 1, got.Known, "a key belongs to one run")
	require.Equal(t, []string{`[{"id":"d","studio":1}]`, `[{"id":"e","studio":2}]`}, d.texts()[2:])

	d.knownErr = store.ErrUnavailable
	_, err = d.receive(proven(), `[{"id": "x"}, {"id": "y"}]`)
	require.ErrorIs(t, err, store.ErrUnavailable)
}

// What somebody starts by hand comes apart as what calls does. A key of what calls holds
// nobody back who starts it by hand; one of what is started by hand does, but for who
// wants the same once more.
func TestAStartByHandOfSeveralItems(t *testing.T) {
	t.Parallel()
	one, ctx := 1, context.Background()
	w := store.Workflow{ID: uuid.New(), Name: "calls", Live: &one}
	items := []map[string]any{{"id": "a"}, {"id": "b"}, {"id": "a"}}
	by := ByHand{Items: items, By: "Mara Quill", AtFirst: 2}

	d := newDoor(t, map[string]any{"key": "item.id", "runs": "each"})
	for range 2 {
		got, err := d.Start(ctx, store.Scope{}, w, by)
		require.NoError(t, err)
		require.Equal(t, 3, got.Runs)
		require.Zero(t, got.Known)
	}
	for _, s := range d.started {
		require.Empty(t, s.Key)
		require.Equal(t, "manual", s.Trigger)
		require.Equal(t, "Mara Quill", s.By)
		require.Equal(t, 2, s.AtFirst)
	}

	kind, _ := triggers.Find(triggers.Manual)
	d = newDoor(t, nil)
	var errs []error
	d.plan.Start, errs = kind.Start(map[string]any{"key": "item.id", "runs": "each"})
	require.Empty(t, errs)
	got, err := d.Start(ctx, store.Scope{}, w, by)
	require.NoError(t, err)
	require.Equal(t, Received{Run: d.started[0].Run, Runs: 2, Known: 1}, got)
	again, err := d.Start(ctx, store.Scope{}, w, by)
	require.NoError(t, err)
	require.Equal(t, Received{Run: d.started[0].Run, Known: 3, Duplicate: true}, again)
	by.Again = true
	got, err = d.Start(ctx, store.Scope{}, w, by)
	require.NoError(t, err)
	require.Equal(t, 3, got.Runs)

	_, err = d.Start(ctx, store.Scope{}, w, ByHand{Items: []map[string]any{{"id": "z"}, {}}, By: "Mara Quill"})
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Equal(t, "Item 2: the key is empty: item.id gives nothing.", text)
	require.Equal(t, "When somebody starts it, once for each id, a run for each item", kind.Sentence(map[string]any{"key": "item.id", "runs": "each"}))
}

func TestHowManyRunsStartIsSaidOnce(t *testing.T) {
	t.Parallel()
	k, _ := triggers.Find(triggers.Webhook)
	for want, settings := range map[string]map[string]any{
		"say of what there is one run for each": {"runs": "by"},
		"it counts only with runs: by":          {"by": "item.a"},
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
	require.Equal(t, "Whenever its address is called, once for each id", k.Sentence(map[string]any{"key": "item.id"}))
	require.Equal(t, "Whenever its address is called, once for each id, a run for each item", k.Sentence(map[string]any{"key": "item.id", "runs": "each"}))
	require.Equal(t, "Whenever its address is called, once for each id, a run for each studio", k.Sentence(map[string]any{"key": "item.id", "runs": "by", "by": "item.studio"}))
}

func mustCompile(t *testing.T, source string) *expr.Program {
	t.Helper()
	p, err := expr.Compile(source, expr.Names{"item"})
	require.NoError(t, err)
	return p
}
