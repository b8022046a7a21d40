package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// attempt does one deed until it succeeds, is refused for good, has been tried
// often enough, or is left.
type attempt struct {
	*base
	f     *flow
	e     *Entry
	known *known
	deed  Deed
	about About
	tried int  // tries that count; waits that the other side asked for do not
	doubt bool // an earlier try may have been carried out
}

// maxWait is the longest pause that keeps a worker; longer ones park the run.
const maxWait = 30 * time.Second

// make gives what the deed gave, or why it failed for good; errLeft where it
// was left with nothing final.
func (a *attempt) make(ctx context.Context) (*Gave, *call.Failure, error) {
	key := ""
	if a.about.Effect == call.Write {
		key = a.idempotencyKey(a.e)
	}
	began, wait := a.Clock.Now(), a.step.Patience.First
	for {
		gave, why, err := a.once(ctx, key)
		if err != nil || why == nil {
			return gave, nil, err
		}
		if a.gone(why) {
			return &Gave{}, nil, nil
		}
		a.doubt = a.doubt || why.Class == call.InDoubt
		why.Tried, why.Over = a.e.Attempts, a.Clock.Now().Sub(began)
		if !a.again(why) {
			return nil, why, nil
		}
		pause := jitter(wait, a.idempotencyKey(a.e))
		if why.RetryAfter > 0 {
			pause = why.RetryAfter
			if since := a.asked(began); a.Clock.Now().Add(pause).Sub(since) > a.step.Patience.Wait {
				why.Message = fmt.Sprintf("%s (it has asked to wait for longer than %s)", why.Message, a.step.Patience.Wait)
				return nil, why, nil
			}
			if err := a.obey(ctx, pause, why); err != nil {
				return nil, nil, err
			}
		} else if a.tried++; a.tried >= a.step.Patience.Attempts {
			return nil, why, nil
		}
		if why.Class != call.InDoubt {
			if err := a.withdraw(ctx); err != nil {
				return nil, nil, err
			}
		}
		if !a.pause(ctx, pause) {
			if ctx.Err() != nil {
				return nil, nil, context.Cause(ctx)
			}
			return nil, nil, errLeft
		}
		wait = min(time.Duration(float64(wait)*a.step.Patience.Factor), a.step.Patience.Max)
	}
}

// asked is since when the other side asks to wait.
func (a *attempt) asked(began time.Time) time.Time {
	if !a.known.waiting.IsZero() {
		return a.known.waiting
	}
	return began
}

// obey holds the connection for as long as the other side asked, and parks the
// run for a long wait.
func (a *attempt) obey(ctx context.Context, d time.Duration, why *call.Failure) error {
	if a.about.Hold != nil {
		err := a.held(ctx, "the connection cannot be held", func(ctx context.Context) error { return a.about.Hold(ctx, d, why.Message) })
		if err != nil {
			return err
		}
	}
	if d <= maxWait {
		return nil
	}
	if err := a.withdraw(ctx); err != nil {
		return err
	}
	parked := &call.Parked{Reason: call.ReasonToldToWait, Connection: a.step.Connection, Until: a.Clock.Now().Add(d), Message: why.Message}
	if err := a.waits(ctx, a.f, a.e, a.known, parked); err != nil {
		return err
	}
	return errLeft
}

// once does the deed a single time. What failed through us is held and done
// again where it may be.
func (a *attempt) once(ctx context.Context, key string) (gave *Gave, why *call.Failure, err error) {
	if err := a.announce(ctx); err != nil {
		return nil, nil, err
	}
	var lost *call.Lost
	var parked *call.Parked
	begun, made := false, false
	err = a.held(ctx, "the call cannot be made", func(ctx context.Context) error {
		if a.stop.set() {
			return errLeft
		}
		var sent *call.Sent
		var err error
		gave, sent, err = a.deed.Do(a.calls, key)
		if begun = sent != nil; begun {
			a.e.Request, a.e.Attempts = a.masked(sent), a.e.Attempts+1
		}
		if errors.As(err, &lost) && a.repeatable() {
			made = true
			return lost.Err
		}
		return err
	})
	switch {
	case err == nil:
		a.locate(gave)
		return gave, nil, nil
	case begun && a.calls.Err() != nil && ctx.Err() == nil:
		return a.cut(ctx)
	case errors.As(err, &parked):
		if err := a.withdraw(ctx); err != nil {
			return nil, nil, err
		}
		if why := a.overlong(parked); why != nil {
			return nil, why, nil
		}
		return nil, nil, leaving(a.waits(ctx, a.f, a.e, a.known, parked))
	case errors.As(err, &lost):
		return nil, &call.Failure{Class: call.InDoubt, Message: "The call was made, and its answer could not be kept here."}, nil
	case errors.As(err, &why):
		a.hide(why)
		return nil, why, nil
	case errors.Is(err, errLeft) && made:
		return nil, nil, err // what was announced may have been carried out
	case errors.Is(err, errLeft):
		return nil, nil, leaving(a.withdraw(ctx))
	}
	return nil, nil, err
}

// leaving leaves the item unless something worse has happened.
func leaving(err error) error {
	if err != nil {
		return err
	}
	return errLeft
}

// overlong ends a wait that has lasted for too long.
func (a *attempt) overlong(p *call.Parked) *call.Failure {
	if p.Reason != call.ReasonToldToWait || a.known.waiting.IsZero() || p.Until.Sub(a.known.waiting) <= a.step.Patience.Wait {
		return nil
	}
	return &call.Failure{Class: call.Refused, Message: fmt.Sprintf("%s (it has been waited for since %s, longer than %s)", p.Message, a.known.waiting.UTC().Format(time.RFC3339), a.step.Patience.Wait)}
}

// cut is what becomes of a call that we cut ourselves: one that reads is left,
// of one that writes nobody knows.
func (a *attempt) cut(ctx context.Context) (*Gave, *call.Failure, error) {
	if a.about.Effect == call.Read {
		return nil, nil, leaving(a.withdraw(ctx))
	}
	return nil, &call.Failure{Class: call.InDoubt, Cut: true, Message: "The run was cancelled a second time while this call was on its way. It may have been sent."}, nil
}

// repeatable tells whether the deed may be done again where its outcome is not
// known.
func (a *attempt) repeatable() bool {
	return a.about.Effect == call.Read || a.about.Repeat != call.Unsafe || a.step.WhenUnknown == workflow.UnknownResend
}

// gone tells whether what should be removed is not there because an earlier try
// removed it: one of these, or one of an owner who died.
func (a *attempt) gone(why *call.Failure) bool {
	return a.about.Removes && (why.Status == http.StatusNotFound || why.Status == http.StatusGone) && (a.doubt || !a.Interrupted.IsZero())
}

// again tells whether a failed deed is worth another try, and allowed one.
func (a *attempt) again(why *call.Failure) bool {
	switch {
	case why.Cut || a.calls.Err() != nil:
		return false
	case why.Class == call.NotSent:
		return true
	case why.Class == call.Refused:
		return why.Retryable
	case why.Class == call.InDoubt:
		return a.repeatable()
	}
	return false
}

// announce makes it durable that an unsafe deed is about to be done. Where another
// has announced it since we last looked, it may have been done: then it is not ours
// to do, and whoever carries the run out next reads of it.
func (a *attempt) announce(ctx context.Context) error {
	if a.about.Repeat != call.Unsafe || a.about.Effect == call.Read || a.known.announced != nil {
		return nil
	}
	e := *a.e
	e.Part, e.Outcome, e.Started, e.Request = AnnouncePart(a.known.announces), Announced, a.now(), a.masked(a.about.Show())
	e.Ended = e.Started
	a.f.touched()
	stands, err := a.Journal.Append(ctx, &e)
	if err != nil {
		return err
	}
	if !stands.Started.Equal(e.Started) {
		return ErrDropped
	}
	a.known.announces++
	a.known.announced = &e
	return nil
}

// withdraw makes it durable that what was announced came to nothing.
func (a *attempt) withdraw(ctx context.Context) error {
	if a.known.announced == nil {
		return nil
	}
	e := *a.known.announced
	e.Part, e.Outcome, e.Ended, e.Request = WithdrawPart(a.known.announces-1), Withdrawn, a.now(), nil
	a.f.touched()
	if _, err := a.Journal.Append(ctx, &e); err != nil {
		return err
	}
	a.known.announced = nil
	return nil
}

// locate makes what the other side gave storable, and finds the secrets that it
// echoes: the pipeline sees the value, every surface a masked copy.
func (a *attempt) locate(gave *Gave) {
	gave.Output, gave.Next = item.Storable(gave.Output), item.Storable(gave.Next)
	for i := range gave.Items {
		gave.Items[i], _ = item.Storable(gave.Items[i]).(map[string]any)
	}
	echo := a.about.Secrets.With(a.secrets().Values()...)
	if echo == nil {
		return
	}
	items := make([]any, 0, len(gave.Items)+2)
	for _, it := range gave.Items {
		items = append(items, it)
	}
	gave.found = echo.Found(append(items, gave.Output, gave.Next))
	a.learn(gave.found)
}

// masked hides what earlier answers held from a request that is shown.
func (b *base) masked(sent *call.Sent) *call.Sent {
	if known := b.secrets(); known != nil {
		own := *sent
		own.URL, own.Body = known.Mask(sent.URL), known.Mask(sent.Body)
		return &own
	}
	return sent
}

// hide makes the words of a failure storable, with no secret in them.
func (a *attempt) hide(why *call.Failure) {
	why.Message = a.secrets().Mask(a.about.Secrets.Mask(item.StorableText(why.Message)))
}

func jitter(d time.Duration, seed string) time.Duration {
	var s [32]byte = sha256.Sum256([]byte(seed))
	return time.Duration(float64(d) * (0.75 + 0.5*rand.New(rand.NewChaCha8(s)).Float64()))
}
