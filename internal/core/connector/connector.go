// Package connector reads connector documents: how an application is signed in
// to, what it can do, how a request is built and how its answer is read. It
// builds and reads; it sends nothing.
//
//	format: young-trellis-connector/1
//	name: tables
//	actions:
//	  append:
//	    sentence: Add a row to {workbook}, tab {tab}
//	    request: {method: POST, path: "/v1/tabs/(= input.tab )/rows", json: {values: (= input.values )}}
package connector

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/near"
)

// Format is what every connector document begins with.
const Format = "young-trellis-connector/1"

// MaxBytes is the largest connector document.
const MaxBytes = 8 << 20

// Connector describes one application.
type Connector struct {
	Format   string              `doc:"format,required"`
	Name     string              `doc:"name,required"`
	Title    string              `doc:"title,required"`
	About    string              `doc:"about"`
	Docs     string              `doc:"docs"` // address of the application's own documentation
	Version  int                 `doc:"version,required"`
	Author   string              `doc:"author"`
	Account  map[string]any      `doc:"account"` // JSON Schema of the account's parameters
	Base     string              `doc:"base,required"`
	SignIn   []SignIn            `doc:"sign_in,required"`
	Check    Check               `doc:"check,required"`
	Limits   Limits              `doc:"limits"`
	Choices  map[string]*Choice  `doc:"choices"`
	Actions  map[string]*Action  `doc:"actions"`
	Triggers map[string]*Trigger `doc:"triggers"`
	Failure  Failure             `doc:"failure"`
	Left     string              `doc:"left"`  // template over response and header: what is left of the plan
	Order    []string            `doc:"order"` // in which actions are offered

	// Text is the document as it was read.
	Text string

	base              *expr.Template
	left              *expr.Template
	accountProperties []form.Property
}

// Limits are what the application takes from one account.
type Limits struct {
	Calls    int     `doc:"calls"`    // in each period
	Per      string  `doc:"per"`      // the period; 1s unless given
	Parallel int     `doc:"parallel"` // calls at once
	Payload  int     `doc:"payload"`  // largest request, in bytes
	Seconds  float64 `doc:"seconds"`  // longest audio or video

	// Spacing is the least time between two calls; 0 for no limit.
	Spacing time.Duration
}

// Check is the call that tells whether an account works, and whose it is.
type Check struct {
	Request Request `doc:"request,required"`
	Says    string  `doc:"says,required"`
	Needs   []Need  `doc:"needs"`      // what the account's plan must include
	Scopes  string  `doc:"scopes"`     // expression over response and header: the scopes granted
	Any     bool    `doc:"any_answer"` // every answer but 401 and 403 is good: nothing better is known

	says   *expr.Template
	scopes *expr.Program
}

// Need is something that an account must have; Says is told where it has not.
type Need struct {
	When string `doc:"when,required"` // holds where the need is met
	Says string `doc:"says,required"`
	when *expr.Program
}

// Choice is a list that a person picks from.
type Choice struct {
	Request Request  `doc:"request,required"`
	Each    string   `doc:"each,required"`
	Value   string   `doc:"value,required"`
	Label   string   `doc:"label,required"`
	Needs   []string `doc:"needs"`   // fields that must be filled in first
	Search  string   `doc:"search"`  // query parameter that takes what is searched for
	Address string   `doc:"address"` // pattern that finds the id, as its first group, in an address copied out of a browser
	Paging  *Paging  `doc:"paging"`
	Empty   string   `doc:"empty"`   // said where the list has nothing
	Refused string   `doc:"refused"` // said where the account may not read it

	each, value, label *expr.Program
	address            *regexp.Regexp
}

// Action is one thing that the application can do.
type Action struct {
	Title    string         `doc:"title,required"`
	Sentence string         `doc:"sentence,required"`
	Summary  string         `doc:"summary"`
	Help     string         `doc:"help"`
	Effect   string         `doc:"effect,required"`
	Repeat   string         `doc:"repeat"`
	Lasts    string         `doc:"key_lasts"` // how long the other side knows an Idempotency-Key
	Fields   map[string]any `doc:"fields,required"`
	Request  Request        `doc:"request,required"`
	Answer   string         `doc:"answer"`    // auto unless given: json, text, file
	Each     string         `doc:"each"`      // where the items are; makes the action give a list
	Output   string         `doc:"output"`    // what a single answer becomes; all of it unless given
	LeaveOut []string       `doc:"leave_out"` // paths dropped before the result is kept
	Paging   *Paging        `doc:"paging"`
	Units    any            `doc:"units"`  // billed units of one call: a number, or an expression over input and response
	Unit     string         `doc:"unit"`   // what is counted: messages, minutes, tokens
	Scopes   []string       `doc:"scopes"` // that the account must have granted
	Sample   any            `doc:"sample"`
	Link     string         `doc:"link"`      // to the real record, over output
	ReadBack *Proof         `doc:"read_back"` // how to read what was written
	Undo     *Proof         `doc:"undo"`
	Job      *Job           `doc:"job"` // makes the action one that takes a while

	Name       string
	Properties []form.Property
	connector  *Connector
	schema     *jsonschema.Schema
	each       *expr.Program
	output     *expr.Program
	units      *expr.Program
	fixedUnits float64
	sample     *expr.Value // over input; nil where it reads nothing
	leaveOut   [][]string
	summary    *expr.Template
	link       *expr.Template
	free       bool // of an http or sql step: its input is a Shape, not fields
	success    *Success
}

// Proof is another action of the same connector, and what it is given of the
// output and input of the write that it proves or undoes.
type Proof struct {
	Action string         `doc:"action,required"`
	Input  map[string]any `doc:"input,required"`
	input  *expr.Value
}

// Job says how a call that only begins something is followed to its end.
// Its templates see submitted, the answer to the first call.
type Job struct {
	Check    Request  `doc:"check,required"`
	Every    string   `doc:"every"`    // 10s unless given; grows to ten times that
	Deadline string   `doc:"deadline"` // 24h unless given
	Done     string   `doc:"done,required"`
	Failed   string   `doc:"failed"`
	Reason   string   `doc:"reason"`   // template: why it failed
	Result   *Request `doc:"result"`   // fetched when it is done; else the check's answer is the result
	Callback string   `doc:"callback"` // name under which input has the address to be told at

	done, failed    *expr.Program
	reason          *expr.Template
	every, deadline time.Duration
}

// Trigger is something in the application that can start runs.
type Trigger struct {
	Title    string         `doc:"title,required"`
	Sentence string         `doc:"sentence,required"`
	Help     string         `doc:"help"`
	Fields   map[string]any `doc:"fields"`
	Polling  *Polling       `doc:"polling"`
	Webhook  *Webhook       `doc:"webhook"`
	Sample   any            `doc:"sample"`

	Name       string
	Properties []form.Property
}

// Polling looks again and again with an action that lists.
type Polling struct {
	Action string         `doc:"action,required"`
	Input  map[string]any `doc:"input"`
	Key    string         `doc:"key,required"` // expression over item: what identifies it
	Order  string         `doc:"order"`        // newest_first, oldest_first or none
	Since  string         `doc:"since"`        // field of the action that takes the time of the last look
}

// Webhook is called by the application.
type Webhook struct {
	Verify       *Signing `doc:"verify"`
	Handshake    string   `doc:"handshake"` // expression over request: what a first call is answered with
	Each         string   `doc:"each"`
	Key          string   `doc:"key"`
	Subscribe    *Request `doc:"subscribe"`
	Unsubscribe  *Request `doc:"unsubscribe"`
	Instructions string   `doc:"instructions"` // where a person pastes the address
}

// Failure says how errors look.
type Failure struct {
	Message string `doc:"message"` // a template over response
	Field   string `doc:"field"`
	Code    string `doc:"code"`  // an expression over response: the other side's own word
	When    string `doc:"when"`  // a condition on the body that means failure inside a 2xx
	Retry   []any  `doc:"retry"` // statuses and codes worth another try
	Final   []any  `doc:"final"` // statuses and codes that are not
	Wait    []Wait `doc:"wait"`  // where the other side says how long to wait

	message, field *expr.Template
	code, when     *expr.Program
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
var partForm = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// Parse reads a connector document and compiles it. The error joins a
// document.Problem for each thing that is wrong.
func Parse(text []byte) (*Connector, error) {
	c, problems := Examine(text)
	errs := []error{}
	for _, p := range problems {
		if p.Severity == document.SeverityError {
			errs = append(errs, p)
		}
	}
	if len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	return c, nil
}

// Examine reads a connector document and lists everything that is wrong with
// it, and what could be better. The connector is nil if the text is not one.
func Examine(text []byte) (*Connector, []document.Problem) {
	doc, err := document.ParseWithin(text, MaxBytes)
	if err != nil {
		return nil, []document.Problem{err.(document.Problem)}
	}
	c := &Connector{Text: string(text)}
	problems := doc.Decode(c)
	if len(problems) == 0 {
		problems = c.compile(doc)
	}
	return c, problems
}

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

// Answered is the sample answer of the action for an input: what is read of the
// input stands in it as it would be sent.
func (a *Action) Answered(input map[string]any) any {
	if a.sample == nil {
		return a.Sample
	}
	v, err := a.sample.Eval(&expr.Scope{Names: map[string]any{"input": a.Picked(input)}})
	if err != nil {
		return a.Sample
	}
	return v
}

type compiler struct {
	doc      *document.Document
	problems []document.Problem
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
	c.accountProperties = properties(doc, "account", c.Account)
	c.base = k.template("base", c.Base, ofAccount)
	c.left = k.template("left", c.Left, ofAnswer)
	if len(c.SignIn) == 0 {
		k.add("sign_in", errors.New("at least one way to sign in is needed; for an open application it is method: none"))
	}
	for i := range c.SignIn {
		c.SignIn[i].compile(k, fmt.Sprintf("sign_in[%d]", i))
	}
	c.Check.compile(k)
	c.Limits.compile(k)
	c.Failure.compile(k, "failure")
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
	rest := []string{}
	for name := range c.Actions {
		if !slices.Contains(c.Order, name) {
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
	schema, err := form.Compile(a.Fields)
	k.add(path+".fields", err)
	a.schema = schema
	a.Properties = properties(k.doc, path+".fields", a.Fields)
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

// Pause is how long to wait before the next look at a job that was begun so
// long ago: a quarter of that, at least every and at most ten times every.
func (j *Job) Pause(ago time.Duration) time.Duration {
	return min(max(j.every, ago/4), 10*j.every)
}

// Ends is the longest that a job is followed.
func (j *Job) Ends() time.Duration { return j.deadline }

func (t *Trigger) compile(k *compiler, c *Connector, name string) {
	path := "triggers." + name
	t.Name = name
	t.Properties = properties(k.doc, path+".fields", t.Fields)
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

func properties(doc *document.Document, path string, schema map[string]any) []form.Property {
	n := doc.At(path + ".properties")
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

// Action finds an action by name; the error offers the nearest.
func (c *Connector) Action(name string) (*Action, error) {
	if a, ok := c.Actions[name]; ok {
		return a, nil
	}
	return nil, fmt.Errorf("%s has no action %q.%s", c.Title, name, near.Hint(name, c.Order))
}

// Way finds a sign-in method; the first where the name is empty.
func (c *Connector) Way(method string) (*SignIn, bool) {
	for i := range c.SignIn {
		if method == "" || c.SignIn[i].Method == method {
			return &c.SignIn[i], true
		}
	}
	return nil, false
}

// List tells whether the action gives several items for one.
func (a *Action) List() bool { return a.each != nil }

// Connector returns the connector that the action belongs to.
func (a *Action) Connector() *Connector { return a.connector }

// Validate checks an input against the action's fields. The error is a
// *form.InputError with every problem.
func (a *Action) Validate(input map[string]any) error {
	return form.Validate(a.schema, a.Properties, input)
}

// Picked replaces every value that a person picked, {id, name}, by its id.
func (a *Action) Picked(input map[string]any) map[string]any {
	out := make(map[string]any, len(input))
	for k, v := range input {
		out[k] = v
	}
	for _, p := range a.Properties {
		if m, ok := out[p.Name].(map[string]any); ok && p.Schema["choices"] != nil {
			if id, ok := m["id"]; ok {
				out[p.Name] = id
			}
		}
	}
	return out
}

// Say fills the action's sentence with the words of its input.
func (a *Action) Say(input map[string]any) string {
	return placeholder.ReplaceAllStringFunc(a.Sentence, func(m string) string {
		name := strings.Trim(m, "{}")
		v := input[name]
		if o, ok := v.(map[string]any); ok && o["name"] != nil {
			v = o["name"]
		}
		switch s := expr.Text(v); {
		case s == "":
			return "…"
		case expr.IsTemplate(s):
			return said(s, name)
		default:
			return a.Word(name, s)
		}
	})
}

// Word gives the word for a value of an enumeration, where the field has one.
func (a *Action) Word(field, value string) string {
	for _, p := range a.Properties {
		if words, ok := p.Schema["words"].(map[string]any); ok && p.Name == field {
			if w, ok := words[value].(string); ok {
				return value + ", " + w
			}
		}
	}
	return value
}

// AccountProperties lists the account's parameters in the order of the document.
func (c *Connector) AccountProperties() []form.Property { return c.accountProperties }

// said words a template in a sentence: by what it reads if that is short.
func said(template, field string) string {
	if words := expr.TemplateWords(template); words != "" && len(words) <= 40 {
		return words
	}
	return "the " + field
}
