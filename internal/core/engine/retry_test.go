package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/item"
)

// A wait that the other side asks for counts no attempt, also on the last one,
// and is bounded in all; the bound holds over wakes.
func TestWaitsAreObeyedAndBounded(t *testing.T) {
	t.Parallel()
	w := newWorld()
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, on_error: set_aside, retry: {attempts: 1, wait: 3h}}`)
	clock := enginetest.Ticking(time.Unix(1_800_000_000, 0))
	r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
	r.Clock = clock
	w.faults = func(int, string) error {
		return &call.Failure{Class: call.Refused, Status: 429, Message: "slow down", Retryable: true, RetryAfter: 20 * time.Second}
	}
	stopped := errors.New("enough of short waits")
	short := 0
	w.held = func(time.Duration) error {
		if short++; short == 100 {
			w.faults = func(int, string) error {
				return &call.Failure{Class: call.Refused, Status: 429, Message: "slow down", Retryable: true, RetryAfter: time.Hour}
			}
		}
		return nil
	}
	wakes := 0
	for {
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err, stopped)
		if res.State != WaitingOn {
			require.Equal(t, Partial, res.State)
			break
		}
		require.Equal(t, call.ReasonToldToWait, res.Parked.Reason)
		wakes++
		require.Less(t, wakes, 10)
		clock.Set(res.Parked.Until)
	}
	require.Greater(t, short, 100, "every one of them held the connection")
	require.Contains(t, picture(m.Seen), "set_aside(slow down (it has asked to wait for longer than 3h0m0s))")
	require.LessOrEqual(t, wakes, 4)

	// A connection that is held by others is waited for just as long.
	parked := newWorld()
	r2, m2 := newRun(numberedItems(1), parked, Pass{Number: 1, Plan: p})
	clock2 := enginetest.Ticking(time.Unix(1_800_000_000, 0))
	r2.Clock = clock2
	parked.faults = func(int, string) error {
		return &call.Parked{Reason: call.ReasonToldToWait, Connection: "hall", Until: clock2.Now().Add(50 * time.Minute), Message: "the hall asked to wait"}
	}
	for range 10 {
		res, err := r2.Execute(context.Background(), nil)
		require.NoError(t, err)
		if res.State != WaitingOn {
			break
		}
		clock2.Set(res.Parked.Until)
	}
	require.Contains(t, picture(m2.Seen), "set_aside(the hall asked to wait (it has been waited for since")
}

// A key never carries two contents: what was changed since a refusal goes out
// under another key; what was not goes out under the same.
func TestAKeyNeverCarriesTwoContents(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, second string
		same         bool
	}{{"the same", "(= item.n )", true}, {"mended", "(= item.n + 100 )", false}} {
		w := newWorld()
		refuse := true
		w.faults = func(int, string) error {
			if refuse {
				return &call.Failure{Class: call.Refused, Status: 422, Message: "no"}
			}
			return nil
		}
		one := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, on_error: set_aside}`)
		two := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: "`+c.second+`"}, on_error: set_aside}`)
		r, _ := newRun(numberedItems(2), w, Pass{Number: 1, Plan: one})
		_, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		first := slices.Clone(w.keys)
		require.Len(t, first, 2)
		for pass := 2; pass < 4; pass++ {
			refuse = pass == 2 // refused once more, and then the same again
			w.keys = nil
			next := *r
			next.Passes = append(slices.Clone(r.Passes), Pass{Number: 2, Plan: two, Only: func(item.Address) bool { return true }})
			if pass == 3 {
				next.Passes = append(next.Passes, Pass{Number: 3, Plan: two, Only: func(item.Address) bool { return true }})
			}
			next.Lattice = &Memory{}
			_, err = next.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, c.same, w.keys[0] == first[0], c.name)
			if pass == 3 {
				require.Equal(t, w.second, w.keys, "from the second pass on nothing changed")
			}
			w.second = slices.Clone(w.keys)
		}
	}
}

// Whoever looked at a call that may have been sent, and wants it sent again,
// sends it under another key.
func TestAConfirmedResendHasAKeyOfItsOwn(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.cuts = func(n int) bool { return n == 1 }
	p := plan(t, `  - {name: poked, type: hall.poke, connection: hall, input: {n: (= item.n )}}`)
	r, _ := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, 1, res.Counts.InDoubt)
	next := *r
	next.Passes = append(next.Passes, Pass{Number: 2, Plan: p, Only: func(item.Address) bool { return true }})
	next.Lattice = &Memory{}
	for range 2 { // the second execution replays the first
		res, err = next.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, Succeeded, res.State)
	}
	require.Len(t, w.keys, 2)
	require.NotEqual(t, w.keys[0], w.keys[1])
}

// Where an owner died longer ago than the other side remembers keys, the calls
// that may have been in flight are in doubt; those behind them are not.
func TestAForgottenKeyPutsWhatWasInFlightInDoubt(t *testing.T) {
	t.Parallel()
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, parallel: 2}`)
	for _, c := range []struct {
		away  time.Duration
		doubt int
	}{{23 * time.Hour, 0}, {25 * time.Hour, 2}} {
		w := newWorld()
		r, _ := newRun(numberedItems(6), w, Pass{Number: 1, Plan: p})
		clock := enginetest.Ticking(time.Unix(1_800_000_000, 0))
		r.Clock = clock
		ctx, die := context.WithCancel(context.Background())
		w.faults = func(n int, _ string) error {
			if n == 4 {
				die()
				return ctx.Err()
			}
			return nil
		}
		_, err := r.Execute(ctx, nil)
		require.Error(t, err)
		died := clock.Now()
		clock.Set(clock.Now().Add(c.away))
		w.faults = nil
		next := *r
		next.Interrupted, next.Lattice = died, &Memory{}
		res, err := next.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, c.doubt, res.Counts.InDoubt, "away for %s", c.away)
		require.Equal(t, 6-c.doubt, res.Counts.Through)
	}
}

// Chunks begin at one item and grow while all goes well, so that a fault at item
// three has not paid for those behind it; a failure lets them begin at one again.
func TestAFaultHasNotPaidForWhatComesAfter(t *testing.T) {
	t.Parallel()
	for at, most := range map[int]int{2: 4, 60: 64} {
		w := newWorld()
		p := plan(t, fmt.Sprintf(`
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: keep}
  - {name: picky, type: filter, settings: {where: "item.n != %d or item.nothing.there > 1 or item.n > 'x'"}}`, at))
		r, _ := newRun(numberedItems(600), w, Pass{Number: 1, Plan: p})
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, FailedRun, res.State)
		require.LessOrEqual(t, len(w.done), most, "an item that fails at %d", at)
	}
}

// Trouble of ours that lasts lets the run wait for us; nothing of it is an entry.
func TestTroubleOfOursThatLastsParksTheRun(t *testing.T) {
	t.Parallel()
	w := newWorld()
	cause := errors.New("the table is away, said user=trellis")
	w.opening = func() error { return cause }
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, on_error: set_aside}`)
	r, m := newRun(numberedItems(3), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, WaitingOn, res.State)
	require.Equal(t, call.ReasonOurs, res.Parked.Reason)
	require.NotContains(t, res.Parked.Message, "trellis", "what went wrong here is nobody's business")
	require.ErrorIs(t, res.Parked.Cause, cause)
	require.Empty(t, m.All())
	w.opening = nil
	again := *r
	again.Lattice = &Memory{}
	res, err = again.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, 3, res.Counts.Calls)
}

// Where another has brought an entry first, what stands is what counts.
func TestWhatStandsInTheJournalIsUsed(t *testing.T) {
	t.Parallel()
	w := newWorld()
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: replace}`)
	r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
	w.faults = func(int, string) error { // meanwhile the former owner's result comes in
		_, err := MemoryJournal{m}.Append(context.Background(), &Entry{Key: Key{Pass: 1, Step: 1, Address: item.Root(0)}, Outcome: Done, Attempts: 1, Result: []byte(`{"n": 77}`)})
		return err
	}
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, "0 written(sent 77)\n", picture(m.Seen))
}

// What another has announced is not done by us too, however that came about.
func TestWhatAnotherHasAnnouncedIsNotSent(t *testing.T) {
	t.Parallel()
	w := newWorld()
	p := plan(t, `  - {name: sent, type: hall.poke, connection: hall, input: {n: (= item.n )}}`)
	r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
	other := &Entry{Key: Key{Pass: 1, Step: 1, Address: item.Root(0), Part: AnnouncePart(0)}, Outcome: Announced, Started: r.Facts.Started.Add(-time.Second), Ended: r.Facts.Started}
	w.opening = func() error { // it has been looked for entries, and there were none
		_, err := MemoryJournal{m}.Append(context.Background(), other)
		return err
	}
	_, err := r.Execute(context.Background(), nil)
	require.ErrorIs(t, err, ErrDropped)
	require.Empty(t, w.done)
	again := *r
	again.Lattice = &Memory{}
	res, err := again.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, 1, res.Counts.InDoubt, "nobody knows whether it was sent, and somebody is asked")
	require.Empty(t, w.done)
}

func TestPartsAreNumbered(t *testing.T) {
	t.Parallel()
	for n := range 40 {
		kind, got := numbered(AnnouncePart(n))
		require.Equal(t, partAnnounce, kind)
		require.Equal(t, n, got)
		kind, got = numbered(WithdrawPart(n))
		require.Equal(t, partWithdraw, kind)
		require.Equal(t, n, got)
	}
	for _, part := range []int{PartSubmit, PartPark, 0, 7} {
		kind, n := numbered(part)
		require.Equal(t, part, kind)
		require.Zero(t, n)
	}
}

// A call is counted where one was made: what failed before it could be sent is none.
func TestOnlyCallsThatWereMadeAreCounted(t *testing.T) {
	w := newWorld()
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= 6 / (item.n - 1) )}, on_error: set_aside}`)
	r, _ := newRun(numberedItems(3), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, 1, res.Counts.SetAside)
	require.Equal(t, 2, res.Counts.Calls)
	require.Len(t, w.done, 2)
}
