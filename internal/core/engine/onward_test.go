package engine

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/call"
)

const (
	sending = `  - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}`
	shaping = `  - {name: shaped, type: shape, settings: {set: {a: 1}}}`
	poking  = `  - {name: poked, type: hall.poke, connection: hall, output: keep, input: {n: "(= item.n + 50 )"}}`
	looping = `  - {name: loop, type: loop, settings: {size: 1, steps: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}]}}`
	ways    = `  - {name: ways, type: branch, settings: {cases: [{name: a, when: item.n < 9, steps: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}]}], else: [{name: other, type: shape, settings: {set: {b: 1}}}]}}`
	listing = `  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 2, pages: 3}}`
)

// What stands in the way of going on with a changed workflow is said by name, and
// what does not stand in the way goes on.
func TestGoingOnWithAChangedWorkflow(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		before, next string
		refuses      string // the body that is refused in the first pass
		at           map[string]string
		why          string // "": it goes on
		state        State
	}{
		"nothing changed":                   {before: shaping + "\n" + sending, next: shaping + "\n" + sending, refuses: `{"n":0}`},
		"a step is new below":               {before: sending, next: sending + "\n" + shaping, refuses: `{"n":0}`},
		"a step was renamed":                {before: sending, next: `  - {name: told, was: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}`, refuses: `{"n":0}`},
		"a step is gone":                    {before: shaping + "\n" + sending, next: shaping, refuses: `{"n":0}`, why: "they stand before the step sent, which is not there any more; say “was: sent”"},
		"a step is gone, and another named": {before: shaping + "\n" + sending, next: shaping + "\n" + poking, refuses: `{"n":0}`, at: map[string]string{"sent": "poked"}},
		"what is read is new above":         {before: sending, next: shaping + "\n" + `  - {name: sent, type: hall.send, connection: hall, input: {n: "(= steps.shaped.a )"}}`, refuses: `{"n":0}`, why: "sent reads steps.shaped, which these items never came through: it is new, or was moved above sent"},
		"what is read was there":            {before: shaping + "\n" + sending, next: shaping + "\n" + `  - {name: sent, type: hall.send, connection: hall, input: {n: "(= steps.shaped.a )"}}`, refuses: `{"n":0}`},
		"a write was moved below":           {before: poking + "\n" + sending, next: sending + "\n" + poking, refuses: `{"n":0}`, why: "poked was done for these items already and stands below sent now"},
		"a write below was never reached":   {before: sending + "\n" + poking, next: sending + "\n" + shaping + "\n" + poking, refuses: `{"n":0}`},
		"moved into a loop":                 {before: sending, next: looping, refuses: `{"n":0}`, why: "the step sent was moved into or out of another, while items stand at it"},
		"moved out of a loop":               {before: looping, next: sending, refuses: `{"n":0}`, why: "moved into or out of another"},
		"the loop goes another way":         {before: looping, next: `  - {name: loop, type: loop, settings: {size: 2, steps: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}]}}`, refuses: `{"n":0}`, why: "the loop loop goes round another way now"},
		"the loop's steps changed":          {before: looping, next: `  - {name: loop, type: loop, settings: {size: 1, steps: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}, {name: more, type: shape, settings: {set: {x: 1}}}]}}`, refuses: `{"n":0}`},
		"moved into another case":           {before: ways, next: `  - {name: ways, type: branch, settings: {cases: [{name: a, when: item.n < 9, steps: [{name: other, type: shape, settings: {set: {b: 1}}}]}], else: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}]}}`, refuses: `{"n":0}`, why: "the step sent was moved into another case or loop"},
		"a half-read list is read anew":     {before: listing, next: `  - {name: pieces, type: hall.pieces, connection: hall, input: {n: 3, pages: 3}}`, refuses: "page 1", why: "the list of pieces is half read, and it is read another way now"},
		"a half-read list as before":        {before: listing, next: listing + "\n" + shaping, refuses: "page 1"},
		"switched off around":               {before: looping, next: `  - {name: loop, type: loop, off: true, settings: {size: 1, steps: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}]}}`, refuses: `{"n":0}`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld()
			first := plan(t, c.before)
			next := after(t, first, plan(t, c.next))
			w.refuses[c.refuses] = "not now"
			calls := 0
			w.faults = func(n int, path string) error {
				if calls++; c.refuses == "page 1" && calls == 2 {
					return refused("not now")
				}
				return nil
			}
			r, m := newRun(numberedItems(1), w, Pass{Number: 1, Plan: first})
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, FailedRun, res.State)

			further := Pass{Number: 2, Plan: next, From: first, At: c.at}
			open := 0
			out, err := r.Onward(context.Background(), further, func(o Open) error { open++; return nil })
			require.NoError(t, err)
			require.Positive(t, open)
			if c.why != "" {
				require.Len(t, out.Refusals, 1)
				require.Contains(t, out.Refusals[0].Error(), c.why)
				require.Positive(t, out.Refusals[0].Items)
				return
			}
			require.Empty(t, out.Refusals)
			delete(w.refuses, c.refuses)
			r.Passes = append(r.Passes, further)
			m.Seen = nil
			res, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State, res.Reason)
		})
	}
}

// Items that come to a list after it was closed do as its step says, and the plan
// says so before.
func TestLateItems(t *testing.T) {
	t.Parallel()
	const first = `  - {name: sent, type: hall.send, connection: hall, output: keep, on_error: set_aside, input: {n: "(= item.n )"}}` + "\n"
	for late, c := range map[string]struct {
		says string
		gone []string
		ends map[string]Fate
	}{
		"leave": {"all: its list was closed before; what comes now ends there", []string{`{"c":2,"n":3}`}, map[string]Fate{"0": Held}},
		"alone": {"all: its list was closed before; what comes now makes a list of its own", []string{`{"c":2,"n":3}`, `{"c":1,"n":0}`}, map[string]Fate{"0": Joined}},
		"again": {"all: its list was closed before; it is made again of all items, and what follows is done again for it", []string{`{"c":2,"n":3}`, `{"c":3,"n":3}`}, map[string]Fate{"0": Joined}},
	} {
		t.Run(late, func(t *testing.T) {
			t.Parallel()
			w := newWorld()
			w.refuses[`{"n":0}`] = "not now"
			p := plan(t, first+`  - {name: all, type: gather, late: `+late+`, settings: {fields: {n: {how: sum, of: item.n}, c: {how: count}}}}
  - {name: told, type: hall.send, connection: hall, output: keep, input: {n: "(= 100 + item.c )"}}`)
			r, m := newRun(numberedItems(3), w, Pass{Number: 1, Plan: p})
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Partial, res.State)
			delete(w.refuses, `{"n":0}`)

			further := Pass{Number: 2, Plan: p, From: p, Aside: true}
			out, err := r.Onward(context.Background(), further, func(Open) error { return nil })
			require.NoError(t, err)
			require.Equal(t, []string{c.says}, out.Late)
			r.Passes, m.Seen = append(r.Passes, further), nil
			res, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State)
			require.ElementsMatch(t, c.gone, gone(m))
			for _, row := range m.Seen {
				if want, ok := c.ends[row.Address.String()]; ok {
					require.Equal(t, want, EndOf(row.Cells))
				}
			}
			seen := append([]string(nil), gone(m)...)
			m.Seen = nil
			calls := w.calls
			_, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, seen, gone(m), "a replay of it is the same")
			require.Equal(t, calls, w.calls)
			openAll(t, r, m.Seen, p)
		})
	}
}

// What expressions see is what an item's way and the run give, and nothing else.
func TestWhatExpressionsSee(t *testing.T) {
	t.Parallel()
	r, m := newRun(objects(`{"n": 1}`, `{"n": 2}`), newWorld(), Pass{Number: 1, Plan: plan(t, `
  - {name: kept, type: shape, settings: {keep: none, set: {m: "(= item.n * 10 )"}}}
  - name: loop
    type: loop
    settings:
      size: 1
      steps:
        - {name: seen, type: shape, settings: {keep: none, set: {n: "(= trigger.n )", was: "(= steps.kept.m )", run: "(= run.workflow )", id: "(= run.id )", round: "(= round.number )", first: "(= round.first )", last: "(= round.last )", all: "(= len(column(\"kept\")) )"}}}
  - {name: off, type: shape, off: true, settings: {set: {never: 1}}}
  - {name: after, type: shape, settings: {set: {of_loop: "(= steps.seen.n )"}}}`)})
	r.Facts.Workflow = "test"
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State, res.Reason)
	require.Equal(t, []string{
		`{"all":2,"first":true,"id":"r1","last":false,"n":1,"of_loop":1,"round":1,"run":"test","was":10}`,
		`{"all":2,"first":false,"id":"r1","last":false,"n":2,"of_loop":2,"round":2,"run":"test","was":20}`,
	}, gone(m))
	require.Contains(t, picture(m.Seen), "off()")
}

func refused(message string) error {
	return &call.Failure{Class: call.Refused, Status: 409, Message: message}
}

// What was closed in a case before something above stopped is closed for whoever
// replays it, in chunks of whatever size.
func TestGroupsInACaseAreClosedByWhatCameBefore(t *testing.T) {
	t.Parallel()
	for name, within := range map[string]string{
		"batch": `{name: two, type: batch, settings: {size: 2, as: list}}, {name: told, type: hall.send, connection: hall, output: keep, input: {n: "(= 100 + item.list[0].n )"}}`,
		"loop":  `{name: two, type: loop, settings: {size: 2, steps: [{name: told, type: hall.send, connection: hall, output: keep, input: {n: "(= 100 + item.n )"}}]}}`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld()
			w.refuses[`{"n":3}`] = "not now"
			p := plan(t, `
  - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}
  - {name: ways, type: branch, settings: {cases: [{name: all, when: "true", steps: [{name: ways2, type: branch, settings: {cases: [{name: all2, when: "true", steps: [`+within+`]}]}}]}]}}`)
			r, m := newRun(numberedItems(6), w, Pass{Number: 1, Plan: p})
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, FailedRun, res.State)
			open := 0
			require.NoError(t, r.Frontier(context.Background(), func(Open) error { open++; return nil }))
			require.Equal(t, res.Counts.Waiting+res.Counts.Stopped, open)

			delete(w.refuses, `{"n":3}`)
			r.Passes = append(r.Passes, Pass{Number: 2, Plan: p, From: p})
			m.Seen = nil
			res, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State, res.Reason)
			once := map[string]int{}
			for _, body := range w.order {
				once[body]++
				require.Equal(t, 1, once[body], "%s is sent once", body)
			}
		})
	}
}

// Pages that were read when a run stopped are counted, and are there when it goes
// on, however many lists were read side by side.
func TestPagesThatWereReadWhenARunStopped(t *testing.T) {
	t.Parallel()
	for i := range 200 {
		w := newWorld()
		w.faults = func(n int, _ string) error {
			if n == 4+i%16 {
				return &call.Failure{Class: call.Refused, Status: 409, Message: "not now"}
			}
			return nil
		}
		r, _ := newRun(numberedItems(8), w, Pass{Number: 1, Plan: plan(t, `
  - {name: pieces, type: hall.pieces, connection: hall, parallel: 4, input: {n: 3, pages: 3}}
  - {name: rest, type: wait, settings: {for: 1h}}`)})
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		require.Equal(t, FailedRun, res.State)
		open := 0
		require.NoError(t, r.Frontier(context.Background(), func(Open) error { open++; return nil }))
		require.Equal(t, open, res.Counts.Waiting+res.Counts.Stopped)
	}
}

// What comes out of a list that a column was waited for comes behind the others,
// also after a resume.
func TestWhatWaitedForAColumnComesLastAfterAResumeToo(t *testing.T) {
	t.Parallel()
	steps := `
  - name: ways
    type: branch
    settings:
      cases:
        - name: even
          when: item.n % 2 == 0
          steps: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}]
        - name: third
          when: item.n % 3 == 0
          steps:
            - {name: more, type: shape, settings: {set: {n: "(= item.n )"}}}
            - {name: many, type: shape, settings: {set: {many: "(= len(column(\"more\")) )"}}}
  - {name: pairs, type: batch, settings: {size: 2, as: list}}
  - {name: sum, type: shape, settings: {keep: none, set: {n: "(= sum(map(item.list, .n)) )"}}}`
	endsAsCalm(t, 7, `{"n":0}`, steps)
}

// endsAsCalm holds that a run that stopped once, as one body was refused, ends
// after its resume with what a calm run gives.
func endsAsCalm(t *testing.T, items int, refused, steps string) {
	t.Helper()
	p := plan(t, steps)
	calm, seen := newRun(numberedItems(items), newWorld(), Pass{Number: 1, Plan: p})
	_, err := calm.Execute(context.Background(), nil)
	require.NoError(t, err)

	w := newWorld()
	w.refuses[refused] = "not now"
	r, m := newRun(numberedItems(items), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	delete(w.refuses, refused)
	r.Passes, m.Seen = append(r.Passes, Pass{Number: 2, Plan: p, From: p}), nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, fieldsOf(seen.Seen), fieldsOf(m.Seen))
}

// Items that go round together come to the end of a round in the order in which
// they would have come to it, however many of them were left on the way.
func TestARoundThatWasLeftEndsInOrder(t *testing.T) {
	t.Parallel()
	steps := `
  - name: turns
    type: loop
    settings:
      until: item.n > 9
      rounds: 2
      steps:
        - {name: raised, type: shape, settings: {set: {n: "(= item.n + 9 )"}}}
        - name: ways
          type: branch
          settings:
            cases:
              - name: even
                when: item.n % 2 == 0
                steps:
                  - {name: all, type: gather, settings: {by: "1", fields: {n: {how: sum, of: item.n}}}}
                  - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}
              - name: odd
                when: 'true'
                steps:
                  - {name: sum, type: gather, settings: {fields: {n: {how: sum, of: item.n}}}}
  - {name: pairs, type: batch, settings: {size: 2, as: list}}
  - {name: first, type: shape, settings: {keep: none, set: {n: "(= item.list[0].n )"}}}`
	endsAsCalm(t, 1, `{"n":18}`, steps)
}

// What a case gave at the end of its lists comes behind what the cases before it
// give at the end of theirs, also when it was left there by an earlier pass.
func TestTheEndsOfCasesComeInOrderAfterAResume(t *testing.T) {
	t.Parallel()
	steps := `
  - name: ways
    type: branch
    settings:
      take: every
      cases:
        - name: even
          when: item.n % 2 == 0
          steps:
            - {name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}
            - {name: all, type: gather, settings: {fields: {n: {how: sum, of: item.n}}}}
        - name: third
          when: item.n % 3 == 0
          steps:
            - {name: both, type: gather, settings: {fields: {n: {how: sum, of: item.n}}}}
            - {name: told, type: hall.send, connection: hall, output: keep, input: {n: "(= 100 + item.n )"}}
  - {name: pairs, type: batch, settings: {size: 2, as: list}}
  - {name: first, type: shape, settings: {keep: none, set: {n: "(= item.list[0].n )"}}}`
	endsAsCalm(t, 7, `{"n":2}`, steps)
}
