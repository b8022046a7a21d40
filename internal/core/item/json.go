package item

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// MaxBytes is the most JSON that one item may hold.
const MaxBytes = 16 << 20

// maxDepth bounds the nesting of a JSON value; deeper ones are refused so that
// no later walk over a value can exhaust the stack.
const maxDepth = 512

// Decode reads one JSON value (RFC 8259). Whole numbers that fit 64 bits
// become int64 and stay exact; numbers that neither int64 nor float64 can hold
// digit for digit stay text, so that a long identifier arrives as it came. Of
// fields of the same name the last counts.
func Decode(data []byte) (any, error) {
	data = bytes.TrimPrefix(data, []byte("\ufeff")) // a mark of the byte order means nothing (RFC 8259, 8.1)
	var few [16]string
	d := decoder{Decoder: jsontext.NewDecoder(bytes.NewBuffer(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)), names: few[:0]}
	v, err := d.value(0)
	if err != nil {
		return nil, explain(data, d.InputOffset(), err)
	}
	if rest := bytes.TrimLeft(data[d.InputOffset():], " \t\r\n"); len(rest) > 0 {
		line, col := place(data, d.InputOffset())
		return nil, fmt.Errorf("line %d, column %d: more text follows after the end of the JSON value", line, col)
	}
	return v, nil
}

// decoder makes values of JSON's tokens, as Normal would leave them.
type decoder struct {
	*jsontext.Decoder
	// The items of a list have the same names in the same order, again and again.
	// Those that were read are kept, up to a bound, with the place of the next.
	names []string
	next  int
}

const mostNames = 1000

// name reads the name of a field.
func (d *decoder) name() (string, error) {
	raw, err := d.ReadValue()
	if err != nil {
		return "", err
	}
	if bytes.IndexByte(raw, '\\') >= 0 || !utf8.Valid(raw) {
		text, err := jsontext.AppendUnquote(nil, raw)
		if err != nil && len(text) == 0 {
			return "", err
		}
		return string(text), nil
	}
	raw = raw[1 : len(raw)-1]
	if d.next == len(d.names) {
		d.next = 0
	}
	if d.next < len(d.names) && d.names[d.next] == string(raw) {
		d.next++
		return d.names[d.next-1], nil
	}
	name := string(raw)
	if len(d.names) < mostNames {
		d.names = append(d.names, name)
		d.next = len(d.names)
	}
	return name, nil
}

var errTooDeep = fmt.Errorf("the value is nested deeper than %d levels", maxDepth)

func (d *decoder) value(depth int) (any, error) {
	if depth > maxDepth {
		return nil, errTooDeep
	}
	t, err := d.ReadToken()
	if err != nil {
		return nil, err
	}
	switch t.Kind() {
	case '{':
		return d.object(depth)
	case '[':
		list := []any{}
		for d.PeekKind() != ']' {
			v, err := d.value(depth + 1)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err := d.ReadToken()
		return list, err
	case '"':
		return t.String(), nil
	case '0':
		return Number(t.String()), nil
	case 't', 'f':
		return t.Bool(), nil
	}
	return nil, nil
}

func (d *decoder) object(depth int) (any, error) {
	fields := map[string]any{}
	for d.PeekKind() != '}' {
		name, err := d.name()
		if err != nil {
			return nil, err
		}
		if fields[name], err = d.value(depth + 1); err != nil {
			return nil, err
		}
	}
	_, err := d.ReadToken()
	return fields, err
}

// DecodeObject reads a JSON object as the fields of an item.
func DecodeObject(data []byte) (map[string]any, error) {
	v, err := Decode(data)
	if err != nil {
		return nil, err
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, fmt.Errorf("an item is a JSON object with fields, and this is %s", Kind(v))
	}
	return m, nil
}

// EncodeList writes the fields of items as a JSON list.
func EncodeList(items []map[string]any) ([]byte, error) {
	list := make([]any, len(items))
	for i, fields := range items {
		list[i] = fields
	}
	return Encode(list)
}

// DecodeList reads what EncodeList wrote.
func DecodeList(data []byte) ([]map[string]any, error) {
	v, err := Decode(data)
	if err != nil {
		return nil, err
	}
	list, ok := v.([]any)
	if !ok {
		return nil, fmt.Errorf("items are a JSON list, and this is %s", Kind(v))
	}
	out := make([]map[string]any, len(list))
	for i, e := range list {
		if out[i], ok = e.(map[string]any); !ok {
			return nil, fmt.Errorf("an item is a JSON object with fields, and this is %s", Kind(e))
		}
	}
	return out, nil
}

func explain(data []byte, offset int64, err error) error {
	if errors.Is(err, errTooDeep) {
		return err
	}
	var syntax *jsontext.SyntacticError
	if errors.As(err, &syntax) {
		offset, err = syntax.ByteOffset+1, syntax.Err
	}
	line, col := place(data, offset)
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF) && len(bytes.TrimSpace(data)) == 0:
		return errors.New("there is no JSON here: the text is empty")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("line %d, column %d: the JSON ends in the middle of a value", line, col)
	}
	return fmt.Errorf("line %d, column %d: this is not JSON: %s", line, col, amiss(data, offset, err))
}

// amiss says what stands where JSON has no place for it.
func amiss(data []byte, offset int64, err error) string {
	rest := data[min(max(offset-1, 0), int64(len(data))):]
	rest = bytes.TrimLeft(rest, " \t\r\n")
	switch {
	case strings.Contains(err.Error(), "escape"):
		return "a backslash stands before a sign that needs none"
	case strings.Contains(err.Error(), "UTF-8"):
		return "the text is not valid UTF-8"
	case len(rest) == 0:
		return "a value is missing"
	case rest[0] == '\'':
		return "text stands in double quotes"
	case rest[0] < ' ':
		return "a control character stands in a text"
	}
	r, _ := utf8.DecodeRune(rest)
	return fmt.Sprintf("“%c” does not belong here", r)
}

func place(data []byte, offset int64) (line, col int) {
	before := data[:min(int64(len(data)), max(offset-1, 0))]
	line = bytes.Count(before, []byte("\n")) + 1
	return line, len(before) - bytes.LastIndexByte(before, '\n')
}

// Normal turns a value made by other means (maps, slices, Go numbers) into the
// form that Decode gives.
func Normal(v any) (any, error) { return normal(v, 0) }

func normal(v any, depth int) (any, error) {
	if depth > maxDepth {
		return nil, errTooDeep
	}
	switch v := v.(type) {
	case map[string]any:
		for k, e := range v {
			n, err := normal(e, depth+1)
			if err != nil {
				return nil, err
			}
			v[k] = n
		}
		return v, nil
	case []any:
		for i, e := range v {
			n, err := normal(e, depth+1)
			if err != nil {
				return nil, err
			}
			v[i] = n
		}
		return v, nil
	case json.Number:
		return Number(v.String()), nil
	case int:
		return int64(v), nil
	case uint64:
		if v > math.MaxInt64 {
			return strconv.FormatUint(v, 10), nil
		}
		return int64(v), nil
	}
	return v, nil
}

// Encode writes a value as JSON with sorted keys, without escaping HTML.
func Encode(v any) ([]byte, error) { return Append(nil, v) }

// Plain is Encode with every number written as people write it, without an
// exponent. What reads it may take a large whole number for text.
func Plain(v any) ([]byte, error) { return appendValue(nil, v, true) }

// Append is Encode at the end of b.
func Append(b []byte, v any) ([]byte, error) { return appendValue(b, v, false) }

func appendValue(b []byte, v any, plain bool) ([]byte, error) {
	var err error
	switch v := v.(type) {
	case nil:
		return append(b, "null"...), nil
	case bool:
		return strconv.AppendBool(b, v), nil
	case int64:
		return strconv.AppendInt(b, v, 10), nil
	case int:
		return strconv.AppendInt(b, int64(v), 10), nil
	case float64:
		return appendFloat(b, v, plain)
	case string:
		return AppendText(b, v), nil
	case []any:
		b = append(b, '[')
		for i, e := range v {
			if i > 0 {
				b = append(b, ',')
			}
			if b, err = appendValue(b, e, plain); err != nil {
				return nil, err
			}
		}
		return append(b, ']'), nil
	case map[string]any:
		if v == nil {
			return append(b, "null"...), nil
		}
		return appendObject(b, v, plain)
	}
	// What was made by other means is written as the library does.
	var other bytes.Buffer
	e := json.NewEncoder(&other)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return append(b, bytes.TrimSuffix(other.Bytes(), []byte("\n"))...), nil
}

// appendFloat writes whole numbers that are larger than a float64 tells apart
// with an exponent, so that they are read as what they are.
func appendFloat(b []byte, f float64, plain bool) ([]byte, error) {
	switch {
	case math.IsNaN(f) || math.IsInf(f, 0):
		return nil, fmt.Errorf("%v is no JSON number", f)
	case !plain && math.Abs(f) >= exact && f == math.Trunc(f):
		return strconv.AppendFloat(b, f, 'e', -1, 64), nil
	}
	return append(b, FormatFloat(f)...), nil
}

func appendObject(b []byte, m map[string]any, plain bool) (_ []byte, err error) {
	var few [24]string
	keys := few[:0]
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	b = append(b, '{')
	for i, k := range keys {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(AppendText(b, k), ':')
		if b, err = appendValue(b, m[k], plain); err != nil {
			return nil, err
		}
	}
	return append(b, '}'), nil
}

// AppendText writes a text as JSON. What is not UTF-8 becomes U+FFFD.
func AppendText(b []byte, s string) []byte {
	const digits = "0123456789abcdef"
	b = append(b, '"')
	start := 0
	for i := 0; i < len(s); {
		c := s[i]
		if c >= ' ' && c != '"' && c != '\\' && c < utf8.RuneSelf {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, n := utf8.DecodeRuneInString(s[i:])
			if r != '\u2028' && r != '\u2029' && (r != utf8.RuneError || n > 1) {
				i += n
				continue
			}
			b = append(b, s[start:i]...)
			switch r {
			case utf8.RuneError:
				b = append(b, "\\ufffd"...)
			default:
				b = append(b, '\\', 'u', '2', '0', '2', digits[r&0xf])
			}
			i += n
			start = i
			continue
		}
		b = append(b, s[start:i]...)
		switch c {
		case '"', '\\':
			b = append(b, '\\', c)
		case '\n':
			b = append(b, '\\', 'n')
		case '\r':
			b = append(b, '\\', 'r')
		case '\t':
			b = append(b, '\\', 't')
		case '\b':
			b = append(b, '\\', 'b')
		case '\f':
			b = append(b, '\\', 'f')
		default:
			b = append(b, '\\', 'u', '0', '0', digits[c>>4], digits[c&0xf])
		}
		i++
		start = i
	}
	return append(append(b, s[start:]...), '"')
}

// Kind names the type of a value in the words people use for it.
func Kind(v any) string {
	switch v.(type) {
	case nil:
		return "nothing"
	case string:
		return "text"
	case bool:
		return "true or false"
	case int64, float64:
		return "a number"
	case []any:
		return "a list"
	case map[string]any:
		return "an object"
	}
	return fmt.Sprintf("%T", v)
}

// Size estimates the memory that a value takes, in bytes of JSON.
func Size(v any) int {
	switch v := v.(type) {
	case string:
		return len(v) + 2
	case map[string]any:
		n := 2
		for k, e := range v {
			n += len(k) + 4 + Size(e)
		}
		return n
	case []any:
		n := 2
		for _, e := range v {
			n += 1 + Size(e)
		}
		return n
	}
	return 8
}

// Keys lists the names of an object's fields, sorted.
func Keys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
