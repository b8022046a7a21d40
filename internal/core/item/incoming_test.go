package item

import (
	"bytes"
	"encoding/json"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestTextFromOutsideIsTakenWholeOrRefused(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		`{"a": "b"}`: "", `{"a": "\\u0000"}`: "", `"\\\\u0000"`: "", `"\uD83D\ude00 é 😀"`: "", `"\uFFFD"`: "", "\"\uFFFD\"": "", `"\"\/\b\n"`: "", ``: "", `"\ud7ff\ue000"`: "",
		"\"\x00\"": nothing, `"\u0000"`: nothing, `{"a\u0000b": 1}`: nothing, `"\\\u0000"`: nothing, `"\ud83d\ude00\u0000"`: nothing,
		`"\ud800"`: surrogate, `"\udfff"`: surrogate, `"\ud83dx"`: surrogate, `"\ud83d\n"`: surrogate, `"\ud83dA"`: surrogate, `"\ud83d\ud83d\ude00"`: surrogate, `"\ude00\ud83d"`: surrogate, `"\ud83d😀"`: surrogate, `"\uD800`: surrogate, `"\ud83d\u00e9"`: surrogate,
		"\"\xff\"": broken, "\"\xc3\"": broken, "\"\xc3": broken, "\"\xed\xa0\x80\"": broken, "\"\xc0\x80\"": broken, "\"\xf5\x80\x80\x80\"": broken, "\"a\x80\"": broken,
	} {
		for name, r := range map[string]io.Reader{"whole": strings.NewReader(text), "by bytes": iotest.OneByteReader(strings.NewReader(text)), "with its end": iotest.DataErrReader(strings.NewReader(text))} {
			got, err := io.ReadAll(Incoming(r))
			if want == "" {
				require.NoError(t, err, "%s %q", name, text)
				require.Equal(t, text, string(got))
				continue
			}
			var no *TextError
			require.ErrorAs(t, err, &no, "%s %q", name, text)
			require.Equal(t, want, no.What, "%s %q", name, text)
			require.NotContains(t, string(got), "\x00")
		}
	}
	require.NoError(t, CheckJSON([]byte(`"x"`)))
	require.Error(t, CheckJSON([]byte(`"\u0000"`)))
	require.NoError(t, CheckText("é \uFFFD 😀"))
	require.ErrorContains(t, CheckText("ab\x00"), "U+0000 at byte 2")
	require.ErrorContains(t, CheckText("ab\xff"), "not UTF-8 at byte 2")
}

// Everything that a reader of JSON reads as it was meant is let through, and nothing
// that it would mend.
func TestWhatIsLetThroughReadsAsItWasWritten(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String().Draw(t, "text")
		b, err := json.Marshal(text)
		require.NoError(t, err)
		if strings.ContainsRune(text, 0) {
			require.Error(t, CheckJSON(b))
		} else {
			require.NoError(t, CheckJSON(b))
		}
		raw := append([]byte{'"'}, rapid.SliceOfN(rapid.SampledFrom([]byte(`\ud83e0F"a`)), 0, 30).Draw(t, "raw")...)
		raw = append(raw, '"')
		var back string
		if json.Unmarshal(raw, &back) == nil && CheckJSON(raw) == nil {
			require.NotContains(t, back, "\x00")
			again, err := json.Marshal(back)
			require.NoError(t, err)
			require.False(t, strings.ContainsRune(back, '\uFFFD') && !bytes.Contains(raw, []byte("fffd")) && !bytes.Contains(raw, []byte("FFFD")), "%s became %s", raw, again)
		}
	})
}
