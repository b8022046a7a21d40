package engine

import (
	"context"
	"errors"
	"fmt"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// listStage calls an action that gives several items for one, page by page.
type listStage struct {
	base
	pending []*flow
	known   map[item.Address]*known // of the items that are pending
	ready   []*flow                 // of the page that was read last
	open    *flow
	paging  paging
}

func (s *listStage) next(ctx context.Context) ([]*flow, error) {
	var out []*flow
	for {
		switch {
		case len(s.ready) > 0:
			n := min(s.chunk(), len(s.ready))
			out, s.ready = s.ready[:n:n], s.ready[n:]
			return out, nil
		case s.open != nil && len(out) > 0:
			return out, nil
		case s.open != nil:
			var err error
			if s.ready, err = s.page(ctx); err != nil {
				return nil, err
			}
			continue
		case len(s.pending) == 0 && len(out) > 0:
			return out, nil
		case len(s.pending) == 0:
			if err := s.take(ctx); err != nil {
				return nil, err
			}
			continue
		}
		f := s.pending[0]
		s.pending = s.pending[1:]
		if !f.moving(s.step.Index) {
			out = append(out, f)
			continue
		}
		s.open, s.paging = f, paging{}
		if f.source != nil {
			s.paging, f.source = *f.source, nil
		}
	}
}

// take takes the next chunk in, with what the journal holds of its items.
func (s *listStage) take(ctx context.Context) (err error) {
	if s.pending, err = s.up.next(ctx); err != nil {
		return err
	}
	var due []*flow
	for _, f := range s.pending {
		if f.moving(s.step.Index) {
			due = append(due, f)
		}
	}
	s.known, err = s.base.known(ctx, due)
	return err
}

// page reads the next page of the open list, from the journal or outside.
func (s *listStage) page(ctx context.Context) ([]*flow, error) {
	f := s.open
	k := s.known[f.it.Address]
	var e *Entry
	if s.paging.page == 0 {
		e = k.entry
	} else if err := s.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		e, err = s.Journal.Page(ctx, Key{Pass: s.pass, Step: s.step.Number, Address: f.it.Address, Part: s.paging.page})
		return err
	}); err != nil {
		return nil, err
	}
	if e == nil {
		if !s.live || s.stop.set() {
			return s.leave(""), nil
		}
		var err error
		if e, err = s.effect(ctx, f, s.paging.page, k, &action{base: &s.base}, Subject{Scope: s.scope(f.it), Cursor: s.paging.cursor}); err != nil {
			return nil, err
		}
		if e == nil {
			return s.leave(""), nil
		}
	}
	if e.Outcome != Done {
		s.counts.effect(s.step.Name, e)
		flows := s.leave(e.Outcome)
		if f.entries != nil {
			f.entries[s.step.Index] = e
		}
		s.stopped(f, e.Outcome, e.Failure.Message)
		return flows, nil
	}
	return s.spread(ctx, f, e)
}

// leave gives up the list where it stands; a later pass goes on from there.
func (s *listStage) leave(o Outcome) []*flow {
	f, at := s.open, s.paging
	s.open = nil
	f.isOpen, f.open, f.at, f.source = true, o, s.step.Index, &at
	return []*flow{f}
}

func (s *listStage) spread(ctx context.Context, f *flow, e *Entry) ([]*flow, error) {
	result, err := s.result(ctx, e)
	if errors.Is(err, errLeft) {
		return s.leave(""), nil
	}
	if err != nil {
		return nil, err
	}
	v, err := item.DecodeObject(result)
	if err != nil {
		return nil, fmt.Errorf("the journaled page of %s cannot be read: %w", s.step.Name, err)
	}
	s.counts.effect(s.step.Name, e)
	items, _ := v["items"].([]any)
	first := s.paging.page == 0
	var out []*flow
	for _, v := range items {
		it := s.step.GiveNth(f.it, s.paging.ordinal, connector.AsFields(v), e.Ended)
		s.paging.ordinal++
		if !relevant(s.only, it.Address) {
			continue
		}
		c := f.child(it)
		if c.entries != nil {
			c.entries = map[int]*Entry{}
			for k, v := range f.entries {
				c.entries[k] = v
			}
			c.entries[s.step.Index] = e
		}
		text := Label(s.plan, it, s.secrets())
		if text == "" {
			text = s.step.Action.Summarise(v)
		}
		s.set(c, ReadOutside, text)
		out = append(out, c)
	}
	s.counts.at(s.step.Name, func(c *StepCounts) {
		if first {
			c.In++
		}
		c.Out += len(out)
	})
	s.paging.page++
	s.paging.cursor = v["next"]
	if v["next"] == nil {
		s.open = nil
		if s.paging.ordinal == 0 {
			return []*flow{s.none(f)}, nil
		}
	}
	return out, nil
}

// none decides what becomes of an item whose list was empty.
func (s *listStage) none(f *flow) *flow {
	switch s.step.WhenNone {
	case workflow.WhenNonePass:
		s.set(f, ReadOutside, "nothing found, goes on")
		s.counts.at(s.step.Name, func(c *StepCounts) { c.Out++ })
	case workflow.WhenNoneFail:
		s.counts.at(s.step.Name, func(c *StepCounts) { c.In-- })
		s.fail(f, &call.Failure{Class: call.Refused, Message: "The list is empty, and the step is told to fail then."})
	default:
		f.ended = true
		s.set(f, GaveNothing, "gave nothing")
		s.counts.at(s.step.Name, func(c *StepCounts) { c.Nothing++ })
	}
	return f
}
