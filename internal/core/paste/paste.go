// Package paste makes an http step of a call that somebody copied: a curl
// command or a raw HTTP request. Secrets in it are taken out and given apart,
// with a connector document whose sign-in puts them back in their places.
package paste

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"

	"youngtrellis/internal/core/connector"
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
		} else if looksSecret(plain) {
			m.out.Notes = append(m.out.Notes, "The address holds what looks like a secret ("+hint(plain)+"). It stays in the step, where everybody sees it who may read the workflow.")
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
	m.without(s)
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
	case looksSecret(value):
		m.key("the header "+name, name, "", "", value)
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
		if secretName.MatchString(name) && value != "" || looksSecret(value) {
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
