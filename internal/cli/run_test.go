package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "youngtrellis/api/client"
)

func TestAStateSaysWhatIsWaitedFor(t *testing.T) {
	t.Parallel()
	yes, tables, wake := true, "tables", time.Now()
	for want, r := range map[string]api.RunSummary{
		"succeeded":                             {State: "succeeded"},
		"running":                               {State: "running"},
		"being cancelled":                       {State: "running", Cancelling: &yes},
		"waiting for tables":                    {State: "waiting", Reason: "connection_broken", Connection: &tables},
		"waiting for a job of the other side":   {State: "waiting", Reason: "job_running", Wake: &wake},
		"waiting: something here does not work": {State: "waiting", Reason: "fault_of_ours", Wake: &wake},
		"waiting until " + when(wake):           {State: "waiting", Reason: "told_to_wait", Wake: &wake},
	} {
		require.Equal(t, want, stateWords(r))
	}
}

func TestOnlyWhatIsTrueOfRepeatsIsSaid(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		tried  int
		class  string
		status int
		want   string
	}{
		{3, "refused", 503, "tried 3 times over 1.5 s"}, {1, "unknown", 0, "tried once: it may have had its effect, and a repeat would be a second one"},
		{1, "refused", 422, "tried once: a refusal of this kind is not worth repeating"}, {1, "refused", 429, "tried once"}, {1, "refused", 503, "tried once"}, {1, "not_sent", 0, "tried once"}, {0, "input", 0, "not tried"},
	} {
		require.Equal(t, c.want, triedWords(c.tried, 1500, c.class, c.status))
	}
}

func TestMomentsAreReadAsTheyAreTyped(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 20, 16, 0, 0, 0, time.Local)
	for typed, want := range map[string]time.Time{
		"7d":                   now.Add(-7 * 24 * time.Hour),
		"90m":                  now.Add(-90 * time.Minute),
		"2026-11-18":           time.Date(2026, 11, 18, 0, 0, 0, 0, time.Local),
		"2026-11-18 16:30":     time.Date(2026, 11, 18, 16, 30, 0, 0, time.Local),
		"2026-11-18T16:30:00Z": time.Date(2026, 11, 18, 16, 30, 0, 0, time.UTC),
	} {
		got, err := moment(typed, now)
		require.NoError(t, err, typed)
		require.True(t, want.Equal(got), "%s: %s", typed, got)
	}
	_, err := moment("last week", now)
	require.ErrorContains(t, err, `"last week" is no time; it is written as 7d`)
}
