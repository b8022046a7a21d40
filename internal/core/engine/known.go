package engine

import (
	"context"
	"fmt"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// known is what the journal holds of an effect.
type known struct {
	announced *Entry // the last announcement, if it was not withdrawn
	announces int    // how many there were
	submitted *Entry
	waiting   time.Time // since when the other side asks to wait
	entry     *Entry
	some      bool
}

func (k *known) take(e *Entry) {
	kind, n := numbered(e.Part)
	k.some = k.some || kind != PartEdit && kind != PartDecided // with neither anything has begun
	switch kind {
	case partAnnounce:
		if n >= k.announces {
			k.announces, k.announced = n+1, e
		}
	case PartSubmit:
		k.submitted = e
	case PartPark:
		k.waiting = e.Started
	default:
		if e.Part == 0 {
			k.entry = e
		}
	}
}

// withdrawn takes back what is known of the last announcement.
func (k *known) withdrawn(n int) {
	if n == k.announces-1 {
		k.announced = nil
	}
}

// known reads what the journal holds of the effects of these items.
func (b *base) known(ctx context.Context, due []*flow) (map[item.Address]*known, error) {
	found := make(map[item.Address]*known, len(due))
	addresses := make([]item.Address, len(due))
	for i, f := range due {
		addresses[i] = f.it.Address
		found[f.it.Address] = &known{}
	}
	if len(due) == 0 {
		return found, nil
	}
	var entries []*Entry
	err := b.held(ctx, "the journal cannot be read", func(ctx context.Context) (err error) {
		entries, err = b.Journal.Entries(ctx, b.room.pass.Number, b.step.Number, b.rounds, addresses)
		return err
	})
	for _, e := range entries {
		found[e.Address].take(e)
	}
	for _, e := range entries {
		if kind, n := numbered(e.Part); kind == partWithdraw {
			found[e.Address].withdrawn(n)
		}
	}
	for _, f := range due {
		if found[f.it.Address].some {
			f.touched()
		}
	}
	return found, err
}

// inDoubt is the end of an effect of which the journal knows only that it was
// about to happen; nil where it may simply be done again.
func (b *base) inDoubt(k *known, f *flow, message string) *Entry {
	e := &Entry{Key: b.key(f.it.Address, 0), Generation: f.generation, Outcome: Unknown, Started: b.now(), Failure: &call.Failure{Class: call.InDoubt, Message: message}}
	if k.announced != nil {
		e.Started, e.Request, e.InputHash, e.Generation = k.announced.Started, k.announced.Request, k.announced.InputHash, k.announced.Generation
	}
	e.Ended = e.Started
	if e.Ended.Before(f.it.At) {
		e.Ended = f.it.At
	}
	switch b.step.WhenUnknown {
	case workflow.UnknownResend:
		return nil
	case workflow.UnknownDone:
		e.Outcome, e.Failure = Done, nil
	}
	return e
}

// doubt ends the effects of which nobody can know whether they happened: those
// that were announced and have no end, and keyed ones that were in flight when
// an owner died and whose keys the other side has forgotten since.
func (b *base) doubt(ctx context.Context, f *flow, k *known) error {
	var e *Entry
	switch {
	case k.entry != nil || k.submitted != nil:
		return nil
	case k.announced != nil:
		if e = b.inDoubt(k, f, "The service stopped while this call was on its way. It may have been sent."); e == nil {
			k.announced = nil
		}
	case b.room.live && b.forgets():
		b.forgotten++
		e = b.inDoubt(k, f, fmt.Sprintf("The service stopped while this call may have been on its way, and was away for longer than the other side remembers calls (%s).", b.step.Action.KeyLasts()))
	}
	if e == nil {
		return nil
	}
	var err error
	f.touched()
	if k.entry = e; b.room.live {
		k.entry, err = b.Journal.Append(ctx, e)
	}
	return err
}

// forgets tells whether the next item without an end was perhaps in flight when
// an owner of the run died, too long ago for its key to be known.
func (b *base) forgets() bool {
	a := b.step.Action
	repeat := a.Repeat
	if b.step.Repeat != "" {
		repeat = b.step.Repeat
	}
	return !b.Interrupted.IsZero() && !b.Rehearse && a.Effect == call.Write && repeat == call.Keyed && b.forgotten < max(1, b.step.Parallel) &&
		b.Clock.Now().Sub(b.Interrupted) > a.KeyLasts()
}
