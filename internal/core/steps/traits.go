package steps

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/internal/core/expr"
)

// Traits are what settings tell of a step without any item.
type Traits struct {
	Remarks []Remark
	// Blocks says why no item ever goes on; "" where some may.
	Blocks string
	// Lets are paths, as item.phone, whose items pass only where the value is one
	// that is known.
	Lets []string
	// Sets are the fields that it builds, each with what it reads; Only tells that
	// no others go on.
	Sets map[string][]expr.Ref
	Only bool
	// Decides are settings that decide more than a stranger should, each with what.
	Decides map[string]string
}

// Remark is what is odd about a setting whatever the items are.
type Remark struct{ Setting, Message, Cure string }

const aField = "A field of the item is written item.NAME."

// tells adds to a kind what its settings tell.
func tells[S any](k *Kind, traits func(*S) Traits) *Kind {
	k.traits = func(values map[string]any) Traits {
		s := new(S)
		k.Form.Sketch(values, s)
		return traits(s)
	}
	return k
}

// Traits are what settings tell without any item, as far as they can be read.
func (k *Kind) Traits(values map[string]any) Traits {
	if k.traits == nil {
		return Traits{}
	}
	return k.traits(values)
}

// always tells what a condition is for every item, where it reads nothing.
func always(p *expr.Program) (holds, constant bool) {
	if p == nil || len(p.Refs) > 0 || slices.ContainsFunc(p.Calls, func(f string) bool { return f == "now" || f == "age" || f == "uuid" }) {
		return false, false
	}
	holds, err := p.Holds(&expr.Scope{})
	return holds, err == nil
}

var known = regexp.MustCompile(`((?:item|trigger)(?:\.\w+)+) (?:in|==) `)

// letting lists the paths that a condition lets pass only where they are known:
// in a list, or one value. Conditions with or and not let others pass.
func letting(p *expr.Program) (out []string) {
	if p == nil || strings.Contains(p.Source, " or ") || strings.ContainsAny(p.Source, "|!?") || strings.Contains(p.Source, "not ") {
		return nil
	}
	for _, m := range known.FindAllStringSubmatch(p.Source+" ", -1) {
		out = append(out, m[1])
	}
	return out
}

func filterTraits(f *filter) Traits {
	t := Traits{Lets: letting(f.Where)}
	switch holds, constant := always(f.Where); {
	case constant && holds:
		t.Remarks = []Remark{{"where", "This holds for every item, so nothing is ever held back.", aField}}
	case constant:
		t.Blocks = "its condition holds for none"
	}
	return t
}

func branchTraits(b *branch) (t Traits) {
	for i, c := range b.Cases {
		at := place("cases", i, "when")
		switch holds, constant := always(c.When); {
		case constant && !holds:
			t.Remarks = append(t.Remarks, Remark{at, fmt.Sprintf("No item ever takes the case %s: this holds for none.", c.Name), aField})
		case constant && !b.Every() && (i < len(b.Cases)-1 || len(b.Else) > 0):
			t.Remarks = append(t.Remarks, Remark{at, fmt.Sprintf("Every item that comes here takes the case %s, so none reaches what follows.", c.Name), "Put it last, or leave it to else."})
		}
	}
	return t
}

func loopTraits(l *loop) (t Traits) {
	if holds, constant := always(l.Until); constant && !holds {
		t.Remarks = []Remark{{"until", fmt.Sprintf("This never holds, so every item goes through all %d rounds.", l.Repeat), `Say what has changed once it is done, as item.state == "done".`}}
	}
	return t
}

func shapeTraits(s *shape) Traits {
	t := Traits{Sets: map[string][]expr.Ref{}, Only: s.Keep.Given && !s.Keep.All}
	for name, v := range s.Set {
		top, _, _ := strings.Cut(name, ".")
		refs := t.Sets[top]
		if v != nil { // it may not be readable yet
			refs = append(refs, v.Refs()...)
		}
		t.Sets[top] = refs
	}
	for old, fresh := range s.Rename {
		t.Sets[fresh] = append(t.Sets[fresh], expr.Ref{Path: []string{"item", old}})
	}
	if t.Only {
		for _, name := range s.Keep.List {
			if _, set := t.Sets[name]; !set {
				t.Sets[name] = []expr.Ref{{Path: []string{"item", name}}}
			}
		}
	}
	return t
}

func stopTraits(*stopping) Traits { return Traits{Blocks: "it ends the run"} }

// hostRead tells whether an expression stands in an address before its path.
func hostRead(url string) bool {
	before, _, found := strings.Cut(url, "(=")
	if !found {
		return false
	}
	if _, after, ok := strings.Cut(before, "://"); ok {
		return !strings.ContainsAny(after, "/?#")
	}
	return true
}
