package item

import (
	"bytes"
	"encoding/json"
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

// anyNumber draws numbers of every length in which they are written.
func anyNumber(t *rapid.T, name string) uint32 {
	return rapid.OneOf(rapid.Uint32Range(0, 3), rapid.Uint32Range(230, 260), rapid.Uint32Range(2280, 2300), rapid.Uint32Range(65_530, 65_540), rapid.Uint32Range(1<<24-2, 1<<24+2), rapid.Uint32()).Draw(t, name)
}

func TestAddressesSortInItemOrder(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		depth := rapid.IntRange(0, 2).Draw(t, "loops")
		grouped := rapid.Bool().Draw(t, "of many")
		draw := func() (Address, []uint32) {
			var rounds Rounds
			var in []uint32
			for range depth {
				r := Round{anyNumber(t, "edition"), anyNumber(t, "round")}
				rounds, in = rounds.Add(r), append(in, r.Edition, r.N)
			}
			require.Equal(t, depth, rounds.Depth())
			n := anyNumber(t, "n")
			a, path := Root(n), []uint32{n}
			if grouped {
				e := anyNumber(t, "edition of the list")
				a, path = Group(9, rounds, e, n), append(slices.Clone(in), e, n)
			}
			for range rapid.IntRange(0, 3).Draw(t, "depth") {
				o := anyNumber(t, "ordinal")
				a, path = a.Child(7, rounds, o), append(append(path, in...), o)
			}
			return a, path
		}
		a, pa := draw()
		b, pb := draw()
		require.Equal(t, slices.Compare(pa, pb), strings.Compare(string(a), string(b)))
		back, err := ParseAddress(a.String())
		require.NoError(t, err)
		require.Equal(t, a, back, a.String())
		require.Equal(t, len(pa) >= len(pb) && slices.Equal(pa[:len(pb)], pb), a.Within(b))
		require.True(t, a.Within(a.Head()))
		require.Len(t, a.Head().Segments(), 1)
	})
}

func TestAddressesAreReadAsTheyAreWritten(t *testing.T) {
	t.Parallel()
	in := Rounds("").Add(Round{1, 4})
	for want, a := range map[string]Address{
		"0":              Root(0),
		"12-2.7":         Root(12).Child(2, "", 7),
		"0-2_1.4.7":      Root(0).Child(2, in, 7),
		"g3.1.0":         Group(3, "", 1, 0),
		"g3_1.4_2.0.1.9": Group(3, in.Add(Round{2, 0}), 1, 9),
		"g3.1.0-5.2-6.1": Group(3, "", 1, 0).Child(5, "", 2).Child(6, "", 1),
	} {
		require.Equal(t, want, a.String())
		back, err := ParseAddress(want)
		require.NoError(t, err)
		require.Equal(t, a, back)
	}
	for _, bad := range []string{"", "x", "1-", "1-2", "1-2.x", "-1", "1-70000.1", "1-0.1", "01", "1-2.07", "g3.0", "1-g3.1.0", "g3_1.1.0", "0-2_1.4", "1.2", "4294967296"} {
		_, err := ParseAddress(bad)
		require.Error(t, err, bad)
	}
	require.Contains(t, Address("\xff").String(), "invalid")
	require.Nil(t, Address("\x20\x01").Segments())
	require.Equal(t, Address("\xff"), Address("\xff").Head())
}

func TestRoundsAreTakenApart(t *testing.T) {
	t.Parallel()
	outer := Rounds("").Add(Round{1, 300})
	inner := outer.Add(Round{2, 5})
	require.Equal(t, []Round{{1, 300}, {2, 5}}, inner.List())
	require.Equal(t, outer, inner.Out(1))
	require.Equal(t, Rounds(""), inner.Out(0))
	require.Equal(t, inner, inner.Out(7))
	require.Equal(t, "_1.300_2.5", inner.String())
	back, err := ParseRounds(inner.String())
	require.NoError(t, err)
	require.Equal(t, inner, back)
	for _, bad := range []string{"1.3", "_1", "_1.2_", "_x.1"} {
		_, err := ParseRounds(bad)
		require.Error(t, err, bad)
	}
}

func TestLineageIsWalkedByStep(t *testing.T) {
	t.Parallel()
	at := time.Unix(100, 0)
	in := Rounds("").Add(Round{1, 2})
	trigger := New(0, nil, at)
	list := trigger.Child(5, "", 3, map[string]any{"b": 2}, at.Add(time.Second))
	once := list.Derive(4, in, map[string]any{"c": 3}, time.Time{})
	last := once.Derive(4, in, map[string]any{"c": 4}, time.Time{})
	require.Same(t, list, last.Through(5))
	require.Same(t, last, last.Through(4), "the last of several times")
	require.Nil(t, last.Through(9), "a step that is not on its way")
	require.Same(t, trigger, last.First())
	require.Equal(t, list.At, last.At, "the time never falls behind its lineage")
	require.Equal(t, "0-5.3", last.Address.String())
	require.Equal(t, trigger.Address, last.Address.Made(5, ""))
	require.Equal(t, last.Address, last.Address.Made(5, in), "not in that round")
	require.False(t, last.Group())

	group := Grouped(6, "", 1, 0, map[string]any{}, []Address{list.Address}, at)
	below := group.Derive(7, "", map[string]any{}, time.Time{})
	require.Same(t, group, below.First())
	require.True(t, below.Group())
	require.Nil(t, below.Through(5), "the chain ends at a group")
}

// What is written is what the standard library writes, byte for byte.
func TestEncodeWritesAsTheStandardLibraryDoes(t *testing.T) {
	t.Parallel()
	reference := func(v any) string {
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		require.NoError(t, e.Encode(v))
		return strings.TrimSuffix(b.String(), "\n")
	}
	for _, v := range []any{nil, true, int64(-7), 3, 0.1, 1e300, "", "a\"\\/<>&\u2028\u2029\b\f\n\r\t\x00\x1f\x7fé😀", "\xff\xfe", []any{}, []any{nil, "x", []any{int64(1)}}, map[string]any{}, map[string]any(nil), map[string]any{"b": 1.5, "a": map[string]any{"z": nil}}, []string{"a"}, uint8(3)} {
		got, err := Encode(v)
		require.NoError(t, err)
		require.Equal(t, reference(v), string(got))
	}
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "text")
		got, err := Encode(map[string]any{s: s})
		require.NoError(t, err)
		require.Equal(t, reference(map[string]any{s: s}), string(got))
	})
	_, err := Encode([]any{map[string]any{"x": func() {}}})
	require.Error(t, err)
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"a": [1, 2.5, "x", null]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		v, err := Decode(b)
		if err != nil {
			return
		}
		_ = Size(v)
		text, err := Encode(v)
		require.NoError(t, err)
		again, err := Decode(text)
		require.NoError(t, err)
		require.Equal(t, v, again, "%q", text)
		plain, err := Plain(v)
		require.NoError(t, err)
		_, err = Decode(plain)
		require.NoError(t, err)
		key, err := Key(v)
		other, err2 := Key(again)
		require.Equal(t, err, err2)
		require.Equal(t, key, other)
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
		"2.0": int64(2), "-0.0": int64(0), "-0": int64(0), "1e3": int64(1000), "2.50": 2.5, "9007199254740991.0": int64(1)<<53 - 1, "9007199254740992.0": int64(1) << 53, "9007199254740993.0": "9007199254740993.0",
		"1e18": int64(1e18), "1e20": 1e20, "1e21": 1e21, "12345678901234567e5": "12345678901234567e5", "1e400": "1e400", "1e-400": "1e-400", "0.0325": 0.0325, "100.00": int64(100), "0.1000000000000000055": "0.1000000000000000055", "0e999": int64(0),
	} {
		require.Equal(t, want, same(t, literal), literal)
	}
	for f, want := range map[float64]string{1e-7: "0.0000001", 1234567.5: "1234567.5", 1e15: "1000000000000000", 1e21: "1000000000000000000000", math.Copysign(0, -1): "0", 0.1: "0.1"} {
		require.Equal(t, want, FormatFloat(f))
		text, err := Plain([]any{f})
		require.NoError(t, err)
		require.Equal(t, "["+want+"]", string(text))
	}
	_, err := Encode(math.Inf(1))
	require.Error(t, err)
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.Float64().Draw(t, "computed")
		text, err := Encode(f)
		require.NoError(t, err)
		back, err := Decode(text)
		require.NoError(t, err)
		a, _ := Key(f)
		b, _ := Key(back)
		require.Equal(t, a, b, "a number that was worked out is the same one once it was stored: %s", text)
		require.False(t, isString(back), "%s", text)
	})
	rapid.Check(t, func(t *rapid.T) {
		literal := rapid.StringMatching(`-?(0|[1-9][0-9]{0,22})(\.[0-9]{1,22})?([eE][+-]?[0-9]{1,3})?`).Draw(t, "literal")
		same(t, literal)
	})
}

func isString(v any) bool { _, ok := v.(string); return ok }

// What is no JSON is said in words of people, at its place.
func TestWhatIsNoJSONIsSaidInWords(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"{a:1}": "line 1, column 2: this is not JSON: “a” does not belong here", "{'a':1}": "text stands in double quotes", "{\"a\":}": "“}” does not belong here", `"\x"`: "a backslash stands before a sign that needs none",
		"[1 2]": "“2” does not belong here", "{": "ends in the middle", "{} x": "more text follows", "": "the text is empty", "[1,\n2,,]": "line 2",
	} {
		_, err := Decode([]byte(text))
		require.ErrorContains(t, err, want, text)
		require.NotContains(t, err.Error(), "jsontext")
		require.NotContains(t, err.Error(), "invalid character")
	}
	v, err := Decode([]byte("\ufeff{\"a\": 1}"))
	require.NoError(t, err)
	require.Equal(t, map[string]any{"a": int64(1)}, v)
}
