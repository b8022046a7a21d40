package engine

import (
	"context"
	"errors"
	"io"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// triggerStage gives the items that the run was started with.
type triggerStage struct {
	x       *execution
	plan    *workflow.Plan
	only    *item.Address
	page    int
	ordinal uint32
	pending []*flow
	ended   bool
}

func (t *triggerStage) next(ctx context.Context) ([]*flow, error) {
	for len(t.pending) == 0 {
		if t.ended {
			return nil, io.EOF
		}
		var fields []map[string]any
		err := t.x.held(ctx, "the run's items cannot be read", func(ctx context.Context) (err error) {
			if fields, err = t.x.Source.Page(ctx, t.page); errors.Is(err, io.EOF) {
				t.ended, err = true, nil
			}
			return err
		})
		if err != nil {
			return nil, err
		}
		t.page++
		for _, f := range fields {
			it := item.New(t.ordinal, f, t.x.Facts.Started)
			t.ordinal++
			if relevant(t.only, it.Address) {
				f := &flow{it: it}
				if t.only != nil {
					f.entries = map[int]*Entry{}
				}
				t.pending = append(t.pending, f)
				t.x.counts.arrived()
			}
		}
	}
	n := min(t.x.chunk(), len(t.pending))
	chunk := t.pending[:n:n]
	t.pending = t.pending[n:]
	return chunk, nil
}
