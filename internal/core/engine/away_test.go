package engine

import (
	"context"
	"errors"
	"sync"

	"youngtrellis/internal/core/item"
)

// away is a journal and a source that cannot be reached at one moment.
type away struct {
	*sleepers
	MemorySource
	mu   sync.Mutex
	left int // calls until then
}

var errAway = errors.New("the database cannot be reached")

func (a *away) gone() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.left--; a.left == 0 {
		return errAway
	}
	return nil
}

func (a *away) Entries(ctx context.Context, pass int, step uint16, rounds item.Rounds, addresses []item.Address) ([]*Entry, error) {
	if err := a.gone(); err != nil {
		return nil, err
	}
	return a.sleepers.Entries(ctx, pass, step, rounds, addresses)
}

// pages reads pages of a list, or of the trigger's items.
type pages struct{ *away }

func (p pages) Page(ctx context.Context, n int) (Page, error) {
	if err := p.gone(); err != nil {
		return Page{}, err
	}
	return p.MemorySource.Page(ctx, n)
}

func (p pages) Find(ctx context.Context, n uint32) (int, error) {
	if err := p.gone(); err != nil {
		return 0, err
	}
	return p.MemorySource.Find(ctx, n)
}

type awayJournal struct{ *away }

func (a awayJournal) Page(ctx context.Context, k Key) (*Entry, error) {
	if err := a.gone(); err != nil {
		return nil, err
	}
	return a.sleepers.Page(ctx, k)
}

func (a awayJournal) PageOf(ctx context.Context, k Key, n uint32) (*Entry, error) {
	if err := a.gone(); err != nil {
		return nil, err
	}
	return a.sleepers.PageOf(ctx, k, n)
}
