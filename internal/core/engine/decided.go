package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sync/errgroup"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// A step that only computes is computed again by every replay, which is sound as
// long as it gives the same. Where an expression comes to something that others
// decide, as where a character ends by Unicode or when a zone changes its clocks,
// what it gave is journaled before the item goes on, and counts from then on.

// decisions are what expressions of a step gave in which others had a part, for
// the items of the chunk that the stage works on.
type decisions struct {
	mu    sync.Mutex // protects what follows
	ctx   context.Context
	chunk []item.Address // which are read together, once the first is asked for
	items map[item.Address]*decided
	fresh []item.Address   // whose decisions are not durable yet, in their order
	lists map[string][]any // that were read for the chunk, so that its items see the same
	err   error            // why the journal does not answer
}

// decided is what was decided for an item.
type decided struct {
	known map[string]any // by the sum of the expression, as the journal keeps it
	parts int            // entries that there are
	fresh map[string]any // those of known that are not durable yet
}

// begin says which items are worked on from here on.
func (d *decisions) begin(ctx context.Context, chunk []*flow) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ctx, d.chunk, d.items, d.lists = ctx, nil, nil, nil
	for _, f := range chunk {
		if f.state == moving {
			d.chunk = append(d.chunk, f.it.Address)
		}
	}
}

// remembers tells whether what others decide is written down here.
func (b *base) remembers() bool { return b.decisions != nil && !b.Rehearse && !b.Sampled }

// Recall implements expr.Others.
func (e *eyes) Recall(source string) (expr.Decision, bool, error) {
	d, address := e.of.decisions, e.it.Address
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.err == nil && d.items[address] == nil {
		d.err = e.of.readDecisions(address)
	}
	if d.err != nil {
		return expr.Decision{}, false, ours{d.err}
	}
	kept, found := d.items[address].known[sumOf(source)].(map[string]any)
	if !found {
		return expr.Decision{}, false, nil
	}
	if message, wrong := kept["wrong"].(string); wrong {
		at, _ := kept["at"].(int64)
		return expr.Decision{Wrong: &expr.Error{Source: source, Pos: int(at), Message: message}}, true, nil
	}
	return expr.Decision{Value: kept["value"]}, true, nil
}

// Record implements expr.Others.
func (e *eyes) Record(source string, what expr.Decision) {
	kept := map[string]any{"value": what.Value}
	if what.Wrong != nil {
		kept = map[string]any{"wrong": what.Wrong.Message, "at": int64(what.Wrong.Pos)}
	}
	d, address := e.of.decisions, e.it.Address
	d.mu.Lock()
	defer d.mu.Unlock()
	of, sum := d.items[address], sumOf(source)
	if of == nil || of.known[sum] != nil {
		return
	}
	if len(of.fresh) == 0 {
		of.fresh = map[string]any{}
		d.fresh = append(d.fresh, address)
	}
	of.known[sum], of.fresh[sum] = kept, kept
}

func sumOf(source string) string {
	sum := sha256.Sum256([]byte(source))
	return hex.EncodeToString(sum[:8])
}

// readDecisions reads what was decided for an item, and for the others of its
// chunk with it.
func (b *base) readDecisions(a item.Address) error {
	d := b.decisions
	addresses := []item.Address{a}
	for _, other := range d.chunk {
		if other == a {
			addresses = d.chunk
		}
	}
	if d.items == nil {
		d.items = map[item.Address]*decided{}
	}
	var entries []*Entry
	err := b.held(d.ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		entries, err = b.Journal.Entries(ctx, b.room.pass.Number, b.step.Number, b.rounds, addresses)
		return err
	})
	if err != nil {
		return err
	}
	for _, a := range addresses {
		if d.items[a] == nil {
			d.items[a] = &decided{known: map[string]any{}}
		}
	}
	for _, e := range entries {
		kind, _ := numbered(e.Part)
		of := d.items[e.Address]
		if kind != PartDecided || of == nil {
			continue
		}
		plain, err := b.result(d.ctx, e)
		if err != nil {
			return err
		}
		kept, err := item.DecodeObject(plain)
		if err != nil {
			return fmt.Errorf("what was decided at %s cannot be read: %w", b.step.Name, err)
		}
		of.parts++
		for sum, v := range kept {
			of.known[sum] = v
		}
	}
	return nil
}

// decide makes durable what was decided: before its items go on, and before
// anything is done for them outside.
func (b *base) decide(ctx context.Context) error {
	d := b.decisions
	if d == nil {
		return nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	fresh := d.fresh
	d.fresh = nil
	if d.err != nil || len(fresh) == 0 {
		return d.err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(mostItems)
	for _, a := range fresh {
		of := d.items[a]
		result := of.fresh
		of.fresh = nil
		if !b.execution.live { // what is only looked at leaves nothing
			continue
		}
		e := &Entry{Key: b.key(a, DecidedPart(of.parts)), Outcome: Closed, Started: b.now(), Ended: b.now()}
		of.parts++
		group.Go(func() error {
			if err := b.keepDecided(ctx, e, result); err != nil {
				return err
			}
			_, err := b.Journal.Append(ctx, e)
			return err
		})
	}
	d.err = group.Wait()
	return d.err
}

// keepDecided puts what was decided into an entry, as an answer is: what secrets
// answers held is masked, and kept whole but sealed.
func (b *base) keepDecided(ctx context.Context, e *Entry, result map[string]any) error {
	plain, err := item.Encode(result)
	if err != nil {
		return err
	}
	e.Result = plain
	return b.sealFound(ctx, e, b.secrets().Found(result), func() ([]byte, error) { return item.Encode(b.secrets().MaskValue(result)) })
}

// deciding lets a stage remember what its expressions gave.
type deciding struct {
	base
	stage stage
}

// take implements stage.
func (s *deciding) take(ctx context.Context, chunk []*flow) error {
	s.decisions.begin(ctx, chunk)
	if err := s.stage.take(ctx, chunk); err != nil {
		return err
	}
	return s.decide(ctx)
}

func (s *deciding) end(ctx context.Context) error {
	s.decisions.begin(ctx, nil)
	if err := s.stage.end(ctx); err != nil {
		return err
	}
	return s.decide(ctx)
}

// durable lets nothing go on before what was decided of it is durable.
type durable struct{ base }

func (s *durable) take(ctx context.Context, chunk []*flow) error {
	if err := s.decide(ctx); err != nil {
		return err
	}
	return s.down.take(ctx, chunk)
}

func (s *durable) end(ctx context.Context) error {
	if err := s.decide(ctx); err != nil {
		return err
	}
	return s.down.end(ctx)
}

// sign makes an authentication code with the secret of a connection. One that cannot be used for now
// parks the run.
func (b *base) sign(connection, text string) (code []byte, err error) {
	switch {
	case b.Sampled: // nobody is asked
		sum := sha256.Sum256([]byte(text))
		return sum[:], nil
	case b.decisions == nil:
		return nil, errors.New("a code cannot be made here")
	}
	d := b.decisions
	ctx := d.context()
	err = b.held(ctx, "the vault does not answer", func(ctx context.Context) (err error) {
		code, err = b.Connections.Sign(ctx, connection, text)
		return err
	})
	var why *call.Failure
	var parked *call.Parked
	switch {
	case err == nil || errors.As(err, &why):
		return code, err
	case errors.As(err, &parked) && !b.execution.live, errors.As(err, &parked) && b.Rehearse:
		return nil, errors.New(parked.Message)
	case errors.As(err, &parked):
		b.stop.park(parked)
		err = errLeft
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.err = err
	return nil, &expr.Away{Err: ours{err}}
}

// list reads a list of the workspace as it stands. The items of a chunk see the same.
func (b *base) list(name string) (rows []any, err error) {
	d := b.decisions
	if d == nil || b.Lists == nil {
		return nil, errors.New("a list cannot be read here")
	}
	d.mu.Lock()
	rows, known := d.lists[name]
	d.mu.Unlock()
	if known {
		return rows, nil
	}
	err = b.held(d.context(), "the lists of the workspace cannot be read", func(ctx context.Context) (err error) {
		rows, err = b.Lists.List(ctx, name)
		return err
	})
	d.mu.Lock()
	defer d.mu.Unlock()
	var why *call.Failure
	switch {
	case errors.As(err, &why):
		return nil, errors.New(why.Message)
	case err != nil:
		d.err = err
		return nil, &expr.Away{Err: ours{err}}
	}
	if d.lists == nil {
		d.lists = map[string][]any{}
	}
	d.lists[name] = rows
	return rows, nil
}

// context is that of the chunk which is worked on.
func (d *decisions) context() context.Context {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ctx == nil {
		return context.Background()
	}
	return d.ctx
}
