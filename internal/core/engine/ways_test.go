package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// went tells of every row how it ended, with a number of its item.
func went(m *Memory, field string) string {
	var out []string
	for _, r := range m.Seen {
		out = append(out, fmt.Sprintf("%v %s", r.Item.Fields[field], EndOf(r.Cells)))
	}
	return strings.Join(out, ", ")
}

func TestItemsArePutInOrder(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ by, items, want string }{
		"by a number":                   {`[{of: item.v}]`, `3 1 2`, `1 2 3`},
		"from the greatest down":        {`[{of: item.v, order: descending}]`, `3 1 null 2`, `3 2 1 <nil>`},
		"nothing comes last":            {`[{of: item.v}]`, `3 null 1`, `1 3 <nil>`},
		"what is the same stays as was": {`[{of: item.v % 2}]`, `5 3 2 1 4`, `2 4 5 3 1`},
		"and then by another":           {`[{of: item.v % 2}, {of: item.v, order: descending}]`, `5 3 2 1 4`, `4 2 5 3 1`},
		"text letter by letter":         {`[{of: item.v}]`, `"b" "a" "B"`, `B a b`},
		"times by when they are":        {`[{of: time(item.v)}]`, `"2026-01-02T00:00:00+02:00" "2026-01-01T23:00:00Z"`, `2026-01-02T00:00:00+02:00 2026-01-01T23:00:00Z`},
		"no items at all":               {`[{of: item.v}]`, ``, ``},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var items []map[string]any
			for _, v := range strings.Fields(c.items) {
				items = append(items, objects(`{"v": `+v+`}`)...)
			}
			res, m := carry(t, newWorld(), `  - {name: ordered, type: sort, settings: {by: `+c.by+`}}`, items...)
			require.Equal(t, Succeeded, res.State)
			var got []string
			for _, r := range m.Seen {
				got = append(got, fmt.Sprint(r.Item.Fields["v"]))
			}
			require.Equal(t, c.want, strings.Join(got, " "))
			require.Equal(t, len(items), res.Counts.Of(1).Out)
		})
	}
}

// An item keeps its name wherever it stands, and one that cannot be compared with
// the others fails alone.
func TestAnItemThatCannotBePutInOrderIsSetAsideAlone(t *testing.T) {
	t.Parallel()
	res, m := carry(t, newWorld(), `  - {name: ordered, type: sort, settings: {by: [{of: item.v}]}, on_error: set_aside}`, objects(`{"v": 3}`, `{"v": "4"}`, `{"v": 1}`)...)
	require.Equal(t, Partial, res.State)
	require.Equal(t, []string{`2 passed {"v":1}`, `0 passed {"v":3}`, "1 set_aside"}, ends(m))
	require.Contains(t, picture(m.Seen), "cannot compare the number 3 with the text “4”")

	res, m = carry(t, newWorld(), `  - {name: ordered, type: sort, settings: {by: [{of: item.v}]}}`, objects(`{"v": 3}`, `{"v": "4"}`)...)
	require.Equal(t, FailedRun, res.State)
	require.Equal(t, "3 not_reached, 4 stopped", went(m, "v"), "the list is not whole without it")
}

func TestSomeOfTheItemsAreTaken(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ settings, want, why string }{
		"the first":           {`{count: 2}`, "0 1", "the first 2"},
		"the last":            {`{which: last, count: 2}`, "5 6", "not among the last 2"},
		"all but the first":   {`{which: rest, count: 5}`, "5 6", "all but the first 5"},
		"the first for each":  {`{count: 1, by: item.n % 3}`, "0 1 2", "the first 1 for each"},
		"the last for each":   {`{which: last, count: 1, by: item.n % 3}`, "4 5 6", "not among the last 1 for each"},
		"more than there are": {`{which: last, count: 90}`, "0 1 2 3 4 5 6", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			res, m := carry(t, newWorld(), `  - {name: some, type: take, settings: `+c.settings+`}`, numberedItems(7)...)
			var got []string
			for _, r := range m.Seen {
				if EndOf(r.Cells) == Passed {
					got = append(got, fmt.Sprint(r.Item.Fields["n"]))
				}
			}
			require.Equal(t, c.want, strings.Join(got, " "))
			require.Contains(t, picture(m.Seen), c.why)
			require.Equal(t, 7-len(got), res.Counts.Held)
		})
	}
}

// Which are taken at random hangs on the run alone: a replay draws the same ones,
// another run others, and nothing draws one place more often than another.
func TestARandomSampleIsDrawnOnceForARun(t *testing.T) {
	t.Parallel()
	p := plan(t, `  - {name: some, type: take, settings: {which: random, count: 10}}`)
	drawn := map[int]int{}
	for n := range 400 {
		r, m := newRun(numberedItems(40), newWorld(), Pass{Number: 1, Plan: p})
		r.Facts.ID = fmt.Sprint("run", n)
		_, err := r.Execute(context.Background(), nil)
		require.NoError(t, err)
		first := went(m, "n")
		for i, row := range m.Seen {
			if EndOf(row.Cells) == Passed {
				drawn[int(row.Item.Fields["n"].(int64))]++
			}
			require.LessOrEqual(t, i, 40)
		}
		if n == 0 {
			m.Seen, r.Chunk = nil, 1
			_, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, first, went(m, "n"))
		}
	}
	for n := range 40 {
		require.InDelta(t, 100, drawn[n], 45, "item %d of 400 runs", n)
	}
}

func TestOneOfThoseThatAreAlikeIsKept(t *testing.T) {
	t.Parallel()
	_, m := carry(t, newWorld(), `  - {name: one, type: distinct, settings: {by: item.mail}}`,
		objects(`{"mail": "a@x.example"}`, `{"mail": "b@x.example"}`, `{"mail": "a@x.example"}`, `{}`, `{"mail": ""}`, `{"mail": 1}`, `{"mail": "1"}`)...)
	require.Equal(t, "passed passed held_back passed held_back passed passed", strings.Join(lastFates(m), " "), "nothing and empty text are one, 1 and “1” are not")
	require.Contains(t, picture(m.Seen), "an item before it has mail a@x.example")

	_, m = carry(t, newWorld(), `  - {name: one, type: distinct}`, objects(`{"a": 1, "b": 2}`, `{"b": 2, "a": 1.0}`, `{"a": 1}`)...)
	require.Equal(t, "passed held_back passed", strings.Join(lastFates(m), " "), "the whole item, whatever the order of its fields")
}

func lastFates(m *Memory) []string {
	var out []string
	for _, r := range m.Seen {
		out = append(out, string(EndOf(r.Cells)))
	}
	return out
}

// What is decided by what came before goes on from where it stood: those that a
// failure held back come where they would have come.
func TestTakeAndDistinctGoOnFromWhereTheyStood(t *testing.T) {
	t.Parallel()
	p := plan(t, `
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}, output: keep, parallel: 4}
  - {name: some, type: take, settings: {count: 3}}
  - {name: one, type: distinct, settings: {by: item.n % 2}}`)
	w := newWorld()
	w.refuses[`{"n":1}`] = "not now"
	r, m := newRun(numberedItems(6), w, Pass{Number: 1, Plan: p})
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	delete(w.refuses, `{"n":1}`)
	r.Passes = append(r.Passes, Pass{Number: 2, Plan: p, From: p})
	m.Seen = nil
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, "0 passed, 1 passed, 2 held_back, 3 held_back, 4 held_back, 5 held_back", went(m, "n"))
	openAll(t, r, m.Seen, p)
}

// Whoever comes late to a list that was put in order is left out, or makes a list
// of its own.
func TestWhatComesLateToAnOrderedList(t *testing.T) {
	t.Parallel()
	for late, want := range map[string]string{"leave": "1 passed, 2 passed, 0 held_back", "alone": "1 passed, 2 passed, 0 passed"} {
		t.Run(late, func(t *testing.T) {
			t.Parallel()
			p := plan(t, `
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}, output: keep, on_error: set_aside}
  - {name: ordered, type: sort, settings: {by: [{of: item.n}]}, late: `+late+`}`)
			w := newWorld()
			w.refuses[`{"n":0}`] = "not now"
			r, m := newRun(numberedItems(3), w, Pass{Number: 1, Plan: p})
			_, err := r.Execute(context.Background(), nil)
			require.NoError(t, err)
			delete(w.refuses, `{"n":0}`)
			next := Pass{Number: 2, Plan: p, From: p, Aside: true}
			o, err := r.Onward(context.Background(), next, func(Open) error { return nil })
			require.NoError(t, err)
			require.Equal(t, []string{"ordered: " + lateWords[late]}, o.Late)
			r.Passes = append(r.Passes, next)
			m.Seen = nil
			_, err = r.Execute(context.Background(), nil)
			require.NoError(t, err)
			require.Equal(t, want, went(m, "n"))
			openAll(t, r, m.Seen, p)
		})
	}
}

func TestARunIsEndedByAnItem(t *testing.T) {
	t.Parallel()
	steps := `
  - name: way
    type: branch
    settings: {cases: [{name: enough, when: item.n == 2, steps: [{name: done, type: stop, settings: {%s}}]}]}
  - {name: sent, type: hall.send, connection: hall, input: {n: "(= item.n )"}}`
	w := newWorld()
	r, m := newRun(numberedItems(5), w, Pass{Number: 1, Plan: plan(t, fmt.Sprintf(steps, `message: "Enough at (= item.n )."`))})
	r.Chunk = 1
	res, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, Succeeded, res.State)
	require.Equal(t, "done: Enough at 2.", res.Reason)
	require.Equal(t, []string{`{"n":0}`, `{"n":1}`}, w.order, "nothing else begins")
	require.Contains(t, picture(m.Seen), "ended_run(Enough at 2.)")
	again, err := r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, res.Reason, again.Reason)
	require.Len(t, w.order, 2, "a replay ends where the run did")

	r, m = newRun(numberedItems(5), newWorld(), Pass{Number: 1, Plan: plan(t, fmt.Sprintf(steps, `as: failure, message: "Too many."`))})
	res, err = r.Execute(context.Background(), nil)
	require.NoError(t, err)
	require.Equal(t, FailedRun, res.State)
	require.Equal(t, "done: Too many.", res.Reason)
	require.Contains(t, picture(m.Seen), "stopped(Too many.)")
}

func TestWhatAListWithoutItemsGives(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		step string
		want State
		rows int
	}{
		"gather gives one":               {`{name: total, type: gather, settings: {fields: {n: {how: count}}}}`, Succeeded, 1},
		"gather gives none":              {`{name: total, type: gather, settings: {fields: {n: {how: count}}}, when_none: end}`, Succeeded, 0},
		"gather fails":                   {`{name: total, type: gather, settings: {fields: {n: {how: count}}}, when_none: fail}`, FailedRun, 0},
		"gather for each key gives none": {`{name: total, type: gather, settings: {by: item.k, fields: {n: {how: count}}}}`, Succeeded, 0},
		"batch fails":                    {`{name: some, type: batch, settings: {size: 2}, when_none: fail}`, FailedRun, 0},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			res, m := carry(t, newWorld(), "  - "+c.step)
			require.Equal(t, c.want, res.State)
			require.Len(t, m.Seen, c.rows)
			if c.want == FailedRun {
				require.Contains(t, res.Reason, "No item came here, and the step is told to fail then.")
			}
		})
	}
}
