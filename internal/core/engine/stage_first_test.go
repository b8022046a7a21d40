package engine

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const (
	keeping = `  - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}`
	summing = `
  - {name: all, type: gather, settings: {fields: {n: {how: sum, of: item.n}, c: {how: count}}}}
  - {name: told, type: hall.send, connection: hall, output: keep, input: {n: "(= 100 + item.c )"}}`
)

// sentBy are the bodies that were sent.
func sentBy(w *world) []string {
	out := []string{}
	for _, body := range w.done {
		out = append(out, body)
	}
	slices.Sort(out)
	return out
}

// fatesOf are the ends of the items, by their addresses.
func fatesOf(m *Memory) map[string]Fate {
	out := map[string]Fate{}
	for _, r := range m.Seen {
		out[r.Address.String()] = EndOf(r.Cells)
	}
	return out
}

// A run that takes so many items at first sends these through all steps, sets the
// others aside ahead of the first write, and lets them go on once a person says so.
func TestTheFirstItemsGoAndTheOthersWaitForAPerson(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		steps string
		items int
		first []string // what was sent at first
		then  []string // after the retry
		state State
		aside int64
	}{
		"the others go on with a retry":            {shaping + "\n" + keeping, 5, []string{`{"n":0}`, `{"n":1}`}, []string{`{"n":2}`, `{"n":3}`, `{"n":4}`}, Partial, 3},
		"no more than so many, and all of them go": {shaping + "\n" + keeping, 2, []string{`{"n":0}`, `{"n":1}`}, nil, Succeeded, 0},
		"no item at all":                           {keeping, 0, nil, nil, Succeeded, 0},
		"a list that is made of them is closed with so many, and the others make another": {keeping + summing, 4, []string{`{"n":0}`, `{"n":1}`, `{"n":102}`}, []string{`{"n":2}`, `{"n":3}`, `{"n":102}`}, Partial, 2},
		"what they were made of counts once":                                              {"  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 3, pages: 1}}\n" + `  - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}`, 1, nil, nil, Partial, 1},
		"a loop that writes takes so many":                                                {looping, 4, []string{`{"n":0}`, `{"n":1}`}, []string{`{"n":2}`, `{"n":3}`}, Partial, 2},
		"a case that writes takes so many":                                                {ways, 4, []string{`{"n":0}`, `{"n":1}`}, []string{`{"n":2}`, `{"n":3}`}, Partial, 2},
		"a step that is switched off is none":                                             {`  - {name: off, type: hall.send, off: true, connection: hall, input: {n: "(= item.n )"}}` + "\n" + `  - {name: kept, type: filter, settings: {where: item.n > 1}}` + "\n" + keeping, 5, []string{`{"n":2}`, `{"n":3}`}, []string{`{"n":4}`}, Partial, 1},
		"where nothing is written all go":                                                 {shaping, 5, nil, nil, Succeeded, 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld()
			p := plan(t, c.steps)
			r, m := newRun(numberedItems(c.items), w, Pass{Number: 1, Plan: p})
			r.AtFirst = 2
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, c.state, res.State)
			require.EqualValues(t, c.aside, res.Counts.SetAside)
			balances(t, p, res.Counts)
			if c.first != nil {
				require.ElementsMatch(t, c.first, sentBy(w))
			}
			openAll(t, r, m.Seen, p)
			if c.aside == 0 {
				return
			}
			at := p.FirstWrite().Number
			for _, row := range m.Seen {
				if EndOf(row.Cells) == Aside {
					require.Equal(t, "not among the first 2; a retry lets it go on", row.Cell(at).Text)
				}
			}
			first := sentBy(w)
			again(t, r, m, w, first)

			r.Passes, m.Seen = append(r.Passes, Pass{Number: 2, Plan: p, From: p, Aside: true}), nil
			res, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State)
			require.Zero(t, res.Counts.SetAside)
			if c.then != nil {
				require.ElementsMatch(t, append(first, c.then...), sentBy(w))
			}
			again(t, r, m, w, sentBy(w))
			openAll(t, r, m.Seen, p)
		})
	}
}

// again holds that a replay gives the same and sends nothing.
func again(t *testing.T, r *Run, m *Memory, w *world, sent []string) {
	t.Helper()
	want, calls := fatesOf(m), w.calls
	m.Seen = nil
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, want, fatesOf(m))
	require.Equal(t, sent, sentBy(w))
	require.Equal(t, calls, w.calls)
}

// A run that failed has taken what it has taken: a resume takes no more than what
// was left of the first ones, and nothing of what was set aside.
func TestAResumeTakesNoMoreThanTheFirst(t *testing.T) {
	t.Parallel()
	w := newWorld()
	p := plan(t, "  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 2, pages: 3}}\n"+`  - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}`)
	calls := 0
	w.faults = func(n int, path string) error {
		if calls++; calls == 2 { // the second page
			return refused("not now")
		}
		return nil
	}
	r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: p})
	r.AtFirst, r.Chunk = 3, 1
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	before := len(sentBy(w))
	require.Less(t, before, 3)

	w.faults = nil
	r.Passes, m.Seen = append(r.Passes, Pass{Number: 2, Plan: p, From: p}), nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Partial, res.State)
	require.Len(t, sentBy(w), 3)
	require.EqualValues(t, 3, res.Counts.SetAside)
}

// In any tree, with any chunks: no more than so many items come to the first step
// that writes, and a retry makes up for what they were.
func TestTheFirstItemsOfAnyTree(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		steps := tree(t, "set_aside")
		items := numberedItems(rapid.IntRange(0, 25).Draw(t, "items"))
		first := rapid.IntRange(1, 6).Draw(t, "first")
		var want string
		for i, c := range []struct{ chunk, parallel int }{{1, 1}, {7, 8}, {256, 1}, {0, 8}, {0, 1}} {
			w := newWorld()
			p := grown(t, steps, c.parallel)
			r, m := newRun(items, w, Pass{Number: 1, Plan: p})
			r.Clock, r.Chunk, r.AtFirst = frozen{}, c.chunk, first
			if i == 4 {
				r.Spools, r.Account = &spools{}, &ByteAccount{}
			}
			var got string
			for pass := 1; pass <= 2; pass++ {
				if pass == 2 {
					r.Passes = append(r.Passes, Pass{Number: 2, Plan: p, From: p, Aside: true})
				}
				m.Seen = nil
				res, err := r.Execute(context.Background(), nil)
				require.NoError(t, err)
				balances(t, p, res.Counts)
				distinct(t, m.Seen)
				got += "\n" + rowsOf(m.Seen) + fmt.Sprint(sortedDone(w))
				if at := p.FirstWrite(); at != nil && pass == 1 {
					require.LessOrEqual(t, res.Counts.Of(at.Number).In-res.Counts.Of(at.Number).SetAside, first)
				}
			}
			if i == 0 {
				want = got
			}
			require.Equal(t, want, got, "chunk %d, parallel %d: %s", c.chunk, c.parallel, steps)
		}
	})
}
