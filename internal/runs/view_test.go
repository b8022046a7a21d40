package runs

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// shelf keeps pages of a lattice in memory.
type shelf []*store.LatticePage

func (s *shelf) write(_ context.Context, p *store.LatticePage) error { *s = append(*s, p); return nil }

func (s *shelf) LatticeShapes(context.Context, store.Scope, uuid.UUID) (out []store.LatticeShape, err error) {
	for _, p := range *s {
		out = append(out, store.LatticeShape{Pass: p.Pass, Page: p.Page, Shape: p.Shape})
	}
	return out, nil
}

func (s *shelf) LatticeBodies(_ context.Context, _ store.Scope, _ uuid.UUID, _ int, pages []int) (out [][]byte, err error) {
	for _, n := range pages {
		out = append(out, (*s)[n].Body)
	}
	return out, nil
}

func (s *shelf) LatticePageOf(_ context.Context, _ store.Scope, _ uuid.UUID, _ int, key []byte) (out []int, err error) {
	for _, p := range *s {
		if strings.Contains(string(p.Keys), string(key)) {
			out = append(out, p.Page)
		}
	}
	return out, nil
}

func planOf(t testing.TB, steps string) *workflow.Plan {
	t.Helper()
	catalog := &workflow.Catalog{Connectors: map[string]*connector.Connector{}}
	w, problems := workflow.Check([]byte("format: young-trellis/1\nname: test\ntrigger: {type: manual}\nsteps:\n"+steps), catalog)
	require.False(t, workflow.HasErrors(problems), "%v", problems)
	p, err := workflow.Compile(w, catalog)
	require.NoError(t, err)
	return p
}

// drawn carries a workflow out over items and gives its lattice as it is stored.
func drawn(t testing.TB, steps string, items []map[string]any) *Lattice {
	t.Helper()
	plan, kept := planOf(t, steps), &shelf{}
	m := &engine.Memory{Items: items}
	pages := &Pages{Plan: plan, Write: kept.write}
	run := &engine.Run{Spec: engine.Spec{Passes: []engine.Pass{{Number: 1, Plan: plan}}}, World: engine.World{Source: engine.MemorySource{Memory: m}, Journal: engine.MemoryJournal{Memory: m}, Clock: Clock{}, Lattice: pages}}
	_, err := run.Execute(context.Background(), nil)
	require.NoError(t, err)
	rest, err := pages.Rest()
	require.NoError(t, err)
	*kept = append(*kept, rest...)
	l, err := OpenLattice(context.Background(), kept, store.Scope{}, uuid.Nil, plan)
	require.NoError(t, err)
	return l
}

func numbered(n int) []map[string]any {
	out := make([]map[string]any, n)
	for i := range out {
		out[i] = map[string]any{"n": int64(i), "name": fmt.Sprintf("Piece %d", i)}
	}
	return out
}

const nestedSteps = `
  - {name: some, type: filter, settings: {where: item.n % 100 != 7}}
  - name: way
    type: branch
    settings:
      cases:
        - {name: rare_ones, when: item.n % 250 == 1, steps: [{name: marked, type: shape, settings: {set: {x: "(= item.n + item.name )"}}, on_error: set_aside}]}
        - {name: even, when: item.n % 2 == 0, steps: [{name: noted, type: shape, settings: {set: {x: 1}}}]}
  - name: rounds
    type: loop
    settings:
      size: 100
      steps:
        - {name: half, type: filter, settings: {where: item.n % 5 != 3}}
        - {name: sum, type: shape, settings: {set: {t: "(= 1 + (item.n == 555 ? \"a\" : 1) * 1 )"}}, on_error: set_aside}
  - {name: total, type: gather, settings: {by: item.n % 3, fields: {n: {how: count}}}}`

func TestAViewCountsFoldsAndFinds(t *testing.T) {
	t.Parallel()
	l := drawn(t, nestedSteps, numbered(1000))
	ctx := context.Background()
	whole := l.View(Filter{})
	require.Equal(t, 1003, whole.Total)
	require.Equal(t, []Band{{0, 1000, 1, 0, 7}, {int(l.plan.Step("total").Number), 3, 0, 7, 7}}, whole.Bands)
	sum := 0
	for _, n := range whole.Lines {
		sum += max(n, -n)
	}
	require.Equal(t, whole.Total, sum, "every row is in a line")
	require.Less(t, len(whole.Lines), 990, "neighbours that are alike are one line")
	require.Equal(t, 1, len(pick(whole.Lines, func(n int) bool { return n < 0 })), "one of them is to be mended")

	band := 0
	rare := Filter{Band: &band, Within: []Open{{Step: l.plan.Step("way").Number, Way: "rare ones"}}}
	v := l.View(rare)
	require.Equal(t, 4, v.Matching)
	require.Equal(t, []Count{{"even", 500}, {"else", 486}, {"", 10}}, v.Others)
	rows, err := l.Rows(ctx, rare, Range{0, 10})
	require.NoError(t, err)
	require.Len(t, rows, 4)
	for i, r := range rows {
		require.Equal(t, i, r.At)
		require.Contains(t, []string{"1", "251", "501", "751"}, r.Address)
	}

	third := Filter{Band: &band, Within: []Open{{Step: l.plan.Step("rounds").Number, Round: "6"}}}
	v = l.View(third)
	require.Equal(t, 100, v.Matching)
	require.Len(t, v.Rounds, 10)
	troubled := pick(v.Rounds, func(r Round) bool { return r.Trouble > 0 })
	require.Len(t, troubled, 1)
	require.Equal(t, "6", troubled[0].Path)

	for _, f := range []Filter{{}, {Band: &band}, rare, third, {Fate: "set_aside"}, {Band: &band, Fate: "held_back"}} {
		v := l.View(f)
		all, err := l.Rows(ctx, f, Range{0, v.Matching + 5})
		require.NoError(t, err)
		require.Len(t, all, v.Matching)
		for _, r := range all[:min(40, len(all))] {
			at, err := l.Find(ctx, f, r.Address)
			require.NoError(t, err)
			require.Equal(t, r.At, at)
			one, err := l.Rows(ctx, f, Range{at, 1})
			require.NoError(t, err)
			require.Equal(t, r, one[0], "any window gives the same rows")
		}
	}
	several, err := l.Rows(ctx, Filter{Band: &band}, Range{900, 2}, Range{3, 1}, Range{901, 3})
	require.NoError(t, err)
	require.Equal(t, []int{3, 900, 901, 902, 903}, ats(several))
	require.Equal(t, 901, several[1].Number)
	none, err := l.Find(ctx, rare, "2")
	require.NoError(t, err)
	require.Equal(t, -1, none, "it is not among these")
	none, err = l.Find(ctx, Filter{}, "5000")
	require.NoError(t, err)
	require.Equal(t, -1, none, "there is none")
}

func pick[T any](list []T, is func(T) bool) (out []T) {
	for _, x := range list {
		if is(x) {
			out = append(out, x)
		}
	}
	return out
}

func ats(rows []Placed) (out []int) {
	for _, r := range rows {
		out = append(out, r.At)
	}
	return out
}

// A small lattice is not folded, and an empty one has nothing.
func TestASmallLatticeIsNotFolded(t *testing.T) {
	t.Parallel()
	v := drawn(t, nestedSteps, numbered(20)).View(Filter{})
	require.Len(t, v.Lines, v.Total)
	v = drawn(t, `  - {name: a, type: filter, settings: {where: item.n > 1}}`, nil).View(Filter{})
	require.Equal(t, []any{0, 0, 0, 0}, []any{v.Total, v.Matching, len(v.Lines), len(v.Bands)})
}

// Rounds that are repeated for an item are looked into by their number, those of
// loops within loops by both.
func TestARoundIsLookedInto(t *testing.T) {
	t.Parallel()
	l := drawn(t, `
  - name: outer
    type: loop
    settings:
      size: 3
      steps:
        - {name: again, type: loop, settings: {until: round.number >= item.n % 3 + 1, rounds: 5, steps: [{name: more, type: shape, settings: {set: {k: "(= round.number )"}}}]}}`, numbered(9))
	again := l.plan.Step("again").Number
	v := l.View(Filter{Within: []Open{{Step: again, Round: "2/3"}}})
	require.Equal(t, 1, v.Matching, "of the items 3, 4 and 5 the last goes round three times")
	require.Equal(t, []Round{{"2/1", 3, 0}, {"2/2", 2, 0}, {"2/3", 1, 0}}, v.Rounds, "those of the round around it")
	rows, err := l.Rows(context.Background(), Filter{Within: []Open{{Step: again, Round: "2/3"}}}, Range{0, 9})
	require.NoError(t, err)
	require.Equal(t, "5", rows[0].Address)
	require.Equal(t, []int{2, 3, 1, 10}, roundKey("2:3/10"))
	require.Equal(t, FailedBand, bandOf(item.Group(0, "", 1, 0).String()))
}

func BenchmarkAView(b *testing.B) {
	l := drawn(b, nestedSteps, numbered(10_000))
	band := 0
	f := Filter{Band: &band, Within: []Open{{Step: l.plan.Step("rounds").Number, Round: "40"}}}
	b.Run("opened", func(b *testing.B) {
		for range b.N {
			if _, err := OpenLattice(context.Background(), l.kept, store.Scope{}, uuid.Nil, l.plan); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("seen", func(b *testing.B) {
		for range b.N {
			l.view(f)
		}
	})
	b.Run("window", func(b *testing.B) {
		for i := range b.N {
			if _, err := l.Rows(context.Background(), Filter{Band: &band}, Range{i * 37 % 9900, 60}); err != nil {
				b.Fatal(err)
			}
		}
	})
}
