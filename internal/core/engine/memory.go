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
	Said  []byte // what whoever set the run off is answered; nil: nothing

	mu      sync.Mutex
	entries map[Key]*Entry
	at      map[whereabouts][]*Entry
}

type whereabouts struct {
	pass    int
	step    uint16
	rounds  item.Rounds
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
func (m MemoryJournal) Entries(_ context.Context, pass int, step uint16, rounds item.Rounds, addresses []item.Address) ([]*Entry, error) {
	var out []*Entry
	for _, a := range addresses {
		out = append(out, m.parts(whereabouts{pass, step, rounds, a})...)
	}
	return out, nil
}

// Page implements Journal.
func (m MemoryJournal) Page(_ context.Context, k Key) (*Entry, error) { return m.entry(k), nil }

// parts finds the entries of an item at a step that are not further pages.
func (m *Memory) parts(at whereabouts) []*Entry {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []*Entry
	for _, e := range m.at[at] {
		if e.Part <= 0 {
			out = append(out, e)
		}
	}
	return out
}

// Append implements Journal. Of our own state it keeps the answer; nothing else is
// beside it.
func (m MemoryJournal) Append(_ context.Context, e *Entry, writes ...Write) (*Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.entries == nil {
		m.entries, m.at = map[Key]*Entry{}, map[whereabouts][]*Entry{}
	}
	if stands, ok := m.entries[e.Key]; ok {
		return stands, nil
	}
	for _, w := range writes {
		if a, ok := w.(Answers); ok && m.Said == nil {
			m.Said = a.Reply
		}
	}
	m.entries[e.Key] = e
	p := whereabouts{e.Pass, e.Step, e.Rounds, e.Address}
	m.at[p] = append(m.at[p], e)
	return e, nil
}

// Postpone implements Journal. Nobody wakes what is in memory.
func (m MemoryJournal) Postpone(context.Context, []Waits) error { return nil }

// PageOf implements Journal.
func (m MemoryJournal) PageOf(_ context.Context, k Key, n uint32) (*Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var found *Entry
	for _, e := range m.at[whereabouts{k.Pass, k.Step, k.Rounds, k.Address}] {
		if e.Part >= 0 && e.First <= n && (found == nil || e.First >= found.First) {
			found = e
		}
	}
	return found, nil
}

// memoryPage is how many items a page has.
const memoryPage = 100

// Page implements Source.
func (m MemorySource) Page(_ context.Context, page int) (Page, error) {
	if page*memoryPage >= len(m.Items) {
		return Page{}, io.EOF
	}
	items := m.Items[page*memoryPage : min(len(m.Items), (page+1)*memoryPage)]
	bytes := 0
	for _, fields := range items {
		bytes += item.Size(fields)
	}
	return Page{First: uint32(page * memoryPage), Items: items, Bytes: bytes}, nil
}

// Find implements Source.
func (m MemorySource) Find(_ context.Context, n uint32) (int, error) {
	if int(n) >= len(m.Items) {
		return 0, io.EOF
	}
	return int(n) / memoryPage, nil
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
