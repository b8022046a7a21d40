package paste

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
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
