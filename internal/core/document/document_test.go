package document

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

type piece struct {
	Name  string         `doc:"name,required"`
	Cones []string       `doc:"cones"`
	Size  int            `doc:"size"`
	Off   bool           `doc:"off"`
	More  map[string]any `doc:"more"`
	Glaze *glaze         `doc:"glaze"`
}

type glaze struct {
	Grams float64 `doc:"grams"`
}

func TestReadingIsStrictAndFindsEverythingAtOnce(t *testing.T) {
	t.Parallel()
	d, err := Parse([]byte("nam: jug\nsize: large\ncones: [04, 9]\nglaze:\n  gram: 3\n"))
	require.NoError(t, err)
	var p piece
	var found []string
	for _, problem := range d.Decode(&p) {
		found = append(found, problem.Error())
	}
	require.Equal(t, []string{
		`line 1, column 1: "nam" is not a known key. Did you mean name?`,
		`line 2, column 7: size should be a whole number and is text.`,
		`line 5, column 3: "gram" is not a known key. Did you mean grams?`,
		`line 1, column 1: "name" is missing here.`,
	}, found)
	require.Equal(t, []string{"04", "9"}, p.Cones)
}

func TestChangesKeepCommentsAndOrder(t *testing.T) {
	t.Parallel()
	d, err := Parse([]byte("# the head\nname: jug # a good one\nsize: 3\nmore:\n  # within\n  b: 1\n  a: 2\n"))
	require.NoError(t, err)
	require.NoError(t, d.Set("", "name", "tall jug"))
	require.NoError(t, d.Set("more", "a", nil))
	require.NoError(t, d.Set("more", "c", map[string]any{"x": []any{int64(1)}}))
	out, err := d.Encode()
	require.NoError(t, err)
	require.Equal(t, "# the head\nname: tall jug # a good one\nsize: 3\nmore:\n  # within\n  b: 1\n  c:\n    x:\n      - 1\n", string(out))
	require.Error(t, d.Set("nowhere", "x", 1))
}

func TestValuesKeepWhatTheyMean(t *testing.T) {
	t.Parallel()
	d, err := Parse([]byte(`{"more": {"cone": 04, "id": 12345678901234567890, "n": 7, "t": true, "none": null, "x": 1.5, "no": no}, "name": "x"}`))
	require.NoError(t, err)
	var p piece
	require.Empty(t, d.Decode(&p))
	require.Equal(t, map[string]any{"cone": "04", "id": "12345678901234567890", "n": int64(7), "t": true, "none": nil, "x": 1.5, "no": "no"}, p.More)
}

func TestDangerousTextsAreRefused(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"a: &x [1]\nb: *x\n": "Anchors", "a: !!python/object:x {}\n": "means nothing", "{[]: 1}": "name of a field is text", "a: 1\na: 2\n": "twice", "a: 1\n---\nb: 2\n": "second document", "": "empty",
		strings.Repeat("[", 80): "cannot be read", strings.Repeat("[", 80) + strings.Repeat("]", 80): "deeper", strings.Repeat("x", MaxBytes+1): "at most",
	} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("a: [1, {b: c}]\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := Parse(b)
		if err != nil {
			return
		}
		var p piece
		_ = d.Decode(&p)
		_, _ = d.Place("steps[3].x")
		_, _ = d.Encode()
	})
}

// Signs beyond the first plane of Unicode are written as they are.
func TestSignsOfEveryPlaneStayLegible(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		"a: 🏺 jug\nb: \"say \\\"🏺\\\"\" # 🔥 hot\nc: |\n  two\n  👩‍👩‍👧 lines\n\"🏺\": x\n",
		"a: \ue000 \ue001 taken 🏺\n",
		"a: '\\U0001F3FA is written so'\n",
	} {
		d, err := Parse([]byte(text))
		require.NoError(t, err)
		out, err := Encode(d.At(""))
		require.NoError(t, err)
		again, err := Parse(out)
		require.NoError(t, err, string(out))
		require.Equal(t, value(t, d), value(t, again))
		if !strings.Contains(text, "U0001") {
			require.NotContains(t, string(out), `\U`)
			require.Equal(t, strings.Count(text, "🏺"), strings.Count(string(out), "🏺"))
		}
	}
	d, err := Parse([]byte("a: one\nb: two\n"))
	require.NoError(t, err)
	require.NoError(t, d.Set("", "a", "🏺 by 🔥"))
	out, err := d.Encode()
	require.NoError(t, err)
	require.Equal(t, "a: 🏺 by 🔥\nb: two\n", string(out))
}

func value(t *testing.T, d *Document) any {
	t.Helper()
	var v any
	require.NoError(t, d.At("").Decode(&v))
	return v
}

func TestMoreSignsThanThereIsRoomForAreWrittenAsDigits(t *testing.T) {
	t.Parallel()
	var all strings.Builder
	for r := rune(0x20000); all.Len() < 4*7000; r++ {
		all.WriteRune(r)
	}
	out, err := EncodeValue(map[string]any{"a": all.String()})
	require.NoError(t, err)
	d, err := Parse(out)
	require.NoError(t, err)
	require.Equal(t, map[string]any{"a": all.String()}, value(t, d))
	require.Contains(t, string(out), "\U00020000")
}
