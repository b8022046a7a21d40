// Package steps holds the built-in step kinds. Each kind is one file with one
// line of registration in kinds: what is said of it, a typed struct of its
// settings, the sentence that it reads as, and a compile function that gives an
// operator on one of the bases of operator.go.
package steps

import (
	"fmt"
	"slices"
	"sync"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

// Info is what is said of a kind.
type Info struct {
	Type  string
	Title string
	Help  string
	Words string // by which people look for it, beside those of its title and help
	// Connects tells whether a step of this kind can use a connection; Needs
	// names the protocol of one that it cannot do without.
	Connects bool
	Needs    string
	// Does says what its steps do with items beside working on one at a time, by
	// which some options belong to them and some do not.
	Does Does
}

// Does is what a kind does with items.
type Does string

// What kinds do.
const (
	DoesOne    Does = ""        // works on one item at a time
	DoesCalls  Does = "calls"   // asks something outside, and may get a list
	DoesSpread Does = "spreads" // makes several of one
	DoesHold   Does = "holds"   // takes in a list and makes others of it
	DoesPick   Does = "picks"   // takes in a list and lets items of it go on
	DoesLoop   Does = "loops"   // does steps in rounds
	DoesEnd    Does = "ends"    // ends the run
	DoesAnswer Does = "answers" // answers whoever set the run off
)

// Reads are the names by which the expressions of steps read values.
var Reads = expr.Names{"item", "trigger", "steps", "column", "round", "run", "vars", "error", "hmac", "list"}

// Kind is a built-in step kind.
type Kind struct {
	Info
	Form *form.Form

	sentence func(values map[string]any) string
	compile  func(values map[string]any) (*Compiled, []error)
	blocks   func(values map[string]any) []form.Nested
	refs     func(values map[string]any) map[string][]expr.Ref
	traits   func(values map[string]any) Traits // nil: none
}

// Compiled is what a kind makes of a step's settings.
type Compiled struct {
	Operator Operator
	// Refs are the paths that each setting reads, by the setting's place.
	Refs map[string][]expr.Ref
}

// New makes a kind of a typed struct of settings. Sentence words settings that
// may not be finished; compile gets those that fit the form, and its error may
// be a *form.Error that names a setting.
func New[S any](info Info, sentence func(*S) string, compile func(*S) (Operator, error)) *Kind {
	k := &Kind{Info: info, Form: form.Of[S](Reads)}
	sketch := func(values map[string]any) *S {
		s := new(S)
		k.Form.Sketch(values, s)
		return s
	}
	k.sentence = func(values map[string]any) string { return sentence(sketch(values)) }
	k.blocks = func(values map[string]any) []form.Nested { return form.Within(sketch(values)) }
	k.refs = func(values map[string]any) map[string][]expr.Ref { return form.Refs(sketch(values)) }
	k.compile = func(values map[string]any) (*Compiled, []error) {
		s := new(S)
		if errs := k.Form.Read(values, s); len(errs) > 0 {
			return nil, errs
		}
		op, err := compile(s)
		if err != nil {
			return nil, []error{err}
		}
		return &Compiled{op, form.Refs(s)}, nil
	}
	return k
}

var (
	mu    sync.RWMutex
	kinds = []*Kind{filterKind, shapeKind, branchKind, loopKind, sortKind, takeKind, distinctKind, spreadKind, batchKind, gatherKind, waitKind, stopKind, answerKind, httpKind, sqlKind}
)

// Register adds a kind to those that there are.
func Register(k *Kind) {
	mu.Lock()
	defer mu.Unlock()
	kinds = append(slices.Clip(kinds), k)
}

// Kinds lists the kinds in the order in which they are offered.
func Kinds() []*Kind {
	mu.RLock()
	defer mu.RUnlock()
	return kinds
}

// Find returns the kind of this type.
func Find(kind string) (*Kind, bool) {
	for _, k := range Kinds() {
		if k.Type == kind {
			return k, true
		}
	}
	return nil, false
}

// Types lists the types of all kinds.
func Types() []string {
	var out []string
	for _, k := range Kinds() {
		out = append(out, k.Type)
	}
	return out
}

// Compile makes an operator of settings, or gives everything that is wrong with
// them, each a *form.Error where it has a place.
func (k *Kind) Compile(values map[string]any) (*Compiled, []error) { return k.compile(values) }

// Refs are the paths that each setting reads, by the setting's place, as far as
// the settings can be read: what is wrong beside them is no matter.
func (k *Kind) Refs(values map[string]any) map[string][]expr.Ref { return k.refs(values) }

// Sentence words settings as a line of the outline. Its first word is the verb.
func (k *Kind) Sentence(values map[string]any) string { return k.sentence(values) }

// Blocks lists the steps that stand within settings, as far as they can be read.
func (k *Kind) Blocks(values map[string]any) []form.Nested { return k.blocks(values) }

// place names a setting within a list, as by[1].of.
func place(list string, i int, name string) string { return fmt.Sprintf("%s[%d].%s", list, i, name) }

func wrong(setting string, err error) error { return &form.Error{Field: setting, Err: err} }
