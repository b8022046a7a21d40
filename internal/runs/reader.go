// Package runs reads runs: what they did, item by item, what is open in them,
// and how they go at the moment.
package runs

import (
	"context"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/connections"
	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
	"youngtrellis/internal/workflows"
)

// Clock is the real one.
type Clock struct{}

// Now implements engine.Clock.
func (Clock) Now() time.Time { return time.Now() }

// Sleep implements engine.Clock.
func (Clock) Sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-t.C:
		return nil
	}
}

// Reader prepares runs: to read them, or for whoever carries them out.
type Reader struct {
	Store       *store.Store
	Plans       *workflows.Plans
	Connections *connections.Service
	Lists       *Lists
}

// Outside gives what a run reaches outside through; owner is nil where nothing
// of it is carried out.
func (r *Reader) Outside(workspace, run uuid.UUID, owner connections.Owner) *connections.Run {
	return &connections.Run{Service: r.Connections, Workspace: workspace, ID: run, Owner: owner}
}

// Run prepares a run for reading: its passes, journal and source. It sends
// nothing and writes nothing.
func (r *Reader) Run(ctx context.Context, workspace, id uuid.UUID) (*engine.Run, error) {
	passes, err := r.Store.Passes(ctx, workspace, id)
	if err != nil {
		return nil, err
	}
	if len(passes) == 0 {
		return nil, store.ErrNotFound
	}
	journal := &store.RunJournal{Store: r.Store, Workspace: workspace, Run: id}
	outside := r.Outside(workspace, id, nil)
	run := &engine.Run{World: engine.World{Journal: journal, Source: &store.TriggerItems{RunJournal: journal}, Clock: Clock{}, Connections: outside, Callbacks: outside, Sealer: outside, Lists: r.Lists.Of(workspace)}}
	for _, p := range passes {
		plan, err := r.Plans.Plan(ctx, workspace, p.Workflow, p.Revision)
		if err != nil {
			return nil, err
		}
		next := engine.Pass{Number: p.Number, Plan: plan, Only: chosen(p), Aside: p.Kind == "retry" && p.Chosen == nil, At: p.Moves, Mended: p.Mended}
		if n := len(run.Passes); n > 0 {
			next.From = run.Passes[n-1].Plan
		}
		run.Passes = append(run.Passes, next)
	}
	run.AtFirst = passes[0].AtFirst
	run.Facts = facts(id, passes[0].Started, run.Passes[0].Plan)
	return run, nil
}

// Fresh prepares the first pass of a run that nobody has carried out before: it
// has no entries but its items.
func (r *Reader) Fresh(ctx context.Context, c store.Claimed) (*engine.Run, error) {
	plan, err := r.Plans.Plan(ctx, c.Workspace, c.Workflow, c.Revision)
	if err != nil {
		return nil, err
	}
	journal := &store.RunJournal{Store: r.Store, Workspace: c.Workspace, Run: c.Run}
	return &engine.Run{Spec: engine.Spec{Passes: []engine.Pass{{Number: 1, Plan: plan}}, Facts: facts(c.Run, c.Accepted, plan), AtFirst: c.AtFirst}, World: engine.World{Source: &store.TriggerItems{RunJournal: journal, First: c.First, Decoded: c.Decoded, Whole: c.Whole}, Journal: journal, Clock: Clock{}, Lists: r.Lists.Of(c.Workspace)}}, nil
}

func facts(id uuid.UUID, started time.Time, plan *workflow.Plan) workflow.RunFacts {
	return workflow.RunFacts{ID: id.String(), Started: started.UTC(), Workflow: plan.Workflow.Name}
}

func chosen(p store.Pass) func(item.Address) bool {
	if p.Kind != "retry" || p.Chosen == nil {
		return nil
	}
	set := map[item.Address]bool{}
	for _, s := range p.Chosen {
		if a, err := item.ParseAddress(s); err == nil {
			set[a] = true
		}
	}
	return func(a item.Address) bool { return set[a] }
}

// Rehearsal is what a rehearsal gave, as it may be seen.
type Rehearsal struct {
	Rows    []engine.Row
	Counts  engine.Counts
	State   engine.State
	Message string
	Memory  *engine.Memory
	Run     *engine.Run
}

// Rehearse runs a plan on samples. Reads are real, and recorded; writes are
// prepared and answered with their declared samples. Nothing is stored.
func (r *Reader) Rehearse(ctx context.Context, workspace uuid.UUID, plan *workflow.Plan, samples []map[string]any) (*Rehearsal, *engine.Recording, error) {
	made := engine.NewRecording(time.Now().UTC().Truncate(time.Microsecond))
	outside := &connections.Run{Service: r.Connections, Workspace: workspace, Rehearsal: true}
	got, err := r.rehearse(ctx, workspace, plan, samples, made.Started, made.Of(outside), Clock{})
	return got, made, err
}

// Follow computes a rehearsal anew from what an earlier one has read. Nothing is
// asked of anybody; what was not read waits.
func (r *Reader) Follow(ctx context.Context, workspace uuid.UUID, plan *workflow.Plan, samples []map[string]any, from *engine.Recording) (*Rehearsal, error) {
	known := connections.Known{Service: r.Connections, Workspace: workspace}
	return r.rehearse(ctx, workspace, plan, samples, from.Started, from.Replay(known), from.Clock())
}

func (r *Reader) rehearse(ctx context.Context, workspace uuid.UUID, plan *workflow.Plan, samples []map[string]any, started time.Time, outside engine.Connections, clock engine.Clock) (*Rehearsal, error) {
	m := &engine.Memory{Items: samples}
	run := &engine.Run{
		Spec:  engine.Spec{Facts: workflow.RunFacts{ID: "rehearsal", Started: started, Workflow: plan.Workflow.Name}, Passes: []engine.Pass{{Number: 1, Plan: plan}}, Rehearse: true},
		World: engine.World{Source: engine.MemorySource{Memory: m}, Journal: engine.MemoryJournal{Memory: m}, Connections: outside, Clock: clock, Lattice: m, Lists: r.Lists.Of(workspace)},
	}
	res, err := run.Execute(ctx, nil)
	if err != nil {
		return nil, err
	}
	m.Hide(res.Secrets)
	out := &Rehearsal{Rows: m.Seen, Counts: res.Counts, State: res.State, Message: res.Reason, Memory: m, Run: run}
	if res.Parked != nil && res.Parked.Reason != call.ReasonUnread {
		out.Message = res.Parked.Message
	}
	return out, nil
}
