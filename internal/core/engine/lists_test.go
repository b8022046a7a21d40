package engine

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
)

// tables are the lists of a workspace.
type tables struct {
	rows map[string][]any
	err  error // why they cannot be read
	asks int
}

func (l *tables) List(_ context.Context, name string) ([]any, error) {
	l.asks++
	if l.err != nil {
		return nil, l.err
	}
	rows, ok := l.rows[name]
	if !ok {
		return nil, &call.Failure{Class: call.BadInput, Message: fmt.Sprintf("There is no list %q.", name)}
	}
	return rows, nil
}

func onDuty(phone string) *tables {
	return &tables{rows: map[string][]any{"duty": {map[string]any{"short": "wren", "phone": phone}, map[string]any{"short": "tam", "phone": "22"}}}}
}

const lookedUp = `find(list('duty'), .short == item.who).phone`

// What a run read in a list counts from then on, whoever changes the list; a run
// that comes later reads it as it is then, and all items of a chunk see the same.
func TestAListIsReadAsItStandsAndThenCounts(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ step, now, then string }{
		"shape":  {`{name: made, type: shape, settings: {set: {phone: "(= ` + lookedUp + ` )"}}}`, "phone 11", "phone 99"},
		"filter": {`{name: made, type: filter, settings: {where: "` + lookedUp + ` == '11'"}}`, "0 passed()\n1 held_back(", "0 held_back("},
		"send":   {`{name: made, type: hall.send, connection: hall, input: {n: "(= number(` + lookedUp + `) )"}, output: under answer}`, "written(sent 11)", "written(sent 99)"},
	} {
		t.Run(name, func(t *testing.T) {
			p := plan(t, "  - "+c.step)
			w, l := newWorld(), onDuty("11")
			r, m := newRun([]map[string]any{{"who": "wren"}, {"who": "tam"}, {"who": "wren"}}, w, Pass{Number: 1, Plan: p})
			r.Lists, r.Chunk = l, 8
			_, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, 1, l.asks, "once for a chunk")
			require.Contains(t, picture(m.Seen), c.now)
			seen, sent := picture(m.Seen), len(w.order)

			r.Lists, m.Seen = &tables{err: errors.New("nobody asks for what is known")}, nil
			_, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, seen, picture(m.Seen))
			require.Len(t, w.order, sent)

			later, m2 := newRun([]map[string]any{{"who": "wren"}}, newWorld(), Pass{Number: 1, Plan: p})
			later.Lists = onDuty("99")
			_, err = later.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Contains(t, picture(m2.Seen), c.then)
		})
	}
}

// Whoever was set aside as the list did not know them goes on once it does.
func TestARetryReadsTheListAnew(t *testing.T) {
	t.Parallel()
	p := plan(t, `  - {name: sent, type: hall.send, connection: hall, input: {n: "(= number(`+lookedUp+`) )"}, on_error: set_aside}`)
	w := newWorld()
	first := Pass{Number: 1, Plan: p}
	r, m := newRun([]map[string]any{{"who": "elm"}, {"who": "tam"}}, w, first)
	r.Lists = onDuty("11")
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, 1, res.Counts.SetAside, picture(m.Seen))

	known := onDuty("11")
	known.rows["duty"] = append(known.rows["duty"], map[string]any{"short": "elm", "phone": "33"})
	r.Passes, r.Lists = []Pass{first, {Number: 2, Plan: p, From: p, Aside: true}}, known
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, picture(m.Seen))
	require.Len(t, w.order, 2)
}

func TestAListThatIsNotThereIsTheItemsFaultAndOneThatIsAwayIsNot(t *testing.T) {
	t.Parallel()
	p := plan(t, `  - {name: made, type: shape, settings: {set: {n: "(= len(list('duty')) )"}}, on_error: set_aside}`)
	r, m := newRun([]map[string]any{{}}, newWorld(), Pass{Number: 1, Plan: p})
	r.Lists = &tables{}
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Partial, res.State)
	require.Contains(t, picture(m.Seen), `There is no list "duty".`)

	r, m = newRun([]map[string]any{{}}, newWorld(), Pass{Number: 1, Plan: p})
	away := &tables{err: errors.New("the database is away")}
	r.Lists = away
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, WaitingOn, res.State)
	require.Contains(t, res.Parked.Message, "the lists of the workspace cannot be read")
	require.Greater(t, away.asks, 2, "it was tried again")
	require.Empty(t, decisionsOf(m))

	r, _ = newRun([]map[string]any{{}}, newWorld(), Pass{Number: 1, Plan: p})
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Partial, res.State, "a world without lists")
}

// Samples that go through a check read the lists as they stand, and tell what they lack.
func TestSamplesReadLists(t *testing.T) {
	t.Parallel()
	text := "format: young-trellis/1\nname: calls\ntrigger: {type: manual}\nsteps:\n  - {name: made, type: shape, settings: {set: {digits: \"(= number(" + lookedUp + ") )\"}}}\n"
	check := func(l *tables, who ...string) (out []string) {
		c := catalog(t)
		if l != nil {
			c.Rows = l.List
		}
		var samples []map[string]any
		for _, w := range who {
			samples = append(samples, map[string]any{"who": w})
		}
		_, problems := Check(context.Background(), []byte(text), c, samples)
		for _, p := range problems {
			out = append(out, p.Message)
		}
		return out
	}
	require.Empty(t, check(onDuty("11"), "wren", "tam"))
	found := check(onDuty("no number"), "wren", "tam")
	require.Len(t, found, 1)
	require.Contains(t, found[0], "1 of 2 samples would fail here")
	require.Empty(t, check(nil), "whoever may not see items brings no samples either")
}
