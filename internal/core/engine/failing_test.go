package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine/enginetest"
)

// An item whose call failed goes on with nothing: the entry says so, and a resume
// does not try it again.
func TestAnItemGoesOnWithNothingAfterAnError(t *testing.T) {
	t.Parallel()
	for output, want := range map[string]string{"keep": `{"n":1}`, "replace": `{"n":1}`, "under answer": `{"answer":null,"n":1}`} {
		t.Run(output, func(t *testing.T) {
			t.Parallel()
			w := newWorld()
			w.refuses[`{"n":1}`] = "no such thing"
			r, m := newRun(numberedItems(3), w, Pass{Number: 1, Plan: plan(t, `
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}, output: `+output+`, on_error: continue}
  - {name: after, type: shape}`)})
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State)
			require.Equal(t, want, gone(m)[1])
			require.Equal(t, 1, res.Counts.Of(1).Continued)
			require.Equal(t, 3, res.Counts.Of(1).Out)
			require.Contains(t, picture(m.Seen), "went_on(no such thing)")
			delete(w.refuses, `{"n":1}`)
			calls := len(w.order)
			_, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Len(t, w.order, calls)
			openAll(t, r, m.Seen, r.Passes[0].Plan)
		})
	}
	_, m := carry(t, newWorld(), `
  - {name: sum, type: shape, settings: {set: {sum: "(= item.n + item.t )"}}, on_error: continue}
  - {name: some, type: filter, settings: {where: item.n > item.t}, on_error: continue}
  - {name: each, type: spread, settings: {list: item.t}, on_error: continue}`, objects(`{"n": 1, "t": {"a": 2}}`)...)
	require.Equal(t, []string{`{"n":1,"t":{"a":2}}`}, gone(m), "so does one that could not be computed")
}

// A list that breaks off ends there: what was read of it goes on, and an item of
// which nothing was read goes on with nothing.
func TestAListThatBreaksOffEndsThere(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.faults = func(n int, _ string) error {
		if n == 2 || n == 4 {
			return conflict("no page")
		}
		return nil
	}
	r, m := newRun(numberedItems(3), w, Pass{Number: 1, Plan: plan(t, `  - {name: read, type: hall.pieces, connection: hall, input: {n: 2, pages: 2}, on_error: continue}`)})
	r.Chunk = 1
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Contains(t, picture(m.Seen), "went_on(its list ends after 2 items: no page)")
	require.Equal(t, 2, res.Counts.Of(1).Continued)
	openAll(t, r, m.Seen, r.Passes[0].Plan)
	before := picture(m.Seen)
	m.Seen = nil
	_, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, before, picture(m.Seen))
}

// A fallback is done for those items that failed; they rejoin where they stood,
// and know why they failed for as long as they are in it.
func TestAFallbackIsDoneForThoseThatFailed(t *testing.T) {
	t.Parallel()
	steps := `
  - name: sent
    type: hall.send
    connection: hall
    input: {n: "(= item.n )"}
    output: keep
    on_error: fallback
    fallback:
      - {name: note, type: shape, settings: {set: {why: "(= error.message ) at (= error.step )"}}}
      - name: other
        type: hall.poke
        connection: hall
        input: {n: "(= item.n + 100 )"}
        output: keep
        on_error: fallback
        fallback: [{name: last, type: shape, settings: {set: {second: "(= error.message )"}}}]
  - {name: after, type: shape, settings: {set: {s: "(= steps.note.why )"}}}`
	p := plan(t, steps)
	w := newWorld()
	w.refuses[`{"n":1}`], w.refuses[`{"n":3}`], w.refuses[`{"n":103}`] = "first", "first", "second"
	r, m := newRun(numberedItems(5), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, res.Reason)
	require.Equal(t, []string{`{"n":0,"s":null}`, `{"n":1,"s":"first at sent","why":"first at sent"}`, `{"n":2,"s":null}`, `{"n":3,"s":"first at sent","second":"second","why":"first at sent"}`, `{"n":4,"s":null}`}, gone(m))
	require.Equal(t, 2, res.Counts.Of(1).FellBack)
	require.Equal(t, 5, res.Counts.Of(1).Out)
	require.Equal(t, 2, res.Counts.Of(2).In)
	require.Contains(t, picture(m.Seen), "fell_back(first)")
	openAll(t, r, m.Seen, p)

	// One that stops within it goes on from there, and still knows why it is there.
	w = newWorld()
	w.refuses[`{"n":1}`], w.refuses[`{"n":101}`] = "first", "second"
	stops := plan(t, strings.Replace(steps, `        on_error: fallback
        fallback: [{name: last, type: shape, settings: {set: {second: "(= error.message )"}}}]
`, "", 1)+`
  - {name: total, type: gather, settings: {fields: {n: {how: count}}}}`)
	r, m = newRun(numberedItems(4), w, Pass{Number: 1, Plan: stops})
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	delete(w.refuses, `{"n":101}`)
	r.Passes = append(r.Passes, Pass{Number: 2, Plan: stops, From: stops})
	m.Seen = nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, picture(m.Seen))
	require.Equal(t, []string{`{"n":4}`}, gone(m))
	require.ElementsMatch(t, []string{`{"n":0}`, `{"n":101}`, `{"n":2}`, `{"n":3}`}, w.order)
}

func TestAnErrorOfManyIsNoSingleOne(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.refuses[`{"n":0}`], w.refuses[`{"n":1}`] = "a", "b"
	res, _ := carry(t, w, `
  - name: sent
    type: hall.send
    connection: hall
    input: {n: "(= item.n )"}
    on_error: fallback
    fallback:
      - {name: put, type: batch, settings: {size: 2, as: list}}
      - {name: see, type: shape, settings: {set: {e: "(= error.message )"}}}`, numberedItems(2)...)
	require.Equal(t, "see: this item was made of 2 that failed each for a reason of its own; gather what is needed of error before (character 4 of “(= error.message )”)", res.Reason)
}

// When a run fails, and only then, its last steps are done: once, whatever kills
// the run, and once more for a later pass that fails.
func TestWhatIsDoneWhenARunFails(t *testing.T) {
	t.Parallel()
	text := `
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}
on_failure:
  - {name: told, type: hall.poke, connection: hall, input: {n: "(= len(item.message) )"}, output: under poked}
  - {name: noted, type: shape, settings: {set: {why: "(= error.message )", step: "(= item.step )"}}}`
	p := plan(t, text)
	w := newWorld()
	r, m := newRun(numberedItems(3), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Len(t, m.Seen, 3)
	require.Len(t, w.order, 3)

	w = newWorld()
	w.refuses[`{"n":1}`] = "not now"
	r, m = newRun(numberedItems(3), w, Pass{Number: 1, Plan: p})
	r.Chunk = 1
	execute := func() *Result {
		m.Seen = nil
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		return res
	}
	told := fmt.Sprintf(`{"n":%d}`, len("sent: not now"))
	for range 3 { // as if the run had been taken over
		res = execute()
		require.Equal(t, FailedRun, res.State)
		require.Equal(t, "sent: not now", res.Reason)
		require.Equal(t, []string{`{"n":0}`, told}, w.order)
	}
	last := m.Seen[len(m.Seen)-1]
	require.Equal(t, "The run failed", last.Label)
	require.Equal(t, map[string]any{"why": "sent: not now", "step": "sent"}, map[string]any{"why": last.Item.Fields["why"], "step": last.Item.Fields["step"]})
	require.Equal(t, 1, res.Counts.Through, "it is none of the run's items")
	require.Equal(t, 1, res.Counts.Of(p.Step("told").Number).Out)
	openAll(t, r, m.Seen, p)
	open := 0
	require.NoError(t, r.Frontier(context.Background(), func(Open) error { open++; return nil }))
	require.Equal(t, 2, open, "what was told of the failure is nothing to go on with")

	r.Passes = append(r.Passes, Pass{Number: 2, Plan: p, From: p})
	res = execute()
	require.Equal(t, FailedRun, res.State)
	require.Equal(t, []string{`{"n":0}`, told, told}, w.order, "another pass that fails tells of it anew")
	require.Len(t, m.Seen, 5)
	distinct(t, m.Seen)

	delete(w.refuses, `{"n":1}`)
	r.Passes = append(r.Passes, Pass{Number: 3, Plan: p, From: p})
	res = execute()
	require.Equal(t, Succeeded, res.State)
	require.Len(t, w.order, 5)
}

// What is done then may wait and may fail: the run waits for it, and stays failed
// for the first reason.
func TestWhatIsDoneThenMayWaitAndFail(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: rest, type: wait, settings: {until: item.at}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}
on_failure:
  - {name: later, type: wait, settings: {for: 2h}}
  - {name: told, type: hall.poke, connection: hall, input: {n: 7}}`)
	w := newWorld()
	w.refuses[`{"n":0}`], w.refuses[`{"n":7}`] = "not now", "nobody there"
	clock := enginetest.NewClock(time.Date(2027, 1, 15, 9, 0, 0, 0, time.UTC))
	r, m := newRun(objects(`{"n": 0, "at": "2020-01-01T00:00:00Z"}`, `{"n": 1, "at": "2027-01-15T10:00:00Z"}`), w, Pass{Number: 1, Plan: p})
	r.Clock = clock
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, WaitingOn, res.State)
	require.Equal(t, "2027-01-15T11:00:00Z", res.Parked.Until.UTC().Format(time.RFC3339), "not for the items of the run, which has failed")
	clock.Set(clock.Now().Add(3 * time.Hour))
	narrow := *r
	narrow.Due = &Due{Items: []Place{{Step: p.Step("later").Number, Address: failureItem(1)}}, Counts: res.Counts}
	_, err = narrow.Execute(context.Background(), nil)
	require.ErrorIs(t, err, ErrWide)
	m.Seen = nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	require.Equal(t, "sent: not now", res.Reason)
	require.Empty(t, w.order)
	require.Contains(t, picture(m.Seen), "stopped(nobody there)")
}

// A rehearsal shows what would be told, without a failure.
func TestARehearsalShowsWhatWouldBeTold(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}
on_failure:
  - {name: told, type: hall.poke, connection: hall, input: {n: "(= len(item.step) )"}}`)
	w := newWorld()
	r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
	r.Rehearse = true
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Empty(t, w.order)
	require.Len(t, m.Seen, 2)
	require.Equal(t, Prepared, m.Seen[1].Cell(p.Step("told").Number).Fate)
}

// A cancelled run does nothing more, and one that is handed over goes on with it.
func TestACancelledRunTellsOfNothing(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}
on_failure:
  - {name: told, type: hall.poke, connection: hall, input: {n: 7}}`)
	for name, c := range map[string]struct {
		stop func(*Stop)
		want []string
	}{
		"cancelled":   {(*Stop).Cancel, nil},
		"handed over": {(*Stop).Handover, []string{`{"n":7}`}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w, stop := newWorld(), &Stop{}
			w.faults = func(n int, _ string) error {
				if n == 1 {
					stop.fail("sent: no") // as the call says, but before the other reason
					c.stop(stop)
					return conflict("no")
				}
				return nil
			}
			r, _ := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
			res, err := r.Execute(context.Background(), stop)
			if name == "cancelled" {
				require.NoError(t, err)
				require.Equal(t, Cancelled, res.State)
				require.Empty(t, w.order)
				return
			}
			require.ErrorIs(t, err, ErrHandover)
			require.Empty(t, w.order)
			res, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, FailedRun, res.State)
			require.Equal(t, c.want, w.order)
		})
	}
}

func conflict(message string) error {
	return &call.Failure{Class: call.Refused, Status: 409, Message: message}
}
