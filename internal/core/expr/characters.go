package expr

import (
	"strings"
	"unicode/utf8"

	"github.com/clipperhouse/uax29/v2/graphemes"
)

// A character is what a person sees as one: a grapheme cluster of Unicode's
// annex 29, as é in any form, a flag, or a family of joined emoji.

// single tells whether every byte of a text is a character of its own.
func single(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf || s[i] == '\r' {
			return false
		}
	}
	return true
}

// characters counts what a person sees as characters.
func characters(s string) int {
	if single(s) {
		return len(s)
	}
	n := 0
	for g := graphemes.FromString(s); g.Next(); {
		n++
	}
	return n
}

// placeOf is the byte at which the n-th character of a text begins, from 0; the
// end of the text where it has fewer.
func placeOf(s string, n int) int {
	if n <= 0 {
		return 0
	}
	if single(s) {
		return min(n, len(s))
	}
	g := graphemes.FromString(s)
	for range n {
		if !g.Next() {
			return len(s)
		}
	}
	return g.End()
}

// cut is a text from one character up to another.
func cut(s string, from, to int) string {
	start := placeOf(s, from)
	return s[start : start+placeOf(s[start:], to-from)]
}

// spread is a text's characters one by one.
func spread(s string) []string {
	out := make([]string, 0, len(s))
	for g := graphemes.FromString(s); g.Next(); {
		out = append(out, g.Value())
	}
	return out
}

// hide puts a dot for every character but the last few.
func hide(s string, shown int) string {
	n := characters(s)
	if n < 12 {
		shown = 0
	}
	shown = max(0, min(shown, n/4))
	return strings.Repeat("•", n-shown) + s[placeOf(s, n-shown):]
}
