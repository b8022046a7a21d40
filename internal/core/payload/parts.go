package payload

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"strings"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// mostParts is how many parts a form has at most.
const mostParts = 1000

// parts reads a form with files. A part with the name of a file, or whose type is no
// text, is a file; one of JSON is what it says; any other is a text.
func (b *Body) parts(content io.Reader, boundary string) ([]map[string]any, error) {
	if boundary == "" {
		return nil, unread("the Content-Type multipart/form-data does not say its boundary")
	}
	own := &told{from: content}
	from, out, left := multipart.NewReader(own, boundary), newGathered(), b.MostBytes
	for n := 0; ; n++ {
		p, err := from.NextPart()
		if errors.Is(err, io.EOF) {
			if n == 0 && !bytes.Contains(own.last, []byte("--"+boundary+"--")) {
				return nil, unread("the form has no part between the boundaries that its Content-Type says")
			}
			return []map[string]any{out.fields}, nil
		}
		if err != nil {
			return nil, own.fault(err)
		}
		if n == mostParts {
			return nil, unread("the form has more than %d parts", mostParts)
		}
		v, err := b.part(p, &left)
		if err != nil {
			return nil, own.fault(err)
		}
		name := p.FormName()
		if name == "" {
			return nil, unread("part %d of the form has no name", n+1)
		}
		if v == nil {
			continue
		}
		if text, is := v.(string); is && b.Text != nil {
			b.Text(name, text)
		}
		if err := out.add(name, v); err != nil {
			return nil, err
		}
	}
}

// part reads one, as far as texts may still come.
func (b *Body) part(p *multipart.Part, left *int64) (any, error) {
	kind, params, err := mime.ParseMediaType(p.Header.Get("Content-Type"))
	if err != nil && p.Header.Get("Content-Type") != "" {
		return nil, unread("the Content-Type of the field %q cannot be read", short(p.FormName()))
	}
	if strings.HasPrefix(kind, "multipart/") {
		return nil, unread("the field %q has parts of its own, which are not taken; send each as a part of the form", short(p.FormName()))
	}
	if p.FileName() != "" || !isText(kind) {
		if b.Files == nil {
			return nil, unread("the field %q is a file, and none are taken here", short(p.FormName()))
		}
		f, err := b.Files(p.FileName(), kind, p)
		if err != nil || f == nil {
			return nil, err
		}
		return f.Value(), nil
	}
	text, err := io.ReadAll(io.LimitReader(p, *left+1))
	if err != nil {
		return nil, err
	}
	if *left -= int64(len(text)); *left < 0 {
		return nil, &TooLarge{b.MostBytes}
	}
	if text, err = utf8Of(text, params["charset"]); err != nil {
		return nil, err
	}
	if kind != "application/json" && !strings.HasSuffix(kind, "+json") {
		return string(text), nil
	}
	if err := item.CheckJSON(text); err != nil {
		return nil, unread("the field %q: %w", short(p.FormName()), err)
	}
	v, err := item.Decode(text)
	if err != nil {
		return nil, unread("the field %q: %w", short(p.FormName()), err)
	}
	return v, nil
}

func short(name string) string { return words.Short(item.StorableText(name), 60) }

// lastBytes is more than a boundary has (RFC 2046: at most 70).
const lastBytes = 256

// told keeps the error of a reader, so that it is told apart from those of the form
// that is read from it.
type told struct {
	from io.Reader
	err  error
	last []byte // some of what was read last
}

// Read implements io.Reader.
func (t *told) Read(p []byte) (int, error) {
	n, err := t.from.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		t.err = err
	}
	if n >= lastBytes {
		t.last = append(t.last[:0], p[n-lastBytes:n]...)
	} else if t.last = append(t.last, p[:n]...); len(t.last) > lastBytes {
		t.last = append(t.last[:0], t.last[len(t.last)-lastBytes:]...)
	}
	return n, err
}

// fault is what was wrong with the form, or with its reader.
func (t *told) fault(err error) error {
	var unreadable *Unread
	var large *TooLarge
	switch {
	case t.err != nil:
		return t.err
	case errors.As(err, &unreadable), errors.As(err, &large):
		return err
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, multipart.ErrMessageTooLarge), strings.HasPrefix(err.Error(), "multipart: "), strings.HasPrefix(err.Error(), "malformed MIME"):
		return unread("the form cannot be read: %s", item.StorableText(err.Error()))
	}
	return err
}
