package node

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"github.com/google/uuid"

	"youngtrellis/internal/core/engine"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
	"youngtrellis/internal/store"
)

// clock is the real one.
type clock struct{}

func (clock) Now() time.Time { return time.Now() }
func (clock) Sleep(ctx context.Context, d time.Duration) error {
	sleep(ctx, d)
	return ctx.Err()
}

// execute carries out the newest pass of a claimed run to its end, or until it
// waits, is handed over, or the lease is lost.
func (n *Node) execute(l *lease, c store.Claimed) {
	run, err := n.prepare(l.ctx, c)
	if err == nil && c.Takeovers > 0 {
		err = l.committer.Adopt(l.ctx, c.Workspace, c.Run)
	}
	end := &store.End{Workspace: c.Workspace, Run: c.Run}
	if err == nil && c.Takeovers > store.MaxTakeovers {
		err = errors.New("the run was taken over three times without getting any further; it seems to stop the nodes that carry it out")
	}
	if err != nil {
		if errors.Is(err, store.ErrFenced) {
			return // whoever took over goes on
		}
		if l.ctx.Err() == nil && !store.IsUnavailable(err) {
			end.State, end.Message = engine.FailedRun, err.Error()
			n.finish(l, end, c)
		} else {
			n.putBack(l, c)
		}
		return
	}
	journal := &store.RunJournal{Store: n.Store, Committer: l.committer, Workspace: c.Workspace, Run: c.Run}
	switch {
	case c.Fresh != nil:
		run.Journal = fresh{journal}
	case c.Takeovers == 0:
		run.Journal = journal
	default:
		run.Journal = &progressing{RunJournal: journal, advanced: func() { n.Store.ForgetTakeovers(l.ctx, c.Workspace, c.Run) }}
	}
	run.Caller = &caller{node: n, lease: l, workspace: c.Workspace, run: c.Run}
	index := &latticeWriter{lease: l, workspace: c.Workspace, run: c.Run}
	run.Lattice = index
	run.Progress = func(counts engine.Counts) { n.Events.publish(c.Run, counts) }
	n.running.Store(c.Run, run)

	began := time.Now()
	res, err := run.Execute(l.ctx)
	switch {
	case errors.Is(err, engine.ErrHandover):
		n.putBack(l, c)
		return
	case err != nil && (l.ctx.Err() != nil || errors.Is(err, store.ErrFenced)):
		return // whoever took over goes on
	case err != nil && store.IsUnavailable(err):
		n.Log.Warn("the database went away during a run; it goes on when it is back", "run", c.Run, "error", err)
		n.putBack(l, c)
		return
	case err != nil:
		end.State, end.Message = engine.FailedRun, err.Error()
	default:
		res.Counts.Took = time.Since(began)
		end.State, end.Message = res.State, res.Reason
		if end.Counts, err = json.Marshal(res.Counts); err != nil {
			n.Log.Error("counts", "error", err)
		}
		if p := res.Parked; p != nil {
			end.Reason, end.Connection, end.Message = p.Reason, p.Connection, p.Message
			if !p.Until.IsZero() {
				end.Wake = &p.Until
			}
			if p.Reason == engine.ReasonConnection && n.mended(l.ctx, c.Workspace, p.Connection) {
				end.State = engine.Queued // it was mended while the run ended
			}
		}
	}
	end.Label, end.Pages = index.label, index.rest()
	n.finish(l, end, c)
}

func (n *Node) finish(l *lease, end *store.End, c store.Claimed) {
	if err := l.committer.End(l.ctx, end); err != nil && l.ctx.Err() == nil {
		n.Log.Error("a run's end could not be written", "run", c.Run, "error", err)
	}
	n.Events.ended(c.Run)
}

// putBack gives a run back to the queue.
func (n *Node) putBack(l *lease, c store.Claimed) {
	err := l.committer.End(l.ctx, &store.End{Workspace: c.Workspace, Run: c.Run, State: engine.Queued})
	if err != nil && l.ctx.Err() == nil {
		n.Log.Warn("a run could not be put back; its session's end will do it", "run", c.Run, "error", err)
	}
}

func (n *Node) mended(ctx context.Context, workspace uuid.UUID, name string) bool {
	c, err := n.Store.ConnectionForRun(ctx, workspace, name)
	return err == nil && c.State == "ok"
}

// progressing tells once when a run taken over gets further.
type progressing struct {
	*store.RunJournal
	once     sync.Once
	advanced func()
}

func (p *progressing) Append(ctx context.Context, e *engine.Entry) error {
	err := p.RunJournal.Append(ctx, e)
	if err == nil {
		p.once.Do(p.advanced)
	}
	return err
}

// prepare makes a claimed run ready. One that was accepted here a moment ago is
// known whole and is not read back; it has no entries yet.
func (n *Node) prepare(ctx context.Context, c store.Claimed) (*engine.Run, error) {
	if c.Fresh == nil {
		return n.Replay(ctx, c.Workspace, c.Run)
	}
	plan, err := n.Plan(ctx, c.Workspace, c.Workflow, c.Fresh.Revision)
	if err != nil {
		return nil, err
	}
	return &engine.Run{Passes: []engine.Pass{{Number: 1, Plan: plan}}, Source: store.StartItems{Start: c.Fresh}, Clock: clock{},
		Facts: workflow.RunFacts{ID: c.Run.String(), Started: c.Fresh.Accepted.UTC(), Workflow: plan.Workflow.Name}}, nil
}

// fresh is the journal of a run that cannot have entries yet.
type fresh struct{ *store.RunJournal }

func (fresh) Entries(context.Context, int, uint16, []item.Address) ([]*engine.Entry, error) {
	return nil, nil
}

func (fresh) Page(context.Context, engine.Key) (*engine.Entry, error) { return nil, nil }

// Replay prepares a run for reading: its passes, journal and source. It sends
// nothing and writes nothing.
func (n *Node) Replay(ctx context.Context, workspace, id uuid.UUID) (*engine.Run, error) {
	passes, err := n.Store.Passes(ctx, workspace, id)
	if err != nil {
		return nil, err
	}
	if len(passes) == 0 {
		return nil, store.ErrNotFound
	}
	journal := &store.RunJournal{Store: n.Store, Workspace: workspace, Run: id}
	r := &engine.Run{Journal: journal, Source: store.TriggerItems{RunJournal: journal}, Clock: clock{}, Caller: &caller{node: n, workspace: workspace}}
	for _, p := range passes {
		plan, err := n.Plan(ctx, workspace, p.Workflow, p.Revision)
		if err != nil {
			return nil, err
		}
		r.Passes = append(r.Passes, engine.Pass{Number: p.Number, Plan: plan, Only: chosen(p)})
	}
	r.Facts = workflow.RunFacts{ID: id.String(), Started: passes[0].Started.UTC(), Workflow: r.Passes[0].Plan.Workflow.Name}
	return r, nil
}

func chosen(p store.Pass) func(item.Address) bool {
	if p.Kind != "retry" {
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

// StoredRow is a row of the lattice as its page keeps it.
type StoredRow struct {
	Address string        `json:"a"`
	Label   string        `json:"l,omitempty"`
	Cells   []engine.Cell `json:"c"`
}

const pageRows = 256

// latticeWriter gathers rows into pages.
type latticeWriter struct {
	lease          *lease
	workspace, run uuid.UUID
	pass           int
	page, first    int
	rows           []StoredRow
	label          string
}

// Rows implements engine.Lattice.
func (w *latticeWriter) Rows(ctx context.Context, pass int, rows []engine.Row) error {
	w.pass = pass
	for _, r := range rows {
		if w.label == "" && r.Item.Parent == nil { // a run is called after what started it
			w.label = r.Label
		}
		w.rows = append(w.rows, StoredRow{r.Address.String(), r.Label, r.Cells})
		if len(w.rows) == pageRows {
			if err := w.lease.committer.Lattice(ctx, w.cut()); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *latticeWriter) cut() *store.LatticePage {
	fates := map[engine.Fate]int{}
	for _, r := range w.rows {
		fates[EndFate(r.Cells)]++
	}
	f, _ := json.Marshal(fates)
	body, _ := json.Marshal(w.rows)
	p := &store.LatticePage{Workspace: w.workspace, Run: w.run, Pass: w.pass, Page: w.page, FirstRow: w.first, Count: len(w.rows), Fates: f, Body: store.Pack(body)}
	w.page++
	w.first += len(w.rows)
	w.rows = nil
	return p
}

// rest gives the last, unfinished page.
func (w *latticeWriter) rest() []*store.LatticePage {
	if len(w.rows) == 0 {
		return nil
	}
	return []*store.LatticePage{w.cut()}
}

// EndFate is where a row ended: the fate of its last cell that was reached.
func EndFate(cells []engine.Cell) engine.Fate {
	for i := len(cells) - 1; i >= 0; i-- {
		if cells[i].Fate != engine.NotReached {
			return cells[i].Fate
		}
	}
	return engine.NotReached
}

// Rehearsal is what a rehearsal gave.
type Rehearsal struct {
	Rows    []engine.Row
	Counts  engine.Counts
	State   engine.State
	Message string
	Memory  *engine.Memory
	Run     *engine.Run
}

// Rehearse runs a plan on samples. Reads are real; writes are prepared and
// answered with their declared samples. Nothing is stored.
func (n *Node) Rehearse(ctx context.Context, workspace uuid.UUID, plan *workflow.Plan, samples []map[string]any) (*Rehearsal, error) {
	m := &engine.Memory{Items: samples}
	facts := workflow.RunFacts{ID: "rehearsal", Started: time.Now().UTC().Truncate(time.Microsecond), Workflow: plan.Workflow.Name}
	r := &engine.Run{Facts: facts, Passes: []engine.Pass{{Number: 1, Plan: plan}}, Source: engine.MemorySource{Memory: m}, Journal: engine.MemoryJournal{Memory: m},
		Caller: &caller{node: n, workspace: workspace, rehearsal: true}, Clock: clock{}, Lattice: m, Rehearse: true}
	res, err := r.Execute(ctx)
	if err != nil {
		return nil, err
	}
	out := &Rehearsal{Rows: m.Seen, Counts: res.Counts, State: res.State, Message: res.Reason, Memory: m, Run: r}
	if res.Parked != nil {
		out.Message = res.Parked.Message
	}
	return out, nil
}
