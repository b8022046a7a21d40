package steps

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What a kind says that it does is what its steps do.
func TestKindsSayWhatTheyDo(t *testing.T) {
	t.Parallel()
	for kind, settings := range map[string]map[string]any{
		"filter":   {"where": "true"},
		"shape":    {"keep": "all"},
		"branch":   {"cases": []any{map[string]any{"name": "a", "when": "true", "steps": []any{}}}},
		"loop":     {},
		"sort":     {"by": []any{map[string]any{"of": "item.x"}}},
		"take":     {"which": "last", "count": int64(1)},
		"distinct": {"by": "item.x"},
		"spread":   {"list": "item.x"},
		"batch":    {"size": int64(2)},
		"gather":   {"fields": map[string]any{"n": map[string]any{"how": "count"}}},
		"wait":     {"for": "1h"},
		"stop":     {},
		"answer":   {"status": int64(200)},
		"http":     {"method": "GET", "url": "https://a.test/"},
		"sql":      {"query": "select 1"},
	} {
		k, ok := Find(kind)
		require.True(t, ok)
		c, errs := k.Compile(settings)
		require.Empty(t, errs, kind)
		does := DoesOne
		switch c.Operator.(type) {
		case *Call:
			does = DoesCalls
		case Spreads:
			does = DoesSpread
		case Loop:
			does = DoesLoop
		case Holder:
			does = DoesHold
		case Picker:
			does = DoesPick
		case Ender:
			does = DoesEnd
		case Answerer:
			does = DoesAnswer
		}
		require.Equal(t, does, k.Does, kind)
	}
}
