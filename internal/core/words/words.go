// Package words holds the words of every surface, so that the same thing is
// called the same everywhere: counts and plurals, sentences, one visible line.
// Those of fates, states and reasons stand in table.go.
package words

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Count words a number of things: "1 item", "1,994 items".
func Count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return Number(n) + " " + Plural(thing)
}

// Plural words several of a thing.
func Plural(thing string) string {
	switch {
	case strings.HasSuffix(thing, "y") && !strings.HasSuffix(thing, "ey"):
		return thing[:len(thing)-1] + "ies"
	case strings.HasSuffix(thing, "s"), strings.HasSuffix(thing, "x"), strings.HasSuffix(thing, "ch"):
		return thing + "es"
	}
	return thing + "s"
}

// Number writes a whole number with its thousands apart.
func Number(n int) string {
	s := fmt.Sprint(n)
	sign := ""
	if n < 0 {
		sign, s = "-", s[1:]
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return sign + s
}

// Sentence makes a sentence of words: it begins large and ends with a stop.
func Sentence(s string) string {
	if s == "" {
		return s
	}
	r, n := utf8.DecodeRuneInString(s)
	s = string(unicode.ToUpper(r)) + s[n:]
	if !strings.HasSuffix(s, ".") && !strings.HasSuffix(s, "?") && !strings.HasSuffix(s, "!") {
		s += "."
	}
	return s
}

// Line makes one line of at most 80 characters in which control and direction
// characters are visible.
func Line(s string) string {
	if plain(s) {
		return s
	}
	if len(s) > 400 {
		s = strings.ToValidUTF8(s[:400], "")
	}
	s = Visible(strings.Join(strings.Fields(s), " "))
	if utf8.RuneCountInString(s) > 80 {
		return string([]rune(s)[:79]) + "…"
	}
	return s
}

// plain tells whether a text is one short line of letters without accents as it
// is: most are.
func plain(s string) bool {
	if len(s) > 80 || s == "" || s[0] == ' ' || s[len(s)-1] == ' ' {
		return s == ""
	}
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' || s[i] == ' ' && s[i-1] == ' ' {
			return false
		}
	}
	return true
}

// Visible replaces characters that would move or hide text by visible signs.
func Visible(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return r
		case r < ' ':
			return '\u2400' + r
		case r == 0x7f:
			return '\u2421'
		case unicode.Is(unicode.Cf, r) || r >= 0x80 && r < 0xa0 || r == utf8.RuneError:
			return '\ufffd'
		}
		return r
	}, s)
}
