package engine

import (
	"context"
	"fmt"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
)

// failing is what is told of a failure to the steps that are done then: the item
// with which they begin.
type failing struct {
	Message string
	Step    string // at which it was
	Label   string // of the item that failed; "" where it was none
}

// fails stops the run with a failure. The first that is told is the one that is
// kept.
func (b *base) fails(f *flow, why *call.Failure) {
	told := &failing{Message: fmt.Sprintf("%s: %s", b.step.Name, why.Message), Step: b.step.Name}
	if f != nil {
		told.Label = Label(b.plan, f.it, b.secrets())
	}
	b.told.CompareAndSwap(nil, told)
	b.stop.fail("%s", told.Message)
}

// fields are those of the item.
func (t *failing) fields(x *execution) map[string]any {
	return map[string]any{"message": x.secrets().Mask(t.Message), "step": t.Step, "label": t.Label, "run": x.Facts.ID, "workflow": x.Facts.Workflow}
}

// failureItem names the item of a pass that failed.
func failureItem(pass int) item.Address { return item.Group(0, "", uint32(pass), 0) }

// FailureItem tells whether an address is that of an item with which the steps
// begin that are done when a run fails, or of one that came of it.
func FailureItem(a item.Address) bool {
	first := a.Segments()
	return len(first) > 0 && first[0].Group && first[0].Step == 0
}

// whenFailed does what is to be done when a pass has failed: for those of before
// as the journal knows it, for the one that is carried out if it does now.
func (x *execution) whenFailed(ctx context.Context, last stage) error {
	for i := range x.Passes {
		p := &x.Passes[i]
		if p.Plan.Fails == nil || !x.wanted.relevant(failureItem(p.Number)) {
			continue
		}
		live := x.live && i == len(x.Passes)-1
		it, err := x.failedWith(ctx, p, live)
		if err != nil {
			return err
		}
		if it == nil {
			continue
		}
		r := &room{x: x, pass: p, live: live, nested: true}
		head := r.chain(p.Plan.Fails, &apart{&tail{last}})
		if err := head.take(ctx, []*flow{{it: it}}); err != nil {
			return err
		}
		if err := head.end(ctx); err != nil {
			return err
		}
	}
	return nil
}

// apart is the end of what is done when a run fails.
type apart struct{ stage }

func (a *apart) take(ctx context.Context, chunk []*flow) error {
	for _, f := range chunk {
		f.apart = true
	}
	return a.stage.take(ctx, chunk)
}

// failedWith gives the item of a pass that failed; nil where it did not.
func (x *execution) failedWith(ctx context.Context, p *Pass, live bool) (*item.Item, error) {
	if x.Rehearse || x.Sampled {
		if _, failed := x.stop.failed(); failed {
			x.failure = x.told.Load()
			return x.failedItem(p, x.failure.fields(x), nil), nil
		}
		return x.asIfFailed(p), nil
	}
	k := Key{Pass: p.Number, Address: failureItem(p.Number), Part: PartFailed}
	var e *Entry
	err := x.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		e, err = x.Journal.Page(ctx, k)
		return err
	})
	if err != nil {
		return nil, err
	}
	if live {
		message, failed := x.stop.failed()
		if !failed {
			return nil, nil
		}
		told := x.told.Load()
		if told == nil {
			told = &failing{Message: message}
		}
		x.failure = told
		x.waiting.forget()
		if e, err = x.tell(ctx, k, e, told); err != nil {
			return nil, err
		}
	}
	if e == nil {
		return nil, nil
	}
	fields, err := item.DecodeObject(e.Result)
	if err != nil {
		return nil, fmt.Errorf("what is told of a failure cannot be read: %w", err)
	}
	return x.failedItem(p, fields, e), nil
}

// alreadyFailed tells whether the last pass has failed, and what is to be done then
// is not over.
func (x *execution) alreadyFailed(ctx context.Context) (bool, error) {
	p := x.last()
	if p.Plan.Fails == nil {
		return false, nil
	}
	e, err := x.Journal.Page(ctx, Key{Pass: p.Number, Address: failureItem(p.Number), Part: PartFailed})
	return e != nil, err
}

// tell makes it durable what is told of a failure, unless it is already.
func (x *execution) tell(ctx context.Context, k Key, stands *Entry, told *failing) (*Entry, error) {
	if stands != nil {
		return stands, nil
	}
	result, err := item.Encode(told.fields(x))
	if err != nil {
		return nil, err
	}
	now := x.now()
	return x.Journal.Append(ctx, &Entry{Key: k, Outcome: Closed, Started: now, Ended: now, Result: result})
}

func (x *execution) failedItem(p *Pass, fields map[string]any, e *Entry) *item.Item {
	it := &item.Item{Fields: fields, Address: failureItem(p.Number), At: x.Facts.Started, Failure: map[string]any{"message": fields["message"], "step": fields["step"]}}
	if e != nil {
		it.At = latest(it.At, e.Ended)
	}
	return it
}

// asIfFailed is what a rehearsal tells.
func (x *execution) asIfFailed(p *Pass) *item.Item {
	step := p.Plan.Steps[0].Name
	return x.failedItem(p, (&failing{Message: step + ": what a run says that fails", Step: step, Label: "an item"}).fields(x), nil)
}

// forget lets the run wait for nothing that it waited for.
func (w *waits) forget() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.parked = nil
}
