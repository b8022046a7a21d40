package paste

import (
	"fmt"
	"mime"
	"net/url"
	"path"
	"strings"

	"youngtrellis/internal/core/item"
)

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
	s["raw"] = map[string]any{"type": kind, "text": escape(m.cleanRaw(text))}
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
