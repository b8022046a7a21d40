package document

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever a text holds, it is written so that it reads as the same text again.
func TestEveryTextIsWrittenSoThatItReadsAgain(t *testing.T) {
	t.Parallel()
	signs := []rune("  \t\n\n\ra:#-'\"|>&*!%@`{}[],?\\=é𝄞\u00a0\u2028\u0085\ufeff0~.")
	r := rand.New(rand.NewPCG(1, 2))
	for range 30_000 {
		text := make([]rune, r.IntN(9))
		for i := range text {
			text[i] = signs[r.IntN(len(signs))]
		}
		v := map[string]any{"a": string(text), "list": []any{string(text), map[string]any{"b": string(text)}}}
		for name, write := range map[string]func() ([]byte, error){
			"value": func() ([]byte, error) { return EncodeValue(v) },
			"node":  func() ([]byte, error) { return Encode(Node(v)) },
		} {
			b, err := write()
			require.NoError(t, err, "%s: %q", name, string(text))
			d, err := Parse(b)
			require.NoError(t, err, "%s: %q\n%s", name, string(text), b)
			require.Equal(t, v, Value(d.At("")), "%s: %q\n%s", name, string(text), b)
		}
	}
}
