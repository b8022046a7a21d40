package engine

import (
	"context"
	"fmt"
	"sync"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// actionStage calls an action that gives one result for one item.
type actionStage struct{ base }

func (s *actionStage) next(ctx context.Context) ([]*flow, error) {
	flows, err := s.up.next(ctx)
	if err != nil {
		return nil, err
	}
	var due []*flow
	for _, f := range flows {
		if f.moving(s.step.Index) {
			due = append(due, f)
		}
	}
	known, err := s.known(ctx, due)
	if err != nil {
		return nil, err
	}
	for _, f := range due {
		if err := s.doubt(ctx, f, known[f.it.Address]); err != nil {
			return nil, err
		}
	}
	return flows, s.each(ctx, due, func(ctx context.Context, f *flow) error {
		return s.perform(ctx, f, known[f.it.Address])
	})
}

// each runs work for every flow, at most parallel at once.
func (b *base) each(ctx context.Context, due []*flow, work func(context.Context, *flow) error) error {
	parallel := min(max(1, b.step.Parallel), len(due))
	if parallel <= 1 {
		for _, f := range due {
			if err := work(ctx, f); err != nil {
				return err
			}
		}
		return nil
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	queue := make(chan *flow)
	var wait sync.WaitGroup
	for range parallel {
		wait.Go(func() {
			for f := range queue {
				if err := work(ctx, f); err != nil {
					cancel(err)
				}
			}
		})
	}
	for _, f := range due {
		queue <- f
		if ctx.Err() != nil {
			break
		}
	}
	close(queue)
	wait.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return nil
}

func (s *actionStage) perform(ctx context.Context, f *flow, k *known) error {
	e := k.entry
	if e == nil {
		if !s.live || s.stop.set() {
			s.halt(f)
			return nil
		}
		var err error
		if e, err = s.effect(ctx, f, 0, k, &action{base: &s.base}, Subject{Scope: s.scope(f.it)}); err != nil || e == nil {
			return err
		}
	}
	return s.settle(ctx, f, e)
}

// settle lets an item go on as its entry says.
func (b *base) settle(ctx context.Context, f *flow, e *Entry) error {
	b.counts.effect(b.step.Name, e)
	if f.entries != nil {
		f.entries[b.step.Index] = e
	}
	if !e.Outcome.Final() {
		f.generation, f.former = e.Generation, e.InputHash
		b.stopped(f, e.Outcome, e.Failure.Message)
		return nil
	}
	f.generation, f.former = 0, nil
	result, err := b.result(ctx, e)
	if err != nil {
		return b.left(f, err)
	}
	var output any
	if len(result) > 0 {
		if output, err = item.Decode(result); err != nil {
			return fmt.Errorf("the journaled result of %s cannot be read: %w", b.step.Name, err)
		}
	}
	fate, text := Written, b.step.Action.Summarise(output)
	switch {
	case e.Request != nil && e.Request.Prepared:
		fate, text = Prepared, b.wouldSend(f)
	case b.step.Action.Effect == call.Read:
		fate = ReadOutside
	}
	b.set(f, fate, text)
	f.it = b.step.Give(f.it, output, e.Ended)
	b.counts.at(b.step.Name, func(c *StepCounts) { c.In++; c.Out++ })
	return nil
}
