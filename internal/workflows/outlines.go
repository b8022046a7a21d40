package workflows

import (
	"crypto/sha256"

	lru "github.com/hashicorp/golang-lru/v2"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/workflow"
)

// Outline is what lists show of a workflow's text.
type Outline struct {
	Readable    bool
	Trigger     string // in a sentence
	Steps       int
	Connections []string // that its steps use, sorted
	Lists       []string // of the workspace that it reads, sorted
	Actions     []string // of connectors, as CONNECTOR.ACTION, each once
}

// Outlines reads the texts of workflows for lists and keeps what it found by
// the text itself, so that a list reads anew only what was changed. It is safe
// for concurrent use.
type Outlines struct {
	outlines *lru.Cache[[32]byte, Outline]
	errors   *lru.Cache[[2][32]byte, int]
}

// mostOutlines is how many texts' outlines are kept.
const mostOutlines = 5000

// NewOutlines makes one that knows nothing yet.
func NewOutlines() *Outlines {
	outlines, _ := lru.New[[32]byte, Outline](mostOutlines) // fails only for sizes below 1
	errors, _ := lru.New[[2][32]byte, int](mostOutlines)
	return &Outlines{outlines, errors}
}

// Of gives a text's outline.
func (o *Outlines) Of(text string) Outline {
	k := sha256.Sum256([]byte(text))
	if known, ok := o.outlines.Get(k); ok {
		return known
	}
	out := Outline{}
	if w, _, _ := workflow.Read([]byte(text)); w != nil {
		out = Outline{Readable: true, Trigger: workflow.TriggerSentence(w.Trigger), Steps: len(w.Names()), Connections: w.Connections(), Lists: w.Lists(), Actions: w.Actions()}
	}
	o.outlines.Add(k, out)
	return out
}

// Errors counts what forbids each of these texts to go live.
func (o *Outlines) Errors(catalog *workflow.Catalog, texts ...string) []int {
	out, around := make([]int, len(texts)), catalog.Digest()
	for i, text := range texts {
		k := [2][32]byte{sha256.Sum256([]byte(text)), around}
		n, ok := o.errors.Get(k)
		if !ok {
			_, problems := workflow.Check([]byte(text), catalog)
			for _, p := range problems {
				if p.Severity == document.SeverityError {
					n++
				}
			}
			o.errors.Add(k, n)
		}
		out[i] = n
	}
	return out
}
