package triggers

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/form"
)

func TestAScheduleIsReadAndWorded(t *testing.T) {
	t.Parallel()
	k, ok := Find(Schedule)
	require.True(t, ok)
	require.True(t, k.Timed && k.Alone && !k.Called)
	s, errs := k.Start(map[string]any{"every": "weekday", "at": "16:30", "zone": "Europe/Lisbon"})
	require.Empty(t, errs)
	require.Equal(t, MissedOnce, s.Timing.Missed, "unless said otherwise")
	require.Equal(t, 100, s.Timing.Most)
	require.Equal(t, "every weekday at 16:30 in Europe/Lisbon", s.Timing.Cadence.Sentence())
	require.Equal(t, "Every weekday at 16:30 in Europe/Lisbon", k.Sentence(map[string]any{"every": "weekday", "at": "16:30", "zone": "Europe/Lisbon"}))
	require.Equal(t, "By the clock", k.Sentence(map[string]any{"every": "weekday"}), "what cannot be read yet is the plain one")
	for field, settings := range map[string]map[string]any{
		"at": {"every": "weekday"}, "every": {"every": "wekday", "at": "8"}, "cron": {"cron": "1 2 3"}, "zone": {"every": "10 minutes", "zone": "Nowhere"},
		"missed": {"every": "10 minutes", "missed": "maybe"}, "most": {"every": "10 minutes", "most": int64(0)}, "until": {"every": "10 minutes", "until": "soon"}, "jitter": {"every": "10 minutes", "jitter": "9h"},
	} {
		_, errs := k.Start(settings)
		require.Len(t, errs, 1, field)
		var placed *form.Error
		require.ErrorAs(t, errs[0], &placed, field)
		require.Equal(t, field, placed.Field)
	}
	_, errs = k.Start(nil)
	var gap *form.Gap
	require.ErrorAs(t, errs[0], &gap, "what nobody has said yet is no mistake")
}

func TestTheItemOfATimeSaysWhatLiesBefore(t *testing.T) {
	t.Parallel()
	k, _ := Find(Schedule)
	s, errs := k.Start(map[string]any{"every": "day", "at": "08:00", "zone": "Asia/Kathmandu"})
	require.Empty(t, errs)
	due := time.Date(2026, 11, 28, 2, 15, 0, 0, time.UTC)
	require.Equal(t, map[string]any{"due": "2026-11-28T08:00:00+05:45", "previous": "2026-11-27T08:00:00+05:45", "missed": int64(0)}, s.Timing.Item(due, due.AddDate(0, 0, -1), 0))
	now := time.Date(2026, 11, 27, 12, 0, 0, 5, time.UTC)
	require.Equal(t, map[string]any{"due": "2026-11-27T17:45:00+05:45", "previous": "2026-11-26T17:45:00+05:45", "missed": int64(0)}, s.Timing.Sample(now), "by hand: now, and as long before as is usual")
}

func TestALineBecomesSettings(t *testing.T) {
	t.Parallel()
	k, _ := Find(Schedule)
	for phrase, want := range map[string]map[string]any{
		"every working day at 8 in Lisbon":                        {"every": "weekday", "at": "08:00", "zone": "Europe/Lisbon"},
		"on the last friday of the month at 17, within 5 minutes": {"every": "month", "on": "last Friday", "at": "17:00", "jitter": "5m"},
		"cron 0 9 * * 1 from 2026-12-01 until 2026-12-31":         {"cron": "0 9 * * 1", "from": "2026-12-01", "until": "2026-12-31"},
	} {
		c, err := cadence.Read(phrase, "")
		require.NoError(t, err, phrase)
		got := SettingsOf(c.Settings())
		require.Equal(t, want, got, phrase)
		s, errs := k.Start(got)
		require.Empty(t, errs, phrase)
		require.Equal(t, c.Sentence(), s.Timing.Cadence.Sentence())
	}
	require.Equal(t, "by a call", Began(Webhook))
	require.Equal(t, "by hand", Began(Manual))
	require.Contains(t, Began("carrier pigeon"), "not known any more")
}
