package workflows

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func soon(name, cadence string, due time.Time) store.Soon {
	return store.Soon{Scheduled: store.Scheduled{Cadence: cadence, Anchor: noon.Truncate(24 * time.Hour), Due: due, Next: due, Zone: "UTC"}, Name: name, Title: name, State: "live"}
}

func TestTheAgendaTellsWhatStartsAndWhatStartsTogether(t *testing.T) {
	t.Parallel()
	a := MakeAgenda([]store.Soon{
		soon("often", "every 10 minutes", noon.Add(10*time.Minute)),
		soon("daily", "every day at 14:00", noon.Add(2*time.Hour)),
		soon("later", "every day at 14:00 from 2027-01-01", noon.AddDate(0, 2, 0)),
		soon("resting", "every day at 14:00", time.Time{}),
		soon("odd", "what is this", noon.Add(time.Hour)),
	}, noon, noon.Add(24*time.Hour), 20)
	require.Len(t, a.Entries, 5)
	often := a.Entries[0]
	require.Len(t, often.Times, 20)
	require.Equal(t, noon.Add(10*time.Minute), often.Times[0].At, "the time that is due is the first")
	require.Equal(t, 24*6-20, often.More)
	require.Len(t, a.Entries[1].Times, 1)
	for _, e := range a.Entries[2:] {
		require.Empty(t, e.Times, e.Name)
		require.Zero(t, e.More)
	}
	require.Equal(t, []Together{{noon.Add(2 * time.Hour), []string{"daily", "often"}}}, a.Together)
}

func TestNeighboursStartAtTheSameMinutes(t *testing.T) {
	t.Parallel()
	a := MakeAgenda([]store.Soon{
		soon("often", "every 10 minutes", noon.Add(10*time.Minute)), soon("daily", "every day at 14:00", noon.Add(2*time.Hour)),
		soon("apart", "every day at 15:05", noon.Add(185*time.Minute)), soon("hourly", "every hour", noon.Add(time.Hour)),
	}, noon, noon.Add(4*time.Hour), 50)
	require.Equal(t, []Beside{{"hourly", "hourly", noon.Add(2 * time.Hour)}, {"often", "often", noon.Add(2 * time.Hour)}}, a.Neighbours("daily", 5))
	require.Len(t, a.Neighbours("daily", 1), 1)
	require.Empty(t, a.Neighbours("apart", 5))
}

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
	require.Equal(t, &Standing{Words: "Next", At: noon, Zone: "Europe/Lisbon"}, StandingOf(live, "", []store.Scheduled{never, due}, Seen{}))
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
