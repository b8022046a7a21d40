package server

import (
	"slices"
	"strings"

	"youngtrellis/api"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// simulated marks the cells of a rehearsal that were made from a sample answer,
// and all that was made of them: further along the row, in the rows that came of
// it, and in the groups that it joined.
func simulated(plan *workflow.Plan, rows []api.Row) {
	spreads := make([]bool, len(plan.Steps)) // steps whose answer goes on
	for i, s := range plan.Steps {
		spreads[i] = s.Step.Output != "keep" || readLater(plan, i)
	}
	from := map[string]int{} // by address, the first column that is; of a row, or of what comes of it
	for changed := true; changed; {
		changed = false
		for i := range rows {
			r := &rows[i]
			start, known := from[r.Address]
			if above, ok := from[parentOf(r.Address)]; ok && !known && above <= firstCell(r) {
				start, known = firstCell(r), true
			}
			for j, c := range r.Cells {
				if (!known || j+1 < start) && c.Sent != nil && or(c.Sent.Prepared, false) && spreads[j] {
					start, known = j+1, true
				}
			}
			if !known {
				continue
			}
			if was, ok := from[r.Address]; !ok || start < was {
				from[r.Address], changed = start, true
			}
			if r.Into != nil {
				if _, ok := from[*r.Into]; !ok {
					from[*r.Into], changed = 0, true
				}
			}
		}
	}
	for i := range rows {
		start, known := from[rows[i].Address]
		for j := range rows[i].Cells {
			c := &rows[i].Cells[j]
			if c.Sent != nil && or(c.Sent.Prepared, false) && spreads[j] || known && j >= start && c.Fate != "" && c.Fate != api.FateNotReached {
				c.Simulated = some(true)
			}
		}
	}
}

// readLater tells whether a later step reads what a step gave by its name.
func readLater(plan *workflow.Plan, i int) bool {
	name := plan.Steps[i].Name
	return slices.ContainsFunc(plan.Steps[i+1:], func(s *workflow.CompiledStep) bool {
		for _, at := range item.Keys(s.Refs) {
			if slices.ContainsFunc(s.Refs[at], func(r expr.Ref) bool {
				return len(r.Path) > 1 && (r.Path[0] == "steps" || r.Path[0] == "column") && r.Path[1] == name
			}) {
				return true
			}
		}
		return false
	})
}

// parentOf is the address of the item of which a step made several.
func parentOf(address string) string {
	if i := strings.LastIndexByte(address, '-'); i > 0 {
		return address[:i]
	}
	return ""
}

func firstCell(r *api.Row) int {
	return max(0, slices.IndexFunc(r.Cells, func(c api.Cell) bool { return c.Fate != "" && c.Fate != api.FateNotReached }))
}
