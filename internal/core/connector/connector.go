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

	"github.com/santhosh-tekuri/jsonschema/v6"

	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/near"
)

// Format is what every connector document begins with.
const Format = "young-trellis-connector/1"

// Effects of an action.
const (
	Read  = "read"
	Write = "write"
)

// Repeats say whether a call whose outcome is unknown may be made again.
const (
	Safe   = "safe"   // it changes nothing the second time
	Keyed  = "keyed"  // the other side knows repeats by the Idempotency-Key
	Unsafe = "unsafe" // it would happen twice
)

// Connector describes one application.
type Connector struct {
	Format  string             `doc:"format,required"`
	Name    string             `doc:"name,required"`
	Title   string             `doc:"title,required"`
	About   string             `doc:"about"`
	Version int                `doc:"version,required"`
	Author  string             `doc:"author"`
	Account map[string]any     `doc:"account"` // JSON Schema of the account's parameters
	Base    string             `doc:"base,required"`
	SignIn  []SignIn           `doc:"sign_in,required"`
	Check   Check              `doc:"check,required"`
	Choices map[string]*Choice `doc:"choices"`
	Actions map[string]*Action `doc:"actions"`
	Failure Failure            `doc:"failure"`
	Order   []string           `doc:"order"` // in which actions are offered

	base              *expr.Template
	accountProperties []Property
}

// SignIn is one way to prove who we are.
type SignIn struct {
	Method string `doc:"method,required" json:"method"` // api_key or bearer
	Title  string `doc:"title,required" json:"title"`
	Help   string `doc:"help" json:"help"`     // where to find what is asked for
	Header string `doc:"header" json:"header"` // for api_key
	Prefix string `doc:"prefix" json:"prefix"` // for bearer; "Bearer" unless given
	Secret string `doc:"secret,required" json:"secret"`
}

// Check is the call that tells whether an account works, and whose it is.
type Check struct {
	Request Request `doc:"request,required"`
	Says    string  `doc:"says,required"`
	says    *expr.Template
}

// Choice is a list that a person picks from.
type Choice struct {
	Request Request  `doc:"request,required"`
	Each    string   `doc:"each,required"`
	Value   string   `doc:"value,required"`
	Label   string   `doc:"label,required"`
	Needs   []string `doc:"needs"` // fields that must be filled in first
	Paging  *Paging  `doc:"paging"`
	Empty   string   `doc:"empty"` // said where the list has nothing

	each, value, label *expr.Program
}

// Action is one thing that the application can do.
type Action struct {
	Title    string         `doc:"title,required"`
	Sentence string         `doc:"sentence,required"`
	Summary  string         `doc:"summary"`
	Help     string         `doc:"help"`
	Effect   string         `doc:"effect,required"`
	Repeat   string         `doc:"repeat"`
	Fields   map[string]any `doc:"fields,required"`
	Request  Request        `doc:"request,required"`
	Each     string         `doc:"each"`   // where the items are; makes the action give a list
	Output   string         `doc:"output"` // what a single answer becomes; all of it unless given
	Paging   *Paging        `doc:"paging"`
	Units    float64        `doc:"units"` // billed units of one call
	Sample   any            `doc:"sample"`
	Link     string         `doc:"link"` // to the real record, over output

	Name       string
	connector  *Connector
	schema     *jsonschema.Schema
	each       *expr.Program
	output     *expr.Program
	summary    *expr.Template
	link       *expr.Template
	Properties []Property
}

// Property is a field of an action in the order of the document.
type Property struct {
	Name     string
	Schema   map[string]any
	Required bool
}

// Request says how a call is made. Values may be templates over account, input
// and page.
type Request struct {
	Method string            `doc:"method,required"`
	Path   string            `doc:"path,required"`
	Query  map[string]any    `doc:"query"`
	Header map[string]string `doc:"header"`
	JSON   any               `doc:"json"`

	segments []*expr.Template
	query    map[string]*expr.Value
	header   map[string]*expr.Template
	json     *expr.Value
}

// Paging says how the next page is asked for.
type Paging struct {
	Cursor string `doc:"cursor,required"` // an expression over response: the token of the next page, or nothing
	Query  string `doc:"query,required"`  // the query parameter that takes it
	cursor *expr.Program
}

// Failure says how errors look.
type Failure struct {
	Message string   `doc:"message"` // a template over response
	Field   string   `doc:"field"`
	When    string   `doc:"when"` // a condition on the body that means failure inside a 2xx
	Retry   []string `doc:"retry"`
	message *expr.Template
	when    *expr.Program
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// Parse reads a connector document and compiles it.
func Parse(text []byte) (*Connector, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	c := &Connector{}
	problems := doc.Decode(c)
	if len(problems) == 0 {
		problems = c.compile(doc)
	}
	if len(problems) > 0 {
		errs := make([]error, len(problems))
		for i, p := range problems {
			errs[i] = p
		}
		return nil, errors.Join(errs...)
	}
	return c, nil
}

type compiler struct {
	doc      *document.Document
	problems []document.Problem
}

func (c *compiler) add(path string, err error) {
	if err == nil {
		return
	}
	line, column := c.doc.Place(path)
	c.problems = append(c.problems, document.Problem{Severity: document.SeverityError, Path: path, Line: line, Column: column, Message: err.Error()})
}

func (c *compiler) program(path, source string) *expr.Program {
	if source == "" {
		return nil
	}
	p, err := expr.Compile(source)
	c.add(path, err)
	return p
}

func (c *compiler) template(path, source string) *expr.Template {
	if source == "" {
		return nil
	}
	t, err := expr.CompileTemplate(source)
	c.add(path, err)
	return t
}

func (c *Connector) compile(doc *document.Document) []document.Problem {
	k := &compiler{doc: doc}
	if c.Format != Format {
		k.add("format", fmt.Errorf("the format is %s, not %q", Format, c.Format))
	}
	if !nameForm.MatchString(c.Name) {
		k.add("name", fmt.Errorf("%q is not a name: small letters, digits and hyphens", c.Name))
	}
	c.accountProperties = properties(doc, "account", c.Account)
	c.base = k.template("base", c.Base)
	for i, s := range c.SignIn {
		path := fmt.Sprintf("sign_in[%d]", i)
		switch {
		case s.Method != "api_key" && s.Method != "bearer":
			k.add(path+".method", fmt.Errorf("%q is not a sign-in method; there are api_key and bearer", s.Method))
		case s.Method == "api_key" && !headerName.MatchString(s.Header):
			k.add(path+".header", fmt.Errorf("%q is not the name of a header", s.Header))
		}
	}
	c.Check.Request.compile(k, "check.request")
	c.Check.says = k.template("check.says", c.Check.Says)
	c.Failure.message = k.template("failure.message", c.Failure.Message)
	c.Failure.when = k.program("failure.when", c.Failure.When)
	for name, ch := range c.Choices {
		path := "choices." + name
		ch.Request.compile(k, path+".request")
		ch.each, ch.value, ch.label = k.program(path+".each", ch.Each), k.program(path+".value", ch.Value), k.program(path+".label", ch.Label)
		ch.Paging.compile(k, path+".paging")
	}
	for name, a := range c.Actions {
		a.compile(k, c, name)
	}
	if len(c.Order) == 0 {
		for name := range c.Actions {
			c.Order = append(c.Order, name)
		}
		slices.Sort(c.Order)
	}
	return k.problems
}

func (p *Paging) compile(k *compiler, path string) {
	if p != nil {
		p.cursor = k.program(path+".cursor", p.Cursor)
	}
}

func (a *Action) compile(k *compiler, c *Connector, name string) {
	path := "actions." + name
	a.Name, a.connector = name, c
	if a.Effect != Read && a.Effect != Write {
		k.add(path+".effect", fmt.Errorf("the effect is read or write, not %q", a.Effect))
	}
	if a.Repeat == "" {
		a.Repeat = Keyed
		if a.Effect == Read || a.Request.Method == "PUT" || a.Request.Method == "DELETE" {
			a.Repeat = Safe
		}
	}
	if !slices.Contains([]string{Safe, Keyed, Unsafe}, a.Repeat) {
		k.add(path+".repeat", fmt.Errorf("repeat is safe, keyed or unsafe, not %q", a.Repeat))
	}
	if a.Effect == Write && a.Each != "" {
		k.add(path+".each", errors.New("only an action that reads gives a list of items"))
	}
	if a.Sample == nil {
		k.add(path, errors.New("a sample output is missing; rehearsal answers with it"))
	}
	a.Request.compile(k, path+".request")
	a.Paging.compile(k, path+".paging")
	a.each, a.output = k.program(path+".each", a.Each), k.program(path+".output", a.Output)
	a.summary, a.link = k.template(path+".summary", a.Summary), k.template(path+".link", a.Link)
	schema, err := CompileSchema(a.Fields)
	k.add(path+".fields", err)
	a.schema = schema
	a.Properties = properties(k.doc, path+".fields", a.Fields)
	for _, p := range a.Properties {
		if list, _ := p.Schema["choices"].(string); list != "" && c.Choices[list] == nil {
			k.add(path+".fields.properties."+p.Name, fmt.Errorf("there is no choice list %q", list))
		}
	}
	for _, m := range placeholder.FindAllStringSubmatch(a.Sentence, -1) {
		if !slices.ContainsFunc(a.Properties, func(p Property) bool { return p.Name == m[1] }) {
			k.add(path+".sentence", fmt.Errorf("{%s} is not a field of the action", m[1]))
		}
	}
}

var placeholder = regexp.MustCompile(`\{([a-z_][a-z0-9_]*)\}`)

func properties(doc *document.Document, path string, schema map[string]any) []Property {
	n := doc.At(path + ".properties")
	if n == nil {
		return nil
	}
	required, _ := schema["required"].([]any)
	var out []Property
	for i := 0; i+1 < len(n.Content); i += 2 {
		s, _ := document.Value(n.Content[i+1]).(map[string]any)
		name := n.Content[i].Value
		out = append(out, Property{name, s, slices.Contains(required, any(name))})
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

// List tells whether the action gives several items for one.
func (a *Action) List() bool { return a.Each != "" }

// Connector returns the connector that the action belongs to.
func (a *Action) Connector() *Connector { return a.connector }

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
		v := input[strings.Trim(m, "{}")]
		if o, ok := v.(map[string]any); ok && o["name"] != nil {
			v = o["name"]
		}
		switch s := expr.Text(v); {
		case s == "":
			return "…"
		case expr.IsTemplate(s):
			return said(s, strings.Trim(m, "{}"))
		default:
			return s
		}
	})
}

// AccountProperties lists the account's parameters in the order of the document.
func (c *Connector) AccountProperties() []Property { return c.accountProperties }

// said words a template in a sentence: by what it reads if that is short.
func said(template, field string) string {
	t, err := expr.CompileTemplate(template)
	if err == nil {
		if words := t.Words(); words != "" && len(words) <= 40 {
			return words
		}
	}
	return "the " + field
}
