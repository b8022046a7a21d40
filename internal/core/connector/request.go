package connector

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/near"
)

// Request says how a call is made. Values may be templates over account, input
// and page. At most one kind of body is given.
type Request struct {
	Method    string         `doc:"method,required"`
	Path      string         `doc:"path,required"` // may end in a query, as it is written in an address
	Query     map[string]any `doc:"query"`
	Header    map[string]any `doc:"header"`
	Cookie    map[string]any `doc:"cookie"` // name to value, each encoded
	JSON      any            `doc:"json"`
	Form      map[string]any `doc:"form"`
	Multipart any            `doc:"multipart"` // name to value, or a list of {name, value}
	Raw       *Raw           `doc:"raw"`
	XML       map[string]any `doc:"xml"`  // one element: name to value, "@name" for attributes
	File      string         `doc:"file"` // a template that gives a file

	shape *expr.Value
}

// Raw is a body of any text.
type Raw struct {
	Type string `doc:"type,required"`
	Text string `doc:"text,required"`
}

var (
	headerName   = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$") // RFC 9110, section 5.6.2
	usualMethods = []string{"GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE", "PROPFIND", "PROPPATCH", "REPORT", "MKCOL", "MOVE", "COPY", "QUERY", "SEND"}
	// reserved cannot be set by a document: they belong to the transport and to each
	// hop (RFC 9110, 7.6.1), would smuggle one request into another, or prove to
	// somebody on the way who we are.
	reserved = []string{"Host", "Content-Length", "Transfer-Encoding", "Connection", "Keep-Alive", "Proxy-Connection", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer", "Upgrade", "Expect",
		"Http2-Settings", "Cookie", "Idempotency-Key", "Authorization"}
)

// Reserved tells whether a header cannot be set by a document.
func Reserved(name string) bool { return slices.Contains(reserved, http.CanonicalHeaderKey(name)) }

// checkMethod takes every method (RFC 9110, 9) but those that open a way through the
// other side or ask it to give back what it was sent, sign-in and all. Of one that is
// nearly a usual one it is said which.
func checkMethod(m string) error {
	upper := strings.ToUpper(m)
	switch {
	case !headerName.MatchString(m):
		return fmt.Errorf("%q is not a method; the usual ones are %s", m, strings.Join(usualMethods, ", "))
	case upper == http.MethodConnect || upper == http.MethodTrace:
		return fmt.Errorf("%s is a method that no step may use", upper)
	case slices.Contains(usualMethods, m):
		return nil
	}
	if meant := near.Of(m, usualMethods); meant != "" && meant != upper && len(m) == len(meant) && slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE", "HEAD"}, meant) {
		return fmt.Errorf("%q is not a method that is known; did you mean %s?", m, meant)
	}
	return nil
}

func (r *Request) compile(k *compiler, path string, in expr.Names) {
	k.add(path+".method", checkMethod(r.Method))
	if !strings.HasPrefix(r.Path, "/") {
		k.add(path+".path", errors.New("a path begins with /"))
		return
	}
	for name := range r.Header {
		if !headerName.MatchString(name) || Reserved(name) {
			k.add(path+".header."+name, fmt.Errorf("the header %q cannot be set here", name))
		}
	}
	bodies := 0
	for _, there := range []bool{r.JSON != nil, r.Form != nil, r.Multipart != nil, r.Raw != nil, r.XML != nil, r.File != ""} {
		if there {
			bodies++
		}
	}
	if bodies > 1 {
		k.add(path, errors.New("a request has one body: json, form, multipart, raw, xml or file"))
	}
	if len(r.XML) > 1 {
		k.add(path+".xml", errors.New("an XML body has one outermost element"))
	}
	tree, err := r.tree()
	if err != nil {
		k.add(path+".path", err)
		return
	}
	v, err := expr.CompileValue(tree, in)
	var pe *expr.PathError
	if errors.As(err, &pe) {
		path += "." + pe.Path
	}
	k.add(path, err)
	r.shape = v
}

// tree is the request as plain values, some of them templates. Evaluated, it
// is what assemble makes a call of.
func (r *Request) tree() (map[string]any, error) {
	written, query, _ := cutOutside(r.Path, '?')
	t := map[string]any{"method": r.Method, "path": pathParts(written)}
	if query != "" {
		pairs, err := writtenPairs(query)
		if err != nil {
			return nil, err
		}
		t["pairs"] = pairs
	}
	if len(r.Query) > 0 {
		t["query"] = r.Query
	}
	if len(r.Header) > 0 {
		t["header"] = r.Header
	}
	if len(r.Cookie) > 0 {
		for name := range r.Cookie {
			if !headerName.MatchString(name) { // RFC 6265, 4.1.1: the name is a token
				return nil, fmt.Errorf("%q cannot be the name of a cookie", name)
			}
		}
		t["cookie"] = r.Cookie
	}
	set := func(name string, there bool, v any) {
		if there {
			t[name] = v
		}
	}
	set("json", r.JSON != nil, r.JSON)
	set("form", r.Form != nil, r.Form)
	set("multipart", r.Multipart != nil, r.Multipart)
	set("xml", r.XML != nil, r.XML)
	set("file", r.File != "", r.File)
	if r.Raw != nil {
		t["raw"] = map[string]any{"type": r.Raw.Type, "text": r.Raw.Text}
	}
	return t, nil
}

// assemble makes the call. Every value is encoded for the place where it
// stands, so that none can change the shape of the request.
func assemble(base *url.URL, t map[string]any, free bool) (*call.Call, error) {
	u, err := joinPath(base, t["path"])
	if err != nil {
		return nil, err
	}
	if pairs, ok := t["pairs"].([]any); ok {
		addToQuery(u, joinPairs(pairs))
	}
	if q, ok := t["query"].(map[string]any); ok {
		query := url.Values{}
		for _, name := range sortedKeys(q) {
			addValues(query, name, q[name])
		}
		addToQuery(u, query.Encode())
	}
	method, _ := t["method"].(string)
	// A step that describes its call says itself what it takes; of an application whose
	// answers a connector reads, JSON is asked for first.
	accepts := "application/json, */*;q=0.5"
	if free {
		accepts = "*/*"
	}
	c := &call.Call{Method: method, URL: u, Header: http.Header{"Accept": {accepts}}, Effect: call.Read, Repeat: call.Safe, Free: free}
	if h, ok := t["header"].(map[string]any); ok {
		if err := setHeaders(c.Header, h); err != nil {
			return nil, err
		}
	}
	if m, ok := t["cookie"].(map[string]any); ok {
		var list []string
		for _, name := range sortedKeys(m) {
			if m[name] != nil {
				list = append(list, name+"="+url.QueryEscape(expr.Text(m[name])))
			}
		}
		if len(list) > 0 {
			c.Header.Set("Cookie", strings.Join(list, "; "))
		}
	}
	if err := setBody(c, t, free); err != nil {
		return nil, err
	}
	maps.DeleteFunc(c.Header, func(_ string, values []string) bool { return values == nil })
	return c, nil
}

// setHeaders puts in what a step or a document says: a list repeats a header, and one
// that is nothing is not sent, not even where it would be otherwise.
func setHeaders(to http.Header, h map[string]any) error {
	for _, name := range sortedKeys(h) {
		if !headerName.MatchString(name) || Reserved(name) {
			return fmt.Errorf("the header %q cannot be set here; what proves who we are belongs into a connection", name)
		}
		key := http.CanonicalHeaderKey(name)
		to[key] = nil
		values, ok := h[name].([]any)
		if !ok && h[name] != nil {
			values = []any{h[name]}
		}
		for _, v := range values {
			s := expr.Text(v)
			if hasControl(s) {
				return fmt.Errorf("the header %s would hold a line break or another control character", name)
			}
			to[key] = append(to[key], s)
		}
	}
	return nil
}

func hasControl(s string) bool {
	return strings.ContainsFunc(s, func(c rune) bool { return c < ' ' || c == 0x7f })
}

// withoutNothing leaves out the top-level fields that have no value: a field
// of an action that was not filled in is not sent.
func withoutNothing(v any) any {
	m, ok := v.(map[string]any)
	if !ok {
		return v
	}
	out := make(map[string]any, len(m))
	for k, e := range m {
		if e != nil {
			out[k] = e
		}
	}
	return out
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func (c *Connector) buildRequest(r *Request, names map[string]any, paging *Paging, cursor any) (*call.Call, error) {
	account, _ := names["account"].(map[string]any)
	base, err := c.BaseURL(account)
	if err != nil {
		return nil, err
	}
	names["page"] = paging.state(cursor)
	v, err := r.shape.Eval(&expr.Scope{Names: names})
	if err != nil {
		return nil, err
	}
	request, err := assemble(base, v.(map[string]any), false)
	if err != nil {
		return nil, err
	}
	if err := paging.turn(request, cursor); err != nil {
		return nil, err
	}
	if most := int64(c.Limits.Payload); most > 0 && request.Size() > most {
		return nil, fmt.Errorf("the request has %d bytes; %s takes at most %d (limits.payload)", request.Size(), c.Title, most)
	}
	return request, nil
}

// Build makes the call of an action. Cursor is the token of a further page, or
// nil. The input is checked against the action's fields first.
func (a *Action) Build(account, input map[string]any, cursor any) (*call.Call, error) {
	if a.free {
		return a.buildFree(account, input, cursor)
	}
	input = a.Picked(input)
	entered := input
	if a.Job != nil && a.Job.Callback != "" { // nobody enters the address that is called back
		entered = maps.Clone(input)
		delete(entered, a.Job.Callback)
	}
	if err := a.Validate(entered); err != nil {
		return nil, err
	}
	request, err := a.connector.buildRequest(&a.Request, map[string]any{"account": account, "input": input}, a.Paging, cursor)
	if err != nil {
		return nil, err
	}
	request.Effect, request.Repeat, request.Answer = a.Effect, a.Repeat, a.Answer
	return request, nil
}

// BuildCheck makes the call that checks an account.
func (c *Connector) BuildCheck(account map[string]any) (*call.Call, error) {
	return c.buildRequest(&c.Check.Request, map[string]any{"account": account}, nil, nil)
}

// KeyLasts is how long the other side remembers an Idempotency-Key; 24 hours
// unless the document says otherwise.
func (a *Action) KeyLasts() time.Duration {
	if d, err := expr.ParseDuration(a.Lasts); err == nil {
		return d
	}
	return 24 * time.Hour
}

// ProofCall gives the input of the action that reads back or undoes a write.
func (p *Proof) ProofCall(output any, input map[string]any) (map[string]any, error) {
	v, err := p.input.Eval(&expr.Scope{Names: map[string]any{"output": output, "input": input}})
	m, _ := v.(map[string]any)
	return m, err
}
