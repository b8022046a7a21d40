package intake

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// ends are passes that have ended, in memory.
type ends struct {
	mu   sync.Mutex
	list []store.Outcome
	dies bool // before what was started is forgotten
}

func (e *ends) ClaimOutcomes(_ context.Context, _ int, work func([]store.Outcome) []store.Outcome) (int, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	n := len(e.list)
	if n == 0 {
		return 0, nil
	}
	done := map[uuid.UUID]bool{}
	for _, o := range work(append([]store.Outcome(nil), e.list...)) {
		done[o.Run] = true
	}
	if e.dies {
		return 0, errors.New("the node died")
	}
	var left []store.Outcome
	for _, o := range e.list {
		if !done[o.Run] {
			left = append(left, o)
		}
	}
	e.list = left
	return n, nil
}

func follower(t *testing.T, trigger workflow.Trigger) (*door, *ends, *Afters) {
	t.Helper()
	plan, err := workflow.Compile(&workflow.Workflow{Name: "told", Label: "item.title", Trigger: trigger}, &workflow.Catalog{})
	require.NoError(t, err)
	d := &door{plan: plan, keys: map[string]uuid.UUID{}, drafts: map[string]string{}}
	d.Intake = New(d, d, d, d)
	e := &ends{}
	return d, e, &Afters{Intake: d.Intake, Store: e, Log: slog.New(slog.DiscardHandler)}
}

func outcome(hops int) store.Outcome {
	at := time.Date(2026, 11, 27, 18, 40, 0, 0, time.UTC)
	return store.Outcome{Workspace: uuid.New(), Workflow: uuid.New(), Live: 3, Name: "gas-price", Title: "The gas price", Run: uuid.New(), Pass: 1, State: "succeeded", Began: at, Ended: at.Add(time.Second), Counts: engine.Counts{In: 2}, Hops: hops}
}

func TestAnEndStartsWhatFollowsIt(t *testing.T) {
	t.Parallel()
	d, e, a := follower(t, workflow.Trigger{Type: "after", Settings: map[string]any{"workflow": "gas-price"}})
	o := outcome(2)
	e.list = []store.Outcome{o, outcome(1)}
	e.dies = true
	_, _, err := a.look(context.Background())
	require.Error(t, err)
	require.Len(t, d.started, 2)
	e.dies = false
	n, held, err := a.look(context.Background())
	require.NoError(t, err)
	require.Equal(t, [2]int{2, 0}, [2]int{n, held})
	require.Len(t, d.started, 2, "what a dead node has started is not started again")
	require.Empty(t, e.list)
	for _, s := range d.started {
		if s.Workflow != o.Workflow {
			continue
		}
		require.Equal(t, 3, s.Revision)
		require.Equal(t, 2, s.Hops)
		require.Equal(t, "after", s.Trigger)
		require.Equal(t, "the workflow before", s.By)
		require.Equal(t, "The gas price", s.Label)
		list, err := item.Decode(s.Items[0])
		require.NoError(t, err)
		it := list.([]any)[0].(map[string]any)
		require.Equal(t, o.Run.String(), it["run"])
		require.Equal(t, int64(2), it["items"])
		require.Equal(t, "succeeded", it["outcome"])
	}
	o.Pass = 2
	e.list = []store.Outcome{o}
	_, _, err = a.look(context.Background())
	require.NoError(t, err)
	require.Len(t, d.started, 3, "each pass tells its own outcome")
}

func TestWhatGoesRoundEnds(t *testing.T) {
	t.Parallel()
	d, e, a := follower(t, workflow.Trigger{Type: "after", Settings: map[string]any{"workflow": "gas-price"}})
	e.list = []store.Outcome{outcome(7), outcome(8)}
	_, _, err := a.look(context.Background())
	require.NoError(t, err)
	require.Len(t, d.started, 1)
	require.Empty(t, e.list)
	require.Len(t, d.noted, 1)
	require.Contains(t, d.noted[0].Reason, "what goes round ends here")
}

func TestWhatCannotFollowNowFollowsLater(t *testing.T) {
	t.Parallel()
	d, e, a := follower(t, workflow.Trigger{Type: "after", Settings: map[string]any{"workflow": "gas-price"}})
	e.list = []store.Outcome{outcome(1)}
	for _, err := range []error{store.ErrUnavailable, &Refused{Status: http.StatusTooManyRequests, After: time.Second}} {
		d.startErr = err
		_, held, lookErr := a.look(context.Background())
		require.NoError(t, lookErr)
		require.Equal(t, 1, held)
		require.Len(t, e.list, 1)
	}
	d.planErr, d.startErr = store.ErrUnavailable, nil
	_, held, err := a.look(context.Background())
	require.NoError(t, err)
	require.Equal(t, 1, held)
	d.planErr = errors.New("it cannot be read")
	_, held, err = a.look(context.Background())
	require.NoError(t, err)
	require.Zero(t, held)
	require.Empty(t, e.list)
	require.Contains(t, d.noted[0].Reason, "put it live again")
	d.planErr, d.startErr = nil, &Refused{Status: http.StatusUnprocessableEntity, Message: "the lane cannot be told"}
	e.list = []store.Outcome{outcome(1)}
	_, _, err = a.look(context.Background())
	require.NoError(t, err)
	require.Empty(t, e.list)
	require.Equal(t, "the lane cannot be told", d.noted[1].Reason)

	other, e2, a2 := follower(t, workflow.Trigger{Type: "manual"})
	e2.list = []store.Outcome{outcome(1)}
	_, _, err = a2.look(context.Background())
	require.NoError(t, err)
	require.Empty(t, e2.list)
	require.Empty(t, other.started, "it starts by something else by now")
}

func TestTheSourceOfEndsRunsUntilItIsToldToStop(t *testing.T) {
	t.Parallel()
	d, e, a := follower(t, workflow.Trigger{Type: "after", Settings: map[string]any{"workflow": "gas-price"}})
	for range 3 {
		e.list = append(e.list, outcome(1))
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		a.Run(ctx)
	}()
	require.Eventually(t, func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return len(d.started) == 3
	}, 10*time.Second, time.Millisecond)
	cancel()
	<-done
}
