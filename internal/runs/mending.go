package runs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// Mender does what people want done with items that wait for them: it begins a
// further pass of one run after the other. Every node has one; each run is begun
// by one of them. Close ends it.
type Mender struct {
	*Planner
	Log *slog.Logger

	nudge chan struct{}
	stop  context.CancelFunc
	work  sync.WaitGroup
}

// NewMender makes one that looks for work by itself.
func NewMender(p *Planner, log *slog.Logger) *Mender {
	m := &Mender{Planner: p, Log: log, nudge: make(chan struct{}, 1)}
	ctx, stop := context.WithCancel(context.Background())
	m.stop = stop
	m.work.Go(func() { m.keep(ctx) })
	return m
}

// Close ends it; what it has not begun another node begins.
func (m *Mender) Close() {
	m.stop()
	m.work.Wait()
}

// mendEvery is how often work is looked for that nobody told of.
const mendEvery = time.Second

func (m *Mender) keep(ctx context.Context) {
	tick := time.NewTicker(mendEvery)
	defer tick.Stop()
	for {
		for {
			found, err := m.Store.NextPending(ctx, m.begin)
			if err != nil && ctx.Err() == nil && !store.IsUnavailable(err) {
				m.Log.Error("a mending does not get on", "error", err)
			}
			if err != nil || !found {
				break
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-m.nudge:
		}
	}
}

// Nudge lets it look at once.
func (m *Mender) Nudge() {
	select {
	case m.nudge <- struct{}{}:
	default:
	}
}

// begin makes the further pass of one run.
func (m *Mender) begin(ctx context.Context, p *store.Pending) (store.Pass, error) {
	pass := store.Pass{Kind: "retry"}
	r, live, err := p.Line(ctx)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return pass, &store.Refused{Why: "the run is in a further pass already"}
	case err != nil:
		return pass, err
	case r.State == string(engine.Cancelled):
		return pass, &store.Refused{Why: "the run was cancelled, and that is final"}
	}
	if pass.Revision = r.Revision; p.Newest {
		pass.Revision = live
	}
	known, err := p.Aside(ctx)
	if err != nil {
		return pass, err
	}
	f := Further{Kind: "retry", Revision: pass.Revision}
	for _, a := range p.Addresses {
		if x, ok := known[a]; ok && (p.What != store.MendConfirm || x.Kind == string(engine.MayBeSent)) {
			f.Items = append(f.Items, a)
			pass.Chosen = append(pass.Chosen, a.String())
		}
	}
	if len(f.Items) == 0 {
		return pass, &store.Refused{Why: "none of its items waits for anybody any more"}
	}
	if pass.Revision != r.Revision || len(p.Edits) > 0 {
		if err := m.allowed(ctx, p, r, f); err != nil {
			return pass, err
		}
	}
	pass.Entries, err = given(p, f.Items, known)
	return pass, err
}

// allowed refuses a pass that its items cannot go on with.
func (m *Mender) allowed(ctx context.Context, p *store.Pending, r store.Run, f Further) error {
	o, err := m.make(ctx, p.Workspace, r, f, nil)
	if err != nil {
		return err
	}
	if why := o.Refused(); why != "" {
		return &store.Refused{Why: why}
	}
	for _, x := range o.Chosen {
		if _, edited := p.Edits[x.Address.String()]; edited && x.Half {
			return &store.Refused{Why: fmt.Sprintf("the list of %s is half read for the item %s, so that it cannot be edited; retry it as it is", x.Step, x.Address)}
		}
	}
	return nil
}

// given are the entries that a person gave.
func given(p *store.Pending, items []item.Address, known map[item.Address]store.Aside) ([]*engine.Entry, error) {
	var out []*engine.Entry
	now := time.Now().UTC().Truncate(time.Microsecond)
	for _, a := range items {
		k := engine.Key{Step: known[a].Step, Rounds: known[a].Rounds, Address: a}
		if p.What == store.MendConfirm {
			out = append(out, engine.Confirmed(k, p.By, now))
			continue
		}
		given, ok := p.Edits[a.String()]
		if !ok {
			continue
		}
		edit, err := editOf(given)
		if err != nil {
			return nil, &store.Refused{Why: "the fields of " + a.String() + " cannot be those of an item: " + err.Error()}
		}
		edit.By, edit.At = p.By, now
		e, err := edit.Entry(k)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// editOf reads an edit.
func editOf(x store.ItemEdit) (out engine.Edit, err error) {
	if len(x.Fields) > 0 {
		out.Fields, err = item.DecodeObject(x.Fields)
		return out, err
	}
	if out.Unset = x.Unset; len(x.Set) > 0 {
		out.Set, err = item.DecodeObject(x.Set)
	}
	return out, err
}

// Wish is what somebody wants done with items that wait for them: with those that
// a filter finds, or with single ones.
type Wish struct {
	What   string
	Newest bool
	Where  store.AsideFilter
	Only   map[uuid.UUID]store.MendingRun // instead of Where
}

// Mended is the plan of a wish: what would happen, run by run.
type Mended struct {
	Items, Runs int
	Looked      int // runs that were looked at
	Steps       []StandingAt
	Late        []string
	Refusals    []string
	Changes     []workflow.Change
}

// StandingAt is how many items would go on at a step of a workflow.
type StandingAt struct {
	Workflow string
	Step     string
	Sentence string
	Writes   bool
	Count    int
}

// lookMost is at how many runs a plan looks.
const lookMost = 10

// PlanWish tells what would happen. It looks at the first runs only; the others
// of the same workflows are like them.
func (m *Mender) PlanWish(ctx context.Context, sc store.Scope, w Wish) (*Mended, error) {
	out := &Mended{}
	byRun, order, err := m.chosen(ctx, sc, w, out)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	once := func(list *[]string, text string) {
		if !seen[text] {
			seen[text] = true
			*list = append(*list, text)
		}
	}
	steps := map[string]int{}
	for _, run := range order[:min(len(order), lookMost)] {
		r, err := m.Store.Run(ctx, sc, run)
		if err != nil {
			return nil, err
		}
		f := Further{Kind: "retry", Items: byRun[run]}
		if w.Newest {
			wf, err := m.Store.WorkflowByID(ctx, sc, r.Workflow)
			if err != nil {
				return nil, err
			}
			if f.Revision = r.Revision; wf.Live != nil {
				f.Revision = *wf.Live
			}
		}
		o, _, err := m.Plan(ctx, sc.Workspace(), r, f, planEach)
		if errors.Is(err, ErrPlanning) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out.Looked++
		for _, x := range o.Chosen {
			key := r.Name + "/" + x.Step
			i, ok := steps[key]
			if !ok {
				i = len(out.Steps)
				steps[key] = i
				at := StandingAt{Workflow: r.Name, Step: x.Into}
				if s := o.Plan.Step(x.Into); s != nil {
					at.Sentence, at.Writes = o.Plan.Catalog.Sentence(s.Step), s.Writes()
				}
				out.Steps = append(out.Steps, at)
			}
			out.Steps[i].Count++
		}
		for _, l := range o.Late {
			once(&out.Late, l)
		}
		for _, x := range o.Refusals {
			once(&out.Refusals, words.Sentence(fmt.Sprintf("%s stopped at %s: %s", words.Count(x.Items, "item"), x.Step, x.Why)))
		}
		if out.Changes == nil {
			out.Changes = o.Changes
		}
	}
	return out, nil
}

// planEach is how long the plan of one run is waited for.
const planEach = 2 * time.Second

// chosen finds the items of a wish, by run.
func (m *Mender) chosen(ctx context.Context, sc store.Scope, w Wish, out *Mended) (map[uuid.UUID][]item.Address, []uuid.UUID, error) {
	byRun, order := map[uuid.UUID][]item.Address{}, []uuid.UUID{}
	if w.Only != nil {
		for run, r := range w.Only {
			byRun[run], order = r.Addresses, append(order, run)
			out.Items += len(r.Addresses)
		}
		out.Runs = len(order)
		return byRun, order, nil
	}
	var err error
	if out.Items, out.Runs, err = m.Store.AsideCount(ctx, sc, w.Where); err != nil {
		return nil, nil, err
	}
	f := w.Where
	f.Limit = 10_000
	list, err := m.Store.AsideItems(ctx, sc, f)
	for _, a := range list {
		if byRun[a.Run] == nil {
			order = append(order, a.Run)
		}
		byRun[a.Run] = append(byRun[a.Run], a.Address)
	}
	return byRun, order, err
}

// Begin makes a mending and begins it. It gives how many items and runs it has.
func (m *Mender) Begin(ctx context.Context, sc store.Scope, w Wish) (id uuid.UUID, items, runs int, err error) {
	x := &store.Mending{What: w.What, Newest: w.Newest}
	items, runs, err = m.Store.Mend(ctx, sc, x, w.Where, w.Only)
	m.Nudge()
	return x.ID, items, runs, err
}

// Cancel lets nothing more of a mending begin; what has begun goes on to its end.
func (m *Mender) Cancel(ctx context.Context, sc store.Scope, id uuid.UUID) error {
	under, err := m.Store.CancelMending(ctx, sc, id)
	if err == nil && len(under) > 0 {
		err = m.Store.Halt(ctx, sc, under...)
	}
	return err
}
