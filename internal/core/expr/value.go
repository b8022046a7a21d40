package expr

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"youngtrellis/internal/core/item"
	"youngtrellis/internal/core/near"
)

// settle turns times and durations into text throughout a value.
func settle(v any) any {
	switch v := v.(type) {
	case time.Time:
		return v.Format(time.RFC3339Nano)
	case time.Duration:
		return FormatDuration(v)
	case []any:
		if i := slices.IndexFunc(v, unsettled); i >= 0 {
			v = slices.Clone(v)
			for i := range v {
				v[i] = settle(v[i])
			}
		}
		return v
	case map[string]any:
		for _, e := range v {
			if unsettled(e) {
				out := make(map[string]any, len(v))
				for k, e := range v {
					out[k] = settle(e)
				}
				return out
			}
		}
		return v
	case Fields:
		return nil
	}
	return v
}

func unsettled(v any) bool {
	switch v := v.(type) {
	case time.Time, time.Duration:
		return true
	case []any:
		return slices.ContainsFunc(v, unsettled)
	case map[string]any:
		for _, e := range v {
			if unsettled(e) {
				return true
			}
		}
	}
	return false
}

// Text writes a value as it stands inside a longer text: nothing is empty,
// lists and objects are JSON.
func Text(v any) string {
	switch v := settle(v).(type) {
	case nil:
		return ""
	case string:
		return v
	case []any, map[string]any:
		b, err := item.Plain(v)
		if err != nil {
			return fmt.Sprint(v)
		}
		return string(b)
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return item.FormatFloat(v)
	default:
		return fmt.Sprint(v)
	}
}

// weigh takes what a value takes as JSON from what is left, and tells whether
// that was enough. Parts that a value has several times are weighed as often, so
// nothing is written that was not weighed before.
func weigh(v any, left *int) bool {
	switch v := v.(type) {
	case string:
		*left -= len(v) + 2
	case []any:
		*left -= 2
		for _, e := range v {
			if *left--; *left < 0 || !weigh(e, left) {
				return false
			}
		}
	case map[string]any:
		*left -= 2
		for k, e := range v {
			if *left -= len(k) + 4; *left < 0 || !weigh(e, left) {
				return false
			}
		}
	default:
		*left -= 8
	}
	return *left >= 0
}

// show names a value in an error: its kind, and the value if it is short.
func show(v any) string {
	switch v := v.(type) {
	case nil:
		return "nothing"
	case string:
		if len(v) > 40 && characters(v) > 40 {
			v = cut(v, 0, 40) + "…"
		}
		return "the text “" + v + "”"
	case int64, float64:
		return "the number " + Text(v)
	case bool:
		return Text(v)
	case time.Time:
		return "the time " + Text(v)
	case time.Duration:
		return "the duration " + Text(v)
	case []any:
		return fmt.Sprintf("a list of %d", len(v))
	case map[string]any:
		return "an object with " + strings.Join(first(keysOf(v), 4), ", ")
	}
	return item.Kind(v)
}

func first(list []string, n int) []string {
	if len(list) > n {
		return append(slices.Clone(list[:n]), "…")
	}
	return list
}

func keysOf(m map[string]any) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// NearestField offers the name that a missing field was probably meant to be.
func NearestField(name string, fields map[string]any) string { return near.Of(name, keysOf(fields)) }
