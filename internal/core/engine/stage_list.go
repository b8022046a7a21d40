package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"sync"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// lists calls an action that gives several items for one, page by page.
type lists struct{ base }

// reading is how far a list has been read.
type reading struct {
	page    int
	cursor  any
	ordinal uint32
}

// page is a page of a list that was read, or the end of reading it.
type page struct {
	entry *Entry // nil: left as it is
	err   error
	of    *flow // as it stands behind it
}

func (s *lists) take(ctx context.Context, chunk []*flow) error {
	known, err := s.known(ctx, s.due(chunk))
	if err != nil {
		return err
	}
	readers, cancel := context.WithCancel(ctx)
	var wait sync.WaitGroup
	defer wait.Wait()
	defer cancel()
	ahead := s.ahead(readers, &wait, chunk, known)
	var out []*flow
	for _, f := range chunk {
		k := known[f.it.Address]
		if k == nil || !s.mine(f) {
			out = append(out, f)
			continue
		}
		if err := s.give(ctx, out); err != nil {
			return err
		}
		out = nil
		if err := s.list(ctx, f, k, ahead[f]); err != nil {
			return err
		}
	}
	return s.give(ctx, out)
}

// ahead reads the lists of several items at once, each as far as one page ahead
// of what goes on.
func (s *lists) ahead(ctx context.Context, wait *sync.WaitGroup, chunk []*flow, known map[item.Address]*known) map[*flow]chan page {
	out := map[*flow]chan page{}
	if !s.room.live || s.step.Parallel <= 1 || s.only() != nil {
		return out
	}
	slots := make(chan struct{}, s.step.Parallel)
	type reader struct {
		own  *flow // the flow is another's until what becomes of it comes with the last page
		from reading
		into chan page
	}
	var turns []reader
	for _, f := range chunk {
		if known[f.it.Address] != nil && s.mine(f) {
			own := *f
			t := reader{own: &own, into: make(chan page, 1)}
			if f.source != nil {
				t.from = *f.source
			}
			turns, out[f] = append(turns, t), t.into
		}
	}
	wait.Go(func() {
		for _, t := range turns {
			select {
			case slots <- struct{}{}:
			case <-ctx.Done():
				return
			}
			wait.Go(func() {
				defer func() { <-slots }()
				s.read(ctx, t.own, known[t.own.it.Address], t.from, t.into)
			})
		}
	})
	return out
}

// read reads a list into a channel, up to its end or as far as it can be read.
func (s *lists) read(ctx context.Context, f *flow, k *known, at reading, into chan page) {
	for {
		e, err := s.page(ctx, f, k, at)
		select {
		case into <- page{e, err, f}:
		case <-ctx.Done():
			return
		}
		if e == nil || err != nil || e.Outcome != Done {
			return
		}
		next, items, err := s.content(ctx, e)
		if err != nil || next == nil {
			return
		}
		at = reading{at.page + 1, next, at.ordinal + uint32(len(items))}
	}
}

// list reads the list of one item and gives what came of it.
func (s *lists) list(ctx context.Context, f *flow, k *known, ahead chan page) error {
	at := reading{}
	if f.source != nil {
		at, f.source = *f.source, nil
	}
	for {
		if err := s.skip(ctx, f, &at); err != nil {
			return err
		}
		var p page
		if ahead != nil {
			select {
			case p = <-ahead:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		} else {
			p.entry, p.err = s.page(ctx, f, k, at)
		}
		if p.entry != nil {
			f.touched()
		}
		switch {
		case p.err != nil:
			return p.err
		case p.entry == nil:
			if p.of != nil {
				*f = *p.of
			}
			return s.rest(ctx, f, at, nil)
		case p.entry.Outcome != Done:
			s.counts.effect(s.step.Number, p.entry)
			return s.rest(ctx, f, at, p.entry)
		}
		more, err := s.spread(ctx, f, &at, p.entry)
		if err != nil || !more {
			return err
		}
	}
}

// skip goes to the page that holds what is looked at.
func (s *lists) skip(ctx context.Context, f *flow, at *reading) error {
	if s.only() == nil || at.page > 0 {
		return nil
	}
	least, found := s.only().child(f.it.Address, s.step.Number, s.rounds)
	if !found || least == 0 {
		return nil
	}
	return s.turn(ctx, f, at, least)
}

// turn goes on to the page that holds the n-th item.
func (s *lists) turn(ctx context.Context, f *flow, at *reading, n uint32) error {
	var e *Entry
	err := s.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		e, err = s.Journal.PageOf(ctx, s.key(f.it.Address, 0), n)
		return err
	})
	if err == nil && e != nil && e.Part >= at.page {
		at.page, at.ordinal = e.Part, e.First
	}
	return err
}

// rest gives up the list where it stands; a later pass goes on from there.
func (s *lists) rest(ctx context.Context, f *flow, at reading, e *Entry) error {
	switch {
	case e != nil && e.Outcome.Final():
		s.breaksOff(f, at, e)
		return s.give(ctx, []*flow{f})
	case e != nil:
		s.stopped(f, e.Outcome, e.Failure)
	case f.state == moving:
		s.leave(f)
	}
	f.source = &at
	return s.give(ctx, []*flow{f})
}

// breaksOff ends a list of which a page failed: its item takes the fallback, or
// goes on with nothing where no item came of it.
func (s *lists) breaksOff(f *flow, at reading, e *Entry) {
	s.failed(e.Failure)
	if e.Outcome == FellBack || at.ordinal == 0 {
		s.goesOn(f, e.Outcome, e.Failure, s.since(e))
		s.attach(f, e)
		s.remember(f.it)
		return
	}
	s.counts.at(s.step.Number, func(c *StepCounts) { c.Continued++ })
	f.become(ended, s.step.Number, s.rounds)
	s.show(f, WentOn, fmt.Sprintf("its list ends after %s: %s", words.Count(int(at.ordinal), "item"), e.Failure.Message))
	s.attach(f, e)
}

// page reads a page of a list, from the journal or outside; nil where it was
// left.
func (s *lists) page(ctx context.Context, f *flow, k *known, at reading) (e *Entry, err error) {
	if at.page == 0 {
		e = k.entry
	} else if err := s.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		e, err = s.Journal.Page(ctx, s.key(f.it.Address, at.page))
		return err
	}); err != nil {
		return nil, err
	}
	if e != nil || !s.mayBegin(f) {
		return e, nil
	}
	return s.effectFrom(ctx, f, at.page, k, s.performer(), Subject{Scope: s.scope(f.it), Cursor: at.cursor}, at.ordinal)
}

// content is what a page holds: the token of the next, nil at the end, and its
// items.
func (s *lists) content(ctx context.Context, e *Entry) (next any, items []any, err error) {
	result, err := s.result(ctx, e)
	if err != nil {
		return nil, nil, err
	}
	v, err := item.DecodeObject(result)
	if err != nil {
		return nil, nil, fmt.Errorf("the journaled page of %s cannot be read: %w", s.step.Name, err)
	}
	items, _ = v["items"].([]any)
	return v["next"], items, nil
}

// spread gives the items of a page, and tells whether there are more pages.
func (s *lists) spread(ctx context.Context, f *flow, at *reading, e *Entry) (more bool, err error) {
	next, items, err := s.content(ctx, e)
	if errors.Is(err, errLeft) {
		return false, s.rest(ctx, f, *at, nil)
	}
	if err != nil {
		return false, err
	}
	s.counts.effect(s.step.Number, e)
	first := at.page == 0
	out := make([]*flow, 0, len(items))
	for _, v := range items {
		n := at.ordinal
		at.ordinal++
		a := f.it.Address.Child(s.step.Number, s.rounds, n)
		if !s.only().relevant(a) {
			continue
		}
		it := f.it.Child(s.step.Number, s.rounds, n, s.step.Output(f.it.Fields, connector.AsFields(v)), s.since(e))
		c := f.child(it)
		c.bytes = len(e.Result) / len(items)
		text := Label(s.plan, it, s.secrets())
		if text == "" {
			text = s.step.Action.Summarise(v)
		}
		s.remember(it)
		s.show(c, ReadOutside, text)
		s.attach(c, e)
		out = append(out, c)
	}
	s.counts.at(s.step.Number, func(c *StepCounts) {
		if first && at.ordinal > 0 {
			c.In++
		}
		c.Out += len(out)
	})
	at.page, at.cursor = at.page+1, next
	if s.unknown() {
		f.become(ended, s.step.Number, s.rounds)
		return false, s.give(ctx, []*flow{f})
	}
	if next == nil && at.ordinal == 0 {
		s.none(f, ReadOutside)
		return false, s.give(ctx, []*flow{f})
	}
	if s.only() != nil && len(out) > 0 && !s.only().beyond(f.it.Address.Child(s.step.Number, s.rounds, at.ordinal)) {
		// nothing that is looked at comes after this, unless the list itself is open
		if !s.only().has(f.it.Address) {
			next = nil
		} else if err := s.turn(ctx, f, at, math.MaxUint32); err != nil {
			return false, err
		}
	}
	return next != nil, s.chunks(ctx, out, s.down)
}
