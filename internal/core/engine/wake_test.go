package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/item"
)

// sleepers is a journal that knows which items wait until when, and counts of how
// many items it was asked.
type sleepers struct {
	MemoryJournal
	mu    sync.Mutex
	rows  map[Place]time.Time
	asked map[item.Address]bool
}

func newSleepers(m *Memory) *sleepers {
	return &sleepers{MemoryJournal: MemoryJournal{m}, rows: map[Place]time.Time{}, asked: map[item.Address]bool{}}
}

func (s *sleepers) Append(ctx context.Context, e *Entry, writes ...Write) (*Entry, error) {
	stood, err := s.MemoryJournal.Append(ctx, e)
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range writes {
		switch w := w.(type) {
		case Waits:
			s.rows[Place{w.Step, w.Address}] = w.Due
		case Wakes:
			delete(s.rows, Place{w.Step, w.Address})
		}
	}
	return stood, err
}

func (s *sleepers) Postpone(_ context.Context, list []Waits) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range list {
		s.rows[Place{w.Step, w.Address}] = w.Due
	}
	return nil
}

func (s *sleepers) Entries(ctx context.Context, pass int, step uint16, rounds item.Rounds, addresses []item.Address) ([]*Entry, error) {
	s.mu.Lock()
	for _, a := range addresses {
		s.asked[a] = true
	}
	s.mu.Unlock()
	return s.MemoryJournal.Entries(ctx, pass, step, rounds, addresses)
}

// due says what a wake is about at a time; nil where nothing would wait after it.
func (s *sleepers) due(now time.Time, counts Counts) *Due {
	d := &Due{Counts: counts}
	for p, at := range s.rows {
		switch {
		case !at.After(now):
			d.Items = append(d.Items, p)
		case d.At.IsZero() || at.Before(d.At):
			d.Next, d.At = p, at
		}
	}
	slices.SortFunc(d.Items, func(a, b Place) int { return cmp.Compare(a.Address, b.Address) })
	if d.At.IsZero() {
		return nil
	}
	return d
}

// byAddress are the rows of a lattice, whatever their order.
func byAddress(rows []Row) map[item.Address]string {
	out := map[item.Address]string{}
	for _, r := range rows {
		out[r.Address] = fmt.Sprint(r.Cells)
	}
	return out
}

// A wake follows the items that are due and reads nothing of the others; what it
// leaves behind is what a replay of the whole run finds.
func TestAWakeReadsOnlyWhatIsDue(t *testing.T) {
	t.Parallel()
	const many = 100
	start := time.Unix(1_800_000_000, 0).UTC()
	items := make([]map[string]any, many)
	for i := range items {
		items[i] = map[string]any{"n": int64(i), "at": start.Add(time.Duration(1+i*7%many) * time.Hour).Format(time.RFC3339), "parts": []any{int64(1000), int64(2000)}}
	}
	w := newWorld()
	r, m := newRun(items, w, Pass{Number: 1, Plan: plan(t, `
  - {name: pairs, type: batch, settings: {size: 2, as: pair}}
  - {name: before, type: hall.send, connection: hall, output: keep, input: {n: "(= item.pair[0].n )"}}
  - name: ways
    type: branch
    settings:
      take: every
      cases:
        - name: late
          when: 'true'
          steps:
            - {name: rest, type: wait, settings: {until: "item.pair[0].at"}}
            - {name: parts, type: spread, settings: {list: "item.pair[0].parts", as: part, carry: [pair]}}
            - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.part + item.pair[0].n )"}}
            - {name: again, type: wait, settings: {for: 90m}}
        - name: now
          when: item.pair[0].n < 20
          steps:
            - {name: done, type: shape, settings: {set: {now: 1}}}
  - {name: last, type: hall.send, connection: hall, output: keep, on_error: set_aside, input: {n: "(= 5000 + (item.part ?? 0) + item.pair[0].n )"}}`)})
	w.refuses[`{"n":6014}`] = "it is full"
	j := newSleepers(m)
	r.Journal = j
	clock := enginetest.NewClock(start)
	r.Clock = clock
	execute := func() *Result {
		m.Seen, j.asked = nil, map[item.Address]bool{}
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		return res
	}
	res := execute()
	lattice := byAddress(m.Seen)
	for wakes := 0; ; wakes++ {
		require.Equal(t, WaitingOn, res.State, res.Reason)
		clock.Set(res.Parked.Until)
		due := j.due(clock.Now(), res.Counts)
		if due == nil {
			require.Greater(t, wakes, many/2)
			break
		}
		require.NotEmpty(t, due.Items)
		r.Due = due
		res = execute()
		require.LessOrEqual(t, len(j.asked), 5*len(due.Items), "of the due items, and of what comes of them")
		for _, p := range due.Items {
			delete(lattice, p.Address)
		}
		for a, row := range byAddress(m.Seen) {
			require.NotContains(t, lattice, a, "only the rows of due items are given anew")
			lattice[a] = row
		}
		r.Due = nil
		calls, whole := w.calls, execute()
		require.Equal(t, calls, w.calls, "a replay of all does nothing more")
		require.Equal(t, whole.Counts, res.Counts)
		require.Equal(t, byAddress(m.Seen), lattice)
		require.Equal(t, whole.Parked, res.Parked)
	}
	for res = execute(); res.State == WaitingOn; res = execute() {
		clock.Set(res.Parked.Until)
	}
	require.Equal(t, Partial, res.State)
	require.Equal(t, 1, res.Counts.SetAside)
	require.Len(t, w.order, many/2+many+many+10-1)
	numbers := map[string]bool{}
	for _, e := range m.All() {
		if e.Part == PartWake {
			number := fmt.Sprint(e.Step, string(e.Result))
			require.False(t, numbers[number], "each wake has a number of its own")
			numbers[number] = true
		}
	}
	require.Len(t, numbers, many/2+many)
}

// Of several jobs only those are asked after whose next look is due.
func TestAWakeLooksOnlyAtJobsThatAreDue(t *testing.T) {
	t.Parallel()
	b := newBench()
	b.takes = map[string]time.Duration{"a": 3 * time.Hour, "b": 10 * time.Minute, "c": 3 * time.Hour}
	m := &Memory{Items: glazes("a", "b", "c")}
	p := tests(t, "1m")
	j := newSleepers(m)
	r := jobRun(p, m, b)
	r.Journal = j
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Len(t, j.rows, 3)
	for p := range j.rows { // b is looked at first
		if p.Address == item.Root(1) {
			j.rows[p] = b.now.Add(10 * time.Minute)
		} else {
			j.rows[p] = b.now.Add(2 * time.Hour)
		}
	}
	b.now = b.now.Add(10 * time.Minute)
	looks := b.looks
	r.Due = j.due(b.now, res.Counts)
	require.Len(t, r.Due.Items, 1)
	m.Seen = nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, looks+1, b.looks)
	require.Equal(t, WaitingOn, res.State)
	require.Equal(t, r.Due.At, res.Parked.Until)
	require.Contains(t, res.Parked.Message, "works on it; the next look is at")
	require.Len(t, m.Seen, 1)
	require.Equal(t, []int{3, 1, 2}, []int{res.Counts.In, res.Counts.Through, res.Counts.Waiting})
	require.Len(t, j.rows, 2, "what is done waits no longer")
}

func TestAWakeThatNeedsAllSaysSo(t *testing.T) {
	t.Parallel()
	for name, steps := range map[string]string{
		"a list below": `
  - {name: rest, type: wait, settings: {for: 1h}}
  - {name: all, type: gather, settings: {fields: {n: {how: count}}}}`,
		"a loop": `
  - {name: round, type: loop, settings: {size: 1, steps: [{name: rest, type: wait, settings: {for: 1h}}]}}`,
		"a column": `
  - {name: first, type: shape, settings: {set: {a: 1}}}
  - {name: rest, type: wait, settings: {for: 1h}}
  - {name: all, type: shape, settings: {set: {n: '(= len(column("first")) )'}}}`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r, m := newRun(numberedItems(4), newWorld(), Pass{Number: 1, Plan: plan(t, steps)})
			j := newSleepers(m)
			r.Journal = j
			clock := enginetest.NewClock(r.Facts.Started)
			r.Clock = clock
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			r.Due = &Due{Counts: res.Counts, Items: []Place{{1, item.Root(0)}}, At: clock.Now()}
			_, err = r.Execute(context.Background(), nil)
			require.ErrorIs(t, err, ErrWide)
		})
	}
}

// A run that a due item stops ends with all that the others had counted.
func TestAWakeMayStopTheRun(t *testing.T) {
	t.Parallel()
	w := newWorld()
	start := time.Unix(1_800_000_000, 0).UTC()
	items := numberedItems(10)
	for i := range items {
		items[i]["at"] = start.Add(time.Duration(i) * time.Hour).Format(time.RFC3339)
	}
	r, m := newRun(items, w, Pass{Number: 1, Plan: plan(t, `
  - {name: rest, type: wait, settings: {until: item.at}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}`)})
	w.refuses[`{"n":3}`] = "it is full"
	j := newSleepers(m)
	r.Journal, r.Clock = j, enginetest.NewClock(start)
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	for h := 1; res.State == WaitingOn; h++ {
		clock := enginetest.NewClock(start.Add(time.Duration(h)*time.Hour + time.Minute))
		r.Clock, r.Due = clock, j.due(clock.Now(), res.Counts)
		res, err = r.Execute(context.Background(), nil)
		require.NoError(t, err)
	}
	require.Equal(t, FailedRun, res.State)
	require.Contains(t, res.Reason, "it is full")
	require.Equal(t, []int{10, 3, 1, 6}, []int{res.Counts.In, res.Counts.Through, res.Counts.Stopped, res.Counts.Waiting})
}

// While the database is away a wake holds out, or leaves it to a whole execution,
// which does: it never ends a run.
func TestAWakeHoldsOutWhileTheDatabaseIsAway(t *testing.T) {
	t.Parallel()
	for moment := 1; ; moment++ {
		start := time.Unix(1_800_000_000, 0).UTC()
		items := numberedItems(6)
		for i := range items {
			items[i]["at"] = start.Add(time.Duration(1+i) * time.Hour).Format(time.RFC3339)
		}
		w := newWorld()
		r, m := newRun(items, w, Pass{Number: 1, Plan: plan(t, `
  - {name: pieces, type: hall.pieces, connection: hall, output: under p, input: {n: "(= item.n )", pages: 3}}
  - {name: some, type: batch, settings: {size: 2, as: list}}
  - {name: rest, type: wait, settings: {until: "item.list[0].at"}}
  - {name: more, type: hall.pieces, connection: hall, input: {n: 2, pages: 2}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}`)})
		sleeping := newSleepers(m)
		clock := enginetest.NewClock(start)
		r.Journal, r.Clock = sleeping, clock
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, WaitingOn, res.State, res.Reason)
		clock.Set(res.Parked.Until)
		a := &away{sleepers: sleeping, MemorySource: MemorySource{m}, left: moment}
		r.Journal, r.Source, r.Due = awayJournal{a}, pages{a}, sleeping.due(clock.Now(), res.Counts)
		require.NotNil(t, r.Due)
		m.Seen = nil
		if res, err = r.Execute(context.Background(), nil); err != nil {
			require.ErrorIs(t, err, ErrWide, "at its call %d", moment)
		} else {
			require.Equal(t, WaitingOn, res.State)
		}
		if a.left > 0 {
			require.Greater(t, moment, 20)
			return
		}
	}
}

// A wake goes to the page of a list on which the due item is, also where several
// lists are read at once.
func TestAWakeFindsThePageOfItsItem(t *testing.T) {
	t.Parallel()
	w := newWorld()
	r, m := newRun(numberedItems(2), w, Pass{Number: 1, Plan: plan(t, `
  - {name: pieces, type: hall.pieces, connection: hall, parallel: 4, input: {n: 2, pages: 4}}
  - {name: rest, type: wait, settings: {for: 1h}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}`)})
	clock := enginetest.NewClock(r.Facts.Started)
	j := newSleepers(m)
	r.Journal, r.Clock = j, clock
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Len(t, j.rows, 16)
	clock.Set(res.Parked.Until)
	last := Place{Step: 2, Address: item.Root(1).Child(1, "", 5)}
	r.Due = &Due{Items: []Place{last}, Counts: res.Counts, Next: Place{Step: 2, Address: item.Root(0).Child(1, "", 0)}, At: clock.Now().Add(time.Minute)}
	m.Seen = nil
	_, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, []string{`{"n":5}`}, w.order)
}

// Where a service dies while items of one moment wake, some of them durably, they
// go on in the order in which all would have.
func TestWakesThatWereCutGoOnInOrder(t *testing.T) {
	t.Parallel()
	w := newWorld()
	r, m := newRun(numberedItems(8), w, Pass{Number: 1, Plan: plan(t, `
  - {name: rest, type: wait, settings: {until: '"2026-01-01T00:00:00Z"'}}
  - {name: pairs, type: batch, settings: {size: 2, as: list}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.list[0].n )"}}`)})
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	calm := w.order
	require.Len(t, calm, 4)
	for _, e := range m.All() { // only the wakes of two are left of what came then
		var n uint32
		if e.Part == PartWake {
			n = e.Address.Segments()[0].N
		}
		if e.Part == PartWake && (n == 3 || n == 6) || e.Part == PartPark || e.Step == 0 {
			continue
		}
		delete(m.entries, e.Key)
		p := whereabouts{e.Pass, e.Step, e.Rounds, e.Address}
		m.at[p] = slices.DeleteFunc(m.at[p], func(x *Entry) bool { return x == e })
	}
	w.order, w.done, m.Seen = nil, map[string]string{}, nil
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, res.Reason)
	require.Equal(t, calm, w.order)
}
