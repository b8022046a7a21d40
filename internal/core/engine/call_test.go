package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
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
