package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/workflow"
)

// computeStage applies a step that only computes.
type computeStage struct{ base }

func (s *computeStage) next(ctx context.Context) ([]*flow, error) {
	flows, err := s.up.next(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range flows {
		if f.moving(s.step.Index) {
			s.apply(f)
		}
	}
	return flows, ctx.Err()
}

func (s *computeStage) apply(f *flow) {
	if s.step.Off {
		f.set(s.step.Index, Cell{Fate: Off})
		return
	}
	r, err := s.step.Operation.Apply(s.plan.Scope(f.it, s.step, s.run.Facts))
	if err != nil {
		s.fail(f, failureOf(err))
		return
	}
	s.run.counts.at(s.step.Name, func(c *StepCounts) {
		c.In++
		if r.Held {
			c.Held++
		} else {
			c.Out++
		}
	})
	if r.Held {
		f.ended = true
		f.set(s.step.Index, Cell{Fate: Held, Text: r.Text})
		return
	}
	f.set(s.step.Index, Cell{Fate: Passed, Text: r.Text})
	if r.Fields != nil {
		f.it = f.it.Derive(s.step.Index, r.Fields, f.it.At)
	}
}

// fail leaves an item at this step as on_error says.
func (b *base) fail(f *flow, why *Failure) {
	if b.step.OnError == workflow.OnErrorSetAside {
		f.stop(b.step.Index, SetAside, Cell{Fate: Aside, Text: why.Message})
		return
	}
	f.stop(b.step.Index, Failed, Cell{Fate: Stopped, Text: why.Message})
	if b.live {
		b.run.halt(haltReason{failure: fmt.Sprintf("%s: %s", b.step.Name, why.Message)})
	}
}

func failureOf(err error) *Failure {
	var f *Failure
	if errors.As(err, &f) {
		return f
	}
	f = &Failure{Class: BadInput, Message: err.Error()}
	var se *steps.SettingError
	var pe *expr.PathError
	switch {
	case errors.As(err, &se):
		f.Setting = "settings." + se.Setting
	case errors.As(err, &pe):
		f.Setting = "input." + pe.Path
	}
	return f
}

// actionStage calls an action that gives one result for one item.
type actionStage struct{ base }

func (s *actionStage) next(ctx context.Context) ([]*flow, error) {
	flows, err := s.up.next(ctx)
	if err != nil {
		return nil, err
	}
	var due []*flow
	for _, f := range flows {
		if f.moving(s.step.Index) {
			due = append(due, f)
		}
	}
	known, err := s.known(ctx, due)
	if err != nil {
		return nil, err
	}
	return flows, s.each(ctx, due, func(ctx context.Context, f *flow) error {
		return s.perform(ctx, f, known[f.it.Address])
	})
}

// pair is what the journal holds of an effect.
type pair struct{ announced, submitted, entry *Entry }

func (b *base) known(ctx context.Context, due []*flow) (map[item.Address]pair, error) {
	if len(due) == 0 || b.run.Journal == nil {
		return nil, nil
	}
	addresses := make([]item.Address, len(due))
	for i, f := range due {
		addresses[i] = f.it.Address
	}
	entries, err := b.run.Journal.Entries(ctx, b.pass, b.step.Number, addresses)
	if err != nil {
		return nil, err
	}
	known := make(map[item.Address]pair, len(entries))
	for _, e := range entries {
		p := known[e.Address]
		switch e.Part {
		case PartAnnounce:
			p.announced = e
		case PartSubmit:
			p.submitted = e
		default:
			p.entry = e
		}
		known[e.Address] = p
	}
	return known, nil
}

// each runs work for every flow, at most parallel at once.
func (b *base) each(ctx context.Context, due []*flow, work func(context.Context, *flow) error) error {
	parallel := min(max(1, b.step.Parallel), len(due))
	if parallel <= 1 {
		for _, f := range due {
			if err := work(ctx, f); err != nil {
				return err
			}
		}
		return nil
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	queue := make(chan *flow)
	var wait sync.WaitGroup
	for range parallel {
		wait.Go(func() {
			for f := range queue {
				if err := work(ctx, f); err != nil {
					cancel(err)
				}
			}
		})
	}
	for _, f := range due {
		queue <- f
		if ctx.Err() != nil {
			break
		}
	}
	close(queue)
	wait.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return nil
}

func (s *actionStage) perform(ctx context.Context, f *flow, known pair) error {
	e := known.entry
	if e == nil && known.announced != nil {
		switch s.step.WhenUnknown {
		case workflow.UnknownResend:
		case workflow.UnknownDone:
			e = &Entry{Key: known.announced.Key, Outcome: Done, Started: known.announced.Started, Ended: known.announced.Ended, Request: known.announced.Request}
		default:
			e = &Entry{Key: known.announced.Key, Outcome: Unknown, Started: known.announced.Started, Ended: known.announced.Ended, Request: known.announced.Request,
				Failure: &Failure{Class: InDoubt, Message: "The service stopped while this call was on its way. It may have been sent."}}
		}
	}
	if e == nil {
		if !s.live || s.run.halted.Load() != nil {
			f.isOpen, f.open, f.at = true, "", s.step.Index
			return nil
		}
		var err error
		if e, err = s.effect(ctx, f, 0, nil); err != nil || e == nil {
			return err
		}
	}
	s.settle(f, e)
	return nil
}

// settle lets an item go on as its entry says.
func (b *base) settle(f *flow, e *Entry) {
	b.run.counts.effect(b.step.Name, e)
	if f.entries != nil {
		f.entries[b.step.Index] = e
	}
	switch e.Outcome {
	case SetAside:
		f.stop(b.step.Index, SetAside, Cell{Fate: Aside, Text: e.Failure.Message})
		return
	case Unknown:
		f.stop(b.step.Index, Unknown, Cell{Fate: MayBeSent, Text: e.Failure.Message})
		return
	case Failed:
		f.stop(b.step.Index, Failed, Cell{Fate: Stopped, Text: e.Failure.Message})
		if b.live {
			b.run.halt(haltReason{failure: fmt.Sprintf("%s: %s", b.step.Name, e.Failure.Message)})
		}
		return
	}
	var output any
	if len(e.Result) > 0 {
		v, err := item.Decode(e.Result)
		if err != nil {
			b.fail(f, &Failure{Class: BadInput, Message: "The journaled result cannot be read: " + err.Error()})
			return
		}
		output = v
	}
	fate := Written
	if b.step.Action.Effect == connector.Read {
		fate = ReadOutside
	}
	if e.Request != nil && e.Request.Prepared {
		fate = Prepared
	}
	text := b.step.Action.Summarise(output)
	if fate == Prepared {
		text = b.wouldSend(f)
	}
	f.set(b.step.Index, Cell{Fate: fate, Text: text})
	f.it = b.step.Give(f.it, output, e.Ended)
	b.run.counts.at(b.step.Name, func(c *StepCounts) { c.In++; c.Out++ })
}

// wouldSend words a prepared write by what it would carry, since the sample
// that answers for it says nothing of this item.
func (b *base) wouldSend(f *flow) string {
	v, err := b.step.Input.Eval(b.plan.Scope(f.it, b.step, b.run.Facts))
	input, _ := v.(map[string]any)
	if err != nil {
		return ""
	}
	var parts []string
	for _, p := range b.step.Action.Properties {
		if p.Schema["choices"] != nil || input[p.Name] == nil {
			continue
		}
		if values, ok := input[p.Name].(map[string]any); ok {
			for _, k := range slices.Sorted(maps.Keys(values)) {
				parts = append(parts, expr.Brief(values[k]))
			}
			continue
		}
		parts = append(parts, expr.Brief(input[p.Name]))
	}
	return strings.Join(parts, ", ")
}

// effect evaluates the input, makes the call with its retries, and makes the
// entry durable. A nil entry means that the run halted before it was final.
func (b *base) effect(ctx context.Context, f *flow, part int, cursor any) (*Entry, error) {
	e := &Entry{Key: Key{Pass: b.pass, Step: b.step.Number, Address: f.it.Address, Part: part}}
	e.Started = b.now()
	page, why, err := b.attempt(ctx, f, e, cursor)
	if err != nil {
		return nil, err
	}
	e.Ended = b.now()
	if e.Ended.Before(f.it.At) {
		e.Ended = f.it.At
	}
	switch {
	case why == nil:
		e.Outcome, e.Units = Done, page.Units
		if e.Result, err = b.encode(page); err != nil {
			return nil, err
		}
	case b.run.halted.Load() != nil && b.run.halted.Load().parked != nil:
		f.isOpen, f.open, f.at = true, "", b.step.Index
		f.set(b.step.Index, Cell{Fate: Waiting, Text: why.Message})
		return nil, nil
	default:
		e.Failure, e.Outcome = why, b.outcome(why)
	}
	if err := b.run.Journal.Append(ctx, e); err != nil {
		return nil, err
	}
	return e, nil
}

func (b *base) outcome(why *Failure) Outcome {
	if why.Class == InDoubt && b.step.Action.Effect == connector.Write && b.step.Action.Repeat == connector.Unsafe {
		switch b.step.WhenUnknown {
		case workflow.UnknownDone:
			return Done
		default:
			return Unknown
		}
	}
	if b.step.OnError == workflow.OnErrorSetAside {
		return SetAside
	}
	return Failed
}

// now is the clock at the exactness that the journal keeps.
func (b *base) now() time.Time { return b.run.Clock.Now().UTC().Truncate(time.Microsecond) }

func (b *base) encode(p *connector.Page) ([]byte, error) {
	if !b.step.Lists() {
		if p.Output == nil {
			return nil, nil
		}
		return item.Encode(p.Output)
	}
	items := make([]any, len(p.Items))
	for i, f := range p.Items {
		items[i] = f
	}
	out := map[string]any{"items": items}
	if p.Next != nil {
		out["next"] = p.Next
	}
	return item.Encode(out)
}

// attempt makes the call until it succeeds, is refused for good, or has been
// tried often enough. The error is one of the journal's.
func (b *base) attempt(ctx context.Context, f *flow, e *Entry, cursor any) (*connector.Page, *Failure, error) {
	asked, err := b.build(ctx, f, e, cursor)
	if err != nil {
		return nil, b.unbuilt(err), nil
	}
	return b.try(ctx, f, e, asked, func(answer *connector.Answer) (*connector.Page, error) {
		asked.Now = b.run.Clock.Now()
		return b.step.Action.Read(answer, asked)
	})
}

// unbuilt is why a call could not be built. A connection that is not there
// parks the run; it is no failure of the item.
func (b *base) unbuilt(err error) *Failure {
	var parked *Parked
	if errors.As(err, &parked) {
		b.run.halt(haltReason{parked: parked})
		return &Failure{Class: Refused, Message: parked.Message}
	}
	return failureOf(err)
}

// try makes a call that was built, with its retries.
func (b *base) try(ctx context.Context, f *flow, e *Entry, asked connector.Asked, read reading) (*connector.Page, *Failure, error) {
	call := asked.Call
	if b.run.Rehearse && call.Effect == connector.Write {
		e.Request = b.run.Caller.Show(b.step.Connection, call)
		e.Request.Prepared = true
		return &connector.Page{Output: b.step.Action.Sample}, nil, nil
	}
	if call.Repeat == connector.Unsafe {
		announce := *e
		announce.Part, announce.Outcome, announce.Ended, announce.Request = PartAnnounce, Announced, e.Started, b.run.Caller.Show(b.step.Connection, call)
		if err := b.run.Journal.Append(ctx, &announce); err != nil {
			return nil, nil, err
		}
	}
	key := b.idempotencyKey(f, e.Key)
	began, wait := b.run.Clock.Now(), b.step.Patience.First
	for {
		e.Attempts++
		page, why := b.once(ctx, call, read, key, e)
		if why == nil {
			return page, nil, nil
		}
		why.Tried, why.Over = e.Attempts, b.run.Clock.Now().Sub(began)
		if !b.again(why, call) || e.Attempts >= b.step.Patience.Attempts || b.run.halted.Load() != nil {
			return nil, why, nil
		}
		pause := jitter(wait, key)
		if why.RetryAfter > 0 {
			pause = why.RetryAfter
			b.run.Caller.Hold(ctx, b.step.Connection, pause, why.Message)
		}
		if pause > maxWait {
			b.run.halt(haltReason{parked: &Parked{Reason: ReasonToldToWait, Connection: b.step.Connection, Until: b.run.Clock.Now().Add(pause), Message: why.Message}})
			return nil, why, nil
		}
		if err := b.run.Clock.Sleep(ctx, pause); err != nil {
			return nil, nil, err
		}
		wait = min(time.Duration(float64(wait)*b.step.Patience.Factor), b.step.Patience.Max)
	}
}

// maxWait is the longest pause that keeps a worker; longer ones park the run.
const maxWait = 30 * time.Second

func jitter(d time.Duration, seed string) time.Duration {
	var s [32]byte = sha256.Sum256([]byte(seed))
	return time.Duration(float64(d) * (0.75 + 0.5*rand.New(rand.NewChaCha8(s)).Float64()))
}

// again tells whether a failed call is worth another try, and allowed one.
func (b *base) again(why *Failure, call *connector.Call) bool {
	switch why.Class {
	case NotSent:
		return true
	case Refused:
		return why.Retryable
	case InDoubt:
		return call.Effect == connector.Read || call.Repeat != connector.Unsafe || b.step.WhenUnknown == workflow.UnknownResend
	}
	return false
}

func (b *base) build(ctx context.Context, f *flow, e *Entry, cursor any) (asked connector.Asked, err error) {
	v, err := b.step.Input.Eval(b.plan.Scope(f.it, b.step, b.run.Facts))
	if err != nil {
		return asked, err
	}
	input, _ := v.(map[string]any)
	text, err := item.Encode(input)
	if err != nil {
		return asked, err
	}
	if len(text) > item.MaxBytes {
		return asked, fmt.Errorf("the input has %d bytes; at most %d are taken", len(text), item.MaxBytes)
	}
	hash := sha256.Sum256(text)
	e.InputHash = hash[:]
	account, err := b.run.Caller.Account(ctx, b.step.Connection)
	if err != nil {
		return asked, err
	}
	if j := b.step.Action.Job; j != nil && j.Callback != "" && b.live && !b.run.Rehearse {
		if input[j.Callback], err = b.run.Caller.Callback(ctx, b.run.Facts.ID); err != nil {
			return asked, err
		}
	}
	asked.Input, asked.Cursor = input, cursor
	if asked.Call, err = b.step.Action.Build(account, input, cursor); err == nil && b.step.Repeat != "" {
		asked.Call.Repeat = b.step.Repeat
	}
	return asked, err
}

// reading turns an answer into what the step makes of it.
type reading func(*connector.Answer) (*connector.Page, error)

func (b *base) once(ctx context.Context, call *connector.Call, read reading, key string, e *Entry) (*connector.Page, *Failure) {
	if call.Effect == connector.Read {
		key = ""
	}
	call.Timeout = b.step.Deadline
	answer, sent, err := b.run.Caller.Call(ctx, b.step.Connection, call, key)
	if sent != nil {
		e.Request = sent
	}
	var parked *Parked
	if errors.As(err, &parked) {
		b.run.halt(haltReason{parked: parked})
		return nil, &Failure{Class: Refused, Message: parked.Message}
	}
	if err != nil {
		return nil, failureOf(err)
	}
	page, err := read(answer)
	if err == nil {
		return page, nil
	}
	why := b.classify(err, answer)
	return nil, why
}

func (b *base) classify(err error, answer *connector.Answer) *Failure {
	var refusal *connector.Refusal
	if !errors.As(err, &refusal) {
		return &Failure{Class: InDoubt, Status: answer.Status, Message: b.step.Action.Connector().Title + " " + err.Error(), Retryable: true}
	}
	why := &Failure{Class: Refused, Status: refusal.Status, Message: refusal.Error(), Setting: setting(refusal.Field), RetryAfter: refusal.Wait}
	switch s := refusal.Status; {
	case s == 408 || s == 425 || s == 429 || s == 503 && why.RetryAfter > 0:
		why.Retryable = true
	case s >= 500:
		why.Class, why.Retryable = InDoubt, true
	case why.RetryAfter > 0:
		why.Retryable = true
	}
	if refusal.Retry != nil {
		why.Class, why.Retryable = Refused, *refusal.Retry
	}
	return why
}

func setting(field string) string {
	if field == "" {
		return ""
	}
	return "input." + field
}

var keySpace = uuid.MustParse("6f1c2f0e-51a0-5c0e-9d5b-2b7f5e8f1a55")

// idempotencyKey is the same for every repeat of one effect: retries,
// takeovers and resumes never change it.
func (b *base) idempotencyKey(f *flow, k Key) string {
	return uuid.NewSHA1(keySpace, fmt.Appendf(nil, "%s/%d/%s/%x/%d/%d", b.run.Facts.ID, k.Step, k.Rounds, string(k.Address), k.Part, f.generation)).String()
}

// listStage calls an action that gives several items for one, page by page.
type listStage struct {
	base
	pending []*flow
	open    *flow
	paging  paging
}

func (s *listStage) next(ctx context.Context) ([]*flow, error) {
	var out []*flow
	for {
		if s.open != nil {
			if len(out) > 0 {
				return out, nil
			}
			flows, err := s.page(ctx)
			if err != nil || len(flows) > 0 {
				return flows, err
			}
			continue
		}
		if len(s.pending) == 0 {
			if len(out) > 0 {
				return out, nil
			}
			flows, err := s.up.next(ctx)
			if err != nil {
				return nil, err
			}
			s.pending = flows
			continue
		}
		f := s.pending[0]
		s.pending = s.pending[1:]
		if !f.moving(s.step.Index) {
			out = append(out, f)
			continue
		}
		s.open, s.paging = f, paging{}
		if f.source != nil {
			s.paging, f.source = *f.source, nil
		}
	}
}

// page reads the next page of the open list, from the journal or outside.
func (s *listStage) page(ctx context.Context) ([]*flow, error) {
	f := s.open
	e, err := s.run.Journal.Page(ctx, Key{Pass: s.pass, Step: s.step.Number, Address: f.it.Address, Part: s.paging.page})
	if err != nil {
		return nil, err
	}
	if e == nil {
		if !s.live || s.run.halted.Load() != nil {
			return s.leave(""), nil
		}
		if e, err = s.effect(ctx, f, s.paging.page, s.paging.cursor); err != nil {
			return nil, err
		}
		if e == nil {
			return s.leave(""), nil
		}
	}
	if e.Outcome != Done {
		s.run.counts.effect(s.step.Name, e)
		flows := s.leave(e.Outcome)
		if f.entries != nil {
			f.entries[s.step.Index] = e
		}
		f.set(s.step.Index, Cell{Fate: fateOf(e.Outcome), Text: e.Failure.Message})
		if e.Outcome == Failed && s.live {
			s.run.halt(haltReason{failure: fmt.Sprintf("%s: %s", s.step.Name, e.Failure.Message)})
		}
		return flows, nil
	}
	return s.spread(f, e)
}

func fateOf(o Outcome) Fate {
	switch o {
	case SetAside:
		return Aside
	case Unknown:
		return MayBeSent
	}
	return Stopped
}

// leave gives up the list where it stands; a later pass goes on from there.
func (s *listStage) leave(o Outcome) []*flow {
	f, at := s.open, s.paging
	s.open = nil
	f.isOpen, f.open, f.at, f.source = true, o, s.step.Index, &at
	return []*flow{f}
}

func (s *listStage) spread(f *flow, e *Entry) ([]*flow, error) {
	v, err := item.DecodeObject(e.Result)
	if err != nil {
		return nil, fmt.Errorf("the journaled page of %s cannot be read: %w", s.step.Name, err)
	}
	s.run.counts.effect(s.step.Name, e)
	items, _ := v["items"].([]any)
	first := s.paging.page == 0
	var out []*flow
	for _, v := range items {
		it := s.step.GiveNth(f.it, s.paging.ordinal, connector.AsFields(v), e.Ended)
		s.paging.ordinal++
		if !relevant(s.only, it.Address) {
			continue
		}
		c := f.child(it)
		if c.entries != nil {
			c.entries = map[int]*Entry{}
			for k, v := range f.entries {
				c.entries[k] = v
			}
			c.entries[s.step.Index] = e
		}
		text := Label(s.plan, it)
		if text == "" {
			text = s.step.Action.Summarise(v)
		}
		c.set(s.step.Index, Cell{Fate: ReadOutside, Text: text})
		out = append(out, c)
	}
	s.run.counts.at(s.step.Name, func(c *StepCounts) {
		if first {
			c.In++
		}
		c.Out += len(out)
	})
	s.paging.page++
	s.paging.cursor = v["next"]
	if v["next"] == nil {
		s.open = nil
		if s.paging.ordinal == 0 {
			return []*flow{s.none(f)}, nil
		}
	}
	return out, nil
}

// none decides what becomes of an item whose list was empty.
func (s *listStage) none(f *flow) *flow {
	switch s.step.WhenNone {
	case workflow.WhenNonePass:
		f.set(s.step.Index, Cell{Fate: ReadOutside, Text: "nothing found, goes on"})
		s.run.counts.at(s.step.Name, func(c *StepCounts) { c.Out++ })
	case workflow.WhenNoneFail:
		s.run.counts.at(s.step.Name, func(c *StepCounts) { c.In-- })
		s.fail(f, &Failure{Class: Refused, Message: "The list is empty, and the step is told to fail then."})
	default:
		f.ended = true
		f.set(s.step.Index, Cell{Fate: GaveNothing, Text: "gave nothing"})
		s.run.counts.at(s.step.Name, func(c *StepCounts) { c.Nothing++ })
	}
	return f
}
