package intake

import (
	"context"
	"errors"
	"net/http"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/store"
)

func paused(t *testing.T, settings map[string]any) *door {
	d := newDoor(t, settings)
	d.hook.State = "paused"
	return d
}

func TestACallOfAPausedWorkflowIsKept(t *testing.T) {
	t.Parallel()
	d := paused(t, nil)
	got, err := d.receive(proven(), `[{"n": 1}, {"n": 2}]`)
	require.NoError(t, err)
	require.Equal(t, Received{Kept: true}, got)
	require.Equal(t, []string{`[{"n":1},{"n":2}]`}, d.kept)
	require.Equal(t, "kept", d.noted[0].Verdict)
	require.Empty(t, d.started)

	d.keepErr = store.ErrFull
	_, err = d.receive(proven(), `{}`)
	var refused *Refused
	require.ErrorAs(t, err, &refused)
	require.Equal(t, http.StatusServiceUnavailable, refused.Status)
	require.Equal(t, keptFull, refused.After)
	require.Equal(t, "refused", d.noted[1].Verdict)

	d.keepErr = store.ErrUnavailable
	_, err = d.receive(proven(), `{}`)
	require.ErrorIs(t, err, store.ErrUnavailable)

	d.keepErr = store.ErrConflict // it goes on since the hook was read
	got, err = d.receive(proven(), `{"n": 3}`)
	require.NoError(t, err)
	require.Equal(t, 1, got.Runs)

	keyed := paused(t, map[string]any{"key": "item.id"})
	_, err = keyed.receive(proven(), `{"n": 1}`)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "the key is empty")
	require.Empty(t, keyed.kept, "what could not start is refused while the caller can mend it")
}

func TestAKeptEventStartsItsRunsOnce(t *testing.T) {
	t.Parallel()
	event := func(items string) store.Kept {
		return store.Kept{Workspace: uuid.New(), Workflow: uuid.New(), ID: uuid.New(), Live: 1, Items: []byte(items)}
	}
	d := newDoor(t, map[string]any{"runs": "each"})
	k := &Keeps{Intake: d.Intake}
	e := event(`[{"n": 1}, {"n": 2}]`)
	require.True(t, k.begins(context.Background(), e))
	require.True(t, k.begins(context.Background(), e), "as whoever died before it was forgotten")
	require.Equal(t, []string{`[{"n":1}]`, `[{"n":2}]`}, d.texts())
	require.Greater(t, time.Until(d.started[0].Expires), 30*24*time.Hour)
	require.Equal(t, "webhook", d.started[0].Trigger)

	d.startErr = store.ErrUncertain
	require.False(t, k.begins(context.Background(), event(`[{}]`)), "it is tried again")
	d.startErr = &Refused{Status: http.StatusTooManyRequests, After: time.Second}
	require.False(t, k.begins(context.Background(), event(`[{}]`)), "the queue is full")
	d.startErr = &Refused{Status: http.StatusUnprocessableEntity, Message: "no lane"}
	require.True(t, k.begins(context.Background(), event(`[{}]`)))
	require.Contains(t, d.noted[0].Reason, "kept while it was paused, and then: no lane")
	require.True(t, k.begins(context.Background(), event(`{`)))
	require.True(t, k.begins(context.Background(), event(`[]`)))

	d.planErr = errors.New("it cannot be compiled")
	require.True(t, k.begins(context.Background(), event(`[{}]`)))
	d.planErr = store.ErrUnavailable
	require.False(t, k.begins(context.Background(), event(`[{}]`)))
	require.Len(t, d.started, 2)
}
