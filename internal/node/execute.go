package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/runs"
	"youngtrellis/internal/store"
)

// execute carries out the newest pass of a run that is ours to its end, or
// until it waits, is handed over, or is not ours any more.
func (n *Node) execute(l *lease, c store.Claimed) {
	stop := &engine.Stop{}
	ctx, drop := context.WithCancelCause(l.ctx)
	defer drop(nil)
	if !l.register.begin(c.Run, c.Claim, stop, drop) {
		return
	}
	if c.Halt {
		stop.Halt()
	}
	if context.Cause(ctx) != nil {
		n.let(l, c)
		return
	}
	if c.Takeovers >= hopeless {
		n.end(l, c, &store.End{State: engine.FailedRun, Total: -1, Message: "The nodes that carried the run out died five times without its getting any further, three times while nothing else ran beside it; it seems to stop them."}, nil)
		return
	}
	defer due(c, stop)()
	run, err := n.prepare(ctx, l, c, stop)
	if err != nil {
		n.unprepared(ctx, l, c, err)
		return
	}
	run.Spools, run.Account = spools{}, &n.held
	run.Progress = func(counts engine.Counts) { n.Events.Publish(c.Run, counts) }
	began := time.Now()
	pages, res, err := n.follow(ctx, l, c, run, stop)
	if pages == nil {
		pages = l.pages(c, run)
		run.Lattice = pages
		res, err = run.Execute(ctx, stop)
	}
	if res != nil {
		res.Counts.Took = time.Since(began)
	}
	n.ended(ctx, l, c, pages, res, err)
}

// due lets a run fail once its deadline has passed; the function ends that.
func due(c store.Claimed, stop *engine.Stop) (end func() bool) {
	if c.Deadline.IsZero() {
		return func() bool { return false }
	}
	fail := func() {
		stop.Fail(fmt.Sprintf("It was to be over by %s (limits.deadline of the workflow).", c.Deadline.UTC().Format("2006-01-02 15:04:05 MST")))
	}
	left := time.Until(c.Deadline)
	if left <= 0 {
		fail()
	}
	return time.AfterFunc(max(left, 0), fail).Stop
}

// pages gathers the rows of an execution.
func (l *lease) pages(c store.Claimed, run *engine.Run) *runs.Pages {
	return &runs.Pages{Workspace: c.Workspace, Run: c.Run, Workflow: c.Workflow, Plan: run.Passes[len(run.Passes)-1].Plan, Claim: c.Claim, Write: l.committer.Lattice}
}

// follow lets the due items of a run go on that had parked in good order, without
// reading the others. No pages: nothing was done, and it takes all of the run.
func (n *Node) follow(ctx context.Context, l *lease, c store.Claimed, run *engine.Run, stop *engine.Stop) (*runs.Pages, *engine.Result, error) {
	if !c.Woken {
		return nil, nil, nil
	}
	due, err := n.Store.Due(ctx, c.Workspace, c.Run)
	if err != nil || due == nil { // a whole execution holds out while the database is away
		return nil, nil, nil
	}
	d := &engine.Due{Items: due.Items, Next: due.Next, At: due.At}
	if err := json.Unmarshal(c.Counts, &d.Counts); err != nil {
		return nil, nil, nil
	}
	pages := l.pages(c, run)
	if err := pages.Amend(ctx, n.Store, c.Pass, due); err != nil {
		return nil, nil, nil
	}
	j, _ := run.Journal.(*journal)
	run.Lattice, run.Due, j.Sparse = pages, d, true
	res, err := run.Execute(ctx, stop)
	if errors.Is(err, engine.ErrWide) {
		run.Due, j.Sparse = nil, false
		return nil, nil, nil
	}
	n.followed.Add(1)
	return pages, res, err
}

// prepare makes a run ready. While the database is away it holds out.
func (n *Node) prepare(ctx context.Context, l *lease, c store.Claimed, stop *engine.Stop) (*engine.Run, error) {
	began, pause := time.Now(), 50*time.Millisecond
	for {
		run, err := n.prepareOnce(ctx, l, c)
		if err == nil || !store.IsUnavailable(err) || time.Since(began) > 10*time.Minute {
			return run, err
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-stop.Done():
			return nil, engine.ErrHandover
		case <-time.After(pause):
			pause = min(2*pause, 2*time.Second)
		}
	}
}

func (n *Node) prepareOnce(ctx context.Context, l *lease, c store.Claimed) (*engine.Run, error) {
	if c.Unbegun {
		if err := n.Store.Begin(ctx, l.id, store.Owned{Workspace: c.Workspace, Run: c.Run, Claim: c.Claim}); err != nil {
			return nil, err
		}
	}
	outside := n.Worlds.Outside(c.Workspace, c.Run, l)
	var run *engine.Run
	var err error
	if c.Begins() && c.Pass == 1 {
		run, err = n.Worlds.Fresh(ctx, c)
	} else {
		if c.Claim > 1 {
			if err := n.Store.Adopt(ctx, l.id); err != nil {
				return nil, err
			}
		}
		run, err = n.Worlds.Run(ctx, c.Workspace, c.Run)
	}
	if err != nil {
		return nil, err
	}
	j := &journal{RunJournal: &store.RunJournal{Store: n.Store, Committer: l.committer, Workspace: c.Workspace, Run: c.Run}, fresh: c.Begins() && c.Pass == 1, answered: func() { n.awaited.stir(c.Run) }}
	if c.Takeovers > 0 || !c.Interrupted.IsZero() {
		j.progress = []engine.Write{store.Progress{Workspace: c.Workspace, Run: c.Run}}
	}
	if c.Takeovers >= store.Suspect {
		j.further = sync.OnceFunc(l.further)
	}
	run.Journal, run.Connections, run.Callbacks, run.Sealer, run.Interrupted = j, outside, outside, outside, c.Interrupted
	return run, nil
}

// journal is that of a run in our hands.
type journal struct {
	*store.RunJournal
	fresh    bool           // it cannot have entries yet
	progress []engine.Write // with the next entry: the run has got further
	further  func()         // told once that it has
	answered func()         // told where there may be an answer
}

// Entries implements engine.Journal.
func (j *journal) Entries(ctx context.Context, pass int, step uint16, rounds item.Rounds, addresses []item.Address) ([]*engine.Entry, error) {
	if j.fresh {
		return nil, nil
	}
	return j.RunJournal.Entries(ctx, pass, step, rounds, addresses)
}

// Page implements engine.Journal.
func (j *journal) Page(ctx context.Context, k engine.Key) (*engine.Entry, error) {
	if j.fresh {
		return nil, nil
	}
	return j.RunJournal.Page(ctx, k)
}

// Append implements engine.Journal.
func (j *journal) Append(ctx context.Context, e *engine.Entry, writes ...engine.Write) (*engine.Entry, error) {
	stands, err := j.RunJournal.Append(ctx, e, append(writes, j.progress...)...)
	if err == nil && j.further != nil {
		j.further()
	}
	for _, w := range writes {
		if _, answers := w.(engine.Answers); answers && err == nil {
			j.answered()
		}
	}
	return stands, err
}

// unprepared ends a run that could not even be made ready.
func (n *Node) unprepared(ctx context.Context, l *lease, c store.Claimed, err error) {
	switch {
	case ctx.Err() != nil || errors.Is(err, engine.ErrDropped):
		n.let(l, c)
	case errors.Is(err, engine.ErrHandover):
		n.end(l, c, &store.End{State: engine.Queued, Total: -1}, nil)
	case store.IsUnavailable(err):
		n.end(l, c, ours(), err)
	default:
		n.end(l, c, &store.End{State: engine.FailedRun, Message: err.Error(), Total: -1}, nil)
	}
}

// ours lets a run wait for us: something on our side does not work.
func ours() *store.End {
	wake := time.Now().Add(oursAgain)
	return &store.End{State: engine.WaitingOn, Reason: call.ReasonOurs, Wake: &wake, Total: -1, Message: "Something on our own side does not work. It is tried again by itself, and nothing is lost."}
}

// oursAgain is after how long a run that waits for us is tried again.
const oursAgain = 10 * time.Minute

// ended writes how an execution ended.
func (n *Node) ended(ctx context.Context, l *lease, c store.Claimed, pages *runs.Pages, res *engine.Result, err error) {
	var content *store.ContentError
	switch {
	case errors.Is(err, engine.ErrHandover):
		n.end(l, c, &store.End{State: engine.Queued, Total: -1}, nil)
		return
	case err != nil && (ctx.Err() != nil || errors.Is(err, engine.ErrDropped) || errors.Is(err, store.ErrClosed)):
		n.let(l, c) // whoever took it over goes on
		return
	case errors.As(err, &content):
		n.end(l, c, &store.End{State: engine.FailedRun, Total: -1, Message: "What a step gave cannot be stored: " + content.Err.Error()}, nil)
		return
	case err != nil:
		n.end(l, c, ours(), err)
		return
	}
	end := &store.End{State: res.State, Message: res.Reason, Total: -1}
	var cause error
	if end.Pages, cause = pages.Rest(); cause == nil {
		end.Counts, cause = json.Marshal(res.Counts)
	}
	if cause != nil {
		n.end(l, c, ours(), cause)
		return
	}
	end.Whole = pages.Total() >= 0
	if c.Claim > 1 { // an earlier execution may have written more
		end.Total = pages.Total()
	}
	if p := res.Parked; p != nil {
		end.Reason, end.Connection, end.Message, cause = p.Reason, p.Connection, p.Message, p.Cause
		if !p.Until.IsZero() {
			end.Wake = &p.Until
		}
		if p.Reason == call.ReasonConnection && n.Worlds.Mended(ctx, c.Workspace, p.Connection) {
			end.State = engine.Queued // it was mended while the run ended
		}
	}
	n.end(l, c, end, cause)
}

// end hands in how a run ended and frees its place; it stays in the register
// until that is durable. Cause is a fault of ours, for the log.
func (n *Node) end(l *lease, c store.Claimed, e *store.End, cause error) {
	e.Workspace, e.Run, e.Workflow, e.Pass, e.Claim, e.Line = c.Workspace, c.Run, c.Workflow, c.Pass, c.Claim, c.Line
	e.Message, e.Label = item.StorableText(e.Message), item.StorableText(e.Label)
	if e.Reason == call.ReasonOurs {
		n.Log.Error("a run waits for a fault of ours to be mended", "run", c.Run, "error", cause)
	}
	l.register.set(c.Run, c.Claim, ending)
	err := l.committer.End(e, func(applied bool, err error) {
		switch {
		case err == nil || errors.Is(err, store.ErrFenced):
			n.let(l, c)
		case e.Reason == call.ReasonOurs && e.Pages == nil: // it holds nothing that could be refused
			n.Log.Error("a run's end could not be written; it goes back to the queue", "run", c.Run, "error", err)
			n.let(l, c)
		default:
			n.Log.Error("a run's end is refused by the database", "run", c.Run, "error", err)
			go n.end(l, c, ours(), err)
		}
	})
	if err != nil { // the writer is closed: the session's end gives the run back
		n.let(l, c)
	}
}

// let lets go of a run that is not in our hands any more, however that came.
func (n *Node) let(l *lease, c store.Claimed) {
	l.register.remove(c.Run, c.Claim)
	n.Events.Ended(c.Run)
	n.awaited.stir(c.Run)
}
