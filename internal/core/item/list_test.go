package item

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestItemsAreAListOfObjects(t *testing.T) {
	t.Parallel()
	for _, items := range [][]map[string]any{{}, {{}}, {{"a": int64(1)}, {"b": []any{"x", nil}}}} {
		text, err := EncodeList(items)
		require.NoError(t, err)
		again, err := DecodeList(text)
		require.NoError(t, err)
		require.Equal(t, items, again)
	}
	for text, why := range map[string]string{`{"a": 1}`: "items are a JSON list, and this is an object", `[{}, 2]`: "an item is a JSON object with fields, and this is a number", `[{`: "ends in the middle"} {
		_, err := DecodeList([]byte(text))
		require.ErrorContains(t, err, why)
	}
}
