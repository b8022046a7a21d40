package workflows

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/store"
)

func TestWhenReadersAreDue(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC) // a Friday
	reader := func(name, hours string) store.Scheduled {
		return store.Scheduled{Reader: name, Cadence: hours, Anchor: now}
	}
	a := ReadersAhead([]store.Scheduled{
		reader("ines", "every weekday at 08:00 in Europe/Lisbon"),
		reader("mara", "every day at 18:30 in UTC"),
		reader("tam", "every weekday at 08:00 in Europe/Lisbon"),
		reader("nobody", "whenever it rains"),
	}, now, 4, 3)
	require.Equal(t, 5*2+7, a.Week)
	require.Equal(t, 2*20+30, a.Month, "thirty days on is a Sunday")
	require.Len(t, a.Times, 3)
	require.Equal(t, ReadersDue{time.Date(2026, 11, 27, 18, 30, 0, 0, time.UTC), []string{"mara"}}, a.Times[0])
	for i, n := range []int{28, 29} {
		require.Equal(t, time.Date(2026, 11, n, 18, 30, 0, 0, time.UTC), a.Times[i+1].At)
	}
	require.Len(t, a.Days, 4)
	for i, d := range a.Days {
		require.Equal(t, fmt.Sprintf("2026-11-%d", 27+i), d.Date.Format(time.DateOnly))
		require.True(t, d.Due, "one of them is")
	}

	a = ReadersAhead([]store.Scheduled{reader("tam", "every weekday at 08:00 in Europe/Lisbon"), reader("ines", "every weekday at 08:00 in Europe/Lisbon")}, now, 10, 1)
	require.Equal(t, []ReadersDue{{time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC), []string{"ines", "tam"}}}, a.Times)
	require.False(t, a.Days[1].Due, "on a Saturday nobody is")
	require.Empty(t, ReadersAhead(nil, now, 10, 10))
}
