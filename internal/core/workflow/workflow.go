// Package workflow holds the workflow document: its model, how it is read and
// changed as text, how it is checked, and how it reads as sentences.
//
//	doc, problems := workflow.Read(text)
//	problems = append(problems, workflow.Check(doc, catalog, samples)...)
package workflow

import (
	"fmt"
	"regexp"
	"slices"
	"time"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
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
	Steps   []Step         `doc:"steps"`
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
}

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

	WhenNoneEnd  = "end"
	WhenNonePass = "pass"
	WhenNoneFail = "fail"

	UnknownAsk    = "ask"
	UnknownResend = "resend"
	UnknownDone   = "done"

	MaxParallel = 64
	MaxSteps    = 200
)

var (
	stepName     = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)
	workflowName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,59}$`)
	outputForm   = regexp.MustCompile(`^(replace|keep|under [a-z][a-z0-9_]{0,39})$`)
)

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
	for i := range problems {
		problems[i].Step = w.stepAt(problems[i].Path)
	}
	return w, doc, problems
}

var stepPath = regexp.MustCompile(`^steps\[(\d+)\]`)

func (w *Workflow) stepAt(path string) string {
	var i int
	if m := stepPath.FindString(path); m != "" {
		_, _ = fmt.Sscanf(m, "steps[%d]", &i)
		if i < len(w.Steps) {
			return w.Steps[i].Name
		}
	}
	return ""
}

// Step finds a step by name; the index is -1 if there is none.
func (w *Workflow) Step(name string) (int, *Step) {
	for i := range w.Steps {
		if w.Steps[i].Name == name {
			return i, &w.Steps[i]
		}
	}
	return -1, nil
}

// Names lists the names of the steps in order.
func (w *Workflow) Names() []string {
	names := make([]string, len(w.Steps))
	for i, s := range w.Steps {
		names[i] = s.Name
	}
	return names
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
	out := make(map[string]uint16, len(known)+len(w.Steps))
	for name, n := range known {
		out[name] = n
		highest = max(highest, n)
	}
	for _, s := range w.Steps {
		if _, ok := known[s.Name]; ok || s.Was == "" {
			continue
		}
		// Only a name of before has a number to give, and only once.
		if n, ok := known[s.Was]; ok && out[s.Was] == n && out[s.Name] == 0 {
			out[s.Name] = n
			delete(out, s.Was)
		}
	}
	for _, s := range w.Steps {
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
