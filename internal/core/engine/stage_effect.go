package engine

import (
	"context"
	"fmt"
	"sync"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// effects calls an action that gives one result for one item.
type effects struct{ base }

func (s *effects) take(ctx context.Context, chunk []*flow) error {
	due := s.due(chunk)
	known, err := s.known(ctx, due)
	if err != nil {
		return err
	}
	for _, f := range due {
		if err := s.doubt(ctx, f, known[f.it.Address]); err != nil {
			return err
		}
	}
	if err := s.each(ctx, due, s.step.Parallel, func(ctx context.Context, f *flow) error {
		return s.perform(ctx, f, known[f.it.Address])
	}); err != nil {
		return err
	}
	for _, f := range due { // in their order, whichever was done first
		if f.state == moving {
			s.remember(f.it)
		}
	}
	return s.give(ctx, chunk)
}

// due are the flows of a chunk that have come to the step.
func (b *base) due(chunk []*flow) []*flow {
	var due []*flow
	for _, f := range chunk {
		if b.mine(f) {
			b.arrives(f)
			due = append(due, f)
		}
	}
	return due
}

// each runs work for every flow, at most parallel at once.
func (b *base) each(ctx context.Context, due []*flow, parallel int, work func(context.Context, *flow) error) error {
	if parallel = min(max(1, parallel), len(due)); parallel <= 1 {
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

func (s *effects) perform(ctx context.Context, f *flow, k *known) error {
	e := k.entry
	if e == nil {
		if !s.mayBegin(f) {
			s.leave(f)
			return nil
		}
		var err error
		if e, err = s.effect(ctx, f, 0, k, s.performer(), Subject{Scope: s.scope(f.it)}); err != nil || e == nil {
			return err
		}
	}
	return s.settle(ctx, f, e)
}

// performer does what the step does outside.
func (b *base) performer() Performer {
	if b.Sampled {
		return &sampled{base: b}
	}
	return &action{base: b}
}

// settle lets an item go on as its entry says.
func (b *base) settle(ctx context.Context, f *flow, e *Entry) error {
	f.touched()
	b.counts.effect(b.step.Number, e)
	if !e.Outcome.Final() {
		f.generation, f.former = e.Generation, e.InputHash
		b.stopped(f, e.Outcome, e.Failure)
		b.attach(f, e)
		return nil
	}
	f.generation, f.former = 0, nil
	if e.Outcome != Done {
		b.failed(e.Failure)
		b.goesOn(f, e.Outcome, e.Failure, b.since(e))
		b.attach(f, e)
		return nil
	}
	if b.unknown() {
		f.become(ended, b.step.Number, b.rounds)
		return nil
	}
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
	case e.Failure != nil: // a person says that it was done
		if text = e.Failure.Message; e.Failure.Class != "" {
			text = "taken as done: " + text
		}
	case e.Request != nil && e.Request.Prepared:
		fate, text = Prepared, b.wouldSend(f)
	case b.step.Action.Effect == call.Read:
		fate = ReadOutside
	}
	b.show(f, fate, text)
	b.attach(f, e)
	f.it = f.it.Derive(b.step.Number, b.rounds, b.step.Output(f.it.Fields, output), b.since(e))
	f.bytes = max(f.bytes, len(result))
	b.counts.at(b.step.Number, func(c *StepCounts) { c.In++; c.Out++ })
	return nil
}

// unknown tells whether nobody knows what the step gives before it was called.
func (b *base) unknown() bool {
	return b.Sampled && b.step.Action.Sample == nil && b.step.Step.Output != "keep"
}

// attach keeps an entry with the cell that it made, for those who want to see it.
func (b *base) attach(f *flow, e *Entry) {
	if (b.Rehearse || b.wanted != nil) && f.way != nil {
		f.way.entry = e
	}
}
