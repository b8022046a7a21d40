package connector

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// Call is a request that is ready to be sent but for its sign-in.
type Call struct {
	Method string
	URL    *url.URL
	Header http.Header
	Body   []byte // JSON, or nil
	Effect string
	Repeat string
}

// Answer is what came back, read whole.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

var (
	headerName = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$") // RFC 9110, section 5.6.2
	methods    = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"}
	// reserved cannot be set by a document: they belong to the transport, or
	// would smuggle one request into another.
	reserved = []string{"Host", "Content-Length", "Transfer-Encoding", "Connection", "Cookie", "Idempotency-Key", "Authorization"}
)

func (r *Request) compile(k *compiler, path string) {
	if !slices.Contains(methods, r.Method) {
		k.add(path+".method", fmt.Errorf("%q is not a method; there are %s", r.Method, strings.Join(methods, ", ")))
	}
	if !strings.HasPrefix(r.Path, "/") {
		k.add(path+".path", errors.New("a path begins with /"))
		return
	}
	for _, s := range splitPath(r.Path[1:]) {
		r.segments = append(r.segments, segment(k, path+".path", s))
	}
	r.query = map[string]*expr.Value{}
	for name, v := range r.Query {
		e, err := expr.CompileValue(v)
		k.add(path+".query."+name, err)
		r.query[name] = e
	}
	r.header = map[string]*expr.Template{}
	for name, v := range r.Header {
		if !headerName.MatchString(name) || slices.Contains(reserved, http.CanonicalHeaderKey(name)) {
			k.add(path+".header."+name, fmt.Errorf("the header %q cannot be set here", name))
		}
		t, err := expr.CompileTemplate(v)
		k.add(path+".header."+name, err)
		r.header[name] = t
	}
	if r.JSON != nil {
		v, err := expr.CompileValue(r.JSON)
		k.add(path+".json", err)
		r.json = v
	}
}

func segment(k *compiler, path, source string) *expr.Template {
	t, err := expr.CompileTemplate(source)
	k.add(path, err)
	return t
}

// splitPath cuts at each / that stands outside of an expression.
func splitPath(path string) []string {
	var parts []string
	depth, start := 0, 0
	for i := range len(path) {
		switch path[i] {
		case '(':
			depth++
		case ')':
			depth--
		case '/':
			if depth == 0 {
				parts = append(parts, path[start:i])
				start = i + 1
			}
		}
	}
	return append(parts, path[start:])
}

// build makes the call. Every value that a template gives is encoded for the
// place where it stands, so that none can change the shape of the request.
func (r *Request) build(base *url.URL, scope *expr.Scope) (*Call, error) {
	path := strings.TrimSuffix(base.EscapedPath(), "/")
	for _, t := range r.segments {
		v, err := t.Eval(scope)
		if err != nil {
			return nil, err
		}
		s := expr.Text(v)
		if expr.IsTemplate(t.Source) && (s == "" || s == "." || s == "..") {
			return nil, fmt.Errorf("a part of the path is %q; it comes from %s, which has no usable value", s, t.Source)
		}
		path += "/" + url.PathEscape(s)
	}
	u := *base
	decoded, err := url.PathUnescape(path)
	if err != nil {
		return nil, err
	}
	u.Path, u.RawPath = decoded, path
	query := u.Query()
	for _, name := range sortedKeys(r.query) {
		v, err := r.query[name].Eval(scope)
		if err != nil {
			return nil, err
		}
		if list, ok := v.([]any); ok {
			for _, e := range list {
				query.Add(name, expr.Text(e))
			}
		} else if v != nil {
			query.Set(name, expr.Text(v))
		}
	}
	u.RawQuery = query.Encode()
	call := &Call{Method: r.Method, URL: &u, Header: http.Header{"Accept": {"application/json"}}, Effect: Read, Repeat: Safe}
	for _, name := range sortedKeys(r.header) {
		v, err := r.header[name].Eval(scope)
		if err != nil {
			return nil, err
		}
		s := expr.Text(v)
		if strings.ContainsFunc(s, func(c rune) bool { return c < ' ' || c == 0x7f }) {
			return nil, fmt.Errorf("the header %s would hold a line break or another control character", name)
		}
		call.Header.Set(name, s)
	}
	if r.json != nil {
		v, err := r.json.Eval(scope)
		if err != nil {
			return nil, err
		}
		body, err := item.Encode(withoutNothing(v))
		if err != nil {
			return nil, err
		}
		call.Body = body
		call.Header.Set("Content-Type", "application/json")
	}
	return call, nil
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

// BaseURL works out the address that an account's calls go to.
func (c *Connector) BaseURL(account map[string]any) (*url.URL, error) {
	v, err := c.base.Eval(&expr.Scope{Names: map[string]any{"account": account}})
	if err != nil {
		return nil, err
	}
	return ParseBase(expr.Text(v))
}

// ParseBase reads an address to which a connection can be pinned.
func ParseBase(s string) (*url.URL, error) {
	u, err := url.Parse(strings.TrimSpace(s))
	switch {
	case err != nil, u != nil && (u.Host == "" || u.Scheme != "http" && u.Scheme != "https"):
		return nil, fmt.Errorf("%q is not a web address; write it as https://host.example", s)
	case u.User != nil:
		return nil, errors.New("the address holds a user name or password; put the secret in its own field")
	case u.RawQuery != "" || u.Fragment != "":
		return nil, fmt.Errorf("%q should end before ? and #", s)
	}
	return u, nil
}

func (c *Connector) scope(account, input map[string]any, page any) *expr.Scope {
	return &expr.Scope{Names: map[string]any{"account": account, "input": input, "page": page}}
}

func (c *Connector) buildRequest(r *Request, account, input map[string]any, paging *Paging, cursor any) (*Call, error) {
	base, err := c.BaseURL(account)
	if err != nil {
		return nil, err
	}
	call, err := r.build(base, c.scope(account, input, cursor))
	if err != nil {
		return nil, err
	}
	if paging != nil && cursor != nil {
		q := call.URL.Query()
		q.Set(paging.Query, expr.Text(cursor))
		call.URL.RawQuery = q.Encode()
	}
	return call, nil
}

// Build makes the call of an action. Cursor is the token of a further page, or
// nil. The input is checked against the action's fields first.
func (a *Action) Build(account, input map[string]any, cursor any) (*Call, error) {
	input = a.Picked(input)
	if err := a.Validate(input); err != nil {
		return nil, err
	}
	call, err := a.connector.buildRequest(&a.Request, account, input, a.Paging, cursor)
	if err != nil {
		return nil, err
	}
	call.Effect, call.Repeat = a.Effect, a.Repeat
	return call, nil
}

// BuildCheck makes the call that checks an account.
func (c *Connector) BuildCheck(account map[string]any) (*Call, error) {
	return c.buildRequest(&c.Check.Request, account, nil, nil, nil)
}

// ReadCheck says whose account it is, from the check's answer.
func (c *Connector) ReadCheck(a *Answer) (string, error) {
	response, err := c.read(a)
	if err != nil {
		return "", err
	}
	v, err := c.Check.says.Eval(responseScope(response, response))
	return expr.Text(v), err
}

func responseScope(response, output any) *expr.Scope {
	return &expr.Scope{Names: map[string]any{"response": response, "output": output, "input": expr.Lazy(func() (any, error) { return nil, nil })}}
}
