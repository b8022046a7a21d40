package paste

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strings"

	"youngtrellis/internal/core/connector"
)

// wire is a call as the pasted command would send it.
type wire struct {
	method  string
	scheme  string
	host    string // with its port
	path    string // as it goes over the wire
	query   string
	header  [][2]string // what proves itself is among them
	without []string    // headers that are sent by others, and not by this call
	body    *body       // nil where there is none
	notes   []string
	ask     []Placeholder // said while the command was read
}

// body is made of pieces one after another, or of parts.
type body struct {
	pieces []piece
	parts  []part
	form   bool // a multipart body, though perhaps of no part
}

// piece is a text, or what a file holds.
type piece struct {
	text string
	file string
	how  string // of a file: "" whole, "lines" without line breaks, "encoded" for a form
}

// part is one of a multipart body (RFC 7578).
type part struct {
	name, kind, filename string
	piece
}

func (w *wire) say(format string, a ...any) {
	note := fmt.Sprintf(format, a...)
	for _, known := range w.notes {
		if known == note {
			return
		}
	}
	w.notes = append(w.notes, note)
}

func (w *wire) values(name string) []string {
	var out []string
	for _, h := range w.header {
		if strings.EqualFold(h[0], name) {
			out = append(out, h[1])
		}
	}
	return out
}

func (w *wire) has(name string) bool {
	for _, h := range w.header {
		if strings.EqualFold(h[0], name) {
			return true
		}
	}
	for _, n := range w.without {
		if strings.EqualFold(n, name) {
			return true
		}
	}
	return false
}

func (w *wire) origin() string { return w.scheme + "://" + w.host }

func (w *wire) target() string {
	if w.query == "" {
		return w.path
	}
	return w.path + "?" + w.query
}

var (
	scheme      = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9+.-]*://`)
	severalURLs = regexp.MustCompile(`\{[^{}]*,[^{}]*\}|\[([0-9]+-[0-9]+|[a-z]-[a-z]|[A-Z]-[A-Z])(:[0-9]+)?\]`)
	escapedGlob = regexp.MustCompile(`\\([{}\[\]])`)
)

// address reads where a call goes. glob: braces and brackets stand for several
// addresses, as they do for curl unless it is told otherwise; asIs: dots in the path
// are no ways up.
func (w *wire) address(s string, glob, asIs bool) (user *url.Userinfo, err error) {
	s = trim(s)
	if s == "" {
		return nil, errors.New("the call names no address")
	}
	if !scheme.MatchString(s) {
		host, _, _ := strings.Cut(s, "/")
		if _, after, ok := strings.Cut(host, "@"); ok {
			host = after
		}
		if local(host) {
			s = "http://" + s
		} else {
			s = "https://" + s
			w.say("The command names no scheme, by which it would use http; https is used.")
		}
	}
	begin, rest, _ := strings.Cut(s, "://")
	w.scheme = strings.ToLower(begin)
	if w.scheme != "http" && w.scheme != "https" {
		return nil, fmt.Errorf("the address begins with %s://; only http and https are called", w.scheme)
	}
	host, rest := cutAny(rest, "/?#")
	if i := strings.LastIndexByte(host, '@'); i >= 0 {
		u, err := url.Parse("http://" + host[:i] + "@a")
		if err != nil {
			return nil, fmt.Errorf("the user name and password before %s cannot be read; give them with -u", host[i:])
		}
		user, host = u.User, host[i+1:]
	}
	if plain, _ := url.PathUnescape(host); placeholder(plain) != "" {
		return nil, fmt.Errorf("%s stands in the place of the host; write the real host there and paste it again", placeholder(plain))
	}
	u, err := url.Parse(w.scheme + "://" + host)
	if err != nil || u.Hostname() == "" || strings.ContainsAny(host, " \t\n\"'<>\\^`{|}") {
		return nil, fmt.Errorf("%q is not an address", w.scheme+"://"+host)
	}
	w.host = strings.ToLower(u.Host)
	if strings.HasSuffix(w.host, ":") || w.scheme == "http" && u.Port() == "80" || w.scheme == "https" && u.Port() == "443" {
		w.host = strings.TrimSuffix(w.host, ":"+u.Port())
	}
	rest, _, _ = strings.Cut(rest, "#")
	if glob {
		if several := severalURLs.FindString(rest); several != "" {
			return nil, fmt.Errorf("%s in the address stands for several calls; write one of them in its place, and let a step make the others item by item", several)
		}
		rest = escapedGlob.ReplaceAllString(rest, "$1")
	}
	p, query, asks := strings.Cut(rest, "?")
	if asks && query == "" {
		w.say(questionMark)
	}
	if p == "" {
		p = "/"
	}
	if !asIs {
		p = withoutDots(p)
	} else if p != withoutDots(p) {
		return nil, errors.New("the path holds . or .. as a part of its own, which a step never sends; write the path without them")
	}
	w.path, w.query = connector.LegalPath(p), connector.LegalQuery(query)
	if w.path != p && !braces(p) || w.query != query {
		w.say("The address holds signs that cannot stand in one; they go out encoded, as %s.", short(w.target()))
	}
	return user, nil
}

// braces tells whether a path was changed by nothing but what is to be filled in, which
// is said anyway.
func braces(was string) bool {
	rest := was
	for p := placeholder(rest); p != ""; p = placeholder(rest) {
		rest = strings.Replace(rest, p, "", 1)
	}
	return rest != was && connector.LegalPath(rest) == rest
}

func cutAny(s, chars string) (string, string) {
	if i := strings.IndexAny(s, chars); i >= 0 {
		return s[:i], s[i:]
	}
	return s, ""
}

// withoutDots goes the ways up and stays that a path holds (RFC 3986, 5.2.4).
func withoutDots(p string) string {
	var out []string
	parts := strings.Split(p, "/")[1:]
	for i, part := range parts {
		last := i == len(parts)-1
		switch strings.ToLower(part) {
		case ".", "%2e":
			if last {
				out = append(out, "")
			}
		case "..", ".%2e", "%2e.", "%2e%2e":
			if len(out) > 0 {
				out = out[:len(out)-1]
			}
			if last {
				out = append(out, "")
			}
		default:
			out = append(out, part)
		}
	}
	return "/" + strings.Join(out, "/")
}

func local(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// token is a method or the name of a header (RFC 9110, 5.6.2).
var token = regexp.MustCompile("^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")

// whole checks what no call can carry, whoever sends it.
func (w *wire) whole() error {
	if !token.MatchString(w.method) || strings.EqualFold(w.method, http.MethodConnect) || strings.EqualFold(w.method, http.MethodTrace) {
		return fmt.Errorf("%q cannot be the method of a call", w.method)
	}
	for _, h := range w.header {
		if !token.MatchString(h[0]) {
			return fmt.Errorf("%q is not the name of a header", h[0])
		}
		if strings.ContainsFunc(h[1], func(c rune) bool { return c < ' ' && c != '\t' || c == 0x7f }) {
			return fmt.Errorf("the header %s holds a line break or another control character", h[0])
		}
	}
	for _, name := range []string{"Authorization", "Content-Type"} {
		if len(w.values(name)) > 1 {
			return fmt.Errorf("the header %s stands there twice; take one of them out", name)
		}
	}
	return nil
}

// trim takes away the blanks that mean nothing around a value (RFC 9110, 5.6.3): other
// signs that look like one are part of it.
func trim(s string) string { return strings.Trim(s, " \t\r\n") }

func short(s string) string {
	if r := []rune(s); len(r) > 80 {
		return string(r[:79]) + "…"
	}
	return s
}
