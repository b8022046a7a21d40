package connector

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/internal/core/expr"
)

// pathParts cuts a path into its segments. A segment that a template fills in
// stands as {value, from}, so that what it gives can be checked.
func pathParts(p string) []any {
	parts := []any{}
	for _, s := range expr.Split(strings.TrimPrefix(p, "/"), '/') {
		if !literal(s) {
			parts = append(parts, map[string]any{"value": s, "from": strings.ReplaceAll(s, "(=", "(==")})
		} else {
			parts = append(parts, s)
		}
	}
	return parts
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
		} else if d, _ := url.PathUnescape(s); d == ".." || d == "." {
			return nil, fmt.Errorf("the path holds %q as a part of its own", d)
		} else {
			s = LegalPath(s)
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

// SafeLink tells whether an address may be offered to people to follow: web and
// mail only, so that none runs as a script or opens what is on their machine.
func SafeLink(s string) bool {
	u, err := url.Parse(s)
	if err != nil || u.User != nil {
		return false
	}
	switch u.Scheme {
	case "http", "https":
		return u.Host != ""
	case "mailto":
		return u.Opaque != ""
	}
	return false
}
