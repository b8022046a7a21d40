package contrast

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestColoursAreReadAsHex(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{"#7a4a2a": "#7a4a2a", " #7A4A2A ": "#7a4a2a", "#742": "#774422", "#000": "#000000"} {
		c, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, c.String())
	}
	for _, text := range []string{"", "#", "7a4a2a", "#7a4a2", "#7a4a2a00", "red", "#gggggg", "#7a4a2a;}", "rgb(1,2,3)", "#-12345"} {
		_, err := Parse(text)
		require.ErrorContains(t, err, "it is written as #7a4a2a", text)
	}
}

// The figures are those of the standard's own examples.
func TestTheRatioIsThatOfTheStandard(t *testing.T) {
	t.Parallel()
	require.InDelta(t, 21, Ratio(Colour{}, White), 0.001)
	require.InDelta(t, 1, Ratio(White, White), 0.001)
	require.InDelta(t, 4.48, Ratio(Colour{0x77, 0x77, 0x77}, White), 0.01)
	require.InDelta(t, 4.54, Ratio(Colour{0x76, 0x76, 0x76}, White), 0.01)
}

func TestAShadeIsAlwaysFoundThatCanBeRead(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		c := Colour{rapid.Uint8().Draw(t, "red"), rapid.Uint8().Draw(t, "green"), rapid.Uint8().Draw(t, "blue")}
		for _, ground := range []Colour{White, Paper, Night} {
			shade := c.On(ground)
			require.GreaterOrEqual(t, Ratio(shade, ground), Text)
			if Ratio(c, ground) >= Text {
				require.Equal(t, c, shade, "what can be read stays")
			}
		}
	})
}
