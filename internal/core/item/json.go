package item

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
)

// MaxBytes is the most JSON that one item may hold.
const MaxBytes = 16 << 20

// maxDepth bounds the nesting of a JSON value; deeper ones are refused so that
// no later walk over a value can exhaust the stack.
const maxDepth = 512

// Decode reads one JSON value (RFC 8259). Whole numbers that fit 64 bits
// become int64 and stay exact; numbers that neither int64 nor float64 can hold
// digit for digit stay text, so that a long identifier arrives as it came.
func Decode(data []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, explain(data, d.InputOffset(), err)
	}
	if _, err := d.Token(); err != io.EOF {
		line, col := place(data, d.InputOffset())
		return nil, fmt.Errorf("line %d, column %d: more text follows after the end of the JSON value", line, col)
	}
	return normal(v, 0)
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

func explain(data []byte, offset int64, err error) error {
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		offset = syntax.Offset
	}
	line, col := place(data, offset)
	if errors.Is(err, io.EOF) {
		return errors.New("there is no JSON here: the text is empty")
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("line %d, column %d: the JSON ends in the middle of a value", line, col)
	}
	return fmt.Errorf("line %d, column %d: this is not JSON: %s", line, col, strings.TrimPrefix(err.Error(), "json: "))
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
		return nil, fmt.Errorf("the value is nested deeper than %d levels", maxDepth)
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

// Number reads a JSON number literal: int64 where it is whole and fits,
// float64 where that keeps every digit, else the text itself.
func Number(s string) any {
	if !strings.ContainsAny(s, ".eE") {
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return n
		}
		return s
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || significant(s) > 17 || (f == 0 && significant(s) > 0) {
		return s
	}
	return f
}

func significant(s string) int {
	mantissa, _, _ := strings.Cut(strings.ToLower(s), "e")
	digits := strings.Trim(strings.NewReplacer("-", "", ".", "").Replace(mantissa), "0")
	return len(digits)
}

// Encode writes a value as JSON with sorted keys, without escaping HTML.
func Encode(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), nil
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
