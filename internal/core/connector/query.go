package connector

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"youngtrellis/internal/core/expr"
)

// What a query (RFC 3986, 3.4) or a path may hold besides letters and digits; what else
// stands there goes out percent-encoded. Of the query, those that every server takes
// as they are stay too, since one that signs an address signs what was written.
const (
	inPath  = "-._~!$&'()*+,;=:@%/"
	inQuery = "-._~!$&'()*+,;=:@%/?[]{}|^`\\\"<>"
)

// legal encodes the bytes that cannot stand in an address; what is encoded already
// stays as it was written. A % that begins no escape is encoded too.
func legal(s, allowed string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9':
			b.WriteByte(c)
		case c == '%' && (i+2 >= len(s) || !isHex(s[i+1]) || !isHex(s[i+2])), strings.IndexByte(allowed, c) < 0:
			fmt.Fprintf(&b, "%%%02X", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// LegalPath and LegalQuery encode what cannot stand in the path or the query of an
// address, and keep the rest to the byte.
func LegalPath(s string) string { return legal(s, inPath) }

// LegalQuery is LegalPath for what stands after the question mark.
func LegalQuery(s string) string { return legal(s, inQuery) }

// literal tells a text without expressions; it may hold the signs that begin one, written
// twice.
func literal(s string) bool { return !expr.IsTemplate(strings.ReplaceAll(s, "(==", "")) }

// writtenPairs cuts a query as it stands in an address: a pair without an expression
// stays as it is, one with an expression becomes {name, value}.
func writtenPairs(query string) ([]any, error) {
	var out []any
	for _, pair := range expr.Split(query, '&') {
		name, value, _ := cutOutside(pair, '=')
		switch {
		case !literal(name):
			return nil, errors.New("the name of a query parameter cannot be an expression")
		case !literal(value):
			out = append(out, map[string]any{"name": name, "value": value})
		default:
			out = append(out, pair)
		}
	}
	return out, nil
}

// joinPairs puts the pairs together again. What an expression gave is encoded; a list
// repeats the name; nothing leaves the pair out.
func joinPairs(list []any) string {
	var out []string
	for _, pair := range list {
		m, ok := pair.(map[string]any)
		if !ok {
			out = append(out, LegalQuery(expr.Text(pair)))
			continue
		}
		name := LegalQuery(expr.Text(m["name"]))
		values, ok := m["value"].([]any)
		if !ok && m["value"] != nil {
			values = []any{m["value"]}
		}
		for _, v := range values {
			out = append(out, name+"="+url.QueryEscape(expr.Text(v)))
		}
	}
	return strings.Join(out, "&")
}

// addToQuery appends pairs to the query of an address, and leaves what stands there.
func addToQuery(u *url.URL, pairs string) {
	if pairs == "" {
		return
	}
	if u.RawQuery != "" {
		pairs = u.RawQuery + "&" + pairs
	}
	u.RawQuery = pairs
}

// written encodes a text for a query as people write it: only what would mean something
// else there.
func written(s string) string {
	return legal(strings.ReplaceAll(s, "%", "%25"), "-._~!$'()*,;:@%/?")
}

// setInQuery gives a parameter its one value: in its place where it stands already,
// else at the end.
func setInQuery(u *url.URL, name, value string) {
	var out []string
	set := false
	pair := written(name) + "=" + written(value)
	for _, p := range strings.Split(u.RawQuery, "&") {
		before, _, _ := strings.Cut(p, "=")
		if n, err := url.QueryUnescape(before); err != nil || n != name || p == "" {
			if p != "" || u.RawQuery != "" {
				out = append(out, p)
			}
		} else if !set {
			out, set = append(out, pair), true
		}
	}
	if n := len(out); !set && n > 0 && out[n-1] == "" {
		out[n-1] = pair
	} else if !set {
		out = append(out, pair)
	}
	u.RawQuery = strings.Join(out, "&")
}
