package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// effect does one effect for an item: it makes the deed ready, announces it
// where it must not happen twice, does it with its retries, and makes the entry
// durable. A nil entry means that the item was left: nothing is known to be
// final, and whoever takes the run up goes on with it.
func (b *base) effect(ctx context.Context, f *flow, part int, known *known, p Performer, s Subject) (*Entry, error) {
	return b.effectFrom(ctx, f, part, known, p, s, 0)
}

// effectFrom is effect for a page of a list whose first item has an ordinal.
func (b *base) effectFrom(ctx context.Context, f *flow, part int, known *known, p Performer, s Subject, first uint32) (*Entry, error) {
	e := b.begin(f, part)
	e.First = first
	gave, why, repeat, err := b.try(ctx, f, e, known, p, s)
	if err != nil {
		return nil, b.left(f, err)
	}
	return b.append(ctx, f, e, gave, why, repeat)
}

// begin is the entry of an effect that begins now.
func (b *base) begin(f *flow, part int) *Entry {
	return &Entry{Key: b.key(f.it.Address, part), Started: b.now(), Generation: f.generation}
}

// try does a deed up to its end, which is not durable yet: what it gave, or why
// it failed for good. The error is errLeft where nothing is final.
func (b *base) try(ctx context.Context, f *flow, e *Entry, known *known, p Performer, s Subject) (gave *Gave, why *call.Failure, repeat string, err error) {
	deed, err := b.ready(ctx, p, s)
	var parked *call.Parked
	switch {
	case errors.As(err, &parked):
		return nil, nil, "", leaving(b.waits(ctx, f, e, known, parked))
	case err != nil && (errors.Is(err, errLeft) || errors.Is(err, ErrDropped) || ctx.Err() != nil):
		return nil, nil, "", err
	case err != nil:
		return nil, failureOf(err), "", nil
	}
	about := deed.About()
	if err := b.decide(ctx); err != nil {
		return nil, nil, "", err
	}
	if err := b.generation(ctx, f, e, about); err != nil {
		return nil, nil, "", err
	}
	if b.Rehearse && about.Effect == call.Write {
		own := *b.masked(about.Show())
		own.Prepared = true
		e.Request = &own
		return &Gave{Output: about.Sample}, nil, about.Repeat, nil
	}
	a := &attempt{base: b, f: f, e: e, known: known, deed: deed, about: about}
	gave, why, err = a.make(ctx)
	return gave, why, about.Repeat, err
}

// left leaves an item where a stop or a fault of ours kept it from its end;
// other errors are the execution's.
func (b *base) left(f *flow, err error) error {
	if !errors.Is(err, errLeft) {
		return err
	}
	b.leave(f)
	return nil
}

// ready makes the deed, holding out while it cannot be made through a fault of
// ours, and trying again where the other side could not be reached for it: its
// authorization server, say.
func (b *base) ready(ctx context.Context, p Performer, s Subject) (Deed, error) {
	wait := b.step.Patience.First
	for tried := 1; ; tried++ {
		deed, err := b.readyOnce(ctx, p, s)
		var f *call.Failure
		if !errors.As(err, &f) || f.Class != call.NotSent || !f.Retryable || tried >= b.step.Patience.Attempts {
			return deed, err
		}
		if !b.pause(ctx, wait) {
			return nil, errLeft
		}
		wait = min(time.Duration(float64(wait)*b.step.Patience.Factor), b.step.Patience.Max)
	}
}

func (b *base) readyOnce(ctx context.Context, p Performer, s Subject) (deed Deed, err error) {
	var items error // the item's own fault
	err = b.held(ctx, "the connection cannot be opened", func(ctx context.Context) error {
		var own ours
		deed, items = p.Ready(ctx, s)
		if errors.As(items, &own) {
			items = nil
			return own.error
		}
		return nil
	})
	if err == nil {
		err = items
	}
	return deed, err
}

// generation settles which generation of its key an effect has: a key never
// carries two contents.
func (b *base) generation(ctx context.Context, f *flow, e *Entry, about About) error {
	var err error
	if e.InputHash, err = b.digest(ctx, about.Content); err != nil {
		return err
	}
	if about.Effect == call.Write && f.former != nil && string(f.former) != string(e.InputHash) {
		e.Generation++
	}
	return nil
}

// digest is a keyed hash.
func (b *base) digest(ctx context.Context, content []byte) (sum []byte, err error) {
	if b.Sealer == nil {
		plain := sha256.Sum256(content)
		return plain[:], nil
	}
	err = b.held(ctx, "the vault does not answer", func(ctx context.Context) (err error) {
		sum, err = b.Sealer.Digest(ctx, content)
		return err
	})
	return sum, err
}

// append gives an effect its end and makes it durable. What stands in the
// journal is what counts: another may have been there first.
func (b *base) append(ctx context.Context, f *flow, e *Entry, gave *Gave, why *call.Failure, repeat string, writes ...Write) (*Entry, error) {
	if e.Ended = b.now(); e.Ended.Before(f.it.At) {
		e.Ended = f.it.At
	}
	if why != nil {
		e.Failure, e.Outcome = why, b.outcome(why, repeat)
	} else {
		e.Outcome, e.Units = Done, gave.Units
		if err := b.keep(ctx, e, gave); err != nil {
			return nil, b.left(f, err)
		}
	}
	f.touched()
	return b.Journal.Append(ctx, e, writes...)
}

// outcome is what a final failure becomes.
func (b *base) outcome(why *call.Failure, repeat string) Outcome {
	if why.Class == call.InDoubt && repeat == call.Unsafe || why.Cut {
		if b.step.WhenUnknown == workflow.UnknownDone {
			return Done
		}
		return Unknown
	}
	return b.onError()
}

// keep puts what was given into an entry: with the secrets that it echoes
// masked, and whole but sealed.
func (b *base) keep(ctx context.Context, e *Entry, gave *Gave) (err error) {
	if e.Result, err = b.encode(gave, nil); err != nil {
		e.Failure = &call.Failure{Class: call.InDoubt, Message: "What the call gave cannot be kept: " + err.Error()}
		e.Outcome, e.Result = b.outcome(e.Failure, call.Unsafe), nil
		return nil
	}
	return b.sealFound(ctx, e, gave.found, func() ([]byte, error) { return b.encode(gave, b.secrets()) })
}

// sealFound seals the result of an entry that holds secrets, and puts a masked one
// in its place.
func (b *base) sealFound(ctx context.Context, e *Entry, found []string, masked func() ([]byte, error)) (err error) {
	if len(found) == 0 {
		return nil
	}
	if b.Sealer == nil { // it stays in memory
		e.Sealed = e.Result
	} else {
		plain, err := item.Encode(map[string]any{"result": string(e.Result), "secrets": found})
		if err != nil {
			return err
		}
		if err := b.held(ctx, "the vault does not answer", func(ctx context.Context) (err error) {
			e.Sealed, err = b.Sealer.Seal(ctx, plain)
			return err
		}); err != nil {
			return err
		}
	}
	e.Result, err = masked()
	return err
}

// result is what an entry gave, whole.
func (b *base) result(ctx context.Context, e *Entry) ([]byte, error) {
	if len(e.Sealed) == 0 || b.Sealer == nil {
		if len(e.Sealed) > 0 {
			return e.Sealed, nil
		}
		return e.Result, nil
	}
	var plain []byte
	if err := b.held(ctx, "the vault does not answer", func(ctx context.Context) (err error) {
		plain, err = b.Sealer.Unseal(ctx, e.Sealed)
		return err
	}); err != nil {
		return nil, err
	}
	v, err := item.DecodeObject(plain)
	if err != nil {
		return nil, err
	}
	list, _ := v["secrets"].([]any)
	values := make([]string, 0, len(list))
	for _, s := range list {
		values = append(values, expr.Text(s))
	}
	b.learn(values)
	text, _ := v["result"].(string)
	return []byte(text), nil
}

func (b *base) encode(gave *Gave, mask *call.Secrets) ([]byte, error) {
	if !b.step.Lists() {
		if gave.Output == nil {
			return nil, nil
		}
		return item.Encode(mask.MaskValue(gave.Output))
	}
	items := make([]any, len(gave.Items))
	for i, f := range gave.Items {
		items[i] = f
	}
	out := map[string]any{"items": items}
	if gave.Next != nil {
		out["next"] = gave.Next
	}
	return item.Encode(mask.MaskValue(out))
}

var keySpace = uuid.MustParse("6f1c2f0e-51a0-5c0e-9d5b-2b7f5e8f1a55")

// idempotencyKey is the same for every repeat of one effect: retries,
// takeovers and resumes never change it.
func (b *base) idempotencyKey(e *Entry) string {
	return uuid.NewSHA1(keySpace, fmt.Appendf(nil, "%s/%d/%x/%x/%d/%d", b.Facts.ID, e.Step, string(e.Rounds), string(e.Address), e.Part, e.Generation)).String()
}

// waits leaves an item that cannot go on for now, and parks the run. Where the
// other side asked for it, the journal keeps since when, so that it is not
// obeyed for ever.
func (b *base) waits(ctx context.Context, f *flow, e *Entry, known *known, parked *call.Parked) error {
	if parked.Reason == call.ReasonToldToWait && known.waiting.IsZero() && !b.Rehearse {
		since := &Entry{Key: e.Key, Outcome: Waited, Started: e.Started, Ended: b.now(), Attempts: e.Attempts}
		since.Part = PartPark
		f.touched()
		if _, err := b.Journal.Append(ctx, since); err != nil {
			return err
		}
	}
	if b.leave(f); f.state == left {
		b.show(f, Waiting, parked.Message)
	}
	if parked.Reason == call.ReasonUnread {
		b.wait(parked) // what others need may have been read
	} else {
		b.stop.park(parked)
	}
	return nil
}

// since is the time of what an entry gave. A rehearsal has one time, so that what
// is made of it is the same when it is computed again.
func (b *base) since(e *Entry) time.Time {
	if b.Rehearse {
		return b.Facts.Started
	}
	return e.Ended
}

// failureOf words an error of an item that could not even be tried.
func failureOf(err error) *call.Failure {
	var f *call.Failure
	if errors.As(err, &f) {
		return f
	}
	f = &call.Failure{Class: call.BadInput, Message: err.Error()}
	var se *form.Error
	var pe *expr.PathError
	var ie *form.InputError
	switch {
	case errors.As(err, &ie) && len(ie.Fields) == 1:
		f.Setting = "input." + ie.Fields[0].Field
	case errors.As(err, &se):
		f.Setting = "settings." + se.Field
	case errors.As(err, &pe):
		f.Setting = "input." + pe.Path
	}
	return f
}
