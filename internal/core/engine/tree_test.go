package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/engine/enginetest"
	"youngtrellis/internal/core/item"
)

// run carries a workflow out over items and gives its rows and how it ended.
func carry(t *testing.T, w *world, steps string, items ...map[string]any) (*Result, *Memory) {
	t.Helper()
	r, m := newRun(items, w, Pass{Number: 1, Plan: plan(t, steps)})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	return res, m
}

// ends lists what became of items: the address, the last cell, and the fields of
// those that went through.
func ends(m *Memory) []string {
	var out []string
	for _, r := range m.Seen {
		text := fmt.Sprintf("%s %s", r.Address, EndOf(r.Cells))
		if EndOf(r.Cells).GoesOn() {
			b, _ := json.Marshal(r.Item.Fields)
			text += " " + string(b)
		}
		out = append(out, text)
	}
	return out
}

func objects(texts ...string) []map[string]any {
	out := make([]map[string]any, len(texts))
	for i, s := range texts {
		out[i], _ = item.DecodeObject([]byte(s))
	}
	return out
}

func TestASpreadGivesOneItemForEachElement(t *testing.T) {
	t.Parallel()
	_, m := carry(t, newWorld(), `
  - {name: each, type: spread, settings: {list: item.pieces, as: piece, carry: [studio]}}`,
		objects(`{"studio": "Quern", "pieces": ["bowl", "jug"]}`, `{"studio": "Rill", "pieces": []}`, `{"studio": "Sill"}`)...)
	require.Equal(t, []string{`0-1.0 passed {"piece":"bowl","studio":"Quern"}`, `0-1.1 passed {"piece":"jug","studio":"Quern"}`, "1 gave_nothing", "2 gave_nothing"}, ends(m))

	_, m = carry(t, newWorld(), `
  - {name: each, type: spread, settings: {list: item.pieces}, when_none: pass}`,
		objects(`{"pieces": [{"n": 1}, 7]}`, `{"pieces": []}`)...)
	require.Equal(t, []string{`0-1.0 passed {"n":1}`, `0-1.1 passed {"value":7}`, `1 passed {"pieces":[]}`}, ends(m))

	_, m = carry(t, newWorld(), `
  - {name: each, type: spread, settings: {list: {piece: item.pieces, weight: item.weights}}}`,
		objects(`{"pieces": ["bowl", "jug"], "weights": [2]}`)...)
	require.Equal(t, []string{`0-1.0 passed {"piece":"bowl","weight":2}`, `0-1.1 passed {"piece":"jug","weight":null}`}, ends(m), "in step")

	res, _ := carry(t, newWorld(), `  - {name: each, type: spread, settings: {list: item.pieces}}`, objects(`{"pieces": {"a": 1}}`)...)
	require.Equal(t, "each: this is an object with a, not a list; entries(…) makes one of it", res.Reason)
}

func TestABatchPutsItemsTogether(t *testing.T) {
	t.Parallel()
	items := numberedItems(5)
	res, m := carry(t, newWorld(), `  - {name: some, type: batch, settings: {size: 2, as: list}}`, items...)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, []string{"0 joined", "1 joined", `g1.1.0 passed {"list":[{"n":0},{"n":1}]}`, "2 joined", "3 joined", `g1.1.1 passed {"list":[{"n":2},{"n":3}]}`, "4 joined", `g1.1.2 passed {"list":[{"n":4}]}`}, ends(m))
	require.Equal(t, 3, res.Counts.Through)
	require.Equal(t, 5, res.Counts.Joined)
	require.Equal(t, 5, res.Counts.Steps[0].In)
	require.Equal(t, 3, res.Counts.Steps[0].Out)

	_, m = carry(t, newWorld(), `  - {name: some, type: batch, settings: {by: item.cone, as: pieces}}`,
		objects(`{"cone": 6, "p": "a"}`, `{"cone": "6", "p": "b"}`, `{"cone": 6.0, "p": "c"}`, `{"p": "d"}`)...)
	require.Equal(t, []string{`{"cone":6,"pieces":[{"cone":6,"p":"a"},{"cone":6,"p":"c"}]}`, `{"cone":"6","pieces":[{"cone":"6","p":"b"}]}`, `{"cone":null,"pieces":[{"p":"d"}]}`}, gone(m), "6 and 6.0 are one key, the text is another")

	_, m = carry(t, newWorld(), `  - {name: some, type: batch, settings: {bytes: 20}}`, objects(`{"a": "1234"}`, `{"a": "1"}`, `{"a": "a long one, longer than the bound by itself"}`)...)
	require.Len(t, gone(m), 3)
}

// gone lists the fields of what went through.
func gone(m *Memory) []string {
	var out []string
	for _, e := range ends(m) {
		if parts := strings.SplitN(e, " ", 3); len(parts) == 3 {
			out = append(out, parts[2])
		}
	}
	return out
}

func TestAGatherMakesOneOfMany(t *testing.T) {
	t.Parallel()
	settings := `{fields: {n: {how: count}, sum: {how: sum, of: item.n}, names: {how: text, of: item.p, between: "; "}, all: {how: list, of: item.n}, first: {how: first, of: item.p}, last: {how: last, of: item.p}, least: {how: least, of: item.n}, most: {how: most, of: item.n}, mean: {how: average, of: item.n}}}`
	_, m := carry(t, newWorld(), `  - {name: total, type: gather, settings: `+settings+`}`, objects(`{"n": 0.1, "p": "a"}`, `{"n": 0.2, "p": "b"}`, `{"p": "c"}`)...)
	require.Equal(t, []string{`{"all":[0.1,0.2,null],"first":"a","last":"c","least":0.1,"mean":0.15,"most":0.2,"n":3,"names":"a; b; c","sum":0.3}`}, gone(m))

	_, m = carry(t, newWorld(), `
  - {name: none, type: filter, settings: {where: item.n > 9}}
  - {name: total, type: gather, settings: `+settings+`}`, objects(`{"n": 1}`)...)
	require.Equal(t, []string{`{"all":[],"first":null,"last":null,"least":null,"mean":null,"most":null,"n":0,"names":"","sum":0}`}, gone(m), "of nothing it still gives one")

	_, m = carry(t, newWorld(), `  - {name: total, type: gather, settings: {by: item.cone, fields: {n: {how: count}, cheap: {how: count, of: item.price < 5}}}}`,
		objects(`{"cone": 6, "price": 4}`, `{"cone": 9, "price": 7}`, `{"cone": 6, "price": 8}`)...)
	require.Equal(t, []string{`{"cheap":1,"cone":6,"n":2}`, `{"cheap":0,"cone":9,"n":1}`}, gone(m))

	res, m := carry(t, newWorld(), `  - {name: total, type: gather, settings: {fields: {s: {how: sum, of: item.p}}}}`, objects(`{"p": "x"}`, `{"p": 1}`)...)
	require.Equal(t, FailedRun, res.State)
	require.Contains(t, res.Reason, "total: ")
	require.Equal(t, []string{"0 stopped", "1 stopped"}, ends(m))
}

func TestABranchSendsItemsThroughCasesAndTheyRejoin(t *testing.T) {
	t.Parallel()
	steps := `
  - name: way
    type: branch
    settings:
      cases:
        - {name: even, when: item.n % 2 == 0, steps: [{name: half, type: shape, settings: {set: {half: "(= item.n / 2 )"}}}]}
        - {name: big, when: item.n > 2, steps: []}
      else: [{name: small, type: filter, settings: {where: item.n > 100}}]
  - {name: after, type: shape, settings: {set: {was: "(= steps.half.half )"}}}`
	res, m := carry(t, newWorld(), steps, numberedItems(5)...)
	require.Equal(t, []string{`0 passed {"half":0,"n":0,"was":0}`, "1 held_back", `2 passed {"half":1,"n":2,"was":1}`, `3 passed {"n":3,"was":null}`, `4 passed {"half":2,"n":4,"was":2}`}, ends(m), "in the order in which they came")
	require.Equal(t, "even", m.Seen[0].Cell(1).Text)
	require.Equal(t, "big", m.Seen[3].Cell(1).Text)
	require.Equal(t, "else", m.Seen[1].Cell(1).Text)
	require.Equal(t, 5, res.Counts.Of(1).In)

	every := strings.Replace(steps, "settings:\n      cases", "settings:\n      take: every\n      cases", 1)
	_, m = carry(t, newWorld(), every, numberedItems(5)...)
	require.Equal(t, []string{`0-1.0 passed {"half":0,"n":0,"was":0}`, "1-1.2 held_back", `2-1.0 passed {"half":1,"n":2,"was":1}`, `3-1.1 passed {"n":3,"was":null}`, `4-1.0 passed {"half":2,"n":4,"was":2}`, `4-1.1 passed {"n":4,"was":null}`}, ends(m))
}

func TestALoopGoesRoundForEachItem(t *testing.T) {
	t.Parallel()
	_, m := carry(t, newWorld(), `
  - name: one
    type: loop
    settings:
      steps:
        - {name: pieces, type: hall.pieces, connection: hall, input: {n: "(= item.n )", pages: 1}, when_none: end}
        - {name: total, type: gather, settings: {fields: {n: {how: count}, in: {how: first, of: round.number}}}}
  - {name: last, type: shape, settings: {set: {round: "(= steps.total.in )"}}}`, numberedItems(3)...)
	require.Equal(t, []string{`{"in":null,"n":0,"round":null}`, `{"in":2,"n":1,"round":2}`, `{"in":3,"n":2,"round":3}`}, gone(m))
	require.Equal(t, "g3_1.2.1.0", m.Seen[len(m.Seen)-1].Address.String())
}

func TestALoopRepeatsUntilACondition(t *testing.T) {
	t.Parallel()
	res, m := carry(t, newWorld(), `
  - name: again
    type: loop
    settings:
      until: item.n >= 3
      rounds: 5
      steps: [{name: more, type: shape, settings: {set: {n: "(= item.n + 1 )", round: "(= round.number )", first: "(= round.first )", last: "(= round.last )"}}}]`, objects(`{"n": 0}`, `{"n": 2}`, `{"n": -9}`)...)
	require.Equal(t, []string{`{"first":false,"last":false,"n":3,"round":3}`, `{"first":true,"last":false,"n":3,"round":1}`, `{"first":false,"last":true,"n":-4,"round":5}`}, gone(m))
	require.Equal(t, "3 rounds", m.Seen[0].Cell(1).Text)
	require.Equal(t, 3, res.Counts.Of(1).In)
	require.Equal(t, 3, res.Counts.Of(1).Out)
	require.Equal(t, 9, res.Counts.Of(2).In)
}

func TestALoopOverGroupsAndNestsWithinNests(t *testing.T) {
	t.Parallel()
	_, m := carry(t, newWorld(), `
  - name: pairs
    type: loop
    settings:
      size: 2
      steps:
        - name: way
          type: branch
          settings:
            cases:
              - name: first
                when: item.n % 3 == 0
                steps:
                  - {name: put, type: batch, settings: {size: 9, as: list}}
                  - {name: out, type: spread, settings: {list: item.list}}
        - {name: mark, type: shape, settings: {set: {in: "(= round.number )", all: "(= len(column(\"way\")) )"}}}`, numberedItems(5)...)
	var got []string
	for _, r := range m.Seen {
		if EndOf(r.Cells).GoesOn() {
			got = append(got, fmt.Sprint(r.Item.Fields["n"], r.Item.Fields["in"], r.Item.Fields["all"]))
		}
	}
	sort.Strings(got)
	require.Equal(t, []string{"0 1 2", "1 1 2", "2 2 2", "3 2 2", "4 3 1"}, got)
}

func TestAColumnIsEveryItemOfAStep(t *testing.T) {
	t.Parallel()
	_, m := carry(t, newWorld(), `
  - {name: some, type: filter, settings: {where: item.n > 0}}
  - {name: share, type: shape, settings: {set: {of: "(= sum(map(column(\"some\"), .n)) )"}}}`, numberedItems(4)...)
	require.Equal(t, []string{`{"n":1,"of":6}`, `{"n":2,"of":6}`, `{"n":3,"of":6}`}, gone(m))
}

func TestWhatIsBelowAGroupCannotSeeASingleItem(t *testing.T) {
	t.Parallel()
	res, m := carry(t, newWorld(), `
  - name: way
    type: branch
    settings:
      cases:
        - {name: many, when: item.n > 0, steps: [{name: some, type: shape, settings: {set: {x: 1}}}, {name: put, type: batch, settings: {size: 2, as: list}}]}
  - {name: see, type: shape, settings: {set: {t: "(= trigger.n )"}}, on_error: set_aside}`, numberedItems(3)...)
	require.Equal(t, Partial, res.State)
	require.Contains(t, picture(m.Seen), "this item was made of 2 that came from several trigger items")
	require.Equal(t, []string{`{"n":0,"t":0}`}, gone(m))
}

// What waits is a row: the run ends as waiting, and whoever takes it up later
// wakes what is due, in the order in which it is.
func TestItemsWaitEachUntilATimeOfItsOwn(t *testing.T) {
	t.Parallel()
	w := newWorld()
	p := plan(t, `
  - {name: rest, type: wait, settings: {until: item.at}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}`)
	at := func(s string) string { return "2027-01-15T" + s + "Z" }
	items := objects(`{"n": 0, "at": "`+at("12:00:00")+`"}`, `{"n": 1, "at": "`+at("10:00:00")+`"}`, `{"n": 2, "at": "2020-01-01T00:00:00Z"}`)
	r, m := newRun(items, w, Pass{Number: 1, Plan: p})
	clock := enginetest.NewClock(time.Date(2027, 1, 15, 9, 0, 0, 0, time.UTC))
	r.Clock = clock
	execute := func() *Result {
		m.Seen = nil
		res, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		return res
	}
	res := execute()
	require.Equal(t, WaitingOn, res.State)
	require.Equal(t, at("10:00:00"), res.Parked.Until.UTC().Format(time.RFC3339))
	require.Equal(t, []string{`{"n":2}`}, w.order, "what was over waits for nothing, and waits of others hold it back no longer")
	require.Contains(t, picture(m.Seen), "0 waiting(until 15 Jan 12:00 UTC)")
	require.Equal(t, 2, res.Counts.Waiting)

	clock.Set(clock.Now().Add(90 * time.Minute))
	res = execute()
	require.Equal(t, WaitingOn, res.State)
	require.Equal(t, []string{`{"n":2}`, `{"n":1}`}, w.order)

	clock.Set(clock.Now().Add(24 * time.Hour))
	res = execute()
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, []string{`{"n":2}`, `{"n":1}`, `{"n":0}`}, w.order)
	require.Equal(t, []string{"2", "1", "0"}, []string{m.Seen[0].Address.String(), m.Seen[1].Address.String(), m.Seen[2].Address.String()}, "in the order in which they woke")
	again := execute()
	require.Equal(t, Succeeded, again.State)
	require.Len(t, w.order, 3, "a replay does nothing again")
}

// A run stays for a short wait; not one whose owner died, which would seem to do
// nothing for as long.
func TestAShortWaitKeepsTheRun(t *testing.T) {
	t.Parallel()
	for name, interrupted := range map[string]bool{"in good order": false, "after its owner died": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld()
			r, _ := newRun(numberedItems(2), w, Pass{Number: 1, Plan: plan(t, `
  - {name: rest, type: wait, settings: {for: 20s}}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}`)})
			r.Clock = enginetest.NewClock(r.Facts.Started)
			if interrupted {
				r.Interrupted = r.Facts.Started.Add(-time.Second)
				res, err := r.Execute(context.Background(), nil)
				require.NoError(t, err)
				require.Equal(t, WaitingOn, res.State)
				require.Equal(t, r.Facts.Started.Add(20*time.Second), res.Parked.Until)
				require.Empty(t, w.order)
				r.Interrupted = time.Time{} // it has got further
			}
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State)
			require.Len(t, w.order, 2)
		})
	}
}

// What a case or loop held until its end comes behind all others, also where the
// others were done in a later pass.
func TestWhatWasHeldToTheEndComesLastAfterAResumeToo(t *testing.T) {
	t.Parallel()
	for name, body := range map[string]string{
		"in a batch": `{name: two, type: batch, settings: {size: 2, as: list}}, {name: n, type: shape, settings: {keep: none, set: {n: "(= item.list[0].n )"}}}`,
		"in a loop":  `{name: two, type: loop, settings: {size: 2, steps: [{name: n, type: shape, settings: {set: {n: "(= item.n )"}}}]}}`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := plan(t, `
  - {name: ways, type: branch, settings: {cases: [{name: a, when: item.n != 1, steps: [{name: sent, type: hall.send, connection: hall, output: keep, input: {n: "(= item.n )"}}]}], else: [`+body+`]}}
  - {name: pairs, type: batch, settings: {size: 2, as: list}}
  - {name: numbers, type: shape, settings: {keep: none, set: {n: "(= map(item.list, .n) )"}}}`)
			r, calm := newRun(numberedItems(5), newWorld(), Pass{Number: 1, Plan: p})
			_, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, []string{`{"n":[0,2]}`, `{"n":[3,4]}`, `{"n":[1]}`}, gone(calm))

			w := newWorld()
			w.refuses[`{"n":0}`] = "not now"
			r, m := newRun(numberedItems(5), w, Pass{Number: 1, Plan: p})
			_, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			delete(w.refuses, `{"n":0}`)
			r.Passes = append(r.Passes, Pass{Number: 2, Plan: p, From: p})
			m.Seen = nil
			res, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, Succeeded, res.State)
			require.Equal(t, gone(calm), gone(m))
		})
	}
}
