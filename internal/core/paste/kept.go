package paste

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/document"
	"youngtrellis/internal/core/item"
)

// Keep says what a call becomes in a connector. What is empty is chosen.
type Keep struct {
	Connector string // its name
	Title     string
	Action    string // the name of the action
}

// Kept is a connector with the call as an action of it.
type Kept struct {
	Document string
	Name     string
	Action   string
	Way      string // the sign-in that the call needs; "none" for no sign-in
	Changed  bool   // the document differs from the one that was joined
}

// signIn is what puts the secrets back.
func (w *way) signIn() *connector.SignIn {
	s := &connector.SignIn{Method: w.method, Prefix: w.prefix}
	places := w.places
	if w.method == connector.APIKey {
		p := places[0]
		s.Header, s.Query, s.Form, s.JSON, s.Path, s.Prefix, s.Secret = p.Header, p.Query, p.Form, p.JSON, p.Path, p.Prefix, p.Title
		places = places[1:]
	}
	s.Also = places
	return s
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// NameOf is a name for a connector of an origin. A port that is not the usual one is
// part of it: behind it listens somebody else.
func NameOf(origin string) string {
	u, err := url.Parse(origin)
	if err != nil {
		return "called"
	}
	name := strings.Trim(notName.ReplaceAllString(strings.ToLower(u.Host), "-"), "-")
	if name == "" || name[0] < 'a' {
		name = "at-" + name
	}
	return strings.TrimRight(name[:min(len(name), 60)], "-")
}

// Into makes a connector with the call as its action, or makes the call an action of
// one that is there and calls the same address. A sign-in that is there already is used.
func (p *Pasted) Into(there *connector.Connector, keep Keep) (*Kept, error) {
	if there == nil {
		return p.fresh(keep)
	}
	if there.Base != p.Origin {
		return nil, fmt.Errorf("the connector %s calls %s, and this call goes to %s; give it a connector of its own", there.Name, there.Base, p.Origin)
	}
	doc, err := document.ParseWithin([]byte(there.Text), connector.MaxBytes)
	if err != nil {
		return nil, err
	}
	k := &Kept{Name: there.Name, Document: there.Text}
	name, action := p.action(keep.Action, there)
	if same := p.sameAction(there, name, action); same != "" {
		k.Action = same
	} else {
		if _, taken := there.Actions[name]; taken {
			return nil, fmt.Errorf("%s has an action %s already, which calls something else; give this one another name", there.Title, name)
		}
		k.Action, k.Changed = name, true
		at := "actions"
		if there.Actions == nil {
			err = doc.Set("", "actions", map[string]any{name: action})
		} else {
			err = doc.Set(at, name, action)
		}
		if err != nil {
			return nil, err
		}
	}
	if k.Way = p.sameWay(there); k.Way == "" {
		way := p.signInDocument()
		k.Way = way["method"].(string)
		if _, taken := there.Way(k.Way); taken {
			for n := 2; ; n++ {
				k.Way = fmt.Sprintf("%s_%d", way["method"], n)
				if _, taken := there.Way(k.Way); !taken {
					break
				}
			}
			way["name"] = k.Way
		}
		k.Changed = true
		if err := doc.Insert("sign_in", len(there.SignIn), document.Node(way)); err != nil {
			return nil, err
		}
	}
	if !k.Changed {
		return k, nil
	}
	if err := doc.Set("", "version", int64(there.Version+1)); err != nil {
		return nil, err
	}
	text, err := doc.Encode()
	if err != nil {
		return nil, err
	}
	k.Document = string(text)
	return k, p.holds(k)
}

func (p *Pasted) fresh(keep Keep) (*Kept, error) {
	k := &Kept{Name: keep.Connector, Changed: true}
	if k.Name == "" {
		k.Name = NameOf(p.Origin)
	}
	title := keep.Title
	if title == "" {
		title = strings.TrimPrefix(strings.TrimPrefix(p.Origin, "https://"), "http://")
	}
	var action map[string]any
	k.Action, action = p.action(keep.Action, nil)
	way := p.signInDocument()
	k.Way = way["method"].(string)
	doc := map[string]any{
		"format": connector.Format, "name": k.Name, "title": title, "version": int64(1), "about": "Made of a pasted call.",
		"base": p.Origin, "sign_in": []any{way}, "check": p.check(title), "actions": map[string]any{k.Action: action},
	}
	text, err := document.EncodeValue(doc)
	if err != nil {
		return nil, err
	}
	k.Document = string(text)
	return k, p.holds(k)
}

func (p *Pasted) holds(k *Kept) error {
	if _, err := connector.Parse([]byte(k.Document)); err != nil {
		return fmt.Errorf("this call cannot become an action: %w", err)
	}
	return nil
}

// check is what a connection is tried with: the call itself where it only reads and
// holds nothing to be filled in, else the front of the address.
func (p *Pasted) check(title string) map[string]any {
	request := map[string]any{"method": http.MethodGet, "path": "/"}
	if p.wire.method == http.MethodGet && p.wire.body == nil && len(p.Placeholders) == 0 {
		request["path"] = p.target()
		if len(p.made.header) > 0 {
			request["header"] = p.made.header
		}
	}
	return map[string]any{"request": request, "says": escape(title), "any_answer": true}
}

func (p *Pasted) target() string {
	if len(p.made.query) == 0 {
		return p.made.path
	}
	return p.made.path + "?" + strings.Join(p.made.query, "&")
}

func (p *Pasted) signInDocument() map[string]any {
	if p.way == nil {
		return map[string]any{"method": connector.None, "title": "No sign-in"}
	}
	s := p.way.signIn()
	out := map[string]any{"method": s.Method, "title": map[string]string{connector.Basic: "User name and password", connector.Bearer: "Token", connector.APIKey: s.Secret}[s.Method]}
	if s.Method == connector.APIKey {
		out["secret"] = s.Secret
		place(out, p.way.places[0])
	} else if s.Prefix != "" && s.Prefix != "Bearer" {
		out["prefix"] = s.Prefix
	}
	if len(s.Also) > 0 {
		also := []any{}
		for _, x := range s.Also {
			m := map[string]any{"name": x.Name, "title": x.Title}
			place(m, x)
			also = append(also, m)
		}
		out["also"] = also
	}
	return out
}

func place(m map[string]any, p connector.Place) {
	for name, v := range map[string]string{"header": p.Header, "query": p.Query, "form": p.Form, "json": p.JSON, "path": p.Path, "prefix": p.Prefix} {
		if v != "" {
			m[name] = v
		}
	}
}

// sameWay finds the sign-in of a connector by which this call signs in too.
func (p *Pasted) sameWay(c *connector.Connector) string {
	if p.way == nil {
		if _, ok := c.Way(connector.None); ok {
			return connector.None
		}
		return ""
	}
	wanted := p.way.signIn()
	for i := range c.SignIn {
		s := &c.SignIn[i]
		prefix := func(s *connector.SignIn) string {
			if s.Prefix == "" && s.Method == connector.Bearer {
				return "Bearer"
			}
			return s.Prefix
		}
		if s.Method == wanted.Method && prefix(s) == prefix(wanted) && strings.EqualFold(s.Header, wanted.Header) && s.Query == wanted.Query && s.Form == wanted.Form && s.JSON == wanted.JSON && s.Path == wanted.Path &&
			slices.EqualFunc(s.Also, wanted.Also, func(a, b connector.Place) bool { a.Title, b.Title = "", ""; return a == b }) {
			return s.Called()
		}
	}
	return ""
}

// sameAction finds the action that is this call already.
func (p *Pasted) sameAction(c *connector.Connector, name string, action map[string]any) string {
	same := func(a *connector.Action) bool {
		doc, err := document.ParseWithin([]byte(c.Text), connector.MaxBytes)
		if err != nil {
			return false
		}
		node := doc.At("actions." + a.Name)
		if node == nil {
			return false
		}
		was, _ := document.Value(node).(map[string]any)
		x, err1 := item.Encode(was["request"])
		y, err2 := item.Encode(action["request"])
		return err1 == nil && err2 == nil && string(x) == string(y)
	}
	if a, ok := c.Actions[name]; ok && same(a) {
		return name
	}
	for _, n := range c.Order {
		if same(c.Actions[n]) {
			return n
		}
	}
	return ""
}

// action describes the call as an action: what is to be filled in, and each simple value
// of the query and the body, is a field, which holds what was pasted unless it is given.
func (p *Pasted) action(name string, c *connector.Connector) (string, map[string]any) {
	out := p.described()
	words := []string{strings.ToLower(p.wire.method)}
	for _, part := range strings.Split(p.made.path, "/") {
		if plain := unescaped(part); placeholder(plain) == "" && !strings.Contains(part, "{") {
			if w := strings.Trim(notName.ReplaceAllString(strings.ToLower(plain), "_"), "_"); w != "" && !strings.ContainsAny(w[:1], "0123456789") {
				words = append(words, w)
			}
		}
	}
	if name == "" {
		name = notName.ReplaceAllString(strings.Join(words, "_"), "_")
		if name = strings.Trim(name[:min(len(name), 50)], "_"); name == "" || name[0] < 'a' {
			name = "call_" + name
		}
		for n := 2; c != nil && c.Actions[name] != nil; n++ {
			if p.sameAction(c, name, out) != "" {
				break
			}
			name = strings.TrimRight(strings.TrimSuffix(name, fmt.Sprintf("_%d", n-1)), "_") + fmt.Sprintf("_%d", n)
		}
	}
	return name, out
}

func (p *Pasted) described() map[string]any {
	f := &fields{known: map[string]any{}}
	path := f.path(p.made.path)
	var query []string
	for _, pair := range p.made.query {
		written, value, ok := strings.Cut(pair, "=")
		if !ok || unescaped(written) == "" {
			query = append(query, pair)
			continue
		}
		query = append(query, written+"="+f.value(unescaped(written), unescaped(value), value))
	}
	if len(query) > 0 {
		path += "?" + strings.Join(query, "&")
	}
	request := map[string]any{"method": p.wire.method, "path": path}
	if len(p.made.header) > 0 {
		request["header"] = p.made.header
	}
	switch kind := p.made.body; kind {
	case "json", "form":
		request[kind] = p.Settings[kind]
		if m, ok := p.Settings[kind].(map[string]any); ok {
			out := make(map[string]any, len(m))
			for k, v := range m {
				out[k] = f.simple(k, v)
			}
			request[kind] = out
		}
	case "multipart":
		list := []any{}
		for _, e := range p.Settings[kind].([]any) {
			m := e.(map[string]any)
			list = append(list, map[string]any{"name": m["name"], "value": f.simple(fmt.Sprint(m["name"]), m["value"])})
		}
		request[kind] = list
	case "file":
		request[kind] = f.file("file")
	case "raw":
		raw := p.Settings[kind].(map[string]any)
		request[kind] = map[string]any{"type": raw["type"], "text": f.texts(p, fmt.Sprint(raw["text"]))}
	}
	plain, err := url.PathUnescape(strings.ReplaceAll(p.made.path, "(==", "(="))
	if err != nil || !utf8.ValidString(plain) || strings.ContainsFunc(plain, unicode.IsControl) {
		plain = p.made.path
	}
	title := p.wire.method + " " + short(plain)
	sentence := "Call " + braced.ReplaceAllStringFunc(title, func(m string) string {
		if name := strings.Trim(m, "{}"); f.known[name] != nil {
			return m // the field stands there with its value
		}
		return strings.Trim(m, "{}")
	})
	effect := "write"
	if slices.Contains([]string{"GET", "HEAD", "OPTIONS"}, p.wire.method) {
		effect = "read"
	}
	properties := map[string]any{"type": "object", "properties": f.known}
	if len(f.required) > 0 {
		properties["required"] = f.required
	}
	out := map[string]any{"title": title, "sentence": sentence, "effect": effect, "fields": properties, "request": request}
	if effect == "write" {
		out["sample"] = map[string]any{} // what it answers is known once it was tried
	}
	return out
}

var braced = regexp.MustCompile(`\{+[^{}]*\}+|[{}]`)

// fields are those of an action.
type fields struct {
	known    map[string]any
	required []any
}

var notField = regexp.MustCompile(`[^A-Za-z0-9_]+`)

// named finds a name for a field that is still free; the same place twice is one field.
func (f *fields) named(title string) string {
	name := strings.Trim(notField.ReplaceAllString(title, "_"), "_")
	if name == "" || strings.ContainsAny(name[:1], "0123456789") {
		name = "value_" + name
	}
	return strings.TrimRight(name[:min(len(name), 60)], "_")
}

func (f *fields) need(title string, schema map[string]any) string {
	name := f.named(title)
	if f.known[name] == nil {
		schema["title"] = title
		f.known[name] = schema
		f.required = append(f.required, name)
	}
	return "(= input." + name + " )"
}

func (f *fields) file(title string) string {
	return f.need(title, map[string]any{"hint": "file"})
}

func (f *fields) path(p string) string {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		plain, err := url.PathUnescape(part)
		if err != nil || !utf8.ValidString(plain) {
			continue
		}
		if text := placeholder(plain); text != "" && !marksSecret(part) {
			parts[i] = strings.Replace(escape(plain), escape(text), f.need(strings.Trim(text, "{}<>[]$: "), map[string]any{"type": []any{"string", "integer"}}), 1)
		}
	}
	return strings.Join(parts, "/")
}

var secretMark = regexp.MustCompile(`\{key(_\d)?\}$`)

// marksSecret tells the mark that a sign-in fills in; it is written in braces, where what
// came out of an address is encoded.
func marksSecret(part string) bool { return secretMark.MatchString(part) }

// value is a field of a text that is put into the query.
func (f *fields) value(title, plain, written string) string {
	if text := placeholder(plain); text != "" {
		return f.need(title, map[string]any{"type": []any{"string", "number", "boolean", "array"}})
	}
	name := f.named(title)
	if f.known[name] != nil || strings.Contains(plain, "(=") || url.QueryEscape(plain) != written {
		return written
	}
	f.known[name] = map[string]any{"title": title, "type": []any{"string", "number", "boolean", "array"}, "default": plain}
	return "(= input." + name + " ?? " + quoted(plain) + " )"
}

// simple is a field of a value that stands alone; what is put together stays.
func (f *fields) simple(title string, v any) any {
	switch v := v.(type) {
	case string:
		switch {
		case strings.HasPrefix(v, "(= item."):
			return f.need(title, map[string]any{"type": "string", "hint": "lines"})
		case placeholder(v) != "" && placeholder(v) == strings.TrimSpace(v), v == "":
			if v == "" {
				return v
			}
			return f.need(title, map[string]any{"type": []any{"string", "number", "boolean"}})
		case strings.Contains(v, "(=") || f.known[f.named(title)] != nil:
			return v
		}
		return f.optional(title, "string", v, quoted(v))
	case bool:
		return f.optional(title, "boolean", v, fmt.Sprint(v))
	case int64, float64, json.Number:
		b, err := item.Encode(v)
		if err != nil || f.known[f.named(title)] != nil {
			return v
		}
		return f.optional(title, "number", v, string(b))
	case []any:
		if b, err := item.Encode(v); err == nil && plainList(v) && len(b) <= 2000 && f.known[f.named(title)] == nil {
			return f.optional(title, "array", v, string(b))
		}
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = f.simple(fmt.Sprintf("%s %d", title, i+1), e)
		}
		return out
	case map[string]any:
		if s, ok := v["file"].(string); ok && strings.HasPrefix(s, "(= item.") {
			out := maps.Clone(v)
			out["file"] = f.file(title)
			return out
		}
		if s, ok := v["text"].(string); ok && strings.HasPrefix(s, "(= item.") {
			out := maps.Clone(v)
			out["text"] = f.need(title, map[string]any{"type": "string", "hint": "lines"})
			return out
		}
	}
	return v
}

// plainList tells a list of simple values of which none is put together or to be filled in.
func plainList(list []any) bool {
	for _, e := range list {
		switch e := e.(type) {
		case map[string]any, []any:
			return false
		case string:
			if strings.Contains(e, "(=") || placeholder(e) != "" {
				return false
			}
		}
	}
	return true
}

func (f *fields) optional(title, kind string, v any, literal string) any {
	name := f.named(title)
	if f.known[name] != nil {
		return v
	}
	f.known[name] = map[string]any{"title": title, "type": kind, "default": v}
	return "(= input." + name + " ?? " + literal + " )"
}

// texts gives what files hold in the midst of a text to fields of their own.
func (f *fields) texts(p *Pasted, text string) string {
	for _, x := range p.Files {
		if x.Text {
			name := f.named(strings.TrimPrefix(x.Field, "item."))
			f.need(name, map[string]any{"type": "string", "hint": "lines"})
			text = strings.ReplaceAll(text, x.Field, "input."+name)
		}
	}
	return text
}

// quoted writes a text as an expression does.
func quoted(s string) string {
	b, err := item.Encode(s)
	if err != nil {
		return `""`
	}
	return string(b)
}
