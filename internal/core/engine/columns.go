package engine

import (
	"sync"

	"youngtrellis/internal/core/item"
)

// columns keeps the items of those steps whose column is read.
type columns struct {
	mu    sync.Mutex // protects the following field
	lists map[uint16][]kept
}

type kept struct {
	rounds item.Rounds
	fields map[string]any
}

func newColumns() *columns { return &columns{lists: map[uint16][]kept{}} }

func (c *columns) add(step uint16, rounds item.Rounds, it *item.Item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lists[step] = append(c.lists[step], kept{rounds, it.Fields})
}

// of lists what a step gave within these rounds, in order.
func (c *columns) of(step uint16, within item.Rounds) []any {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []any{}
	for _, k := range c.lists[step] {
		if len(k.rounds) >= len(within) && k.rounds[:len(within)] == within {
			out = append(out, k.fields)
		}
	}
	return out
}

// closed remembers which lists were closed, in this pass or an earlier one.
type closed struct {
	mu    sync.Mutex // protects the following field
	lists map[listKey]int
}

type listKey struct {
	step   uint16
	rounds item.Rounds
}

func newClosed() *closed { return &closed{lists: map[listKey]int{}} }

func (c *closed) add(step uint16, rounds item.Rounds, pass int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.lists[listKey{step, rounds}]; !ok {
		c.lists[listKey{step, rounds}] = pass
	}
}

// before tells whether a pass before this one closed the list.
func (c *closed) before(step uint16, rounds item.Rounds, pass int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	in, ok := c.lists[listKey{step, rounds}]
	return ok && in < pass
}
