package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// Reasons to stop, as they come while a call is in flight.
var stops = map[string]func(*Stop){
	"handover": (*Stop).Handover,
	"cancel":   (*Stop).Cancel,
	"park": func(s *Stop) {
		s.park(&call.Parked{Reason: call.ReasonConnection, Connection: "hall", Message: "another's sign-in broke"})
	},
	"failure": func(s *Stop) { s.fail("another item failed") },
}

// What becomes of a call, by what is known of it, by whether it may be made
// again, and by whether the execution is told to stop while it is in flight. A
// step tries twice. "left" means that nothing final stands in the journal: the
// item is frontier.
func TestTheOutcomeOfACall(t *testing.T) {
	t.Parallel()
	type end struct {
		outcome Outcome // "" for left
		calls   int
	}
	left := Outcome("")
	for _, row := range []struct {
		class, repeat, when string
		free, stopped       end
	}{
		{"success", "safe", "ask", end{Done, 1}, end{Done, 1}},
		{"success", "keyed", "ask", end{Done, 1}, end{Done, 1}},
		{"success", "unsafe", "ask", end{Done, 1}, end{Done, 1}},
		{"not sent", "safe", "ask", end{Failed, 2}, end{left, 1}},
		{"not sent", "keyed", "ask", end{Failed, 2}, end{left, 1}},
		{"not sent", "unsafe", "ask", end{Failed, 2}, end{left, 1}},
		{"not sent", "unsafe", "resend", end{Failed, 2}, end{left, 1}},
		{"not sent", "unsafe", "done", end{Failed, 2}, end{left, 1}},
		{"refused", "safe", "ask", end{Failed, 1}, end{Failed, 1}},
		{"refused", "keyed", "ask", end{Failed, 1}, end{Failed, 1}},
		{"refused", "unsafe", "ask", end{Failed, 1}, end{Failed, 1}},
		{"refused", "unsafe", "resend", end{Failed, 1}, end{Failed, 1}},
		{"refused", "unsafe", "done", end{Failed, 1}, end{Failed, 1}},
		{"refused for now", "safe", "ask", end{Failed, 2}, end{left, 1}},
		{"refused for now", "keyed", "ask", end{Failed, 2}, end{left, 1}},
		{"refused for now", "unsafe", "ask", end{Failed, 2}, end{left, 1}},
		{"refused for now", "unsafe", "resend", end{Failed, 2}, end{left, 1}},
		{"refused for now", "unsafe", "done", end{Failed, 2}, end{left, 1}},
		{"unknown", "safe", "ask", end{Failed, 2}, end{left, 1}},
		{"unknown", "keyed", "ask", end{Failed, 2}, end{left, 1}},
		{"unknown", "unsafe", "ask", end{Unknown, 1}, end{Unknown, 1}},
		{"unknown", "unsafe", "resend", end{Unknown, 2}, end{left, 1}},
		{"unknown", "unsafe", "done", end{Done, 1}, end{Done, 1}},
		{"lost here", "safe", "ask", end{Done, 3}, end{left, 1}},
		{"lost here", "keyed", "ask", end{Done, 3}, end{left, 1}},
		{"lost here", "unsafe", "ask", end{Unknown, 1}, end{Unknown, 1}},
		{"lost here", "unsafe", "resend", end{Done, 3}, end{left, 1}},
		{"lost here", "unsafe", "done", end{Done, 1}, end{Done, 1}},
		{"not begun, ours", "safe", "ask", end{Done, 3}, end{left, 1}},
		{"not begun, ours", "keyed", "ask", end{Done, 3}, end{left, 1}},
		{"not begun, ours", "unsafe", "ask", end{Done, 3}, end{left, 1}},
		{"malformed", "safe", "ask", end{Failed, 2}, end{left, 1}},
		{"malformed", "keyed", "ask", end{Failed, 2}, end{left, 1}},
		{"malformed", "unsafe", "ask", end{Unknown, 1}, end{Unknown, 1}},
	} {
		for stop, raise := range stops {
			t.Run(strings.Join([]string{row.class, row.repeat, row.when, stop}, "/"), func(t *testing.T) {
				t.Parallel()
				got := callOnce(t, row.class, row.repeat, row.when, raise)
				require.Equal(t, row.stopped, end{got.outcome, got.calls})
				require.Equal(t, row.repeat == "unsafe" && row.stopped.outcome == left && (row.class != "unknown" && row.class != "lost here"), got.withdrawn,
					"what certainly came to nothing is not in doubt")
				switch stop {
				case "handover":
					if row.stopped.outcome == Failed { // it failed the run, which is stronger
						require.Equal(t, FailedRun, got.state)
						return
					}
					require.ErrorIs(t, got.err, ErrHandover)
				case "cancel":
					require.Equal(t, Cancelled, got.state)
				case "failure":
					require.Equal(t, FailedRun, got.state)
				case "park":
					want := WaitingOn
					if row.stopped.outcome == Failed { // it failed the run, which is stronger
						want = FailedRun
					}
					require.Equal(t, want, got.state)
				}
			})
		}
		t.Run(strings.Join([]string{row.class, row.repeat, row.when, "no stop"}, "/"), func(t *testing.T) {
			t.Parallel()
			got := callOnce(t, row.class, row.repeat, row.when, nil)
			require.Equal(t, row.free, end{got.outcome, got.calls})
		})
	}
}

type called struct {
	outcome   Outcome
	calls     int
	withdrawn bool
	state     State
	err       error
}

// callOnce executes one item whose call fails in one way; those that are our
// own fault succeed at the third time.
func callOnce(t *testing.T, class, repeat, when string, raise func(*Stop)) called {
	t.Helper()
	w := newWorld()
	stop := &Stop{}
	w.faults = func(n int, _ string) error {
		if raise != nil {
			raise(stop)
		}
		switch class {
		case "not sent":
			return &call.Failure{Class: call.NotSent, Message: "nobody answers there"}
		case "refused":
			return &call.Failure{Class: call.Refused, Status: 422, Message: "no"}
		case "refused for now":
			return &call.Failure{Class: call.Refused, Status: 503, Message: "not now", Retryable: true}
		case "unknown":
			return &call.Failure{Class: call.InDoubt, Message: "the connection was cut"}
		case "lost here":
			if n < 3 {
				return &call.Lost{Err: errors.New("the files are away")}
			}
		case "not begun, ours":
			if n < 3 {
				return errors.New("the gate's table is away")
			}
		}
		return nil
	}
	w.malformed = class == "malformed"
	p := plan(t, fmt.Sprintf("  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, repeat: %s, when_unknown: %s, retry: {attempts: 2}}", repeat, when))
	r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), stop)
	got := called{calls: w.calls, err: err}
	if res != nil {
		got.state = res.State
	}
	last, back := -1, -1
	for _, e := range m.All() {
		switch kind, n := numbered(e.Part); {
		case kind == partAnnounce:
			last = max(last, n)
		case kind == partWithdraw:
			back = max(back, n)
		case e.Part == 0:
			got.outcome = e.Outcome
		}
	}
	got.withdrawn = last >= 0 && back == last
	return got
}

// A refusal is the item's, whatever its neighbour does at the same time.
func TestAParkDoesNotSwallowANeighboursAnswer(t *testing.T) {
	t.Parallel()
	for _, repeat := range []string{"keyed", "unsafe"} {
		w := newWorld()
		w.parallel = true
		var met sync.WaitGroup
		met.Add(2)
		w.meet = func(body string) error {
			met.Done()
			met.Wait() // both are in flight
			if body == `{"n":1}` {
				return &call.Parked{Reason: call.ReasonConnection, Connection: "hall", Message: "the token was refused"}
			}
			time.Sleep(20 * time.Millisecond) // the other has parked the run by now
			return &call.Failure{Class: call.Refused, Status: 422, Message: "refused for good"}
		}
		p := plan(t, fmt.Sprintf("  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, repeat: %s, on_error: set_aside, parallel: 2}", repeat))
		r, m := newRun([]map[string]any{{"n": int64(1)}, {"n": int64(2)}}, w, Pass{Number: 1, Plan: p})
		r.Chunk = 2
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, WaitingOn, res.State)
		require.Equal(t, 1, res.Counts.SetAside, repeat)
		require.Contains(t, picture(m.Seen), "1 set_aside(refused for good)")
		require.Contains(t, picture(m.Seen), "0 waiting(the token was refused)")

		w.meet, w.parallel = nil, false
		again := *r
		again.Lattice = &Memory{}
		res, err = again.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, Partial, res.State)
		require.Zero(t, res.Counts.InDoubt, "nothing is said to have perhaps been sent")
		require.Equal(t, []string{`{"n":1}`}, w.order)
	}
}

// A stronger reason to stop replaces a weaker one, never the other way.
func TestReasonsToStopHaveAnOrder(t *testing.T) {
	t.Parallel()
	order := []string{"handover", "park", "failure", "cancel"}
	for i, first := range order {
		for j, second := range order {
			s := &Stop{}
			require.False(t, s.set())
			stops[first](s)
			stops[second](s)
			why, _, _ := s.reason()
			require.Equal(t, []reason{handedOver, parks, fails, cancelled}[max(i, j)], why, "%s, then %s", first, second)
			require.True(t, s.set())
			select {
			case <-s.Done():
			default:
				require.Fail(t, "it says that it is done")
			}
		}
	}
	s := &Stop{}
	later, sooner := time.Unix(2_000_000_000, 0), time.Unix(1_900_000_000, 0)
	s.park(&call.Parked{Reason: call.ReasonConnection})
	s.park(&call.Parked{Reason: call.ReasonToldToWait, Until: later})
	s.park(&call.Parked{Reason: call.ReasonJob, Until: sooner})
	s.park(&call.Parked{Reason: call.ReasonToldToWait, Until: later})
	_, parked, _ := s.reason()
	require.Equal(t, call.ReasonJob, parked.Reason, "of several waits the one that ends first counts")
}

// A second cancel cuts what is in flight: nobody knows of a write, a read is left.
func TestASecondCancelCutsCalls(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ action, repeat, fate string }{{"send", "keyed", "may_have_been_sent"}, {"send", "unsafe", "may_have_been_sent"}, {"pieces", "safe", "0\n"}} {
		w := newWorld()
		stop := &Stop{}
		w.block = func(ctx context.Context) error {
			stop.Cancel()
			stop.Cut()
			<-ctx.Done()
			return context.Cause(ctx)
		}
		p := plan(t, fmt.Sprintf("  - {name: it, type: hall.%s, connection: hall, input: {n: (= item.n )}, repeat: %s}", c.action, c.repeat))
		r, m := newRun(numberedItems(2), w, Pass{Number: 1, Plan: p})
		res, err := r.Execute(context.Background(), stop)
		require.NoError(t, err)
		require.Equal(t, Cancelled, res.State)
		require.Contains(t, picture(m.Seen), c.fate)
		require.Equal(t, 1, w.calls)
	}
}

// A wait that the other side asks for counts no attempt, also on the last one,
// and is bounded in all; the bound holds over wakes.
func TestWaitsAreObeyedAndBounded(t *testing.T) {
	t.Parallel()
	w := newWorld()
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, on_error: set_aside, retry: {attempts: 1, wait: 3h}}`)
	clock := &tick{now: time.Unix(1_800_000_000, 0)}
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
		clock.mu.Lock()
		clock.now = res.Parked.Until
		clock.mu.Unlock()
	}
	require.Greater(t, short, 100, "every one of them held the connection")
	require.Contains(t, picture(m.Seen), "set_aside(slow down (it has asked to wait for longer than 3h0m0s))")
	require.LessOrEqual(t, wakes, 4)

	// A connection that is held by others is waited for just as long.
	parked := newWorld()
	r2, m2 := newRun(numberedItems(1), parked, Pass{Number: 1, Plan: p})
	clock2 := &tick{now: time.Unix(1_800_000_000, 0)}
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
		clock2.mu.Lock()
		clock2.now = res.Parked.Until
		clock2.mu.Unlock()
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
		clock := &tick{now: time.Unix(1_800_000_000, 0)}
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
		clock.mu.Lock()
		clock.now = clock.now.Add(c.away)
		clock.mu.Unlock()
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
