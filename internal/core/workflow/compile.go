package workflow

import (
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
)

// Plan is a workflow ready to be executed: a tree of steps. It is never changed
// and is shared.
type Plan struct {
	Workflow *Workflow
	Root     *CompiledBlock
	Fails    *CompiledBlock  // what is done when a run fails; nil: nothing
	Steps    []*CompiledStep // all of them in reading order: the columns
	Label    *expr.Program
	Catalog  *Catalog // of which it was made
	FindBy   []*expr.Program
	Start    triggers.Start // how events start its runs
	Limits   Bounds
	Answers  bool // a step answers whoever set a run off

	firstWrite *CompiledStep

	byName   map[string]*CompiledStep
	byNumber map[uint16]*CompiledStep
}

// CompiledBlock is a list of steps: those of the workflow itself, of a case, or
// of the body of a loop.
type CompiledBlock struct {
	Name     string
	Of       *CompiledStep // nil for the workflow itself
	Index    int           // among the blocks of that step
	Fallback bool
	Steps    []*CompiledStep
}

// CompiledStep is one step of a plan.
type CompiledStep struct {
	*Step
	Number   uint16 // lasting: by it the step is known everywhere
	Line     string // as 3.2
	Column   int    // its place in reading order
	In       *CompiledBlock
	At       int // its place in that block
	Depth    int // in how many loops it stands
	Blocks   []*CompiledBlock
	Patience Patience
	Deadline time.Duration
	Operator steps.Operator
	Action   *connector.Action // of one that calls
	Input    *expr.Value       // of one that calls
	Refs     map[string][]expr.Ref
	// Holds are the steps whose whole lists must have come before this one, or
	// what stands in it, can begin: it reads them by column("NAME").
	Holds []*CompiledStep
	// Kept tells whether its items are kept for those that read its column.
	Kept bool
}

// Naming is a plan that names items and does nothing else. It can be made of a
// workflow that has errors, nil too.
func Naming(w *Workflow) *Plan {
	p := &Plan{Workflow: &Workflow{}}
	if w != nil {
		p.Workflow = w
		if label, err := expr.Compile(w.Label, labels); err == nil && w.Label != "" {
			p.Label = label
		}
	}
	return p
}

// Compile makes a plan of a workflow that has no errors.
func Compile(w *Workflow, catalog *Catalog) (*Plan, error) {
	p := &Plan{Workflow: w, Catalog: catalog, byName: map[string]*CompiledStep{}, byNumber: map[uint16]*CompiledStep{}}
	c := &compiler{plan: p, lines: map[*Step]string{}}
	for l := range w.Lines() {
		if l.Step != nil {
			c.lines[l.Step] = l.Number
		}
	}
	p.Root = c.block(w.Steps, &CompiledBlock{}, 0)
	if len(w.OnFailure) > 0 {
		p.Fails = c.block(w.OnFailure, &CompiledBlock{Name: OnFailureBlock}, 0)
	}
	c.holds()
	var err error
	if w.Label != "" {
		if p.Label, err = expr.Compile(w.Label, labels); err != nil {
			c.errs = append(c.errs, fmt.Errorf("label: %w", err))
		}
	}
	for _, f := range w.FindBy {
		e, err := expr.Compile(f, labels)
		if err != nil {
			c.errs = append(c.errs, fmt.Errorf("find_by: %w", err))
			continue
		}
		p.FindBy = append(p.FindBy, e)
	}
	bounds, errs := w.Bounds()
	p.Limits = bounds
	for _, err := range errs {
		c.errs = append(c.errs, fmt.Errorf("limits: %w", err))
	}
	if k, ok := triggers.Find(w.Trigger.Type); ok {
		start, errs := k.Start(w.Trigger.Settings)
		p.Start = start
		for _, err := range errs {
			c.errs = append(c.errs, fmt.Errorf("trigger: %w", err))
		}
	}
	p.firstWrite = firstWrite(p)
	p.Answers = slices.ContainsFunc(p.Steps, func(s *CompiledStep) bool {
		_, answers := s.Operator.(steps.Answerer)
		return answers && !s.off()
	})
	return p, errors.Join(c.errs...)
}

type compiler struct {
	plan  *Plan
	lines map[*Step]string
	errs  []error
}

func (c *compiler) block(list []Step, in *CompiledBlock, depth int) *CompiledBlock {
	p := c.plan
	for i := range list {
		s := &CompiledStep{Step: &list[i], Line: c.lines[&list[i]], Column: len(p.Steps), In: in, At: i, Depth: depth}
		s.Number = uint16(s.Column + 1)
		p.Steps = append(p.Steps, s)
		if p.byName[s.Name] == nil {
			p.byName[s.Name] = s
		}
		p.byNumber[s.Number] = s
		in.Steps = append(in.Steps, s)
		if err := s.compile(p.Catalog); err != nil {
			c.errs = append(c.errs, fmt.Errorf("step %s: %w", s.Name, err))
		}
		for j, b := range s.Step.Blocks {
			inner := depth
			if s.Loops() && !b.Fallback {
				inner++
			}
			s.Blocks = append(s.Blocks, c.block(b.Steps, &CompiledBlock{Name: b.Name, Of: s, Index: j, Fallback: b.Fallback}, inner))
		}
	}
	return in
}

// holds finds who reads whose column: what stands beside the step that is read
// waits for it, with all that stands in it.
func (c *compiler) holds() {
	for _, s := range c.plan.Steps {
		for _, refs := range s.Refs {
			for _, r := range refs {
				if r.Path[0] != "column" || len(r.Path) < 2 {
					continue
				}
				x := c.plan.byName[r.Path[1]]
				if x == nil || x == s {
					continue // the checker says so
				}
				x.Kept = true
				_, reader := meet(x, s)
				if reader != nil && !slices.Contains(reader.Holds, x) {
					reader.Holds = append(reader.Holds, x)
				}
			}
		}
	}
}

// meet gives the two steps of one block in which, or as which, a and b stand;
// nil where there is none, as in two cases of a branch.
func meet(a, b *CompiledStep) (*CompiledStep, *CompiledStep) {
	for x := a; x != nil; x = x.In.Of {
		for y := b; y != nil; y = y.In.Of {
			if x.In == y.In {
				if x == y {
					return nil, nil
				}
				return x, y
			}
		}
	}
	return nil, nil
}

// Numbered gives the plan's steps their lasting numbers. Two steps never have
// the same one: the journal of the one would answer for the other.
func (p *Plan) Numbered(numbers map[string]uint16) (*Plan, error) {
	taken := map[uint16]*CompiledStep{}
	for _, s := range p.Steps {
		if n, ok := numbers[s.Name]; ok {
			s.Number = n
		}
		if other, ok := taken[s.Number]; ok {
			return nil, fmt.Errorf("the steps %s and %s have the same lasting number %d", other.Name, s.Name, s.Number)
		}
		taken[s.Number] = s
	}
	p.byNumber = taken
	return p, nil
}

// Step finds a step by name; nil if there is none.
func (p *Plan) Step(name string) *CompiledStep { return p.byName[name] }

// ByNumber finds a step by its lasting number; nil if there is none.
func (p *Plan) ByNumber(n uint16) *CompiledStep { return p.byNumber[n] }

// Around goes through the steps in which s stands, from the innermost out.
func (s *CompiledStep) Around() iter.Seq[*CompiledStep] {
	return func(yield func(*CompiledStep) bool) {
		for of := s.In.Of; of != nil; of = of.In.Of {
			if !yield(of) {
				return
			}
		}
	}
}

// Path is where the step stands in the document, as steps[2].
func (s *CompiledStep) Path() string { return s.path }

// Within tells whether s stands in other, at whatever depth.
func (s *CompiledStep) Within(other *CompiledStep) bool {
	for of := range s.Around() {
		if of == other {
			return true
		}
	}
	return false
}

func (s *CompiledStep) compile(catalog *Catalog) error {
	var err1, err2, err error
	s.Patience, err1 = s.Step.Patience()
	s.Deadline, err2 = s.Step.Deadline()
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	if k, ok := steps.Find(s.Type); ok {
		compiled, errs := k.Compile(s.Settings)
		if len(errs) > 0 {
			return errors.Join(errs...)
		}
		s.Operator, s.Refs = compiled.Operator, map[string][]expr.Ref{}
		if c, ok := s.Operator.(*steps.Call); ok { // its other expressions read the answer
			s.Action, s.Input = c.Action, c.Input
			asks := map[string]bool{}
			for _, r := range c.Input.Refs() {
				asks[strings.Join(r.Path, ".")] = true
			}
			for name, v := range s.Settings {
				e, err := expr.CompileValue(v, steps.Reads)
				if err != nil {
					return err
				}
				if refs := slices.DeleteFunc(e.Refs(), func(r expr.Ref) bool { return !asks[strings.Join(r.Path, ".")] }); len(refs) > 0 {
					s.Refs["settings."+name] = refs
				}
			}
			return nil
		}
		for place, refs := range compiled.Refs {
			s.Refs["settings."+place] = refs
		}
		return nil
	}
	if s.Action, err = catalog.Action(s.Step); err != nil {
		return err
	}
	if s.Input, err = expr.CompileValue(anyMap(s.Step.Input), steps.Reads); err != nil {
		return err
	}
	s.Operator, s.Refs = &steps.Call{Action: s.Action, Input: s.Input}, map[string][]expr.Ref{}
	for name, v := range s.Step.Input {
		e, err := expr.CompileValue(v, steps.Reads)
		if err != nil {
			return err
		}
		s.Refs["input."+name] = e.Refs()
	}
	return nil
}

// labels are the names that labels and find_by read.
var labels = expr.Names{"item", "trigger", "steps", "vars", "run"}

// Lists tells whether the step calls an action that gives a list of items.
func (s *CompiledStep) Lists() bool { return s.Action != nil && s.Action.List() }

// FallsInto is the block of items for which the step failed; nil if it has none
// or does not take it.
func (s *CompiledStep) FallsInto() *CompiledBlock {
	if s.OnError != OnErrorFallback {
		return nil
	}
	for _, b := range s.Blocks {
		if b.Fallback {
			return b
		}
	}
	return nil
}

// Cases are the blocks that stand within the step's settings.
func (s *CompiledStep) Cases() []*CompiledBlock {
	if n := len(s.Blocks); n > 0 && s.Blocks[n-1].Fallback {
		return s.Blocks[:n-1]
	}
	return s.Blocks
}

// Picks tells whether the step takes the whole list in and lets some of its items
// go on.
func (s *CompiledStep) Picks() bool {
	_, ok := s.Operator.(steps.Picker)
	return ok && !s.Off
}

// Sifts tells whether what becomes of an item at the step depends on those that
// came before it.
func (s *CompiledStep) Sifts() bool {
	_, ok := s.Operator.(steps.Sieve)
	return ok && !s.Off
}

// OnFailure tells whether the step is done when a run fails.
func (s *CompiledStep) OnFailure() bool {
	in := s.In
	for in.Of != nil {
		in = in.Of.In
	}
	return in.Name == OnFailureBlock
}

// Groups tells whether the step makes one item of many.
func (s *CompiledStep) Groups() bool {
	_, ok := s.Operator.(steps.Holder)
	return ok && !s.Off
}

// Writes tells whether the step changes something outside.
func (s *CompiledStep) Writes() bool {
	return s.Action != nil && s.Action.Effect == "write" && !s.Off
}

// FirstWrite is the step of the outermost block that is, or holds, the first one that
// changes something outside; nil where none does.
func (p *Plan) FirstWrite() *CompiledStep { return p.firstWrite }

func firstWrite(p *Plan) *CompiledStep {
	for _, s := range p.Steps {
		if !s.Writes() || s.OnFailure() || s.off() {
			continue
		}
		for of := range s.Around() {
			s = of
		}
		return s
	}
	return nil
}

// off tells whether the step, or one around it, is switched off.
func (s *CompiledStep) off() bool {
	for of := range s.Around() {
		if of.Off {
			return true
		}
	}
	return s.Off
}

// Follows tells whether the step stands beneath another.
func (s *CompiledStep) Follows(other *CompiledStep) bool {
	return other != nil && s.Column > other.Column
}

// Output gives the fields of the item that goes on, of those that it had and
// what the action gave.
func (s *CompiledStep) Output(before map[string]any, output any) map[string]any {
	switch {
	case s.Step.Output == "keep" || output == nil && s.Step.Output == "":
		return before
	case s.Step.Output == "" || s.Step.Output == "replace":
		return connector.AsFields(output)
	}
	fields := make(map[string]any, len(before)+1)
	maps.Copy(fields, before)
	fields[s.Step.Output[len("under "):]] = output
	return fields
}

// RunFacts is what expressions can know of the run.
type RunFacts struct {
	ID       string
	Started  time.Time
	Workflow string
}
