package server

import (
	"testing"

	"github.com/stretchr/testify/require"

	"youngtrellis/api"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/workflow"
)

// What was made from a sample answer is marked along its row, in the rows that
// came of it, and in the groups that it joined, and nowhere else.
func TestWhatWasMadeFromASampleAnswerIsMarked(t *testing.T) {
	t.Parallel()
	step := func(name, output string, reads ...string) *workflow.CompiledStep {
		s := &workflow.CompiledStep{Step: &workflow.Step{Name: name, Output: output}, Refs: map[string][]expr.Ref{}}
		for _, r := range reads {
			s.Refs["input."+r] = []expr.Ref{{Path: []string{"steps", r, "id"}}}
		}
		return s
	}
	cell := func(fate api.Fate) api.Cell { return api.Cell{Fate: fate} }
	prepared := func() api.Cell {
		return api.Cell{Fate: api.FatePrepared, Sent: &api.Sent{Prepared: some(true)}}
	}
	marks := func(plan *workflow.Plan, rows ...api.Row) [][]bool {
		simulated(plan, rows)
		out := make([][]bool, len(rows))
		for i, r := range rows {
			for _, c := range r.Cells {
				out[i] = append(out[i], or(c.Simulated, false))
			}
		}
		return out
	}
	passed, away := cell(api.FatePassed), cell(api.FateNotReached)
	three := &workflow.Plan{Steps: []*workflow.CompiledStep{step("a", ""), step("sent", ""), step("c", "")}}

	require.Equal(t, [][]bool{{false, true, true}, {false, false, false}}, marks(three,
		api.Row{Address: "0", Cells: []api.Cell{passed, prepared(), passed}},
		api.Row{Address: "1", Cells: []api.Cell{passed, away, away}}), "along its row")
	require.Equal(t, [][]bool{{false, true, false}, {false, false, true}}, marks(three,
		api.Row{Address: "0", Cells: []api.Cell{passed, prepared(), cell(api.FateNotReached)}},
		api.Row{Address: "0-3.1", Cells: []api.Cell{away, away, passed}}), "what came of it")
	require.Equal(t, [][]bool{{false, true, true}, {false, false, true}}, marks(three,
		api.Row{Address: "0", Into: some("g3.1.0"), Cells: []api.Cell{passed, prepared(), cell(api.FateJoined)}},
		api.Row{Address: "g3.1.0", Cells: []api.Cell{away, away, passed}}), "the group that it joined")

	kept := func(later ...string) *workflow.Plan {
		return &workflow.Plan{Steps: []*workflow.CompiledStep{step("a", ""), step("sent", "keep"), step("c", "", later...)}}
	}
	row := func() api.Row { return api.Row{Address: "0", Cells: []api.Cell{passed, prepared(), passed}} }
	require.Equal(t, [][]bool{{false, false, false}}, marks(kept(), row()), "an answer that nothing reads changes nothing")
	require.Equal(t, [][]bool{{false, true, true}}, marks(kept("sent"), row()), "one that is read by name does")
}
