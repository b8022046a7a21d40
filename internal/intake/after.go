package intake

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/store"
)

// OutcomeStore remembers which passes have ended that workflows start after.
type OutcomeStore interface {
	ClaimOutcomes(ctx context.Context, most int, work func([]store.Outcome) []store.Outcome) (int, error)
}

// Afters is the source of runs that start after those of another workflow. What is to
// start is written with the end of a pass; each outcome of a pass starts one run,
// however many nodes look and whenever they die.
type Afters struct {
	*Intake
	Store OutcomeStore
	Log   *slog.Logger
}

var _ Source = (*Afters)(nil)

const (
	outcomesTogether = 250
	// outcomeLook is how often it is looked for what has ended.
	outcomeLook = 300 * time.Millisecond
	// outcomeKept is how long the key of such a start is kept: far longer than an
	// outcome waits after its start is durable.
	outcomeKept = 35 * 24 * time.Hour
)

// Run implements Source.
func (a *Afters) Run(ctx context.Context) {
	for ctx.Err() == nil {
		n, held, err := a.look(ctx)
		if err != nil && ctx.Err() == nil && !store.IsUnavailable(err) {
			a.Log.Error("what starts after another workflow could not be started", "error", err)
		}
		if err == nil && n == outcomesTogether && held == 0 {
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(outcomeLook):
		}
	}
}

// look starts what follows, and tells how many outcomes there were, and how many are
// held for later.
func (a *Afters) look(ctx context.Context) (n, held int, err error) {
	n, err = a.Store.ClaimOutcomes(ctx, outcomesTogether, func(list []store.Outcome) (done []store.Outcome) {
		started := make([]bool, len(list))
		var wg sync.WaitGroup
		for i, o := range list {
			wg.Go(func() { started[i] = a.follow(ctx, o) })
		}
		wg.Wait()
		for i, o := range list {
			if started[i] {
				done = append(done, o)
			} else {
				held++
			}
		}
		return done
	})
	return n, held, err
}

// follow starts the run that follows an outcome; false: it could not, and is to start
// still.
func (a *Afters) follow(ctx context.Context, o store.Outcome) bool {
	refuse := func(why string) bool {
		h := store.Hook{Workspace: o.Workspace, Workflow: o.Workflow}
		a.note(ctx, h, "refused", why, nil, excerpt{})
		return true
	}
	if o.Hops > triggers.MostHops {
		return refuse(fmt.Sprintf("run %s of %s is the last of %d that each started the next: what goes round ends here", o.Run, o.Name, triggers.MostHops+1))
	}
	plan, err := a.Plans.Plan(ctx, o.Workspace, o.Workflow, o.Live)
	switch {
	case store.IsUnavailable(err) || ctx.Err() != nil:
		return false
	case err != nil:
		return refuse("the live revision cannot be read any more; put it live again")
	case plan.Start.Follows == nil:
		return true // it starts by something else by now
	}
	at := now()
	s := &store.Start{Workspace: o.Workspace, Workflow: o.Workflow, Run: store.NewID(), Revision: o.Live, Hops: o.Hops, Accepted: at, Expires: at.Add(outcomeKept),
		Key: fmt.Sprintf("after %s pass %d %s", o.Run, o.Pass, o.State)}
	_, err = a.launch(ctx, s, plan, []map[string]any{plan.Start.Follows.Item(triggers.Ended{
		Workflow: o.Name, Title: o.Title, Run: o.Run.String(), Pass: o.Pass, State: o.State, Message: o.Message, Began: o.Began, Ended: o.Ended, Items: o.Counts.In, SetAside: o.Counts.SetAside,
	})})
	var refused *Refused
	if errors.As(err, &refused) && refused.After == 0 {
		return refuse(refused.Message)
	}
	return err == nil
}
