package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

const byTen = `
  - name: loads
    type: loop
    settings:
      size: 10
      steps:
        - {name: seen, type: shape, settings: {set: {round: "(= round.number )"}}}
        - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}
        - {name: pairs, type: batch, settings: {size: 5, as: list}}
        - {name: told, type: hall.send, connection: hall, output: keep, input: {n: "(= 100000 + item.list[0].n )"}}
  - {name: after, type: shape, settings: {set: {after: 1}}}`

// openedBy opens a cell of a run and tells how many items were asked after.
func openedBy(t *testing.T, r *Run, m *Memory, a item.Address, step string) (*Opened, int) {
	t.Helper()
	j := newSleepers(m)
	look := *r
	look.Journal, look.Lattice = j, nil
	o, err := look.Inspect(context.Background(), a, step)
	require.NoError(t, err)
	return o, len(j.asked)
}

// Whoever opens an item of a round reads that round's page, and the item's own
// way; no other round is done for it.
func TestAnOpenedCellInALoopReadsItsOwnRound(t *testing.T) {
	t.Parallel()
	w := newWorld()
	r, m := newRun(numberedItems(5_000), w, Pass{Number: 1, Plan: plan(t, byTen)})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, res.Reason)

	o, asked := openedBy(t, r, m, item.Root(4_876), "sent")
	require.Equal(t, map[string]any{"n": int64(4_876), "round": int64(488)}, o.Before)
	require.Equal(t, Written, o.Cell.Fate)
	require.LessOrEqual(t, asked, 40, "those of its round, and the names that a first look at a list asks for")

	var group item.Address
	for _, row := range m.Seen {
		if len(row.Item.First().Members) > 0 && row.Item.First().Members[0] == item.Root(4_870) {
			group = row.Address
		}
	}
	require.NotEmpty(t, group)
	o, asked = openedBy(t, r, m, group, "told")
	require.Len(t, o.Members, 5)
	require.Equal(t, `{"n":104870}`, o.Entry.Request.Body)
	require.LessOrEqual(t, asked, 40)
}

// A round that stopped is read with all its items, and with none of the others;
// what had not begun is known not to have.
func TestAnOpenedCellOfAStoppedLoop(t *testing.T) {
	t.Parallel()
	w := newWorld()
	w.refuses[`{"n":3003}`] = "it is full"
	r, m := newRun(numberedItems(5_000), w, Pass{Number: 1, Plan: plan(t, byTen)})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)

	o, asked := openedBy(t, r, m, item.Root(3_003), "sent")
	require.Equal(t, Stopped, o.Cell.Fate)
	require.LessOrEqual(t, asked, 40)
	o, asked = openedBy(t, r, m, item.Root(3_002), "pairs")
	require.Equal(t, NotReached, o.Cell.Fate, "its list waits for the others of the round")
	require.LessOrEqual(t, asked, 40)
	o, asked = openedBy(t, r, m, item.Root(2_990), "told")
	require.Equal(t, Joined, o.Way[len(o.Way)-1].Fate)
	require.LessOrEqual(t, asked, 40)
	o, asked = openedBy(t, r, m, item.Root(3_020), "sent")
	require.Equal(t, NotReached, o.Cell.Fate)
	require.LessOrEqual(t, asked, 40)

	delete(w.refuses, `{"n":3003}`)
	r.Passes = append(r.Passes, Pass{Number: 2, Plan: r.Passes[0].Plan, From: r.Passes[0].Plan})
	m.Seen = nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, res.Reason)
	for _, n := range []uint32{3, 3_003, 3_020, 4_999} {
		o, asked = openedBy(t, r, m, item.Root(n), "sent")
		require.Equal(t, Written, o.Cell.Fate)
		require.LessOrEqual(t, asked, 300, n)
	}
}

// A service that dies after a loop was said to have stopped, and goes on with it
// after all, adds what it lacked on a further page.
func TestRoundsThatCameLaterAreOnAFurtherPage(t *testing.T) {
	t.Parallel()
	w := newWorld()
	failing := true
	w.faults = func(n int, _ string) error {
		if failing && n == 26 {
			return &call.Failure{Class: call.Refused, Status: 409, Message: "not now"}
		}
		return nil
	}
	r, m := newRun(numberedItems(40), w, Pass{Number: 1, Plan: plan(t, byTen)})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	failing = false
	for k, e := range m.entries { // the failure itself did not become durable
		if e.Outcome == Failed {
			delete(m.entries, k)
			at := whereabouts{k.Pass, k.Step, k.Rounds, k.Address}
			delete(m.at, at)
		}
	}
	m.Seen = nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, res.Reason)
	openAll(t, r, m.Seen, r.Passes[0].Plan)
	_, asked := openedBy(t, r, m, item.Root(39), "sent")
	require.LessOrEqual(t, asked, 40)
}
