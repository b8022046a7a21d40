package workflow

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/triggers"
	"youngtrellis/internal/core/words"
)

// Check reads a text and finds everything wrong with it that can be found
// without the outside world and without samples. The workflow is nil if the text
// is not one at all.
func Check(text []byte, catalog *Catalog) (*Workflow, []document.Problem) {
	w, found := Examine(text, catalog)
	return w, found.Problems()
}

// Examine is Check for those who look further: what they find is placed in the
// same document.
func Examine(text []byte, catalog *Catalog) (*Workflow, *Findings) {
	w, doc, problems := Read(text)
	if w == nil || doc == nil {
		return nil, &Findings{problems: problems}
	}
	c := &checker{Findings: &Findings{w: w, doc: doc, problems: problems}, catalog: catalog}
	c.head()
	c.trigger()
	seen := map[string]string{}
	for l := range w.Lines() {
		if l.Step != nil {
			c.step(l, seen)
		}
	}
	c.refs()
	return w, c.Findings
}

// Findings are the problems of a document.
type Findings struct {
	w        *Workflow
	doc      *document.Document
	problems []document.Problem
}

// Problems lists what was found, in the order of the lines.
func (f *Findings) Problems() []document.Problem {
	slices.SortStableFunc(f.problems, func(a, b document.Problem) int { return a.Line - b.Line })
	return f.problems
}

// Sound is the workflow up to the first step that has an error, so that it can be
// tried as far as it goes.
func (f *Findings) Sound() *Workflow {
	w := *f.w
	bad := func(list []Step, at string) int {
		for i := range list {
			path := fmt.Sprintf("%s[%d]", at, i)
			if slices.ContainsFunc(f.problems, func(p document.Problem) bool {
				return p.Severity == document.SeverityError && (p.Path == path || strings.HasPrefix(p.Path, path+"."))
			}) {
				return i
			}
		}
		return len(list)
	}
	w.Steps = w.Steps[:bad(w.Steps, "steps")]
	if bad(w.OnFailure, OnFailureBlock) < len(w.OnFailure) || len(w.Steps) < len(f.w.Steps) {
		w.OnFailure = nil
	}
	for _, p := range f.problems {
		if p.Severity != document.SeverityError {
			continue
		}
		switch top, _, _ := strings.Cut(strings.ReplaceAll(p.Path, ".", "["), "["); top {
		case "label":
			w.Label = ""
		case "find_by":
			w.FindBy = nil
		case "limits":
			w.Limits = nil
		}
	}
	return &w
}

// Warn adds a warning at a path.
func (f *Findings) Warn(path, message, cure string) {
	f.add(document.SeverityWarning, path, message, cure)
}

func (f *Findings) add(severity, path, message, cure string) {
	f.put(document.Problem{Severity: severity, Path: path, Message: message, Cure: cure})
}

// gap adds something that nobody has filled in yet.
func (f *Findings) gap(path, message, cure string) {
	f.put(document.Problem{Severity: document.SeverityError, Path: path, Message: message, Cure: cure, Gap: true})
}

func (f *Findings) put(p document.Problem) {
	p.Line, p.Column = f.doc.Place(p.Path)
	p.Step = f.w.stepAt(p.Path)
	if !slices.Contains(f.problems, p) {
		f.problems = append(f.problems, p)
	}
}

func (f *Findings) errorf(path, format string, args ...any) {
	f.add(document.SeverityError, path, fmt.Sprintf(format, args...), "")
}

// HasErrors tells whether a problem among these forbids going live.
func HasErrors(problems []document.Problem) bool {
	return slices.ContainsFunc(problems, func(p document.Problem) bool { return p.Severity == document.SeverityError })
}

type checker struct {
	*Findings
	catalog *Catalog
}

// fault places an error of an expression at its character where it can.
func (c *checker) fault(path string, err error) {
	var inner *expr.PathError
	if errors.As(err, &inner) {
		path += "." + inner.Path
	}
	var gap *form.Gap
	if errors.As(err, &gap) {
		c.gap(path, words.Sentence(err.Error()), "")
		return
	}
	var e *expr.Error
	if !errors.As(err, &e) {
		c.errorf(path, "%s", words.Sentence(err.Error()))
		return
	}
	c.errorf(path, "%s", words.Sentence(e.Message))
	p := &c.problems[len(c.problems)-1]
	if n := c.doc.At(path); n != nil && !strings.Contains(n.Value, "\n") {
		p.Column += e.Pos
		if n.Style != 0 {
			p.Column++
		} else if strings.Contains(e.Message, "closing bracket") || strings.Contains(e.Message, "ends too early") {
			p.Cure = document.QuoteCure // YAML cut it
		}
	}
	p.Message += " In " + fmt.Sprintf("“%s”.", e.Source)
}

func (c *checker) head() {
	w := c.w
	if w.Format != "" && w.Format != Format {
		c.add(document.SeverityError, "format", fmt.Sprintf("The format %q is not known.", w.Format), "Write "+Format+".")
	}
	if w.Name != "" && !workflowName.MatchString(w.Name) {
		c.add(document.SeverityError, "name", fmt.Sprintf("%q cannot be the name of a workflow.", w.Name), "Use small letters, digits and hyphens, and begin with a letter.")
	}
	if n := len(w.Names()); n > MaxSteps {
		c.errorf("steps", "There are %d steps; a workflow has at most %d.", n, MaxSteps)
	}
	if w.Label != "" {
		if _, err := expr.Compile(w.Label, labels); err != nil {
			c.fault("label", err)
		}
	}
	_, errs := w.Bounds()
	for _, err := range errs {
		c.setting("limits", err)
	}
	c.secrets("vars", nonNil(w.Vars))
	c.secrets("trigger.settings", nonNil(w.Trigger.Settings))
	for i, f := range w.FindBy {
		if _, err := expr.Compile(f, labels); err != nil {
			c.fault(fmt.Sprintf("find_by[%d]", i), err)
		}
	}
	if len(w.Steps) == 0 && !slices.ContainsFunc(c.problems, func(p document.Problem) bool { return p.Path == "steps" }) {
		c.add(document.SeverityWarning, "steps", "The workflow has no steps yet.", "Add a first step.")
	}
}

func (c *checker) trigger() {
	t := c.w.Trigger
	if t.Type == "" {
		return
	}
	kind, ok := triggers.Find(t.Type)
	if !ok {
		c.add(document.SeverityError, "trigger.type", fmt.Sprintf("There is no trigger %q.", t.Type), strings.TrimSpace(near.Hint(t.Type, triggers.Types())))
		return
	}
	start, errs := kind.Start(t.Settings)
	for _, err := range errs {
		c.setting("trigger.settings", err)
	}
	for _, l := range start.Lists {
		c.list("trigger.settings."+l.Field, l.List)
	}
}

// setting places an error of a setting.
func (c *checker) setting(path string, err error) {
	var placed *form.Error
	if errors.As(err, &placed) {
		if placed.Field != "" {
			path += "." + placed.Field
		}
		err = placed.Err
	}
	c.fault(path, err)
}

func nonNil(m map[string]any) map[string]any {
	if m == nil {
		return map[string]any{}
	}
	return m
}
