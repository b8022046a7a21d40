package engine

import (
	"context"
	"io"
	"sync"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// Memory is a journal, a source and a lattice in memory, for rehearsals.
type Memory struct {
	Items []map[string]any
	Seen  []Row

	mu      sync.Mutex
	entries map[Key]*Entry
	at      map[place][]*Entry
}

type place struct {
	pass    int
	step    uint16
	address item.Address
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
		out = append(out, m.parts(pass, step, a)...)
	}
	return out, nil
}

// Page implements Journal.
func (m MemoryJournal) Page(_ context.Context, k Key) (*Entry, error) { return m.entry(k), nil }

// parts finds the entries of an item at a step that are not further pages.
func (m *Memory) parts(pass int, step uint16, a item.Address) []*Entry {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []*Entry
	for _, e := range m.at[place{pass, step, a}] {
		if e.Part <= 0 {
			out = append(out, e)
		}
	}
	return out
}

// Append implements Journal. There is no state of ours beside it, so there are
// no writes.
func (m MemoryJournal) Append(_ context.Context, e *Entry, _ ...Write) (*Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.entries == nil {
		m.entries, m.at = map[Key]*Entry{}, map[place][]*Entry{}
	}
	if stands, ok := m.entries[e.Key]; ok {
		return stands, nil
	}
	m.entries[e.Key] = e
	p := place{e.Pass, e.Step, e.Address}
	m.at[p] = append(m.at[p], e)
	return e, nil
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

// Hide masks secrets in everything that was seen.
func (m *Memory) Hide(secrets *call.Secrets) {
	if secrets == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, r := range m.Seen {
		m.Seen[i].Item = hidden(r.Item, secrets)
	}
	for _, e := range m.entries {
		e.Sealed = nil
	}
}

// hidden copies an item and its lineage with the secrets masked.
func hidden(it *item.Item, secrets *call.Secrets) *item.Item {
	if it == nil {
		return nil
	}
	c := *it
	c.Parent = hidden(it.Parent, secrets)
	c.Fields, _ = secrets.MaskValue(it.Fields).(map[string]any)
	return &c
}
