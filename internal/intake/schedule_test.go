package intake

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// wall is a schedule of one workflow with the database's clock, in memory.
type wall struct {
	*door
	now    time.Time
	row    store.Scheduled
	missed []store.MissedTimes
	dies   bool // before what was started is moved on
}

func (w *wall) SyncReaders(context.Context, func(time.Time, store.Readers) ([]store.Scheduled, error)) (bool, error) {
	return false, nil
}

func (w *wall) ReaderRow(_ context.Context, _ uuid.UUID, _, key string) (map[string]any, error) {
	if w.table != nil {
		if row, ok := w.table.ByKey()[key]; ok {
			return row.Item(w.table.Columns), nil
		}
	}
	return nil, store.ErrNotFound
}

func (w *wall) ClaimDue(_ context.Context, most int, work func(time.Time, []store.DueNow) ([]store.Scheduled, []store.MissedTimes)) (int, time.Duration, error) {
	if w.row.Next.IsZero() || w.row.Next.After(w.now) {
		return 0, w.row.Next.Sub(w.now), nil
	}
	on, missed := work(w.now, []store.DueNow{{Scheduled: w.row, Live: 1}})
	if w.dies {
		return 0, 0, errors.New("the node died")
	}
	for _, x := range on {
		w.row = x
	}
	w.missed = append(w.missed, missed...)
	return 1, time.Hour, nil
}

func (w *wall) ZonesInUse(context.Context) ([]store.ZoneRules, error) {
	return []store.ZoneRules{{Zone: w.row.Zone, Rules: w.row.Rules}}, nil
}

func (w *wall) Rework(_ context.Context, z store.ZoneRules, _ int, work func([]store.Scheduled) []store.Scheduled) (int, error) {
	if z.Rules != w.row.Rules {
		return 0, nil
	}
	w.row = work([]store.Scheduled{w.row})[0]
	return 1, nil
}

func at(t require.TestingT, s string) time.Time {
	x, err := time.Parse("2006-01-02T15:04:05", s)
	require.NoError(t, err)
	return x
}

// hung is a wall on which a workflow of this schedule went live at a moment.
func hung(t require.TestingT, settings map[string]any, live string) (*wall, *Schedules) {
	plan, err := workflow.Compile(&workflow.Workflow{Name: "loads", Trigger: workflow.Trigger{Type: "schedule", Settings: settings}}, &workflow.Catalog{})
	require.NoError(t, err)
	d := &door{plan: plan, keys: map[string]uuid.UUID{}, drafts: map[string]string{}}
	d.Intake = New(d, d, d, d)
	w := &wall{door: d, now: at(t, live)}
	w.row = Times(plan.Start.Timing)(uuid.New(), nil, w.now)[0]
	w.row.Workspace = uuid.New()
	return w, &Schedules{Intake: d.Intake, Store: w, Log: slog.New(slog.DiscardHandler)}
}

func (w *wall) look(t require.TestingT, s *Schedules, now string) {
	w.now = at(t, now)
	_, _, err := s.look(context.Background())
	if !w.dies {
		require.NoError(t, err)
	}
}

// begun are the due times of the runs that were started, and what they were told.
func (w *wall) begun(t require.TestingT) (due []string, items []map[string]any) {
	for _, s := range w.started {
		list, err := item.Decode(s.Items[0])
		require.NoError(t, err)
		it := list.([]any)[0].(map[string]any)
		due, items = append(due, it["due"].(string)), append(items, it)
	}
	return due, items
}

var daily = map[string]any{"every": "weekday", "at": "16:30", "zone": "Europe/Lisbon"}

func TestWhatIsDueStartsOneRun(t *testing.T) {
	t.Parallel()
	w, s := hung(t, daily, "2026-11-27T10:00:00")
	w.look(t, s, "2026-11-27T16:29:59")
	require.Empty(t, w.started)
	w.look(t, s, "2026-11-27T16:30:00")
	w.look(t, s, "2026-11-27T16:30:01")
	require.Len(t, w.started, 1)
	run := w.started[0]
	require.Equal(t, "due 2026-11-27T16:30", run.Key)
	require.Equal(t, "schedule", run.Trigger)
	require.Equal(t, "its schedule", run.By)
	require.Equal(t, 1, run.Revision)
	require.Equal(t, `[{"due":"2026-11-27T16:30:00Z","missed":0,"previous":"2026-11-27T10:00:00Z"}]`, string(run.Items[0]), "what lies between is looked at: first since it went live")
	w.look(t, s, "2026-11-30T16:30:00")
	_, items := w.begun(t)
	require.Equal(t, "2026-11-27T16:30:00Z", items[1]["previous"], "over the weekend")
	require.Empty(t, w.missed)
}

// Whoever dies after a start and before it moved the schedule on leaves the start to
// be repeated: its key is known.
func TestADeadNodesStartIsNotMadeAgain(t *testing.T) {
	t.Parallel()
	w, s := hung(t, daily, "2026-11-27T10:00:00")
	w.dies = true
	w.look(t, s, "2026-11-27T16:30:00")
	require.Len(t, w.started, 1)
	w.dies = false
	w.look(t, s, "2026-11-27T16:30:20")
	require.Len(t, w.started, 1)
	require.Equal(t, at(t, "2026-11-30T16:30:00"), w.row.Due)
	require.Equal(t, at(t, "2026-11-27T16:30:00"), w.row.Previous)
}

func TestMissedTimesAreLetGoOnceOrAll(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		settings map[string]any
		now      string
		due      []string
		first    map[string]any // of the first run
		missed   store.MissedTimes
	}{
		"late by less than a minute is not missed": {map[string]any{"missed": "skip"}, "2026-11-27T16:30:59", []string{"2026-11-27T16:30:00Z"}, map[string]any{"previous": "2026-11-27T10:00:00Z", "missed": int64(0)}, store.MissedTimes{}},
		"let go":                      {map[string]any{"missed": "skip"}, "2026-11-27T17:00:00", nil, nil, store.MissedTimes{Times: 1}},
		"the last of two":             {nil, "2026-12-01T00:00:00", []string{"2026-11-30T16:30:00Z"}, map[string]any{"previous": "2026-11-27T10:00:00Z", "missed": int64(1)}, store.MissedTimes{Times: 2, Started: 1}},
		"one that is due covers them": {nil, "2026-11-30T16:30:10", []string{"2026-11-30T16:30:00Z"}, map[string]any{"previous": "2026-11-27T10:00:00Z", "missed": int64(1)}, store.MissedTimes{Times: 1}},
		"all of them":                 {map[string]any{"missed": "all"}, "2026-12-02T00:00:00", []string{"2026-11-27T16:30:00Z", "2026-11-30T16:30:00Z", "2026-12-01T16:30:00Z"}, map[string]any{"previous": "2026-11-27T10:00:00Z", "missed": int64(0)}, store.MissedTimes{Times: 3, Started: 3}},
		"all up to a limit":           {map[string]any{"missed": "all", "most": int64(2)}, "2026-12-02T00:00:00", []string{"2026-11-30T16:30:00Z", "2026-12-01T16:30:00Z"}, map[string]any{"previous": "2026-11-27T10:00:00Z", "missed": int64(1)}, store.MissedTimes{Times: 3, Started: 2}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			settings := map[string]any{"every": "weekday", "at": "16:30", "zone": "Europe/Lisbon"}
			for k, v := range c.settings {
				settings[k] = v
			}
			w, s := hung(t, settings, "2026-11-27T10:00:00")
			w.look(t, s, c.now)
			due, items := w.begun(t)
			require.Equal(t, c.due, due)
			if c.first != nil {
				require.Equal(t, c.first["previous"], items[0]["previous"])
				require.Equal(t, c.first["missed"], items[0]["missed"])
			}
			if c.missed.Times == 0 {
				require.Empty(t, w.missed)
			} else {
				require.Len(t, w.missed, 1)
				require.Equal(t, c.missed.Times, w.missed[0].Times)
				require.Equal(t, c.missed.Started, w.missed[0].Started)
				require.Equal(t, at(t, "2026-11-27T16:30:00"), w.missed[0].First)
			}
			require.True(t, w.row.Due.After(w.now), "it goes on")
			count := len(w.started)
			w.look(t, s, c.now)
			require.Len(t, w.started, count)
		})
	}
}

// The database's clock jumps by an hour, either way; that of the node is of no account.
func TestAJumpOfTheClockStartsNothingTwice(t *testing.T) {
	t.Parallel()
	w, s := hung(t, map[string]any{"every": "10 minutes"}, "2026-11-27T10:00:00")
	w.look(t, s, "2026-11-27T10:10:00")
	w.look(t, s, "2026-11-27T09:10:00")
	w.look(t, s, "2026-11-27T10:10:00")
	require.Len(t, w.started, 1)
	w.look(t, s, "2026-11-27T11:15:00")
	due, _ := w.begun(t)
	require.Equal(t, []string{"2026-11-27T10:10:00Z", "2026-11-27T11:10:00Z"}, due, "as after an hour in which nobody looked")
	require.Equal(t, 6, w.missed[0].Times)
}

func TestWhatCannotStartNowIsDueStill(t *testing.T) {
	t.Parallel()
	w, s := hung(t, daily, "2026-11-27T10:00:00")
	w.waiting = MaxQueue
	w.look(t, s, "2026-11-27T16:30:00")
	require.Empty(t, w.started)
	require.Equal(t, at(t, "2026-11-27T16:30:00"), w.row.Due, "the queue is full")
	require.Equal(t, at(t, "2026-11-27T16:30:10"), w.row.Next, "and others are looked at meanwhile")
	w.waiting, w.startErr = 0, store.ErrUnavailable
	w.queues.Forget(w.row.Workspace)
	w.look(t, s, "2026-11-27T16:30:10")
	require.Equal(t, at(t, "2026-11-27T16:30:00"), w.row.Due)
	w.startErr = &Refused{Status: http.StatusUnprocessableEntity, Message: "the lane cannot be told"}
	w.look(t, s, "2026-11-27T16:30:20")
	require.Equal(t, "What was due at 2026-11-27 16:30 did not start: the lane cannot be told.", w.row.Trouble)
	require.Equal(t, at(t, "2026-11-30T16:30:00"), w.row.Due, "it will not be better later")
	require.Equal(t, at(t, "2026-11-27T10:00:00"), w.row.Previous, "nothing has looked at that window yet")
	w.startErr = nil
	w.look(t, s, "2026-11-30T16:30:00")
	require.Len(t, w.started, 1)
	require.Empty(t, w.row.Trouble)
	w.planErr = errors.New("it cannot be read")
	w.look(t, s, "2026-12-01T16:30:00")
	require.Contains(t, w.row.Trouble, "put it live again")
	require.True(t, w.row.Next.IsZero())
}

func TestASpreadStartIsLaterButNotMissed(t *testing.T) {
	t.Parallel()
	w, s := hung(t, map[string]any{"every": "day", "at": "08:00", "jitter": "2h", "missed": "skip"}, "2026-11-27T10:00:00")
	later := w.row.Next.Sub(w.row.Due)
	require.GreaterOrEqual(t, later, time.Duration(0))
	require.Less(t, later, 2*time.Hour)
	w.row.Next = w.row.Due.Add(2*time.Hour - time.Second)
	w.look(t, s, "2026-11-28T08:30:00")
	require.Empty(t, w.started)
	w.look(t, s, "2026-11-28T10:00:30")
	due, _ := w.begun(t)
	require.Equal(t, []string{"2026-11-28T08:00:00Z"}, due)
	require.Empty(t, w.missed)
	seen := map[time.Duration]bool{}
	for range 50 {
		first := Times(w.plan.Start.Timing)(uuid.New(), nil, w.now)[0]
		seen[first.Next.Sub(first.Due)] = true
	}
	require.Greater(t, len(seen), 30, "not all at once")
}

// A country changes the rules of its zone: what is due stays at its time on the wall.
func TestTimesAreWorkedOutAnewByOtherRules(t *testing.T) {
	t.Parallel()
	w, s := hung(t, daily, "2026-11-27T10:00:00")
	rules := w.row.Rules
	w.row.Rules, w.row.Due = "others", w.row.Due.Add(time.Hour)
	w.row.Next = w.row.Due
	require.NoError(t, s.rework(context.Background()))
	require.Equal(t, rules, w.row.Rules)
	require.Equal(t, at(t, "2026-11-27T16:30:00"), w.row.Due)
	require.Equal(t, "2026-11-27T16:30", w.row.Key)
	require.NoError(t, s.rework(context.Background()))

	w, s = hung(t, map[string]any{"every": "7 hours"}, "2026-11-27T10:00:00")
	before := w.row
	w.row.Rules = "others"
	require.NoError(t, s.rework(context.Background()))
	require.Equal(t, before, w.row, "an interval goes by no clock on a wall")
	w.row.Rules, w.row.Cadence, w.row.Zone = "others", "what is this", "Europe/Lisbon"
	require.NoError(t, s.rework(context.Background()))
	require.Equal(t, before.Due, w.row.Due)
}

func TestGoingLiveAgainKeepsWhatStays(t *testing.T) {
	t.Parallel()
	timing := func(settings map[string]any) store.Timer {
		w, _ := hung(t, settings, "2026-11-27T10:00:00")
		return Times(w.plan.Start.Timing)
	}
	w, _ := hung(t, map[string]any{"every": "7 hours", "zone": "Europe/Lisbon"}, "2026-11-27T10:00:00")
	w.row.Previous = at(t, "2026-11-27T07:00:00")
	later := at(t, "2026-11-29T12:00:00")
	same := timing(map[string]any{"every": "7 hours", "zone": "Europe/Lisbon", "missed": "skip"})(w.row.Workflow, []store.Scheduled{w.row}, later)[0]
	require.Equal(t, w.row.Due, same.Due, "also where it has come meanwhile")
	require.Equal(t, w.row.Anchor, same.Anchor)
	require.Equal(t, "skip", same.Missed)
	other := timing(map[string]any{"every": "5 hours"})(w.row.Workflow, []store.Scheduled{w.row}, later)[0]
	require.Equal(t, at(t, "2026-11-29T00:00:00"), other.Anchor)
	require.Equal(t, at(t, "2026-11-29T15:00:00"), other.Due)
	require.Equal(t, w.row.Previous, other.Previous, "windows do not slip")
	paused := Paused(w.row.Workflow, []store.Scheduled{w.row}, later)
	require.True(t, paused[0].Next.IsZero() && paused[0].Due.IsZero())
	again := timing(map[string]any{"every": "7 hours", "zone": "Europe/Lisbon"})(w.row.Workflow, paused, later)[0]
	require.Equal(t, w.row.Anchor, again.Anchor)
	require.True(t, again.Due.After(later), "what was due while it was paused was not missed")
	require.Nil(t, Times(nil))
}

// Whatever happens, each due time starts one run where all are wanted.
func TestEachTimeStartsOneRun(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		settings := map[string]any{"missed": "all", "most": int64(1000), "zone": "America/New_York"}
		for k, v := range rapid.SampledFrom([]map[string]any{{"every": "20 minutes"}, {"every": "day", "at": "02:30, 14:00"}, {"cron": "*/30 * * * *"}, {"every": "3 hours", "jitter": "10m"}}).Draw(t, "cadence") {
			settings[k] = v
		}
		w, s := hung(t, settings, "2026-10-31T20:00:00")
		begin, anchor := w.now, w.row.Anchor
		for range rapid.IntRange(5, 60).Draw(t, "looks") {
			w.now = w.now.Add(time.Duration(rapid.IntRange(-1800, 7200).Draw(t, "passes")) * time.Second)
			w.dies = rapid.IntRange(0, 3).Draw(t, "dies") == 0
			w.startErr = nil
			if rapid.IntRange(0, 5).Draw(t, "away") == 0 {
				w.startErr = store.ErrUnavailable
			}
			_, _, _ = s.look(context.Background())
		}
		w.dies, w.startErr = false, nil
		w.now = w.now.Add(48 * time.Hour)
		_, _, err := s.look(context.Background())
		require.NoError(t, err)
		var want []string
		c := w.plan.Start.Timing.Cadence
		for _, d := range c.List(begin, anchor, 5000) {
			if !d.At.Before(w.row.Due) {
				break
			}
			want = append(want, d.At.In(c.Zone()).Format(time.RFC3339))
		}
		due, items := w.begun(t)
		require.Equal(t, want, due)
		for i := 1; i < len(items); i++ {
			require.Equal(t, due[i-1], items[i]["previous"], "no window between two slips")
		}
	})
}

// The source looks again when something is due, and ends with its context.
func TestTheSourceLooksUntilItIsToldToStop(t *testing.T) {
	t.Parallel()
	w, s := hung(t, map[string]any{"every": "5 seconds"}, "2026-11-27T10:00:00")
	ctx, cancel := context.WithCancel(context.Background())
	var mu sync.Mutex
	looks := 0
	s.Store = looking{w, func() {
		mu.Lock()
		defer mu.Unlock()
		if looks++; looks == 5 {
			cancel()
		}
	}}
	s.Run(ctx)
	require.Equal(t, 5, looks)
	require.Len(t, w.started, 5)
	keys := map[string]bool{}
	for _, x := range w.started {
		require.True(t, strings.HasPrefix(x.Key, "due "))
		require.False(t, keys[x.Key])
		keys[x.Key] = true
	}
}

// looking passes on to the next time with each look.
type looking struct {
	*wall
	looked func()
}

func (l looking) ClaimDue(ctx context.Context, most int, work func(time.Time, []store.DueNow) ([]store.Scheduled, []store.MissedTimes)) (int, time.Duration, error) {
	l.now = l.row.Next
	l.wall.now = l.row.Next
	n, _, err := l.wall.ClaimDue(ctx, most, work)
	l.looked()
	return n, 0, err
}
