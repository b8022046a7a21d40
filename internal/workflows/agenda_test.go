package workflows

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

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
