package runs

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// Further is a further pass of a run that somebody has in view.
type Further struct {
	Kind     string            // resume or retry
	Revision int               // 0: the run's own
	Moves    map[string]string // at which step items go on: old name to new
	Items    []item.Address    // of a retry; nil for all that are set aside
}

func (f Further) key(run uuid.UUID) string { return fmt.Sprintf("%s %+v", run, f) }

// pass is the further pass as the engine knows it.
func (f Further) pass(plan *workflow.Plan) engine.Pass {
	p := engine.Pass{Plan: plan, At: f.Moves, Aside: f.Kind == "retry" && f.Items == nil}
	if f.Items != nil {
		chosen := map[item.Address]bool{}
		for _, a := range f.Items {
			chosen[a] = true
		}
		p.Only = func(a item.Address) bool { return chosen[a] }
	}
	return p
}

// Onward is the plan of a further pass: what is open, where it would go on, and
// why it cannot.
type Onward struct {
	Revision int
	Plan     *workflow.Plan // with which the items would go on
	From     *workflow.Plan // with which they stopped
	Open     int            // what a resume takes up
	SetAside int
	InDoubt  int
	Steps    []Standing
	Items    []engine.Open // the first hundred
	Chosen   []engine.Open // those of a retry that were named
	Refusals []engine.Refusal
	Late     []string
	Changes  []workflow.Change // of the plan since the items stopped
}

// Standing is how many items stand at a step.
type Standing struct {
	Step, Into string
	Count      int
}

// ErrPlanning says that a plan is being made still.
var ErrPlanning = errors.New("the plan is being made")

// Planner makes plans, one for each wish, and keeps them for a while. Those of
// large runs go on when their caller has gone away. Close ends them.
type Planner struct {
	*Reader

	mu     sync.Mutex // protects the following fields
	made   map[string]*planning
	closed bool
	work   sync.WaitGroup
	stop   context.CancelFunc
	ctx    context.Context
}

type planning struct {
	looked atomic.Int64
	done   chan struct{} // closed when the following fields are set
	onward *Onward
	err    error
	until  time.Time
}

// NewPlanner makes one without plans.
func NewPlanner(r *Reader) *Planner {
	p := &Planner{Reader: r, made: map[string]*planning{}}
	p.ctx, p.stop = context.WithCancel(context.Background())
	return p
}

// Close gives up the plans that are being made.
func (p *Planner) Close() {
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	p.stop()
	p.work.Wait()
}

// planKept is how long a plan is good: nothing else can change a run that has
// ended, but its workflow can.
const planKept = time.Minute

// Plan gives a plan, or ErrPlanning with how many items were looked at, where
// that takes longer than patience.
func (p *Planner) Plan(ctx context.Context, workspace uuid.UUID, r store.Run, f Further, patience time.Duration) (*Onward, int, error) {
	key := fmt.Sprintf("%s %d %s", f.key(r.ID), r.Pass, r.State)
	p.mu.Lock()
	m := p.made[key]
	if m == nil {
		if p.closed {
			p.mu.Unlock()
			return nil, 0, context.Canceled
		}
		m = p.begin(workspace, r, f, key)
	}
	p.mu.Unlock()
	wait := time.NewTimer(patience)
	defer wait.Stop()
	select {
	case <-m.done:
		return m.onward, int(m.looked.Load()), m.err
	case <-wait.C:
		return nil, int(m.looked.Load()), ErrPlanning
	case <-ctx.Done():
		return nil, 0, context.Cause(ctx)
	}
}

// begin makes a plan in the background. The mutex is held.
func (p *Planner) begin(workspace uuid.UUID, r store.Run, f Further, key string) *planning {
	now := time.Now()
	maps.DeleteFunc(p.made, func(_ string, m *planning) bool { return !m.until.IsZero() && m.until.Before(now) })
	m := &planning{done: make(chan struct{})}
	p.made[key] = m
	p.work.Go(func() {
		onward, err := p.make(p.ctx, workspace, r, f, &m.looked)
		p.mu.Lock()
		m.until = time.Now().Add(planKept)
		if err != nil {
			delete(p.made, key)
		}
		p.mu.Unlock()
		m.onward, m.err = onward, err
		close(m.done)
	})
	return m
}

// mostListed is how many items a plan lists.
const mostListed = 100

func (p *Planner) make(ctx context.Context, workspace uuid.UUID, r store.Run, f Further, looked *atomic.Int64) (*Onward, error) {
	run, err := p.Run(ctx, workspace, r.ID)
	if err != nil {
		return nil, err
	}
	out := &Onward{Revision: f.Revision, From: run.Passes[len(run.Passes)-1].Plan}
	if out.Revision == 0 {
		out.Revision = r.Revision
	}
	if out.Plan, err = p.Plans.Plan(ctx, workspace, r.Workflow, out.Revision); err != nil {
		return nil, err
	}
	if out.Revision != r.Revision {
		out.Changes = workflow.Diff(out.From.Workflow, out.Plan.Workflow, out.Plan.Catalog)
	}
	index, pass := map[string]int{}, f.pass(out.Plan)
	seen, err := run.Onward(ctx, pass, func(o engine.Open) error {
		if looked != nil {
			looked.Add(1)
		}
		if pass.Only != nil && pass.Only(o.Address) {
			out.Chosen = append(out.Chosen, o)
		}
		switch o.Outcome {
		case engine.SetAside:
			out.SetAside++
		case engine.Unknown:
			out.InDoubt++
		default:
			out.Open++
		}
		i, ok := index[o.Step]
		if !ok {
			i, index[o.Step] = len(out.Steps), len(out.Steps)
			out.Steps = append(out.Steps, Standing{Step: o.Step, Into: o.Into})
		}
		out.Steps[i].Count++
		if len(out.Items) < mostListed {
			out.Items = append(out.Items, o)
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	out.Refusals, out.Late = seen.Refusals, seen.Late
	return out, nil
}

// Refused words why a pass cannot be begun; "" if it can.
func (o *Onward) Refused() string {
	if len(o.Refusals) == 0 {
		return ""
	}
	text := ""
	for _, r := range o.Refusals {
		text += words.Sentence(fmt.Sprintf("%s stopped at %s: %s", words.Count(r.Items, "item"), r.Step, r.Why)) + " "
	}
	return text + "Or go on with the revision that they began with."
}
