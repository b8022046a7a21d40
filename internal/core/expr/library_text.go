package expr

import (
	"errors"
	"strings"

	"github.com/gosimple/slug"
	"golang.org/x/text/cases"
	"golang.org/x/text/language"

	wording "youngtrellis/internal/core/words"
)

var textFunctions = group("text",
	fn("upper(text: text) text", "All letters large.", `upper("Cone 9")`, `"CONE 9"`, text1(func(s string) string {
		if single(s) {
			return strings.ToUpper(s)
		}
		return cases.Upper(language.Und).String(s) // ß becomes SS
	}), found("capital letters uppercase shout"), byUnicode),
	fn("lower(text: text) text", "All letters small.", `lower("Cone 9")`, `"cone 9"`, text1(strings.ToLower), found("lowercase small letters"), byUnicode),
	fn("title(text: text) text", "Each word with a large first letter.", `title("ash bowl")`, `"Ash Bowl"`, text1(func(s string) string { return cases.Title(language.Und).String(s) }), found("capitalise capitalize headline name"), byUnicode),
	fn("trim(text: text, characters?: text) text", "Without white space, or the characters given, at both ends.", `trim("  ash bowl ")`, `"ash bowl"`, func(_ *machine, a args) (any, error) {
		if !a.has(1) {
			return strings.TrimSpace(a.text(0)), nil
		}
		return strings.Trim(a.text(0), a.text(1)), nil
	}, found("strip spaces clean blanks")),
	fn("squeeze(text: text) text", "White space at the ends removed, and between words made one blank.", `squeeze(" ash \n bowl ")`, `"ash bowl"`, text1(func(s string) string { return strings.Join(strings.Fields(s), " ") }), found("collapse spaces line breaks one line clean")),
	fn("replace(text: text, old: text, new: text) text", "Every occurrence of old becomes new.", `replace("a-b-c", "-", "/")`, `"a/b/c"`, replaceText, found("substitute change swap remove part")),
	fn("split(text: text, separators…: text) list", "A list of the parts between any of the separators, trimmed, without empty ones.", `split("a, b; c", ",", ";")`, `["a","b","c"]`, splitText, fails("a separator is empty"), found("cut into list by comma separate parts")),
	fn("join(list: list, separator?: text) text", "The elements as one text.", `join(["a", "b"], ", ")`, `"a, b"`, joinList, takesNothing, found("combine concatenate list to text comma")),
	fn("left(text: text, n: whole) text", "The first n characters.", `left("Ottermere", 5)`, `"Otter"`, func(m *machine, a args) (any, error) {
		return cut(a.text(0), 0, bounded(a.whole(1, 0))), nil
	}, found("start beginning prefix substring first letters"), byUnicode),
	fn("right(text: text, n: whole) text", "The last n characters.", `right("+441632960142", 4)`, `"0142"`, func(m *machine, a args) (any, error) {
		s := a.text(0)
		return s[placeOf(s, characters(s)-max(0, bounded(a.whole(1, 0)))):], nil
	}, found("end suffix substring last letters digits"), byUnicode),
	fn("pad(text: text, length: whole, fill?: text) text", "Filled at the front to so many characters; fill is a blank unless given.", `pad("7", 3, "0")`, `"007"`, padText(true), found("leading zeros fixed width align"), byUnicode),
	fn("pad_end(text: text, length: whole, fill?: text) text", "Filled at the end to so many characters; fill is a blank unless given.", `pad_end("7", 3, ".")`, `"7.."`, padText(false), found("trailing fixed width align"), byUnicode),
	fn("starts(text: text, with: text) yes", "Whether the text begins so.", `starts("+4416", "+44")`, `true`, textPair(strings.HasPrefix), found("begins with prefix")),
	fn("ends(text: text, with: text) yes", "Whether the text ends so.", `ends("memo.wav", ".wav")`, `true`, textPair(strings.HasSuffix), found("suffix extension")),
	fn("includes(text: text, part: text) yes", "Whether the part stands in the text.", `includes("ash glaze", "glaze")`, `true`, textPair(strings.Contains), found("contains has word search")),
	fn("position(text: text, part: text) whole", "Where the part begins, counted in characters from 0; nothing where it is not.", `position("ash glaze", "glaze")`, `4`, func(_ *machine, a args) (any, error) {
		i := strings.Index(a.text(0), a.text(1))
		if i < 0 {
			return nil, nil
		}
		return int64(characters(a.text(0)[:i])), nil
	}, found("find in text index of where"), byUnicode),
	fn("len(value: any) whole", "Characters of a text as people see them, elements of a list, fields of an object; 0 for nothing.", `len("kiln")`, `4`, length, takesNothing, fails("the value is a number, or true or false"), found("length count size how many characters"), byUnicode),
	fn("characters(text: text) list", "The characters as people see them, one by one.", `characters("né")`, `["n","é"]`, func(m *machine, a args) (any, error) {
		if err := m.charge(0, 16*len(a.text(0))); err != nil {
			return nil, err
		}
		return texts(m, spread(a.text(0)))
	}, found("letters split graphemes"), byUnicode),
	fn("words(text: text) whole", "How many words a text has.", `words("ash bowl, small")`, `3`, func(_ *machine, a args) (any, error) {
		return int64(len(strings.Fields(a.text(0)))), nil
	}, found("word count")),
	fn("lines(text: text) list", "The lines of a text as a list.", `lines("a\nb")`, `["a","b"]`, func(m *machine, a args) (any, error) {
		return texts(m, strings.Split(strings.TrimRight(strings.ReplaceAll(a.text(0), "\r\n", "\n"), "\n"), "\n"))
	}, found("split rows newline line breaks")),
	fn("truncate(text: text, length: whole) text", "At most so many characters, the last one … if something was cut.", `truncate("Large platter", 7)`, `"Large …"`, func(_ *machine, a args) (any, error) {
		n := a.whole(1, 0)
		if n < 1 {
			return nil, errors.New("the length is at least 1")
		}
		return wording.Short(a.text(0), bounded(n)), nil
	}, fails("the length is less than 1"), found("shorten cut ellipsis limit maximum"), byUnicode),
	fn("chunk(text: text, size: whole, overlap?: whole) list", "Pieces of at most so many characters, cut between words where it can be; each repeats so many of the one before.", `chunk("one two three four", 9)`, `["one two","three","four"]`, chunkText, fails("the size is less than 1, or the overlap more than half of it"), found("split long text pieces parts model"), byUnicode),
	fn("slug(text: text) text", "Small letters of a to z, digits and hyphens only.", `slug("Ash Bowl, 2 kg: été")`, `"ash-bowl-2-kg-ete"`, text1(slug.Make), costs(16), takes(10), found("file name address identifier ascii without accents"), byLetters),
	fn("mask(text: text, shown?: whole) text", "All but the last characters hidden, 4 unless given; at most a quarter is shown, and nothing of fewer than 12.", `mask("+441632960142")`, `"••••••••••142"`, func(_ *machine, a args) (any, error) {
		return hide(a.text(0), bounded(a.whole(1, 4))), nil
	}, found("hide secret redact card number privacy"), byUnicode),
	fn("repeat(text: text, times: whole) text", "The text so many times over.", `repeat("=", 3)`, `"==="`, func(m *machine, a args) (any, error) {
		s, n := a.text(0), a.whole(1, 0)
		if n <= 0 || s == "" {
			return "", nil
		}
		if n > MaxMemory || m.charge(0, int(n)*len(s)) != nil {
			return nil, m.charge(0, MaxMemory+1)
		}
		return strings.Repeat(s, int(n)), nil
	}, found("line of signs multiply")),
	fn("text(value: any) text", "A number, time, list or object as text.", `text(42)`, `"42"`, func(m *machine, a args) (any, error) {
		if err := m.written(0, a[0]); err != nil {
			return nil, err
		}
		return Text(a[0]), nil
	}, found("string convert to text")),
	fn("similarity(text: text, other: text) number", "How alike two texts are, from 0 to 1: the share of characters that need not be changed to make one the other.", `similarity("Hollowbank", "Hollowbanks")`, `0.9091`, similarity, found("fuzzy compare distance match likeness typo")),
	fn("tokens(text: text) whole", "About how many tokens a language model counts; an estimate, real counts differ from model to model.", `tokens("Glaze the bowl")`, `3`, func(_ *machine, a args) (any, error) { return int64(tokenCount(a.text(0))), nil }, found("model estimate count size prompt"), byOthers),
	fn("truncate_tokens(text: text, tokens: whole) text", "At most about so many tokens as tokens() estimates them, cut between words, … at the end if something was cut.", `truncate_tokens("Glaze the bowl with ash", 3)`, `"Glaze the …"`, truncateTokens, fails("the tokens are less than 1"), found("model shorten prompt limit"), byOthers),
	fn("without_quoted_reply(text: text) text", "Of a mail's text only what was newly written: without what is quoted, and the line that introduces it.", `without_quoted_reply("Yes.\n\nOn Monday the hall wrote:\n> Is it dry?")`, `"Yes."`, text1(withoutQuoted), costs(4), takes(24), found("email answer strip original message conversation")),
	fn("sms_segments(text: text) whole", "In how many parts a text message is sent: by 3GPP TS 23.038 160 signs of its alphabet, or 70 where others are among them; 153 and 67 of each part of a longer one.", `sms_segments("Load for cone 9")`, `1`, func(_ *machine, a args) (any, error) { return int64(smsSegments(a.text(0))), nil }, found("text message parts cost length")),
)

// bounded makes a count one that cannot overflow.
func bounded(n int64) int { return int(max(-MaxMemory, min(n, MaxMemory))) }

func replaceText(m *machine, a args) (any, error) {
	s, old, with := a.text(0), a.text(1), a.text(2)
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

func splitText(m *machine, a args) (any, error) {
	parts := []string{a.text(0)}
	for i := 1; i < len(a); i++ {
		if a.text(i) == "" {
			return nil, errors.New("a separator is empty; characters(…) gives the characters one by one")
		}
		var next []string
		for _, p := range parts {
			if err := m.charge(0, 16*(strings.Count(p, a.text(i))+1)); err != nil {
				return nil, err
			}
			next = append(next, strings.Split(p, a.text(i))...)
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

func joinList(m *machine, a args) (any, error) {
	separator := a.text(1)
	var out strings.Builder
	for i, e := range a.list(0) {
		if err := errors.Join(m.written(0, e), m.charge(0, len(separator))); err != nil {
			return nil, err
		}
		if i > 0 {
			out.WriteString(separator)
		}
		out.WriteString(Text(e))
	}
	return out.String(), nil
}

func padText(front bool) func(*machine, args) (any, error) {
	return func(m *machine, a args) (any, error) {
		s, fill := a.text(0), a.text(2)
		if fill == "" {
			fill = " "
		}
		missing := bounded(a.whole(1, 0)) - characters(s)
		if missing <= 0 {
			return s, nil
		}
		if err := m.charge(0, missing*len(fill)+len(s)); err != nil {
			return nil, err
		}
		filling := cut(strings.Repeat(fill, missing/characters(fill)+1), 0, missing)
		if front {
			return filling + s, nil
		}
		return s + filling, nil
	}
}

func textPair(test func(a, b string) bool) func(*machine, args) (any, error) {
	return func(_ *machine, a args) (any, error) { return test(a.text(0), a.text(1)), nil }
}

func length(_ *machine, a args) (any, error) {
	switch v := a[0].(type) {
	case nil:
		return int64(0), nil
	case string:
		return int64(characters(v)), nil
	case []any:
		return int64(len(v)), nil
	case map[string]any:
		return int64(len(v)), nil
	}
	return nil, errors.New(show(a[0]) + " has no length; text(…) makes text of it")
}
