package engine

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/workflow"
)

// Open is an item that is not done.
type Open struct {
	Address item.Address
	Step    string
	Into    string  // the step at which it would go on
	Outcome Outcome // empty: it had not come so far
	Rounds  item.Rounds
	Half    bool // its list is read by half, so that it cannot be edited
	Label   string
	Text    string
}

// Frontier replays everything with effects forbidden and tells each item that
// is open: what a resume or retry would take up.
func (r *Run) Frontier(ctx context.Context, each func(Open) error) error {
	_, err := r.Onward(ctx, Pass{Plan: r.Passes[len(r.Passes)-1].Plan}, each)
	return err
}

// Refusal is why items cannot go on with a plan.
type Refusal struct {
	Step  string // at which they stand
	Why   string
	Items int
}

func (r Refusal) Error() string { return r.Why }

// Outlook is what a further pass would meet.
type Outlook struct {
	Refusals []Refusal
	Late     []string // what becomes of items that meet lists that were closed before
}

// Onward is Frontier with a further pass in view: it also tells why items that
// the pass would take up cannot go on with its plan, and which closed lists they
// would meet.
func (r *Run) Onward(ctx context.Context, pass Pass, each func(Open) error) (*Outlook, error) {
	x := newExecution(r, &Stop{})
	defer x.close()
	pass.From = x.last().Plan
	s := &opens{x: x, from: pass.From, pass: &pass, each: each, refused: map[Refusal]int{}, enters: map[entrance]bool{}, meets: map[uint16]bool{}}
	if err := x.flow(ctx, s); err != nil {
		return nil, err
	}
	out := &Outlook{}
	for _, why := range s.order {
		out.Refusals = append(out.Refusals, Refusal{why.Step, why.Why, s.refused[why]})
	}
	for _, step := range pass.Plan.Steps {
		if s.meets[step.Number] {
			out.Late = append(out.Late, step.Name+": "+lateWords[x.lateOf(step)])
		}
	}
	return out, nil
}

// opens is a last stage that looks at the flows that are open.
type opens struct {
	x       *execution
	from    *workflow.Plan
	pass    *Pass
	each    func(Open) error
	refused map[Refusal]int
	order   []Refusal
	enters  map[entrance]bool
	meets   map[uint16]bool // holders that were closed, and lie ahead of what goes on
}

// entrance is where items go on.
type entrance struct {
	into   uint16
	rounds item.Rounds
}

// end notes the closed lists that items would meet; which are closed is known
// only now.
func (s *opens) end(context.Context) error {
	for e := range s.enters {
		into := s.pass.Plan.ByNumber(e.into)
		for _, step := range s.pass.Plan.Steps {
			if step.Column >= into.Column && (step.Groups() || step.Picks()) && follows(step, into) && s.x.closed.before(step.Number, e.rounds.Out(step.Depth), s.x.last().Number+1) {
				s.meets[step.Number] = true
			}
		}
	}
	return nil
}

func (s *opens) take(_ context.Context, chunk []*flow) error {
	for _, f := range chunk {
		at := s.from.ByNumber(f.at)
		if !f.state.open() || at == nil || f.apart {
			continue
		}
		into := s.pass.Plan.ByNumber(target(*s.pass, f.at))
		if s.pass.takes(f) {
			if into != nil {
				s.enters[entrance{into.Number, f.rounds}] = true
			}
			if why := s.why(f, at, into); why != "" {
				r := Refusal{Step: at.Name, Why: why}
				if s.refused[r]++; s.refused[r] == 1 {
					s.order = append(s.order, r)
				}
			}
		}
		o := Open{Address: f.it.Address, Step: at.Name, Outcome: f.state.outcome(), Rounds: f.rounds, Half: f.source != nil && f.source.page > 0, Label: Label(s.from, f.it, s.x.secrets())}
		if into != nil {
			o.Into = into.Name
		}
		if f.way != nil && f.way.cell.Step == at.Number {
			o.Text = f.way.cell.Text
		}
		if err := s.each(o); err != nil {
			return err
		}
	}
	return nil
}

// why tells why an item that stands at a step cannot go on with the pass; "" if
// it can.
func (s *opens) why(f *flow, at, into *workflow.CompiledStep) string {
	if into == nil {
		return fmt.Sprintf("they stand before the step %s, which is not there any more; say “was: %s” at the step that took its place, or name one", at.Name, at.Name)
	}
	if s.pass.Plan == s.from {
		return ""
	}
	if why := moved(at, into); why != "" {
		return why
	}
	if f.source != nil && f.source.page > 0 && !sameSource(at, into) {
		return fmt.Sprintf("the list of %s is half read, and it is read another way now; put its action, input and paging back, or start again", at.Name)
	}
	return s.ahead(f, into)
}

// moved tells whether the steps around an item are others than they were.
func moved(at, into *workflow.CompiledStep) string {
	was, is := slices.Collect(at.Around()), slices.Collect(into.Around())
	if len(was) != len(is) {
		return fmt.Sprintf("the step %s was moved into or out of another, while items stand at it", into.Name)
	}
	a, b := at, into
	for i := range was {
		if was[i].Number != is[i].Number || a.In.Name != b.In.Name {
			return fmt.Sprintf("the step %s was moved into another case or loop, while items stand at it", into.Name)
		}
		if was[i].Loops() && !reflect.DeepEqual(withoutBody(was[i].Settings), withoutBody(is[i].Settings)) {
			return fmt.Sprintf("the loop %s goes round another way now, while items stand in one of its rounds", is[i].Name)
		}
		a, b = was[i], is[i]
	}
	return ""
}

func withoutBody(settings map[string]any) map[string]any {
	out := maps.Clone(settings)
	delete(out, "steps")
	return out
}

// sameSource tells whether a list is still read from the same place in the same
// way.
func sameSource(a, b *workflow.CompiledStep) bool {
	return a.Type == b.Type && a.Connection == b.Connection && reflect.DeepEqual(a.Settings, b.Settings) && reflect.DeepEqual(a.Step.Input, b.Step.Input)
}

// ahead looks at the steps that would be done for an item: what they read must be
// on its way, and none may do a second time what was done for it.
func (s *opens) ahead(f *flow, into *workflow.CompiledStep) string {
	for _, step := range s.pass.Plan.Steps {
		if step.Column < into.Column || step.Off || !follows(step, into) {
			continue
		}
		if was := s.from.ByNumber(step.Number); step.Sifts() && was != nil && !reflect.DeepEqual(was.Settings["by"], step.Settings["by"]) {
			return fmt.Sprintf("%s tells items apart by something else than before, so that those that came to it count for nothing; put it back, or start again", step.Name)
		}
		if step != into && step.Writes() && f.writes(step.Number, f.rounds) {
			return fmt.Sprintf("%s was done for these items already and stands below %s now, so it would be done a second time; put it back above", step.Name, into.Name)
		}
		for _, refs := range step.Refs {
			for _, r := range refs {
				if r.Path[0] != "steps" || len(r.Path) < 2 {
					continue
				}
				x := s.pass.Plan.Step(r.Path[1])
				if x == nil || x.Column >= into.Column && follows(x, into) || onWay(f, x, into) {
					continue
				}
				return fmt.Sprintf("%s reads steps.%s, which these items never came through: it is new, or was moved above %s", step.Name, x.Name, into.Name)
			}
		}
	}
	return ""
}

// follows tells whether an item that enters at a step can come to another: the
// other does not stand in a sibling case.
func follows(step, into *workflow.CompiledStep) bool {
	for a := step; a != nil; a = a.In.Of {
		for b := into; b != nil; b = b.In.Of {
			if a.In.Of == b.In.Of && a.In != b.In {
				return false
			}
			if a.In == b.In {
				return true
			}
		}
	}
	return true
}

// onWay tells whether an item came through a step, or past the case in which it
// stands.
func onWay(f *flow, x, into *workflow.CompiledStep) bool {
	if f.it.Through(x.Number) != nil || f.it.Group() {
		return true
	}
	for of := range x.Around() {
		if into.Within(of) {
			return false
		}
		if f.it.Through(of.Number) != nil {
			return true
		}
	}
	return false
}
