package item

import (
	"maps"
	"slices"
	"strings"
)

// StorableText replaces what cannot be stored as text, NUL and broken UTF-8, by
// U+FFFD.
func StorableText(s string) string {
	s = strings.ToValidUTF8(s, "\ufffd")
	if strings.IndexByte(s, 0) < 0 {
		return s
	}
	return strings.ReplaceAll(s, "\x00", "\ufffd")
}

// Storable makes every text and name in a JSON value storable. A value without
// anything to replace is given back as it is.
func Storable(v any) any {
	if storable(v) {
		return v
	}
	switch v := v.(type) {
	case string:
		return StorableText(v)
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = Storable(e)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for _, k := range slices.Sorted(maps.Keys(v)) {
			name := StorableText(k)
			for _, taken := out[name]; taken; _, taken = out[name] { // two names never become one
				name += "\ufffd"
			}
			out[name] = Storable(v[k])
		}
		return out
	}
	return v
}

func storable(v any) bool {
	switch v := v.(type) {
	case string:
		return StorableText(v) == v
	case []any:
		for _, e := range v {
			if !storable(e) {
				return false
			}
		}
	case map[string]any:
		for k, e := range v {
			if StorableText(k) != k || !storable(e) {
				return false
			}
		}
	}
	return true
}
