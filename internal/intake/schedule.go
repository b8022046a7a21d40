package intake

import (
	"context"
	"errors"
	"hash/fnv"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/cadence"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/store"
)

// Source waits for what starts runs, until its context ends.
type Source interface {
	Run(ctx context.Context)
}

// ScheduleStore remembers when what starts by the clock is due.
type ScheduleStore interface {
	ClaimDue(ctx context.Context, most int, work func(now time.Time, due []store.DueNow) ([]store.Scheduled, []store.MissedTimes)) (int, time.Duration, error)
	ZonesInUse(ctx context.Context) ([]store.ZoneRules, error)
	Rework(ctx context.Context, z store.ZoneRules, most int, work func([]store.Scheduled) []store.Scheduled) (int, error)
}

// Schedules is the source of runs that start by the clock. What is due is judged by
// the database's clock; each due time starts one run, however many nodes look and
// whenever they die: it is moved on only after its start is durable, and the start's
// key is that of the time.
type Schedules struct {
	*Intake
	Store ScheduleStore
	Log   *slog.Logger
}

var _ Source = (*Schedules)(nil)

const (
	// dueTogether is how many schedules are claimed at once.
	dueTogether = 250
	// dueLook is how often it is looked at least for what is due: something may have
	// gone live.
	dueLook = time.Second
	// grace is how much later than due a time is not yet missed.
	grace = time.Minute
	// reworked is how often the rules of zones are compared with those by which
	// times were worked out.
	reworked = time.Hour
	// Keys of due times are kept for long after the times themselves were moved on.
	keptShort, keptLong = 2 * 24 * time.Hour, 35 * 24 * time.Hour
)

// Run implements Source.
func (s *Schedules) Run(ctx context.Context) {
	var checked time.Time
	for ctx.Err() == nil {
		if time.Since(checked) >= reworked {
			if err := s.rework(ctx); err == nil {
				checked = time.Now()
			} else if ctx.Err() == nil && !store.IsUnavailable(err) {
				s.Log.Error("the times of schedules could not be compared with the rules of their zones", "error", err)
			}
		}
		n, wait, err := s.look(ctx)
		switch {
		case err != nil:
			if ctx.Err() == nil && !store.IsUnavailable(err) {
				s.Log.Error("what is due by the clock could not be started", "error", err)
			}
			wait = dueLook
		case n == dueTogether:
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(max(min(wait, dueLook), time.Millisecond)):
		}
	}
}

// look starts what is due, and tells how many schedules were, and how long it is
// until the next.
func (s *Schedules) look(ctx context.Context) (int, time.Duration, error) {
	held := 0
	n, wait, err := s.Store.ClaimDue(ctx, dueTogether, func(now time.Time, due []store.DueNow) (on []store.Scheduled, missed []store.MissedTimes) {
		var wg sync.WaitGroup
		moved := make([]*moved, len(due))
		for i := range due {
			wg.Go(func() { moved[i] = s.fire(ctx, now, due[i]) })
		}
		wg.Wait()
		for _, m := range moved {
			if m == nil {
				held++
				continue
			}
			on = append(on, m.on)
			if m.missed != nil {
				missed = append(missed, *m.missed)
			}
		}
		return on, missed
	})
	if held > 0 && err == nil { // nothing is lost: they are due still
		return 0, dueLook, nil
	}
	return n, wait, err
}

// moved is how a schedule goes on.
type moved struct {
	on     store.Scheduled
	missed *store.MissedTimes
}

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

// fire starts the runs of a schedule that is due; nil: it could not, and is due still.
func (s *Schedules) fire(ctx context.Context, now time.Time, d store.DueNow) *moved {
	plan, err := s.Plans.Plan(ctx, d.Workspace, d.Workflow, d.Live)
	if store.IsUnavailable(err) || ctx.Err() != nil {
		return nil
	}
	m := &moved{on: d.Scheduled}
	if err != nil || plan.Start.Timing == nil {
		m.on.Trouble = "Its live revision cannot be read any more; put it live again."
		m.on.Due, m.on.Key, m.on.Next = time.Time{}, "", time.Time{}
		return m
	}
	t := plan.Start.Timing
	p := overdue(t, d.Scheduled, now)
	m.on.Trouble = ""
	for i, due := range p.Start {
		missed := 0
		if i == 0 {
			missed = p.Left
		}
		start := &store.Start{Workspace: d.Workspace, Workflow: d.Workflow, Run: store.NewID(), Revision: d.Live, Key: dueKey(d.Reader, due.Key), Accepted: stamp(now), Expires: now.Add(keptFor(t.Cadence, due.At, d.Anchor))}
		_, err := s.launch(ctx, start, plan, []map[string]any{t.Item(due.At, m.on.Previous, missed)})
		var refused *Refused
		switch {
		case err == nil:
			m.on.Previous = due.At
		case errors.As(err, &refused) && refused.After == 0: // it will not be better later
			m.on.Trouble = words.Sentence("what was due at " + due.At.In(t.Cadence.Zone()).Format("2006-01-02 15:04") + " did not start: " + refused.Message)
		case refused != nil:
			// It is due still, and looked at again later: so it keeps nobody else back.
			m.on.Due, m.on.Key, m.on.Next = due.At, due.Key, now.Add(refused.After)
			return m
		case i == 0:
			return nil
		default: // what was started is past; the rest is due still
			dueAt(&m.on, t.Cadence, due)
			return m
		}
	}
	if p.Left+p.Late > 0 {
		m.missed = &store.MissedTimes{Workspace: d.Workspace, Workflow: d.Workflow, Reader: d.Reader, First: p.First, Last: p.Last, Times: p.Left + p.Late, Started: p.Late}
	}
	goOn(&m.on, t.Cadence, p.Reached)
	m.on.Rules = rulesOf(t.Cadence)
	return m
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

// Times gives the schedules of a workflow that begins to be live, or goes on: those of
// its live revision's trigger, which may have none. A cadence that stays as it is goes
// on as it was, with the times that it counts from; what was due while it was paused
// was not missed.
func Times(t *triggers.Timing) store.Timer {
	if t == nil {
		return nil
	}
	return func(workflow uuid.UUID, known []store.Scheduled, now time.Time) []store.Scheduled {
		now = stamp(now)
		c := t.Cadence
		s := store.Scheduled{Workflow: workflow, Cadence: c.Sentence(), Zone: c.Zone().String(), Rules: rulesOf(c), Anchor: c.Anchor(now), Previous: now, Missed: t.Missed, Most: t.Most}
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
		return []store.Scheduled{s}
	}
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
