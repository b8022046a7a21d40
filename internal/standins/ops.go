package standins

import (
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// Op is an operation of a stand-in. The same table serves it and describes it.
type Op struct {
	Method, Path, ID, Summary string
	Query                     []string // names of parameters; "name!" is required
	Body                      any      // an example; nil for none
	Kind                      string   // of the body: application/json unless given
	Answer                    any      // an example
	Scope                     string   // that an OAuth 2 token needs
	Handle                    func(*Call) (any, error)
}

// Call is a call that is being answered.
type Call struct {
	*gin.Context
	Scopes string // of an OAuth 2 token
}

// In reads the body as JSON.
func (c *Call) In(into any) error {
	d := json.NewDecoder(io.LimitReader(c.Request.Body, 8<<20))
	if err := d.Decode(into); err != nil {
		return &No{Status: http.StatusBadRequest, Message: "the body should be a JSON object: " + err.Error()}
	}
	return nil
}

// No is an answer that says no.
type No struct {
	Status  int
	Field   string
	Message string
	Wait    int // seconds, in Retry-After
}

func (n *No) Error() string { return n.Message }

// Invalid refuses a field's value.
func Invalid(field, format string, args ...any) error {
	return &No{Status: http.StatusUnprocessableEntity, Field: field, Message: fmt.Sprintf(format, args...)}
}

// Missing says that there is no such thing.
func Missing(what, id string) error {
	return &No{Status: http.StatusNotFound, Field: what, Message: fmt.Sprintf("there is no %s %s", what, id)}
}

// Made is an answer with 201.
type Made struct{ Body any }

// Bytes is an answer that is not JSON.
type Bytes struct {
	Type, Name string
	Content    []byte
}

// Spec describes a stand-in.
type Spec struct {
	Name     string // what people call it
	About    string
	Security map[string]any // OpenAPI security scheme; nil for an open service
	Check    func(c *Call) (ok bool, hint string)
	Ops      []Op
	Page     func() template.HTML
}

// Build makes the frame of a stand-in with its operations and their description.
func Build(sp Spec) *Service {
	if sp.Page == nil {
		sp.Page = func() template.HTML { return "" }
	}
	s := New(sp.Name, func(*http.Request) (bool, string) { return true, "" }, sp.Page, Describe(sp))
	for _, op := range sp.Ops {
		s.API.Handle(op.Method, op.Path, func(g *gin.Context) {
			c := &Call{Context: g}
			if sp.Check != nil {
				ok, hint := sp.Check(c)
				if !ok {
					Refuse(g, http.StatusUnauthorized, "", hint)
					return
				}
				if op.Scope != "" && !strings.Contains(" "+c.Scopes+" ", " "+op.Scope+" ") {
					Refuse(g, http.StatusForbidden, "", "this token was not granted the scope "+op.Scope)
					return
				}
			}
			for _, q := range op.Query {
				if name, required := strings.CutSuffix(q, "!"); required && g.Query(name) == "" {
					Refuse(g, http.StatusUnprocessableEntity, name, "the parameter "+name+" is missing")
					return
				}
			}
			s.serve(c, op)
		})
	}
	return s
}

func (s *Service) serve(c *Call, op Op) {
	var body []byte
	if op.Method != http.MethodGet && strings.HasPrefix(c.ContentType(), "application/json") {
		body, _ = io.ReadAll(io.LimitReader(c.Request.Body, 8<<20))
		c.Request.Body = io.NopCloser(strings.NewReader(string(body)))
	}
	out, err := op.Handle(c)
	status := http.StatusOK
	var no *No
	switch {
	case errors.As(err, &no):
		status = no.Status
		if no.Wait > 0 {
			c.Header("Retry-After", fmt.Sprint(no.Wait))
		}
		Refuse(c.Context, no.Status, no.Field, no.Message)
	case err != nil:
		status = http.StatusInternalServerError
		Refuse(c.Context, status, "", err.Error())
	default:
		switch o := out.(type) {
		case Made:
			status = http.StatusCreated
			c.JSON(status, o.Body)
		case Bytes:
			if o.Name != "" {
				c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", o.Name))
			}
			c.Data(status, o.Type, o.Content)
		case nil:
			if !c.Writer.Written() {
				c.JSON(status, gin.H{"ok": true})
			}
		default:
			c.JSON(status, o)
		}
	}
	if op.Method != http.MethodGet {
		s.arrive(op.Method+" "+c.Request.URL.Path, status, body)
	}
}

// Arrival is a call that changed something, for the page.
type Arrival struct {
	At, Call, Body string
	Status         int
}

func (s *Service) arrive(call string, status int, body []byte) {
	text := []rune(string(body))
	if len(text) > 200 {
		text = append(text[:200], '…')
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.arrivals = append([]Arrival{{time.Now().UTC().Format("15:04:05"), call, string(text), status}}, s.arrivals...)
	s.arrivals = s.arrivals[:min(len(s.arrivals), 30)]
}

// Arrivals lists the last calls that changed something, newest first.
func (s *Service) Arrivals() []Arrival {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Arrival(nil), s.arrivals...)
}

// How is one thing that a person needs to connect.
type How struct{ What, Value, Note string }

// Tell puts what a person needs to connect on the page.
func (s *Service) Tell(how ...How) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.how = how
}

func (s *Service) connecting() []How {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.how
}

// named faults are those that the page offers.
var named = map[string]Faults{
	"": {}, "slow": {Latency: 2000}, "errors": {ErrorEvery: 3}, "cut": {CutEvery: 3}, "malformed": {Malformed: true}, "refuse": {RefuseKeys: true}, "wait": {Wait: 60},
	"wait_text": {Wait: 660, WaitInText: true}, "inside": {Inside: true}, "revoked": {Revoked: true},
}

func (s *Service) chosenFault(c *gin.Context) {
	s.SetFaults(named[c.PostForm("fault")])
	c.Redirect(http.StatusSeeOther, "/")
}

// Misbehaving tells the faults in force.
func (s *Service) Misbehaving() Faults { return s.current() }

var ginParameter = regexp.MustCompile(`:([a-z_]+)`)

// Describe makes the OpenAPI document of a stand-in.
func Describe(sp Spec) map[string]any {
	paths := map[string]any{}
	for _, op := range sp.Ops {
		path := "/v1" + ginParameter.ReplaceAllString(op.Path, "{$1}")
		path = strings.ReplaceAll(path, "*", "")
		item, _ := paths[path].(map[string]any)
		if item == nil {
			item = map[string]any{}
			paths[path] = item
		}
		item[strings.ToLower(op.Method)] = describe(op)
	}
	d := map[string]any{"openapi": "3.1.0", "info": map[string]any{"title": sp.Name, "version": "1", "description": sp.About}, "paths": paths}
	if sp.Security != nil {
		d["components"] = map[string]any{"securitySchemes": map[string]any{"main": sp.Security}}
		d["security"] = []any{map[string]any{"main": []any{}}}
	}
	return d
}

func describe(op Op) map[string]any {
	o := map[string]any{"operationId": op.ID, "summary": op.Summary}
	parameters := []any{}
	for _, m := range ginParameter.FindAllStringSubmatch(op.Path, -1) {
		parameters = append(parameters, map[string]any{"name": m[1], "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
	}
	for _, q := range op.Query {
		name, required := strings.CutSuffix(q, "!")
		kind := "string"
		if name == "limit" || name == "offset" || name == "page" || name == "per_page" || name == "km" {
			kind = "integer"
		}
		parameters = append(parameters, map[string]any{"name": name, "in": "query", "required": required, "schema": map[string]any{"type": kind}})
	}
	if len(parameters) > 0 {
		o["parameters"] = parameters
	}
	if op.Body != nil {
		kind := op.Kind
		if kind == "" {
			kind = "application/json"
		}
		o["requestBody"] = map[string]any{"required": true, "content": map[string]any{kind: map[string]any{"schema": schemaOf(op.Body)}}}
	}
	answer := map[string]any{"description": "Done"}
	if op.Answer != nil {
		answer["content"] = map[string]any{"application/json": map[string]any{"schema": schemaOf(op.Answer), "example": op.Answer}}
	}
	o["responses"] = map[string]any{"200": answer, "422": map[string]any{"description": "A field is not right"}}
	return o
}

// File stands for a file in an example of a body.
type File struct{}

// schemaOf tells the shape of an example.
func schemaOf(v any) map[string]any {
	switch v := v.(type) {
	case File:
		return map[string]any{"type": "string", "format": "binary"}
	case string:
		return map[string]any{"type": "string"}
	case bool:
		return map[string]any{"type": "boolean"}
	case int, int64:
		return map[string]any{"type": "integer"}
	case float64:
		return map[string]any{"type": "number"}
	case []string:
		return map[string]any{"type": "array", "items": map[string]any{"type": "string"}}
	case []any:
		items := map[string]any{}
		if len(v) > 0 {
			items = schemaOf(v[0])
		}
		return map[string]any{"type": "array", "items": items}
	case gin.H:
		return schemaOf(map[string]any(v))
	case map[string]any:
		p := map[string]any{}
		for k, e := range v {
			p[k] = schemaOf(e)
		}
		return map[string]any{"type": "object", "properties": p}
	}
	return map[string]any{}
}

// Header checks a key in a header.
func Header(name, prefix, key string) func(*Call) (bool, string) {
	return func(c *Call) (bool, string) {
		return c.GetHeader(name) == prefix+key, "the key in " + name + " is not known"
	}
}

// Password checks user and password.
func Password(user, password string) func(*Call) (bool, string) {
	return func(c *Call) (bool, string) {
		u, p, ok := c.Request.BasicAuth()
		return ok && u == user && p == password, "the user name or password is not right"
	}
}

// Page cuts a list into pages by offset and limit.
func Page[T any](c *Call, list []T, most int) (part []T, offset, limit int) {
	limit, offset = most, 0
	_, _ = fmt.Sscan(c.Query("limit"), &limit)
	_, _ = fmt.Sscan(c.Query("offset"), &offset)
	limit = max(1, min(limit, most))
	offset = max(0, min(offset, len(list)))
	return list[offset:min(len(list), offset+limit)], offset, limit
}

// Plain serves a text that is not behind the sign-in, as a feed.
func Plain(kind string, text func() string) gin.HandlerFunc {
	return func(c *gin.Context) { c.Data(http.StatusOK, kind, []byte(text())) }
}
