package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

// dice are those of a property test.
type dice struct{ *rapid.T }

func (d dice) Between(from, to int) int { return rapid.IntRange(from, to).Draw(d.T, "number") }
func (d dice) Of(list ...string) string { return rapid.SampledFrom(list).Draw(d.T, "one of") }

// tree draws the steps of a workflow.
func tree(t *rapid.T, onError string) string {
	d := dice{t}
	g := &enginetest.Grower{Dice: d, Budget: 9, Spreads: 2, Chance: onError != "stop"}
	g.Send = func(n string) string {
		return fmt.Sprintf(`{name: %s, type: hall.send, connection: hall, input: {n: "(= item.n )"}, parallel: 1, on_error: %s, output: under answer}`, n, onError)
	}
	g.Fails = func(n, ways string) string {
		return fmt.Sprintf(`{name: %s, type: hall.send, connection: hall, input: {n: "(= item.n + %d )"}, parallel: 1, output: under answer, %s}`, n, stubborn, ways)
	}
	g.List = func(n string) []string {
		return []string{fmt.Sprintf(`{name: %s, type: hall.pieces, connection: hall, input: {n: %d, pages: %d}, parallel: 1, when_none: %s}`, n, d.Between(0, 3), d.Between(1, 3), d.Of("end", "pass"))}
	}
	g.Wait = func(n string, _ bool) string {
		return fmt.Sprintf(`{name: %s, type: wait, settings: {until: '"2026-01-01T00:00:00Z"'}}`, n)
	}
	return g.Steps()
}

// stubborn is from where on numbers are sent by steps that fail for a third of
// them, always.
const stubborn = 1_000_000

// refusesThird refuses these, and spares them of all other faults.
func refusesThird(w *world) *world {
	w.steady = func(body string) (steady, refuses bool) {
		var sent struct{ N int }
		if err := json.Unmarshal([]byte(body), &sent); err != nil || sent.N < stubborn {
			return false, false
		}
		return true, sent.N%3 == 0
	}
	return w
}

func grown(t require.TestingT, steps string, parallel int) *workflow.Plan {
	steps = strings.ReplaceAll(steps, "parallel: 1", fmt.Sprintf("parallel: %d", parallel))
	text := "format: young-trellis/1\nname: test\ntrigger: {type: manual}\nsteps: " + steps + "\n"
	w, problems := workflow.Check([]byte(text), catalog(t))
	require.False(t, workflow.HasErrors(problems), "%s\n%v", text, problems)
	p, err := workflow.Compile(w, catalog(t))
	require.NoError(t, err)
	return p
}

// balances holds that no step loses or makes up an item.
func balances(t require.TestingT, p *workflow.Plan, c Counts) {
	for _, s := range p.Steps {
		n := c.Of(s.Number)
		out := n.Out + n.Held + n.Nothing + n.SetAside + n.Stopped + n.InDoubt
		switch op := s.Operator.(type) {
		case steps.Spreads, steps.Holder, steps.Loop:
		case steps.Branch:
			require.True(t, n.In == out || op.Every() && n.In <= out, "step %s: %+v", s.Name, n)
		default:
			if !s.Lists() {
				require.Equal(t, n.In, out, "step %s", s.Name)
			}
		}
	}
}

// answersOnce holds that a run whose items said an answer has one, and no other has.
func answersOnce(t require.TestingT, p *workflow.Plan, m *Memory, c Counts) {
	said := 0
	for _, s := range p.Steps {
		if _, answers := s.Operator.(steps.Answerer); answers {
			said += c.Of(s.Number).Out
		}
	}
	require.Equal(t, said > 0, m.Said != nil, "%d answers were said", said)
	if said > 0 {
		require.True(t, slices.ContainsFunc(m.All(), func(e *Entry) bool { return bytes.Equal(e.Result, m.Said) }), "%s was said by an item", m.Said)
	}
}

// sorted rows, so that only what became of whom counts.
func rowsOf(rows []Row) string {
	list := strings.Split(strings.TrimSpace(picture(rows)), "\n")
	sort.Strings(list)
	return strings.Join(list, "\n")
}

// once holds that no address stands twice.
func distinct(t require.TestingT, rows []Row) {
	seen := map[item.Address]bool{}
	for _, r := range rows {
		require.False(t, seen[r.Address], "%s stands twice", r.Address)
		seen[r.Address] = true
	}
}

// Chunk size and overlap change memory and time, nothing else.
func TestChunksAndOverlapChangeNothingInAnyTree(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		steps := tree(t, "set_aside")
		items := numberedItems(rapid.IntRange(0, 25).Draw(t, "items"))
		refused := rapid.IntRange(0, 9).Draw(t, "refused")
		var want, wantSends string
		for i, c := range []struct{ chunk, parallel int }{{1, 1}, {7, 8}, {256, 1}, {0, 8}, {0, 1}} {
			w := refusesThird(newWorld())
			w.refuses[fmt.Sprintf(`{"n":%d}`, refused)] = "refused"
			r, m := newRun(items, w, Pass{Number: 1, Plan: grown(t, steps, c.parallel)})
			r.Clock, r.Chunk = frozen{}, c.chunk
			if i == 4 { // and no room in memory for anything that is held
				r.Spools, r.Account = &spools{}, &ByteAccount{}
			}
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			if i == 4 {
				require.Zero(t, r.Spools.(*spools).open, "every spool is closed")
			}
			balances(t, r.Passes[0].Plan, res.Counts)
			answersOnce(t, r.Passes[0].Plan, m, res.Counts)
			distinct(t, m.Seen)
			got, sends := rowsOf(m.Seen), fmt.Sprint(sortedDone(w))
			if i == 0 {
				want, wantSends = got, sends
				continue
			}
			require.Equal(t, want, got, "chunk %d, parallel %d: %s", c.chunk, c.parallel, steps)
			require.Equal(t, wantSends, sends)
		}
	})
}

// A kill between any two writes of the journal loses and doubles nothing: what is
// journaled is not done again, and lists that were closed are the same.
func TestACrashAnywhereInAnyTree(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := grown(t, tree(t, "set_aside"), rapid.SampledFrom([]int{1, 4}).Draw(t, "parallel"))
		items := numberedItems(rapid.IntRange(0, 20).Draw(t, "items"))
		calm := refusesThird(newWorld())
		r, calmRows := newRun(items, calm, Pass{Number: 1, Plan: p})
		r.Clock, r.AtFirst = frozen{}, rapid.SampledFrom([]int{0, 0, 1, 3}).Draw(t, "at first")
		calmResult, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)

		w := refusesThird(newWorld())
		journal := &Memory{}
		for attempt := 0; ; attempt++ {
			left := rapid.IntRange(0, 12).Draw(t, "entries before the crash")
			if attempt > 8 {
				left = 100_000
			}
			rows := &Memory{}
			r := &Run{Spec: Spec{Facts: r.Facts, Passes: r.Passes, AtFirst: r.AtFirst}, World: World{Source: MemorySource{&Memory{Items: items}}, Journal: crashing{MemoryJournal{journal}, &left, rapid.Bool().Draw(t, "after"), &sync.Mutex{}}, Connections: w, Clock: frozen{}, Lattice: rows}}
			res, err := r.Execute(context.Background(), nil)
			if errors.Is(err, errCrash) {
				continue
			}
			require.NoError(t, err)
			require.Equal(t, sortedDone(calm), sortedDone(w))
			require.Equal(t, rowsOf(calmRows.Seen), rowsOf(rows.Seen))
			require.Equal(t, calmResult.State, res.State)
			require.Equal(t, calmResult.Counts.Steps, res.Counts.Steps)
			answersOnce(t, p, journal, res.Counts)
			return
		}
	})
}

// While the database is away, at whatever moment, everything waits and goes on as
// if nothing had been.
func TestTheDatabaseIsAwayAtAnyMomentOfAnyTree(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := grown(t, tree(t, "set_aside"), rapid.SampledFrom([]int{1, 4}).Draw(t, "parallel"))
		items := numberedItems(rapid.IntRange(0, 20).Draw(t, "items"))
		var want string
		for _, moment := range []int{0, rapid.IntRange(1, 40).Draw(t, "moment"), rapid.IntRange(1, 400).Draw(t, "later moment")} {
			r, m := newRun(items, refusesThird(newWorld()), Pass{Number: 1, Plan: p})
			a := &away{sleepers: newSleepers(m), MemorySource: MemorySource{m}, left: moment}
			r.Clock, r.Journal, r.Source = frozen{}, awayJournal{a}, pages{a}
			_, err := r.Execute(context.Background(), nil)
			require.NoError(t, err, "at call %d", moment)
			if moment == 0 {
				want = rowsOf(m.Seen)
			}
			require.Equal(t, want, rowsOf(m.Seen))
		}
	})
}

// Every cell of every row opens to what the row showed, replaying only what
// leads to it.
func TestEveryCellOfAnyTreeOpens(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		p := grown(t, tree(t, "set_aside"), 1)
		r, m := newRun(numberedItems(rapid.IntRange(1, 12).Draw(t, "items")), refusesThird(newWorld()), Pass{Number: 1, Plan: p})
		r.Clock = frozen{}
		_, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		openAll(t, r, m.Seen, p)
	})
}

// openAll holds that every cell of these rows opens to what the row shows.
func openAll(t require.TestingT, r *Run, rows []Row, p *workflow.Plan) {
	for _, row := range rows {
		for _, s := range p.Steps {
			o, err := r.Inspect(context.Background(), row.Address, s.Name)
			require.NoError(t, err, "%s at %s\n%s", row.Address, s.Name, picture(rows))
			want := row.Cell(s.Number)
			if want.Fate == Joined && o.Cell.Text == "" { // which group it was is not looked up
				want.Text = ""
			}
			require.Equal(t, want, o.Cell, "%s at %s", row.Address, s.Name)
			if f := row.Fields(s.Number); f != nil {
				require.Equal(t, f, o.After, "%s at %s", row.Address, s.Name)
			}
		}
	}
}

// Whatever stops a run, and however often: once it was resumed to its end, what
// was done outside is what a calm run does, once each.
func TestAnyTreeEndsAfterFaultsWhereACalmRunEnds(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		steps := tree(t, "stop")
		p := grown(t, steps, rapid.SampledFrom([]int{1, 4}).Draw(t, "parallel"))
		items := numberedItems(rapid.IntRange(0, 20).Draw(t, "items"))
		calm := refusesThird(newWorld())
		r, calmRows := newRun(items, calm, Pass{Number: 1, Plan: p})
		r.Clock = frozen{}
		_, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)

		w := refusesThird(newWorld())
		failing := rapid.SliceOfNDistinct(rapid.IntRange(1, 60), 0, 12, rapid.ID).Draw(t, "failing calls")
		w.faults = func(n int, _ string) error {
			if slices.Contains(failing, n) {
				return &call.Failure{Class: call.Refused, Status: 409, Message: "not now"}
			}
			return nil
		}
		w.cuts = func(n int) bool { return n%7 == 3 }
		journal := &Memory{}
		passes := []Pass{{Number: 1, Plan: p}}
		for {
			require.Less(t, len(passes), 40, steps)
			rows := &Memory{}
			last := &Run{Spec: Spec{Facts: r.Facts, Passes: passes}, World: World{Source: MemorySource{&Memory{Items: items}}, Journal: MemoryJournal{journal}, Connections: w, Clock: frozen{}, Lattice: rows}}
			res, err := last.Execute(context.Background(), nil)
			require.NoError(t, err, steps)
			distinct(t, rows.Seen)
			if n := len(rows.Seen); n > 0 {
				from := rapid.IntRange(0, n-1).Draw(t, "opened")
				openAll(t, last, rows.Seen[from:min(n, from+4)], p)
			}
			if res.State == Succeeded {
				require.Equal(t, fieldsOf(calmRows.Seen), fieldsOf(rows.Seen), steps)
				break
			}
			open := 0
			require.NoError(t, last.Frontier(context.Background(), func(Open) error { open++; return nil }))
			require.Equal(t, res.Counts.Waiting+res.Counts.Stopped, open, "what is counted as open is the frontier")
			passes = append(passes, Pass{Number: len(passes) + 1, Plan: p, From: p, Only: func(item.Address) bool { return true }})
		}
		require.Equal(t, sortedBodies(calm), sortedBodies(w))
	})
}

// Whatever is tried again, in whatever parts, and put an end to at whatever
// moment: what was done is not done again, no row stands twice, and in the end
// nothing is set aside.
func TestWhatWasSetAsideInAnyTreeIsTriedAgainInParts(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		steps := tree(t, "set_aside")
		p := grown(t, steps, rapid.SampledFrom([]int{1, 4}).Draw(t, "parallel"))
		items := numberedItems(rapid.IntRange(1, 20).Draw(t, "items"))
		w := refusesThird(newWorld())
		failing, halts := rapid.IntRange(2, 5).Draw(t, "one of so many fails"), 0
		stop := &Stop{}
		w.faults = func(n int, _ string) error {
			if halts--; halts == 0 {
				stop.Halt()
			}
			if failing > 0 && n%failing == 1 {
				return &call.Failure{Class: call.Refused, Status: 409, Message: "not now"}
			}
			return nil
		}
		journal := &Memory{}
		passes := []Pass{{Number: 1, Plan: p}}
		for {
			require.Less(t, len(passes), 60, steps)
			rows := &Memory{}
			r := &Run{Spec: Spec{Facts: workflow.RunFacts{ID: "r1"}, Passes: passes}, World: World{Source: MemorySource{&Memory{Items: items}}, Journal: MemoryJournal{journal}, Connections: w, Clock: frozen{}, Lattice: rows}}
			res, err := r.Execute(context.Background(), stop)
			require.NoError(t, err, steps)
			require.Zero(t, w.twice, steps)
			distinct(t, rows.Seen)
			if n := len(rows.Seen); n > 0 {
				from := rapid.IntRange(0, n-1).Draw(t, "opened")
				openAll(t, r, rows.Seen[from:min(n, from+4)], p)
			}
			if res.Counts.SetAside+res.Counts.Waiting+res.Counts.Stopped == 0 {
				return
			}
			open := map[item.Address]bool{}
			require.NoError(t, r.Frontier(context.Background(), func(o Open) error { open[o.Address] = true; return nil }))
			require.Len(t, open, res.Counts.SetAside+res.Counts.Waiting+res.Counts.Stopped, "%s\n%s", steps, picture(rows.Seen))
			if len(passes) > 5 {
				failing = 0
			} else {
				halts = rapid.IntRange(0, 9).Draw(t, "calls until it is ended")
				for _, a := range slices.Sorted(maps.Keys(open)) {
					if rapid.Bool().Draw(t, "left out") {
						delete(open, a)
					}
				}
			}
			stop = &Stop{}
			passes = append(passes, Pass{Number: len(passes) + 1, Plan: p, From: p, Only: func(a item.Address) bool { return open[a] }})
		}
	})
}

// fieldsOf are the fields of what went through, in no order.
func fieldsOf(rows []Row) []string {
	var out []string
	for _, r := range rows {
		if EndOf(r.Cells).GoesOn() {
			out = append(out, fmt.Sprint(r.Item.Fields))
		}
	}
	sort.Strings(out)
	return out
}

// sortedBodies are what was done, whatever the keys were.
func sortedBodies(w *world) []string {
	out := slices.Clone(w.order)
	sort.Strings(out)
	return out
}
