// Package workflow holds the workflow document: its model, how it is read and
// changed as text, how it is checked, and how it reads as sentences.
//
//	doc, problems := workflow.Read(text)
//	problems = append(problems, workflow.Check(doc, catalog, samples)...)
package workflow

import (
	"fmt"
	"iter"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/steps"
	"youngtrellis/internal/core/triggers"
)

// Format is what every workflow document begins with.
const Format = "young-trellis/1"

// Workflow is the document. Keys are those of the text.
type Workflow struct {
	Format  string         `doc:"format,required"`
	Name    string         `doc:"name,required"`
	Title   string         `doc:"title"`
	About   string         `doc:"about"`
	Label   string         `doc:"label"`   // expression: what a row of the lattice is called
	FindBy  []string       `doc:"find_by"` // expressions by which an item is found again
	Trigger Trigger        `doc:"trigger,required"`
	Vars    map[string]any `doc:"vars"`
	Limits  map[string]any `doc:"limits"`
	Steps   []Step         `doc:"steps"`
	// OnFailure are the steps that are done once when a run fails.
	OnFailure []Step `doc:"on_failure"`
}

// Trigger says what starts runs.
type Trigger struct {
	Type     string         `doc:"type,required"`
	Settings map[string]any `doc:"settings"`
}

// Step is one line of the outline.
type Step struct {
	Name        string         `doc:"name,required"`
	Was         string         `doc:"was"`
	Type        string         `doc:"type,required"`
	Connection  string         `doc:"connection"`
	Settings    map[string]any `doc:"settings"`
	Input       map[string]any `doc:"input"`
	Note        string         `doc:"note"`
	Off         bool           `doc:"off"`
	Output      string         `doc:"output"`
	WhenNone    string         `doc:"when_none"`
	Retry       *Retry         `doc:"retry"`
	Repeat      string         `doc:"repeat"`
	WhenUnknown string         `doc:"when_unknown"`
	Timeout     string         `doc:"timeout"`
	Parallel    int            `doc:"parallel"`
	OnError     string         `doc:"on_error"`
	Fallback    []Step         `doc:"fallback"`
	Late        string         `doc:"late"`

	Blocks []*Block // the steps that stand within it: its cases or its body, and its fallback
	path   string   // as steps[2].settings.cases[0].steps[1]
}

// Block is a list of steps within a step: a case of a branch, the body of a
// loop, the fallback of any.
type Block struct {
	Place    string // within the step, as settings.cases[0].steps
	Name     string // of the case; "" where the step has only this one
	When     string // which items come here, in words
	Fallback bool   // items come here for which the step failed
	Steps    []Step
}

// Names of blocks that are no cases.
const (
	FallbackBlock  = "fallback"
	OnFailureBlock = "on_failure"
)

// Retry says how often and how patiently a failed call is tried again.
type Retry struct {
	Attempts int     `doc:"attempts"`
	First    string  `doc:"first"`
	Factor   float64 `doc:"factor"`
	Max      string  `doc:"max"`
	// Wait is the longest that the other side may ask to wait, in all.
	Wait string `doc:"wait"`
}

// Values of the keys of a step.
const (
	OnErrorStop     = "stop"
	OnErrorSetAside = "set_aside"
	OnErrorContinue = "continue"
	OnErrorFallback = "fallback"

	WhenNoneEnd  = "end"
	WhenNonePass = "pass"
	WhenNoneFail = "fail"

	UnknownAsk    = "ask"
	UnknownResend = "resend"
	UnknownDone   = "done"

	LateLeave = "leave"
	LateAlone = "alone"
	LateAgain = "again"

	MaxParallel = 64
	MaxSteps    = 200
	MaxNesting  = 8
)

var (
	stepName     = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)
	workflowName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,59}$`)
	outputForm   = regexp.MustCompile(`^(replace|keep|under [a-z][a-z0-9_]{0,39})$`)
)

// Start says how events start runs of the workflow, as far as it can be read.
func (w *Workflow) Start() triggers.Start {
	k, ok := triggers.Find(w.Trigger.Type)
	if !ok {
		return triggers.Start{}
	}
	start, _ := k.Start(w.Trigger.Settings)
	return start
}

// Answers tells whether a step answers whoever sets a run off.
func (w *Workflow) Answers() bool {
	for l := range w.Lines() {
		if answers(l.Step) && !l.Step.Off {
			return true
		}
	}
	return false
}

func answers(s *Step) bool {
	if s == nil {
		return false
	}
	k, ok := steps.Find(s.Type)
	return ok && k.Does == steps.DoesAnswer
}

// ValidName tells whether s can be the name of a workflow.
func ValidName(s string) bool { return workflowName.MatchString(s) }

// Read reads a document. The workflow is nil if the text is not one at all.
func Read(text []byte) (*Workflow, *document.Document, []document.Problem) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, nil, []document.Problem{err.(document.Problem)}
	}
	w := &Workflow{}
	problems := doc.Decode(w)
	problems = append(problems, nest(doc, w.Steps, "steps", 1)...)
	problems = append(problems, nest(doc, w.OnFailure, OnFailureBlock, 1)...)
	for i := range problems {
		problems[i].Step = w.stepAt(problems[i].Path)
	}
	return w, doc, problems
}

// nest reads the steps that stand within the settings of steps.
func nest(doc *document.Document, list []Step, path string, depth int) []document.Problem {
	var problems []document.Problem
	for i := range list {
		s := &list[i]
		s.path = fmt.Sprintf("%s[%d]", path, i)
		s.Blocks = blocksOf(s)
		for _, b := range s.Blocks {
			at := s.path + "." + b.Place
			if node := doc.At(at); node == nil || node.Kind != yaml.SequenceNode {
				continue
			}
			if depth == MaxNesting {
				line, column := doc.Place(at)
				problems = append(problems, document.Problem{Severity: document.SeverityError, Path: at, Line: line, Column: column, Message: fmt.Sprintf("Steps stand within one another more than %d deep.", MaxNesting)})
				b.Steps = nil
				continue
			}
			if !b.Fallback { // that was read with the step
				problems = append(problems, doc.DecodeAt(at, &b.Steps)...)
			}
			problems = append(problems, nest(doc, b.Steps, at, depth+1)...)
		}
	}
	return problems
}

// blocksOf lists the blocks of a step, without the steps of those that stand
// within its settings.
func blocksOf(s *Step) []*Block {
	var out []*Block
	if k, ok := steps.Find(s.Type); ok {
		for _, n := range k.Blocks(s.Settings) {
			b := &Block{Place: "settings." + n.Place, When: n.When}
			if n.Owned || n.Name != "steps" {
				b.Name = n.Name
			}
			out = append(out, b)
		}
	}
	if s.Fallback != nil {
		out = append(out, &Block{Place: FallbackBlock, Name: FallbackBlock, Fallback: true, Steps: s.Fallback})
	}
	return out
}

// Condition is the expression that sends items into a case of the step; there is
// none for else and for a fallback.
func (b *Block) Condition(of *Step) (string, bool) {
	cases, _ := of.Settings["cases"].([]any)
	for _, c := range cases {
		if c, ok := c.(map[string]any); ok && c["name"] == b.Name && !b.Fallback {
			when, _ := c["when"].(string)
			return when, true
		}
	}
	return "", false
}

// Sentence words a case.
func (b *Block) Sentence() string {
	switch {
	case b.Fallback:
		return "if it fails"
	case b.Name == OnFailureBlock:
		return "if the run fails"
	}
	name := strings.ReplaceAll(b.Name, "_", " ")
	if b.When == "" {
		return name
	}
	return name + ", where " + b.When
}

// stepAt finds the innermost step to which a path leads.
func (w *Workflow) stepAt(path string) string {
	name := ""
	for s := range w.All() {
		if rest, ok := strings.CutPrefix(path, s.path); ok && s.path != "" && (rest == "" || rest[0] == '.' || rest[0] == '[') {
			name = s.Name
		}
	}
	return name
}

// All goes through all steps in reading order.
func (w *Workflow) All() iter.Seq[*Step] {
	return func(yield func(*Step) bool) {
		for l := range w.Lines() {
			if l.Step != nil && !yield(l.Step) {
				return
			}
		}
	}
}

// Line is a line of the outline: a step, or a case of the step above it.
type Line struct {
	Number string // as 3 or 3.2; "" for a case
	Depth  int    // 0 for the steps of the workflow itself
	Step   *Step  // nil for a case
	Of     *Step  // the step in which it stands; nil for those of the workflow itself
	Block  *Block // the case, or the block in which the step stands
}

// Lines goes through the outline in reading order. The steps within a step are
// numbered through over its cases.
func (w *Workflow) Lines() iter.Seq[Line] {
	return func(yield func(Line) bool) {
		if !lines(w.Steps, Line{}, "", 0, yield) || len(w.OnFailure) == 0 {
			return
		}
		in := Line{Depth: 1, Block: &Block{Place: OnFailureBlock, Name: OnFailureBlock, Steps: w.OnFailure}}
		if yield(Line{Block: in.Block}) {
			lines(w.OnFailure, in, "", len(w.Steps), yield)
		}
	}
}

func lines(list []Step, in Line, prefix string, from int, yield func(Line) bool) bool {
	for i := range list {
		s := &list[i]
		number := prefix + strconv.Itoa(from+i+1)
		if !yield(Line{Number: number, Depth: in.Depth, Step: s, Of: in.Of, Block: in.Block}) {
			return false
		}
		before := 0
		for _, b := range s.Blocks {
			depth := in.Depth + 1
			if b.Name != "" {
				if !yield(Line{Depth: depth, Of: s, Block: b}) {
					return false
				}
				depth++
			}
			if !lines(b.Steps, Line{Depth: depth, Of: s, Block: b}, number+".", before, yield) {
				return false
			}
			before += len(b.Steps)
		}
	}
	return true
}

// Step finds a step by name, with its place in reading order from 0; -1 and nil
// if there is none.
func (w *Workflow) Step(name string) (int, *Step) {
	i := 0
	for s := range w.All() {
		if s.Name == name {
			return i, s
		}
		i++
	}
	return -1, nil
}

// Line finds the line of a step.
func (w *Workflow) Line(name string) (Line, bool) {
	for l := range w.Lines() {
		if l.Step != nil && l.Step.Name == name {
			return l, true
		}
	}
	return Line{}, false
}

// Names lists the names of the steps in reading order.
func (w *Workflow) Names() []string {
	var names []string
	for s := range w.All() {
		names = append(names, s.Name)
	}
	return names
}

// UpTo gives the workflow as it is up to a step, which is its last: what comes
// after it in its own block and in those around it is left out, other cases
// too. Nil if there is no such step.
func (w *Workflow) UpTo(name string) *Workflow {
	cut := *w
	list, found := upTo(w.Steps, name)
	if !found {
		return w.failing(name)
	}
	cut.OnFailure = nil
	cut.Steps = list
	return &cut
}

// failing is UpTo for a step that is done when a run fails.
func (w *Workflow) failing(name string) *Workflow {
	list, found := upTo(w.OnFailure, name)
	if !found {
		return nil
	}
	cut := *w
	cut.OnFailure = list
	return &cut
}

func upTo(list []Step, name string) ([]Step, bool) {
	for i := range list {
		if list[i].Name == name {
			return list[:i+1], true
		}
		for j, b := range list[i].Blocks {
			inner, found := upTo(b.Steps, name)
			if !found {
				continue
			}
			s := list[i]
			s.Blocks = slices.Clone(s.Blocks)
			for k := range s.Blocks {
				only := *s.Blocks[k]
				only.Steps = nil
				s.Blocks[k] = &only
			}
			s.Blocks[j].Steps = inner
			return append(slices.Clone(list[:i]), s), true
		}
	}
	return nil, false
}

// TitleOrName is what the workflow is called.
func (w *Workflow) TitleOrName() string {
	if w.Title != "" {
		return w.Title
	}
	return w.Name
}

// Numbers gives every step its lasting number: a name keeps the number that it
// had; a new name takes over that of the name it was called by before, which
// loses it; any other gets the next after the highest ever given. Numbers are
// never reused, and no two names have the same.
func (w *Workflow) Numbers(known map[string]uint16) map[string]uint16 {
	highest := uint16(0)
	out := make(map[string]uint16, len(known)+8)
	for name, n := range known {
		out[name] = n
		highest = max(highest, n)
	}
	for s := range w.All() {
		if _, ok := known[s.Name]; ok || s.Was == "" {
			continue
		}
		// Only a name of before has a number to give, and only once.
		if n, ok := known[s.Was]; ok && out[s.Was] == n && out[s.Name] == 0 {
			out[s.Name] = n
			delete(out, s.Was)
		}
	}
	for s := range w.All() {
		if _, ok := out[s.Name]; !ok {
			highest++
			out[s.Name] = highest
		}
	}
	return out
}

// Patience is a step's retry with its defaults filled in.
type Patience struct {
	Attempts   int
	First, Max time.Duration
	Factor     float64
	// Wait bounds the waits that the other side asks for; they count no attempt.
	Wait time.Duration
}

// Patience gives the step's retry: three attempts, 1 s, doubling, and a day for
// what the other side asks to wait, unless said otherwise.
func (s *Step) Patience() (Patience, error) {
	p := Patience{Attempts: 3, First: time.Second, Factor: 2, Max: time.Minute, Wait: 24 * time.Hour}
	if s.Retry == nil {
		return p, nil
	}
	if s.Retry.Attempts != 0 {
		p.Attempts = s.Retry.Attempts
	}
	if s.Retry.Factor != 0 {
		p.Factor = s.Retry.Factor
	}
	for _, d := range []struct {
		text string
		to   *time.Duration
	}{{s.Retry.First, &p.First}, {s.Retry.Max, &p.Max}, {s.Retry.Wait, &p.Wait}} {
		if d.text == "" {
			continue
		}
		v, err := expr.ParseDuration(d.text)
		if err != nil {
			return p, err
		}
		*d.to = v
	}
	if p.Attempts < 1 || p.Attempts > 20 || p.Factor < 1 || p.Factor > 10 || p.First < 0 || p.Max > time.Hour || p.Wait < 0 || p.Wait > 30*24*time.Hour {
		return p, fmt.Errorf("retry takes 1 to 20 attempts, a factor of 1 to 10, at most 1h between two, and a wait of at most 30d")
	}
	return p, nil
}

// Deadline is the longest that one call of the step may take; 60 s unless said
// otherwise.
func (s *Step) Deadline() (time.Duration, error) {
	if s.Timeout == "" {
		return time.Minute, nil
	}
	d, err := expr.ParseDuration(s.Timeout)
	if err == nil && (d < time.Second || d > 30*time.Minute) {
		err = fmt.Errorf("a timeout lies between 1s and 30m, not %s", s.Timeout)
	}
	return d, err
}

// IsAction tells whether the step calls an action, and gives its parts.
func (s *Step) IsAction() (connector, action string, ok bool) {
	i := slices.Index([]byte(s.Type), '.')
	if i <= 0 || i == len(s.Type)-1 {
		return "", "", false
	}
	return s.Type[:i], s.Type[i+1:], true
}
