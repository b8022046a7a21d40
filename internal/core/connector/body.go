package connector

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"path"
	"slices"
	"strings"

	"youngtrellis/internal/core/call"
	"youngtrellis/internal/core/expr"
	"youngtrellis/internal/core/item"
)

func setBody(c *call.Call, t map[string]any, free bool) error {
	kind := func(k string) {
		if _, said := c.Header["Content-Type"]; !said { // said to be nothing, it is not sent
			c.Header.Set("Content-Type", k)
		}
	}
	switch {
	case t["json"] != nil:
		v := t["json"]
		if !free {
			v = withoutNothing(v)
		}
		body, err := item.Encode(v)
		if err != nil {
			return err
		}
		c.Body = body
		kind("application/json")
	case t["form"] != nil:
		m, _ := t["form"].(map[string]any)
		q := url.Values{}
		for name, v := range m {
			addValues(q, name, v)
		}
		c.Body = []byte(q.Encode())
		kind("application/x-www-form-urlencoded")
	case t["multipart"] != nil:
		c.Header.Del("Content-Type") // it must name the boundary that is used
		return setParts(c, t["multipart"])
	case t["raw"] != nil:
		m, _ := t["raw"].(map[string]any)
		c.Body = []byte(expr.Text(m["text"]))
		if s := expr.Text(m["type"]); s != "" && !hasControl(s) {
			kind(s)
		}
	case t["xml"] != nil:
		body, err := encodeXML(t["xml"])
		if err != nil {
			return err
		}
		c.Body = body
		kind("application/xml")
	case t["file"] != nil:
		f, ok := item.AsFile(t["file"])
		if !ok {
			return fmt.Errorf("the body should be a file and is %s", item.Kind(t["file"]))
		}
		c.Pieces = []call.Piece{{File: f}}
		kind(f.Type)
	}
	return nil
}

// multipart builds a body of parts (RFC 7578). Its boundary follows from the
// parts, so that a repeat of the call is the same to the byte.
func setParts(c *call.Call, v any) error {
	parts, err := multipartParts(v)
	if err != nil {
		return err
	}
	seed := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(seed, "%q %q %q ", p.name, p.text, p.kind)
		if p.file != nil {
			fmt.Fprint(seed, p.file.ID)
		}
	}
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	if err := w.SetBoundary("trellis-" + hex.EncodeToString(seed.Sum(nil)[:16])); err != nil {
		return err
	}
	flush := func() {
		if b.Len() > 0 {
			c.Pieces = append(c.Pieces, call.Piece{Bytes: bytes.Clone(b.Bytes())})
			b.Reset()
		}
	}
	for _, p := range parts {
		h := textproto.MIMEHeader{}
		disposition := `form-data; name="` + quoteName(p.name) + `"`
		if p.filename != "" {
			disposition += `; filename="` + quoteName(p.filename) + `"`
		}
		h.Set("Content-Disposition", disposition)
		if p.kind != "" {
			h.Set("Content-Type", p.kind)
		}
		part, err := w.CreatePart(h)
		if err != nil {
			return err
		}
		if p.file == nil {
			_, _ = part.Write([]byte(p.text))
			continue
		}
		flush()
		c.Pieces = append(c.Pieces, call.Piece{File: p.file})
	}
	if err := w.Close(); err != nil {
		return err
	}
	flush()
	c.Header.Set("Content-Type", w.FormDataContentType())
	if !slices.ContainsFunc(c.Pieces, func(p call.Piece) bool { return p.File != nil }) {
		for _, p := range c.Pieces {
			c.Body = append(c.Body, p.Bytes...)
		}
		c.Pieces = nil
	}
	return nil
}

type multipartPart struct {
	name, text, filename, kind string
	file                       *item.File
}

// quoteName writes a name as browsers do (WHATWG HTML, multipart/form-data).
func quoteName(s string) string {
	return strings.NewReplacer("\r", "%0D", "\n", "%0A", `"`, "%22").Replace(s)
}

func multipartParts(v any) ([]multipartPart, error) {
	var out []multipartPart
	add := func(name string, v any) error {
		if name == "" || hasControl(name) {
			return fmt.Errorf("a part of the body is called %q; a name has no line breaks or control characters", name)
		}
		p := multipartPart{name: name}
		if m, ok := v.(map[string]any); ok {
			if f, ok := item.AsFile(m); ok {
				p.file, p.filename, p.kind = f, f.Name, f.Type
			} else if f, ok := item.AsFile(m["file"]); ok {
				p.file, p.filename, p.kind = f, f.Name, f.Type
				if s := expr.Text(m["name"]); s != "" {
					p.filename = path.Base(s)
				}
			} else if f, ok := item.AsFile(m["text"]); ok { // what it holds is the text
				p.file, p.filename = f, expr.Text(m["name"])
			} else if _, ok := m["text"]; ok {
				p.text, p.filename = expr.Text(m["text"]), expr.Text(m["name"])
			} else if m["file"] != nil {
				return fmt.Errorf("the part %s should be a file and is %s", name, item.Kind(m["file"]))
			} else {
				b, err := item.Encode(m)
				if err != nil {
					return err
				}
				p.text, p.kind = string(b), "application/json"
			}
			// An object that is sent as JSON may have a member of this name.
			if s := expr.Text(m["type"]); s != "" && (p.file != nil || p.kind != "application/json") {
				p.kind = s
			}
		} else {
			p.text = expr.Text(v)
		}
		if hasControl(p.kind) || hasControl(p.filename) {
			return fmt.Errorf("the part %s has a line break in its type or file name", name)
		}
		out = append(out, p)
		return nil
	}
	each := func(name string, v any) error {
		list, ok := v.([]any)
		if !ok {
			if v == nil {
				return nil
			}
			return add(name, v)
		}
		for _, e := range list {
			if err := add(name, e); err != nil {
				return err
			}
		}
		return nil
	}
	switch v := v.(type) {
	case map[string]any:
		for _, name := range sortedKeys(v) {
			if err := each(name, v[name]); err != nil {
				return nil, err
			}
		}
	case []any:
		for _, e := range v {
			m, _ := e.(map[string]any)
			if err := each(expr.Text(m["name"]), m["value"]); err != nil {
				return nil, err
			}
		}
	default:
		return nil, fmt.Errorf("a multipart body is an object or a list of parts, not %s", item.Kind(v))
	}
	return out, nil
}
