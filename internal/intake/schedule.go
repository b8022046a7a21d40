package intake

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

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
	SyncReaders(ctx context.Context, work func(now time.Time, r store.Readers) ([]store.Scheduled, error)) (bool, error)
	ReaderRow(ctx context.Context, workspace uuid.UUID, list, key string) (map[string]any, error)
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
		if err := s.sync(ctx); err != nil && ctx.Err() == nil && !store.IsUnavailable(err) {
			s.Log.Error("the schedules of readers could not be made of their list", "error", err)
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

// unreadable is what is told where nothing can start by a live revision.
const unreadable = "Its live revision cannot be read any more; put it live again."

// moved is how a schedule goes on.
type moved struct {
	on     store.Scheduled
	missed *store.MissedTimes
}

// fire starts the runs of a schedule that is due; nil: it could not, and is due still.
func (s *Schedules) fire(ctx context.Context, now time.Time, d store.DueNow) *moved {
	plan, err := s.Plans.Plan(ctx, d.Workspace, d.Workflow, d.Live)
	if store.IsUnavailable(err) || ctx.Err() != nil {
		return nil
	}
	m := &moved{on: d.Scheduled}
	if err != nil || plan.Start.Timing == nil {
		m.on.Trouble = unreadable
		m.on.Due, m.on.Key, m.on.Next = time.Time{}, "", time.Time{}
		return m
	}
	r, err := s.reading(ctx, plan.Start.Timing, d, now)
	if err != nil {
		return nil
	}
	t := r.timing
	p := overdue(t, d.Scheduled, now)
	m.on.Trouble = ""
	if r.none {
		m.on.Trouble = r.why
		goOn(&m.on, t.Cadence, p.Reached)
		return m
	}
	for i, due := range p.Start {
		missed := 0
		if i == 0 {
			missed = p.Left
		}
		start := &store.Start{Workspace: d.Workspace, Workflow: d.Workflow, Run: store.NewID(), Revision: d.Live, Key: dueKey(d.Reader, due.Key), Accepted: stamp(now), Expires: now.Add(keptFor(t.Cadence, due.At, d.Anchor))}
		_, err := s.launch(ctx, start, plan, []map[string]any{r.item(due.At, m.on.Previous, missed)})
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
