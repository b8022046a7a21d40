// Package payload reads what comes in with a call: JSON (RFC 8259), forms, forms with
// files (RFC 7578), XML, text, and whatever else as a file. What it holds becomes the
// fields of items; nothing in it is carried out or fetched.
package payload

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"strings"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// Saver keeps what is to be a file, and gives its reference. The name and the type are
// what the caller says of it. No file: there is none after all, and no field.
type Saver func(name, kind string, content io.Reader) (*item.File, error)

// Body is what came, and how it says it is to be read.
type Body struct {
	ContentType string
	Encoding    string // Content-Encoding: gzip, deflate, or none
	Query       url.Values
	Content     io.Reader
	// Files keeps files; nil: none are taken.
	Files Saver
	// MostBytes is how much of text may come, unpacked; files count for themselves.
	MostBytes int64
	// Most is how much may come in all, files and all, also of what unpacks to more
	// than it is; 0: any amount.
	Most int64
	// Text is told of each text of a form with files as it comes, so that whether files
	// are taken can hang on what came before them; nil: nobody is.
	Text func(name, text string)
	// MostItems is how many items may come.
	MostItems int
}

// A TooLarge says that a body, or what it unpacks to, has more bytes than may come.
type TooLarge struct{ Most int64 }

func (e *TooLarge) Error() string {
	return "the body is larger than " + item.Bytes(e.Most)
}

// An Unread says that what came cannot be read, and why.
type Unread struct{ Err error }

func (e *Unread) Error() string { return e.Err.Error() }

// Unwrap implements the errors package's.
func (e *Unread) Unwrap() error { return e.Err }

func unread(format string, args ...any) error { return &Unread{fmt.Errorf(format, args...)} }

// Items reads a body. What is wrong with it is an *Unread or a *TooLarge; any other
// error is that of the body's reader or of what keeps files.
func Items(b Body) ([]map[string]any, error) {
	kind, params, err := mime.ParseMediaType(b.ContentType)
	if err != nil && b.ContentType != "" {
		return nil, unread("the Content-Type %q cannot be read", words.Short(item.StorableText(b.ContentType), 100))
	}
	content, err := unpacked(b.Encoding, b.Content)
	if err != nil {
		return nil, err
	}
	if b.Most > 0 {
		content = &bounded{content, b.Most, b.Most}
	}
	switch {
	case kind == "multipart/form-data":
		return b.parts(content, params["boundary"])
	case strings.HasPrefix(kind, "multipart/"):
		return nil, unread("the content type %s is not taken here; parts come as multipart/form-data", kind)
	case b.Files != nil && !isText(kind):
		return b.raw(content, kind)
	}
	text, err := b.whole(content)
	if err != nil {
		return nil, err
	}
	switch {
	case kind == "application/json" || strings.HasSuffix(kind, "+json") || kind == "" && beginsJSON(text):
		return b.json(text)
	case kind == "application/xml" || kind == "text/xml" || strings.HasSuffix(kind, "+xml"):
		return readXML(text, params["charset"])
	case kind == "application/x-www-form-urlencoded":
		values, err := url.ParseQuery(string(text))
		if err != nil {
			return nil, unread("the form cannot be read: %w", err)
		}
		return fields(values)
	case len(text) == 0:
		return fields(b.Query)
	case isText(kind):
		return asText(text, params["charset"])
	}
	return nil, unread("the content type %s is not taken here; send JSON, XML, a form or text", kind)
}

// bounded ends with a *TooLarge where more comes than may.
type bounded struct {
	from       io.Reader
	left, most int64
}

// Read implements io.Reader.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, &TooLarge{b.most}
	}
	return n, err
}

// isText tells of a type that is read as text of some kind.
func isText(kind string) bool {
	switch kind {
	case "", "application/json", "application/xml", "application/x-www-form-urlencoded":
		return true
	}
	return strings.HasPrefix(kind, "text/") || strings.HasSuffix(kind, "+json") || strings.HasSuffix(kind, "+xml")
}

// whole reads all of a body that is text.
func (b *Body) whole(content io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(content, b.MostBytes+1))
	if err != nil {
		return nil, err
	}
	if int64(len(text)) > b.MostBytes {
		return nil, &TooLarge{b.MostBytes}
	}
	return text, nil
}

// raw makes one item of what is no text: a file.
func (b *Body) raw(content io.Reader, kind string) ([]map[string]any, error) {
	f, err := b.Files("", kind, content)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return []map[string]any{{}}, nil
	}
	return []map[string]any{{"body": f.Value()}}, nil
}

var byteOrderMark = []byte("\xef\xbb\xbf")

func beginsJSON(text []byte) bool {
	text = bytes.TrimLeft(bytes.TrimPrefix(text, byteOrderMark), " \t\r\n")
	return len(text) > 0 && (text[0] == '{' || text[0] == '[')
}

func (b *Body) json(text []byte) ([]map[string]any, error) {
	text, err := utf8Of(text, "")
	if err != nil {
		return nil, err
	}
	if err := item.CheckJSON(text); err != nil {
		return nil, &Unread{err}
	}
	v, err := item.Decode(text)
	if err != nil {
		return nil, &Unread{err}
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	if len(list) == 0 {
		return nil, unread("the list is empty")
	}
	if len(list) > b.MostItems {
		return nil, unread("the list has %s items; at most %s start with one call (--event-items of the service)", words.Number(len(list)), words.Number(b.MostItems))
	}
	out := make([]map[string]any, len(list))
	for i, e := range list {
		m, ok := e.(map[string]any)
		if !ok {
			return nil, unread("an item is a JSON object with fields, and this is %s", item.Kind(e))
		}
		out[i] = m
	}
	return out, nil
}

func asText(text []byte, charset string) ([]map[string]any, error) {
	text, err := utf8Of(text, charset)
	if err == nil {
		err = checked(string(text))
	}
	if err != nil {
		return nil, err
	}
	return []map[string]any{{"body": string(text)}}, nil
}

func checked(text string) error {
	if err := item.CheckText(text); err != nil {
		return &Unread{err}
	}
	return nil
}

// gathered are fields of which each may come several times: a list then, in the order
// in which they came.
type gathered struct {
	fields  map[string]any
	several map[string]bool
}

func newGathered() *gathered {
	return &gathered{map[string]any{}, map[string]bool{}}
}

func (g *gathered) add(name string, v any) error {
	if err := item.CheckText(name); err != nil {
		return unread("the name of a field: %w", err)
	}
	if s, ok := v.(string); ok {
		if err := item.CheckText(s); err != nil {
			return unread("the field %q: %w", words.Short(name, 60), err)
		}
	}
	before, there := g.fields[name]
	switch {
	case !there:
		g.fields[name] = v
	case g.several[name]:
		g.fields[name] = append(before.([]any), v)
	default:
		g.fields[name], g.several[name] = []any{before, v}, true
	}
	return nil
}

func fields(values url.Values) ([]map[string]any, error) {
	out := newGathered()
	for name, list := range values {
		for _, v := range list {
			if err := out.add(name, v); err != nil {
				return nil, err
			}
		}
	}
	return []map[string]any{out.fields}, nil
}

var errUnknownEncoding = errors.New("bodies are packed as gzip or deflate here, or not at all")
