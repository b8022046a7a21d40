package engine

import (
	"context"
	"io"
	"sync"

	"youngtrellis/internal/core/item"
)

// Memory is a journal, a source and a lattice in memory, for rehearsals.
type Memory struct {
	Items []map[string]any
	Seen  []Row

	mu      sync.Mutex
	entries map[Key]*Entry
}

// Page of the journal; part of Journal.
func (m *Memory) entry(k Key) *Entry {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.entries[k]
}

// All lists every entry, in no order.
func (m *Memory) All() []*Entry {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := make([]*Entry, 0, len(m.entries))
	for _, e := range m.entries {
		out = append(out, e)
	}
	return out
}

// MemoryJournal is the journal of a Memory.
type MemoryJournal struct{ *Memory }

// MemorySource is the source of a Memory.
type MemorySource struct{ *Memory }

// Entries implements Journal.
func (m MemoryJournal) Entries(_ context.Context, pass int, step uint16, addresses []item.Address) ([]*Entry, error) {
	var out []*Entry
	for _, a := range addresses {
		for _, part := range []int{PartSubmit, PartAnnounce, 0} {
			if e := m.entry(Key{Pass: pass, Step: step, Address: a, Part: part}); e != nil {
				out = append(out, e)
			}
		}
	}
	return out, nil
}

// Page implements Journal.
func (m MemoryJournal) Page(_ context.Context, k Key) (*Entry, error) { return m.entry(k), nil }

// Append implements Journal.
func (m MemoryJournal) Append(_ context.Context, e *Entry) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.entries == nil {
		m.entries = map[Key]*Entry{}
	}
	if _, ok := m.entries[e.Key]; !ok {
		m.entries[e.Key] = e
	}
	return nil
}

// Page implements Source: 100 items a page.
func (m MemorySource) Page(_ context.Context, page int) ([]map[string]any, error) {
	const size = 100
	if page*size >= len(m.Items) {
		return nil, io.EOF
	}
	return m.Items[page*size : min(len(m.Items), (page+1)*size)], nil
}

// Rows implements Lattice.
func (m *Memory) Rows(_ context.Context, _ int, rows []Row) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.Seen = append(m.Seen, rows...)
	return nil
}
