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
		`1234567890123456789`: int64(1234567890123456789), `0.1`: 0.1, `1e3`: int64(1000), `2.50`: 2.5, `0.12345678901234567890123`: "0.12345678901234567890123", `1e400`: "1e400",
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

// Whatever number comes, it is the same value once it was stored and read.
func TestNumbersAreTheSameAfterTheyWereStored(t *testing.T) {
	t.Parallel()
	same := func(t require.TestingT, literal string) any {
		first, err := Decode([]byte(literal))
		require.NoError(t, err, literal)
		text, err := Encode(first)
		require.NoError(t, err)
		second, err := Decode(text)
		require.NoError(t, err)
		require.Equal(t, first, second, literal)
		return first
	}
	for literal, want := range map[string]any{
		"2.0": int64(2), "-0.0": int64(0), "-0": int64(0), "1e3": int64(1000), "2.50": 2.5, "9007199254740991.0": int64(1)<<53 - 1, "9007199254740992.0": "9007199254740992.0", "9007199254740993.0": "9007199254740993.0",
		"1e20": "1e20", "1e21": 1e21, "1e400": "1e400", "1e-400": "1e-400", "0.0325": 0.0325, "100.00": int64(100), "0.1000000000000000055": "0.1000000000000000055", "0e999": int64(0),
	} {
		require.Equal(t, want, same(t, literal), literal)
	}
	rapid.Check(t, func(t *rapid.T) {
		literal := rapid.StringMatching(`-?(0|[1-9][0-9]{0,22})(\.[0-9]{1,22})?([eE][+-]?[0-9]{1,3})?`).Draw(t, "literal")
		same(t, literal)
	})
}
