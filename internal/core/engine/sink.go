package engine

import (
	"context"

	"youngtrellis/internal/core/workflow"
)

// sink takes every flow at the end of the pipeline: it writes the rows of the
// lattice.
type sink struct {
	x    *execution
	plan *workflow.Plan
	pass int
}

// firstMembers is how many of a group's members its row names.
const firstMembers = 12

func (s *sink) take(ctx context.Context, chunk []*flow) error {
	rows := make([]Row, 0, len(chunk))
	for _, f := range chunk {
		s.x.counts.ended(f)
		rows = append(rows, s.row(f))
	}
	err := s.x.held(ctx, "the lattice cannot be written", func(ctx context.Context) error { return s.x.Lattice.Rows(ctx, s.pass, rows) })
	if err == nil && s.x.Progress != nil {
		s.x.Progress(s.x.counts.snapshot())
	}
	return err
}

func (s *sink) end(context.Context) error { return nil }

func (s *sink) row(f *flow) Row {
	r := Row{Address: f.it.Address, Label: Label(s.plan, f.it, s.x.secrets()), Cells: f.cells(func(pass int) bool { return pass < s.pass }), Item: f.it, way: f.way}
	if first := f.it.First(); first != f.it && first.Step == 0 && !f.apart {
		if start := Label(s.plan, first, s.x.secrets()); start != r.Label {
			r.Start = start
		}
	}
	r.Into, r.Keys = f.into, Keys(s.plan, f.it)
	if f.state.open() {
		r.Rounds = f.rounds
	}
	if f.apart {
		r.Label = "The run failed"
	}
	if first := f.it.First(); first.Step != 0 {
		r.Members, r.First = len(first.Members), first.Members[:min(firstMembers, len(first.Members))]
	}
	return r
}
