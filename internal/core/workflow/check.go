package workflow

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/steps"
)

// Check reads a text and finds everything wrong with it that can be found
// without the outside world. Samples are trigger items; with them, every
// mapping is tried. The workflow is nil if the text is not one at all.
func Check(text []byte, catalog *Catalog, samples []map[string]any) (*Workflow, []document.Problem) {
	w, doc, problems := Read(text)
	if w == nil || doc == nil {
		return nil, problems
	}
	c := &checker{w: w, doc: doc, catalog: catalog, problems: problems}
	c.head()
	c.trigger()
	for i := range w.Steps {
		c.step(i)
	}
	c.refs()
	if len(samples) > 0 && !HasErrors(c.problems) {
		c.try(samples)
	}
	slices.SortStableFunc(c.problems, func(a, b document.Problem) int { return a.Line - b.Line })
	return w, c.problems
}

// HasErrors tells whether a problem among these forbids going live.
func HasErrors(problems []document.Problem) bool {
	return slices.ContainsFunc(problems, func(p document.Problem) bool { return p.Severity == document.SeverityError })
}

type checker struct {
	w        *Workflow
	doc      *document.Document
	catalog  *Catalog
	problems []document.Problem
}

func (c *checker) add(severity, path, message, cure string) {
	line, column := c.doc.Place(path)
	p := document.Problem{Severity: severity, Path: path, Line: line, Column: column, Step: c.w.stepAt(path), Message: message, Cure: cure}
	if !slices.Contains(c.problems, p) {
		c.problems = append(c.problems, p)
	}
}

func (c *checker) errorf(path, format string, args ...any) {
	c.add(document.SeverityError, path, fmt.Sprintf(format, args...), "")
}

// fault places an error of an expression at its character where it can.
func (c *checker) fault(path string, err error) {
	var inner *expr.PathError
	if errors.As(err, &inner) {
		path += "." + inner.Path
	}
	var e *expr.Error
	if !errors.As(err, &e) {
		c.errorf(path, "%s", sentence(err.Error()))
		return
	}
	c.errorf(path, "%s", sentence(e.Message))
	p := &c.problems[len(c.problems)-1]
	if n := c.doc.At(path); n != nil && !strings.Contains(n.Value, "\n") {
		p.Column += e.Pos
		if n.Style != 0 {
			p.Column++
		}
	}
	p.Message += " In " + fmt.Sprintf("“%s”.", e.Source)
}

func sentence(s string) string {
	if s == "" {
		return s
	}
	s = strings.ToUpper(s[:1]) + s[1:]
	if !strings.HasSuffix(s, ".") && !strings.HasSuffix(s, "?") {
		s += "."
	}
	return s
}

func (c *checker) head() {
	w := c.w
	if w.Format != "" && w.Format != Format {
		c.add(document.SeverityError, "format", fmt.Sprintf("The format %q is not known.", w.Format), "Write "+Format+".")
	}
	if w.Name != "" && !workflowName.MatchString(w.Name) {
		c.add(document.SeverityError, "name", fmt.Sprintf("%q cannot be the name of a workflow.", w.Name), "Use small letters, digits and hyphens, and begin with a letter.")
	}
	if len(w.Steps) > MaxSteps {
		c.errorf("steps", "There are %d steps; a workflow has at most %d.", len(w.Steps), MaxSteps)
	}
	if w.Label != "" {
		if _, err := expr.Compile(w.Label); err != nil {
			c.fault("label", err)
		}
	}
	for i, f := range w.FindBy {
		if _, err := expr.Compile(f); err != nil {
			c.fault(fmt.Sprintf("find_by[%d]", i), err)
		}
	}
	if len(w.Steps) == 0 {
		c.add(document.SeverityWarning, "steps", "The workflow has no steps yet.", "Add a first step.")
	}
}

func (c *checker) trigger() {
	t := c.w.Trigger
	if t.Type == "" {
		return
	}
	kind, ok := TriggerKinds[t.Type]
	if !ok {
		c.add(document.SeverityError, "trigger.type", fmt.Sprintf("There is no trigger %q.", t.Type), strings.TrimSpace(near.Hint(t.Type, []string{"webhook", "manual"})))
		return
	}
	schema, err := connector.CompileSchema(kind.Schema)
	if err != nil {
		c.errorf("trigger", "%v", err)
		return
	}
	c.input("trigger.settings", connector.ValidateInput(schema, kind.Properties, nonNil(t.Settings)))
	if key, ok := t.Settings["key"].(string); ok {
		if _, err := expr.Compile(key); err != nil {
			c.fault("trigger.settings.key", err)
		}
	}
	if d, ok := t.Settings["for"].(string); ok {
		if _, err := expr.ParseDuration(d); err != nil {
			c.errorf("trigger.settings.for", "%s", sentence(err.Error()))
		}
	}
}

func nonNil(m map[string]any) map[string]any {
	if m == nil {
		return map[string]any{}
	}
	return m
}

func (c *checker) input(path string, err error) {
	var ie *connector.InputError
	switch {
	case err == nil:
	case errors.As(err, &ie):
		for _, f := range ie.Fields {
			c.errorf(path+"."+f.Field, "%s", sentence(f.Message))
		}
	default:
		c.errorf(path, "%s", sentence(err.Error()))
	}
}

func (c *checker) step(i int) {
	s, path := &c.w.Steps[i], fmt.Sprintf("steps[%d]", i)
	if s.Name != "" && !stepName.MatchString(s.Name) {
		c.add(document.SeverityError, path+".name", fmt.Sprintf("%q cannot be the name of a step.", s.Name), "Use small letters, digits and _, and begin with a letter.")
	}
	for j := range i {
		if c.w.Steps[j].Name == s.Name && s.Name != "" {
			c.errorf(path+".name", "Step %d is called %q already.", j+1, s.Name)
		}
	}
	c.words(path, s)
	if k, ok := steps.Find(s.Type); ok {
		c.kind(path, s, k)
	} else if s.Type != "" {
		c.action(path, s)
	}
	c.secrets(path+".settings", s.Settings)
	c.secrets(path+".input", s.Input)
}

func (c *checker) words(path string, s *Step) {
	oneOf := func(key, value string, allowed ...string) {
		if value != "" && !slices.Contains(allowed, value) {
			c.add(document.SeverityError, path+"."+key, fmt.Sprintf("%s is %q.", key, value), "It can be "+strings.Join(allowed, ", ")+"."+near.Hint(value, allowed))
		}
	}
	oneOf("on_error", s.OnError, OnErrorStop, OnErrorSetAside)
	oneOf("when_none", s.WhenNone, WhenNoneEnd, WhenNonePass, WhenNoneFail)
	oneOf("repeat", s.Repeat, call.Safe, call.Keyed, call.Unsafe)
	oneOf("when_unknown", s.WhenUnknown, UnknownAsk, UnknownResend, UnknownDone)
	if s.Output != "" && !outputForm.MatchString(s.Output) {
		c.add(document.SeverityError, path+".output", fmt.Sprintf("output is %q.", s.Output), "It can be replace, keep, or under and a name, as in under slot.")
	}
	if s.Parallel < 0 || s.Parallel > MaxParallel {
		c.errorf(path+".parallel", "parallel is %d; it lies between 1 and %d.", s.Parallel, MaxParallel)
	}
	if _, err := s.Patience(); err != nil {
		c.errorf(path+".retry", "%s", sentence(err.Error()))
	}
	if _, err := s.Deadline(); err != nil {
		c.errorf(path+".timeout", "%s", sentence(err.Error()))
	}
}

func (c *checker) kind(path string, s *Step, k *steps.Kind) {
	if s.Input != nil {
		c.add(document.SeverityError, path+".input", "input belongs to actions.", "What a "+s.Type+" step does stands under settings.")
	}
	switch {
	case s.Connection != "" && !k.Connects:
		c.errorf(path+".connection", "A %s step calls nobody and takes no connection.", s.Type)
	case s.Connection != "":
		c.connection(path, s, k.Needs, k.Title)
	case k.Needs != "":
		c.add(document.SeverityError, path, fmt.Sprintf("%s needs a connection to a database.", quoted(s.Name)), "Name one under connection.")
	}
	for _, err := range k.Check(s.Settings) {
		var se *steps.SettingError
		if errors.As(err, &se) {
			c.fault(path+".settings."+se.Setting, se.Err)
		} else {
			c.fault(path+".settings", err)
		}
	}
}

func (c *checker) action(path string, s *Step) {
	con, _, ok := s.IsAction()
	if !ok {
		c.add(document.SeverityError, path+".type", fmt.Sprintf("There is no step kind %q.", s.Type), strings.TrimSpace(near.Hint(s.Type, c.catalog.Types())))
		return
	}
	a, err := c.catalog.Action(s)
	if err != nil {
		c.errorf(path+".type", "%s", sentence(err.Error()))
		return
	}
	if s.Settings != nil {
		c.add(document.SeverityError, path+".settings", "settings belong to built-in step kinds.", "What an action is given stands under input.")
	}
	if s.Connection == "" {
		c.add(document.SeverityError, path, fmt.Sprintf("%s needs a connection to %s.", quoted(s.Name), a.Connector().Title), "Name one under connection.")
	} else {
		c.connection(path, s, con, a.Connector().Title)
		c.scopes(path, s, a)
	}
	if _, err := expr.CompileValue(anyMap(s.Input)); err != nil {
		c.fault(path+".input", err)
		return
	}
	c.constants(path, s, a)
}

func anyMap(m map[string]any) any { return nonNil(m) }

// scopes warns of an action that the account has not granted.
func (c *checker) scopes(path string, s *Step, a *connector.Action) {
	for _, k := range c.catalog.Connections {
		if k.Name != s.Connection || len(k.Scopes) == 0 {
			continue
		}
		for _, scope := range a.Scopes {
			if !slices.Contains(k.Scopes, scope) {
				c.add(document.SeverityError, path+".connection", fmt.Sprintf("%q needs the scope %s, which the connection %q was not granted.", a.Title, scope, k.Name), "Sign in again under Connections and choose it.")
			}
		}
	}
}

// connection checks that the one a step names is there, fits and may be used.
// An empty con fits any.
func (c *checker) connection(path string, s *Step, con, title string) {
	var fitting []string
	for _, k := range c.catalog.Connections {
		if k.Name == s.Connection {
			switch {
			case con != "" && k.Connector != con:
				c.errorf(path+".connection", "The connection %q is to %s, and this step needs %s.", k.Name, k.Connector, con)
			case !k.may(s):
				c.add(document.SeverityError, path+".connection", fmt.Sprintf("You may not use the connection %q for this.", k.Name), "Ask an administrator to grant it to you under Connections.")
			case k.State == "broken":
				c.add(document.SeverityWarning, path+".connection", fmt.Sprintf("The connection %q does not work at the moment.", k.Name), "Check it under Connections.")
			}
			return
		}
		if con == "" || k.Connector == con {
			fitting = append(fitting, k.Name)
		}
	}
	cure := fmt.Sprintf("Add a connection to %s first.", title)
	if len(fitting) > 0 {
		cure = "There are: " + strings.Join(fitting, ", ") + "."
	}
	c.add(document.SeverityError, path+".connection", fmt.Sprintf("There is no connection %q.", s.Connection), cure)
}

func quoted(name string) string { return "The step " + name }

// constants checks what can be known of an input before any item is there:
// unknown fields, missing ones, and values without an expression.
func (c *checker) constants(path string, s *Step, a *connector.Action) {
	known := make([]string, len(a.Properties))
	for i, p := range a.Properties {
		known[i] = p.Name
	}
	fixed := map[string]any{}
	for name, v := range s.Input {
		if !slices.Contains(known, name) {
			c.add(document.SeverityError, path+".input."+name, fmt.Sprintf("%q is not a field of %s.", name, a.Title), strings.TrimSpace(near.Hint(name, known)))
			continue
		}
		if !hasTemplate(v) {
			fixed[name] = v
		}
	}
	for _, p := range a.Properties {
		v, given := s.Input[p.Name]
		if p.Required && (!given || v == nil || v == "") {
			title, _ := p.Schema["title"].(string)
			c.add(document.SeverityError, path+".input", fmt.Sprintf("%s of %q is to be filled in.", title, s.Name), "")
			delete(fixed, p.Name)
			continue
		}
		if text, ok := v.(string); ok && p.Schema["choices"] != nil && !expr.IsTemplate(text) && strings.Contains(text, " ") {
			c.add(document.SeverityWarning, path+".input."+p.Name, fmt.Sprintf("%s takes an id, and “%s” looks like a name.", p.Name, text), "Pick it from the list; then both are kept.")
		}
	}
	err := a.Validate(a.Picked(fixed))
	var ie *connector.InputError
	if errors.As(err, &ie) {
		for _, f := range ie.Fields {
			if _, ok := fixed[strings.SplitN(f.Field, ".", 2)[0]]; ok {
				c.errorf(path+".input."+f.Field, "%s", sentence(f.Message))
			}
		}
	}
}

func hasTemplate(v any) bool {
	switch v := v.(type) {
	case string:
		return expr.IsTemplate(v)
	case []any:
		return slices.ContainsFunc(v, hasTemplate)
	case map[string]any:
		for _, e := range v {
			if hasTemplate(e) {
				return true
			}
		}
	}
	return false
}

var keyLike = regexp.MustCompile(`(?i)^(bearer |basic )?[a-z0-9+/_=-]{28,}$`)

// secrets warns of text that looks like a key: it belongs into a connection.
func (c *checker) secrets(path string, v any) {
	switch v := v.(type) {
	case string:
		if keyLike.MatchString(v) && strings.ContainsAny(v, "0123456789") && strings.ContainsAny(strings.ToLower(v), "abcdefghijklmnopqrstuvwxyz") {
			c.add(document.SeverityWarning, path, "This looks like a key. Everybody who can read the workflow can read it here.", "Put it into a connection.")
		}
	case []any:
		for i, e := range v {
			c.secrets(fmt.Sprintf("%s[%d]", path, i), e)
		}
	case map[string]any:
		for k, e := range v {
			c.secrets(path+"."+k, e)
		}
	}
}

// refs checks that every steps.NAME is an earlier step.
func (c *checker) refs() {
	for i := range c.w.Steps {
		s, path := &c.w.Steps[i], fmt.Sprintf("steps[%d]", i)
		check := func(at string, refs []expr.Ref) {
			for _, r := range refs {
				c.ref(at, i, r)
			}
		}
		if k, ok := steps.Find(s.Type); ok && k.Call != nil {
			if _, tree, err := k.Call(nonNil(s.Settings)); err == nil {
				if v, err := expr.CompileValue(tree); err == nil {
					check(path+".settings", v.Refs())
				}
			}
			continue
		} else if ok {
			if op, err := k.Compile(nonNil(s.Settings)); err == nil {
				for setting, refs := range op.Refs() {
					check(path+".settings."+setting, refs)
				}
			}
			continue
		}
		for name, v := range s.Input {
			if compiled, err := expr.CompileValue(v); err == nil {
				check(path+".input."+name, compiled.Refs())
			}
		}
	}
}

func (c *checker) ref(path string, at int, r expr.Ref) {
	switch r.Path[0] {
	case "steps":
		if len(r.Path) < 2 {
			return
		}
		j, _ := c.w.Step(r.Path[1])
		switch {
		case j < 0:
			c.add(document.SeverityError, path, fmt.Sprintf("There is no step %q.", r.Path[1]), strings.TrimSpace(near.Hint(r.Path[1], c.w.Names())))
		case j >= at:
			c.errorf(path, "The step %q comes later; only what earlier steps gave can be used.", r.Path[1])
		}
	case "vars":
		if len(r.Path) > 1 {
			if _, ok := c.w.Vars[r.Path[1]]; !ok {
				names := make([]string, 0, len(c.w.Vars))
				for n := range c.w.Vars {
					names = append(names, n)
				}
				c.add(document.SeverityError, path, fmt.Sprintf("There is no variable %q.", r.Path[1]), strings.TrimSpace(near.Hint(r.Path[1], names)))
			}
		}
	case "item", "trigger", "run":
	default:
		c.errorf(path, "%s cannot be used in a workflow.", r.Path[0])
	}
}

// try sends the samples through the steps, with the declared sample of each
// action for an answer, and reports what would fail.
func (c *checker) try(samples []map[string]any) {
	plan, err := Compile(c.w, c.catalog)
	if err != nil {
		return
	}
	items := make([]*item.Item, 0, len(samples))
	for i, s := range samples {
		items = append(items, item.New(uint32(i), s, sampleTime))
	}
	for i, step := range plan.Steps {
		if step.Off || len(items) == 0 {
			continue
		}
		path := fmt.Sprintf("steps[%d]", i)
		c.missing(path, step, items)
		items = c.tryStep(path, plan, step, items)
		if step.Action != nil && step.Action.Sample == nil && step.Output != "keep" {
			return // what it gives is not known before it was called
		}
	}
}

// missing warns of a field that no item has.
func (c *checker) missing(path string, step *CompiledStep, items []*item.Item) {
	for at, refs := range step.Refs() {
		for _, r := range refs {
			if r.Path[0] != "item" || len(r.Path) < 2 {
				continue
			}
			if slices.ContainsFunc(items, func(it *item.Item) bool { _, ok := it.Fields[r.Path[1]]; return ok }) {
				continue
			}
			cure := ""
			if n := expr.NearestField(r.Path[1], items[0].Fields); n != "" {
				cure = "Did you mean item." + n + "?"
			}
			c.add(document.SeverityWarning, path+"."+at, fmt.Sprintf("No sample has a field %q here.", r.Path[1]), cure)
		}
	}
}

func (c *checker) tryStep(path string, plan *Plan, step *CompiledStep, items []*item.Item) []*item.Item {
	var out []*item.Item
	failures, first, firstPath := 0, error(nil), path
	note := func(at string, err error) {
		if failures++; first == nil {
			first, firstPath = err, path+"."+at
		}
	}
	for _, it := range items {
		scope := plan.Scope(it, step, RunFacts{})
		if step.Operation != nil {
			r, err := step.Operation.Apply(scope)
			switch {
			case err != nil:
				note("settings", err)
			case !r.Held && r.Fields != nil:
				out = append(out, it.Derive(step.Index, r.Fields, it.At))
			case !r.Held:
				out = append(out, it)
			}
			continue
		}
		v, err := step.Input.Eval(scope)
		input, _ := v.(map[string]any)
		if err == nil && step.Operation == nil && len(step.Step.Input) > 0 {
			err = step.Action.Validate(step.Action.Picked(input))
		}
		if err != nil {
			note("input", err)
			continue
		}
		out = append(out, step.SampleOutput(it)...)
	}
	if failures > 0 {
		c.add(document.SeverityWarning, firstPath, fmt.Sprintf("%s of %s would fail here: %s", number(failures), plural(len(items), "sample"), sentence(first.Error())), "")
	}
	return out
}

func number(n int) string { return fmt.Sprint(n) }

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
