package paste

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"mime/multipart"
	"net/http"
	"slices"
	"strings"
	"time"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

// sent is a request as it goes over the wire.
type sent struct {
	method, target, body string
	header               http.Header
}

// contents stands for what a file holds, where only the call is looked at.
func contents(name string) string { return "‹" + name + "›\r\nsecond line & more" }

// items are the fields that the step takes files from.
func (p *Pasted) items() map[string]any {
	out := map[string]any{}
	for i, f := range p.Files {
		_, field, _ := strings.Cut(f.Field, ".")
		if f.Text {
			out[field] = contents(f.Name)
			continue
		}
		out[field] = (&item.File{ID: fmt.Sprintf("sha256-%064d", i), Name: f.Name, Size: int64(len(contents(f.Name)))}).Value()
	}
	return out
}

// built sends the step to nobody: it builds the request and puts the sign-in in.
func (p *Pasted) built() (*sent, error) {
	free, err := connector.ReadFree(p.Settings)
	if err != nil {
		return nil, err
	}
	action, tree, err := free.Action()
	if err != nil {
		return nil, err
	}
	compiled, err := expr.CompileValue(tree, expr.Names{"item"})
	if err != nil {
		return nil, err
	}
	v, err := compiled.Eval(&expr.Scope{Item: p.items(), Names: map[string]any{}})
	if err != nil {
		return nil, err
	}
	c, err := action.Build(nil, v.(map[string]any), nil)
	if err != nil {
		return nil, err
	}
	return p.proven(c)
}

func (p *Pasted) proven(c *call.Call) (*sent, error) {
	body := bytes.Clone(c.Body)
	for _, piece := range c.Pieces {
		body = append(body, piece.Bytes...)
		if piece.File != nil {
			body = append(body, contents(piece.File.Name)...)
		}
	}
	u := *c.URL
	r := &connector.Signed{Method: c.Method, URL: &u, Header: c.Header.Clone(), Body: body, Now: time.Now()}
	if p.way != nil {
		s, values := p.way.signIn(), map[string]string{}
		for _, x := range p.Secrets {
			values[x.Name] = x.written
		}
		if err := s.Apply(r, &connector.Credentials{Values: values}); err != nil {
			return nil, err
		}
	}
	return &sent{method: r.Method, target: r.URL.RequestURI(), header: r.Header, body: string(r.Body)}, nil
}

// compare says wherever the step sends something else than the call, and keeps how
// it goes out.
func (m *maker) compare() error {
	got, err := m.out.built()
	if err != nil {
		return fmt.Errorf("this call cannot become a step: %w", err)
	}
	m.out.Request = m.shown(got)
	w := m.wire
	if got.method != w.method {
		w.say("It goes out with the method %s.", got.method)
	}
	if got.target != w.target() && !m.changed {
		if _, query, _ := strings.Cut(got.target, "?"); !sameSet(strings.Split(query, "&"), strings.Split(w.query, "&")) || !strings.HasPrefix(got.target, w.path) {
			w.say("It goes out to %s.", short(m.masks().Mask(got.target)))
		}
	}
	m.compareHeaders(got)
	if !m.changed {
		m.compareBodies(got)
	}
	m.out.Notes = w.notes
	return nil
}

// apart are headers that each sender makes itself, or of which it is said that they are
// left out.
var apart = []string{"User-Agent", "Accept-Encoding", "Idempotency-Key"}

func (m *maker) compareHeaders(got *sent) {
	if m.changed {
		return
	}
	wanted := http.Header{}
	for _, h := range m.wire.header {
		if !slices.Contains(apart, http.CanonicalHeaderKey(h[0])) && (!connector.Reserved(h[0]) || got.header.Get(h[0]) != "") {
			wanted.Add(h[0], h[1])
		}
	}
	parts := m.wire.body != nil && m.wire.body.form
	for name, values := range wanted {
		if parts && name == "Content-Type" {
			continue
		}
		if !slices.EqualFunc(values, got.header.Values(name), func(a, b string) bool { return a == b || name == "Authorization" && strings.EqualFold(a, b) }) {
			m.wire.say("The header %s goes out as %s.", name, short(m.masks().Mask(strings.Join(got.header.Values(name), ", "))))
		}
	}
	for name, values := range got.header {
		if _, ok := wanted[name]; !ok && !(parts && name == "Content-Type") {
			m.wire.say("The header %s: %s goes with it.", name, short(m.masks().Mask(strings.Join(values, ", "))))
		}
	}
}

func (m *maker) compareBodies(got *sent) {
	b := m.wire.body
	if b != nil && b.form {
		m.compareParts(got)
		return
	}
	want := ""
	if b != nil {
		for _, p := range b.pieces {
			want += p.sent()
		}
	}
	if want == got.body {
		return
	}
	switch m.out.made.body {
	case "json":
		m.wire.say("The body goes out with the same values; its blanks and the order of its names are not kept.")
		if !sameJSON([]byte(want), []byte(got.body)) {
			m.wire.say("The body goes out as %s.", short(m.masks().Mask(got.body)))
		}
	case "form", "":
		if sameSet(decoded(want), decoded(got.body)) {
			m.wire.say("The form goes out with the same fields; their order, and how signs are encoded, are not kept.")
			return
		}
		m.wire.say("The body goes out as %s.", short(m.masks().Mask(got.body)))
	case "file": // that its line breaks stay is said
	default:
		m.wire.say("The body goes out as %s.", short(m.masks().Mask(got.body)))
	}
}

// sent is what the command would send of a piece.
func (p piece) sent() string {
	if p.file == "" {
		return p.text
	}
	switch text := contents(p.file); p.how {
	case "lines":
		return strings.NewReplacer("\r", "", "\n", "").Replace(text)
	case "encoded":
		return curlEscape(text)
	default:
		return text
	}
}

func (m *maker) compareParts(got *sent) {
	_, parameters, err := mime.ParseMediaType(got.header.Get("Content-Type"))
	if err != nil {
		m.wire.say("The body goes out as %s.", got.header.Get("Content-Type"))
		return
	}
	reader := multipart.NewReader(strings.NewReader(got.body), parameters["boundary"])
	for i := 0; ; i++ {
		p, err := reader.NextRawPart()
		if errors.Is(err, io.EOF) && i == len(m.wire.body.parts) {
			return
		}
		if err != nil || i >= len(m.wire.body.parts) {
			m.wire.say("The body goes out with %d parts.", i)
			return
		}
		text, _ := io.ReadAll(p)
		want := m.wire.body.parts[i]
		if kind := p.Header.Get("Content-Type"); kind != want.kind && !(want.file != "" && want.kind == "application/octet-stream") {
			m.wire.say("The part %s goes out with the type %q.", want.name, kind)
		}
		if p.FormName() != partName.Replace(want.name) || p.FileName() != partName.Replace(want.filename) || string(text) != want.sent() {
			m.wire.say("The part %s goes out as %s, %s, %d bytes.", want.name, p.FormName(), p.FileName(), len(text))
		}
	}
}

// partName is how a name stands in the head of a part (WHATWG HTML, multipart/form-data).
var partName = strings.NewReplacer("\r", "%0D", "\n", "%0A", `"`, "%22")

// decoded are the pairs of a form, or of a query.
func decoded(s string) []string {
	var out []string
	for _, pair := range strings.Split(s, "&") {
		if name, value, _ := strings.Cut(pair, "="); pair != "" {
			out = append(out, unescaped(name)+"="+unescaped(value))
		}
	}
	return out
}

func sameSet(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

func (m *maker) masks() *call.Secrets {
	var values []string
	for _, s := range m.out.Secrets {
		if !s.Shown && s.Value != "" {
			values = append(values, s.Value)
		}
	}
	for _, s := range m.out.Secrets {
		if user := m.user(); s.Name == "secret" && m.way.method == connector.Basic {
			values = append(values, user+":"+s.Value)
		}
	}
	return call.NewSecrets(values...)
}

func (m *maker) user() string {
	for _, s := range m.out.Secrets {
		if s.Name == "user" {
			return s.Value
		}
	}
	return ""
}

// mostShown is how much of a body is shown.
const mostShown = 4000

// shown writes the request as it goes over the wire, its secrets masked.
func (m *maker) shown(r *sent) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s HTTP/1.1\nHost: %s\n", r.method, r.target, m.wire.host)
	h := r.header.Clone()
	h.Set("User-Agent", "young-trellis")
	if r.body != "" || r.method == http.MethodPost || r.method == http.MethodPut || r.method == http.MethodPatch {
		h.Set("Content-Length", fmt.Sprint(len(r.body)))
		if len(m.out.Files) > 0 {
			h.Set("Content-Length", "…")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(h)) {
		for _, v := range h[name] {
			fmt.Fprintf(&b, "%s: %s\n", name, v)
		}
	}
	b.WriteString("\n")
	text := r.body
	for _, f := range m.out.Files {
		text = strings.ReplaceAll(text, contents(f.Name), "‹what "+f.Name+" holds›")
	}
	if len(text) > mostShown {
		text = strings.ToValidUTF8(text[:mostShown], "") + fmt.Sprintf("\n… and %d bytes more", len(text)-mostShown)
	}
	b.WriteString(strings.ReplaceAll(text, "\r\n", "\n"))
	return m.masks().Mask(b.String())
}
