package engine

import (
	"context"
	"errors"
	"io"

	"youngtrellis/internal/core/item"
)

// source gives the items that the run was started with.
type source struct {
	x    *execution
	down stage
}

func (s *source) run(ctx context.Context) error {
	x := s.x
	if x.wanted != nil {
		return s.some(ctx)
	}
	pages, stop := s.ahead(ctx)
	defer stop()
	for p := range pages {
		if errors.Is(p.err, io.EOF) {
			return nil
		}
		if p.err != nil {
			return p.err
		}
		if err := x.chunks(ctx, s.flows(p.Page), s.down); err != nil {
			return err
		}
	}
	return context.Cause(ctx)
}

type pageRead struct {
	Page
	err error
}

// ahead reads the pages, each while the one before it is worked on. Stop must be
// called; it waits until nothing is read any more.
func (s *source) ahead(ctx context.Context) (pages <-chan pageRead, stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	out := make(chan pageRead)
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer close(out)
		for n := 0; ; n++ {
			p, err := s.page(ctx, n)
			select {
			case out <- pageRead{p, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	return out, func() {
		cancel()
		<-done
	}
}

// some gives only the items that lead to what is looked at.
func (s *source) some(ctx context.Context) error {
	done := -1
	for _, a := range s.x.wanted.list {
		first := a.Segments()
		if len(first) == 0 || first[0].Step != 0 {
			continue
		}
		n, err := s.find(ctx, first[0].N)
		if errors.Is(err, io.EOF) || err == nil && n <= done {
			continue
		}
		if err != nil {
			return err
		}
		p, err := s.page(ctx, n)
		if errors.Is(err, io.EOF) {
			continue
		}
		if err != nil {
			return err
		}
		done = n
		if err := s.x.chunks(ctx, s.flows(p), s.down); err != nil {
			return err
		}
	}
	return nil
}

func (s *source) page(ctx context.Context, n int) (p Page, err error) {
	err = s.read(ctx, func(ctx context.Context) (err error) {
		p, err = s.x.Source.Page(ctx, n)
		return err
	})
	return p, err
}

// find gives the page on which an item stands.
func (s *source) find(ctx context.Context, n uint32) (page int, err error) {
	err = s.read(ctx, func(ctx context.Context) (err error) {
		page, err = s.x.Source.Find(ctx, n)
		return err
	})
	return page, err
}

// read holds out while the items cannot be read; that there are no more is no
// fault.
func (s *source) read(ctx context.Context, do func(context.Context) error) error {
	end := false
	err := s.x.held(ctx, "the run's items cannot be read", func(ctx context.Context) error {
		err := do(ctx)
		if end = errors.Is(err, io.EOF); end {
			return nil
		}
		return err
	})
	if err == nil && end {
		return io.EOF
	}
	return err
}

func (s *source) flows(p Page) []*flow {
	flows := make([]*flow, 0, len(p.Items))
	bytes := p.Bytes / max(1, len(p.Items))
	for i, fields := range p.Items {
		it := item.New(p.First+uint32(i), fields, s.x.Facts.Started)
		if s.x.wanted.relevant(it.Address) {
			flows = append(flows, &flow{it: it, bytes: bytes})
			s.x.counts.arrived()
		}
	}
	return flows
}
