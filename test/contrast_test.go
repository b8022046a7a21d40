package test

import (
	"fmt"
	"math"
	"os"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// colours reads a theme's tokens from the console's style sheet.
func colours(t *testing.T, selector string) map[string]string {
	css, err := os.ReadFile("../web/src/styles.css")
	require.NoError(t, err)
	block := regexp.MustCompile(regexp.QuoteMeta(selector) + ` \{([^}]*)\}`).FindSubmatch(css)
	require.NotNil(t, block, selector)
	out := map[string]string{}
	for _, m := range regexp.MustCompile(`--([a-z]+): (#[0-9a-f]{6});`).FindAllSubmatch(block[1], -1) {
		out[string(m[1])] = string(m[2])
	}
	return out
}

// luminance is WCAG 2's relative luminance.
func luminance(t *testing.T, hex string) float64 {
	require.Len(t, hex, 7)
	channel := func(i int) float64 {
		v, err := strconv.ParseUint(hex[i:i+2], 16, 8)
		require.NoError(t, err)
		c := float64(v) / 255
		if c <= 0.04045 {
			return c / 12.92
		}
		return math.Pow((c+0.055)/1.055, 2.4)
	}
	return 0.2126*channel(1) + 0.7152*channel(3) + 0.0722*channel(5)
}

func contrast(t *testing.T, a, b string) float64 {
	x, y := luminance(t, a), luminance(t, b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

func TestEveryPairOfColoursInUseIsLegible(t *testing.T) {
	t.Parallel()
	for _, theme := range []string{":root", `:root[data-theme="dark"]`} {
		c := colours(t, theme)
		for _, p := range []struct {
			on, what string
			least    float64
		}{
			{"paper", "ink", 4.5}, {"sheet", "ink", 4.5}, {"tint", "ink", 4.5}, {"ambertint", "ink", 4.5},
			{"paper", "second", 4.5}, {"sheet", "second", 4.5}, {"tint", "second", 4.5}, {"paper", "third", 4.5}, {"sheet", "third", 4.5}, {"tint", "third", 4.5},
			{"tint", "leafink", 4.5}, {"paper", "leafink", 4.5}, {"leaf", "onleaf", 4.5}, {"ambertint", "amber", 4.5}, {"paper", "amber", 4.5}, {"sheet", "amber", 4.5},
			{"sheet", "rust", 4.5}, {"paper", "rust", 4.5}, {"tint", "rust", 4.5}, {"ambertint", "rust", 4.5}, {"sheet", "field", 4.5}, {"sheet", "literal", 4.5},
			{"sheet", "leaf", 3}, {"tint", "leaf", 3}, {"paper", "leaf", 3}, {"sheet", "edge", 3}, {"paper", "edge", 3}, {"tint", "edge", 3},
		} {
			got := contrast(t, c[p.on], c[p.what])
			require.GreaterOrEqual(t, got, p.least, fmt.Sprintf("%s: %s on %s is %.2f", theme, p.what, p.on, got))
		}
	}
}
