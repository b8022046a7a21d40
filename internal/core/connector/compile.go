package connector

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/item"
)

// compileSample reads the expressions of a sample: what it answers for what would
// be sent.
func (a *Action) compileSample(k *compiler, path string) {
	v, err := expr.CompileValue(a.Sample, expr.Names{"input"})
	if err != nil {
		k.add(path, err)
		return
	}
	if len(v.Refs()) > 0 {
		a.sample = v
	}
}

type compiler struct {
	doc      *document.Document
	problems []document.Problem
	actions  map[string]*yaml.Node         // by their names, of which there may be thousands
	schemas  map[string]*jsonschema.Schema // of fields, by their text
}

// schema compiles one. Many actions of a connector often take the same: it is
// compiled once for all of them.
func (c *compiler) schema(of map[string]any) (*jsonschema.Schema, error) {
	text, err := item.Encode(of)
	if err != nil {
		return nil, err
	}
	if s, ok := c.schemas[string(text)]; ok {
		return s, nil
	}
	s, err := form.Compile(of)
	if err == nil {
		if c.schemas == nil {
			c.schemas = map[string]*jsonschema.Schema{}
		}
		c.schemas[string(text)] = s
	}
	return s, err
}

// at finds the node at a path.
func (c *compiler) at(path string) *yaml.Node {
	rest, ok := strings.CutPrefix(path, "actions.")
	if !ok {
		return c.doc.At(path)
	}
	if c.actions == nil {
		c.actions = map[string]*yaml.Node{}
		if n := c.doc.At("actions"); n != nil {
			for i := 0; i+1 < len(n.Content); i += 2 {
				c.actions[n.Content[i].Value] = n.Content[i+1]
			}
		}
	}
	name, path, _ := strings.Cut(rest, ".")
	return document.Under(c.actions[name], path)
}

// Bounds of a connector.
const (
	MaxActions = 10_000
	MaxFields  = 500 // of an action
)

func asObject(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

func (c *compiler) add(path string, err error) { c.note(document.SeverityError, path, err) }

func (c *compiler) note(severity, path string, err error) {
	if err == nil {
		return
	}
	line, column := c.doc.Place(path)
	c.problems = append(c.problems, document.Problem{Severity: severity, Path: path, Line: line, Column: column, Message: err.Error()})
}

// Names that the expressions of a document read, by where they stand.
var (
	ofAccount = expr.Names{"account"}
	ofElement = expr.Names{"item"}
	ofAnswer  = expr.Names{"response", "output", "status", "header", "input"}
	ofOutput  = expr.Names{"response", "output", "input"}
	ofCall    = expr.Names{"account", "input", "page"}
	ofCheck   = expr.Names{"account", "page"}
	ofChoice  = expr.Names{"account", "input", "search", "page"}
	ofJob     = expr.Names{"account", "input", "submitted", "page"}
	ofLook    = append(expr.Names{"submitted"}, ofAnswer...)
	ofEvent   = expr.Names{"method", "path", "query", "header", "body"}
	ofSigned  = expr.Names{"method", "path", "query", "host", "time", "nonce", "body", "body_hash"}
)

func (c *compiler) program(path, source string, in expr.Names) *expr.Program {
	if source == "" {
		return nil
	}
	p, err := expr.Compile(source, in)
	c.add(path, err)
	return p
}

func (c *compiler) template(path, source string, in expr.Names) *expr.Template {
	if source == "" {
		return nil
	}
	t, err := expr.CompileTemplate(source, in)
	c.add(path, err)
	return t
}

func (c *compiler) duration(path, source string, otherwise time.Duration) time.Duration {
	if source == "" {
		return otherwise
	}
	d, err := expr.ParseDuration(source)
	if err == nil && d <= 0 {
		err = fmt.Errorf("%s is not a length of time", source)
	}
	c.add(path, err)
	return d
}

func (c *Connector) compile(doc *document.Document) []document.Problem {
	k := &compiler{doc: doc}
	if c.Format != Format {
		k.add("format", fmt.Errorf("the format is %s, not %q", Format, c.Format))
	}
	if !nameForm.MatchString(c.Name) {
		k.add("name", fmt.Errorf("%q is not a name: small letters, digits and hyphens", c.Name))
	}
	if c.Version < 1 {
		k.add("version", errors.New("the version is a whole number from 1"))
	}
	if len(c.Account) > 0 {
		_, err := form.Compile(c.Account)
		k.add("account", err)
	}
	c.accountProperties = properties(k, "account", c.Account)
	c.base = k.template("base", c.Base, ofAccount)
	c.left = k.template("left", c.Left, ofAnswer)
	if c.Docs != "" && !SafeLink(c.Docs) {
		k.add("docs", fmt.Errorf("%q is not an address that can be followed: only https, http and mailto are", c.Docs))
	}
	if len(c.SignIn) == 0 {
		k.add("sign_in", errors.New("at least one way to sign in is needed; for an open application it is method: none"))
	}
	for i := range c.SignIn {
		way := &c.SignIn[i]
		way.compile(k, fmt.Sprintf("sign_in[%d]", i))
		if first, _ := c.Way(way.Called()); first != way {
			k.add(fmt.Sprintf("sign_in[%d]", i), fmt.Errorf("two ways to sign in are called %s; give this one a name of its own", way.Called()))
		}
	}
	c.Check.compile(k)
	c.Limits.compile(k)
	c.Failure.compile(k, "failure")
	if len(c.Actions) > MaxActions {
		k.add("actions", fmt.Errorf("a connector has at most %d actions, and this has %d", MaxActions, len(c.Actions)))
		return k.problems
	}
	for name, ch := range c.Choices {
		ch.compile(k, c, "choices."+name)
	}
	for name, a := range c.Actions {
		a.compile(k, c, name)
	}
	for name, t := range c.Triggers {
		t.compile(k, c, name)
	}
	for i, name := range c.Order {
		if c.Actions[name] == nil {
			k.add(fmt.Sprintf("order[%d]", i), fmt.Errorf("there is no action %q", name))
		}
	}
	rest, ordered := []string{}, map[string]bool{}
	for _, name := range c.Order {
		ordered[name] = true
	}
	for name := range c.Actions {
		if !ordered[name] {
			rest = append(rest, name)
		}
	}
	slices.Sort(rest)
	c.Order = append(c.Order, rest...)
	slices.SortStableFunc(k.problems, func(a, b document.Problem) int { return a.Line - b.Line })
	return k.problems
}

func (c *Check) compile(k *compiler) {
	c.Request.compile(k, "check.request", ofCheck)
	c.says = k.template("check.says", c.Says, ofAnswer)
	c.scopes = k.program("check.scopes", c.Scopes, ofAnswer)
	for i := range c.Needs {
		c.Needs[i].when = k.program(fmt.Sprintf("check.needs[%d].when", i), c.Needs[i].When, ofAnswer)
	}
}

func (l *Limits) compile(k *compiler) {
	if l.Calls < 0 || l.Parallel < 0 || l.Payload < 0 || l.Seconds < 0 {
		k.add("limits", errors.New("a limit is not negative"))
	}
	per := k.duration("limits.per", l.Per, time.Second)
	if l.Calls > 0 {
		l.Spacing = per / time.Duration(l.Calls)
	}
}

func (c *Choice) compile(k *compiler, con *Connector, path string) {
	c.Request.compile(k, path+".request", ofChoice)
	c.each, c.value, c.label = k.program(path+".each", c.Each, ofAnswer), k.program(path+".value", c.Value, ofElement), k.program(path+".label", c.Label, ofElement)
	c.Paging.compile(k, path+".paging")
	if c.Address != "" {
		p, err := regexp.Compile(c.Address)
		if err == nil && p.NumSubexp() < 1 {
			err = errors.New("the pattern needs a group that holds the id")
		}
		k.add(path+".address", err)
		c.address = p
	}
}

var repeats = []string{call.Safe, call.Keyed, call.Unsafe}

func (a *Action) compile(k *compiler, c *Connector, name string) {
	path := "actions." + name
	a.Name, a.connector = name, c
	if !partForm.MatchString(name) {
		k.add(path, fmt.Errorf("%q cannot be the name of an action: small letters, digits and _", name))
	}
	if a.Effect != call.Read && a.Effect != call.Write {
		k.add(path+".effect", fmt.Errorf("the effect is read or write, not %q", a.Effect))
	}
	if a.Effect == call.Read && !readsByItself(a.Request.Method) {
		k.note(document.SeverityWarning, path+".effect", fmt.Errorf("it calls itself a read and uses %s; a rehearsal makes this call for real", a.Request.Method))
	}
	if a.Repeat == "" {
		a.Repeat = repeatOf(a.Effect, a.Request.Method)
	}
	if !slices.Contains(repeats, a.Repeat) {
		k.add(path+".repeat", fmt.Errorf("repeat is safe, keyed or unsafe, not %q", a.Repeat))
	}
	if a.Effect == call.Write && a.Each != "" {
		k.add(path+".each", errors.New("only an action that reads gives a list of items"))
	}
	if a.Sample == nil && a.Effect == call.Write {
		k.add(path, errors.New("a sample output is missing; rehearsal answers with it"))
	}
	if !slices.Contains([]string{"", "auto", "json", "text", "file"}, a.Answer) {
		k.add(path+".answer", fmt.Errorf("the answer is auto, json, text or file, not %q", a.Answer))
	}
	k.duration(path+".key_lasts", a.Lasts, 24*time.Hour)
	a.Request.compile(k, path+".request", ofCall)
	a.Paging.compile(k, path+".paging")
	a.each, a.output = k.program(path+".each", a.Each, ofAnswer), k.program(path+".output", a.Output, ofAnswer)
	a.summary, a.link = k.template(path+".summary", a.Summary, ofOutput), k.template(path+".link", a.Link, ofOutput)
	a.compileUnits(k, path+".units")
	a.compileSample(k, path+".sample")
	for _, p := range a.LeaveOut {
		a.leaveOut = append(a.leaveOut, strings.Split(p, "."))
	}
	if n := len(asObject(a.Fields["properties"])); n > MaxFields {
		k.add(path+".fields", fmt.Errorf("an action has at most %d fields, and this has %d", MaxFields, n))
		return
	}
	schema, err := k.schema(a.Fields)
	k.add(path+".fields", err)
	a.schema = schema
	a.Properties = properties(k, path+".fields", a.Fields)
	for _, p := range a.Properties {
		if list, _ := p.Schema["choices"].(string); list != "" && c.Choices[list] == nil {
			k.add(path+".fields.properties."+p.Name, fmt.Errorf("there is no choice list %q", list))
		}
	}
	for _, m := range placeholder.FindAllStringSubmatch(a.Sentence, -1) {
		if !slices.ContainsFunc(a.Properties, func(p form.Property) bool { return p.Name == m[1] }) {
			k.add(path+".sentence", fmt.Errorf("{%s} is not a field of the action", m[1]))
		}
	}
	a.ReadBack.compile(k, c, path+".read_back")
	a.Undo.compile(k, c, path+".undo")
	a.Job.compile(k, path+".job")
}

// repeatOf is what is taken of a call that nobody says more of: whether the
// other side knows repeats by their key, only its document can tell (RFC 9110,
// section 9.2.2, for the methods).
func repeatOf(effect, method string) string {
	if effect == call.Read || readsByItself(method) || method == "PUT" || method == "DELETE" {
		return call.Safe
	}
	return call.Unsafe
}

func readsByItself(method string) bool {
	return slices.Contains([]string{"GET", "HEAD", "OPTIONS", "PROPFIND", "REPORT", "QUERY", "LIST"}, method)
}

func (a *Action) compileUnits(k *compiler, path string) {
	switch u := a.Units.(type) {
	case nil:
	case int64:
		a.fixedUnits = float64(u)
	case float64:
		a.fixedUnits = u
	case string:
		a.units = k.program(path, u, ofAnswer)
	default:
		k.add(path, errors.New("units is a number or an expression"))
	}
}

func (p *Proof) compile(k *compiler, c *Connector, path string) {
	if p == nil {
		return
	}
	if c.Actions[p.Action] == nil {
		k.add(path+".action", fmt.Errorf("there is no action %q", p.Action))
	}
	v, err := expr.CompileValue(anyOf(p.Input), expr.Names{"output", "input"})
	k.add(path+".input", err)
	p.input = v
}

func anyOf(m map[string]any) any {
	if m == nil {
		return map[string]any{}
	}
	return m
}

func (j *Job) compile(k *compiler, path string) {
	if j == nil {
		return
	}
	j.Check.compile(k, path+".check", ofJob)
	if j.Result != nil {
		j.Result.compile(k, path+".result", ofJob)
	}
	j.done, j.failed = k.program(path+".done", j.Done, ofLook), k.program(path+".failed", j.Failed, ofLook)
	j.reason = k.template(path+".reason", j.Reason, ofLook)
	j.every = k.duration(path+".every", j.Every, 10*time.Second)
	j.deadline = k.duration(path+".deadline", j.Deadline, 24*time.Hour)
}

func (t *Trigger) compile(k *compiler, c *Connector, name string) {
	path := "triggers." + name
	t.Name = name
	t.Properties = properties(k, path+".fields", t.Fields)
	if (t.Polling == nil) == (t.Webhook == nil) {
		k.add(path, errors.New("a trigger is either polling or webhook"))
		return
	}
	if p := t.Polling; p != nil {
		a := c.Actions[p.Action]
		if a == nil || a.Effect != call.Read || a.Each == "" {
			k.add(path+".polling.action", fmt.Errorf("%q is not an action that reads a list", p.Action))
		}
		k.program(path+".polling.key", p.Key, ofElement)
		if !slices.Contains([]string{"", "newest_first", "oldest_first", "none"}, p.Order) {
			k.add(path+".polling.order", fmt.Errorf("the order is newest_first, oldest_first or none, not %q", p.Order))
		}
		return
	}
	w := t.Webhook
	k.program(path+".webhook.each", w.Each, ofEvent)
	k.program(path+".webhook.key", w.Key, ofElement)
	k.program(path+".webhook.handshake", w.Handshake, ofEvent)
	if w.Verify != nil {
		w.Verify.compile(k, path+".webhook.verify")
	}
	if w.Subscribe != nil {
		w.Subscribe.compile(k, path+".webhook.subscribe", ofJob)
	} else if w.Instructions == "" {
		k.add(path+".webhook", errors.New("where there is no subscribe call, instructions must say where a person pastes the address"))
	}
	if w.Unsubscribe != nil {
		w.Unsubscribe.compile(k, path+".webhook.unsubscribe", ofJob)
	}
}

var placeholder = regexp.MustCompile(`\{([a-z_][a-z0-9_]*)\}`)

func properties(k *compiler, path string, schema map[string]any) []form.Property {
	n := k.at(path + ".properties")
	if n == nil {
		return nil
	}
	required, _ := schema["required"].([]any)
	var out []form.Property
	for i := 0; i+1 < len(n.Content); i += 2 {
		s, _ := document.Value(n.Content[i+1]).(map[string]any)
		name := n.Content[i].Value
		out = append(out, form.Property{Name: name, Schema: s, Required: slices.Contains(required, any(name))})
	}
	return out
}
