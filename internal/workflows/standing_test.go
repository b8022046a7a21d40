package workflows

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

func TestHowAStartStandsIsOneOfAFixedList(t *testing.T) {
	t.Parallel()
	one, at := 1, noon.Add(-time.Hour)
	live := store.Workflow{Live: &one, State: "live"}
	refused := &store.Delivery{ID: uuid.Must(uuid.NewV7()), Reason: "the secret is not the right one"}
	long := time.Now().Add(-time.Hour)
	due := store.Scheduled{Due: noon, Next: noon, Zone: "Europe/Lisbon"}
	never := store.Scheduled{Trouble: "Its live revision cannot be read any more."}
	for kind, want := range map[string]string{"webhook": ACall, "after": "gas-price", "manual": "", "carrier-pigeon": ""} {
		settings := map[string]any{}
		if kind == "after" {
			settings["workflow"] = "gas-price"
		}
		require.Equal(t, want, WaitsFor(&workflow.Workflow{Trigger: workflow.Trigger{Type: kind, Settings: settings}}), kind)
	}
	require.Empty(t, WaitsFor(nil), "a revision that cannot be read any more")
	require.Nil(t, StandingOf(store.Workflow{}, ACall, nil, Seen{}), "a draft stands nowhere")
	require.Equal(t, &Standing{Words: "Paused by Wren since", At: at}, StandingOf(store.Workflow{Live: &one, State: "paused", Stated: at, StatedBy: "Wren"}, "", []store.Scheduled{due}, Seen{}))
	require.Equal(t, "3 calls kept meanwhile", StandingOf(store.Workflow{Live: &one, State: "paused", Stated: at, StatedBy: "Wren"}, ACall, nil, Seen{Kept: 3}).Why)
	require.Equal(t, &Standing{Words: "Next", At: noon, Zone: "Europe/Lisbon"}, StandingOf(live, "", []store.Scheduled{due}, Seen{}))
	own := store.Scheduled{List: "readers", ListVersion: 3}
	require.Equal(t, &Standing{Words: "Next", At: noon, Zone: "Europe/Lisbon"}, StandingOf(live, "", []store.Scheduled{own, due}, Seen{}))
	own.Trouble = "1 row of readers cannot be read as an hour."
	require.Equal(t, &Standing{Words: "Next", At: noon, Zone: "Europe/Lisbon", Why: own.Trouble, Trouble: true}, StandingOf(live, "", []store.Scheduled{own, due}, Seen{}), "what is wrong with one is told, and the others are due")
	own = store.Scheduled{List: "readers", ListVersion: store.NoVersion}
	require.Equal(t, &Standing{Words: "The hours of readers are being read"}, StandingOf(live, "", []store.Scheduled{own}, Seen{}))
	require.Equal(t, &Standing{Words: "It is never due again", Why: never.Trouble, Trouble: true}, StandingOf(live, "", []store.Scheduled{never}, Seen{}))
	require.Nil(t, StandingOf(live, "", nil, Seen{}), "what somebody starts waits for nobody")
	require.Equal(t, &Standing{Words: "Live, and never called yet"}, StandingOf(live, ACall, nil, Seen{}))
	require.Equal(t, &Standing{Words: "Waits for a call; the last start was", At: long}, StandingOf(live, ACall, nil, Seen{Last: &long}))
	got := StandingOf(live, ACall, nil, Seen{Last: &long, Refused: refused})
	require.Equal(t, "The last call was refused", got.Words)
	require.Equal(t, "The secret is not the right one.", got.Why)
	require.True(t, got.Trouble)
	require.Equal(t, &Standing{Words: "Waits for gas-price"}, StandingOf(live, "gas-price", nil, Seen{}))
	require.Equal(t, "The last start was refused", StandingOf(live, "gas-price", nil, Seen{Refused: refused}).Words)
	later := time.Now().Add(time.Hour)
	require.Equal(t, "Waits for a call; the last start was", StandingOf(live, ACall, nil, Seen{Last: &later, Refused: refused}).Words)
}
