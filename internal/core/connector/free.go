package connector

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/form"
)

// Free is a call that a step describes itself: the settings of an http step.
type Free struct {
	Method    string         `form:"method" title:"Method" usual:"GET|POST|PUT|PATCH|DELETE|HEAD|OPTIONS|PROPFIND|QUERY" default:"GET" help:"Any other is sent as it is written in the workflow's text."`
	URL       string         `form:"url,required" title:"Address" help:"As https://host.example/path, or /path at the connection's own address. Expressions fill in parts of the path and values of the query." example:"/v1/orders/(= item.order )"`
	Query     map[string]any `form:"query" part:"Query" title:"Query" hint:"fields" help:"Name to value; a list repeats the name."`
	Header    map[string]any `form:"header" part:"Headers" title:"Headers" hint:"fields" help:"What proves who we are comes from the connection alone. A list repeats the header; null leaves one out that would be sent otherwise."`
	JSON      any            `form:"json" part:"Body|one" title:"Body as JSON" hint:"json"`
	Form      map[string]any `form:"form" part:"Body|one" title:"Body as a form" hint:"fields" help:"Name to value."`
	Multipart *Parts         `form:"multipart" part:"Body|one"`
	Raw       *FreeText      `form:"raw" part:"Body|one" title:"Body as text" hint:"json"`
	XML       map[string]any `form:"xml" part:"Body|one" title:"Body as XML" hint:"json" help:"One element: name to value, \"@name\" for attributes."`
	File      string         `form:"file" part:"Body|one" title:"Body is a file" help:"An expression that gives a file."`
	Answer    string         `form:"answer" part:"What of the answer goes on" title:"Read the answer as" oneof:"auto|json|text|file" default:"auto" help:"By its content type unless said otherwise."`
	Take      *expr.Program  `form:"take" part:"What of the answer goes on" reads:"response|output|status|header|input" title:"Take of the answer" help:"What of the answer goes on; all of it unless given." example:"response.text"`
	Each      *expr.Program  `form:"each" part:"What of the answer goes on" reads:"response|output|status|header|input" title:"Each becomes an item" help:"Where the list stands in the answer." example:"response.orders"`
	Paging    *FreePaging    `form:"paging" part:"Further pages" title:"Further pages" hint:"json" help:"One way: cursor, link, address, page or offset."`
	LeaveOut  []string       `form:"leave_out" part:"What of the answer goes on" title:"Leave out of the answer" hint:"list"`
	Success   *FreeSuccess   `form:"success" part:"If it fails" title:"Counts as success" hint:"json"`
	Wait      *FreeWait      `form:"wait" part:"If it fails" title:"Where it says how long to wait" hint:"json"`
	Repeat    string         `form:"repeat" part:"If it fails" title:"If its outcome is unknown" oneof:"safe|keyed|unsafe" words:"safe=make it again, a second time changes nothing; keyed=make it again, the other side knows repeats by the Idempotency-Key; unsafe=ask me, it would happen twice" help:"A call can be cut after it was sent. Nobody knows then whether it happened. Reading, PUT and DELETE are safe unless you say otherwise; everything else is unsafe, since only the other side's documentation can tell that it knows repeats."`
	Sample    any            `form:"sample" part:"In a rehearsal" title:"Sample answer" hint:"json" help:"What a rehearsal answers with in place of a write."`
}

// FreeText is a body as it is written.
type FreeText struct {
	Type string `form:"type,required"`
	Text string `form:"text,required"`
}

// FreePaging says how a list goes on; see Paging.
type FreePaging struct {
	Cursor  string `form:"cursor"`
	Query   string `form:"query"`
	Link    string `form:"link"`
	Address string `form:"address"`
	More    string `form:"more"`
	Page    bool   `form:"page"`
	Offset  bool   `form:"offset"`
	First   int    `form:"first"`
	Size    int    `form:"size"`
}

// FreeSuccess says which answers are none of a failure.
type FreeSuccess struct {
	Status []int  `form:"status"`
	When   string `form:"when"`
}

// FreeWait says where an answer tells how long to wait.
type FreeWait struct {
	Header string `form:"header"`
	Field  string `form:"field"`
	Text   string `form:"text"`
	Unit   string `form:"unit" oneof:"ms|s|m|h|at"`
}

// Parts are those of a multipart body.
type Parts struct{ Value any }

// FormSchema implements form.Custom.
func (*Parts) FormSchema() map[string]any {
	return map[string]any{"title": "Body in parts", "hint": "json", "type": []any{"object", "array"}, "description": "Name to text or file, or a list of {name, value}."}
}

// ReadForm implements form.Custom.
func (p *Parts) ReadForm(v any) error { p.Value = v; return nil }

// Action makes an action of the call, and the tree of values that is its input.
// An address that begins with / is that of the connection. Errors that have a
// place are *form.Error.
func (f *Free) Action() (*Action, map[string]any, error) {
	tree, host, err := freeAddress(f.URL)
	if err != nil {
		return nil, nil, at("url", err)
	}
	method := f.Method
	if method == "" {
		method = "GET"
	}
	if err := checkMethod(method); err != nil {
		return nil, nil, at("method", err)
	}
	tree["method"] = method
	if err := f.values(tree); err != nil {
		return nil, nil, err
	}
	a := &Action{Title: "Call " + host, Effect: call.Write, Answer: f.Answer, Sample: f.Sample, free: true, each: f.Each, output: f.Take, connector: &Connector{Title: host}}
	if readsByItself(method) {
		a.Effect = call.Read
	}
	if a.Repeat = f.Repeat; a.Repeat == "" {
		a.Repeat = repeatOf(a.Effect, method)
	}
	if f.Each != nil {
		if a.Each = f.Each.Source; a.Effect == call.Write {
			return nil, nil, at("each", errors.New("a list is read from a call that reads: use GET, or spread the answer"))
		}
	}
	for _, p := range f.LeaveOut {
		a.leaveOut = append(a.leaveOut, strings.Split(p, "."))
	}
	return a, tree, f.answers(a)
}

var freeForm = form.Of[Free](nil)

// ReadFree reads the settings of a call, and finds what is wrong with them.
func ReadFree(settings map[string]any) (*Free, error) {
	f := &Free{}
	if errs := freeForm.Read(settings, f); len(errs) > 0 {
		return nil, errors.Join(errs...)
	}
	_, _, err := f.Action()
	return f, err
}

// values puts what is sent into the tree.
func (f *Free) values(tree map[string]any) error {
	for name, m := range map[string]map[string]any{"header": f.Header, "query": f.Query} {
		if m == nil {
			continue
		}
		known, _ := tree[name].(map[string]any)
		if known == nil {
			known = map[string]any{}
		}
		for n, v := range m {
			if name == "header" && (!headerName.MatchString(n) || Reserved(n)) {
				return at("header."+n, fmt.Errorf("the header %q cannot be set here; what proves who we are belongs into a connection", n))
			}
			known[n] = v
		}
		tree[name] = known
	}
	bodies := map[string]any{}
	if f.JSON != nil {
		bodies["json"] = f.JSON
	}
	if f.Form != nil {
		bodies["form"] = f.Form
	}
	if f.Multipart != nil {
		bodies["multipart"] = f.Multipart.Value
	}
	if f.Raw != nil {
		bodies["raw"] = map[string]any{"type": f.Raw.Type, "text": f.Raw.Text}
	}
	if f.XML != nil {
		bodies["xml"] = f.XML
	}
	if f.File != "" {
		bodies["file"] = f.File
	}
	if len(bodies) > 1 {
		return at("json", errors.New("a call has one body: json, form, multipart, raw, xml or file"))
	}
	maps.Copy(tree, bodies)
	return nil
}

// answers compiles how an answer is read.
func (f *Free) answers(a *Action) error {
	k := &compiler{doc: emptyDocument}
	if p := f.Paging; p != nil {
		if a.each == nil {
			return at("paging", errors.New("pages are read of a list; say with each where it stands in the answer"))
		}
		a.Paging = &Paging{Cursor: p.Cursor, Query: p.Query, Link: p.Link, URL: p.Address, More: p.More, Page: p.Page, Offset: p.Offset, First: p.First, Size: p.Size}
		a.Paging.compile(k, "paging")
	}
	if s := f.Success; s != nil {
		for i, n := range s.Status {
			if n < 100 || n > 599 {
				return at(fmt.Sprintf("success.status[%d]", i), fmt.Errorf("%d is no status; they lie between 100 and 599", n))
			}
		}
		a.success = &Success{Status: s.Status, When: s.When, when: k.program("success.when", s.When, ofAnswer)}
	}
	if w := f.Wait; w != nil {
		a.connector.Failure.Wait = []Wait{{Header: w.Header, Field: w.Field, Text: w.Text, Unit: w.Unit}}
		a.connector.Failure.compile(k, "wait")
	}
	if len(k.problems) > 0 {
		return at(k.problems[0].Path, errors.New(k.problems[0].Message))
	}
	return nil
}

var emptyDocument, _ = document.Parse([]byte("{}"))

func at(setting string, err error) error { return &form.Error{Field: setting, Err: err} }

// freeAddress cuts an address into host, path and query, so that what a
// template gives is encoded for its place. Only a whole address may come from
// an expression; a host put together from parts may not.
func freeAddress(s string) (tree map[string]any, host string, err error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return nil, "", &form.Gap{Err: errors.New("the address is to be filled in")}
	}
	if expr.Whole(s) {
		return map[string]any{"address": s}, "the address", nil
	}
	s, _, _ = cutOutside(s, '#')
	s, query, _ := cutOutside(s, '?')
	tree = map[string]any{}
	if !strings.HasPrefix(s, "/") {
		scheme, rest, ok := strings.Cut(s, "://")
		if !ok || scheme != "http" && scheme != "https" {
			return nil, "", fmt.Errorf("%q is not an address; it begins with https://, or with / for the connection's own", s)
		}
		name, p, _ := cutOutside(rest, '/')
		if expr.IsTemplate(name) {
			return nil, "", errors.New("the host is put together by an expression; write it out, or let one expression give the whole address")
		}
		base, err := ParseBase(scheme + "://" + name)
		if err != nil {
			return nil, "", err
		}
		host, s = base.Hostname(), "/"+p
		tree["base"] = base.String()
	} else {
		host = "the connection"
	}
	tree["path"] = pathParts(s)
	if query != "" {
		pairs, err := writtenPairs(query)
		if err != nil {
			return nil, "", err
		}
		tree["pairs"] = pairs
	}
	return tree, host, nil
}

func cutOutside(s string, separator byte) (before, after string, found bool) {
	parts := expr.Split(s, separator)
	if len(parts) == 1 {
		return s, "", false
	}
	return parts[0], s[len(parts[0])+1:], true
}

func (a *Action) buildFree(_, input map[string]any, cursor any) (*call.Call, error) {
	base := &url.URL{}
	var err error
	switch {
	case input["address"] != nil:
		s := expr.Text(input["address"])
		u, err := url.Parse(strings.TrimSpace(s))
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
			return nil, fmt.Errorf("the expression for the address gave %q, which is not one: it begins with https:// and holds no password", s)
		}
		u.RawQuery = LegalQuery(u.RawQuery)
		base = u
		input = copyOf(input)
		input["path"] = []any{}
	case input["base"] != nil:
		if base, err = ParseBase(expr.Text(input["base"])); err != nil {
			return nil, err
		}
	}
	request, err := assemble(base, input, true)
	if err != nil {
		return nil, err
	}
	if request.URL.Path == "" && base.Host != "" {
		request.URL.Path = "/"
	}
	if err := a.Paging.turn(request, cursor); err != nil {
		return nil, err
	}
	request.Effect, request.Repeat, request.Answer = a.Effect, a.Repeat, a.Answer
	return request, nil
}

func copyOf(m map[string]any) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// Query is a question to a database: the settings of an sql step.
type Query struct {
	Query  string `form:"query,required" title:"Query" hint:"lines" max:"20000" help:"Only reads. Values come as $1, $2 … from the parameters, never into the text." example:"select piece, studio from pieces where cone = $1"`
	Params []any  `form:"params" title:"Parameters" hint:"list" help:"Expressions for $1, $2 …"`
	Key    string `form:"key" title:"Key column" pattern:"^[A-Za-z_][A-Za-z0-9_]*$" help:"A unique column of the result. With it rows are read by pages and a run goes on where it stopped."`
	Sample any    `form:"sample" title:"Sample rows" hint:"json"`
}

var rows = expr.MustCompile("response.rows", ofAnswer)

// Action makes an action of the query, and the tree of values that is its
// input. Rows come as items: by pages in the order of key, or all at once where
// there is no key.
func (q *Query) Action() (*Action, map[string]any, error) {
	switch {
	case strings.TrimSpace(q.Query) == "":
		return nil, nil, at("query", &form.Gap{Err: errors.New("the query is to be filled in")})
	case expr.IsTemplate(q.Query):
		return nil, nil, at("query", errors.New("an expression stands in the query; write $1, $2 … there and the expressions under params, so that no value can change what is asked"))
	}
	body := map[string]any{"query": q.Query, "params": []any{}}
	if q.Params != nil {
		body["params"] = q.Params
	}
	if q.Key != "" {
		body["key"] = q.Key
	}
	a := &Action{Title: "Query", Effect: call.Read, Repeat: call.Safe, Each: rows.Source, each: rows, free: true, connector: &Connector{Title: "The database"}, Sample: q.Sample}
	if q.Key != "" {
		k := &compiler{doc: emptyDocument}
		a.Paging = &Paging{Cursor: "response.next", Query: "cursor"}
		a.Paging.compile(k, "paging")
	}
	return a, map[string]any{"method": "QUERY", "path": []any{}, "json": body}, nil
}
