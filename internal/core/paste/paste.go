// Package paste makes an http step of a call that somebody copied: a curl
// command or a raw HTTP request. Secrets in it are taken out and given apart,
// with a connector document whose sign-in puts them back in their places.
package paste

import (
	"errors"
	"fmt"
	"mime"
	"net"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/item"
)

// Pasted is what a call became.
type Pasted struct {
	Settings     map[string]any // of an http step
	Origin       string         // scheme://host:port
	Secrets      []Found
	Placeholders []Placeholder
	Files        []string // that the command reads; in the step they are item.file, item.file_2 …
	Notes        []string
	Connector    string            // a document, where a sign-in is needed
	Values       map[string]string // what was found, by the name of its secret
}

// Found is a secret that was taken out.
type Found struct {
	Where string
	Hint  string // the last characters, where it is long
}

// Placeholder is a stand-in for a value, such as YOUR_KEY.
type Placeholder struct {
	Where string
	Text  string
}

// request is a call before it becomes a step.
type request struct {
	method  string
	url     string
	header  [][2]string
	body    []byte
	kind    string // content type of the body
	hasBody bool
	file    string // the body is this file
	parts   []part
	user    string // user:password
	bearer  string
	cookie  string
	query   [][2]string
	notes   []string
	files   []string
}

type part struct {
	name, text, kind, filename, file string
}

// MaxBytes is the longest text that is read.
const MaxBytes = 1 << 20

// Read makes a step of a pasted text.
func Read(text string) (*Pasted, error) {
	text = strings.TrimSpace(strings.ReplaceAll(text, "\r\n", "\n"))
	text = strings.TrimPrefix(text, "$ ")
	if text == "" {
		return nil, errors.New("nothing was pasted; paste a curl command, or a request that begins with a method and a path")
	}
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("the text has %d bytes; at most %d are read", len(text), MaxBytes)
	}
	var r *request
	var err error
	switch first := strings.ToLower(strings.Fields(text)[0]); {
	case first == "curl" || strings.HasSuffix(first, "/curl") || first == "curl.exe":
		r, err = readCurl(text)
	case rawStart.MatchString(text):
		r, err = readRaw(text)
	case strings.HasPrefix(first, "http://") || strings.HasPrefix(first, "https://"):
		r = &request{method: "GET", url: strings.Fields(text)[0]}
	default:
		return nil, errors.New("this is neither a curl command nor an HTTP request; a command begins with curl, a request with a method and a path, as GET /v1/orders")
	}
	if err != nil {
		return nil, err
	}
	return r.step()
}

// maker turns a request into a step, taking secrets out on the way.
type maker struct {
	out   *Pasted
	way   map[string]any   // the sign-in method of the connector
	also  []map[string]any // further keys
	count int
}

var secretName = regexp.MustCompile(`(?i)(^|[-_.])(api[-_]?key|apikey|key|token|access[-_]?token|secret|client[-_]?secret|password|passwd|pwd|auth|authorization|signature|sig|subscription[-_]?key)$`)

var placeholderText = regexp.MustCompile(`(?i)(<[^<>\s]{2,60}>|\{\{?[a-z_][a-z0-9_ -]*\}?\}|\[[a-z_][a-z0-9_ -]{2,40}\]|\$\{?[a-z_][a-z0-9_]*\}?|\b(your|my|insert|replace|enter)[-_ ]?[a-z0-9_ -]*(key|token|secret|id|password|name|here|value)[a-z0-9_]*\b|\bx{4,}\b|\*{4,})`)

// placeholder finds a stand-in for a value; JSON and XML are not taken for one.
func placeholder(s string) string {
	s = strings.TrimSpace(s)
	if strings.HasPrefix(s, "{\"") || strings.HasPrefix(s, "<?xml") || len(s) > 4000 {
		return ""
	}
	return placeholderText.FindString(s)
}

func hint(s string) string {
	if len(s) < 12 {
		return "••••"
	}
	return "••••" + s[len(s)-4:]
}

// secret takes a value out of the step.
func (m *maker) secret(where, name, value string) {
	if p := placeholder(value); p != "" {
		m.out.Placeholders = append(m.out.Placeholders, Placeholder{where, p})
		return
	}
	m.out.Secrets = append(m.out.Secrets, Found{where, hint(value)})
	m.out.Values[name] = value
}

// key adds a place for a key to the sign-in: the first is its secret, others
// come after.
func (m *maker) key(where, header, query, prefix, value string) {
	place := map[string]any{}
	if header != "" {
		place["header"] = header
	} else {
		place["query"] = query
	}
	if prefix != "" {
		place["prefix"] = prefix + " "
	}
	title := header + query
	if m.way == nil {
		m.way = map[string]any{"method": "api_key", "title": title, "secret": title}
		for k, v := range place {
			m.way[k] = v
		}
		m.secret(where, "secret", value)
		return
	}
	m.count++
	name := fmt.Sprintf("key_%d", m.count+1)
	place["name"], place["title"] = name, title
	m.also = append(m.also, place)
	m.secret(where, name, value)
}

func escape(s string) string { return strings.ReplaceAll(s, "(=", "(==") }

func (r *request) step() (*Pasted, error) {
	u, err := parseAddress(r.url)
	if err != nil {
		return nil, err
	}
	m := &maker{out: &Pasted{Values: map[string]string{}, Notes: r.notes, Settings: map[string]any{}}}
	s := m.out.Settings
	if r.method != "GET" {
		s["method"] = r.method
	}
	m.out.Origin = u.Scheme + "://" + u.Host
	if u.User != nil {
		m.basic(u.User.Username(), second(u.User.Password()))
		u.User = nil
	}
	if r.user != "" {
		user, password, _ := strings.Cut(r.user, ":")
		m.basic(user, password)
	}
	if r.bearer != "" {
		m.bearer("", r.bearer)
	}
	header := map[string]any{}
	for _, h := range r.header {
		m.header(header, h[0], h[1])
	}
	if r.cookie != "" {
		m.key("the cookie", "Cookie", "", "", r.cookie)
	}
	query := m.query(u, r.query)
	if err := r.bodyInto(m, s, header); err != nil {
		return nil, err
	}
	if len(header) > 0 {
		s["header"] = header
	}
	p := u.EscapedPath()
	for _, part := range strings.Split(p, "/") {
		plain, _ := url.PathUnescape(part)
		if text := placeholder(plain); text != "" {
			m.out.Placeholders = append(m.out.Placeholders, Placeholder{"the address", text})
		}
	}
	if p == "" {
		p = "/"
	}
	if m.way == nil && len(m.out.Values) == 0 {
		s["url"] = escape(m.out.Origin + p)
	} else {
		s["url"] = escape(p)
	}
	if len(query) > 0 {
		s["query"] = query
	}
	if _, err := connector.ReadFree(s); err != nil {
		return nil, fmt.Errorf("this call cannot become a step: %w", err)
	}
	if m.way != nil {
		if len(m.also) > 0 {
			m.way["also"] = m.also
		}
		m.out.Connector, err = m.document(u, r)
	}
	return m.out, err
}

func second(s string, _ bool) string { return s }

func parseAddress(s string) (*url.URL, error) {
	s = strings.TrimSpace(s)
	if s == "" {
		return nil, errors.New("the call names no address")
	}
	if !strings.Contains(s, "://") {
		scheme := "https://"
		if host, _, _ := strings.Cut(s, "/"); local(host) {
			scheme = "http://"
		}
		s = scheme + s
	}
	for _, pair := range [][2]string{{" ", "%20"}, {"{", "%7B"}, {"}", "%7D"}, {"<", "%3C"}, {">", "%3E"}, {"\"", "%22"}} {
		s = strings.ReplaceAll(s, pair[0], pair[1])
	}
	if _, rest, _ := strings.Cut(s, "://"); rest != "" {
		host, _, _ := strings.Cut(rest, "/")
		plain, _ := url.PathUnescape(host)
		if text := placeholder(plain); text != "" {
			return nil, fmt.Errorf("%s stands in the place of the host; write the real host there and paste it again", text)
		}
	}
	u, err := url.Parse(s)
	if err != nil || u.Hostname() == "" {
		return nil, fmt.Errorf("%q is not an address", s)
	}
	if u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("the address begins with %s://; only http and https are called", u.Scheme)
	}
	return u, nil
}

func local(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (m *maker) basic(user, password string) {
	if m.way != nil {
		m.out.Notes = append(m.out.Notes, "The call proves itself twice; the user name and password are used for the second.")
		return
	}
	m.way = map[string]any{"method": "basic", "title": "User name and password"}
	if p := placeholder(user); p != "" {
		m.out.Placeholders = append(m.out.Placeholders, Placeholder{"the user name", p})
	} else {
		m.out.Values["user"] = user
	}
	if password != "" {
		m.secret("the password", "secret", password)
	}
}

func (m *maker) bearer(prefix, token string) {
	if m.way != nil {
		if prefix == "" {
			prefix = "Bearer"
		}
		m.key("the header Authorization", "Authorization", "", prefix, token)
		return
	}
	m.way = map[string]any{"method": "bearer", "title": "Token"}
	if prefix != "" && prefix != "Bearer" {
		m.way["prefix"] = prefix
	}
	m.secret("the header Authorization", "secret", token)
}

// header keeps a header in the step, or takes it out as a secret.
func (m *maker) header(into map[string]any, name, value string) {
	canonical := strings.ToLower(name)
	switch {
	case canonical == "authorization":
		kind, rest, ok := strings.Cut(strings.TrimSpace(value), " ")
		switch {
		case !ok:
			m.key("the header Authorization", "Authorization", "", "", kind)
		case strings.EqualFold(kind, "basic"):
			user, password, decoded := decodeBasic(rest)
			if !decoded {
				m.bearer(kind, rest)
				return
			}
			m.basic(user, password)
		default:
			m.bearer(kind, strings.TrimSpace(rest))
		}
	case canonical == "cookie":
		m.key("the cookie", "Cookie", "", "", value)
	case secretName.MatchString(name):
		m.key("the header "+name, name, "", "", value)
	case canonical == "user-agent":
		m.out.Notes = append(m.out.Notes, "User-Agent is left out: calls name Young Trellis.")
	case connector.Reserved(name):
		m.out.Notes = append(m.out.Notes, fmt.Sprintf("The header %s is left out: it belongs to the transport.", name))
	case value == "":
	default:
		if p := placeholder(value); p != "" {
			m.out.Placeholders = append(m.out.Placeholders, Placeholder{"the header " + name, p})
		}
		into[name] = escape(value)
	}
}

func (m *maker) query(u *url.URL, more [][2]string) map[string]any {
	out := map[string]any{}
	put := func(name, value string) {
		if secretName.MatchString(name) && value != "" {
			m.key("the query parameter "+name, "", name, "", value)
			return
		}
		if p := placeholder(value); p != "" {
			m.out.Placeholders = append(m.out.Placeholders, Placeholder{"the query parameter " + name, p})
		}
		addTo(out, name, escape(value))
	}
	for _, pair := range pairs(u.RawQuery) {
		put(pair[0], pair[1])
	}
	for _, pair := range more {
		put(pair[0], pair[1])
	}
	u.RawQuery = ""
	return out
}

func addTo(m map[string]any, name string, value any) {
	switch known := m[name].(type) {
	case nil:
		m[name] = value
	case []any:
		m[name] = append(known, value)
	default:
		m[name] = []any{known, value}
	}
}

// pairs reads a query or form in order. What cannot be decoded stays as it is.
func pairs(s string) [][2]string {
	var out [][2]string
	for _, p := range strings.Split(s, "&") {
		if p == "" {
			continue
		}
		name, value, _ := strings.Cut(p, "=")
		if n, err := url.QueryUnescape(name); err == nil {
			name = n
		}
		if v, err := url.QueryUnescape(value); err == nil {
			value = v
		}
		out = append(out, [2]string{name, value})
	}
	return out
}

func (r *request) fileName(i int) string {
	if i == 0 {
		return "(= item.file )"
	}
	return fmt.Sprintf("(= item.file_%d )", i+1)
}

// bodyInto puts the body into the settings, in the kind that says most of it.
func (r *request) bodyInto(m *maker, s, header map[string]any) error {
	file := func(name string) string {
		r.files = append(r.files, name)
		m.out.Files = r.files
		return r.fileName(len(r.files) - 1)
	}
	kind := r.kind
	for name, v := range header {
		if strings.EqualFold(name, "content-type") {
			kind = v.(string)
			delete(header, name)
		}
	}
	switch {
	case r.parts != nil:
		list := []any{}
		for _, p := range r.parts {
			list = append(list, map[string]any{"name": p.name, "value": m.partValue(p, file)})
		}
		s["multipart"] = list
		return nil
	case r.file != "":
		s["file"] = file(r.file)
		if kind != "" {
			header["Content-Type"] = kind
		}
		return nil
	case !r.hasBody:
		if kind != "" && r.method != "GET" {
			header["Content-Type"] = kind
		}
		return nil
	}
	media, _, _ := mime.ParseMediaType(kind)
	text := string(r.body)
	if media == "application/json" || strings.HasSuffix(media, "+json") {
		if v, err := item.Decode(r.body); err == nil && v != nil {
			s["json"] = m.clean(v, "the body")
			if kind != "application/json" {
				header["Content-Type"] = kind
			}
			return nil
		}
		m.out.Notes = append(m.out.Notes, "The body says that it is JSON and is not; it is kept as text.")
	}
	if media == "application/x-www-form-urlencoded" && isForm(text) {
		form := map[string]any{}
		for _, pair := range pairs(text) {
			addTo(form, pair[0], m.cleanText(pair[1], "the body's "+pair[0], pair[0]))
		}
		if len(form) > 0 {
			s["form"] = form
			if kind != "application/x-www-form-urlencoded" {
				header["Content-Type"] = kind
			}
			return nil
		}
	}
	if media == "application/x-www-form-urlencoded" && strings.HasPrefix(strings.TrimSpace(text), "{") {
		m.out.Notes = append(m.out.Notes, "The body looks like JSON, but the command sends it as a form; if the other side refuses it, set the header Content-Type to application/json.")
	}
	if p := placeholder(text); p != "" {
		m.out.Placeholders = append(m.out.Placeholders, Placeholder{"the body", p})
	}
	if kind == "" {
		kind = "text/plain"
	}
	s["raw"] = map[string]any{"type": kind, "text": escape(text)}
	return nil
}

// isForm tells whether a text reads as a form: names with values.
func isForm(s string) bool {
	for _, p := range strings.Split(s, "&") {
		name, _, ok := strings.Cut(p, "=")
		if !ok || name == "" || strings.ContainsAny(name, "{}\"<> \n") {
			return false
		}
	}
	return !strings.ContainsAny(s, "\n")
}

func (m *maker) partValue(p part, file func(string) string) any {
	if p.file != "" {
		v := map[string]any{"file": file(p.file), "name": p.filename}
		if p.filename == "" {
			v["name"] = path.Base(p.file)
		}
		if p.kind != "" {
			v["type"] = p.kind
		}
		return v
	}
	text := m.cleanText(p.text, "the part "+p.name, p.name)
	if p.kind == "" && p.filename == "" {
		return text
	}
	v := map[string]any{"text": text}
	if p.kind != "" {
		v["type"] = p.kind
	}
	if p.filename != "" {
		v["name"] = p.filename
	}
	return v
}

// clean escapes texts, and takes out what looks like a secret: a body cannot
// hold one.
func (m *maker) clean(v any, where string) any {
	switch v := v.(type) {
	case string:
		return m.cleanText(v, where, "")
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = m.clean(e, where)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, e := range v {
			if text, ok := e.(string); ok {
				out[escape(k)] = m.cleanText(text, where+"’s "+k, k)
			} else {
				out[escape(k)] = m.clean(e, where)
			}
		}
		return out
	}
	return v
}

var inBody = []string{"client_secret", "api_key", "apikey", "password", "secret", "access_token", "private_key"}

func (m *maker) cleanText(text, where, name string) string {
	if p := placeholder(text); p != "" {
		m.out.Placeholders = append(m.out.Placeholders, Placeholder{where, p})
	} else if slices.Contains(inBody, strings.ToLower(name)) && text != "" {
		m.out.Placeholders = append(m.out.Placeholders, Placeholder{where, "a secret, which was taken out; a step cannot keep one"})
		return ""
	}
	return escape(text)
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// document is a connector for the host, whose sign-in puts the secrets back.
func (m *maker) document(u *url.URL, r *request) (string, error) {
	name := strings.Trim(notName.ReplaceAllString(strings.ToLower(u.Hostname()), "-"), "-")
	if name == "" || name[0] < 'a' {
		name = "at-" + name
	}
	check := map[string]any{"method": "GET", "path": "/"}
	lenient := true
	if r.method == "GET" && placeholder(u.Path) == "" {
		check["path"], lenient = escape(u.EscapedPath()), true
		if u.Path == "" {
			check["path"] = "/"
		}
		if q, ok := m.out.Settings["query"].(map[string]any); ok {
			check["query"] = q
		}
	}
	doc := map[string]any{
		"format": connector.Format, "name": name[:min(len(name), 60)], "title": u.Hostname(), "version": 1, "about": "Made of a pasted call.",
		"base": m.out.Origin, "sign_in": []any{m.way},
		"check": map[string]any{"request": check, "says": u.Hostname(), "any_answer": lenient},
	}
	b, err := document.EncodeValue(doc)
	if err != nil {
		return "", err
	}
	if _, err := connector.Parse(b); err != nil {
		return "", fmt.Errorf("the sign-in of this call cannot be described: %w", err)
	}
	return string(b), nil
}
