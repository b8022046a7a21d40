package item

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestNumbersArriveAsTheyCame(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]any{
		`1`: int64(1), `-0`: int64(0), `9223372036854775807`: int64(math.MaxInt64), `9223372036854775808`: "9223372036854775808",
		`1234567890123456789`: int64(1234567890123456789), `0.1`: 0.1, `1e3`: 1000.0, `2.50`: 2.5, `0.12345678901234567890123`: "0.12345678901234567890123", `1e400`: "1e400",
	} {
		v, err := Decode([]byte(source))
		require.NoError(t, err, source)
		require.Equal(t, want, v, source)
	}
}

func TestBadJSONSaysWhere(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]string{
		"": "the text is empty", "{\"a\":\n  tru}": "line 2, column", `{"a": 1`: "ends in the middle", `{} {}`: "more text follows",
		strings.Repeat("[", 600) + strings.Repeat("]", 600): "nested deeper",
	} {
		_, err := Decode([]byte(source))
		require.ErrorContains(t, err, want)
	}
	_, err := DecodeObject([]byte(`[1]`))
	require.ErrorContains(t, err, "this is a list")
}

func TestAddressesSortInItemOrder(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		draw := func() (Address, []uint32) {
			n := rapid.Uint32Range(0, 3).Draw(t, "root")
			a, path := Root(n), []uint32{n}
			for range rapid.IntRange(0, 3).Draw(t, "depth") {
				o := rapid.Uint32Range(0, 70_000).Draw(t, "ordinal")
				a, path = a.Child(7, o), append(path, o)
			}
			return a, path
		}
		a, pa := draw()
		b, pb := draw()
		require.Equal(t, slices.Compare(pa, pb), strings.Compare(string(a), string(b)))
		back, err := ParseAddress(a.String())
		require.NoError(t, err)
		require.Equal(t, a, back)
		require.Equal(t, len(pa) >= len(pb) && slices.Equal(pa[:len(pb)], pb), a.Within(b))
	})
	for _, bad := range []string{"", "x", "1-", "1-2", "1-2.x", "-1", "1-70000.1"} {
		_, err := ParseAddress(bad)
		require.Error(t, err, bad)
	}
}

func TestLineageIsWalkedByStep(t *testing.T) {
	t.Parallel()
	at := time.Unix(100, 0)
	trigger := New(0, map[string]any{"a": 1}, at)
	list := trigger.Child(1, 5, 3, map[string]any{"b": 2}, at.Add(time.Second))
	last := list.Derive(4, map[string]any{"c": 3}, time.Time{})
	require.Same(t, trigger, last.AsOf(0))
	require.Same(t, list, last.AsOf(1))
	require.Same(t, list, last.AsOf(3))
	require.Same(t, last, last.AsOf(4))
	require.Same(t, trigger, last.Trigger())
	require.Equal(t, list.At, last.At, "the time never falls behind its lineage")
	require.Equal(t, "0-5.3", last.Address.String())
	require.Equal(t, trigger.Address, last.Address.Before(5))
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"a": [1, 2.5, "x", null]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if v, err := Decode(b); err == nil {
			_, _ = Encode(v)
			_ = Size(v)
		}
	})
}
