package payload

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"errors"
	"io"
	"strings"

	"golang.org/x/net/html/charset"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/words"
)

// unpacked reads a body that is packed (RFC 9110, 8.4). How much comes of it is the
// reader's to bound.
func unpacked(encoding string, content io.Reader) (io.Reader, error) {
	switch strings.ToLower(strings.TrimSpace(encoding)) {
	case "", "identity":
		return content, nil
	case "gzip", "x-gzip":
		z, err := gzip.NewReader(content)
		if err != nil {
			return nil, packed(err)
		}
		return &unpacking{z}, nil
	case "deflate":
		z, err := zlib.NewReader(content)
		if err != nil {
			return nil, packed(err)
		}
		return &unpacking{z}, nil
	}
	return nil, unread("the Content-Encoding %q is not known: %w", words.Short(item.StorableText(encoding), 60), errUnknownEncoding)
}

// unpacking tells that what is packed is broken off or spoiled.
type unpacking struct{ io.Reader }

// Read implements io.Reader.
func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.Reader.Read(p)
	if err != nil && err != io.EOF {
		err = packed(err)
	}
	return n, err
}

// packed says that what is packed cannot be unpacked, where that is what is wrong.
func packed(err error) error {
	var corrupt flate.CorruptInputError
	for _, spoiled := range []error{gzip.ErrChecksum, gzip.ErrHeader, zlib.ErrChecksum, zlib.ErrHeader, zlib.ErrDictionary, io.ErrUnexpectedEOF, io.EOF} {
		if errors.Is(err, spoiled) || errors.As(err, &corrupt) {
			return unread("what is packed in the body is broken off, or spoiled")
		}
	}
	return err
}

// marked tells whether a text begins with a byte order mark.
func marked(text []byte) bool {
	return bytes.HasPrefix(text, byteOrderMark) || bytes.HasPrefix(text, []byte("\xff\xfe")) || bytes.HasPrefix(text, []byte("\xfe\xff"))
}

// utf8Of gives a text in UTF-8 that says by its byte order mark, or by the charset of
// its content type, how it is written. The mark itself is taken off.
func utf8Of(text []byte, label string) ([]byte, error) {
	if label != "" && !bytes.HasPrefix(text, byteOrderMark) {
		e, name := charset.Lookup(label)
		if e == nil {
			return nil, unread("the charset %q is not known", words.Short(item.StorableText(label), 60))
		}
		if name != "utf-8" {
			out, err := e.NewDecoder().Bytes(text)
			if err != nil {
				return nil, unread("the text is not written in %s, as it says: %w", name, err)
			}
			return out, nil
		}
	}
	out, _, err := transform.Bytes(unicode.BOMOverride(transform.Nop), text)
	if err != nil {
		return nil, unread("the text is not written as its byte order mark says: %w", err)
	}
	return out, nil
}
