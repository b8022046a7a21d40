package connector

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// Request says how a call is made. Values may be templates over account, input
// and page. At most one kind of body is given.
type Request struct {
	Method    string            `doc:"method,required"`
	Path      string            `doc:"path,required"`
	Query     map[string]any    `doc:"query"`
	Header    map[string]string `doc:"header"`
	JSON      any               `doc:"json"`
	Form      map[string]any    `doc:"form"`
	Multipart any               `doc:"multipart"` // name to value, or a list of {name, value}
	Raw       *Raw              `doc:"raw"`
	XML       map[string]any    `doc:"xml"`  // one element: name to value, "@name" for attributes
	File      string            `doc:"file"` // a template that gives a file

	shape *expr.Value
}

// Raw is a body of any text.
type Raw struct {
	Type string `doc:"type,required"`
	Text string `doc:"text,required"`
}

var (
	headerName = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$") // RFC 9110, section 5.6.2
	methods    = []string{"GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE", "PROPFIND", "PROPPATCH", "REPORT", "MKCOL", "MOVE", "COPY", "QUERY", "SEND"}
	// reserved cannot be set by a document: they belong to the transport, or
	// would smuggle one request into another.
	reserved = []string{"Host", "Content-Length", "Transfer-Encoding", "Connection", "Cookie", "Idempotency-Key", "Authorization"}
)

// Reserved tells whether a header cannot be set by a document.
func Reserved(name string) bool { return slices.Contains(reserved, http.CanonicalHeaderKey(name)) }

func (r *Request) compile(k *compiler, path string, in expr.Names) {
	if !slices.Contains(methods, r.Method) {
		k.add(path+".method", fmt.Errorf("%q is not a method; there are %s", r.Method, strings.Join(methods, ", ")))
	}
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
	v, err := expr.CompileValue(r.tree(), in)
	var pe *expr.PathError
	if errors.As(err, &pe) {
		path += "." + pe.Path
	}
	k.add(path, err)
	r.shape = v
}

// tree is the request as plain values, some of them templates. Evaluated, it
// is what assemble makes a call of.
func (r *Request) tree() map[string]any {
	t := map[string]any{"method": r.Method, "path": pathParts(r.Path)}
	if len(r.Query) > 0 {
		t["query"] = r.Query
	}
	if len(r.Header) > 0 {
		h := map[string]any{}
		for name, v := range r.Header {
			h[name] = v
		}
		t["header"] = h
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
	return t
}

// pathParts cuts a path into its segments. A segment that a template fills in
// stands as {value, from}, so that what it gives can be checked.
func pathParts(p string) []any {
	parts := []any{}
	for _, s := range expr.Split(strings.TrimPrefix(p, "/"), '/') {
		if expr.IsTemplate(s) {
			parts = append(parts, map[string]any{"value": s, "from": strings.ReplaceAll(s, "(=", "(==")})
		} else {
			parts = append(parts, s)
		}
	}
	return parts
}

// assemble makes the call. Every value is encoded for the place where it
// stands, so that none can change the shape of the request.
func assemble(base *url.URL, t map[string]any, free bool) (*call.Call, error) {
	u, err := joinPath(base, t["path"])
	if err != nil {
		return nil, err
	}
	if q, ok := t["query"].(map[string]any); ok {
		query := u.Query()
		for _, name := range sortedKeys(q) {
			addValues(query, name, q[name])
		}
		u.RawQuery = query.Encode()
	}
	method, _ := t["method"].(string)
	c := &call.Call{Method: method, URL: u, Header: http.Header{"Accept": {"application/json, */*;q=0.5"}}, Effect: call.Read, Repeat: call.Safe, Free: free}
	if h, ok := t["header"].(map[string]any); ok {
		for _, name := range sortedKeys(h) {
			if !headerName.MatchString(name) || Reserved(name) {
				return nil, fmt.Errorf("the header %q cannot be set here; what proves who we are belongs into a connection", name)
			}
			s := expr.Text(h[name])
			if hasControl(s) {
				return nil, fmt.Errorf("the header %s would hold a line break or another control character", name)
			}
			c.Header.Set(name, s)
		}
	}
	return c, setBody(c, t, free)
}

func hasControl(s string) bool {
	return strings.ContainsFunc(s, func(c rune) bool { return c < ' ' || c == 0x7f })
}

func joinPath(base *url.URL, parts any) (*url.URL, error) {
	p := strings.TrimSuffix(base.EscapedPath(), "/")
	list, _ := parts.([]any)
	for _, part := range list {
		s := expr.Text(part)
		if m, ok := part.(map[string]any); ok {
			s = expr.Text(m["value"])
			if s == "" || s == "." || s == ".." {
				return nil, fmt.Errorf("a part of the path is %q; it comes from %s, which has no usable value", s, expr.Text(m["from"]))
			}
			s = url.PathEscape(s)
		} else if d, err := url.PathUnescape(s); err == nil {
			if d == ".." || d == "." {
				return nil, fmt.Errorf("the path holds %q as a part of its own", d)
			}
			if s == d {
				s = url.PathEscape(s)
			}
		}
		p += "/" + s
	}
	u := *base
	decoded, err := url.PathUnescape(p)
	if err != nil {
		return nil, err
	}
	u.Path, u.RawPath = decoded, p
	return &u, nil
}

func addValues(q url.Values, name string, v any) {
	if list, ok := v.([]any); ok {
		for _, e := range list {
			q.Add(name, expr.Text(e))
		}
	} else if v != nil {
		q.Add(name, expr.Text(v))
	}
}

func setBody(c *call.Call, t map[string]any, free bool) error {
	kind := func(k string) {
		if c.Header.Get("Content-Type") == "" {
			c.Header.Set("Content-Type", k)
		}
	}
	switch {
	case t["json"] != nil:
		v := t["json"]
		if !free {
			v = withoutNothing(v)
		}
		body, err := item.Encode(v)
		if err != nil {
			return err
		}
		c.Body = body
		kind("application/json")
	case t["form"] != nil:
		m, _ := t["form"].(map[string]any)
		q := url.Values{}
		for name, v := range m {
			addValues(q, name, v)
		}
		c.Body = []byte(q.Encode())
		kind("application/x-www-form-urlencoded")
	case t["multipart"] != nil:
		c.Header.Del("Content-Type") // it must name the boundary that is used
		return setParts(c, t["multipart"])
	case t["raw"] != nil:
		m, _ := t["raw"].(map[string]any)
		c.Body = []byte(expr.Text(m["text"]))
		if s := expr.Text(m["type"]); s != "" && !hasControl(s) {
			kind(s)
		}
	case t["xml"] != nil:
		body, err := encodeXML(t["xml"])
		if err != nil {
			return err
		}
		c.Body = body
		kind("application/xml")
	case t["file"] != nil:
		f, ok := item.AsFile(t["file"])
		if !ok {
			return fmt.Errorf("the body should be a file and is %s", item.Kind(t["file"]))
		}
		c.Pieces = []call.Piece{{File: f}}
		kind(f.Type)
	}
	return nil
}

// multipart builds a body of parts (RFC 7578). Its boundary follows from the
// parts, so that a repeat of the call is the same to the byte.
func setParts(c *call.Call, v any) error {
	parts, err := multipartParts(v)
	if err != nil {
		return err
	}
	seed := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(seed, "%q %q %q ", p.name, p.text, p.kind)
		if p.file != nil {
			fmt.Fprint(seed, p.file.ID)
		}
	}
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	if err := w.SetBoundary("trellis-" + hex.EncodeToString(seed.Sum(nil)[:16])); err != nil {
		return err
	}
	flush := func() {
		if b.Len() > 0 {
			c.Pieces = append(c.Pieces, call.Piece{Bytes: bytes.Clone(b.Bytes())})
			b.Reset()
		}
	}
	for _, p := range parts {
		h := textproto.MIMEHeader{}
		disposition := `form-data; name="` + quoteName(p.name) + `"`
		if p.filename != "" {
			disposition += `; filename="` + quoteName(p.filename) + `"`
		}
		h.Set("Content-Disposition", disposition)
		if p.kind != "" {
			h.Set("Content-Type", p.kind)
		}
		part, err := w.CreatePart(h)
		if err != nil {
			return err
		}
		if p.file == nil {
			_, _ = part.Write([]byte(p.text))
			continue
		}
		flush()
		c.Pieces = append(c.Pieces, call.Piece{File: p.file})
	}
	if err := w.Close(); err != nil {
		return err
	}
	flush()
	c.Header.Set("Content-Type", w.FormDataContentType())
	if !slices.ContainsFunc(c.Pieces, func(p call.Piece) bool { return p.File != nil }) {
		for _, p := range c.Pieces {
			c.Body = append(c.Body, p.Bytes...)
		}
		c.Pieces = nil
	}
	return nil
}

type multipartPart struct {
	name, text, filename, kind string
	file                       *item.File
}

// quoteName writes a name as browsers do (WHATWG HTML, multipart/form-data).
func quoteName(s string) string {
	return strings.NewReplacer("\r", "%0D", "\n", "%0A", `"`, "%22").Replace(s)
}

func multipartParts(v any) ([]multipartPart, error) {
	var out []multipartPart
	add := func(name string, v any) error {
		if name == "" || hasControl(name) {
			return fmt.Errorf("a part of the body is called %q; a name has no line breaks or control characters", name)
		}
		p := multipartPart{name: name}
		if m, ok := v.(map[string]any); ok {
			if f, ok := item.AsFile(m); ok {
				p.file, p.filename, p.kind = f, f.Name, f.Type
			} else if f, ok := item.AsFile(m["file"]); ok {
				p.file, p.filename, p.kind = f, f.Name, f.Type
				if s := expr.Text(m["name"]); s != "" {
					p.filename = path.Base(s)
				}
			} else if _, ok := m["text"]; ok {
				p.text, p.filename = expr.Text(m["text"]), expr.Text(m["name"])
			} else if m["file"] != nil {
				return fmt.Errorf("the part %s should be a file and is %s", name, item.Kind(m["file"]))
			} else {
				b, err := item.Encode(m)
				if err != nil {
					return err
				}
				p.text, p.kind = string(b), "application/json"
			}
			if s := expr.Text(m["type"]); s != "" && p.kind != "application/json" {
				p.kind = s
			}
		} else {
			p.text = expr.Text(v)
		}
		if hasControl(p.kind) || hasControl(p.filename) {
			return fmt.Errorf("the part %s has a line break in its type or file name", name)
		}
		out = append(out, p)
		return nil
	}
	each := func(name string, v any) error {
		list, ok := v.([]any)
		if !ok {
			if v == nil {
				return nil
			}
			return add(name, v)
		}
		for _, e := range list {
			if err := add(name, e); err != nil {
				return err
			}
		}
		return nil
	}
	switch v := v.(type) {
	case map[string]any:
		for _, name := range sortedKeys(v) {
			if err := each(name, v[name]); err != nil {
				return nil, err
			}
		}
	case []any:
		for _, e := range v {
			m, _ := e.(map[string]any)
			if err := each(expr.Text(m["name"]), m["value"]); err != nil {
				return nil, err
			}
		}
	default:
		return nil, fmt.Errorf("a multipart body is an object or a list of parts, not %s", item.Kind(v))
	}
	return out, nil
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

var dnsLabel = regexp.MustCompile(`^[a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?$`)

// BaseURL works out the address that an account's calls go to. A parameter
// that is only a part of a host name must be a DNS label (RFC 1123).
func (c *Connector) BaseURL(account map[string]any) (*url.URL, error) {
	if c.inHost() {
		for name, v := range account {
			if s, ok := v.(string); ok && strings.Contains(c.hostPart(), "account."+name) && !dnsLabel.MatchString(s) && !hostName(s) {
				return nil, fmt.Errorf("%s is %q, which cannot be a part of an address: letters, digits and hyphens", name, s)
			}
		}
	}
	v, err := c.base.Eval(&expr.Scope{Names: map[string]any{"account": account}})
	if err != nil {
		return nil, err
	}
	return ParseBase(expr.Text(v))
}

// inHost tells whether a parameter of the account becomes a part of the host.
func (c *Connector) inHost() bool {
	return expr.IsTemplate(c.hostPart())
}

// hostPart is what stands between :// and the next /.
func (c *Connector) hostPart() string {
	_, rest, ok := strings.Cut(c.Base, "://")
	if !ok {
		return ""
	}
	return expr.Split(rest, '/')[0]
}

func hostName(s string) bool {
	for _, label := range strings.Split(strings.TrimSuffix(s, "."), ".") {
		if !dnsLabel.MatchString(label) {
			return false
		}
	}
	return true
}

// Schemes that a connection can have: the web, mail and databases.
var Schemes = []string{"http", "https", "smtp", "smtps", "postgres"}

// ParseBase reads an address to which a connection can be pinned.
func ParseBase(s string) (*url.URL, error) {
	u, err := url.Parse(strings.TrimSpace(s))
	switch {
	case err != nil, u != nil && (u.Hostname() == "" || !slices.Contains(Schemes, u.Scheme)):
		return nil, fmt.Errorf("%q is not a web address; write it as https://host.example", s)
	case u.User != nil:
		return nil, errors.New("the address holds a user name or password; put the secret in its own field")
	case u.RawQuery != "" || u.Fragment != "":
		return nil, fmt.Errorf("%q should end before ? and #", s)
	}
	return u, nil
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

// JobPart is one of the calls that follow a job.
type JobPart int

// Parts of a job.
const (
	JobCheck JobPart = iota
	JobResult
)

// BuildJob makes a call that follows a job; submitted is the first answer.
func (a *Action) BuildJob(part JobPart, account, input map[string]any, submitted any) (*call.Call, error) {
	r := &a.Job.Check
	if part == JobResult {
		r = a.Job.Result
	}
	request, err := a.connector.buildRequest(r, map[string]any{"account": account, "input": a.Picked(input), "submitted": submitted}, nil, nil)
	if err == nil && part == JobResult {
		request.Answer = a.Answer
	}
	return request, err
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
