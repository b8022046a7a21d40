package workflow

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
)

// flow checks what can be told of the way of items without any item: steps that
// none can reach, conditions that are always the same, results that cost
// something and that nothing reads, and values of strangers at places where they
// decide who is called or written to.
func (c *checker) flow(plan *Plan) {
	for l := range c.w.Lines() {
		if l.Step != nil && !l.Step.Off {
			for _, r := range traits(l.Step).Remarks {
				c.add(document.SeverityWarning, l.Step.path+".settings."+r.Setting, r.Message, r.Cure)
			}
		}
	}
	c.unreached(c.w.Steps)
	c.unreached(c.w.OnFailure)
	c.unused(plan)
	c.strangers(plan)
	c.unheard(plan)
}

// traits are what the settings of a step tell without any item.
func traits(s *Step) (t steps.Traits) {
	if k, ok := steps.Find(s.Type); ok {
		t = k.Traits(s.Settings)
	}
	return t
}

// unreached warns of the steps after one that lets no item go on.
func (c *checker) unreached(list []Step) {
	why := ""
	for i := range list {
		s := &list[i]
		if s.Off {
			continue
		}
		if why != "" {
			c.add(document.SeverityWarning, s.path, fmt.Sprintf("No item ever comes to %s: %s.", s.Name, why), "Take it out, or move it before.")
			break
		}
		if blocks := traits(s).Blocks; blocks != "" {
			why = "of " + s.Name + ", " + blocks
		}
		for _, b := range s.Blocks {
			c.unreached(b.Steps)
		}
	}
}

// reads tells which fields of items, and outputs of steps, are read after a step.
func (p *Plan) reads(after int, take func(at *CompiledStep, r expr.Ref)) {
	for _, s := range p.Steps {
		if s.Column < after {
			continue
		}
		for _, refs := range s.Refs {
			for _, r := range refs {
				take(s, r)
			}
		}
	}
}

// unused warns of what is paid for, or takes a call, only to be read, and is read
// by nothing.
func (c *checker) unused(plan *Plan) {
	for _, s := range plan.Steps {
		if s.Off || s.Action == nil || s.Action.Units == nil || s.Action.Effect == "write" {
			continue
		}
		under, kept := strings.CutPrefix(s.Step.Output, "under ")
		used, later := false, false
		plan.reads(s.Column+1, func(at *CompiledStep, r expr.Ref) {
			later = true
			switch {
			case len(r.Path) > 1 && (r.Path[0] == "steps" || r.Path[0] == "column") && r.Path[1] == s.Name:
				used = true
			case r.Path[0] == "item" && s.Step.Output != "keep" && (!kept || len(r.Path) == 1 || r.Path[1] == under):
				used = true
			}
		})
		for _, next := range plan.Steps { // gathered, written out, or carried along as a whole
			used = used || next.Column > s.Column && s.Step.Output != "keep" && takesWhole(next)
		}
		if !used && (later || s.Column < len(plan.Steps)-1 || s.Step.Output == "keep") {
			c.add(document.SeverityWarning, s.path, fmt.Sprintf("Nothing reads what %s gives, and every call of it counts as %s.", s.Name, unitOf(s)), "Use it in a later step, or take the step out.")
		}
	}
}

// takesWhole tells whether a step takes items as they are into others.
func takesWhole(s *CompiledStep) bool {
	k, ok := steps.Find(s.Type)
	return ok && slices.Contains([]steps.Does{steps.DoesHold, steps.DoesSpread, steps.DoesLoop}, k.Does)
}

func unitOf(s *CompiledStep) string {
	if s.Action.Unit != "" {
		return s.Action.Unit
	}
	return "a unit"
}

// recipients are names of fields that say who is written to or called.
var recipients = regexp.MustCompile(`^(to|cc|bcc|recipients?|channel|address|host|url|endpoint|webhook|callback|domain|server)$`)

// unheard warns of answers that nobody waits for.
func (c *checker) unheard(plan *Plan) {
	if k, ok := triggers.Find(c.w.Trigger.Type); !ok || k.Addressed() {
		return
	}
	for _, s := range plan.Steps {
		if answers(s.Step) && !s.Off {
			c.add(document.SeverityWarning, s.path, fmt.Sprintf("%s answers, but nobody waits for an answer: the workflow is set off by neither a call nor a form.", quoted(s.Name)), "Let a webhook or a form start it, or leave the step out.")
		}
	}
}

// strangers warns where what somebody outside sends decides who is called,
// written to, or asked for what. A filter that compares the field with a list
// stands in between, or a person.
func (c *checker) strangers(plan *Plan) {
	if k, ok := triggers.Find(c.w.Trigger.Type); !ok || !k.Addressed() {
		return
	}
	t := &taint{fields: map[string]bool{}, whole: true, allowed: map[string]bool{}}
	for _, s := range plan.Steps {
		if s.Off || s.OnFailure() {
			continue
		}
		for _, at := range item.Keys(s.Refs) {
			for _, r := range s.Refs[at] {
				if what := sink(s, at); what != "" && t.foreign(r) {
					c.add(document.SeverityWarning, s.path+"."+at, fmt.Sprintf("%s comes from whoever starts this, and %s.", strings.Join(r.Path, "."), what), fmt.Sprintf("Let only known ones pass before, as with a filter where %s in vars.allowed.", strings.Join(r.Path, ".")))
				}
			}
		}
		t.through(s)
	}
}

// sink says what a setting decides; "" where it decides nothing that a stranger
// should not.
func sink(s *CompiledStep, at string) string {
	top, rest, _ := strings.Cut(at, ".")
	name, _, _ := strings.Cut(rest, ".")
	name, _, _ = strings.Cut(name, "[")
	switch {
	case top == "settings":
		return traits(s.Step).Decides[name]
	case top == "input" && s.Action != nil:
		for _, p := range s.Action.Properties {
			if p.Name == name && (p.Schema["hint"] == "recipient" || recipients.MatchString(name)) {
				return "decides who is written to or called"
			}
		}
	}
	return ""
}

// taint is which fields of an item are as a stranger sent them.
type taint struct {
	whole   bool            // all but those in fields are
	fields  map[string]bool // what is known of single ones
	allowed map[string]bool // paths that were compared with a list
}

func (t *taint) foreign(r expr.Ref) bool {
	path := strings.Join(r.Path, ".")
	for allowed := range t.allowed {
		if path == allowed || strings.HasPrefix(path, allowed+".") {
			return false
		}
	}
	switch {
	case r.Path[0] == "trigger":
		return true
	case r.Path[0] != "item":
		return false
	case len(r.Path) == 1:
		return t.whole
	}
	if known, ok := t.fields[r.Path[1]]; ok {
		return known
	}
	return t.whole
}

// through follows items through a step.
func (t *taint) through(s *CompiledStep) {
	told := traits(s.Step)
	for _, path := range told.Lets {
		t.allowed[path] = true
	}
	switch {
	case told.Sets != nil:
		fresh := map[string]bool{}
		for name, refs := range told.Sets {
			fresh[name] = slices.ContainsFunc(refs, t.foreign)
		}
		if told.Only {
			t.whole, t.fields = false, map[string]bool{}
		}
		for name, foreign := range fresh {
			t.fields[name] = foreign
		}
	case s.Action != nil:
		switch under, kept := strings.CutPrefix(s.Step.Output, "under "); {
		case kept:
			t.fields[under] = false
		case s.Step.Output != "keep":
			*t = taint{fields: map[string]bool{}, allowed: t.allowed}
		}
	}
}
