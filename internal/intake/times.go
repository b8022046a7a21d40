package intake

import (
	"context"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/store"
)

// Times gives the schedules of a workflow that begins to be live, or goes on: those of
// its live revision's trigger, which may have none. A cadence that stays as it is goes
// on as it was, with the times that it counts from; what was due while it was paused
// was not missed. Those of readers are kept as they are: they are made anew at once, by
// the list as it is then.
func Times(t *triggers.Timing) store.Timer {
	if t == nil {
		return nil
	}
	return func(workflow uuid.UUID, known []store.Scheduled, now time.Time) []store.Scheduled {
		now = stamp(now)
		if t.Readers == nil {
			return []store.Scheduled{scheduled(t, t.Cadence, store.Scheduled{Workflow: workflow}, known, now)}
		}
		out := []store.Scheduled{ofReaders(t, workflow, known, now)}
		for _, k := range known {
			if k.Reader != "" {
				out = append(out, k)
			}
		}
		return out
	}
}

// scheduled is the schedule s with a cadence, which goes on as the one that is known.
func scheduled(t *triggers.Timing, c *cadence.Cadence, s store.Scheduled, known []store.Scheduled, now time.Time) store.Scheduled {
	s.Cadence, s.Zone, s.Rules, s.Anchor, s.Previous, s.Missed, s.Most = c.Sentence(), c.Zone().String(), rulesOf(c), c.Anchor(now), now, t.Missed, t.Most
	for _, k := range known {
		if k.Reader != s.Reader {
			continue
		}
		s.Previous = k.Previous
		if k.Cadence == s.Cadence {
			s.Anchor, s.Due, s.Key, s.Next = k.Anchor, k.Due, k.Key, k.Next
		}
	}
	if s.Due.IsZero() {
		goOn(&s, c, now)
	}
	return s
}

// ofReaders is the schedule of a workflow whose readers have schedules of their own:
// it is never due itself.
func ofReaders(t *triggers.Timing, workflow uuid.UUID, known []store.Scheduled, now time.Time) store.Scheduled {
	s := scheduled(t, t.Cadence, store.Scheduled{Workflow: workflow}, known, now)
	s.Due, s.Key, s.Next, s.List, s.ListVersion = time.Time{}, "", time.Time{}, t.Readers.List, store.NoVersion
	return s
}

// Paused gives the schedules of a workflow that is paused: nothing is due.
func Paused(_ uuid.UUID, known []store.Scheduled, _ time.Time) []store.Scheduled {
	for i := range known {
		known[i].Due, known[i].Key, known[i].Next, known[i].Trouble = time.Time{}, "", time.Time{}, ""
	}
	return known
}

// The rules of a zone are compared over this span.
var rulesFrom, rulesTo = time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2060, 1, 1, 0, 0, 0, 0, time.UTC)

// rulesOf tells by which rules of its zone a cadence is worked out.
func rulesOf(c *cadence.Cadence) string { return cadence.Rules(c.Zone(), rulesFrom, rulesTo) }

// rework works out anew what was worked out by other rules of a zone than those that
// are known here: a country has changed them.
func (s *Schedules) rework(ctx context.Context) error {
	zones, err := s.Store.ZonesInUse(ctx)
	if err != nil {
		return err
	}
	for _, z := range zones {
		zone, _, err := cadence.Zone(z.Zone)
		if err != nil {
			s.Log.Warn("a zone of schedules is not known to this node; their times stay as they were worked out", "zone", z.Zone)
			continue
		}
		rules := cadence.Rules(zone, rulesFrom, rulesTo)
		if rules == z.Rules {
			continue
		}
		s.Log.Info("the rules of a zone have changed; times are worked out anew", "zone", z.Zone)
		for n := 1; n > 0; {
			if n, err = s.Store.Rework(ctx, z, dueTogether, func(list []store.Scheduled) []store.Scheduled {
				for i := range list {
					list[i] = anew(list[i], rules)
				}
				return list
			}); err != nil {
				return err
			}
		}
	}
	return nil
}

// anew works out by the rules that are known here when a schedule is due that was
// worked out by others: at the same time on the wall.
func anew(s store.Scheduled, rules string) store.Scheduled {
	s.Rules = rules
	c, err := cadence.Read(s.Cadence, "")
	if err != nil || c.Counts() { // intervals go by no clock on a wall; and every sentence of ours is read back
		return s
	}
	const reach = 27 * time.Hour // no change of rules moves a time further
	for after := s.Due.Add(-reach); ; {
		next, ok := c.Next(after, s.Anchor)
		if !ok {
			s.Due, s.Key, s.Next = time.Time{}, "", time.Time{}
			return s
		}
		if next.Key >= s.Key || next.At.Sub(s.Due) > reach {
			dueAt(&s, c, next)
			return s
		}
		after = next.At
	}
}
