package paste

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/item"
)

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

// inBody are names under which a body has a secret; where it turns pages or begins
// again, a token is none.
var inBody = regexp.MustCompile(`(?i)(^|[-_.])(api[-_]?key|apikey|secret|client[-_]?secret|token|auth[-_]?token|access[-_]?token|refresh[-_]?token|bearer|password|passwd|pwd|passphrase|private[-_]?key)$`)
var turnsPages = regexp.MustCompile(`(?i)(page|next|prev|previous|continuation|continue|sync|delta|cursor|start|idempotency|csrf)[-_]?token$`)

func secretInBody(name string) bool {
	return inBody.MatchString(name) && !turnsPages.MatchString(name)
}

// Values that are secrets whatever they are called: with one of the beginnings that
// keys are given so that they are found where they leaked, as PEM (RFC 7468), as a
// signed token (RFC 7519), or long and of letters of both sizes and digits mixed.
var (
	marked = regexp.MustCompile(`^([sprk]k|key|tok|token|secret|whsec|api|pat|gh[a-z]|glpat|xox[a-z]|ytk|yts)[-_][A-Za-z0-9_-]{16,}$`)
	signed = regexp.MustCompile(`^eyJ[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]+\.[A-Za-z0-9_-]*$`)
	mixed  = regexp.MustCompile(`^[A-Za-z0-9+/_-]{32,}={0,2}$`)
	ids    = regexp.MustCompile(`(?i)^([0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|[0-9a-f]+|[a-z]+([-_/][a-z0-9]+)*)$`)
)

func looksSecret(s string) bool {
	if strings.HasPrefix(s, "-----BEGIN ") && strings.Contains(s, "PRIVATE KEY") || marked.MatchString(s) || signed.MatchString(s) {
		return true
	}
	if !mixed.MatchString(s) || ids.MatchString(s) {
		return false
	}
	var small, large, digits int
	for _, r := range s {
		switch {
		case r >= 'a' && r <= 'z':
			small++
		case r >= 'A' && r <= 'Z':
			large++
		case r >= '0' && r <= '9':
			digits++
		}
	}
	return small > 3 && large > 3 && digits > 3
}

// takenOut is said where a secret was.
const takenOut = "a secret, which was taken out; a step cannot keep one"

// without takes out of the settings whatever was found to be a secret elsewhere: the
// same value may stand in the address or the body once more.
func (m *maker) without(settings map[string]any) {
	for name, v := range settings {
		settings[name] = m.withoutIn(v, "the setting "+name)
	}
}

func (m *maker) withoutIn(v any, where string) any {
	switch v := v.(type) {
	case string:
		for name, secret := range m.out.Values {
			if name == "user" || len(secret) < 6 || !strings.Contains(v, escape(secret)) {
				continue
			}
			v = strings.ReplaceAll(v, escape(secret), "")
			m.out.Placeholders = append(m.out.Placeholders, Placeholder{where, takenOut})
		}
		return v
	case []any:
		for i, e := range v {
			v[i] = m.withoutIn(e, where)
		}
	case map[string]any:
		for k, e := range v {
			v[k] = m.withoutIn(e, where)
		}
	}
	return v
}

// cleanRaw takes secrets out of a text that is JSON though it is not sent as such;
// another text, and one without secrets, stays as it was.
func (m *maker) cleanRaw(text string) string {
	v, err := item.Decode([]byte(text))
	if err != nil {
		return text
	}
	if _, ok := v.(map[string]any); !ok {
		if _, ok = v.([]any); !ok {
			return text
		}
	}
	before := len(m.out.Placeholders)
	clean := m.clean(v, "the body")
	taken := false
	for _, p := range m.out.Placeholders[before:] {
		taken = taken || p.Text == takenOut
	}
	if !taken {
		m.out.Placeholders = m.out.Placeholders[:before]
		return text
	}
	b, err := item.Encode(clean)
	if err != nil {
		return text
	}
	return strings.ReplaceAll(string(b), "(==", "(=") // it is escaped once, with the rest
}

func (m *maker) cleanText(text, where, name string) string {
	if p := placeholder(text); p != "" {
		m.out.Placeholders = append(m.out.Placeholders, Placeholder{where, p})
	} else if text != "" && (secretInBody(name) || looksSecret(text)) {
		m.out.Placeholders = append(m.out.Placeholders, Placeholder{where, takenOut})
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
