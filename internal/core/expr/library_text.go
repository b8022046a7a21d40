package expr

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

var textFunctions = group("text",
	fn("upper(text)", "All letters large.", `upper("Cone 9")`, `"CONE 9"`, 1, 1, text1(strings.ToUpper)),
	fn("lower(text)", "All letters small.", `lower("Cone 9")`, `"cone 9"`, 1, 1, text1(strings.ToLower)),
	fn("title(text)", "Each word with a large first letter.", `title("ash bowl")`, `"Ash Bowl"`, 1, 1, text1(titleCase)),
	fn("trim(text, characters)", "Without white space, or the characters given, at both ends.", `trim("  ash bowl ")`, `"ash bowl"`, 1, 2, trimText),
	fn("squeeze(text)", "White space at the ends removed, and between words made one blank.", `squeeze(" ash \n bowl ")`, `"ash bowl"`, 1, 1, text1(func(s string) string { return strings.Join(strings.Fields(s), " ") })),
	fn("replace(text, old, new)", "Every occurrence of old becomes new.", `replace("a-b-c", "-", "/")`, `"a/b/c"`, 3, 3, replaceText),
	fn("split(text, separators…)", "A list of the parts between any of the separators, trimmed, without empty ones.", `split("a, b; c", ",", ";")`, `["a","b","c"]`, 2, many, splitText),
	takesNothing(fn("join(list, separator)", "The elements as one text.", `join(["a", "b"], ", ")`, `"a, b"`, 1, 2, joinList)),
	fn("left(text, n)", "The first n characters.", `left("Ottermere", 5)`, `"Otter"`, 2, 2, sideOf(true)),
	fn("right(text, n)", "The last n characters.", `right("+441632960142", 4)`, `"0142"`, 2, 2, sideOf(false)),
	fn("pad(text, length, fill)", "Filled at the front to the length; fill is a blank unless given.", `pad("7", 3, "0")`, `"007"`, 2, 3, padText),
	fn("starts(text, with)", "Whether the text begins so.", `starts("+4416", "+44")`, `true`, 2, 2, textPair(strings.HasPrefix)),
	fn("ends(text, with)", "Whether the text ends so.", `ends("memo.wav", ".wav")`, `true`, 2, 2, textPair(strings.HasSuffix)),
	fn("includes(text, part)", "Whether the part stands in the text.", `includes("ash glaze", "glaze")`, `true`, 2, 2, textPair(strings.Contains)),
	fn("match(text, pattern)", "The first match of a regular expression, or of its first group.", `match("cone 06, slow", "cone (\\d+)")`, `"06"`, 2, 2, matchText),
	fn("match_all(text, pattern)", "All matches of a regular expression, or of its first group.", `match_all("3 of 14", "\\d+")`, `["3","14"]`, 2, 2, matchAll),
	takesNothing(fn("len(value)", "Characters of a text, elements of a list, fields of an object; 0 for nothing.", `len("kiln")`, `4`, 1, 1, length)),
	fn("words(text)", "How many words a text has.", `words("ash bowl, small")`, `3`, 1, 1, func(_ *machine, a []any) (any, error) {
		s, err := textArg(a, 0)
		return int64(len(strings.Fields(s))), err
	}),
	fn("lines(text)", "The lines of a text as a list.", `lines("a\nb")`, `["a","b"]`, 1, 1, func(m *machine, a []any) (any, error) {
		s, err := textArg(a, 0)
		if err != nil {
			return nil, err
		}
		return texts(m, strings.Split(strings.TrimRight(strings.ReplaceAll(s, "\r\n", "\n"), "\n"), "\n"))
	}),
	fn("truncate(text, length)", "At most so many characters, the last one … if something was cut.", `truncate("Large platter", 7)`, `"Large …"`, 2, 2, truncateText),
	fn("slug(text)", "Small letters, digits and hyphens only.", `slug("Ash Bowl, 2 kg")`, `"ash-bowl-2-kg"`, 1, 1, text1(slugText)),
	fn("mask(text, shown)", "All but the last characters hidden, 4 unless given.", `mask("+441632960142")`, `"•••••••••0142"`, 1, 2, maskText),
	fn("repeat(text, times)", "The text so many times over.", `repeat("=", 3)`, `"==="`, 2, 2, repeatText),
	fn("text(value)", "A number, time, list or object as text.", `text(42)`, `"42"`, 1, 1, func(m *machine, a []any) (any, error) {
		s := Text(a[0])
		return s, m.charge(0, len(s))
	}),
)

func titleCase(s string) string {
	start := true
	return strings.Map(func(r rune) rune {
		was := start
		start = unicode.IsSpace(r) || r == '-'
		if was {
			return unicode.ToTitle(r)
		}
		return unicode.ToLower(r)
	}, s)
}

func trimText(_ *machine, a []any) (any, error) {
	s, err := textArg(a, 0)
	if err != nil || len(a) == 1 {
		return strings.TrimSpace(s), err
	}
	cut, err := textArg(a, 1)
	return strings.Trim(s, cut), err
}

func replaceText(m *machine, a []any) (any, error) {
	s, err1 := textArg(a, 0)
	old, err2 := textArg(a, 1)
	with, err3 := textArg(a, 2)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	if old == "" {
		return s, nil
	}
	grown := len(s) + strings.Count(s, old)*max(0, len(with)-len(old))
	if err := m.charge(0, grown); err != nil {
		return nil, err
	}
	return strings.ReplaceAll(s, old, with), nil
}

func texts(m *machine, list []string) (any, error) {
	if err := m.charge(0, 16*len(list)); err != nil {
		return nil, err
	}
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out, nil
}

func splitText(m *machine, a []any) (any, error) {
	s, err := textArg(a, 0)
	if err != nil {
		return nil, err
	}
	parts := []string{s}
	for i := 1; i < len(a); i++ {
		separator, err := textArg(a, i)
		if err != nil {
			return nil, err
		}
		if separator == "" {
			return nil, errors.New("a separator is empty; characters are taken with [0], slices with [1:3]")
		}
		var next []string
		for _, p := range parts {
			next = append(next, strings.Split(p, separator)...)
		}
		parts = next
	}
	kept := parts[:0]
	for _, p := range parts {
		if p = strings.TrimSpace(p); p != "" {
			kept = append(kept, p)
		}
	}
	return texts(m, kept)
}

func joinList(m *machine, a []any) (any, error) {
	list, err := listArg(a, 0)
	if err != nil {
		return nil, err
	}
	separator, err := textArg(a, 1)
	if err != nil {
		return nil, err
	}
	var out strings.Builder
	for i, e := range list {
		if i > 0 {
			out.WriteString(separator)
		}
		s := Text(e)
		if err := m.charge(0, len(s)+len(separator)); err != nil {
			return nil, err
		}
		out.WriteString(s)
	}
	return out.String(), nil
}

func sideOf(front bool) func(*machine, []any) (any, error) {
	return func(m *machine, a []any) (any, error) {
		s, err1 := textArg(a, 0)
		n, err2 := intArg(a, 1, 0)
		if err := errors.Join(err1, err2, m.charge(0, 4*len(s))); err != nil {
			return nil, err
		}
		r := []rune(s)
		n = max(0, min(n, int64(len(r))))
		if front {
			return string(r[:n]), nil
		}
		return string(r[int64(len(r))-n:]), nil
	}
}

func padText(m *machine, a []any) (any, error) {
	s, err1 := textArg(a, 0)
	n, err2 := intArg(a, 1, 0)
	fill, err3 := textArg(a, 2)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	if fill == "" {
		fill = " "
	}
	missing := n - int64(utf8.RuneCountInString(s))
	if missing <= 0 {
		return s, nil
	}
	if missing > MaxMemory {
		return nil, m.charge(0, MaxMemory+1)
	}
	if err := m.charge(0, int(missing)*len(fill)); err != nil {
		return nil, err
	}
	front := []rune(strings.Repeat(fill, int(missing)))[:missing]
	return string(front) + s, nil
}

func repeatText(m *machine, a []any) (any, error) {
	s, err1 := textArg(a, 0)
	n, err2 := intArg(a, 1, 0)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	if n <= 0 || s == "" {
		return "", nil
	}
	if n > MaxMemory || m.charge(0, int(n)*len(s)) != nil {
		return nil, m.charge(0, MaxMemory+1)
	}
	return strings.Repeat(s, int(n)), nil
}

func textPair(test func(a, b string) bool) func(*machine, []any) (any, error) {
	return func(_ *machine, a []any) (any, error) {
		s, err1 := textArg(a, 0)
		t, err2 := textArg(a, 1)
		return test(s, t), errors.Join(err1, err2)
	}
}

func pattern(a []any) (string, *regexp.Regexp, error) {
	s, err1 := textArg(a, 0)
	p, err2 := textArg(a, 1)
	if err := errors.Join(err1, err2); err != nil {
		return "", nil, err
	}
	re, err := regexp.Compile(p)
	if err != nil {
		return "", nil, fmt.Errorf("the pattern cannot be read: %w", err)
	}
	return s, re, nil
}

func matchText(_ *machine, a []any) (any, error) {
	s, re, err := pattern(a)
	if err != nil {
		return nil, err
	}
	found := re.FindStringSubmatch(s)
	if found == nil {
		return nil, nil
	}
	return found[min(1, len(found)-1)], nil
}

func matchAll(m *machine, a []any) (any, error) {
	s, re, err := pattern(a)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, found := range re.FindAllStringSubmatch(s, 100_000) {
		out = append(out, found[min(1, len(found)-1)])
	}
	return texts(m, out)
}

func length(_ *machine, a []any) (any, error) {
	switch v := a[0].(type) {
	case nil:
		return int64(0), nil
	case string:
		return int64(utf8.RuneCountInString(v)), nil
	case []any:
		return int64(len(v)), nil
	case map[string]any:
		return int64(len(v)), nil
	}
	return nil, fmt.Errorf("%s has no length", show(a[0]))
}

func truncateText(m *machine, a []any) (any, error) {
	s, err1 := textArg(a, 0)
	n, err2 := intArg(a, 1, 0)
	if err := errors.Join(err1, err2, m.charge(0, 4*len(s))); err != nil {
		return nil, err
	}
	if n < 1 {
		return nil, errors.New("the length is at least 1")
	}
	r := []rune(s)
	if int64(len(r)) <= n {
		return s, nil
	}
	return string(r[:n-1]) + "…", nil
}

func slugText(s string) string {
	var out strings.Builder
	gap := false
	for _, r := range strings.ToLower(s) {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			if gap && out.Len() > 0 {
				out.WriteByte('-')
			}
			gap = false
			out.WriteRune(r)
		} else {
			gap = true
		}
	}
	return out.String()
}

func maskText(_ *machine, a []any) (any, error) {
	s, err1 := textArg(a, 0)
	n, err2 := intArg(a, 1, 4)
	r := []rune(s)
	hidden := max(0, len(r)-int(max(0, n)))
	for i := range hidden {
		r[i] = '•'
	}
	return string(r), errors.Join(err1, err2)
}
