package engine

import (
	"context"
	"errors"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// decisionsOf lists the entries that say what others decided.
func decisionsOf(m *Memory) []*Entry {
	var out []*Entry
	for _, e := range m.All() {
		if kind, _ := numbered(e.Part); kind == PartDecided {
			out = append(out, e)
		}
	}
	return out
}

// elsewhere is a journal that died right after the decisions of another were
// durable, of which those at a step were others: as if they had been made by a
// build whose libraries say so.
func elsewhere(t *testing.T, m *Memory, step uint16, value any) *Memory {
	out := &Memory{Items: m.Items}
	n := 0
	for _, e := range decisionsOf(m) {
		own := *e
		if e.Step == step {
			kept, err := item.DecodeObject(e.Result)
			require.NoError(t, err)
			for sum := range kept {
				kept[sum] = map[string]any{"value": value}
			}
			own.Result, err = item.Encode(kept)
			require.NoError(t, err)
			n++
		}
		_, err := MemoryJournal{out}.Append(context.Background(), &own)
		require.NoError(t, err)
	}
	require.NotZero(t, n, "nothing was written down")
	return out
}

// What libraries of others decided once counts from then on, at steps of every
// base, whatever the library says later.
func TestWhatOthersDecidedCountsFromThenOn(t *testing.T) {
	for name, c := range map[string]struct {
		steps string
		step  string // whose decisions are changed
		value any
		now   string
		then  string
	}{
		"shape": {steps: `{name: made, type: shape, settings: {set: {n: "(= len(item.who) )"}}}`, value: int64(7),
			now: "0 passed(n 3)\n1 passed(n 4)\n", then: "0 passed(n 7)\n1 passed(n 7)\n"},
		"filter": {steps: `{name: made, type: filter, settings: {where: len(item.who) < 5}}`, value: false,
			now: "0 passed(3)\n1 passed(4)\n", then: "0 held_back(3, needs less than 5)\n1 held_back(4, needs less than 5)\n"},
		"spread": {steps: `{name: made, type: spread, settings: {list: characters(item.who), as: c}}`, value: []any{"a"},
			now: "0-1.0 passed(c n)\n0-1.1 passed(c é)\n0-1.2", then: "0-1.0 passed(c a)\n1-1.0 passed(c a)\n"},
		"branch": {steps: `{name: made, type: branch, settings: {cases: [{name: few, when: len(item.who) < 9, steps: [{name: a, type: shape, settings: {set: {x: 1}}}]}], else: [{name: b, type: shape, settings: {set: {y: 1}}}]}}`, value: false,
			now: "passed(x 1)", then: "passed(y 1)"},
		"until": {steps: `{name: made, type: loop, settings: {until: len(item.who) > 0, rounds: 3, steps: [{name: a, type: shape, settings: {set: {x: 1}}}]}}`, value: false,
			now: "1 round", then: "2 rounds"},
		"loop": {steps: `{name: made, type: loop, settings: {by: len(item.who), steps: [{name: a, type: shape, settings: {set: {x: 1}}}]}}`, value: int64(1),
			now: "1 item", then: "2 items"},
		"batch": {steps: `{name: made, type: batch, settings: {by: len(item.who), as: list}}`, value: int64(1),
			now: "1 item", then: "2 items"},
		"distinct": {steps: `{name: made, type: distinct, settings: {by: len(item.who)}}`, value: int64(1),
			now: "1 passed", then: "1 held_back"},
		"sort": {steps: `{name: made, type: sort, settings: {by: [{of: len(item.who), order: descending}]}}`, value: int64(1),
			now: "1 passed(in order)\n0", then: "0 passed(in order)\n1"},
		"stop": {steps: `{name: made, type: stop, settings: {message: "(= left(item.who, 2) )"}}`, value: "as it was",
			now: "né", then: "as it was"},
		"call": {steps: `{name: made, type: hall.send, connection: hall, input: {n: "(= len(item.who) )"}}`, value: int64(9),
			now: "written(sent 3)", then: "written(sent 9)"},
		"list": {steps: `{name: made, type: hall.pieces, connection: hall, input: {n: "(= len(item.who) )", pages: 1}}`, value: int64(1),
			now: "1-1.3", then: "0-1.0"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := plan(t, "  - "+c.steps)
			items := []map[string]any{{"who": "né👨‍👩‍👧"}, {"who": "né👨‍👩‍👧!"}}
			r, m := newRun(items, newWorld(), Pass{Number: 1, Plan: p})
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State, res.Reason)
			require.Contains(t, picture(m.Seen), c.now)

			other := elsewhere(t, m, p.Step("made").Number, c.value)
			r, _ = newRun(items, newWorld(), Pass{Number: 1, Plan: p})
			r.Journal, r.Lattice = MemoryJournal{other}, other
			res, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State, res.Reason)
			require.Contains(t, picture(other.Seen), c.then)
		})
	}
}

// What was decided is durable before anything is done by it.
func TestWhatOthersDecidedIsDurableBeforeACall(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: made, type: shape, settings: {set: {n: "(= len(item.who) )"}}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}, output: under answer}
  - {name: again, type: hall.send, connection: hall, input: {n: "(= len(item.who) + 1 )"}, output: under answer}`)
	for dies := range 8 {
		w := newWorld()
		r, m := newRun([]map[string]any{{"who": "👨‍👩‍👧"}}, w, Pass{Number: 1, Plan: p})
		left := dies
		r.Journal = crashing{MemoryJournal: MemoryJournal{m}, left: &left, mu: &sync.Mutex{}}
		_, err := r.Execute(context.Background(), nil)
		if left >= 0 {
			require.NoError(t, err)
			require.Len(t, w.order, 2)
			require.Len(t, decisionsOf(m), 2)
			return
		}
		require.ErrorIs(t, err, errCrash)
		kept := map[uint16]bool{}
		for _, e := range decisionsOf(m) {
			kept[e.Step] = true
		}
		if len(w.order) > 0 {
			require.True(t, kept[p.Step("made").Number])
		}
		if len(w.order) > 1 {
			require.True(t, kept[p.Step("again").Number])
		}
	}
	t.Fatal("the run never came to its end")
}

// deaf is a journal that does not answer who asks what was decided at a step.
type deaf struct {
	MemoryJournal
	step uint16
}

func (d deaf) Entries(ctx context.Context, pass int, step uint16, rounds item.Rounds, addresses []item.Address) ([]*Entry, error) {
	if step == d.step {
		return nil, ErrDropped
	}
	return d.MemoryJournal.Entries(ctx, pass, step, rounds, addresses)
}

// Where the journal does not say what was decided, the item is not at fault.
func TestADeafJournalFailsNoItem(t *testing.T) {
	t.Parallel()
	for _, step := range []string{
		`{name: made, type: shape, settings: {set: {n: "(= len(item.who) )"}}, on_error: set_aside}`,
		`{name: made, type: filter, settings: {where: len(item.who) > 0}}`,
		`{name: made, type: sort, settings: {by: [{of: len(item.who)}]}}`,
		`{name: made, type: hall.send, connection: hall, input: {n: "(= len(item.who) )"}, on_error: continue}`,
	} {
		p := plan(t, "  - "+step)
		w := newWorld()
		r, m := newRun([]map[string]any{{"who": "👨‍👩‍👧"}, {"who": "ash"}}, w, Pass{Number: 1, Plan: p})
		r.Journal = deaf{MemoryJournal{m}, p.Step("made").Number}
		_, err := r.Execute(context.Background(), nil)
		require.ErrorIs(t, err, ErrDropped, step)
		require.Empty(t, w.order, step)
		require.Empty(t, m.Seen, step)
	}
}

// Secrets that an answer held are not seen in what was decided of them.
func TestSecretsInWhatOthersDecidedAreSealed(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: sent, type: hall.send, connection: hall, input: {n: 1}, output: under answer}
  - {name: made, type: shape, settings: {set: {page: "(= from_markdown(item.answer.echo) )"}}}`)
	w := newWorld()
	w.secrets = call.NewSecrets("ottermere-secret-4711")
	w.says = func(*call.Call) string { return `{"echo": "key ottermere-secret-4711"}` }
	r, m := newRun([]map[string]any{{}}, w, Pass{Number: 1, Plan: p})
	_, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	list := decisionsOf(m)
	require.Len(t, list, 1)
	require.NotContains(t, string(list[0].Result), "4711")
	require.Contains(t, string(list[0].Sealed), "4711")
}

// A code is made once with the secret of a connection; while the connection cannot
// be used the run waits for it, and no item is at fault.
func TestACodeIsMadeOnceByTheSecretOfAConnection(t *testing.T) {
	t.Parallel()
	for _, step := range []string{
		`{name: made, type: shape, settings: {set: {code: "(= hmac(item.who, 'hall') )"}}, on_error: set_aside}`,
		`{name: made, type: hall.send, connection: hall, input: {n: "(= len(hmac(item.who, 'hall')) )"}, on_error: continue, output: under answer}`,
		`{name: made, type: filter, settings: {where: "len(hmac(item.who, 'hall')) > 0"}}`,
	} {
		p := plan(t, "  - "+step)
		w := newWorld()
		w.opening = func() error {
			return &call.Parked{Reason: call.ReasonConnection, Connection: "hall", Message: "connection hall: the key was refused"}
		}
		r, m := newRun([]map[string]any{{"who": "ash"}, {"who": "oak"}}, w, Pass{Number: 1, Plan: p})
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err, step)
		require.Equal(t, WaitingOn, res.State, step)
		require.Equal(t, "hall", res.Parked.Connection)
		require.Zero(t, res.Counts.SetAside+res.Counts.Stopped, step)
		require.Empty(t, decisionsOf(m))

		w.opening = nil
		m.Seen = nil
		res, err = r.Execute(context.Background(), nil)
		require.NoError(t, err, step)
		require.Equal(t, Succeeded, res.State, step)
		require.Len(t, decisionsOf(m), 2)
		seen := picture(m.Seen)

		w.opening = func() error { return errors.New("the vault is away") }
		m.Seen = nil
		res, err = r.Execute(context.Background(), nil)
		require.NoError(t, err, step)
		require.Equal(t, Succeeded, res.State, "what was made is known")
		require.Equal(t, seen, picture(m.Seen))
	}
}
