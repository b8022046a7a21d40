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
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
	"youngtrellis/internal/core/near"
	"youngtrellis/internal/core/words"
)

// Format is what every connector document begins with.
const Format = "young-trellis-connector/1"

// MaxBytes is the largest connector document.
const MaxBytes = 4 << 20

// mostMarks is how many lines, commas and brackets a document has at most. There are
// about as many values, and each takes some hundred bytes to be read, however short it
// is written.
const mostMarks = 400_000

// mostExpressions is how many expressions a document has at most.
const mostExpressions = 100_000

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
	if n := marks(text); n > mostMarks {
		return nil, []document.Problem{{Severity: document.SeverityError, Line: 1, Column: 1, Message: fmt.Sprintf("The document holds about %s values; a connector has at most %s.", words.Number(n), words.Number(mostMarks)), Cure: "Make several connectors of it, or leave samples and long lists out."}}
	}
	if n := bytes.Count(text, []byte("(=")); n > mostExpressions {
		return nil, []document.Problem{{Severity: document.SeverityError, Line: 1, Column: 1, Message: fmt.Sprintf("The document holds about %s expressions; a connector has at most %s.", words.Number(n), words.Number(mostExpressions)), Cure: "Make several connectors of it."}}
	}
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

func marks(text []byte) (n int) {
	for _, mark := range []string{"\n", ",", "[", "{"} {
		n += bytes.Count(text, []byte(mark))
	}
	return n
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

// Pause is how long to wait before the next look at a job that was begun so
// long ago: a quarter of that, at least every and at most ten times every.
func (j *Job) Pause(ago time.Duration) time.Duration {
	return min(max(j.every, ago/4), 10*j.every)
}

// Ends is the longest that a job is followed.
func (j *Job) Ends() time.Duration { return j.deadline }

// Action finds an action by name; the error offers the nearest.
func (c *Connector) Action(name string) (*Action, error) {
	if a, ok := c.Actions[name]; ok {
		return a, nil
	}
	return nil, fmt.Errorf("%s has no action %q.%s", c.Title, name, near.Hint(name, c.Order))
}

// Web tells whether its other side is called over HTTP: it is not where one signs
// in with the user and password of another protocol.
func (c *Connector) Web() bool {
	return !slices.ContainsFunc(c.SignIn, func(w SignIn) bool { return w.Method == Login })
}

// Way finds a sign-in by what it is called; the first where the name is empty.
func (c *Connector) Way(name string) (*SignIn, bool) {
	for i := range c.SignIn {
		if name == "" || c.SignIn[i].Called() == name {
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

// SecretInput gives the values of those fields that are entered as secrets: a password
// that an action sets, say.
func (a *Action) SecretInput(input map[string]any) (out []string) {
	for _, p := range a.Properties {
		if text, ok := input[p.Name].(string); ok && (p.Schema["writeOnly"] == true || p.Schema["hint"] == "secret") {
			out = append(out, text)
		}
	}
	return out
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
