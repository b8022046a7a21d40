package engine

import (
	"context"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
)

// What was removed by a call of which nobody heard is not there when it is
// removed again: that is its success. Without such a call it is a refusal.
func TestWhatIsGoneWhenRemovedAgainWasRemoved(t *testing.T) {
	t.Parallel()
	const remove = `  - {name: removed, type: http, settings: {method: DELETE, url: "https://hall.example/rows/(= item.n )"}, output: keep, retry: {attempts: 3, first: 1ms}}`
	const write = `  - {name: removed, type: http, settings: {method: PUT, url: "https://hall.example/rows/(= item.n )", json: {}}, output: keep, retry: {attempts: 3, first: 1ms}}`
	gone := func(status int) error {
		return &call.Failure{Class: call.Refused, Status: status, Message: "there is no such row"}
	}
	cut := func() error {
		return &call.Failure{Class: call.InDoubt, Message: "the connection was cut", Retryable: true}
	}
	for _, c := range []struct {
		name, step  string
		faults      func(n int, path string) error
		interrupted time.Time
		want        State
		calls       int
	}{
		{"removed, cut, and not found", remove, func(n int, _ string) error { return []error{cut(), gone(http.StatusNotFound)}[n-1] }, time.Time{}, Succeeded, 2},
		{"removed, cut twice, and gone", remove, func(n int, _ string) error { return []error{cut(), cut(), gone(http.StatusGone)}[n-1] }, time.Time{}, Succeeded, 3},
		{"not found at once", remove, func(int, string) error { return gone(http.StatusNotFound) }, time.Time{}, FailedRun, 1},
		{"not found where an owner died", remove, func(int, string) error { return gone(http.StatusNotFound) }, time.Unix(1_700_000_000, 0), Succeeded, 1},
		{"refused for another reason", remove, func(n int, _ string) error { return []error{cut(), gone(http.StatusForbidden)}[n-1] }, time.Time{}, FailedRun, 2},
		{"a write that is not found", write, func(n int, _ string) error { return []error{cut(), gone(http.StatusNotFound)}[n-1] }, time.Time{}, FailedRun, 2},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			w := newWorld()
			w.faults = c.faults
			r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: plan(t, c.step)})
			r.Interrupted = c.interrupted
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, c.want, res.State, res.Reason)
			require.Equal(t, c.calls, w.calls)
			entries := m.All()
			require.Equal(t, c.want == Succeeded, entries[len(entries)-1].Outcome == Done)
		})
	}
}
