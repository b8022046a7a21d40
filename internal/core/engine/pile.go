package engine

import (
	"encoding/binary"
	"fmt"
	"time"

	"youngtrellis/internal/core/item"
)

// pile holds flows in the order in which they came: in memory up to a bound, and
// from there on in a spool. What is not held any more is given back to the
// account.
type pile struct {
	x     *execution
	flows []*flow // nil where it lies in the spool
	spans []span  // as long as flows once something was spilled
	spool Spool
	bytes int // in memory
}

type span struct {
	at int64
	n  int
}

// mostHeld is how many bytes one pile keeps in memory.
const mostHeld = 16 << 20

func newPile(x *execution) *pile { return &pile{x: x} }

func (p *pile) len() int { return len(p.flows) }

// add puts a flow on the pile and gives its place.
func (p *pile) add(f *flow) (int, error) {
	n := f.weight()
	if p.x.Spools == nil || p.bytes+n <= mostHeld && p.x.hold(n) {
		p.bytes += n
		p.flows = append(p.flows, f)
		return len(p.flows) - 1, nil
	}
	return len(p.flows), p.spill(f)
}

func (p *pile) spill(f *flow) error {
	if p.spool == nil {
		s, err := p.x.Spools.Spool()
		if err != nil {
			return fmt.Errorf("no room for what a step holds: %w", err)
		}
		p.spool = s
		p.x.mu.Lock()
		p.x.spools = append(p.x.spools, s)
		p.x.mu.Unlock()
	}
	b, err := appendFlow(nil, f)
	if err != nil {
		return err
	}
	at, err := p.spool.Append(b)
	if err != nil {
		return fmt.Errorf("no room for what a step holds: %w", err)
	}
	for len(p.spans) < len(p.flows) {
		p.spans = append(p.spans, span{})
	}
	p.flows = append(p.flows, nil)
	p.spans = append(p.spans, span{at, len(b)})
	return nil
}

// get gives the flow at a place.
func (p *pile) get(i int) (*flow, error) {
	if f := p.flows[i]; f != nil || i >= len(p.spans) || p.spans[i].n == 0 {
		return f, nil
	}
	b, err := p.spool.Read(p.spans[i].at, p.spans[i].n)
	if err != nil {
		return nil, fmt.Errorf("what a step holds cannot be read again: %w", err)
	}
	return readFlow(b)
}

// release gives the flow at a place and holds it no longer.
func (p *pile) release(i int) (*flow, error) {
	f, err := p.get(i)
	if p.flows[i] != nil {
		p.bytes -= f.weight()
		p.x.let(f.weight())
		p.flows[i] = nil
	} else if i < len(p.spans) {
		p.spans[i] = span{}
	}
	return f, err
}

// clear forgets all places; everything must have been released.
func (p *pile) clear() { p.flows, p.spans = p.flows[:0], p.spans[:0] }

// weight is about how many bytes a flow takes in memory.
func (f *flow) weight() int { return 600 + 3*f.bytes }

// What a flow is made of, in the spool: numbers are varints, texts have their
// length before them.

func appendText[T ~string | ~[]byte](b []byte, s T) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

func appendFlow(b []byte, f *flow) ([]byte, error) {
	b, err := appendItem(b, f.it)
	if err != nil {
		return nil, err
	}
	var steps []*way
	for w := f.way; w != nil; w = w.up {
		steps = append(steps, w)
	}
	b = binary.AppendUvarint(b, uint64(len(steps)))
	for i := len(steps) - 1; i >= 0; i-- {
		w := steps[i]
		b = binary.AppendUvarint(b, uint64(w.pass))
		b = binary.AppendUvarint(b, uint64(w.cell.Step))
		b = appendText(appendText(appendText(appendText(b, w.rounds), w.cell.Fate), w.cell.Text), w.cell.Round)
	}
	b = binary.AppendUvarint(b, uint64(f.state))
	b = appendText(binary.AppendUvarint(b, uint64(f.at)), f.rounds)
	b = appendText(binary.AppendVarint(b, int64(f.generation)), f.former)
	b = binary.AppendVarint(b, f.due.UnixMicro())
	b = binary.AppendUvarint(b, uint64(len(f.wrote)))
	for _, n := range f.wrote {
		b = binary.AppendUvarint(b, uint64(n))
	}
	b = binary.AppendUvarint(appendText(b, f.order.place), uint64(f.order.cut))
	b = appendPlaces(b, f.place)
	b = appendStood(appendTurns(b, f.turns), f.stood)
	b = binary.AppendUvarint(b, uint64(f.bytes))
	if b, err = appendSource(appendFlag(appendFlag(b, f.entering), f.met), f.source); err != nil || f.untouched == nil {
		return appendFlag(b, false), err
	}
	return appendFlow(appendFlag(b, true), f.untouched)
}

func appendFlag(b []byte, set bool) []byte {
	if set {
		return append(b, 1)
	}
	return append(b, 0)
}

// appendSource writes where a list goes on.
func appendSource(b []byte, at *reading) ([]byte, error) {
	if at == nil {
		return appendFlag(b, false), nil
	}
	cursor, err := item.Encode(at.cursor)
	if err != nil {
		return nil, err
	}
	b = binary.AppendUvarint(appendFlag(b, true), uint64(at.page))
	return appendText(binary.AppendUvarint(b, uint64(at.ordinal)), cursor), nil
}

func appendPlaces(b []byte, p *place) []byte {
	var list []int
	for ; p != nil; p = p.up {
		list = append(list, p.seq)
	}
	b = binary.AppendUvarint(b, uint64(len(list)))
	for i := len(list) - 1; i >= 0; i-- {
		b = binary.AppendUvarint(b, uint64(list[i]))
	}
	return b
}

func appendTurns(b []byte, t *turn) []byte {
	var list []*turn
	for ; t != nil; t = t.up {
		list = append(list, t)
	}
	b = binary.AppendUvarint(b, uint64(len(list)))
	for i := len(list) - 1; i >= 0; i-- {
		b = appendText(binary.AppendUvarint(b, uint64(list[i].loop)), list[i].rounds)
		b = binary.AppendUvarint(b, uint64(list[i].n))
	}
	return b
}

func appendStood(b []byte, s *stood) []byte {
	var list []string
	for ; s != nil; s = s.up {
		list = append(list, s.key)
	}
	b = binary.AppendUvarint(b, uint64(len(list)))
	for i := len(list) - 1; i >= 0; i-- {
		b = appendText(b, list[i])
	}
	return b
}

// appendItem writes an item with its lineage. Fields that are those of the item
// below are written once.
func appendItem(b []byte, it *item.Item) ([]byte, error) {
	var chain []*item.Item
	for a := it; a != nil; a = a.Parent {
		chain = append(chain, a)
	}
	b = binary.AppendUvarint(b, uint64(len(chain)))
	for i := len(chain) - 1; i >= 0; i-- {
		a := chain[i]
		b = appendText(appendText(binary.AppendUvarint(b, uint64(a.Step)), a.Rounds), a.Address)
		b = binary.AppendVarint(b, a.At.UnixMicro())
		b = binary.AppendUvarint(b, uint64(len(a.Members)))
		for _, m := range a.Members {
			b = appendText(b, m)
		}
		var err error
		if b, err = appendFailure(b, a); err != nil {
			return nil, err
		}
		if a.Parent != nil && sameFields(a.Fields, a.Parent.Fields) {
			b = append(b, 0)
			continue
		}
		text, err := item.Encode(a.Fields)
		if err != nil {
			return nil, err
		}
		b = appendText(append(b, 1), text)
	}
	if t := it.First().Trigger; t != nil {
		text, err := item.Encode(t.Fields)
		if err != nil {
			return nil, err
		}
		return appendText(appendText(binary.AppendVarint(append(b, 1), t.At.UnixMicro()), t.Address), text), nil
	}
	return append(b, 0), nil
}

// appendFailure writes why an item took a fallback.
func appendFailure(b []byte, it *item.Item) ([]byte, error) {
	if it.Failure == nil {
		return appendFlag(b, false), nil
	}
	text, err := item.Encode(it.Failure)
	return appendText(appendFlag(b, true), text), err
}

// pieces reads what was appended.
type pieces struct {
	b   []byte
	err error
}

var errTorn = fmt.Errorf("what was held is torn")

func (p *pieces) number() uint64 {
	n, size := binary.Uvarint(p.b)
	if size <= 0 {
		p.err, p.b = errTorn, nil
		return 0
	}
	p.b = p.b[size:]
	return n
}

func (p *pieces) signed() int64 {
	n, size := binary.Varint(p.b)
	if size <= 0 {
		p.err, p.b = errTorn, nil
		return 0
	}
	p.b = p.b[size:]
	return n
}

func (p *pieces) text() string {
	n := p.number()
	if n > uint64(len(p.b)) {
		p.err, p.b = errTorn, nil
		return ""
	}
	s := string(p.b[:n])
	p.b = p.b[n:]
	return s
}

func (p *pieces) fields() map[string]any {
	m, err := item.DecodeObject([]byte(p.text()))
	if err != nil && p.err == nil {
		p.err = err
	}
	return m
}

func (p *pieces) item() *item.Item {
	var it *item.Item
	for range p.number() {
		a := &item.Item{Parent: it, Step: uint16(p.number()), Rounds: item.Rounds(p.text()), Address: item.Address(p.text()), At: time.UnixMicro(p.signed()).UTC()}
		for range p.number() {
			a.Members = append(a.Members, item.Address(p.text()))
		}
		if p.number() == 1 {
			a.Failure = p.fields()
		}
		if p.number() == 0 && it != nil {
			a.Fields = it.Fields
		} else {
			a.Fields = p.fields()
		}
		if it = a; p.err != nil {
			return it
		}
	}
	if p.number() == 1 {
		it.First().Trigger = &item.Item{At: time.UnixMicro(p.signed()).UTC(), Address: item.Address(p.text()), Fields: p.fields()}
	}
	return it
}

func readFlow(b []byte) (*flow, error) {
	p := &pieces{b: b}
	f := p.flow()
	return f, p.err
}

func (p *pieces) flow() *flow {
	f := &flow{it: p.item()}
	for range p.number() {
		w := &way{up: f.way, pass: int(p.number())}
		w.cell.Step = uint16(p.number())
		w.rounds, w.cell.Fate, w.cell.Text, w.cell.Round = item.Rounds(p.text()), Fate(p.text()), p.text(), p.text()
		if f.way = w; p.err != nil {
			return f
		}
	}
	f.state, f.at, f.rounds = state(p.number()), uint16(p.number()), item.Rounds(p.text())
	f.generation = int(p.signed())
	if former := p.text(); former != "" {
		f.former = []byte(former)
	}
	if due := p.signed(); due > 0 {
		f.due = time.UnixMicro(due).UTC()
	}
	for range p.number() {
		f.wrote = append(f.wrote, uint16(p.number()))
	}
	f.order = order{p.text(), int(p.number())}
	for range p.number() {
		f.place = &place{up: f.place, seq: int(p.number())}
	}
	for range p.number() {
		f.turns = &turn{up: f.turns, loop: uint16(p.number()), rounds: item.Rounds(p.text()), n: int(p.number())}
	}
	for range p.number() {
		f.stood = &stood{f.stood, p.text()}
	}
	f.bytes = int(p.number())
	f.entering, f.met = p.number() == 1, p.number() == 1
	if p.number() == 1 {
		f.source = &reading{page: int(p.number()), ordinal: uint32(p.number())}
		text := p.text()
		if p.err == nil {
			f.source.cursor, p.err = item.Decode([]byte(text))
		}
	}
	if p.number() == 1 && p.err == nil {
		f.untouched = p.flow()
	}
	return f
}
