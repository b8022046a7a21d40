package workflows

import (
	"maps"
	"slices"
	"time"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/store"
)

// Readers is when a workflow is due for each of several readers at an hour of their own.
type Readers struct {
	Week, Month int           // how often within seven days, and within thirty
	Times       []ReadersDue  // the next, in order
	Days        []cadence.Day // of the coming days, by the clocks of the readers, whether any is due
}

// ReadersDue is a moment at which readers are due.
type ReadersDue struct {
	At      time.Time
	Readers []string // in order of their names
}

// ReadersAhead tells the next times of these schedules, up to so many, and so many of
// the coming days. Many are due at the same hours, which are worked out once.
func ReadersAhead(list []store.Scheduled, now time.Time, days, times int) (out Readers) {
	type hours struct {
		sentence string
		anchor   time.Time
	}
	same := map[hours][]string{}
	for _, s := range list {
		h := hours{s.Cadence, s.Anchor}
		same[h] = append(same[h], s.Reader)
	}
	at, byDay := map[time.Time][]string{}, map[string]bool{}
	for h, readers := range same {
		own, err := cadence.Read(h.sentence, "")
		if err != nil {
			continue // every sentence of ours is read back
		}
		week, _ := own.Between(now, now.AddDate(0, 0, 7), h.anchor, 0)
		month, _ := own.Between(now, now.AddDate(0, 0, 30), h.anchor, 0)
		out.Week, out.Month = out.Week+week*len(readers), out.Month+month*len(readers)
		for _, d := range own.List(now, h.anchor, times) {
			at[d.At.UTC()] = append(at[d.At.UTC()], readers...)
		}
		for _, d := range own.Days(now, h.anchor, days) {
			day := d.Date.In(own.Zone()).Format(time.DateOnly)
			byDay[day] = byDay[day] || d.Due
		}
	}
	next := slices.SortedFunc(maps.Keys(at), time.Time.Compare)
	for _, when := range next[:min(times, len(next))] {
		slices.Sort(at[when])
		out.Times = append(out.Times, ReadersDue{when, at[when]})
	}
	for _, day := range slices.Sorted(maps.Keys(byDay)) {
		date, _ := time.Parse(time.DateOnly, day)
		out.Days = append(out.Days, cadence.Day{Date: date, Due: byDay[day]})
	}
	out.Days = out.Days[:min(len(out.Days), days)]
	return out
}
