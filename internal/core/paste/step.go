package paste

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"unicode/utf8"

	"youngtrellis/internal/core/connector"
	"youngtrellis/internal/core/item"
)

// maker turns a call into a step, taking secrets out on the way.
type maker struct {
	wire    *wire
	out     *Pasted
	way     *way
	changed bool // something was taken out that no sign-in puts back
}

// made is what an action of a connector is made of: the parts of a step.
type made struct {
	path   string
	query  []string // pairs as they are written
	header map[string]any
	body   string // which of the settings holds it
}

func escape(s string) string { return strings.ReplaceAll(s, "(=", "(==") }

func (w *wire) step() (*Pasted, error) {
	m := &maker{wire: w, way: &way{}, out: &Pasted{Settings: map[string]any{}, Origin: w.origin(), Placeholders: w.ask, wire: w, made: &made{}}}
	s := m.out.Settings
	if w.method != "GET" {
		s["method"] = w.method
	}
	header := m.headers()
	m.out.made.path = m.path()
	m.out.made.query = m.query()
	if err := m.body(s, header); err != nil {
		return nil, err
	}
	if len(header) > 0 {
		s["header"] = header
	}
	m.out.made.header = header
	m.without(s)
	address := m.out.made.path
	if len(m.out.made.query) > 0 {
		address += "?" + strings.Join(m.out.made.query, "&")
	}
	if m.way.method != "" {
		m.out.way, m.out.Secrets = m.way, m.way.secrets
	} else {
		address = m.out.Origin + address
	}
	s["url"] = address
	m.out.Notes = w.notes
	if _, err := connector.ReadFree(s); err != nil {
		return nil, fmt.Errorf("this call cannot become a step: %w", err)
	}
	return m.out, m.compare()
}

// headers are those that stay in the step.
func (m *maker) headers() map[string]any {
	out := map[string]any{}
	set := func(name string, v any) {
		for known, before := range out {
			if !strings.EqualFold(known, name) {
				continue
			}
			list, ok := before.([]any)
			if !ok {
				list = []any{before}
			}
			out[known] = append(list, v)
			return
		}
		out[name] = v
	}
	for _, value := range m.wire.values("Authorization") { // first: a connector knows other keys beside it
		m.authorization(value)
	}
	for _, h := range m.wire.header {
		name, value := h[0], h[1]
		switch {
		case strings.EqualFold(name, "authorization"):
		case strings.EqualFold(name, "user-agent"):
			m.wire.say("User-Agent is left out: calls name Young Trellis.")
		case strings.EqualFold(name, "idempotency-key"):
			m.wire.say("Idempotency-Key is left out: each run makes one of its own, which stays the same when the call is repeated.")
		case strings.EqualFold(name, "accept-encoding"):
		case connector.Reserved(name) && !strings.EqualFold(name, "cookie"):
			m.wire.say("The header %s is left out: it belongs to the transport.", name)
		case strings.EqualFold(name, "accept") && value == "*/*":
		case value != "" && m.secretHeader(name, value):
		default:
			if p := placeholder(value); p != "" {
				m.fill("the header "+name, p)
			}
			set(name, escape(m.withoutInAddresses(value, "the header "+name)))
		}
	}
	for _, name := range m.wire.without {
		if len(m.wire.values(name)) > 0 {
			continue
		}
		if name = http.CanonicalHeaderKey(name); name == "Accept" || name == "Content-Type" {
			out[name] = nil
		}
		if strings.EqualFold(name, "user-agent") {
			m.wire.say("User-Agent is sent all the same: calls name Young Trellis.")
		}
	}
	return out
}

// path finds secrets in the path, and puts a mark in the place of each.
func (m *maker) path() string {
	parts := strings.Split(m.wire.path, "/")
	marks := 0
	for i, part := range parts {
		plain, err := url.PathUnescape(part)
		if err != nil || !utf8.ValidString(plain) {
			plain = part
		}
		if text := placeholder(plain); text != "" {
			m.fill("the address", text)
			continue
		}
		secret := plain
		if !looksSecret(plain) { // bot123:KEY, key=KEY
			if j := strings.LastIndexAny(plain, ":=~;,"); j >= 0 && (looksSecret(plain[j+1:]) || namesSecret(plain[:j]) && len(plain)-j > 8) {
				secret = plain[j+1:]
			} else {
				continue
			}
		}
		if marks++; marks > 9 || !strings.HasSuffix(part, url.PathEscape(secret)) {
			m.taken("the address")
			parts[i] = ""
			continue
		}
		mark := "{key}"
		if marks > 1 {
			mark = fmt.Sprintf("{key_%d}", marks)
		}
		parts[i] = strings.TrimSuffix(part, url.PathEscape(secret)) + mark
		m.way.key("the address", connector.Place{Path: mark}, secret)
	}
	return escape(strings.Join(parts, "/"))
}

// query leaves the pairs as they are written, without those that are secret.
func (m *maker) query() []string {
	if m.wire.query == "" {
		return nil
	}
	var out []string
	moved := ""
	times := map[string]int{}
	for _, pair := range decoded(m.wire.query) {
		name, _, _ := strings.Cut(pair, "=")
		times[name]++
	}
	for _, pair := range strings.Split(m.wire.query, "&") {
		written, value, _ := strings.Cut(pair, "=")
		name, plain := unescaped(written), unescaped(value)
		switch {
		case namesSecret(name) && plain != "" && !shortWord(name, plain), looksSecret(plain):
			if name == "" || times[name] > 1 {
				m.taken("the query parameter " + name)
				pair = written + "="
				break
			}
			m.way.key("the query parameter "+name, connector.Place{Query: name}, plain)
			moved = name
			continue
		case placeholder(plain) != "":
			m.fill("the query parameter "+name, placeholder(plain))
		case plain != "":
			if clean := m.withoutInAddresses(plain, "the query parameter "+name); clean != plain {
				pair = written + "=" + url.QueryEscape(clean)
			}
		}
		if moved != "" {
			m.wire.say("%s comes last in the query, since the connection puts it in.", moved)
			moved = ""
		}
		out = append(out, escape(pair))
	}
	return out
}

// shortWord tells a value that is a word rather than a secret, under a name that both have.
func shortWord(name, value string) bool {
	s := snake(name)
	return len(value) < 12 && ids.MatchString(value) && !strings.ContainsAny(value, "0123456789") && (strings.HasSuffix(s, "key") && s != "key" && !strings.HasSuffix(s, "api_key") && !strings.HasSuffix(s, "apikey") || s == "session" || s == "license" || s == "pin")
}

func unescaped(s string) string {
	if u, err := url.QueryUnescape(s); err == nil && utf8.ValidString(u) {
		return u
	}
	return s
}

// field names what the item gives for a file that the command reads.
func (m *maker) field(name string, text bool) string {
	kind, n := "file", 1
	if text {
		kind = "text"
	}
	for _, f := range m.out.Files {
		if f.Text == text {
			if f.Name == name {
				return f.Field
			}
			n++
		}
	}
	if n > 1 {
		kind = fmt.Sprintf("%s_%d", kind, n)
	}
	m.out.Files = append(m.out.Files, File{Name: name, Field: "item." + kind, Text: text})
	return "item." + kind
}

// piece is the text of a piece, or the expression that gives what its file holds.
func (m *maker) piece(p piece) string {
	if p.file == "" {
		return escape(p.text)
	}
	field := m.field(p.file, true)
	switch p.how {
	case "lines":
		return `(= replace(replace(` + field + `, "\r", ""), "\n", "") )`
	case "encoded":
		return `(= replace(url_encode(` + field + `), "%20", "+") )`
	}
	return "(= " + field + " )"
}

// body puts the body into the settings, in the kind that says most of it.
func (m *maker) body(s, header map[string]any) error {
	b := m.wire.body
	kind, said := m.kind(header)
	switch {
	case b == nil:
		return nil
	case b.form:
		for name := range header {
			if strings.EqualFold(name, "content-type") {
				if media, _, _ := mime.ParseMediaType(fmt.Sprint(header[name])); media != "multipart/form-data" {
					m.wire.say(partsNameTheirs)
				}
				delete(header, name)
			}
		}
		if len(b.parts) == 0 {
			return errors.New("the body has no part")
		}
		s["multipart"], m.out.made.body = m.parts(b.parts), "multipart"
		return nil
	case len(b.pieces) == 1 && b.pieces[0].file != "" && b.pieces[0].how != "encoded":
		p := b.pieces[0]
		if p.how == "lines" {
			m.wire.say("The file %s is sent as it is; the command would leave out its line breaks.", p.file)
		}
		s["file"], m.out.made.body = "(= "+m.field(p.file, false)+" )", "file"
		if !said { // the command sends none, and the file would name its own
			header["Content-Type"] = nil
		}
		return nil
	}
	drop := func() {
		for name := range header {
			if strings.EqualFold(name, "content-type") {
				delete(header, name)
			}
		}
	}
	if !said {
		header["Content-Type"], kind = nil, "text/plain"
	}
	whole := len(b.pieces) == 1 && b.pieces[0].file == ""
	media, _, _ := mime.ParseMediaType(kind)
	if said && whole && (media == "application/json" || strings.HasSuffix(media, "+json")) {
		if done := m.json(b.pieces[0].text, s); done {
			if kind == "application/json" {
				drop()
			}
			return nil
		}
	}
	if said && media == "application/x-www-form-urlencoded" {
		if done := m.form(b.pieces, s); done {
			if kind == "application/x-www-form-urlencoded" {
				drop()
			}
			return nil
		}
		if strings.HasPrefix(strings.TrimSpace(joined(b.pieces)), "{") {
			m.wire.say("The body looks like JSON, but the command sends it as a form; if the other side refuses it, set the type to application/json.")
		}
	}
	if said {
		drop()
	}
	var text strings.Builder
	for _, p := range b.pieces {
		if p.file != "" {
			text.WriteString(m.piece(p))
		} else {
			text.WriteString(m.cleanRaw(p.text, media))
		}
	}
	if text.Len() == 0 { // a body of nothing
		if said {
			header["Content-Type"] = kind
		}
		return nil
	}
	s["raw"], m.out.made.body = map[string]any{"type": kind, "text": text.String()}, "raw"
	return nil
}

func (m *maker) kind(header map[string]any) (kind string, said bool) {
	for name, v := range header {
		if strings.EqualFold(name, "content-type") {
			kind, said = v.(string)
			if v == nil {
				delete(header, name)
			}
		}
	}
	return kind, said
}

// sends tells whether a body belongs to the method, so that a sign-in may add to it.
func (m *maker) sends() bool {
	return m.wire.method != http.MethodGet && m.wire.method != http.MethodHead
}

// json puts a JSON body in as values, unless something would be lost by that.
func (m *maker) json(text string, s map[string]any) bool {
	v, err := item.Decode([]byte(text))
	if err != nil {
		m.wire.say("The body says that it is JSON and is not (%v); it is kept as text.", err)
		return false
	}
	if v == nil { // as a value it would be no body
		return false
	}
	back, err := item.Encode(v)
	if err != nil || !sameJSON([]byte(text), back) {
		m.wire.say("The body is kept as text: as values it would change, by a number beyond 64 bits, a name that stands twice, or half a sign.")
		return false
	}
	if object, ok := v.(map[string]any); ok {
		rest := make(map[string]any, len(object))
		for k, e := range object {
			if text, ok := e.(string); ok && text != "" && (secretInBody(k, text) || looksSecret(text)) {
				if k != "" && m.sends() {
					m.way.key("the body’s "+k, connector.Place{JSON: k}, text)
					continue
				}
			}
			rest[k] = e
		}
		v = rest
	}
	s["json"], m.out.made.body = m.clean(v, "the body"), "json"
	return true
}

// form puts a form in as values, where it is one: names with values, of which some
// may be what a file holds.
func (m *maker) form(pieces []piece, s map[string]any) bool {
	type field struct {
		name, value string
		file        *piece
	}
	var fields []field
	pending := ""
	for i := range pieces {
		p := pieces[i]
		if p.file != "" {
			name, rest, ok := strings.Cut(pending, "=")
			if !ok || rest != "" || p.how != "encoded" || i+1 < len(pieces) && !strings.HasPrefix(pieces[i+1].text, "&") {
				return false
			}
			fields, pending = append(fields, field{name: name, file: &p}), ""
			continue
		}
		list := strings.Split(p.text, "&")
		for j, pair := range list {
			if j < len(list)-1 || i == len(pieces)-1 || pieces[i+1].file == "" {
				if pair = pending + pair; pair != "" {
					name, value, ok := strings.Cut(pair, "=")
					if !ok || strings.ContainsAny(name, "{}\"<> \n") || strings.ContainsAny(value, "\n\r") || !encodes(name) || !encodes(value) {
						return false
					}
					fields = append(fields, field{name: name, value: value})
				}
				pending = ""
				continue
			}
			pending += pair
		}
	}
	form, times := map[string]any{}, map[string]int{}
	for _, f := range fields {
		times[unescaped(f.name)]++
	}
	for _, f := range fields {
		name := unescaped(f.name)
		if f.file != nil {
			addTo(form, escape(name), "(= "+m.field(f.file.file, true)+" )")
			continue
		}
		value := unescaped(f.value)
		if value != "" && name != "" && times[name] == 1 && m.sends() && (secretInBody(name, value) || looksSecret(value)) {
			m.way.key("the form’s "+name, connector.Place{Form: name}, value)
			continue
		}
		addTo(form, escape(name), m.cleanText(value, "the form’s "+name, name))
	}
	if len(form) > 0 {
		s["form"], m.out.made.body = form, "form"
	}
	return len(fields) > 0
}

// encodes tells whether every % in a text begins an escape, and all of it is text.
func encodes(s string) bool {
	u, err := url.QueryUnescape(s)
	return err == nil && utf8.ValidString(u)
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

func (m *maker) parts(list []part) []any {
	out := []any{}
	for _, p := range list {
		out = append(out, map[string]any{"name": escape(p.name), "value": m.part(p)})
	}
	return out
}

func (m *maker) part(p part) any {
	v := map[string]any{}
	if p.filename != "" {
		v["name"] = escape(p.filename)
	}
	switch {
	case p.file != "" && p.filename != "":
		v["file"] = "(= " + m.field(p.file, false) + " )"
		if p.kind != "" && p.kind != "application/octet-stream" {
			v["type"] = p.kind
		} else if p.kind != "" {
			m.wire.say("The part %s goes out with the type of its file; the command would send application/octet-stream.", p.name)
		}
		return v
	case p.file != "":
		v["text"] = "(= " + m.field(p.file, true) + " )"
	default:
		v["text"] = m.cleanText(p.text, "the part "+p.name, p.name)
	}
	if p.kind != "" {
		v["type"] = escape(p.kind)
	}
	if len(v) == 1 {
		return v["text"]
	}
	return v
}

// cleanRaw takes secrets out of a text that is JSON, a form or XML though it is not
// sent as such; another text, and one without secrets, stays as it was.
func (m *maker) cleanRaw(text, media string) string {
	if p := placeholder(text); p != "" {
		m.fill("the body", p)
	}
	if looksSecret(strings.TrimSpace(text)) {
		m.taken("the body")
		return ""
	}
	if strings.HasPrefix(strings.TrimSpace(text), "<") {
		return escape(m.withoutInAddresses(m.cleanMarkup(text), "the body"))
	}
	if v, err := item.Decode([]byte(text)); err == nil {
		if clean, ok := m.cleanValue(v); ok {
			return clean
		}
		return escape(text)
	}
	if media == "application/x-www-form-urlencoded" {
		pairs := strings.Split(text, "&")
		for i, pair := range pairs {
			name, value, _ := strings.Cut(pair, "=")
			if plain := unescaped(value); plain != "" && placeholder(plain) == "" && (secretInBody(unescaped(name), plain) || looksSecret(plain)) {
				m.taken("the form’s " + unescaped(name))
				pairs[i] = name + "="
			}
		}
		text = strings.Join(pairs, "&")
	}
	return escape(m.withoutInAddresses(text, "the body"))
}

func (m *maker) cleanValue(v any) (string, bool) {
	switch v.(type) {
	case map[string]any, []any:
	default:
		return "", false
	}
	probe := &maker{wire: m.wire, way: m.way, out: &Pasted{}}
	clean := probe.clean(v, "the body")
	if !probe.changed {
		return "", false
	}
	for _, p := range probe.out.Placeholders {
		m.fill(p.Where, p.Text)
	}
	m.changed = true
	b, err := item.Encode(clean)
	return string(b), err == nil
}

// without takes out of the settings whatever was found to be a secret elsewhere: the
// same value may stand in the address or the body once more.
func (m *maker) without(settings map[string]any) {
	for name, v := range settings {
		settings[name] = m.withoutIn(v, "the setting "+name)
	}
	m.out.made.path = m.withoutIn(m.out.made.path, "the address").(string)
	for i, pair := range m.out.made.query {
		m.out.made.query[i] = m.withoutIn(pair, "the query").(string)
	}
}

func (m *maker) withoutIn(v any, where string) any {
	switch v := v.(type) {
	case string:
		for _, s := range m.way.secrets {
			if s.Shown || len(s.Value) < 6 {
				continue
			}
			for _, form := range []string{escape(s.Value), url.QueryEscape(s.Value), url.PathEscape(s.Value)} {
				if strings.Contains(v, form) {
					v = strings.ReplaceAll(v, form, "")
					m.taken(where)
				}
			}
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

// sameJSON compares two texts as values (RFC 8259): numbers by what they are worth,
// names in any order, none of them twice.
func sameJSON(a, b []byte) bool {
	x, err := exact(a)
	if err != nil {
		return false
	}
	y, err := exact(b)
	return err == nil && x == y
}

// exact writes JSON so that two texts of the same value are equal.
func exact(text []byte) (string, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	v, err := exactValue(d)
	if err != nil {
		return "", err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return "", errors.New("something follows the value")
	}
	b, err := json.Marshal(v)
	return string(b), err
}

func exactValue(d *json.Decoder) (any, error) {
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch t := t.(type) {
	case json.Number:
		if e := strings.IndexAny(string(t), "eE"); e >= 0 && len(t)-e > 4 {
			return nil, errors.New("a number that is too large to compare")
		}
		r, ok := new(big.Rat).SetString(string(t))
		if !ok {
			return nil, errors.New("no number")
		}
		return map[string]any{"number": r.String()}, nil
	case string:
		if strings.ContainsRune(t, '\ufffd') {
			return nil, errors.New("half a sign")
		}
		return t, nil
	case json.Delim:
		if t == '[' {
			list := []any{}
			for d.More() {
				e, err := exactValue(d)
				if err != nil {
					return nil, err
				}
				list = append(list, e)
			}
			_, err := d.Token()
			return list, err
		}
		object := map[string]any{}
		for d.More() {
			k, err := d.Token()
			if err != nil {
				return nil, err
			}
			e, err := exactValue(d)
			if err != nil {
				return nil, err
			}
			if _, twice := object["."+k.(string)]; twice {
				return nil, errors.New("a name stands twice")
			}
			object["."+k.(string)] = e
		}
		_, err := d.Token()
		return object, err
	}
	return t, nil
}

func decodeBasic(s string) (user, password string, ok bool) {
	b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(s))
	if err != nil {
		return "", "", false
	}
	return strings.Cut(string(b), ":")
}
