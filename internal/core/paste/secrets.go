package paste

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"youngtrellis/internal/core/connector"
)

// Names under which a value is a secret, in snake case. Where a body turns pages or
// begins again, a token is none.
var (
	secretName = regexp.MustCompile(`(^|_)(api_?key|app_?key|key|token|secret|password|passwd|pwd|passphrase|auth|authorization|bearer|jwt|signature|sig|session|session_?id|sid|credentials?|app_?id|license|otp|pin)$`)
	inBody     = regexp.MustCompile(`(^|_)(api_?key|app_?key|token|secret|password|passwd|pwd|passphrase|bearer|jwt|private_?key|credentials?|session_?id)$`)
	turnsPages = regexp.MustCompile(`(page|next|prev|previous|continuation|continue|sync|delta|cursor|start|idempotency|csrf|sort|order|primary|foreign|partition|public)_(token|key)$`)
)

// snake writes a name in one way: apiKey, API-Key and api.key are api_key.
func snake(name string) string {
	var b strings.Builder
	small := false
	for _, c := range name {
		switch {
		case unicode.IsUpper(c):
			if small {
				b.WriteByte('_')
			}
			b.WriteRune(unicode.ToLower(c))
			small = false
		case unicode.IsLetter(c) || unicode.IsDigit(c):
			b.WriteRune(c)
			small = true
		default:
			if b.Len() > 0 && !strings.HasSuffix(b.String(), "_") {
				b.WriteByte('_')
			}
			small = false
		}
	}
	return strings.TrimRight(b.String(), "_")
}

func namesSecret(name string) bool {
	s := snake(name)
	return secretName.MatchString(s) && !turnsPages.MatchString(s)
}

// secretInBody is narrower: a body has keys and signatures that are none. A key is one
// where it is long and of more than letters.
func secretInBody(name, value string) bool {
	s := snake(name)
	if turnsPages.MatchString(s) {
		return false
	}
	return inBody.MatchString(s) || namesSecret(name) && len(value) >= 16 && strings.ContainsAny(value, "0123456789") && !strings.ContainsAny(value, " \t\n")
}

var placeholderText = regexp.MustCompile(`(?i)(<[^<>\s]{2,60}>|\{\{?[a-z_][a-z0-9_ -]*\}?\}|\[[a-z_][a-z0-9_ -]{2,40}\]|\$\{?[a-z_][a-z0-9_]*\}?|\b(your|my|insert|replace|enter)[-_ ]?[a-z0-9_ -]*(key|token|secret|id|password|name|here|value)[a-z0-9_]*\b|\bx{4,}\b|\*{4,}|…|\.\.\.$)`)

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

// takenOut is said where a secret was, in a place that no sign-in can fill.
const takenOut = "a secret, which was taken out; a step cannot keep one"

// way is how the call proves itself: what becomes the sign-in of a connector.
type way struct {
	method  string // of the connector's sign-in
	prefix  string // of a bearer
	places  []connector.Place
	secrets []Secret
}

func (w *way) add(s Secret) {
	s.written = s.Value
	if p := placeholder(s.Value); p != "" {
		s.Asked, s.Value = p, ""
	}
	w.secrets = append(w.secrets, s)
}

// key is one more place for a key: the first is the secret of the way, others come after.
func (w *way) key(where string, p connector.Place, value string) {
	p.Title = p.Header + p.Query + p.Form + p.JSON + strings.Trim(p.Path, "{}")
	if p.Prefix != "" {
		p.Prefix += " "
		value = strings.TrimPrefix(value, p.Prefix)
	}
	p.Name = "secret"
	switch {
	case w.method == "":
		w.method = connector.APIKey
	case w.method == connector.APIKey && len(w.places) == 0:
	default:
		p.Name = fmt.Sprintf("key_%d", len(w.secrets)+1)
	}
	w.places = append(w.places, p)
	w.add(Secret{Name: p.Name, Where: where, Value: value})
}

func (w *way) basic(user, password string) {
	w.method = connector.Basic
	w.add(Secret{Name: "user", Where: "the user name", Value: user, Shown: true})
	if password != "" {
		w.add(Secret{Name: "secret", Where: "the password", Value: password})
	}
}

func (w *way) bearer(prefix, value string) {
	w.method, w.prefix = connector.Bearer, prefix
	w.add(Secret{Name: "secret", Where: "the header Authorization", Value: value})
}

var kinds = regexp.MustCompile(`(?i)^(bearer|basic|token|key|apikey|api-key|digest|jwt|hmac|signature)[ =:]`)

// authorization reads the header that is there for it (RFC 9110, 11.6.2).
func (m *maker) authorization(value string) {
	kind, rest, ok := strings.Cut(trim(value), " ")
	switch {
	case !ok:
		m.way.key("the header Authorization", connector.Place{Header: "Authorization"}, kind)
	case strings.EqualFold(kind, "basic"):
		if user, password, decoded := decodeBasic(rest); decoded {
			m.way.basic(user, password)
			return
		}
		fallthrough
	default:
		m.way.bearer(kind, trim(rest))
	}
}

// secretHeader takes a header out where it proves who calls.
func (m *maker) secretHeader(name, value string) bool {
	where := "the header " + name
	twice := slices.ContainsFunc(m.way.places, func(p connector.Place) bool { return strings.EqualFold(p.Header, name) })
	switch {
	case twice:
		m.taken(where)
	case strings.EqualFold(name, "cookie"):
		m.way.key("the cookie", connector.Place{Header: "Cookie"}, value)
	case kinds.MatchString(value):
		kind, rest, ok := strings.Cut(value, " ")
		if !ok {
			kind, rest = "", value
		}
		m.way.key(where, connector.Place{Header: name, Prefix: kind}, rest)
	case namesSecret(name) || looksSecret(value):
		m.way.key(where, connector.Place{Header: name}, value)
	default:
		return false
	}
	return true
}

var inAddress = regexp.MustCompile(`([?&;])([A-Za-z0-9_.\[\]%-]{1,60})=([^&;#\s"'<>]+)`)
var userInAddress = regexp.MustCompile(`(?i)(https?://)[^/@\s"'<>]+:[^/@\s"'<>]+@`)

// withoutInAddresses takes secrets out of addresses that stand within a text.
func (m *maker) withoutInAddresses(text, where string) string {
	if !strings.Contains(text, "://") {
		return text
	}
	clean := userInAddress.ReplaceAllString(text, "$1")
	clean = inAddress.ReplaceAllStringFunc(clean, func(s string) string {
		p := inAddress.FindStringSubmatch(s)
		plain, err := url.QueryUnescape(p[3])
		if err != nil {
			plain = p[3]
		}
		if placeholder(plain) == "" && (namesSecret(p[2]) || looksSecret(plain)) {
			return p[1] + p[2] + "="
		}
		return s
	})
	if clean != text {
		m.taken(where)
	}
	return clean
}

func (m *maker) taken(where string) {
	m.fill(where, takenOut)
	m.changed = true
}

func (m *maker) fill(where, text string) {
	p := Placeholder{where, text}
	for _, known := range m.out.Placeholders {
		if known == p {
			return
		}
	}
	m.out.Placeholders = append(m.out.Placeholders, p)
}

// cleanText takes a secret out of a value that a body holds, or says that something
// is to be filled in.
func (m *maker) cleanText(text, where, name string) string {
	if p := placeholder(text); p != "" {
		m.fill(where, p)
	} else if text != "" && (secretInBody(name, text) || looksSecret(text) || kinds.MatchString(text) && looksSecret(strings.Fields(text)[len(strings.Fields(text))-1])) {
		m.taken(where)
		return ""
	}
	return escape(m.withoutInAddresses(text, where))
}

// clean does that in all of a JSON value.
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

var (
	xmlElement   = regexp.MustCompile(`(<(?:[\w-]+:)?([\w-]+)(?:\s[^<>]*)?>)([^<>]+)(</)`)
	xmlAttribute = regexp.MustCompile(`(\s(?:[\w-]+:)?([\w-]+)\s*=\s*)("[^"<]*"|'[^'<]*')`)
)

// cleanMarkup takes secrets out of elements and attributes whose names say so.
func (m *maker) cleanMarkup(text string) string {
	text = replaceGroups(xmlElement, text, func(p []string) string {
		value := strings.TrimSpace(p[3])
		if placeholder(value) != "" || !secretInBody(p[2], value) && !looksSecret(value) {
			return p[0]
		}
		m.taken("the body’s " + p[2])
		return p[1] + p[4]
	})
	return replaceGroups(xmlAttribute, text, func(p []string) string {
		value := p[3][1 : len(p[3])-1]
		if value == "" || placeholder(value) != "" || !secretInBody(p[2], value) && !looksSecret(value) {
			return p[0]
		}
		m.taken("the body’s " + p[2])
		return p[1] + p[3][:1] + p[3][:1]
	})
}

func replaceGroups(re *regexp.Regexp, text string, by func([]string) string) string {
	return re.ReplaceAllStringFunc(text, func(s string) string { return by(re.FindStringSubmatch(s)) })
}
