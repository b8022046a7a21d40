package engine

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

const mendedSteps = `
  - {name: sized, type: shape, settings: {set: {n: "(= item.n + 0 )"}}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}, output: keep, on_error: set_aside}
  - {name: poked, type: hall.poke, connection: hall, input: {n: "(= item.n )"}, output: keep}`

// retried adds a pass that tries these items again.
func retried(r *Run, items ...item.Address) *Pass {
	before := r.Passes[len(r.Passes)-1].Plan
	r.Passes = append(r.Passes, Pass{Number: len(r.Passes) + 1, Plan: before, From: before, Only: func(a item.Address) bool {
		for _, x := range items {
			if x == a {
				return true
			}
		}
		return false
	}})
	return &r.Passes[len(r.Passes)-1]
}

// An edited item goes on with the fields that a person gave; it has a key of its
// own, as what is sent is another, and stays edited when it fails again.
func TestAnItemIsEditedAndTriedAgainAlone(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.refuses[`{"n":1}`], w.refuses[`{"n":2}`], w.refuses[`{"n":50}`] = "too small", "too small", "still too small"
	r, m := newRun(numberedItems(4), w, Pass{Number: 1, Plan: plan(t, mendedSteps)})
	execute := func() *Result {
		m.Seen = nil
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		return res
	}
	require.Equal(t, 2, execute().Counts.SetAside)
	edit := func(n int) {
		p := retried(r, item.Root(1))
		p.Mended = true
		e, err := Edit{Fields: map[string]any{"n": int64(n), "note": "by hand"}, By: "Wren", At: r.Facts.Started}.Entry(Key{Pass: p.Number, Step: 2, Address: item.Root(1)})
		require.NoError(t, err)
		_, err = r.Journal.Append(context.Background(), e)
		require.NoError(t, err)
	}
	edit(50)
	res := execute()
	require.Equal(t, Partial, res.State)
	require.Equal(t, 2, res.Counts.SetAside)
	o, err := r.Inspect(context.Background(), item.Root(1), "sent")
	require.NoError(t, err)
	require.Equal(t, map[string]any{"n": int64(50), "note": "by hand"}, o.Before, "it stays as it was edited")
	require.Equal(t, "Wren", o.Edited.By)
	edit(70)
	res = execute()
	require.Equal(t, 1, res.Counts.SetAside, "the other stays where it is")
	require.Contains(t, w.order, `{"n":70}`)
	require.NotContains(t, w.order, `{"n":50}`)
	for _, row := range m.Seen {
		if row.Address == item.Root(1) {
			require.Equal(t, map[string]any{"n": int64(70), "note": "by hand"}, row.Item.Fields)
		}
	}
	require.Len(t, distinctKeys(w), 4+3+2, "three contents of the one item, three keys; and two writes for each of the others but the one that is set aside")
	openAll(t, r, m.Seen, r.Passes[0].Plan)
	o, err = r.Inspect(context.Background(), item.Root(0), "sent")
	require.NoError(t, err)
	require.Nil(t, o.Edited)
}

func distinctKeys(w *world) map[string]bool {
	out := map[string]bool{}
	for _, k := range w.keys {
		out[k] = true
	}
	return out
}

// Of a call that may have been sent a person says that it was: nothing is sent,
// and the item goes on.
func TestASendIsConfirmed(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.cuts = func(n int) bool { return n == 4 } // the second poke
	r, m := newRun(numberedItems(2), w, Pass{Number: 1, Plan: plan(t, mendedSteps)})
	r.Chunk = 1
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, 1, res.Counts.InDoubt)
	p := retried(r, item.Root(1))
	p.Mended = true
	_, err = r.Journal.Append(context.Background(), Confirmed(Key{Pass: 2, Step: 3, Address: item.Root(1)}, "Wren", r.Facts.Started))
	require.NoError(t, err)
	calls := w.calls
	m.Seen = nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, calls, w.calls)
	require.Contains(t, picture(m.Seen), "written(was done, says Wren)")
	openAll(t, r, m.Seen, r.Passes[0].Plan)
}

// Who puts an end to a retry half-way lets what has begun go on to its end; the
// others stay set aside as they were, and are tried again once, whenever that is.
func TestARetryIsEndedHalfWayAndGoneOnWith(t *testing.T) {
	t.Parallel()
	for name, dies := range map[string]bool{"in good order": false, "and its owner dies": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			const many = 200
			w := newWorld()
			w.faults = func(_ int, path string) error {
				if path == "/send" {
					return &call.Failure{Class: call.Refused, Status: 409, Message: "closed"}
				}
				return nil
			}
			r, m := newRun(numberedItems(many), w, Pass{Number: 1, Plan: plan(t, mendedSteps+`
  - {name: two, type: batch, settings: {size: 2, as: list}}`)})
			execute := func(stop *Stop) *Result {
				m.Seen = nil
				res, err := r.Execute(context.Background(), stop)
				require.NoError(t, err)
				return res
			}
			require.Equal(t, many, execute(nil).Counts.SetAside)
			first := lastCells(m)

			stop := &Stop{}
			w.faults = func(n int, _ string) error {
				if n == many+70 {
					stop.Halt()
				}
				return nil
			}
			r.Passes = append(r.Passes, Pass{Number: 2, Plan: r.Passes[0].Plan, From: r.Passes[0].Plan, Aside: true})
			if dies {
				left := 90
				r.Journal = crashing{MemoryJournal{m}, &left, true, &sync.Mutex{}}
				_, err := r.Execute(context.Background(), stop)
				require.ErrorIs(t, err, errCrash)
				r.Journal = MemoryJournal{m}
				stop = &Stop{}
				stop.Halt()
			}
			res := execute(stop)
			require.Equal(t, Partial, res.State)
			require.Zero(t, res.Counts.Waiting, "nothing is left half-way")
			begun := many - res.Counts.SetAside
			require.Greater(t, begun, 10)
			require.Less(t, begun, many)
			require.Contains(t, res.Reason, fmt.Sprintf("%d items had not begun when this was ended", many-begun))
			doubt := res.Counts.InDoubt // a poke that was on its way when the owner died
			require.LessOrEqual(t, doubt, 1)
			require.InDelta(t, 2*begun, len(w.order), float64(doubt), "each of them twice: what was begun is at its end")
			for a, cell := range lastCells(m) {
				if cell.Fate == Aside {
					require.Equal(t, first[a].Text, cell.Text, "as it was")
				}
			}
			openAll(t, r, m.Seen[:5], r.Passes[0].Plan)
			openAll(t, r, m.Seen[len(m.Seen)-5:], r.Passes[0].Plan)

			r.Passes = append(r.Passes, Pass{Number: 3, Plan: r.Passes[0].Plan, From: r.Passes[0].Plan, Aside: true})
			res = execute(nil)
			require.Equal(t, doubt, res.Counts.InDoubt+res.Counts.SetAside+res.Counts.Waiting)
			require.InDelta(t, 2*many, len(w.order), float64(doubt), "none twice")
			seen := map[string]int{}
			for _, b := range w.order {
				seen[b]++
				require.LessOrEqual(t, seen[b], 2)
			}
			distinct(t, m.Seen)
		})
	}
}

func lastCells(m *Memory) map[item.Address]Cell {
	out := map[item.Address]Cell{}
	for _, r := range m.Seen {
		out[r.Address] = r.Cells[len(r.Cells)-1]
		out[r.Address] = Cell{Fate: out[r.Address].Fate, Text: strings.TrimSpace(out[r.Address].Text)}
	}
	return out
}

// An edit gives all fields or some; what was shown with its secrets masked, and
// was not touched, is what it was.
func TestEditsOfFields(t *testing.T) {
	t.Parallel()
	secrets := call.NewSecrets("tk_hollowbank_9931")
	was := map[string]any{"n": int64(1), "token": "tk_hollowbank_9931", "deep": map[string]any{"list": []any{"a", "tk_hollowbank_9931"}}}
	shown := map[string]any{"n": int64(2), "token": secrets.Mask("tk_hollowbank_9931"), "deep": map[string]any{"list": []any{"b", secrets.Mask("tk_hollowbank_9931"), "c"}}}
	require.NotEqual(t, "tk_hollowbank_9931", shown["token"])
	for name, c := range map[string]struct {
		edit Edit
		want map[string]any
	}{
		"all":        {Edit{Fields: shown}, map[string]any{"n": int64(2), "token": "tk_hollowbank_9931", "deep": map[string]any{"list": []any{"b", "tk_hollowbank_9931", "c"}}}},
		"some":       {Edit{Set: map[string]any{"n": int64(3), "token": shown["token"]}}, map[string]any{"n": int64(3), "token": "tk_hollowbank_9931", "deep": was["deep"]}},
		"taken away": {Edit{Set: map[string]any{"x": nil}, Unset: []string{"token", "deep", "never"}}, map[string]any{"n": int64(1), "x": nil}},
		"nothing":    {Edit{Fields: map[string]any{}}, map[string]any{}},
	} {
		c.edit.By, c.edit.At = "Wren", time.Unix(9, 0).UTC()
		require.Equal(t, c.want, c.edit.apply(was, secrets), name)
		e, err := c.edit.Entry(Key{Pass: 2, Step: 3})
		require.NoError(t, err)
		require.Equal(t, PartEdit, e.Part)
		back, err := ReadEdit(e)
		require.NoError(t, err)
		require.Equal(t, c.want, back.apply(was, secrets), name)
		require.Equal(t, "Wren", back.By)
	}
	_, err := ReadEdit(&Entry{Result: []byte("no")})
	require.Error(t, err)
}

// A rehearsal waits for nothing, and says until when an item would wait.
func TestARehearsalDoesNotWait(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: later, type: wait, settings: {for: 2h}}
  - {name: poor, type: wait, on_error: set_aside, settings: {until: item.when}}`)
	r, m := newRun([]map[string]any{{"when": "2026-05-01T10:00:00Z"}, {"when": "soon"}}, newWorld(), Pass{Number: 1, Plan: p})
	r.Rehearse = true
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Len(t, m.Seen, 2)
	for _, row := range m.Seen {
		require.Contains(t, row.Cell(1).Text, "would wait until")
	}
	require.Contains(t, m.Seen[0].Cell(2).Text+m.Seen[1].Cell(2).Text, "1 May 10:00 UTC")
}
