package engine

import (
	"context"
	"youngtrellis/internal/core/workflow"
)

// sink takes every flow at the end of the pipeline.
type sink struct {
	x    *execution
	plan *workflow.Plan
	pass int
}

func (s *sink) take(ctx context.Context, flows []*flow) error {
	rows := make([]Row, 0, len(flows))
	for _, f := range flows {
		s.x.counts.ended(f)
		for len(f.cells) < len(s.plan.Steps) {
			f.cells = append(f.cells, Cell{Fate: NotReached})
		}
		rows = append(rows, Row{Address: f.it.Address, Label: Label(s.plan, f.it, s.x.secrets()), Cells: f.cells, Item: f.it})
	}
	err := s.x.held(ctx, "the lattice cannot be written", func(ctx context.Context) error { return s.x.Lattice.Rows(ctx, s.pass, rows) })
	if err == nil && s.x.Progress != nil {
		s.x.Progress(s.x.counts.snapshot())
	}
	return err
}
