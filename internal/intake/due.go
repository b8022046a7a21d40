package intake

import (
	"hash/fnv"
	"time"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/store"
)

// goOn makes the schedule due next after a moment, or never.
func goOn(s *store.Scheduled, c *cadence.Cadence, after time.Time) {
	s.Due, s.Key, s.Next = time.Time{}, "", time.Time{}
	if next, ok := c.Next(after, s.Anchor); ok {
		dueAt(s, c, next)
	}
}

// dueAt makes the schedule due at a time.
func dueAt(s *store.Scheduled, c *cadence.Cadence, d cadence.Due) {
	s.Due, s.Key, s.Next = d.At, d.Key, d.At.Add(delay(c, *s, d.Key))
}

// stamp is a time as it is stored.
func stamp(t time.Time) time.Time { return t.UTC().Truncate(time.Microsecond) }

// dueKey is the key of a start at a due time. No key of an item begins like it.
func dueKey(reader, key string) string {
	if reader == "" {
		return "due " + key
	}
	return "due " + key + " for " + reader
}

func keptFor(c *cadence.Cadence, due, anchor time.Time) time.Duration {
	if next, ok := c.Next(due, anchor); ok && next.At.Sub(due) < time.Hour {
		return keptShort
	}
	return keptLong
}

// delay is how much later than due something starts on purpose, always the same for
// one time of one schedule.
func delay(c *cadence.Cadence, s store.Scheduled, key string) time.Duration {
	if c.Jitter < time.Second {
		return 0
	}
	h := fnv.New64a()
	_, _ = h.Write(s.Workflow[:])
	_, _ = h.Write([]byte(s.Reader + "\x00" + key))
	return time.Duration(h.Sum64()%uint64(c.Jitter/time.Second)) * time.Second
}

// overdues are times that have come, and what becomes of them.
type overdues struct {
	Start       []cadence.Due // these start runs, in their order
	Late        int           // how many of these were missed
	Left        int           // missed ones that start none
	First, Last time.Time     // of those that were missed
	Reached     time.Time     // the last of all: it goes on after it
}

// overdue tells what becomes of the times of a schedule that have come by now, of
// which there is one at least.
func overdue(t *triggers.Timing, s store.Scheduled, now time.Time) overdues {
	c := t.Cadence
	late := now.Add(-grace - c.Jitter)
	// What was missed: only so many of them can start something.
	first := cadence.Due{At: s.Due, Key: s.Key}
	count, missed := c.Between(s.Due, late, s.Anchor, max(t.Most, 1))
	if s.Due.Before(late) {
		count++
		if len(missed) < max(t.Most, 1) {
			missed = append([]cadence.Due{first}, missed...)
		}
	}
	p := overdues{Reached: s.Due}
	if count > 0 {
		p.First, p.Last = s.Due, missed[len(missed)-1].At
		p.Reached = p.Last
	}
	// What is due now, though perhaps a little later on purpose.
	fresh := []cadence.Due{}
	if !s.Due.Before(late) {
		fresh = append(fresh, first)
	}
	for after := p.Reached; ; {
		next, ok := c.Next(after, s.Anchor)
		if !ok || next.At.Add(delay(c, s, next.Key)).After(now) {
			break
		}
		fresh = append(fresh, next)
		after = next.At
	}
	switch {
	case count == 0:
	case t.Missed == triggers.MissedAll:
		p.Start = missed[max(0, len(missed)-t.Most):]
	case t.Missed == triggers.MissedOnce && len(fresh) == 0:
		p.Start = missed[len(missed)-1:]
	}
	p.Late = len(p.Start)
	p.Left = count - p.Late
	p.Start = append(p.Start, fresh...)
	if len(fresh) > 0 {
		p.Reached = fresh[len(fresh)-1].At
	}
	return p
}
