package item

import (
	"bytes"
	"fmt"
	"io"
	"unicode/utf16"
	"unicode/utf8"
)

// A TextError says that a text from outside holds what can be neither stored nor
// told apart from another text: U+0000, bytes that are not UTF-8 (RFC 3629), or, in
// JSON, half of a surrogate pair (RFC 8259, 8.2). Two different texts must never
// become one by being mended.
type TextError struct {
	What string // "U+0000", "half of a surrogate pair", "a byte that is not UTF-8"
	At   int64  // the byte at which it stands, from 0
}

func (e *TextError) Error() string {
	return fmt.Sprintf("the text holds %s at byte %d; it can be neither stored nor told apart from another one", e.What, e.At)
}

const (
	nothing   = "U+0000"
	surrogate = "half of a surrogate pair"
	broken    = "a byte that is not UTF-8"
)

// CheckText refuses a plain text; the error is a *TextError.
func CheckText(s string) error {
	for i, r := range s {
		if r == 0 {
			return &TextError{nothing, int64(i)}
		}
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[i:]); size == 1 {
				return &TextError{broken, int64(i)}
			}
		}
	}
	return nil
}

// CheckJSON refuses a JSON text, with what its escapes say; the error is a
// *TextError. It does not look whether the text is JSON.
func CheckJSON(b []byte) error {
	if simple(b) {
		return nil
	}
	_, err := io.Copy(io.Discard, Incoming(bytes.NewReader(b)))
	return err
}

// Incoming reads JSON from outside and ends with a *TextError where CheckJSON would
// refuse it, before what holds it is given on.
func Incoming(r io.Reader) io.Reader { return &incoming{from: r} }

type incoming struct {
	from    io.Reader
	at      int64  // bytes given on so far
	part    []byte // of a character that is not whole yet
	escape  []byte // of an escape that is not whole yet, from its backslash on
	half    bool   // the first half of a surrogate pair stands right before
	refused error
}

// Read implements io.Reader.
func (in *incoming) Read(p []byte) (int, error) {
	if in.refused != nil {
		return 0, in.refused
	}
	n, err := in.from.Read(p)
	if len(in.part) > 0 || len(in.escape) > 0 || in.half || !simple(p[:n]) {
		for i, c := range p[:n] {
			if what := in.byte(c); what != "" {
				in.refused = &TextError{what, in.at + int64(i)}
				return 0, in.refused
			}
		}
	}
	in.at += int64(n)
	if err == io.EOF && (len(in.part) > 0 || in.half) {
		what := broken
		if in.half {
			what = surrogate
		}
		in.refused = &TextError{what, in.at}
		return 0, in.refused
	}
	return n, err
}

// simple tells of a piece of text that there is nothing to look at byte by byte.
func simple(b []byte) bool {
	return bytes.IndexByte(b, '\\') < 0 && bytes.IndexByte(b, 0) < 0 && utf8.Valid(b)
}

// byte looks at the next one, and says what is wrong with it.
func (in *incoming) byte(c byte) string {
	if c >= utf8.RuneSelf {
		if in.half || len(in.escape) > 0 {
			return surrogateOr(in.half, "")
		}
		return in.character(c)
	}
	switch {
	case len(in.part) > 0:
		return broken
	case c == 0:
		return nothing
	case len(in.escape) > 0:
		return in.escaped(c)
	case c == '\\':
		in.escape = append(in.escape, c)
		return ""
	case in.half:
		return surrogate
	}
	return ""
}

func surrogateOr(half bool, otherwise string) string {
	if half {
		return surrogate
	}
	return otherwise
}

// character takes a byte of one that is longer than a byte.
func (in *incoming) character(c byte) string {
	in.part = append(in.part, c)
	if !utf8.FullRune(in.part) {
		return ""
	}
	r, size := utf8.DecodeRune(in.part)
	if r == utf8.RuneError && size == 1 {
		return broken
	}
	in.part = in.part[:0]
	return ""
}

// escaped takes a byte of an escape.
func (in *incoming) escaped(c byte) string {
	in.escape = append(in.escape, c)
	if len(in.escape) == 2 && c != 'u' {
		in.escape = in.escape[:0]
		return surrogateOr(in.half, "")
	}
	if len(in.escape) < len(`\u0000`) {
		return ""
	}
	var r rune
	for _, d := range in.escape[2:] {
		v, ok := hexDigit(d)
		if !ok { // no JSON: its reader says so
			in.escape = in.escape[:0]
			return surrogateOr(in.half, "")
		}
		r = r<<4 | v
	}
	in.escape = in.escape[:0]
	switch {
	case r == 0:
		return nothing
	case !utf16.IsSurrogate(r):
		return surrogateOr(in.half, "")
	case r < 0xDC00 && !in.half: // the first half
		in.half = true
		return ""
	case r >= 0xDC00 && in.half:
		in.half = false
		return ""
	}
	return surrogate
}

func hexDigit(c byte) (rune, bool) {
	switch {
	case c >= '0' && c <= '9':
		return rune(c - '0'), true
	case c >= 'a' && c <= 'f':
		return rune(c-'a') + 10, true
	case c >= 'A' && c <= 'F':
		return rune(c-'A') + 10, true
	}
	return 0, false
}
