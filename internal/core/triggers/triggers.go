// Package triggers holds what can start a workflow. Each kind is one file with
// one line of registration in kinds: what is said of it, a typed struct of its
// settings, the sentence that it reads as, and what its settings mean for a
// start.
package triggers

import (
	"time"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/proof"
)

// Info is what is said of a kind.
type Info struct {
	Type  string
	Title string
	Help  string
	// Called tells whether it has an address that something calls.
	Called bool
	// Hosted tells whether it has an address at which a page of ours stands.
	Hosted bool
	// Timed tells whether it starts by the clock.
	Timed bool
	// Follows tells whether it starts after another workflow.
	Follows bool
	// Alone tells whether it starts without any item of somebody's too.
	Alone bool
	// Began says how its runs began, as "by a call".
	Began string
	// By is who starts its runs, as "its webhook"; "" where a person does.
	By string
}

// Start is how events start runs.
type Start struct {
	Key      *expr.Program // over item: the same key starts nothing again; nil for none
	KeyLasts time.Duration // for how long
	Runs     Runs          // with several items that come at once
	// KeyedByHand tells whether the key counts for starts by hand too: a person who
	// starts what something else starts wants it once more.
	KeyedByHand bool
	Proof       proof.Rule // how callers prove themselves
	Entrance    Entrance   // which calls are looked at
	Path        string     // of its address, in place of random letters; "" for none
	// AnswerWithin is how long whoever sets a run off waits for what an answer step says.
	AnswerWithin time.Duration
	Asks         Asked      // what somebody is asked for who starts a run by hand, or fills in its form
	Hosted       *Hosted    // the page on which that is; nil: there is none
	Timing       *Timing    // when runs start by the clock; nil: they do not
	Follows      *Following // after which other workflow; nil: after none
	Lists        []Listed   // workspace lists that settings name
	// Own gives the item of a start that somebody makes at a moment, where the kind
	// makes its items itself; nil: it does not.
	Own func(now time.Time) map[string]any
}

// Listed is a workspace list that a setting names.
type Listed struct{ Field, List string }

// Kind is something that can start a workflow.
type Kind struct {
	Info
	Form *form.Form

	sentence func(values map[string]any) string
	start    func(values map[string]any) (Start, []error)
}

// New makes a kind of a typed struct of settings. Sentence words settings that
// may not be finished; start gets those that fit the form, and says what is wrong
// with them all the same, as a *form.Error where it has a place.
func New[S any](info Info, sentence func(*S) string, start func(*S) (Start, error)) *Kind {
	k := &Kind{Info: info, Form: form.Of[S](expr.Names{"item"})}
	k.sentence = func(values map[string]any) string {
		s := new(S)
		k.Form.Sketch(values, s)
		return sentence(s)
	}
	k.start = func(values map[string]any) (Start, []error) {
		s := new(S)
		if errs := k.Form.Read(values, s); len(errs) > 0 {
			return Start{}, errs
		}
		out, err := start(s)
		if err != nil {
			return Start{}, []error{err}
		}
		return out, nil
	}
	return k
}

var kinds = []*Kind{webhookKind, formKind, scheduleKind, afterKind, manualKind}

// Addressed tells whether it has an address that others know.
func (i Info) Addressed() bool { return i.Called || i.Hosted }

// Kinds lists them in the order in which they are offered.
func Kinds() []*Kind { return kinds }

// Types lists the types of all kinds.
func Types() []string {
	var out []string
	for _, k := range kinds {
		out = append(out, k.Type)
	}
	return out
}

// Find returns the kind of this type.
func Find(kind string) (*Kind, bool) {
	for _, k := range kinds {
		if k.Type == kind {
			return k, true
		}
	}
	return nil, false
}

// Began says how a run began that this type of trigger has started.
func Began(kind string) string {
	if k, ok := Find(kind); ok {
		return k.Began
	}
	return "by something that is not known any more"
}

// Start reads settings, or gives everything that is wrong with them, each a
// *form.Error where it has a place.
func (k *Kind) Start(values map[string]any) (Start, []error) { return k.start(values) }

// Sentence words settings as the first line of the outline.
func (k *Kind) Sentence(values map[string]any) string { return k.sentence(values) }
