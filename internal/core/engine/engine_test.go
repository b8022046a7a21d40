package engine

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

func TestItemsPassInOrderAndHeldOnesSayWhy(t *testing.T) {
	w := newWorld()
	p := plan(t, `
  - {name: big, type: filter, settings: {where: item.n >= 2}}
  - {name: twice, type: shape, settings: {set: {n: "(= item.n * 2 )", was: "(= trigger.n )"}}}
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, parallel: 3, output: under answer}
  - {name: last, type: shape, settings: {keep: none, set: {first: "(= steps.twice.was )", sent: "(= item.answer.n )"}}}
`)
	r, m := newRun(numberedItems(5), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, `0 held_back(0, needs 2)
1 held_back(1, needs 2)
2 passed(2) passed(n 4, was 2) written(sent 4) passed(first 2, sent 4)
3 passed(3) passed(n 6, was 3) written(sent 6) passed(first 3, sent 6)
4 passed(4) passed(n 8, was 4) written(sent 8) passed(first 4, sent 8)
`, picture(m.Seen))
	require.Equal(t, 3, res.Counts.Through)
	require.Equal(t, 2, res.Counts.Held)
	require.Equal(t, 3.0, res.Counts.Units)
}

func TestSetAsideItemsAreKeptAndRetriedAlone(t *testing.T) {
	w := newWorld()
	w.refuses[`{"n":1}`], w.refuses[`{"n":3}`] = "one is refused", "three is refused"
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, on_error: set_aside}`)
	r, m := newRun(numberedItems(5), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Partial, res.State)
	require.Equal(t, 2, res.Counts.SetAside)
	require.Contains(t, picture(m.Seen), "1 set_aside(one is refused)")

	delete(w.refuses, `{"n":1}`)
	again := &Run{Spec: Spec{Facts: r.Facts, Passes: append(r.Passes, Pass{Number: 2, Plan: p, Only: func(a item.Address) bool { return a == item.Root(1) }})}, World: World{Source: r.Source, Journal: r.Journal, Connections: w, Clock: r.Clock, Lattice: &Memory{}}}
	res, err = again.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Partial, res.State, "three is still set aside")
	require.Equal(t, []string{`{"n":0}`, `{"n":2}`, `{"n":4}`, `{"n":1}`}, w.order, "only the chosen one was sent")
	require.Equal(t, 1, res.Counts.SetAside)
	require.Equal(t, 4, res.Counts.Through)
}

func TestStopEndsTheRunAndResumeGoesOnWithTheRest(t *testing.T) {
	w := newWorld()
	w.refuses[`{"n":2}`] = "two is refused"
	steps := `
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}}
  - {name: note, type: shape, settings: {set: {x: 1}}}`
	p := plan(t, steps)
	r, _ := newRun(numberedItems(5), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	require.Equal(t, "sent: two is refused", res.Reason)
	require.Len(t, w.done, 2)

	var open []string
	look := &Run{Spec: Spec{Facts: r.Facts, Passes: r.Passes}, World: World{Source: r.Source, Journal: r.Journal, Connections: w, Clock: r.Clock}}
	require.NoError(t, look.Frontier(context.Background(), func(o Open) error {
		open = append(open, o.Address.String()+" "+o.Step+" "+string(o.Outcome))
		return nil
	}))
	require.Equal(t, []string{"2 sent failed", "3 sent ", "4 sent "}, open)
	require.Len(t, w.done, 2, "looking sends nothing")

	delete(w.refuses, `{"n":2}`)
	renamed := plan(t, `
  - {name: before, type: shape, settings: {set: {y: 2}}}
  - {name: posted, was: sent, type: hall.send, connection: hall, input: {n: (= item.n * 10 )}}`)
	after(t, p, renamed)
	m := &Memory{}
	next := &Run{Spec: Spec{Facts: r.Facts, Passes: append(r.Passes, Pass{Number: 2, Plan: renamed})}, World: World{Source: r.Source, Journal: r.Journal, Connections: w, Clock: r.Clock, Lattice: m}}
	res, err = next.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, []string{`{"n":0}`, `{"n":1}`, `{"n":20}`, `{"n":30}`, `{"n":40}`}, w.order)
}

func TestAListGoesOnAtThePageWhereItStopped(t *testing.T) {
	w := newWorld()
	p := plan(t, `
  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 3, pages: 4}, retry: {attempts: 1}}
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}}`)
	w.faults = func(_ int, path string) error {
		if path == "/pieces" && len(w.done) == 6 {
			return &call.Failure{Class: call.NotSent, Message: "nobody answers"}
		}
		return nil
	}
	r, m := newRun([]map[string]any{{}}, w, Pass{Number: 1, Plan: p})
	r.Chunk = 1 // nothing is read ahead
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	require.Len(t, w.done, 6)
	require.Contains(t, picture(m.Seen), "0 stopped(nobody answers)")
	w.faults = nil
	for range 2 { // the second execution replays the first
		lattice := &Memory{}
		next := &Run{Spec: Spec{Facts: r.Facts, Passes: append(r.Passes[:1:1], Pass{Number: 2, Plan: p})}, World: World{Source: r.Source, Journal: r.Journal, Connections: w, Clock: r.Clock, Lattice: lattice}}
		res, err = next.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, Succeeded, res.State)
		require.Len(t, w.done, 12)
		require.Len(t, lattice.Seen, 12)
		require.Equal(t, "0-1.11", lattice.Seen[11].Address.String())
	}
}

func TestAnUnsafeCallIsNeverRepeatedByItself(t *testing.T) {
	w := newWorld()
	w.cuts = func(n int) bool { return n == 2 }
	p := plan(t, `  - {name: poked, type: hall.poke, connection: hall, input: {n: (= item.n )}}`)
	r, m := newRun(numberedItems(3), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Partial, res.State)
	require.Equal(t, 1, res.Counts.InDoubt)
	require.Len(t, w.order, 3)
	require.Contains(t, picture(m.Seen), "may_have_been_sent")

	left := 1 // the announcement of the first call is durable, its entry is not
	w2 := newWorld()
	c, _ := newRun(numberedItems(1), w2, Pass{Number: 1, Plan: p})
	sure := c.Journal.(MemoryJournal)
	c.Journal = crashing{sure, &left, false, &sync.Mutex{}}
	_, err = c.Execute(context.Background(), nil)
	require.ErrorIs(t, err, errCrash)
	c2 := &Run{Spec: Spec{Facts: c.Facts, Passes: c.Passes}, World: World{Source: c.Source, Journal: sure, Connections: w2, Clock: c.Clock, Lattice: &Memory{}}}
	res, err = c2.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, 1, res.Counts.InDoubt)
	require.Len(t, w2.order, 1, "it was not sent again")
}

func TestWaitsOfTheOtherSideAreObeyed(t *testing.T) {
	w := newWorld()
	w.faults = func(n int, _ string) error {
		if n == 1 {
			return &call.Failure{Class: call.Refused, Status: 429, Message: "slow down", Retryable: true, RetryAfter: 11 * time.Minute}
		}
		return nil
	}
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}}`)
	r, _ := newRun(numberedItems(2), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, WaitingOn, res.State)
	require.Equal(t, call.ReasonToldToWait, res.Parked.Reason)
	require.Equal(t, 1, w.calls, "a long wait keeps no worker")
	r2 := &Run{Spec: Spec{Facts: r.Facts, Passes: r.Passes}, World: World{Source: r.Source, Journal: r.Journal, Connections: w, Clock: r.Clock, Lattice: &Memory{}}}
	res, err = r2.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
}

func TestARehearsalSendsNothing(t *testing.T) {
	w := newWorld()
	p := plan(t, `
  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 2, pages: 1}}
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}}`)
	r, m := newRun([]map[string]any{{}}, w, Pass{Number: 1, Plan: p})
	r.Rehearse = true
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Empty(t, w.done)
	require.Equal(t, "0-1.0 read(n 0) prepared(0)\n0-1.1 read(n 1) prepared(1)\n", picture(m.Seen))
	for _, e := range m.All() {
		if e.Step == 2 {
			require.True(t, e.Request.Prepared)
			require.Contains(t, e.Request.Body, `{"n":`)
		}
	}
}

// What failed is told in one line among the rows, and in full where its cell is
// opened.
func TestAnOpenedCellTellsAFailureInFull(t *testing.T) {
	p := plan(t, `
  - {name: sum, type: shape, on_error: set_aside, settings: {set: {x: "(= 1 + 2 + 3 + 4 + 5 + 6 + 7 + 8 + 9 + 10 + 11 + 12 + 13 * item.name )"}}}`)
	name := strings.Repeat("jug ", 30)
	r, _ := newRun([]map[string]any{{"name": name}}, newWorld(), Pass{Number: 1, Plan: p})
	end, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, 1, end.Counts.SetAside)
	o, err := r.Inspect(context.Background(), item.Root(0), "sum")
	require.NoError(t, err)
	require.Equal(t, Aside, o.Cell.Fate)
	require.Greater(t, utf8.RuneCountInString(o.Cell.Text), 80)
	require.NotContains(t, o.Cell.Text[len(o.Cell.Text)-4:], "…")
}

func TestAnOpenedCellShowsTheItemThenAndNow(t *testing.T) {
	w := newWorld()
	p := plan(t, `
  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 3, pages: 2}}
  - {name: sent, type: hall.send, connection: hall, input: {n: (= item.n )}, output: under answer}`)
	r, _ := newRun([]map[string]any{{}}, w, Pass{Number: 1, Plan: p})
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	look := &Run{Spec: Spec{Facts: r.Facts, Passes: r.Passes}, World: World{Source: r.Source, Journal: r.Journal, Connections: w, Clock: r.Clock}}
	address := item.Root(0).Child(1, "", 4)
	o, err := look.Inspect(context.Background(), address, "sent")
	require.NoError(t, err)
	require.Equal(t, map[string]any{"n": int64(4)}, o.Before)
	require.Equal(t, map[string]any{"n": int64(4), "answer": map[string]any{"n": int64(4)}}, o.After)
	require.Equal(t, `{"n":4}`, o.Entry.Request.Body)
	_, err = look.Inspect(context.Background(), item.Root(7), "sent")
	require.ErrorIs(t, err, ErrNoItem)
}

// randomSteps draws a workflow of the kinds there are.
func randomSteps(t *rapid.T) string {
	var s strings.Builder
	lists := 0
	for i := range rapid.IntRange(1, 6).Draw(t, "steps") {
		switch kind := rapid.SampledFrom([]string{"filter", "shape", "list", "send", "send"}).Draw(t, "kind"); {
		case kind == "filter":
			fmt.Fprintf(&s, "  - {name: s%d, type: filter, settings: {where: item.n %% %d != 1}}\n", i, rapid.IntRange(2, 5).Draw(t, "mod"))
		case kind == "shape":
			fmt.Fprintf(&s, "  - {name: s%d, type: shape, settings: {set: {n: \"(= item.n + %d )\", at: \"(= now() )\"}}}\n", i, rapid.IntRange(0, 9).Draw(t, "add"))
		case kind == "list" && lists < 2:
			lists++
			fmt.Fprintf(&s, "  - {name: s%d, type: hall.pieces, connection: hall, input: {n: %d, pages: %d}, when_none: %s}\n", i, rapid.IntRange(0, 3).Draw(t, "n"), rapid.IntRange(1, 3).Draw(t, "pages"), rapid.SampledFrom([]string{"end", "pass"}).Draw(t, "none"))
		default:
			fmt.Fprintf(&s, "  - {name: s%d, type: hall.send, connection: hall, input: {n: (= item.n )}, output: %s, on_error: %s, parallel: %d}\n", i, rapid.SampledFrom([]string{"keep", "under got"}).Draw(t, "output"), rapid.SampledFrom([]string{"set_aside", "stop"}).Draw(t, "on_error"), rapid.IntRange(1, 4).Draw(t, "parallel"))
		}
	}
	return s.String()
}

func sortedDone(w *world) []string {
	var out []string
	for k, v := range w.done {
		out = append(out, k+" "+v)
	}
	sort.Strings(out)
	return out
}

func TestChunkSizeChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		steps := strings.ReplaceAll(randomSteps(t), "on_error: stop", "on_error: set_aside")
		items := numberedItems(rapid.IntRange(0, 40).Draw(t, "items"))
		refused := rapid.IntRange(0, 40).Draw(t, "refused")
		var want, rows string
		var counts Counts
		for i, chunk := range []int{1, 7, 256} {
			for _, parallel := range []int{1, 8} {
				w := newWorld()
				w.refuses[fmt.Sprintf(`{"n":%d}`, refused)] = "no"
				r, m := newRun(items, w, Pass{Number: 1, Plan: plan(t, parallels(steps, parallel))})
				r.Chunk = chunk
				r.Clock = frozen{}
				res, err := r.Execute(context.Background(), nil)
				require.NoError(t, err)
				got := strings.Join(sortedDone(w), "\n")
				if i == 0 && parallel == 1 {
					want, rows, counts = got, picture(m.Seen), res.Counts
				}
				require.Equal(t, want, got)
				require.Equal(t, rows, picture(m.Seen))
				res.Counts.Took = counts.Took
				for j := range res.Counts.Steps {
					res.Counts.Steps[j].Millis = counts.Steps[j].Millis
				}
				require.Equal(t, counts, res.Counts)
				balanced(t, r.Passes[0].Plan, res.Counts)
				ordered(t, m.Seen)
			}
		}
	})
}

func parallels(steps string, n int) string {
	for i := 1; i <= 4; i++ {
		steps = strings.ReplaceAll(steps, fmt.Sprintf("parallel: %d}", i), fmt.Sprintf("parallel: %d }", n))
	}
	return steps
}

type frozen struct{}

func (frozen) Now() time.Time                                   { return time.Unix(1_800_000_100, 0) }
func (frozen) Sleep(ctx context.Context, _ time.Duration) error { return ctx.Err() }

func balanced(t require.TestingT, p *workflow.Plan, c Counts) {
	for i, s := range c.Steps {
		if !p.Steps[i].Lists() {
			require.Equal(t, s.In, s.Out+s.Held+s.Nothing+s.SetAside+s.Stopped+s.InDoubt, "step %s", s.Name)
		}
	}
}

func ordered(t require.TestingT, rows []Row) {
	for i := 1; i < len(rows); i++ {
		require.Less(t, string(rows[i-1].Address), string(rows[i].Address), "rows are in order, and no address stands twice")
	}
}

func TestACrashAnywhereLosesAndDoublesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		steps := strings.ReplaceAll(randomSteps(t), "on_error: stop", "on_error: set_aside")
		items := numberedItems(rapid.IntRange(1, 30).Draw(t, "items"))
		p := plan(t, steps)
		calm := newWorld()
		r, calmRows := newRun(items, calm, Pass{Number: 1, Plan: p})
		r.Clock = frozen{}
		calmResult, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)

		w := newWorld()
		journal := &Memory{}
		for attempt := 0; ; attempt++ {
			require.Less(t, attempt, 400)
			left := rapid.IntRange(0, 12).Draw(t, "entries before the crash")
			if attempt > 8 {
				left = 100_000
			}
			rows := &Memory{}
			r := &Run{Spec: Spec{Facts: r.Facts, Passes: r.Passes}, World: World{Source: MemorySource{&Memory{Items: items}}, Journal: crashing{MemoryJournal{journal}, &left, rapid.Bool().Draw(t, "after"), &sync.Mutex{}}, Connections: w, Clock: frozen{}, Lattice: rows}}
			res, err := r.Execute(context.Background(), nil)
			if errors.Is(err, errCrash) {
				continue
			}
			require.NoError(t, err)
			require.Equal(t, sortedDone(calm), sortedDone(w))
			require.Equal(t, picture(calmRows.Seen), picture(rows.Seen))
			require.Equal(t, calmResult.State, res.State)
			return
		}
	})
}

func TestFaultsAndResumesEndWhereACalmRunEnds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		steps := randomSteps(t)
		items := numberedItems(rapid.IntRange(1, 20).Draw(t, "items"))
		p := plan(t, steps)
		calm := newWorld()
		r, _ := newRun(items, calm, Pass{Number: 1, Plan: p})
		_, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)

		w := newWorld()
		failing := rapid.SliceOfNDistinct(rapid.IntRange(1, 60), 0, 12, rapid.ID).Draw(t, "failing calls")
		w.faults = func(n int, _ string) error {
			for _, f := range failing {
				if f == n {
					return &call.Failure{Class: call.Refused, Status: 409, Message: "not now"}
				}
			}
			return nil
		}
		w.cuts = func(n int) bool { return n%7 == 3 }
		journal := &Memory{}
		passes := []Pass{{Number: 1, Plan: p}}
		for {
			require.Less(t, len(passes), 40)
			last := &Run{Spec: Spec{Facts: r.Facts, Passes: passes}, World: World{Source: MemorySource{&Memory{Items: items}}, Journal: MemoryJournal{journal}, Connections: w, Clock: enginetest.Ticking(time.Time{}), Lattice: &Memory{}}}
			res, err := last.Execute(context.Background(), nil)
			require.NoError(t, err)
			if res.State == Succeeded {
				break
			}
			passes = append(passes, Pass{Number: len(passes) + 1, Plan: p, Only: func(item.Address) bool { return true }})
		}
		require.Equal(t, sortedDone(calm), sortedDone(w))
	})
}
