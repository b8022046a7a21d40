package enginetest

import (
	"context"
	"sync"
	"time"
)

// Clock is one that is moved by hand, and by whoever sleeps. It is safe for
// concurrent use: steps work side by side.
type Clock struct {
	mu   sync.Mutex
	now  time.Time
	step time.Duration // by which it moves on at each look
}

// NewClock makes a clock that stands at a time.
func NewClock(at time.Time) *Clock { return &Clock{now: at} }

// Ticking makes one that moves on by a millisecond at each look.
func Ticking(from time.Time) *Clock { return &Clock{now: from, step: time.Millisecond} }

// Now implements engine.Clock.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(c.step)
	return c.now
}

// Set moves the clock.
func (c *Clock) Set(at time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = at
}

// Sleep implements engine.Clock: it takes no time.
func (c *Clock) Sleep(ctx context.Context, d time.Duration) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
	return ctx.Err()
}
