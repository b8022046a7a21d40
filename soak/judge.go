package main

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"

	api "youngtrellis/api/client"
	"youngtrellis/internal/ottermere"
)

// report is what was induced, and what held.
type report struct {
	settings
	began time.Time
	took  time.Duration

	mu      sync.Mutex // protects the following fields
	induced map[string]int
	held    []held
	wrong   []string
}

// held is something that must hold, of how many, and of how many it did not.
type held struct {
	what      string
	of, wrong int
}

func newReport(s settings) *report {
	return &report{settings: s, began: time.Now(), induced: map[string]int{}}
}

func (r *report) count(fault string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.induced[fault]++
}

// holds notes that something holds of so many, but for those.
func (r *report) holds(what string, of int, wrong []string) {
	r.held = append(r.held, held{what, of, len(wrong)})
	for _, w := range wrong {
		r.wrong = append(r.wrong, what+": not so: "+w)
	}
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// afterwards is within which time of everything being well the nodes have in
// hand whatever the database says they carry out.
const afterwards = 10 * time.Second

// reconciled compares, ten seconds after everything is well, what the database
// says is running with what the nodes have in hand. Events go on coming.
func (w *world) reconciled(ctx context.Context, r *report, well time.Time) error {
	for _, n := range w.nodes { // one that was paused may have to begin anew
		n.signal(syscall.SIGCONT)
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Until(well.Add(afterwards))):
	}
	type row struct {
		run   uuid.UUID
		claim int
	}
	running := func() (map[row]bool, error) {
		out := map[row]bool{}
		rows, err := w.pool.Query(ctx, "SELECT run_id, claim FROM live WHERE state = 'running'")
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		for rows.Next() {
			var x row
			if err := rows.Scan(&x.run, &x.claim); err != nil {
				return nil, err
			}
			out[x] = true
		}
		return out, rows.Err()
	}
	looked := 0
	var orphans []string
	for range 20 {
		before, err := running()
		if err != nil {
			return err
		}
		hands := map[row]bool{}
		for _, n := range w.nodes {
			got, err := ottermere.Answer[api.Node](n.client().ShowNode(ctx))
			if err != nil {
				return fmt.Errorf("%s does not say what it has in hand: %w", n.name, err)
			}
			for _, x := range got.Runs {
				hands[row{x.Run, x.Claim}] = true
			}
		}
		after, err := running()
		if err != nil {
			return err
		}
		for x := range before {
			looked++
			if after[x] && !hands[x] {
				orphans = append(orphans, fmt.Sprintf("run %s, claim %d", x.run, x.claim))
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	slices.Sort(orphans)
	r.holds("what is running is in a node's hands, 10 s after all is well", looked, slices.Compact(orphans))
	return nil
}

// stands is how long nothing has to end until what is under way is said to stand still.
const stands = 2 * time.Minute

// judge waits until nothing is under way, and compares everything with the twin.
func (w *world) judge(ctx context.Context, r *report) error {
	if err := w.rest(ctx); err != nil {
		r.holds("what is due by the clock starts", 1, []string{err.Error()})
		return nil
	}
	w.say("waiting until nothing is under way")
	deadline, left := time.Now().Add(stands), -1
	for {
		n, err := column[int](ctx, w, "SELECT (SELECT count(*) FROM live)::int + (SELECT count(*) FROM outcome)::int")
		if err == nil && n[0] == 0 {
			break
		}
		if err == nil && n[0] != left { // on a slow machine it takes long, but it goes on
			deadline, left = time.Now().Add(stands), n[0]
		}
		if time.Now().After(deadline) {
			list, _ := column[string](ctx, w, "SELECT run_id::text || ' ' || state || ' ' || reason || ' ' || message || ' wake ' || coalesce(wake::text, '') FROM live LIMIT 20")
			r.holds("everything comes to an end", 1, list)
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	runs := map[string][]uuid.UUID{} // by event
	rows, err := w.pool.Query(ctx, "SELECT label, run_id FROM run WHERE trigger = 'webhook'")
	if err != nil {
		return err
	}
	for rows.Next() {
		var label string
		var id uuid.UUID
		if err := rows.Scan(&label, &id); err != nil {
			return err
		}
		runs[label] = append(runs[label], id)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	w.say("%d events were accepted, and %d runs are there; comparing them with the twin", len(w.accepted), len(runs))
	var missing, doubled, told []string
	replied := 0
	for name := range w.accepted {
		if w.answers[name].reply != "" {
			replied++
		}
		if len(runs[name]) == 0 {
			missing = append(missing, name)
		} else if said := w.answers[name].run; said != "" && said != runs[name][0].String() {
			told = append(told, fmt.Sprintf("%s was told %s and is %s", name, said, runs[name][0]))
		}
	}
	for name, list := range runs {
		if len(list) > 1 {
			doubled = append(doubled, fmt.Sprintf("%s has %d runs", name, len(list)))
		}
	}
	if err := w.clocks(ctx, r); err != nil {
		return err
	}
	r.holds("whatever was accepted has a run", len(w.accepted), missing)
	r.holds("no event has two", len(runs), doubled)
	r.holds("callers were told the run that it is", len(w.accepted), told)
	var retold []string
	if w.retold > 0 {
		retold = append(retold, fmt.Sprintf("%d repeats were told something else", w.retold))
	}
	r.holds("a repeat is told the same", len(w.accepted), retold)
	w.say("%d callers were answered by their runs", replied)

	events := maps.Clone(w.accepted)
	maps.Copy(events, w.left)
	j := &judgement{world: w, done: map[string]int{}}
	for name, list := range runs {
		e, ok := events[name]
		if !ok {
			return fmt.Errorf("nobody has told of the event %q", name)
		}
		want, err := twin(ctx, e, w.documents[e.workflow])
		if err != nil {
			return err
		}
		got, err := w.outcome(ctx, list[0])
		if err != nil {
			return err
		}
		j.compare(e, list[0], got, want)
	}
	r.holds("every run ends as the twin's, but for what is in doubt", len(runs), j.ends)
	r.holds("every item does as the twin's, but for what is in doubt", j.items, j.differ)
	r.holds("what is known by its key happened once", j.keyedOf, j.keyed)
	r.holds("what is not happened once where it is said to have", j.onceOf, j.once)
	r.holds("what is in doubt happened once or never", j.doubtOf, j.doubt)
	w.side.mu.Lock()
	defer w.side.mu.Unlock()
	r.holds("in trees happened what did in the twin's, as often", len(j.done), j.trees())
	r.holds("no key came with two contents", len(w.side.keys), make([]string, w.side.clashes))
	r.induced["(keys that came again, and were known)"] = w.side.repeats
	for name, n := range w.side.faults {
		r.induced["the other side: "+name] = n
	}
	return nil
}

// outcome reads how a run ended, and how each of its items did.
func (w *world) outcome(ctx context.Context, id uuid.UUID) (*outcome, error) {
	c := w.nodes[0].client()
	run, err := ottermere.Answer[api.Run](c.GetRun(ctx, id))
	if err != nil {
		return nil, err
	}
	out := &outcome{State: string(run.Run.State), Rows: map[string][]cell{}}
	count := 500
	for from := 0; ; from += count {
		got, err := ottermere.Answer[api.Lattice](c.GetLattice(ctx, id, &api.GetLatticeParams{From: &from, Count: &count}))
		if err != nil {
			return nil, err
		}
		for _, r := range got.Rows {
			if _, ok := out.Rows[r.Address]; ok {
				return nil, fmt.Errorf("run %s has two rows at %s", id, r.Address)
			}
			for _, c := range r.Cells {
				out.Rows[r.Address] = append(out.Rows[r.Address], newCell(string(c.Fate), c.Text))
			}
		}
		if from+count >= got.Total {
			return out, nil
		}
	}
}

// judgement gathers what differs from the twin.
type judgement struct {
	*world
	done                             map[string]int // in trees, by the twin
	items, keyedOf, onceOf, doubtOf  int
	ends, differ, keyed, once, doubt []string
}

// trees compares what happened at the other side by the steps of trees.
func (j *judgement) trees() (wrong []string) {
	all := map[string]bool{}
	for what := range j.done {
		all[what] = true
	}
	for what := range j.side.effects {
		if strings.HasPrefix(what, "/keyed/tree") {
			all[what] = true
		}
	}
	for _, what := range sorted(all) {
		if n := j.side.effects[what]; n != j.done[what] {
			wrong = append(wrong, fmt.Sprintf("%s: %d times, and by the twin %d", what, n, j.done[what]))
		}
	}
	return wrong
}

const inDoubt = "may_have_been_sent"

func (j *judgement) compare(e event, run uuid.UUID, got, want *outcome) {
	doubts := 0
	if strings.HasPrefix(e.workflow, "tree") {
		for what, n := range want.Done {
			j.done[what] += n
		}
	}
	steps := sorted(writes[e.workflow])
	for address, cells := range want.Rows {
		j.items++
		mine := got.Rows[address]
		at := slices.IndexFunc(mine, func(c cell) bool { return c.Fate == inDoubt })
		if at >= 0 {
			doubts++
			cells, mine = cells[:at], mine[:at] // what comes behind it was not reached
		}
		if !slices.Equal(mine, cells) {
			j.differ = append(j.differ, fmt.Sprintf("%s, run %s, item %s: %v, and the twin's %v", e.name, run, address, mine, cells))
		}
	}
	if len(got.Rows) != len(want.Rows) {
		j.differ = append(j.differ, fmt.Sprintf("%s, run %s has %d rows, and the twin %d", e.name, run, len(got.Rows), len(want.Rows)))
	}
	wanted := want.State
	if doubts > 0 {
		wanted = "partial"
	}
	if got.State != wanted {
		j.ends = append(j.ends, fmt.Sprintf("%s, run %s: %s, and the twin's %s", e.name, run, got.State, wanted))
	}
	for i := range e.items {
		address, id := fmt.Sprint(i), fmt.Sprintf("%s-%d", e.name, i)
		cells := got.Rows[address]
		for _, step := range steps {
			fate := ""
			if k := place(e.workflow, step); k < len(cells) {
				fate = cells[k].Fate
			}
			path := writes[e.workflow][step]
			n := j.side.happened(path, id)
			said := fmt.Sprintf("%s at %s, run %s, item %s: %d times, and its fate is %s", id, path, run, address, n, fate)
			wrong := n != 0
			if fate == "written" {
				wrong = n != 1
			}
			switch {
			case fate == inDoubt:
				if j.doubtOf++; n > 1 {
					j.doubt = append(j.doubt, said)
				}
			case strings.HasPrefix(path, "/keyed"):
				if j.keyedOf++; wrong {
					j.keyed = append(j.keyed, said)
				}
			default:
				if j.onceOf++; wrong {
					j.once = append(j.once, said)
				}
			}
		}
	}
}

// place is which of a workflow's steps that is.
func place(workflow, step string) int {
	return slices.Index(map[string][]string{"keyed": {"some", "look", "first", "second"}, "once": {"poke", "after"}}[workflow], step)
}
