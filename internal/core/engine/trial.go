package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
	"youngtrellis/internal/core/workflow"
)

// sampleTime stands for now where nothing runs.
var sampleTime = time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)

// Check finds everything wrong with a text that can be found without the
// outside world. Samples are trigger items: they go through the steps, with the
// declared sample of each action for an answer, and what would fail is told. The
// workflow is nil if the text is not one at all.
func Check(ctx context.Context, text []byte, catalog *workflow.Catalog, samples []map[string]any) (*workflow.Workflow, []document.Problem) {
	w, found := workflow.Examine(text, catalog)
	if w == nil || len(samples) == 0 {
		return w, found.Problems()
	}
	sound := found.Sound() // as far as samples can go
	plan, err := workflow.Compile(sound, catalog)
	if err != nil {
		return w, found.Problems()
	}
	samples = asked(found, plan.Start.Asks, samples)
	t := &trial{came: map[uint16][]*item.Item{}, failed: map[uint16][]*call.Failure{}}
	m := &Memory{Items: samples}
	run := &Run{
		Spec:  Spec{Facts: workflow.RunFacts{ID: "check", Started: sampleTime, Workflow: w.Name}, Passes: []Pass{{Number: 1, Plan: plan}}, Sampled: true, Rehearse: true},
		World: World{Source: MemorySource{m}, Journal: MemoryJournal{m}, Clock: still{}, Lattice: m, Lists: listsOf(catalog), Arrives: t.arrives, Fails: t.fails},
	}
	if _, err := run.Execute(ctx, nil); err != nil {
		return w, found.Problems()
	}
	for _, s := range plan.Steps {
		t.missing(found, plan, s)
		t.failures(found, s)
	}
	if len(sound.Steps) == len(w.Steps) {
		t.names(found, plan, samples)
	}
	return w, found.Problems()
}

// listsOf are the workspace's lists as a check may see them.
func listsOf(catalog *workflow.Catalog) Lists {
	if catalog.Rows == nil {
		return nil
	}
	return shownLists(catalog.Rows)
}

type shownLists func(ctx context.Context, name string) ([]any, error)

// List implements Lists.
func (l shownLists) List(ctx context.Context, name string) ([]any, error) { return l(ctx, name) }

// asked gives the samples as a start would take them, and warns of those that it
// would refuse.
func asked(found *workflow.Findings, asks triggers.Asked, samples []map[string]any) []map[string]any {
	out := make([]map[string]any, len(samples))
	for i, s := range samples {
		full, err := asks.Complete(s)
		if err != nil {
			found.Warn("trigger.settings.fields", fmt.Sprintf("Sample %d could not start a run: %v.", i+1, err), "")
		}
		out[i] = full
	}
	return out
}

// still is a clock that does not go.
type still struct{}

func (still) Now() time.Time                                   { return sampleTime }
func (still) Sleep(ctx context.Context, _ time.Duration) error { return ctx.Err() }

// trial is what came of samples.
type trial struct {
	came   map[uint16][]*item.Item
	failed map[uint16][]*call.Failure
}

func (t *trial) arrives(s *workflow.CompiledStep, it *item.Item) {
	t.came[s.Number] = append(t.came[s.Number], it)
}

func (t *trial) fails(s *workflow.CompiledStep, why *call.Failure) {
	t.failed[s.Number] = append(t.failed[s.Number], why)
}

// missing warns of a field that no item has: of the item itself, of what started
// the run, and of what an earlier step gave.
func (t *trial) missing(found *workflow.Findings, plan *workflow.Plan, s *workflow.CompiledStep) {
	items := t.came[s.Number]
	if len(items) == 0 || s.Off {
		return
	}
	for _, at := range item.Keys(s.Refs) {
		for _, r := range s.Refs[at] {
			if name, known, ok := lacking(plan, items, r); ok {
				cure := ""
				if n := expr.NearestField(name, known); n != "" {
					cure = "Did you mean " + strings.Join(append(slices.Clone(r.Path[:slices.Index(r.Path, name)]), n), ".") + "?"
				}
				found.Warn(s.Path()+"."+at, fmt.Sprintf("No sample has a field %q here.", name), cure)
			}
		}
	}
}

// lacking tells whether none of the items has what a path reads: the field, and
// those that are there in its place.
func lacking(plan *workflow.Plan, items []*item.Item, r expr.Ref) (name string, known map[string]any, lacks bool) {
	depth := 1
	fields := func(it *item.Item) map[string]any { return it.Fields }
	switch r.Path[0] {
	case "item":
	case "trigger":
		fields = func(it *item.Item) map[string]any {
			if first := it.First(); first.Step == 0 {
				return first.Fields
			}
			return nil
		}
	case "steps":
		depth = 2
		if len(r.Path) < 3 || plan.Step(r.Path[1]) == nil {
			return "", nil, false
		}
		number := plan.Step(r.Path[1]).Number
		fields = func(it *item.Item) map[string]any {
			if through := it.Through(number); through != nil {
				return through.Fields
			}
			return nil
		}
	default:
		return "", nil, false
	}
	if len(r.Path) <= depth {
		return "", nil, false
	}
	name = r.Path[depth]
	for _, it := range items {
		f := fields(it)
		if f == nil {
			continue
		}
		if _, has := f[name]; has {
			return "", nil, false
		}
		known = f
	}
	return name, known, known != nil
}

// names warns of a label and of fields to find by that no sample has.
func (t *trial) names(found *workflow.Findings, plan *workflow.Plan, samples []map[string]any) {
	all := map[string]any{}
	for _, f := range samples {
		maps.Copy(all, f)
	}
	for _, items := range t.came {
		for _, it := range items {
			maps.Copy(all, it.Fields)
		}
	}
	check := func(path string, p *expr.Program) {
		if p == nil {
			return
		}
		if strings.Contains(p.Source, "??") && slices.ContainsFunc(p.Refs, func(r expr.Ref) bool {
			return len(r.Path) > 1 && all[r.Path[1]] != nil
		}) {
			return // another field is there in its place
		}
		for _, r := range p.Refs {
			if len(r.Path) < 2 || r.Path[0] != "item" {
				continue
			}
			if _, has := all[r.Path[1]]; !has {
				cure := ""
				if n := expr.NearestField(r.Path[1], all); n != "" {
					cure = "Did you mean item." + n + "?"
				}
				found.Warn(path, fmt.Sprintf("No sample has a field %q at any step.", r.Path[1]), cure)
			}
		}
	}
	lane(found, plan, samples)
	check("label", plan.Label)
	for i, p := range plan.FindBy {
		check(fmt.Sprintf("find_by[%d]", i), p)
	}
}

// lane warns of samples that could not start a run since nobody can tell their lane,
// and of a lane that none of them is in.
func lane(found *workflow.Findings, plan *workflow.Plan, samples []map[string]any) {
	const path = "limits.one_at_a_time_by"
	if plan.Limits.Lane == nil {
		return
	}
	in := 0
	for i, s := range samples {
		switch key, err := plan.LaneOf(context.Background(), []map[string]any{s}, sampleTime); {
		case err != nil:
			found.Warn(path, fmt.Sprintf("Sample %d could not start a run: %v.", i+1, err), "")
			in++
		case key != "":
			in++
		}
	}
	if in == 0 {
		found.Warn(path, "It gives nothing for any sample: their runs would be in no lane.", "")
	}
}

// mostFailures is how many different failures of a step are told.
const mostFailures = 8

// failures warns of everything that fails differently at a step.
func (t *trial) failures(found *workflow.Findings, s *workflow.CompiledStep) {
	type kind struct{ setting, alike string }
	counts, firsts := map[kind]int{}, []*call.Failure{}
	of := func(f *call.Failure) kind { return kind{f.Setting, words.Alike(f.Message)} }
	for _, f := range t.failed[s.Number] {
		if counts[of(f)]++; counts[of(f)] == 1 {
			firsts = append(firsts, f)
		}
	}
	all := max(len(t.failed[s.Number]), len(t.came[s.Number]))
	for _, f := range firsts[:min(len(firsts), mostFailures)] {
		path := s.Path()
		if f.Setting != "" {
			path += "." + f.Setting
		}
		found.Warn(path, fmt.Sprintf("%s of %s would fail here: %s", words.Number(counts[of(f)]), words.Count(all, "sample"), words.Sentence(f.Message)), "")
	}
}
