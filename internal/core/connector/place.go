package connector

import (
	"bytes"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"strings"

	"youngtrellis/internal/core/item"
)

func (p Place) compile(k *compiler, path string) {
	places := 0
	for _, there := range []string{p.Header, p.Query, p.Form, p.JSON, p.Path} {
		if there != "" {
			places++
		}
	}
	switch {
	case places != 1:
		k.add(path, errors.New("a key goes into one place: a header, query, form, json or path"))
	case p.Header != "" && !headerName.MatchString(p.Header):
		k.add(path+".header", fmt.Errorf("%q is not the name of a header", p.Header))
	case p.Path != "" && (len(p.Path) < 3 || p.Path[0] != '{' || strings.IndexAny(p.Path, "}/?#") != len(p.Path)-1):
		k.add(path+".path", fmt.Errorf("%q is no mark for the path; it is written in braces, as {key}, and stands so in the paths of the actions", p.Path))
	}
}

// put gives a request the key. One that goes into a body or a path is left out where
// the request has none: what only reads proves itself otherwise, or not at all.
func (p Place) put(r *Signed, key string) error {
	value := p.Prefix + key
	switch {
	case strings.EqualFold(p.Header, "cookie") && r.Header.Get("Cookie") != "":
		r.Header.Set("Cookie", value+"; "+r.Header.Get("Cookie"))
	case p.Header != "":
		r.Header.Set(p.Header, value)
	case p.Query != "":
		setInQuery(r.URL, p.Query, value)
	case p.Path != "":
		mark := LegalPath(p.Path)
		written := strings.Replace(r.URL.EscapedPath(), mark, url.PathEscape(value), 1)
		decoded, err := url.PathUnescape(written)
		if err != nil {
			return err
		}
		r.URL.Path, r.URL.RawPath = decoded, written
	default:
		return p.putInBody(r, value)
	}
	return nil
}

func (p Place) putInBody(r *Signed, value string) error {
	kind, what := "application/json", "the member "+p.JSON+" of a JSON object"
	if p.Form != "" {
		kind, what = "application/x-www-form-urlencoded", "the field "+p.Form+" of a form"
	}
	media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	isJSON := media == "application/json" || strings.HasSuffix(media, "+json")
	switch {
	case r.Stream:
		return fmt.Errorf("the key goes into %s, and this request sends a file", what)
	case len(r.Body) == 0 && (r.Method == http.MethodGet || r.Method == http.MethodHead):
		return nil
	case len(r.Body) == 0:
		if media == "" {
			r.Header.Set("Content-Type", kind)
		}
	case media != kind && (p.Form != "" || !isJSON):
		return fmt.Errorf("the key goes into %s, and this request sends %s", what, media)
	}
	if p.Form != "" {
		pair := url.QueryEscape(p.Form) + "=" + url.QueryEscape(value)
		if len(r.Body) > 0 {
			pair = "&" + pair
		}
		r.Body = append(bytes.Clone(r.Body), pair...)
		return nil
	}
	body := bytes.TrimSpace(r.Body)
	if len(body) == 0 {
		body = []byte("{}")
	}
	if body[0] != '{' {
		return fmt.Errorf("the key goes into %s, and this request sends no object", what)
	}
	name, err := item.Encode(p.JSON)
	if err != nil {
		return err
	}
	text, err := item.Encode(value)
	if err != nil {
		return err
	}
	member := append(append(name, ':'), text...)
	if rest := bytes.TrimSpace(body[1:]); len(rest) > 0 && rest[0] != '}' {
		member = append(member, ',')
	}
	r.Body = append(append([]byte{'{'}, member...), body[1:]...)
	return nil
}
