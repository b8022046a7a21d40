package intake

import (
	"context"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/reply"
	"youngtrellis/internal/store"
)

// answering is a door behind which a step answers.
func answering(t *testing.T, trigger map[string]any) *door {
	d := newDoor(t, trigger)
	d.plan.Answers = true
	return d
}

func replying(t *testing.T, r *reply.Reply) *store.Answered {
	t.Helper()
	text, err := r.Encode()
	require.NoError(t, err)
	return &store.Answered{Reply: text, State: engine.Running}
}

func TestACallerGetsWhatItsRunAnswers(t *testing.T) {
	t.Parallel()
	d := answering(t, map[string]any{"key": "item.n"})
	d.answer = replying(t, &reply.Reply{Status: 201, Body: "taken", Header: map[string]string{"X-N": "1"}})
	got, err := d.receive(proven(), `{"n": 1}`)
	require.NoError(t, err)
	require.Equal(t, &Told{Run: got.Run, Reply: &reply.Reply{Status: 201, Body: "taken", Header: map[string]string{"X-N": "1"}}}, got.Told)

	again, err := d.receive(proven(), `{"n": 1}`)
	require.NoError(t, err)
	require.True(t, again.Duplicate)
	require.Equal(t, got.Told, again.Told, "a repeat gets the same")
	require.Len(t, d.started, 1)
}

func TestAnAnswerThatTakesLongerHasAnAddress(t *testing.T) {
	t.Parallel()
	d := answering(t, map[string]any{"answer_within": "0s", "key": "item.n"})
	got, err := d.receive(proven(), `{"n": 1}`)
	require.NoError(t, err)
	token := got.Told.Later
	require.Len(t, token, 22)
	again, err := d.receive(proven(), `{"n": 1}`)
	require.NoError(t, err)
	require.Equal(t, token, again.Told.Later, "the same each time")

	d.answer = &store.Answered{State: engine.WaitingOn}
	told, err := d.Intake.Answer(context.Background(), token, false)
	require.NoError(t, err)
	require.Equal(t, &Told{Run: got.Run, Later: token}, told)

	d.answer = replying(t, &reply.Reply{Status: 200, Body: "done"})
	told, err = d.Intake.Answer(context.Background(), token, true)
	require.NoError(t, err)
	require.Equal(t, &Told{Run: got.Run, Reply: &reply.Reply{Status: 200, Body: "done"}}, told)

	_, err = d.Intake.Answer(context.Background(), "another", true)
	status, text := refusal(t, err)
	require.Equal(t, http.StatusNotFound, status)
	require.Equal(t, "There is no answer here. Addresses of answers are good for 7 days.", text)
}

func TestARunThatEndsWithoutAnAnswerSaysSo(t *testing.T) {
	t.Parallel()
	d := answering(t, nil)
	for _, state := range []engine.State{engine.Succeeded, engine.FailedRun} {
		d.answer = &store.Answered{State: state}
		got, err := d.receive(proven(), `{}`)
		require.NoError(t, err)
		require.Equal(t, &Told{Run: got.Run, State: state}, got.Told)
	}
}

// Nobody waits where nobody answers, or where nothing was started.
func TestNobodyWaitsForNothing(t *testing.T) {
	t.Parallel()
	d := newDoor(t, nil)
	began := time.Now()
	got, err := d.receive(proven(), `{}`)
	require.NoError(t, err)
	require.Nil(t, got.Told)
	d = answering(t, nil)
	d.hook.State = "paused"
	got, err = d.receive(proven(), `{}`)
	require.NoError(t, err)
	require.True(t, got.Kept)
	require.Nil(t, got.Told)
	require.Less(t, time.Since(began), 20*time.Second)
}
