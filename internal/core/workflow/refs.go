package workflow

import (
	"fmt"
	"slices"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
)

// Connections lists the connections that the steps name, and those by whose
// secrets their expressions make codes, sorted.
func (w *Workflow) Connections() []string {
	out := w.named("hmac")
	for s := range w.All() {
		if s.Connection != "" {
			out = append(out, s.Connection)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Actions are those of connectors that its steps carry out, as CONNECTOR.ACTION, each
// once and sorted.
func (w *Workflow) Actions() []string {
	var out []string
	for s := range w.All() {
		if _, _, ok := s.IsAction(); ok {
			out = append(out, s.Type)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Lists are the names of the workspace lists that it reads, sorted.
func (w *Workflow) Lists() []string {
	out := w.named("list")
	if k, ok := triggers.Find(w.Trigger.Type); ok {
		start, _ := k.Start(w.Trigger.Settings) // one that is not finished reads none
		for _, l := range start.Lists {
			out = append(out, l.List)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// named are the names in quotes that a function is called with in the steps.
func (w *Workflow) named(function string) (out []string) {
	add := func(refs []expr.Ref) {
		for _, r := range refs {
			if r.Path[0] == function && len(r.Path) > 1 {
				out = append(out, r.Path[1])
			}
		}
	}
	for s := range w.All() {
		if k, ok := steps.Find(s.Type); ok {
			for _, refs := range k.Refs(s.Settings) {
				add(refs)
			}
		}
		if v, err := expr.CompileValue(anyMap(s.Input), steps.Reads); err == nil {
			add(v.Refs())
		}
	}
	return out
}

// Sees tells why an expression of the step s cannot read steps.NAME; nil if it
// can.
func (p *Plan) Sees(s *CompiledStep, name string) error {
	x, err := p.earlier(s, name)
	if err != nil {
		return err
	}
	if by := joins(x, s); by != nil {
		return fmt.Errorf("the step %q makes one item of many, so there is no single item of %s here; column(%q) gives all of them", by.Name, name, name)
	}
	return nil
}

// SeesColumn tells why an expression of the step s cannot read column("NAME").
func (p *Plan) SeesColumn(s *CompiledStep, name string) error {
	_, err := p.earlier(s, name)
	return err
}

// earlier finds a step that stands before s and not in another case.
func (p *Plan) earlier(s *CompiledStep, name string) (*CompiledStep, error) {
	x := p.byName[name]
	if x == nil {
		return nil, fmt.Errorf("there is no step %q.%s", name, near.Hint(name, p.Workflow.Names()))
	}
	if x == s || s.Within(x) {
		return nil, fmt.Errorf("the step %q is not done yet here; only what earlier steps gave can be used", name)
	}
	ex, es := meet(x, s)
	switch {
	case s.OnFailure() != x.OnFailure():
		return nil, fmt.Errorf("a step that is done when the run fails cannot read what the step %q gave; item.message, item.step and item.label say what happened", name)
	case ex == nil:
		return nil, fmt.Errorf("the step %q stands in another case; an item goes through one of them", name)
	case ex.At > es.At:
		return nil, fmt.Errorf("the step %q comes later; only what earlier steps gave can be used", name)
	}
	return x, nil
}

// joins finds a step between x and s that makes one item of many.
func joins(x, s *CompiledStep) *CompiledStep {
	ex, es := meet(x, s)
	if ex == nil {
		return nil
	}
	// From x up to where it stands beside s, from there to s, and down to it.
	for y := x; ; y = y.In.Of {
		end := len(y.In.Steps)
		if y == ex {
			end = es.At
		}
		for _, z := range y.In.Steps[y.At:end] {
			if z != x && z.Groups() {
				return z
			}
		}
		if y == ex {
			break
		}
	}
	for y := s; y != es; y = y.In.Of {
		for _, z := range y.In.Steps[:y.At] {
			if z.Groups() {
				return z
			}
		}
	}
	return nil
}

// Rescues tells whether the step stands in a fallback, or is done when a run
// fails.
func (s *CompiledStep) Rescues() bool {
	for in := s.In; ; in = in.Of.In {
		if in.Fallback {
			return true
		}
		if in.Of == nil {
			return in.Name == OnFailureBlock
		}
	}
}

// Loop is the innermost loop in which the step stands; nil if there is none.
func (s *CompiledStep) Loop() *CompiledStep {
	for of := range s.Around() {
		if of.Loops() {
			return of
		}
	}
	return nil
}

// Loops tells whether the steps within it are done in rounds.
func (s *CompiledStep) Loops() bool {
	_, ok := s.Operator.(steps.Loop)
	return ok
}
