package words

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCountsArePluralised(t *testing.T) {
	t.Parallel()
	for want, got := range map[string]string{
		"1 item":          Count(1, "item"),
		"0 items":         Count(0, "item"),
		"1,994 items":     Count(1994, "item"),
		"1,234,567 rows":  Count(1_234_567, "row"),
		"2 entries":       Count(2, "entry"),
		"2 keys":          Count(2, "key"),
		"3 boxes":         Count(3, "box"),
		"2 classes":       Count(2, "class"),
		"2 batches":       Count(2, "batch"),
		"-1,000 degrees":  Count(-1000, "degree"),
		"999 milliliters": Count(999, "milliliter"),
	} {
		require.Equal(t, want, got)
	}
}

func TestSentencesBeginLargeAndEndWithAStop(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{"": "", "a b": "A b.", "été": "Été.", "Is it?": "Is it?", "done.": "Done.", "no!": "No!"} {
		require.Equal(t, want, Sentence(in))
	}
}

func TestALineIsOneVisibleLine(t *testing.T) {
	t.Parallel()
	require.Equal(t, "a b c", Line(" a\n\tb  c "))
	require.Equal(t, "␀x␡", Line("\x00x\x7f"))
	require.Equal(t, "a‹U+202E›b", Line("a\u202eb"), "what would turn the direction is seen")
	require.Len(t, []rune(Line(strings.Repeat("é", 500))), 80)
	require.Equal(t, "a\nb", Visible("a\nb"))
}

func TestNoTwoFatesLookAlike(t *testing.T) {
	t.Parallel()
	marks, names := map[string]string{}, map[string]bool{}
	for _, f := range Fates {
		require.False(t, names[f.Name], f.Name)
		names[f.Name] = true
		if f.Mark != " " {
			require.Empty(t, marks[f.Mark], "%s and %s", f.Name, marks[f.Mark])
			marks[f.Mark] = f.Name
		}
		require.Equal(t, f, FateOf(f.Name))
	}
	require.Equal(t, "odd", FateOf("odd").Words)
	for _, r := range Reasons {
		got, ok := ReasonOf(r.Name)
		require.True(t, ok)
		require.Equal(t, r, got)
	}
	_, ok := ReasonOf("none")
	require.False(t, ok)
}

func TestTheConsoleHasTheSameWords(t *testing.T) {
	t.Parallel()
	b, err := os.ReadFile("../../../web/src/words/table.ts")
	require.NoError(t, err)
	require.Equal(t, TypeScript(), string(b), "run make generate")
}

// What is not seen is made visible; what people write is left as it is.
func TestWhatIsNotSeenIsMadeVisible(t *testing.T) {
	t.Parallel()
	for _, same := range []string{"kiln", "né e\u0301", "👩‍🔧 👩‍👩‍👧‍👦 🏴\U000e0067\U000e0062\U000e0065\U000e006e\U000e0067\U000e007f 🇵🇹 ❤️ 1️⃣", "می\u200cخواهم", "क्\u200dष", "日本", "שלום", "a\nb\tc", "\ufffd", "a\u00a0b"} {
		require.Equal(t, same, Visible(same))
	}
	for text, want := range map[string]string{
		"jug\u202etxt": "jug‹U+202E›txt", "a\u200bb": "a‹U+200B›b", "a\u200db": "a‹U+200D›b", "\ufeffa": "‹U+FEFF›a", "a\x00b\x1b[31m\x7f": "a␀b␛[31m␡", "a\u0085b": "a‹U+0085›b", "\u2066a\u2069": "‹U+2066›a‹U+2069›", "so\u00adft": "so‹U+00AD›ft", "a\r\n": "a␍\n", "a\u2028b": "a‹U+2028›b", "\u3164": "‹U+3164›",
	} {
		require.Equal(t, want, Visible(text))
	}
	require.Equal(t, "👩‍🔧…", Short("👩‍🔧👩‍🔧👩‍🔧", 2))
	require.Equal(t, "👩‍🔧", Short("👩‍🔧", 1))
	require.Equal(t, "abc", Short("abc", 3))
	require.Equal(t, "“Größe” ist.", Sentence("“Größe” ist"), "a sentence may begin with a sign of several bytes")
}
