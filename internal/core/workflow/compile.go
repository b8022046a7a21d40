package workflow

import (
	"errors"
	"fmt"
	"time"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
)

// sampleTime stands for now where nothing runs.
var sampleTime = time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)

// Plan is a workflow ready to be executed. It is never changed and is shared.
type Plan struct {
	Workflow *Workflow
	Steps    []*CompiledStep
	Label    *expr.Program
	Catalog  *Catalog // of which it was made
	FindBy   []*expr.Program
	StartKey *expr.Program // over item: the same key starts nothing again; nil for none
	KeyLasts time.Duration // for how long
	index    map[string]int
}

// CompiledStep is one step of a plan: an Operation or an Action.
type CompiledStep struct {
	*Step
	Index     int
	Number    uint16
	Patience  Patience
	Deadline  time.Duration
	Operation steps.Operation
	Action    *connector.Action
	Input     *expr.Value
}

// Compile makes a plan of a workflow that has no errors.
func Compile(w *Workflow, catalog *Catalog) (*Plan, error) {
	p := &Plan{Workflow: w, Catalog: catalog, index: map[string]int{}}
	var errs []error
	for i := range w.Steps {
		s := &w.Steps[i]
		c := &CompiledStep{Step: s, Index: i, Number: uint16(i + 1)}
		p.index[s.Name] = i
		if err := c.compile(catalog); err != nil {
			errs = append(errs, fmt.Errorf("step %s: %w", s.Name, err))
		}
		p.Steps = append(p.Steps, c)
	}
	var err error
	if w.Label != "" {
		if p.Label, err = expr.Compile(w.Label); err != nil {
			errs = append(errs, fmt.Errorf("label: %w", err))
		}
	}
	for _, f := range w.FindBy {
		e, err := expr.Compile(f)
		if err != nil {
			errs = append(errs, fmt.Errorf("find_by: %w", err))
			continue
		}
		p.FindBy = append(p.FindBy, e)
	}
	if err := p.startKey(w.Trigger); err != nil {
		errs = append(errs, fmt.Errorf("trigger: %w", err))
	}
	return p, errors.Join(errs...)
}

// startKeyLasts is how long a start key is remembered unless said otherwise.
const startKeyLasts = 7 * 24 * time.Hour

func (p *Plan) startKey(t Trigger) (err error) {
	source, _ := t.Settings["key"].(string)
	if source == "" {
		return nil
	}
	p.KeyLasts = startKeyLasts
	if text, ok := t.Settings["for"].(string); ok {
		if p.KeyLasts, err = expr.ParseDuration(text); err != nil {
			return err
		}
	}
	p.StartKey, err = expr.Compile(source)
	return err
}

// Numbered gives the plan's steps their lasting numbers. Two steps never have
// the same one: the journal of the one would answer for the other.
func (p *Plan) Numbered(numbers map[string]uint16) (*Plan, error) {
	taken := map[uint16]string{}
	for _, s := range p.Steps {
		if n, ok := numbers[s.Name]; ok {
			s.Number = n
		}
		if other, ok := taken[s.Number]; ok {
			return nil, fmt.Errorf("the steps %s and %s have the same lasting number %d", other, s.Name, s.Number)
		}
		taken[s.Number] = s.Name
	}
	return p, nil
}

func (c *CompiledStep) compile(catalog *Catalog) error {
	var err1, err2, err error
	c.Patience, err1 = c.Step.Patience()
	c.Deadline, err2 = c.Step.Deadline()
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	if k, ok := steps.Find(c.Type); ok && k.Call != nil {
		var tree map[string]any
		if c.Action, tree, err = k.Call(nonNil(c.Settings)); err == nil {
			c.Input, err = expr.CompileValue(tree)
		}
		return err
	} else if ok {
		c.Operation, err = k.Compile(nonNil(c.Settings))
		return err
	}
	if c.Action, err = catalog.Action(c.Step); err != nil {
		return err
	}
	c.Input, err = expr.CompileValue(anyMap(c.Step.Input))
	return err
}

// Lists tells whether the step can give several items for one.
func (c *CompiledStep) Lists() bool { return c.Action != nil && c.Action.List() }

// Refs lists the paths that each setting or input field reads.
func (c *CompiledStep) Refs() map[string][]expr.Ref {
	out := map[string][]expr.Ref{}
	if c.Operation != nil {
		for k, v := range c.Operation.Refs() {
			out["settings."+k] = v
		}
		return out
	}
	if c.Step.Input == nil && c.Input != nil {
		out["settings"] = c.Input.Refs()
	}
	for name, v := range c.Step.Input {
		if e, err := expr.CompileValue(v); err == nil {
			out["input."+name] = e.Refs()
		}
	}
	return out
}

// Give makes the item that goes on from what the action gave.
func (c *CompiledStep) Give(it *item.Item, output any, at time.Time) *item.Item {
	return it.Derive(c.Index, c.fields(it, output), at)
}

// GiveNth makes the n-th item that goes on from a list.
func (c *CompiledStep) GiveNth(it *item.Item, n uint32, fields map[string]any, at time.Time) *item.Item {
	return it.Child(c.Index, c.Number, n, c.fields(it, fields), at)
}

func (c *CompiledStep) fields(it *item.Item, output any) map[string]any {
	switch {
	case c.Output == "keep" || output == nil && c.Output == "":
		return it.Fields
	case c.Output == "" || c.Output == "replace":
		return connector.AsFields(output)
	}
	fields := make(map[string]any, len(it.Fields)+1)
	for k, v := range it.Fields {
		fields[k] = v
	}
	fields[c.Output[len("under "):]] = output
	return fields
}

// SampleOutput answers for the action with its declared sample.
func (c *CompiledStep) SampleOutput(it *item.Item) []*item.Item {
	if !c.Lists() {
		return []*item.Item{c.Give(it, c.Action.Sample, it.At)}
	}
	list, _ := c.Action.Sample.([]any)
	var out []*item.Item
	for i, e := range list {
		out = append(out, c.GiveNth(it, uint32(i), connector.AsFields(e), it.At))
	}
	return out
}

// RunFacts is what expressions can know of the run.
type RunFacts struct {
	ID       string
	Started  time.Time
	Workflow string
}

// Scope is what an expression of the step sees for an item.
func (p *Plan) Scope(it *item.Item, step *CompiledStep, run RunFacts) *expr.Scope {
	at := -1
	name := ""
	if step != nil {
		at, name = step.Index, step.Name
	}
	return &expr.Scope{
		Item: it.Fields,
		Now:  it.At,
		Seed: run.ID + "/" + name + "/" + it.Address.String(),
		Names: map[string]any{
			"trigger": expr.Lazy(func() (any, error) { return it.Trigger().Fields, nil }),
			"steps":   lineage{p, it, at},
			"vars":    p.Workflow.Vars,
			"run": expr.Lazy(func() (any, error) {
				return map[string]any{"id": run.ID, "started": run.Started.UTC().Format(time.RFC3339), "workflow": run.Workflow}, nil
			}),
		},
	}
}

// lineage answers steps.NAME by walking up the item's chain.
type lineage struct {
	plan *Plan
	it   *item.Item
	at   int
}

func (l lineage) Field(name string) (any, error) {
	i, ok := l.plan.index[name]
	if !ok {
		return nil, fmt.Errorf("there is no step %s", name)
	}
	if l.at >= 0 && i >= l.at {
		return nil, fmt.Errorf("the step %s comes later", name)
	}
	return l.it.AsOf(i).Fields, nil
}
