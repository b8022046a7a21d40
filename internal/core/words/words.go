// Package words holds the words of every surface, so that the same thing is
// called the same everywhere: counts and plurals, sentences, one visible line.
// Those of fates, states and reasons stand in table.go.
package words

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/clipperhouse/uax29/v2/graphemes"
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
	return Short(s, 80)
}

// Short gives at most n characters as people see them, the last one … if
// something was cut.
func Short(s string, n int) string {
	if len(s) <= n {
		return s
	}
	at, kept := 0, 0
	for g := graphemes.FromString(s); g.Next(); at++ {
		if at == n-1 {
			kept = g.Start()
		}
		if at == n {
			return s[:kept] + "…"
		}
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

// Visible makes what would move or hide text a sign that is seen: a character
// that turns the direction, or has no width, becomes ‹U+202E›, a control
// character its picture. Joined emoji stay, and joiners between letters of
// scripts that are written with them; nothing else is changed.
func Visible(s string) string {
	if !strings.ContainsFunc(s, unseen) {
		return s
	}
	var out strings.Builder
	for g := graphemes.FromString(s); g.Next(); {
		cluster := g.Value()
		if strings.ContainsFunc(cluster, unseen) {
			cluster = visible(cluster)
		}
		out.WriteString(cluster)
	}
	return out.String()
}

// unseen tells whether a character may be one that is not seen.
func unseen(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < ' ' || r >= 0x7f && r < 0xa0:
		return true
	}
	return r > 0x7f && (unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029' || r == '\u034f' || r == '\u115f' || r == '\u1160' || r == '\u3164' || r == '\uffa0')
}

// visible does a character as a person sees them.
func visible(cluster string) string {
	picture := strings.ContainsFunc(cluster, pictured)
	var out strings.Builder
	var before rune
	for i, r := range cluster {
		switch {
		case !unseen(r),
			picture && (r == joiner || r >= 0xe0020 && r <= 0xe007f), // within one emoji
			(r == joiner || r == nonJoiner) && i > 0 && unicode.In(before, joining...):
			out.WriteRune(r)
		case r < ' ':
			out.WriteRune('\u2400' + r)
		case r == 0x7f:
			out.WriteRune('\u2421')
		default:
			fmt.Fprintf(&out, "‹U+%04X›", r)
		}
		before = r
	}
	return out.String()
}

const (
	joiner    = '\u200d'
	nonJoiner = '\u200c'
)

// joining are the scripts whose letters are joined, or kept apart, by a character
// without width.
var joining = []*unicode.RangeTable{
	unicode.Arabic, unicode.Syriac, unicode.Mongolian, unicode.Devanagari, unicode.Bengali, unicode.Gurmukhi, unicode.Gujarati, unicode.Oriya, unicode.Tamil,
	unicode.Telugu, unicode.Kannada, unicode.Malayalam, unicode.Sinhala, unicode.Khmer, unicode.Mn,
}

func pictured(r rune) bool {
	return r >= 0x1f000 && r <= 0x1faff || r >= 0x2190 && r <= 0x2bff || r == 0xa9 || r == 0xae || r == 0x203c || r == 0x2049 || r == 0x3030 || r == 0x303d
}

// And writes a list as a sentence does: "glaze, cone and studio".
func And(list ...string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	last := len(list) - 1
	return strings.Join(list[:last], ", ") + " and " + list[last]
}

// Key says a canonical key: text stands after a quote.
func Key(key string) string {
	if text, ok := strings.CutPrefix(key, `"`); ok {
		return "“" + text + "”"
	}
	return key
}
