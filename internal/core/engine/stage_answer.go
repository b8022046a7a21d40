package engine

import (
	"context"
	"fmt"
	"time"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/reply"
	"youngtrellis/internal/core/steps"
)

// Answers makes it durable what whoever set the run off is answered; where an answer
// stands already, that one stays.
type Answers struct {
	Key
	Reply []byte        // as reply.Decode reads it
	Lasts time.Duration // for how long a repeat of what set the run off is known at least
}

// JournalWrite implements Write.
func (Answers) JournalWrite() {}

// answering says what is answered. Each item's words are journaled, so that a replay
// says the same; which item was the first is for the run's answer to tell.
type answering struct {
	base
	op steps.Answerer
}

func (s *answering) take(ctx context.Context, chunk []*flow) error {
	due := s.due(chunk)
	if s.Rehearse || s.Sampled {
		for _, f := range due {
			if err := s.rehearse(f); err != nil {
				s.fail(f, err)
			}
		}
		return s.give(ctx, chunk)
	}
	known, err := s.known(ctx, due)
	if err != nil {
		return err
	}
	rest := due
	for ; len(rest) > 0 && !s.execution.answered.Load(); rest = rest[1:] { // one after the other, until one of them has
		if err := s.answer(ctx, rest[0], known[rest[0].it.Address].entry); err != nil {
			return err
		}
	}
	if err := s.each(ctx, rest, manyAtOnce, func(ctx context.Context, f *flow) error { return s.answer(ctx, f, known[f.it.Address].entry) }); err != nil {
		return err
	}
	for _, f := range due { // in their order, whichever was done first
		if f.state == moving {
			s.remember(f.it)
		}
	}
	return s.give(ctx, chunk)
}

// rehearse says what would be answered.
func (s *answering) rehearse(f *flow) error {
	r, err := s.op.Answer(s.scope(f.it))
	if err != nil {
		return err
	}
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Out++ })
	s.base.pass(f, Prepared, r.Words(false), f.it.Fields)
	return nil
}

func (s *answering) answer(ctx context.Context, f *flow, e *Entry) error {
	if e == nil {
		if !s.mayBegin(f) {
			s.leave(f)
			return nil
		}
		r, err := s.op.Answer(s.scope(f.it))
		if err != nil {
			s.fail(f, err)
			return nil
		}
		text, err := s.told(r)
		if err != nil {
			s.fail(f, err)
			return nil
		}
		if err := s.decide(ctx); err != nil { // what others had a part in comes first
			return err
		}
		now := latest(s.now(), f.it.At)
		e = &Entry{Key: s.key(f.it.Address, 0), Outcome: Done, Started: now, Ended: now, Result: text}
		var writes []Write
		if !s.execution.answered.Load() {
			writes = []Write{Answers{Key: e.Key, Reply: text, Lasts: s.plan.Start.KeyLasts}}
		}
		if e, err = s.Journal.Append(ctx, e, writes...); err != nil {
			return err
		}
	}
	s.execution.answered.Store(true)
	return s.settle(f, e)
}

// told is what goes out: of secrets that answers echoed nothing does.
func (s *answering) told(r *reply.Reply) ([]byte, error) {
	text, err := r.Encode()
	if err != nil {
		return nil, err
	}
	of, err := item.DecodeObject(text)
	if err != nil {
		return nil, err
	}
	return item.Encode(s.secrets().MaskValue(of))
}

func (s *answering) settle(f *flow, e *Entry) error {
	f.touched()
	r, err := reply.Decode(e.Result)
	if err != nil {
		return fmt.Errorf("the journaled answer of %s cannot be read: %w", s.step.Name, err)
	}
	s.show(f, Written, r.Words(true))
	s.attach(f, e)
	f.it = f.it.Derive(s.step.Number, s.rounds, f.it.Fields, e.Ended)
	s.counts.at(s.step.Number, func(c *StepCounts) { c.In++; c.Out++ })
	return nil
}
