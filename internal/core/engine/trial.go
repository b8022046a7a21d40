package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
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
	if w == nil || len(samples) == 0 || workflow.HasErrors(found.Problems()) {
		return w, found.Problems()
	}
	plan, err := workflow.Compile(w, catalog)
	if err != nil {
		return w, found.Problems()
	}
	t := &trial{came: map[uint16][]*item.Item{}, failed: map[uint16][]*call.Failure{}}
	m := &Memory{Items: samples}
	run := &Run{
		Spec:  Spec{Facts: workflow.RunFacts{ID: "check", Started: sampleTime, Workflow: w.Name}, Passes: []Pass{{Number: 1, Plan: plan}}, Sampled: true, Rehearse: true},
		World: World{Source: MemorySource{m}, Journal: MemoryJournal{m}, Clock: still{}, Lattice: m, Arrives: t.arrives, Fails: t.fails},
	}
	if _, err := run.Execute(ctx, nil); err != nil {
		return w, found.Problems()
	}
	for _, s := range plan.Steps {
		t.missing(found, s)
		t.failures(found, s)
	}
	return w, found.Problems()
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

// missing warns of a field that no item has.
func (t *trial) missing(found *workflow.Findings, s *workflow.CompiledStep) {
	items := t.came[s.Number]
	if len(items) == 0 || s.Off {
		return
	}
	for _, at := range item.Keys(s.Refs) {
		for _, r := range s.Refs[at] {
			if r.Path[0] != "item" || len(r.Path) < 2 || slices.ContainsFunc(items, func(it *item.Item) bool { _, ok := it.Fields[r.Path[1]]; return ok }) {
				continue
			}
			cure := ""
			if n := expr.NearestField(r.Path[1], items[0].Fields); n != "" {
				cure = "Did you mean item." + n + "?"
			}
			found.Warn(s.Path()+"."+at, fmt.Sprintf("No sample has a field %q here.", r.Path[1]), cure)
		}
	}
}

func (t *trial) failures(found *workflow.Findings, s *workflow.CompiledStep) {
	list := t.failed[s.Number]
	if len(list) == 0 {
		return
	}
	path := s.Path()
	if list[0].Setting != "" {
		path += "." + list[0].Setting
	}
	found.Warn(path, fmt.Sprintf("%s of %s would fail here: %s", words.Number(len(list)), words.Count(max(len(list), len(t.came[s.Number])), "sample"), words.Sentence(list[0].Message)), "")
}
